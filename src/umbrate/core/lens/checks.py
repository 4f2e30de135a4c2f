"""What a good calibration asks of its photos, and whether they have it: also while they are still being taken."""

from dataclasses import dataclass

import numpy as np

from ..errors import UmbrateError
from .start import first_guess

GOOD_PHOTOS = 8
DEEP = 0.04  #: a scene has depth from this share of its width on; homographies alone make a flat one 0.02 deep


@dataclass(frozen=True)
class Check:
    """Whether photos have what a calibration asks of them, in words, and what to do where they have not."""

    good: bool
    text: str
    advice: str


def checks(s, poses, X, width, height):
    """What a good calibration asks of its photos, and whether these have it: a list of Check."""
    # held the same way: whatever lies flat leans the same way in all pictures
    spread3, axes3 = np.linalg.svd(X - X.mean(0), full_matrices=False)[1:]
    lean = np.einsum("nij,j->ni", poses[:, :3, :3], axes3[-1])
    way = (lean[:, 0] + 1j * lean[:, 1]) / np.maximum(np.hypot(lean[:, 0], lean[:, 1]), 1e-9)
    turned = np.abs(way[:, None] - way).max()
    axes = poses[:, 2, :3]
    spread = np.degrees(np.arccos(np.clip(axes @ axes.T, -1, 1))).max()
    corner = np.array([width, height]) * 0.15
    seen = sum(
        bool((np.abs(s.xy - [x, y]) < corner).all(1).any()) for x in (0, width - 1) for y in (0, height - 1)
    )  # fmt: skip
    n = len(poses)
    return [
        Check(
            n >= 6,
            f"{n} photo{'s' * (n != 1)} with enough targets",
            f"{GOOD_PHOTOS} are good: two from each side.",
        ),
        Check(
            turned >= 0.8,
            "camera turned between photos" if turned >= 0.8 else "all photos taken with the camera held the same way",
            "The principal point is less certain: turn the camera by 90 degrees for half of them.",
        ),
        Check(
            spread >= 25,
            f"photos look from sides {spread:.0f} degrees apart",
            "Focal length and distance can hardly be told apart: take some from all four sides, at a slant.",
        ),
        Check(
            seen == 4,
            f"targets in {seen} of the picture's 4 corners",
            "The distortion in the others is a guess: take a photo or two with targets there.",
        ),
        Check(
            spread3[2] >= DEEP * spread3[0],
            "sheets at different heights" if spread3[2] >= DEEP * spread3[0] else "all targets in one plane",
            "The focal length is less certain: raise one sheet by some 10 cm.",
        ),
    ]


def checks_before(s, width, height, photos):
    """The `checks` of photos that have not been calibrated (yet), from where homographies say they stood."""
    try:
        poses, X, _ = first_guess(s, width, height, photos, None)
    except UmbrateError:
        poses, X = np.full((photos, 4, 4), np.nan), np.full((len(s.plane), 3), np.nan)
    placed = ~np.isnan(poses[:, 0, 0])
    keep = placed[s.photo] & ~np.isnan(X[s.point, 0])
    if not keep.any():
        return [Check(False, "no photo shows enough targets yet", "The sheets should fill the picture.")]
    seen = np.unique(s.point[keep])
    return checks(s.kept(keep), poses[placed], X[seen], width, height)
