"""Benchmarks: our work beside a plain reference on the same bytes, as ratios."""
