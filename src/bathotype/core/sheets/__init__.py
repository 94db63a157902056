"""Build sheets: files that say how a version is made from a base (docs/build-sheets.md)."""
