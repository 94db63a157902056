"""Reading btrfs without mounting."""
