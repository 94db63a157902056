"""Checks: what must be true of a machine, how it is judged, and the report of what was found (docs/checks.md)."""
