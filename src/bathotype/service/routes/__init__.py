"""The HTTP API, one module a noun."""
