"""Places picked by hand in two sittings: what is wrong with them where they do not fit."""

from itertools import combinations

import numpy as np

from ..geometry.similarity import fit_similarity

LINE = 0.05  #: a set's second spread over its first, under which it is nearly a line
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


def crosswise(a, b, with_scale=True):
    """Which two of the picks (k, 3) and (k, 3) were paired crosswise, as rows (i, j), or None.

    Exchanging them must bring the residuals far down; with three picks two exchanges can do as well, and the
    answer is the one that fits best.
    """
    now = float(np.sqrt((residuals(a, b, with_scale) ** 2).mean()))
    best, which = SWAPPED * now, None
    for i, j in combinations(range(len(a)), 2):
        order = np.arange(len(a))
        order[[i, j]] = j, i
        then = float(np.sqrt((residuals(a, b[order], with_scale) ** 2).mean()))
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
    now, flipped = (np.sqrt((residuals(a * sign, b, with_scale) ** 2).mean()) for sign in (1.0, [-1.0, 1.0, 1.0]))
    return bool(flipped < SWAPPED * now)
