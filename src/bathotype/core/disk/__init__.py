"""Block sources, partition tables, and which blocks a file system uses."""
