"""Reading and editing ext2, ext3 and ext4 without mounting."""
