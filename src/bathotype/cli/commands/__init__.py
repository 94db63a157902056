"""One module a group of commands; each has ``register``."""
