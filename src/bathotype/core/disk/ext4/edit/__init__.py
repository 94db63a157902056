"""Changing files of an ext2, ext3 or ext4 file system that nobody has mounted."""
