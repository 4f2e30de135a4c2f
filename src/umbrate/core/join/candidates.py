"""Places that two sittings may share: targets by their number, tie points by what they look like."""

import numpy as np

from ..features.match import match

FLAT = 0.02  #: a support's targets lie in a plane: their thickness over their extent


def shared_targets(targets_a, targets_b):
    """Rows (k, 2) of targets that both sittings have, from rows by number (`Block.targets`), in the first's order."""
    return np.array(sorted((row, targets_b[n]) for n, row in targets_a.items() if n in targets_b), np.int64).reshape(
        -1, 2
    )


def mean_descriptors(count, point, feature_of, descriptors):
    """What each of `count` tie points looks like: the mean of its sightings, unit vectors (count, 128) float32.

    point (k,) : the tie point of each sighting; feature_of (k,) : its row of descriptors (n, 128) float32, or -1
    """
    out = np.zeros((count, descriptors.shape[1]), np.float32)
    have = feature_of >= 0
    np.add.at(out, point[have], descriptors[feature_of[have]])
    length = np.linalg.norm(out, axis=1, keepdims=True)
    return out / np.maximum(length, 1e-9)


def alike(a, b, ratio=0.9):
    """Rows (k, 2) of tie points of two sittings that look alike, given their mean descriptors; empty ones: none."""
    rows_a, rows_b = (np.flatnonzero(np.linalg.norm(x, axis=1) > 0.5) for x in (a, b))
    m = match(np.ascontiguousarray(a[rows_a]), np.ascontiguousarray(b[rows_b]), ratio)
    return np.stack([rows_a[m[:, 0]], rows_b[m[:, 1]]], 1)


def likely_support(group, others, on_object):
    """Whether targets that agree with each other stand on the support, from how they lie and where the masks are.

    Parameters
    ----------
    group : Agreement
    others : list of Agreement
        The other groups of the same pairs.
    on_object : (k,)
        Share of each target's sightings that lie inside the masks; NaN without any.
    """
    share = on_object[group.inside]
    if np.isfinite(share).any():
        return float(np.nanmean(share)) < 0.5
    flat = group.spread[2] < FLAT * group.spread[0]
    return bool(flat and all(group.spread[0] > g.spread[0] for g in others if g.spread[2] >= FLAT * g.spread[0]))
