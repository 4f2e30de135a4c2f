"""Folds: photos that were taken from several sides of an object that looks alike from them, placed on one side.

Where an object looks the same from two or four sides, two photos a quarter turn apart match as if they had been taken
from one place, and nothing in the object contradicts it. The block that comes of it fits well and is folded onto
itself. What gives it away is where the photos stand: nobody takes photo after photo from the very same places. On a
turntable that is turned round twice one does, but then every step is like the one before it; a fold jumps back.
"""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from ..cloud.keepbox import looked_at
from ..geometry.rotation import rotation_vector

SAME_DEG, SAME_SHARE = 5.0, 0.05  #: photos nearer to each other than that stand on one place (share of the distance)
FOLDED = 0.3  #: share of the photos that stand on another's place from which a block is taken to be folded
STRAY = 0.35  #: a step that differs from the others by so much of them is another one


@dataclass(frozen=True)
class Fold:
    """A block that seems folded: how many photos stand, and on how many places."""

    photos: int
    places: int


def find_fold(poses):
    """The Fold that poses (n, 4, 4) in shooting order show, NaN where not solved, or None."""
    E = poses[np.isfinite(poses[:, 0, 0])]
    n = len(E)
    if n < 6:
        return None
    eyes = -np.einsum("nji,nj->ni", E[:, :3, :3], E[:, :3, 3])
    away = np.linalg.norm(eyes - looked_at(E), axis=1)
    cos = (np.einsum("iab,jab->ij", E[:, :3, :3], E[:, :3, :3]) - 1) / 2
    apart = np.linalg.norm(eyes[:, None] - eyes[None], axis=2) / np.minimum(away[:, None], away[None])
    same = (cos > np.cos(np.radians(SAME_DEG))) & (apart < SAME_SHARE)
    # those that follow each other on one place are a burst, or a video
    run = np.cumsum([0, *(~same[np.arange(n - 1), np.arange(1, n)])])
    again = same & (run[:, None] != run[None])
    if again.any(1).sum() < FOLDED * n or _goes_round_evenly(E):
        return None
    return Fold(n, _places(same))


def _places(same):
    """How many places photos stand on, given which stand on one (n, n) bool."""
    left, count = np.ones(len(same), bool), 0
    for i in range(len(same)):
        if left[i]:
            left &= ~same[i]
            count += 1
    return count


def _goes_round_evenly(E):
    """Whether poses (n, 4, 4) go on about one axis in equal steps, but for those between rings."""
    W = E[:, :3, :3].transpose(0, 2, 1)
    steps = np.array([rotation_vector(b @ a.T) for a, b in pairwise(W)])
    size = np.linalg.norm(steps, axis=1)
    usual = steps[np.argsort(size)[len(size) // 2]]
    axis = usual / max(np.linalg.norm(usual), 1e-9)
    along = steps @ axis
    on_axis = np.linalg.norm(steps - np.outer(along, axis), axis=1) < np.maximum(0.2 * size, np.radians(2.0))
    step = np.median(along[on_axis])
    stray = on_axis & (np.abs(along - step) > STRAY * abs(step))
    return not stray.any()
