"""Holes of a surface: found, listed and filled, flat or as the surface round them goes on.

A hole is a rim. It is spanned with as little area as possible (Barequet and Sharir 1995), or where that would take too
long by the rim as it lies in its plane. That is made into triangles as large as those round it. *Flat* it stays so;
*smooth*, its vertices are put where a thin plate lies that goes on from the surface on all sides: the Laplacian of the
Laplacian is zero, with the vertices round the rim held (Liepa 2003, filling holes in meshes).
"""

from dataclasses import dataclass

import numpy as np
import scipy
from numba import njit

from ..later import Later
from .mesh import areas, half_edges, opposite, rims
from .remesh import halved, remeshed

manifold3d = Later("manifold3d")
MOST_TRIANGLES = 12_000  #: of a patch, about: wider ones have larger triangles inside
MOST_SPANNED = 600  #: vertices of a rim that is spanned with the least area


@dataclass(frozen=True)
class Hole:
    """A rim of a surface.

    Attributes
    ----------
    ring : (k,) int64
        Its vertices, in the direction of the triangles beside it.
    middle : (3,)
    across : float
        The longest way across it.
    round : float
        Its length.
    area : float
        Of the hole as seen along the direction in which it is widest.
    normal : (3,)
        That direction, outward.
    """

    ring: np.ndarray
    middle: np.ndarray
    across: float
    round: float
    area: float
    normal: np.ndarray


def hole_of(points, ring):
    """The Hole of a rim."""
    P = np.asarray(points, float)[ring]
    edge = np.linalg.norm(P - np.roll(P, -1, axis=0), axis=1)
    middle = (P * (edge + np.roll(edge, 1))[:, None]).sum(0) / max(2 * edge.sum(), 1e-30)
    # the rim runs against the triangles that would close it
    vector = -np.cross(P - middle, np.roll(P, -1, axis=0) - middle).sum(0) / 2
    area = float(np.linalg.norm(vector))
    some = P[:: max(1, len(P) // 400)]
    across = float(scipy.spatial.distance.pdist(some).max()) if len(some) > 1 else 0.0
    normal = vector / area if area > 0 else np.array([0.0, 0, 1])
    return Hole(ring, middle, across, float(edge.sum()), area, normal)


def holes_of(points, faces):
    """All Holes of a surface, the widest first."""
    rings = [r for r in rims(faces, opposite(faces, len(points))) if len(r) > 2]
    return sorted((hole_of(points, r) for r in rings), key=lambda h: -h.across)


@njit(cache=True, nogil=True)
def _least_area(P, split):
    """Which vertex makes the triangle over each stretch of a round with the least area in all."""
    n = P.shape[0]
    best = np.zeros((n, n))
    for length in range(2, n):
        for i in range(n - length):
            j = i + length
            low, at = np.inf, -1
            for m in range(i + 1, j):
                u0, u1, u2 = P[m, 0] - P[i, 0], P[m, 1] - P[i, 1], P[m, 2] - P[i, 2]
                v0, v1, v2 = P[j, 0] - P[i, 0], P[j, 1] - P[i, 1], P[j, 2] - P[i, 2]
                x, y, z = u1 * v2 - u2 * v1, u2 * v0 - u0 * v2, u0 * v1 - u1 * v0
                a = best[i, m] + best[m, j] + 0.5 * np.sqrt(x * x + y * y + z * z)
                if a < low:
                    low, at = a, m
            best[i, j], split[i, j] = low, at


def in_plane(points, rings, normal):
    """Triangles (t, 3) of rows of points that span rings, as these lie in the plane across a direction.

    rings : list of (k,) rows, those round what is filled counterclockwise against the normal, those round gaps in it
        clockwise
    """
    a = np.cross(normal, np.eye(3)[np.abs(normal).argmin()])
    a /= np.linalg.norm(a)
    axes = np.stack([a, np.cross(normal, a)], 1)
    flat = [np.ascontiguousarray(np.asarray(points, float)[r] @ axes) for r in rings]
    rows = np.concatenate(rings)
    return rows[np.asarray(manifold3d.triangulate(flat, allow_convex=True), np.int64).reshape(-1, 3)]


def spanned(points, ring, normal):
    """Triangles (t, 3) of the ring's vertices alone, in the direction opposite to it."""
    ring = np.asarray(ring)[::-1]
    if len(ring) > MOST_SPANNED or len(np.unique(ring)) < len(ring):
        return in_plane(points, [ring], normal)
    split = np.full((len(ring), len(ring)), -1, np.int32)
    _least_area(np.asarray(points, float)[ring], split)
    out, open_ = [], [(0, len(ring) - 1)]
    while open_:
        i, j = open_.pop()
        if j - i < 2:
            continue
        m = split[i, j]
        out.append((ring[i], ring[m], ring[j]))
        open_ += [(i, m), (m, j)]
    return np.array(out)


def patched(points, faces, patch, length):
    """A surface with a patch of its own vertices, made into triangles of a size, or larger ones where these were many.

    Returns
    -------
    points (m, 3), faces (u, 3), new : (m,) bool, the patch's own vertices, part : (u,) bool, its triangles
    """
    used = np.unique(patch)
    length = max(length, float(np.sqrt(areas(np.asarray(points, float), patch).sum() / (0.433 * MOST_TRIANGLES))))
    inner, cover = remeshed(points[used], np.searchsorted(used, patch), length, np.ones(len(used), bool), onto=False)
    inner, cover = _apart(inner, cover, faces, used)
    n = len(points)
    number = np.r_[used, n + np.arange(len(inner) - len(used))]
    out = np.concatenate([points, inner[len(used) :]])
    part = np.r_[np.zeros(len(faces), bool), np.ones(len(cover), bool)]
    return out, np.concatenate([faces, number[cover]]), np.arange(len(out)) >= n, part


def _apart(points, faces, others, used):
    """A patch whose inner edges are none that the surface has already: these are divided. used : rows of its first."""
    start, end = half_edges(faces)
    inside = (opposite(faces, len(points)) >= 0) & (start < len(used)) & (end < len(used))
    if not inside.any():
        return points, faces
    n = int(max(others.max(), used.max())) + 1
    near = np.zeros(n, bool)
    near[used] = True
    a, b = half_edges(others[near[others].sum(1) > 1])
    have = np.unique(np.minimum(a, b) * n + np.maximum(a, b))
    a, b = used[np.where(inside, start, 0)], used[np.where(inside, end, 0)]
    double = inside & np.isin(np.minimum(a, b) * n + np.maximum(a, b), have)
    return halved(points, faces, double)[:2] if double.any() else (points, faces)


def continued(points, faces, new):
    """Points with those that are new put where the surface round them goes on: a thin plate.

    Edges count alike (as in Botsch and Kobbelt 2004, with even triangles), solved exactly.
    """
    near = new.copy()
    for _ in range(2):
        near[faces[near[faces].any(1)]] = True
    rows = np.flatnonzero(near)
    number = np.full(len(points), -1)
    number[rows] = np.arange(len(rows))
    part = number[faces[near[faces].all(1)]]
    n = len(rows)
    a, b = half_edges(part)
    pairs = np.unique(np.concatenate([a * n + b, b * n + a]))
    a, b = pairs // n, pairs % n
    count = np.bincount(a, minlength=n)
    L = scipy.sparse.csr_matrix((1.0 / count[a], (a, b)), (n, n)) - scipy.sparse.eye_array(n)
    free = new[rows]
    # the Laplacian is only whole where all neighbors are there
    ring = np.zeros(n, bool)
    ring[a[free[b]]] = True
    whole = free | ring
    M = (L[whole].T @ L[whole]).tocsr()
    P = points[rows]
    right = -(M[free][:, ~free] @ P[~free])
    solve = scipy.sparse.linalg.splu(M[free][:, free].tocsc())
    out = np.array(points)
    out[rows[free]] = np.stack([solve.solve(right[:, k]) for k in range(3)], 1)
    return out


def filled(points, faces, hole, smooth):
    """A surface with a hole filled.

    Returns
    -------
    points (m, 3) float64, faces (u, 3), new : (m,) bool
        The vertices of the filling.
    """
    points = np.asarray(points, np.float64)
    length = max(hole.round / len(hole.ring), 1e-30)
    cover = spanned(points, hole.ring, hole.normal)
    points, faces, new, _ = patched(points, faces, cover, length)
    if smooth and new.any():
        points = continued(points, faces, new)
    return points, faces, new
