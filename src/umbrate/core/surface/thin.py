"""Fewer triangles: edges whose loss changes the shape least become one vertex (Garland and Heckbert 1997).

Each vertex knows the planes of the triangles that it stands for, as a quadric: the sum of the squared distances of any
place to them. An edge costs what the quadrics of its ends say of the best place for the one vertex that it becomes. In
each round the cheapest edges go, one of a vertex, and only where the surface stays a surface: nothing tears, closes up
or turns over.

What that did to the shape is measured: from every vertex that there was to the thinned surface, and from every vertex
of that to the one before.
"""

from typing import NamedTuple

import numpy as np
from numba import njit

from ..cloud.grid import in_threads
from .distance import nearest_triangles
from .mesh import begins, beside_of, half_edges, used_only
from .remesh import RIM, collapse, kinds_of

FEWEST = 4
CHEAPEST = 0.3  #: of the edges may go in a round
LEAST_ROUND = 1e-3  #: share of the triangles: a round in which fewer edges go is the last one
TRIES = 6
AT_RIM = 10.0  #: weight of the planes that hold a rim
SLACK = 1e-3  #: weight of the middle of an edge where its planes leave the place open


class Thinned(NamedTuple):
    """A thinned surface: points (n, 3) float64, faces (t, 3), and how far it is from the one before."""

    points: np.ndarray
    faces: np.ndarray
    median: float
    largest: float


@njit(cache=True, nogil=True)
def _add(Q, v, n0, n1, n2, d, w):
    """A plane ``n x + d = 0``, n unit, to the quadric of a vertex."""
    q = Q[v]
    q[0], q[1], q[2] = q[0] + w * n0 * n0, q[1] + w * n0 * n1, q[2] + w * n0 * n2
    q[3], q[4], q[5] = q[3] + w * n1 * n1, q[4] + w * n1 * n2, q[5] + w * n2 * n2
    q[6], q[7], q[8], q[9] = q[6] + w * n0 * d, q[7] + w * n1 * d, q[8] + w * n2 * d, q[9] + w * d * d


@njit(cache=True, nogil=True)
def _quadrics(points, faces, beside, Q):
    for t in range(faces.shape[0]):
        a, b, c = points[faces[t, 0]], points[faces[t, 1]], points[faces[t, 2]]
        x0, x1, x2 = b[0] - a[0], b[1] - a[1], b[2] - a[2]
        y0, y1, y2 = c[0] - a[0], c[1] - a[1], c[2] - a[2]
        n0, n1, n2 = x1 * y2 - x2 * y1, x2 * y0 - x0 * y2, x0 * y1 - x1 * y0
        size = np.sqrt(n0 * n0 + n1 * n1 + n2 * n2)
        if size == 0:
            continue
        n0, n1, n2 = n0 / size, n1 / size, n2 / size
        d = -(n0 * a[0] + n1 * a[1] + n2 * a[2])
        for k in range(3):
            _add(Q, faces[t, k], n0, n1, n2, d, size / 6)
            if beside[3 * t + k] < 0:  # upright on the triangle, through the edge
                p, q = points[faces[t, k]], points[faces[t, (k + 1) % 3]]
                e0, e1, e2 = q[0] - p[0], q[1] - p[1], q[2] - p[2]
                m0, m1, m2 = e1 * n2 - e2 * n1, e2 * n0 - e0 * n2, e0 * n1 - e1 * n0
                long = np.sqrt(m0 * m0 + m1 * m1 + m2 * m2)
                if long > 0:
                    m0, m1, m2 = m0 / long, m1 / long, m2 / long
                    d2 = -(m0 * p[0] + m1 * p[1] + m2 * p[2])
                    _add(Q, faces[t, k], m0, m1, m2, d2, AT_RIM * long * long)
                    _add(Q, faces[t, (k + 1) % 3], m0, m1, m2, d2, AT_RIM * long * long)


@njit(cache=True, nogil=True)
def _cost(q, x, y, z):
    return (
        q[0] * x * x + q[3] * y * y + q[5] * z * z + 2 * (q[1] * x * y + q[2] * x * z + q[4] * y * z)
        + 2 * (q[6] * x + q[7] * y + q[8] * z) + q[9]
    )  # fmt: skip


@njit(cache=True, nogil=True)
def _costs(points, kinds, start, end, Q, cost, places, first, last):
    """What each edge costs, and the best place for the vertex that it becomes."""
    q = np.empty(10)
    for e in range(first, last):
        a, b = start[e], end[e]
        for k in range(10):
            q[k] = Q[a, k] + Q[b, k]
        m0, m1, m2 = (
            (points[a, 0] + points[b, 0]) / 2,
            (points[a, 1] + points[b, 1]) / 2,
            (points[a, 2] + points[b, 2]) / 2,
        )
        if kinds[a] != 0 or kinds[b] != 0:
            v = a if kinds[a] >= kinds[b] else b
            x, y, z = points[v, 0], points[v, 1], points[v, 2]
        else:
            # drawn to the middle of the edge a little, as planes that meet in a line or in none leave places open
            w = SLACK * (q[0] + q[3] + q[5]) + 1e-300
            a0, a1, a2, a3, a4, a5 = q[0] + w, q[1], q[2], q[3] + w, q[4], q[5] + w
            r0, r1, r2 = w * m0 - q[6], w * m1 - q[7], w * m2 - q[8]
            c0, c1, c2 = a3 * a5 - a4 * a4, a2 * a4 - a1 * a5, a1 * a4 - a2 * a3
            c3, c4, c5 = a0 * a5 - a2 * a2, a1 * a2 - a0 * a4, a0 * a3 - a1 * a1
            det = a0 * c0 + a1 * c1 + a2 * c2
            x = (c0 * r0 + c1 * r1 + c2 * r2) / det
            y = (c1 * r0 + c3 * r1 + c4 * r2) / det
            z = (c2 * r0 + c4 * r1 + c5 * r2) / det
        places[e, 0], places[e, 1], places[e, 2] = x, y, z
        far = (x - m0) ** 2 + (y - m1) ** 2 + (z - m2) ** 2
        long = (
            (points[a, 0] - points[b, 0]) ** 2 + (points[a, 1] - points[b, 1]) ** 2 + (points[a, 2] - points[b, 2]) ** 2
        )
        # on a plane every edge costs nothing: the short ones go first, so that triangles stay even
        cost[e] = max(_cost(q, x, y, z), 0.0) + 1e-9 * long * (q[0] + q[3] + q[5]) if far <= 0.5 * long else np.inf


def fewer(points, faces, triangles, farthest=np.inf, check=lambda: None):
    """A surface with fewer triangles, down to a number, or as few as leave no plane farther than that (about).

    Returns points (n, 3) float64, faces (t, 3).
    """
    middle = np.asarray(points, np.float64).mean(0)
    points = np.asarray(points, np.float64) - middle
    faces = np.array(faces, np.int64)
    kinds = kinds_of(faces, len(points))
    begin, own = begins(faces, len(points))
    beside = beside_of(faces, begin, own)
    Q, off = np.zeros((len(points), 10)), np.zeros(len(points))
    _quadrics(points, faces, beside, Q)
    while len(faces) > triangles:
        check()
        start, end = half_edges(faces)
        once = np.flatnonzero((beside < 0) | (np.arange(len(beside)) < beside))
        # inside, an edge between two places of rims divides the surface: it is no candidate
        once = once[(beside[once] < 0) | (kinds[start[once]] != RIM) | (kinds[end[once]] != RIM)]
        cost, places = np.empty(len(once)), np.empty((len(once), 3))
        in_threads(_costs, len(once), points, kinds, start[once], end[once], Q, cost, places)
        share = max(1, round(CHEAPEST * len(once)))
        cheap = np.argpartition(cost, share - 1)[:share] if share < len(cost) else np.arange(len(cost))
        cheap = np.sort(cheap)
        cheap = cheap[np.argsort(cost[cheap], kind="stable")]
        cheap = cheap[np.isfinite(cost[cheap])]
        gone, into = np.zeros(len(faces), np.bool_), np.full(len(points), -1, np.int64)
        most = (len(faces) - triangles + 1) // 2
        count = collapse(
            points, faces, begin, own, beside, kinds, np.inf, once[cheap], places[cheap], most, gone, into, off,
            farthest,
        )  # fmt: skip
        some = np.flatnonzero(into >= 0)
        Q[into[some]] += Q[some]
        last = len(faces)
        faces, points, kinds, Q, off = used_only(faces[~gone], points, kinds, Q, off)
        faces = faces.astype(np.int64)
        begin, own = begins(faces, len(points))
        beside = beside_of(faces, begin, own)
        if count < LEAST_ROUND * last:
            break
    return points + middle, faces


def thinned(points, faces, triangles, check=lambda: None):
    """The Thinned surface of some number of triangles, or of more where fewer would tear it."""
    out = fewer(points, faces, max(int(triangles), FEWEST), np.inf, check)
    return Thinned(*out, *_off(points, faces, *out))


def thinned_within(points, faces, tolerance, check=lambda: None):
    """The Thinned surface with as few triangles as can be that nowhere lies farther off than a tolerance.

    What planes tell of distances is about right; what is measured afterwards decides.
    """
    ask = tolerance
    for _ in range(TRIES):
        out = fewer(points, faces, FEWEST, ask, check)
        off = _off(points, faces, *out)
        if off[1] <= tolerance:
            return Thinned(*out, *off)
        ask *= min(0.7, 0.9 * tolerance / off[1])
    return Thinned(np.asarray(points, np.float64), faces, 0.0, 0.0)


def _off(points, faces, p, f):
    """The median and the largest distance between two surfaces, from the vertices of each."""
    d = np.concatenate([_far(points, p, f), _far(p, points, faces)])
    return float(np.median(d)), float(d.max())


def _far(points, vertices, faces):
    """Distance (n,) of points to triangles, however far."""
    T = vertices[faces[:: max(1, len(faces) // 2000)]]
    reach = 2 * float(np.median(np.ptp(T, axis=1).max(1))) + 1e-12
    d, _ = nearest_triangles(points, vertices, faces, reach)
    while not np.isfinite(d).all():
        reach *= 4
        rows = np.flatnonzero(~np.isfinite(d))
        d[rows] = nearest_triangles(points[rows], vertices, faces, reach)[0]
    return d
