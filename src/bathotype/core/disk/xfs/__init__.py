"""Reading XFS without mounting."""
