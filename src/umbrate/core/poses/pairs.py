"""Pairs of photos: which share a scene, and how they stand to each other."""

import numpy as np

from ..geometry.lens import _unproject_many
from .degenerate import kind_of
from .essential import decompose, essential_ransac
from .solution import PairGeometry

MIN_MATCHES, MIN_SHARE = 20, 0.25  #: so many matches, and that share of all, have to agree
MOST_DRAWS, MISSED = 400, 1e-4  #: samples drawn at most, and how likely a pair that is good enough may be missed


def draws_for(matches):
    """How many samples of five find a pair of so many matches if it is good enough: few where nearly all must agree."""
    share = max(MIN_MATCHES / matches, MIN_SHARE)
    return (
        MOST_DRAWS
        if share**5 < MISSED
        else min(MOST_DRAWS, int(np.log(MISSED) / np.log1p(-(min(share, 0.99) ** 5))) + 1)
    )


def relate(m, xy_a, lens_a, xy_b, lens_b, *, threshold_px=3.0, seed=0):
    """Verify the matches of two photos by their epipolar geometry.

    Parameters
    ----------
    m : (k, 2) int
        Rows of `xy_a` and `xy_b` that match.
    xy_a, xy_b : (n, 2) pixels
    lens_a, lens_b : (10,) lens vectors
    threshold_px : float
        Largest distance of a match from its epipolar line.

    Returns
    -------
    PairGeometry or None
        None where the photos do not show the same rigid scene.
    """
    if len(m) < MIN_MATCHES:
        return None
    a = _unproject_many(np.ascontiguousarray(xy_a[m[:, 0]], np.float64), lens_a)
    b = _unproject_many(np.ascontiguousarray(xy_b[m[:, 1]], np.float64), lens_b)
    # two directions at one key point make the same match twice
    _, once = np.unique(np.round(np.hstack([a, b]), 6), axis=0, return_index=True)
    once.sort()
    m, a, b = m[once], a[once], b[once]
    if len(m) < MIN_MATCHES:
        return None
    threshold = threshold_px / (0.5 * (lens_a[0] + lens_b[0]))
    E, inliers = essential_ransac(a, b, threshold, draws_for(len(m)), seed)
    count = int(inliers.sum())
    # chance agreement: a wide band round an epipolar line takes in a share of random matches
    if count < MIN_MATCHES or count < MIN_SHARE * len(m):
        return None
    relative, front = decompose(E, a[inliers], b[inliers])
    if front < 0.6 * count:
        return None
    da = np.c_[a[inliers], np.ones(count)] @ relative[:3, :3].T
    db = np.c_[b[inliers], np.ones(count)]
    cos = (da * db).sum(1) / np.linalg.norm(da, axis=1) / np.linalg.norm(db, axis=1)
    angle = float(np.degrees(np.median(np.arccos(np.clip(cos, -1, 1)))))
    kind = kind_of(a[inliers], b[inliers], relative[:3, :3], threshold, seed)
    return PairGeometry(m[inliers], relative, angle, kind)
