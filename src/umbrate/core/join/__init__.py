"""Bringing sittings of one object into one frame."""
