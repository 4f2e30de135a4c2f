"""Where a ray meets a surface first: cells are walked through one after the other (Amanatides and Woo 1987)."""

import numpy as np
from numba import njit

from ..cloud.grid import in_threads
from .distance import sorted_into_cells


@njit(cache=True, nogil=True)
def _meets(p, d, a, b, c):
    """How far along a ray a triangle is met from its inner side or its outer one, or infinity (Moeller, Trumbore)."""
    e0, e1, e2 = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    f0, f1, f2 = c[0] - a[0], c[1] - a[1], c[2] - a[2]
    h0, h1, h2 = d[1] * f2 - d[2] * f1, d[2] * f0 - d[0] * f2, d[0] * f1 - d[1] * f0
    det = e0 * h0 + e1 * h1 + e2 * h2
    if det == 0:
        return np.inf
    s0, s1, s2 = p[0] - a[0], p[1] - a[1], p[2] - a[2]
    u = (s0 * h0 + s1 * h1 + s2 * h2) / det
    if u < -1e-9 or u > 1 + 1e-9:
        return np.inf
    q0, q1, q2 = s1 * e2 - s2 * e1, s2 * e0 - s0 * e2, s0 * e1 - s1 * e0
    v = (d[0] * q0 + d[1] * q1 + d[2] * q2) / det
    if v < -1e-9 or u + v > 1 + 1e-9:
        return np.inf
    return (f0 * q0 + f1 * q1 + f2 * q2) / det


@njit(cache=True, nogil=True)
def _walk(starts, directions, nearest, vertices, faces, key, begin, tri, low, width, shape, far, which, first, last):
    cell, step = np.empty(3, np.int64), np.empty(3, np.int64)
    after, gap = np.empty(3), np.empty(3)
    for i in range(first, last):
        p, d = starts[i], directions[i]
        best, at, outside = np.inf, -1, False
        for k in range(3):
            cell[k] = int(np.floor((p[k] - low[k]) / width))
            outside |= cell[k] < 0 or cell[k] >= shape[k]
            step[k] = 1 if d[k] > 0 else -1
            gap[k] = width / abs(d[k]) if d[k] != 0 else np.inf
            edge = low[k] + (cell[k] + (d[k] > 0)) * width
            after[k] = (edge - p[k]) / d[k] if d[k] != 0 else np.inf
        while not outside:
            leave = min(after[0], after[1], after[2])
            number = (cell[0] * shape[1] + cell[1]) * shape[2] + cell[2]
            m = np.searchsorted(key, number)
            if m < key.shape[0] and key[m] == number:
                for j in range(begin[m], begin[m + 1]):
                    f = faces[tri[j]]
                    t = _meets(p, d, vertices[f[0]], vertices[f[1]], vertices[f[2]])
                    if t > nearest[i] and (t < best or (t == best and tri[j] < at)):
                        best, at = t, tri[j]
            if best <= leave:
                break
            k = 0 if after[0] == leave else 1 if after[1] == leave else 2
            cell[k] += step[k]
            after[k] += gap[k]
            outside = cell[k] < 0 or cell[k] >= shape[k]
        far[i], which[i] = best, at


def first_met(starts, directions, vertices, faces, nearest=0.0):
    """How far rays go until they meet a triangle, infinite where they meet none, and which; from inside the surface.

    Parameters
    ----------
    starts (n, 3), directions (n, 3)
        Lengths are told in lengths of the directions. Starts lie within the surface's own extent.
    vertices (v, 3), faces (t, 3)
    nearest : number or (n,)
        What is met before that does not count.

    Returns
    -------
    far (n,) float64, which (n,) int64
    """
    starts, directions, vertices = (np.ascontiguousarray(x, np.float64) for x in (starts, directions, vertices))
    faces = np.ascontiguousarray(faces, np.int64)
    far, which = np.full(len(starts), np.inf), np.full(len(starts), -1, np.int64)
    if not len(starts) or not len(faces):
        return far, which
    c = sorted_into_cells(vertices, faces)
    nearest = np.broadcast_to(np.asarray(nearest, float), len(starts)).copy()
    in_threads(
        _walk, len(starts), starts, directions, nearest, vertices, faces, c.key, c.start, c.triangles, c.low, c.width,
        c.shape, far, which,
    )  # fmt: skip
    return far, which
