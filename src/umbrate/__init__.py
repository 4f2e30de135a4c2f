"""Umbrate reconstructs objects from masked photo sets."""

__version__ = "0.1.0"
