"""The computation: bytes, guests, versions and rules.  No interface, no database."""
