"""How much brighter one photo is than another, from the tie points they share: so that their colors can be compared."""

import numpy as np


def brightness(picture, K, pose, points):
    """Logarithm of the brightness of a straightened picture (h, w, 3) uint8 at places (m, 3), NaN beside it: (m,)."""
    out = np.full(len(points), np.nan)
    Y = points @ pose[:3, :3].T + pose[:3, 3]
    with np.errstate(divide="ignore", invalid="ignore"):
        uv = Y[:, :2] / Y[:, 2:] * K[0] + K[1:]
    h, w = picture.shape[:2]
    with np.errstate(invalid="ignore"):
        inside = (Y[:, 2] > 0) & (uv >= 1).all(1) & (uv[:, 0] < w - 2) & (uv[:, 1] < h - 2)
    x, y = np.round(uv[inside]).astype(int).T
    # a patch of three by three: a point on an edge may lie on either side of it
    near = [picture[y + b, x + a].astype(float) for a in (-1, 0, 1) for b in (-1, 0, 1)]
    out[inside] = np.log(np.mean(near, axis=0).mean(1).clip(4, 250))
    return out


def gains(value, photo, point, n, points, rounds=20):
    """Factors (n,) that bring the brightness of every picture to what is usual; their geometric mean is 1.

    For each sighting the logarithm of the brightness is that of its point plus that of its photo; both are found by
    medians in turn, which surfaces that shine do not disturb.

    Parameters
    ----------
    value : (k,)
        Of `brightness`, of each sighting; NaN where nothing is known.
    photo, point : (k,) int
        Sightings.
    n, points : int
        How many photos and points there are.
    """
    good = np.isfinite(value)
    photo, point, value = photo[good], point[good], value[good]
    bright = np.zeros(n)
    if not len(value):
        return np.ones(n)
    for _ in range(rounds):
        bright = _medians(value - _medians(value - bright[photo], point, points)[point], photo, n)
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
