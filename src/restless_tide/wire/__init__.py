"""The service's contract: what it takes and what it answers, as Pydantic models."""
