"""Which drawn places lie inside what somebody drew on the screen."""

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def _inside(uv, polygon, out):
    n = polygon.shape[0]
    for i in range(uv.shape[0]):
        x, y = uv[i, 0], uv[i, 1]
        odd = False
        k = n - 1
        for j in range(n):
            if (polygon[j, 1] > y) != (polygon[k, 1] > y):
                t = (y - polygon[j, 1]) / (polygon[k, 1] - polygon[j, 1])
                if x < polygon[j, 0] + t * (polygon[k, 0] - polygon[j, 0]):
                    odd = not odd
            k = j
        out[i] = odd


def inside_polygon(uv, polygon):
    """Which places (n, 2) lie inside a closed polygon (m, 2), (n,) bool: by the number of edges to the left."""
    out = np.zeros(len(uv), np.bool_)
    if len(polygon) >= 3:
        _inside(np.ascontiguousarray(uv, np.float64), np.ascontiguousarray(polygon, np.float64), out)
    return out


def within(uv, path, radius):
    """Which places (n, 2) lie within `radius` of the corners of a path (m, 2), (n,) bool."""
    out = np.zeros(len(uv), bool)
    for p in np.asarray(path, float).reshape(-1, 2):
        out |= ((uv - p) ** 2).sum(1) <= radius * radius
    return out
