"""Evening out a surface: each vertex toward the middle of those beside it, and back by a little more than it lost.

Going toward the middle alone shrinks what is round; the step back, over the same neighbors, gives that back and leaves
what is rough evened (Taubin 1995, a signal processing approach to fair surface design). Vertices at a rim follow the
rim alone, and those that are held stay.
"""

import numpy as np
from numba import njit

from ..cloud.grid import in_threads
from .mesh import half_edges, opposite, used_only

TOWARD, BACK = 0.5, -0.53
PARTLY = 0.2  #: share of the triangles: where fewer move, only these are looked at


def beside_vertices(faces, count):
    """Who is beside whom: rows where each vertex' neighbors begin (n + 1,) and the neighbors; at a rim those along it.

    Returns
    -------
    begin (n + 1,) int64, ends (m,) int64
    """
    start, end = half_edges(faces)
    lone = opposite(faces, count) < 0
    at_rim = np.zeros(count, bool)
    at_rim[start[lone]] = at_rim[end[lone]] = True
    a, b = np.concatenate([start, end[lone]]), np.concatenate([end, start[lone]])
    edge = np.concatenate([lone, lone[lone]])
    keep = ~at_rim[a] | edge
    a, b = a[keep], b[keep]
    order = np.argsort(a, kind="stable")
    return np.searchsorted(a[order], np.arange(count + 1)), b[order]


@njit(cache=True, nogil=True)
def _step(points, begin, ends, free, share, out, first, last):
    for i in range(first, last):
        n = begin[i + 1] - begin[i]
        for k in range(3):
            out[i, k] = points[i, k]
        if n == 0 or free[i] == 0:
            continue
        for k in range(3):
            mean = 0.0
            for j in range(begin[i], begin[i + 1]):
                mean += points[ends[j], k]
            out[i, k] += share * free[i] * (mean / n - points[i, k])


def evened(points, faces, rounds, free=None, back=BACK):
    """Vertices (n, 3) float64 after rounds of evening.

    back : share of the step back; 0: none, what is round shrinks

    free : (n,) from 0, held, to 1, optional
        How far each may move; all of them where not given.
    """
    points = np.array(points, np.float64)
    free = np.ones(len(points)) if free is None else np.asarray(free, np.float64)
    moving = (free > 0)[faces].any(1)
    if moving.mean() < PARTLY:  # what stays needs no neighbors
        some, mine = used_only(faces[moving], np.arange(len(points)))
        if len(mine):
            points[mine] = evened(points[mine], some, rounds, free[mine], back)
        return points
    begin, ends = beside_vertices(faces, len(points))
    other = np.empty_like(points)
    for share in ((TOWARD, back) if back else (TOWARD,)) * rounds:
        in_threads(_step, len(points), points, begin, ends, free, share, other)
        points, other = other, points
    return points


@njit(cache=True, nogil=True)
def _spread(faces, have, out):
    for t in range(faces.shape[0]):
        if have[faces[t, 0]] or have[faces[t, 1]] or have[faces[t, 2]]:
            for k in range(3):
                out[faces[t, k]] = True


def spread(faces, some, rings):
    """Vertices (n,) bool and those within so many rings of triangles round them."""
    out = np.array(some, bool)
    faces = np.ascontiguousarray(faces, np.int32)
    for _ in range(rings):
        before = out.copy()
        _spread(faces, before, out)
    return out
