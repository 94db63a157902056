"""Signed records of versions: Ed25519 over a DSSE envelope around an in-toto statement."""
