"""Who calls: tokens, sessions, log-in with a password or through a provider, and the principal that acts."""
