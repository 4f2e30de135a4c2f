"""Sharpness of photos for people: which are soft, and the histogram. Used by Photos and by Masks."""

import numpy as np

from ..core.imaging.sharpness import soft_ones
from .base import Histogram, problem


def soft_problems(photos, values):
    """Problems of the photos that are clearly softer than the others."""
    usual = float(np.median(values)) if len(values) else 0.0
    return [
        problem(
            photos[k],
            f"{photos[k].name} is soft: its sharpness is {values[k]:.2f}, the others' {usual:.2f}.",
            "Look at it, and set it aside if its neighbors show the same.",
            "soft",
        )
        for k in soft_ones(values)
    ]


def sharpness_histogram(values, title):
    """The Histogram of sharpness by photo id, or None where there is too little to see."""
    if len(values) < 2:
        return None
    counts, edges = np.histogram(list(values.values()), bins=16)
    return Histogram(title, "fine detail over coarse detail", edges.tolist(), counts.tolist())
