"""Version numbers, references, states and what each allows, and retirement: pure functions."""
