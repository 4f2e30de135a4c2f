"""Masks by computation: what of a photo is backdrop, and what is the object."""
