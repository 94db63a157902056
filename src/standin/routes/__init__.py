"""Routes of the stand-in's HTTP API, one module a subject."""
