"""First-boot settings: what makes an instance itself, and the NoCloud seed that carries it."""
