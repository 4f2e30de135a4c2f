"""Places picked by hand in two sittings: what is wrong with them where they do not fit."""

from itertools import combinations

import numpy as np

from ..geometry.similarity import fit_similarity

LINE = 0.05  #: a set's second spread over its first, under which it is nearly a line
MIRRORED = "mirrored"
FLIP = np.array([-1.0, 1.0, 1.0])
SWAPPED = 0.3  #: an exchange that brings the residuals to such a share of what they were is what happened


def nearly_a_line(points):
    """Whether places (k, 3) lie nearly in one line: a join by them could turn about it."""
    s = np.linalg.svd(points - points.mean(0), compute_uv=False)
    return bool(s[1] < LINE * s[0])


def residuals(a, b, with_scale=True):
    """Distances (k,) of picks (k, 3) and (k, 3) after their best similarity; infinite for fewer than three."""
    if len(a) < 3:
        return np.full(len(a), np.inf)
    M = fit_similarity(a, b, None, with_scale)
    return np.linalg.norm(a @ M[:3, :3].T + M[:3, 3] - b, axis=1)


def _rms(a, b, with_scale):
    return float(np.sqrt((residuals(a, b, with_scale) ** 2).mean()))


def _exchanged(a, b, i, j, with_scale):
    """The rms residual with two picks exchanged."""
    order = np.arange(len(a))
    order[[i, j]] = j, i
    return _rms(a, b[order], with_scale)


def crosswise(a, b, with_scale=True):
    """Which two of the picks (k, 3) and (k, 3) were paired crosswise, as rows (i, j), or None.

    Exchanging them must bring the residuals far down; with three picks two exchanges can do as well, and the
    answer is the one that fits best.
    """
    best, which = SWAPPED * _rms(a, b, with_scale), None
    for i, j in combinations(range(len(a)), 2):
        then = _exchanged(a, b, i, j, with_scale)
        if then < best:
            best, which = then, (i, j)
    return which


def mirrored(a, b, with_scale=True):
    """Whether the picks fit a mirror image far better than the object: its left and right were taken for each other."""
    if len(a) < 4:
        return False  # three places have no left and right
    s = np.linalg.svd(a - a.mean(0), compute_uv=False)
    if s[2] < LINE * s[0]:
        return False
    return bool(_rms(a * FLIP, b, with_scale) < SWAPPED * _rms(a, b, with_scale))


def mistake(a, b, with_scale=True):
    """What was most likely done wrong: the rows (i, j) that were paired crosswise, MIRRORED, or None.

    An exchange can bring a mirrored set near enough to look like the cause; what fits better is.
    """
    swap, flipped = crosswise(a, b, with_scale), mirrored(a, b, with_scale)
    if not flipped:
        return swap
    if swap is not None and _exchanged(a, b, *swap, with_scale) < _rms(a * FLIP, b, with_scale):
        return swap
    return MIRRORED
