"""Disk image formats: readers that trust nothing, and writers whose every byte can be asked for by offset."""
