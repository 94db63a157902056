"""Bathotype: capture running machines into versioned images, launch from them, track them, retire them."""

__version__ = "0.1.0"
