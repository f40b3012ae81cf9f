"""The FastAPI service: routes a noun a file, sign-in, problems, live events, and the built console."""
