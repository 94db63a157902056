"""Reading NTFS without mounting."""
