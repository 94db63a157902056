"""Git repositories in which sheets are kept: where they may be, and what a commit holds."""
