"""The service's routes, a noun a file."""
