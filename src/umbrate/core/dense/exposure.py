"""How much brighter one photo is than another, from the tie points they share: so that their colors can be compared."""

import numpy as np


def gains(pictures, K, poses, points, photo, point, rounds=20):
    """Factors (n,) that bring the brightness of every picture to what is usual; their geometric mean is 1.

    For each sighting the logarithm of the brightness is that of its point plus that of its photo; both are found by
    medians in turn, which surfaces that shine do not disturb.

    Parameters
    ----------
    pictures : list of (h, w, 3) uint8
        Straightened.
    K : (n, 3); poses : (n, 4, 4); points : (p, 3)
    photo, point : (k,) int
        Sightings.
    """
    n = len(pictures)
    value = np.full(len(photo), np.nan)
    for k, rgb in enumerate(pictures):
        rows = np.flatnonzero(photo == k)
        Y = points[point[rows]] @ poses[k, :3, :3].T + poses[k, :3, 3]
        with np.errstate(divide="ignore", invalid="ignore"):
            uv = Y[:, :2] / Y[:, 2:] * K[k, 0] + K[k, 1:]
        h, w = rgb.shape[:2]
        with np.errstate(invalid="ignore"):
            rows = rows[(Y[:, 2] > 0) & (uv >= 1).all(1) & (uv[:, 0] < w - 2) & (uv[:, 1] < h - 2)]
        inside = np.isin(np.flatnonzero(photo == k), rows)
        x, y = np.round(uv[inside]).astype(int).T
        # a patch of three by three: a point on an edge may lie on either side of it
        near = [rgb[y + b, x + a].astype(float) for a in (-1, 0, 1) for b in (-1, 0, 1)]
        value[rows] = np.log(np.mean(near, axis=0).mean(1).clip(4, 250))
    good = np.isfinite(value)
    photo, point, value = photo[good], point[good], value[good]
    bright = np.zeros(n)
    if not len(value):
        return np.ones(n)
    for _ in range(rounds):
        bright = _medians(value - _medians(value - bright[photo], point, len(points))[point], photo, n)
        bright -= bright.mean()
    return np.exp(-bright)


def _medians(values, group, count):
    """The median of the values in each group (count,); 0 in an empty one."""
    order = np.lexsort((values, group))
    size = np.bincount(group, minlength=count)
    first = np.cumsum(size) - size
    out = np.zeros(count)
    has = size > 0
    low, high = first[has] + (size[has] - 1) // 2, first[has] + size[has] // 2
    out[has] = (values[order][low] + values[order][high]) / 2
    return out
