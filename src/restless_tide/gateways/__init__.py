"""The gateway protocol: its models, and a client that speaks it."""
