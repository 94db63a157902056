"""Generalization: profiles, what they would change on a disk, doing it, and looking for what is left."""
