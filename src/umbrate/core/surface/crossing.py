"""Which triangles of a surface cross each other: those that share no vertex and have a place in common."""

from itertools import pairwise

import numpy as np
from numba import njit

from ..cloud.grid import in_threads
from .distance import sorted_into_cells
from .evening import evened, spread
from .mesh import used_only

MOST = 1_500_000
COARSE = 96  #: cells along the longest side, by which triangles near others are found


@njit(cache=True, nogil=True)
def _side(a, b, c, p):
    """Six times the volume of a tetrahedron: on which side of the plane a b c the place p is."""
    x0, x1, x2 = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    y0, y1, y2 = c[0] - a[0], c[1] - a[1], c[2] - a[2]
    z0, z1, z2 = p[0] - a[0], p[1] - a[1], p[2] - a[2]
    return x0 * (y1 * z2 - y2 * z1) - x1 * (y0 * z2 - y2 * z0) + x2 * (y0 * z1 - y1 * z0)


@njit(cache=True, nogil=True)
def _pierces(p, q, a, b, c):
    """Whether the edge p q goes through the inside of the triangle a b c."""
    one, two = _side(a, b, c, p), _side(a, b, c, q)
    if one * two >= 0:
        return False
    x, y, z = _side(p, q, a, b), _side(p, q, b, c), _side(p, q, c, a)
    return (x > 0 and y > 0 and z > 0) or (x < 0 and y < 0 and z < 0)


@njit(cache=True, nogil=True)
def _cross(v, f, g):
    for k in range(3):
        m = (k + 1) % 3
        if _pierces(v[f[k]], v[f[m]], v[g[0]], v[g[1]], v[g[2]]):
            return True
        if _pierces(v[g[k]], v[g[m]], v[f[0]], v[f[1]], v[f[2]]):
            return True
    return False


@njit(cache=True, nogil=True)
def _look(vertices, faces, low, high, start, triangles, out, first, last):
    for c in range(first, last):
        for i in range(start[c], start[c + 1]):
            s = triangles[i]
            f = faces[s]
            for j in range(i + 1, start[c + 1]):
                t = triangles[j]
                apart = False
                for k in range(3):
                    apart |= low[s, k] > high[t, k] or low[t, k] > high[s, k]
                if apart or (out[s] and out[t]):
                    continue
                g = faces[t]
                shared = False
                for k in range(3):
                    shared |= f[k] == g[0] or f[k] == g[1] or f[k] == g[2]
                if not shared and _cross(vertices, f, g):
                    out[s] = out[t] = True


@njit(cache=True, nogil=True)
def _near(vertices, faces, among, low, inverse, grid, out):
    """Which triangles have a cell of a coarse grid in common with those that are asked about."""
    a, b = np.empty(3, np.int64), np.empty(3, np.int64)
    for step in range(2):
        for t in range(faces.shape[0]):
            if step == 0 and not among[t]:
                continue
            for k in range(3):
                x, y, z = (vertices[faces[t, 0], k], vertices[faces[t, 1], k], vertices[faces[t, 2], k])
                a[k] = int((min(x, y, z) - low[k]) * inverse)
                b[k] = int((max(x, y, z) - low[k]) * inverse)
            for i in range(a[0], b[0] + 1):
                for j in range(a[1], b[1] + 1):
                    for m in range(a[2], b[2] + 1):
                        if step == 0:
                            grid[i, j, m] = True
                        elif grid[i, j, m]:
                            out[t] = True


def crossing(vertices, faces, most=None, among=None):
    """Which triangles (t,) bool cross another that they share no vertex with.

    most : triangles looked at at once; two that cross each other have a place along x in common
    among : (t,) bool, optional
        Of every two that cross at least one must be of these to be found; others may be found as well.
    """
    out = np.zeros(len(faces), np.bool_)
    if not len(faces):
        return out
    vertices = np.ascontiguousarray(vertices, np.float64)
    if among is not None:
        low, extent = vertices.min(0), float(np.ptp(vertices, axis=0).max())
        grid, near = np.zeros((COARSE + 1,) * 3, np.bool_), np.zeros(len(faces), np.bool_)
        inverse = COARSE / max(extent, 1e-30)
        _near(vertices, np.ascontiguousarray(faces), among, low, inverse, grid, near)
        some, V = used_only(faces[near], vertices)
        out[near] = crossing(V, some, most)
        return out
    x = vertices[:, 0].astype(np.float32)  # to the nearest, so the order stays
    low, high = (f(f(x[faces[:, 0]], x[faces[:, 1]]), x[faces[:, 2]]) for f in (np.minimum, np.maximum))
    parts = max(1, -(-len(faces) // (most or MOST)))
    edges = np.quantile(low[:: max(1, len(low) // 100_000)], np.linspace(0, 1, parts + 1))
    edges[0], edges[-1] = -np.inf, np.inf
    for a, b in pairwise(edges):
        rows = np.flatnonzero((low <= b) & (high >= a))
        if len(rows):
            some, V = used_only(faces[rows], vertices)
            some = some.astype(np.int64)
            cells, T, found = sorted_into_cells(V, some), V[some], np.zeros(len(some), np.bool_)
            in_threads(_look, len(cells.key), V, some, T.min(1), T.max(1), cells.start, cells.triangles, found)
            out[rows] |= found
    return out


ROUNDS, SMOOTH, AROUND = 12, 4, 8


def uncrossed(vertices, faces, among=None):
    """Vertices (n, 3) evened out where triangles cross each other, until none do or it is no use; how many still do.

    among : triangles (t,) bool of which one must be for a crossing to count
    """
    vertices = np.array(vertices, np.float64)
    bad = crossing(vertices, faces, among=among)
    for k in range(ROUNDS):
        if not bad.any():
            break
        at = np.zeros(len(vertices), bool)
        at[faces[bad]] = True
        near = spread(faces, at, AROUND)
        part = np.flatnonzero(near[faces].any(1))
        some = faces[part]
        number = np.full(len(vertices), -1, np.int64)
        used = np.unique(some)
        number[used] = np.arange(len(used))
        some = number[some]
        # triangles at the part's own rim stay as they are: beyond it nothing moves
        free = spread(faces, at, 1 + k // 3)[used] & ~spread(faces, ~near, 1)[used]
        vertices[used] = evened(vertices[used], some, SMOOTH, free, back=0.0)
        bad = np.zeros(len(faces), bool)
        bad[part] = crossing(vertices[used], some)
    return vertices, int(crossing(vertices, faces, among=among).sum()) if k else int(bad.sum())
