"""Guests: the agent of a running machine, and the files of a disk that is not running."""
