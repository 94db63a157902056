"""Build runs: making a version in a temporary machine by the steps of a sheet."""
