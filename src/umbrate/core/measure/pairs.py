"""Two photos as a stereo pair: how far apart they stand, and what that means for depth."""

from dataclasses import dataclass

import numpy as np

from ..geometry.pose import center

#: base-to-distance ratios: from the first to the last is usable with many photos, between the others a pair does alone
USABLE, POOR, WIDE, LARGEST = 0.05, 0.1, 0.5, 0.6


@dataclass(frozen=True)
class StereoPair:
    """Base and distance in units of the block, the ray angle, and the depth that a pixel's part resolves.

    depth_sigma : standard deviation of a depth from one match, for the matching precision that was given
    """

    base: float
    distance: float
    angle_deg: float
    depth_sigma: float

    @property
    def ratio(self):
        """Base over distance."""
        return self.base / self.distance

    @property
    def word(self):
        """What the ratio means."""
        if self.ratio < USABLE:
            return "too close together: they tell next to nothing of depth"
        if self.ratio < POOR:
            return "close together: poor depth from these two alone, good beside others"
        if self.ratio > LARGEST:
            return "too wide apart: they see the surface so differently that little of it matches"
        if self.ratio > WIDE:
            return "wide apart: sure depth where they match, which is easier with photos between them"
        return "good"


def stereo_pair(first, second, lens_f, points, sigma_px=0.3):
    """The StereoPair of two poses (4, 4).

    Parameters
    ----------
    lens_f : float
        Focal length in pixels.
    points : (p, 3)
        What both see; their median is what distance and angle are taken to.
    sigma_px : float
        How precisely a match is found.
    """
    middle = np.median(points, axis=0)
    a, b = middle - center(first), middle - center(second)
    base = float(np.linalg.norm(center(first) - center(second)))
    distance = float(0.5 * (np.linalg.norm(a) + np.linalg.norm(b)))
    angle = float(np.degrees(np.arctan2(np.linalg.norm(np.cross(a, b)), a @ b)))
    # of the normal case: depth error = distance squared / (base f) times the error of the parallax
    depth = distance**2 / max(base * lens_f, 1e-300) * sigma_px * np.sqrt(2.0)
    return StereoPair(base, distance, angle, depth)
