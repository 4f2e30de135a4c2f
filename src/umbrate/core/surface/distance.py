"""How far places are from triangles, with the side: exactly, by the triangles whose cells are near."""

from typing import NamedTuple

import numpy as np
from numba import njit

from ..cloud.grid import in_threads
from .mesh import opposite


@njit(cache=True, nogil=True)
def _spread(vertices, faces, low, inverse, shape, out, tri, fill):
    """Cells that each triangle's box touches: counted, or with `fill` their keys and the triangle."""
    n = 0
    for t in range(faces.shape[0]):
        lo, hi = np.empty(3, np.int64), np.empty(3, np.int64)
        for k in range(3):
            a, b, c = vertices[faces[t, 0], k], vertices[faces[t, 1], k], vertices[faces[t, 2], k]
            lo[k] = min(max(int(np.floor((min(a, b, c) - low[k]) * inverse)), 0), shape[k] - 1)
            hi[k] = min(max(int(np.floor((max(a, b, c) - low[k]) * inverse)), 0), shape[k] - 1)
        for x in range(lo[0], hi[0] + 1):
            for y in range(lo[1], hi[1] + 1):
                for z in range(lo[2], hi[2] + 1):
                    if fill:
                        out[n], tri[n] = (x * shape[1] + y) * shape[2] + z, t
                    n += 1
    return n


@njit(cache=True, nogil=True)
def nearest_on(p, a, b, c, out):
    """The place of a triangle nearest to p, into out (3,): Ericson 2005, Real-Time Collision Detection, 5.1.5.

    Returns what it lies on: 0 its inside, 1 to 3 the corner a, b, c, 4 to 6 the side ab, bc, ca.
    """
    ab0, ab1, ab2 = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    ac0, ac1, ac2 = c[0] - a[0], c[1] - a[1], c[2] - a[2]
    p0, p1, p2 = p[0] - a[0], p[1] - a[1], p[2] - a[2]
    d1, d2 = ab0 * p0 + ab1 * p1 + ab2 * p2, ac0 * p0 + ac1 * p1 + ac2 * p2
    v = w = 0.0
    if d1 <= 0 and d2 <= 0:
        on = 1
    else:
        q0, q1, q2 = p[0] - b[0], p[1] - b[1], p[2] - b[2]
        d3, d4 = ab0 * q0 + ab1 * q1 + ab2 * q2, ac0 * q0 + ac1 * q1 + ac2 * q2
        r0, r1, r2 = p[0] - c[0], p[1] - c[1], p[2] - c[2]
        d5, d6 = ab0 * r0 + ab1 * r1 + ab2 * r2, ac0 * r0 + ac1 * r1 + ac2 * r2
        va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
        if d3 >= 0 and d4 <= d3:
            on, v = 2, 1.0
        elif d6 >= 0 and d5 <= d6:
            on, w = 3, 1.0
        elif vc <= 0 and d1 >= 0 and d3 <= 0:
            on, v = 4, d1 / (d1 - d3)
        elif vb <= 0 and d2 >= 0 and d6 <= 0:
            on, w = 6, d2 / (d2 - d6)
        elif va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
            w = (d4 - d3) / ((d4 - d3) + (d5 - d6))
            on, v = 5, 1.0 - w
        else:
            s = va + vb + vc
            on, v, w = 0, vb / s, vc / s
    out[0] = a[0] + v * ab0 + w * ac0
    out[1] = a[1] + v * ab1 + w * ac1
    out[2] = a[2] + v * ab2 + w * ac2
    return on


@njit(cache=True, nogil=True)
def _gap(place, cell, own, low, width):
    """How far a place is from the cells of a number along an axis, 0 where it lies in one of them."""
    if cell < own:
        return place - (low + (cell + 1) * width)
    return low + cell * width - place if cell > own else 0.0


@njit(cache=True, nogil=True)
def _search(points, vertices, faces, key, start, tri, low, width, shape, reach, best, which, first, last):
    q = np.empty(3)
    for i in range(first, last):
        p = points[i]
        c = np.empty(3, np.int64)
        for k in range(3):
            c[k] = int(np.floor((p[k] - low[k]) / width))
        found, at = reach * reach, -1
        rings = int(np.ceil(reach / width))
        for r in range(rings + 1):
            if r > 0 and found < ((r - 1) * width) ** 2:
                break
            for x in range(max(c[0] - r, 0), min(c[0] + r, shape[0] - 1) + 1):
                gap_x = _gap(p[0], x, c[0], low[0], width) ** 2
                if gap_x > found:
                    continue
                for y in range(max(c[1] - r, 0), min(c[1] + r, shape[1] - 1) + 1):
                    gap_y = gap_x + _gap(p[1], y, c[1], low[1], width) ** 2
                    if gap_y > found:
                        continue
                    side = x == c[0] - r or x == c[0] + r or y == c[1] - r or y == c[1] + r
                    step = 1 if side or r == 0 else 2 * r
                    for z in range(c[2] - r, c[2] + r + 1, step):
                        if z < 0 or z >= shape[2] or gap_y + _gap(p[2], z, c[2], low[2], width) ** 2 > found:
                            continue
                        cell = (x * shape[1] + y) * shape[2] + z
                        m = np.searchsorted(key, cell)
                        if m == key.shape[0] or key[m] != cell:
                            continue
                        for j in range(start[m], start[m + 1]):
                            t = tri[j]
                            nearest_on(p, vertices[faces[t, 0]], vertices[faces[t, 1]], vertices[faces[t, 2]], q)
                            d = (q[0] - p[0]) ** 2 + (q[1] - p[1]) ** 2 + (q[2] - p[2]) ** 2
                            if d < found or (d == found and t < at):
                                found, at = d, t
        best[i], which[i] = np.sqrt(found) if at >= 0 else np.inf, at


@njit(cache=True, nogil=True)
def _sides(points, vertices, faces, face_normals, edge_normals, normals, which, distance, first, last):
    """Turn distances negative inside; at a corner or a side its own normal tells (Baerentzen and Aanaes 2005)."""
    q = np.empty(3)
    for i in range(first, last):
        t = which[i]
        if t < 0:
            continue
        on = nearest_on(points[i], vertices[faces[t, 0]], vertices[faces[t, 1]], vertices[faces[t, 2]], q)
        n = face_normals[t] if on == 0 else normals[faces[t, on - 1]] if on < 4 else edge_normals[3 * t + on - 4]
        if (points[i, 0] - q[0]) * n[0] + (points[i, 1] - q[1]) * n[1] + (points[i, 2] - q[2]) * n[2] < 0:
            distance[i] = -distance[i]


class TriangleCells(NamedTuple):
    """Triangles by the cells that their boxes touch: cells (m,) in order, where each begins (m + 1,), the triangles."""

    key: np.ndarray
    start: np.ndarray
    triangles: np.ndarray
    low: np.ndarray
    width: float
    shape: np.ndarray


FARTHEST = 24  #: cells that are looked through from a place in each direction


def sorted_into_cells(vertices, faces, least=0.0):
    """The TriangleCells of faces (t, 3), t > 0, of vertices (n, 3) float64: cells a little wider than a usual one.

    least : they are no narrower
    """
    some = vertices[faces[:: max(1, len(faces) // 5000)]]
    width = max(1.5 * float(np.median(np.ptp(some, axis=1).max(1))) + 1e-12, least)
    used = vertices[faces].reshape(-1, 3)
    low, extent = used.min(0), np.ptp(used, axis=0)
    width = max(width, float(extent.max()) / 500_000)
    shape = (np.floor(extent / width) + 1).astype(np.int64)
    none = np.empty(0, np.int64)
    count = _spread(vertices, faces, low, 1 / width, shape, none, none, False)
    keys, tri = np.empty(count, np.int64), np.empty(count, np.int64)
    _spread(vertices, faces, low, 1 / width, shape, keys, tri, True)
    order = np.argsort(keys, kind="stable")
    keys, tri = keys[order], tri[order]
    first = np.flatnonzero(np.r_[True, keys[1:] != keys[:-1]])
    return TriangleCells(keys[first], np.append(first, count), tri, low, width, shape)


def cells_for(vertices, faces, reach):
    """The TriangleCells that are searched up to `reach`: made once, `nearest_triangles` takes them for any points."""
    vertices, faces = np.ascontiguousarray(vertices, np.float64), np.ascontiguousarray(faces, np.int64)
    return sorted_into_cells(vertices, faces, reach / FARTHEST)


def nearest_triangles(points, vertices, faces, reach, cells=None):
    """Distance (n,) float64 of points (n, 3) to triangles, infinite beyond `reach`, and the nearest (n,), or -1.

    cells : of `cells_for`, where the same triangles are asked again and again
    """
    points, vertices = (np.ascontiguousarray(x, np.float64) for x in (points, vertices))
    faces = np.ascontiguousarray(faces, np.int64)
    best, which = np.full(len(points), np.inf), np.full(len(points), -1, np.int64)
    if not len(points) or not len(faces):
        return best, which
    c = cells or cells_for(vertices, faces, reach)
    in_threads(
        _search, len(points), points, vertices, faces, c.key, c.start, c.triangles, c.low, c.width, c.shape,
        float(reach), best, which,
    )  # fmt: skip
    return best, which


def signed_distance(points, vertices, faces, reach):
    """Distance (n,) float32 of points to triangles, negative inside; infinite beyond `reach`."""
    best, which = nearest_triangles(points, vertices, faces, reach)
    vertices, faces = np.ascontiguousarray(vertices, np.float64), np.ascontiguousarray(faces, np.int64)
    T = vertices[faces]
    n = np.cross(T[:, 1] - T[:, 0], T[:, 2] - T[:, 0])
    n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-30)
    in_threads(
        _sides, len(points), np.ascontiguousarray(points, np.float64), vertices, faces, n,
        edge_normals(faces, n, len(vertices)), angle_normals(T, faces, n, len(vertices)), which, best,
    )  # fmt: skip
    return best.astype(np.float32)


def edge_normals(faces, normals, count):
    """The sum (3 t, 3) of the normals of the triangles at each half-edge."""
    beside = opposite(faces, count)
    own = np.repeat(normals, 3, axis=0)
    return own + np.where((beside >= 0)[:, None], own[beside], 0.0)


def angle_normals(T, faces, normals, count):
    """Normals (n, 3) of vertices, those of their triangles by the angle there."""
    out = np.zeros((count, 3))
    for k in range(3):
        u, v = T[:, (k + 1) % 3] - T[:, k], T[:, (k + 2) % 3] - T[:, k]
        angle = np.arctan2(np.linalg.norm(np.cross(u, v), axis=1), (u * v).sum(1))
        for c in range(3):
            out[:, c] += np.bincount(faces[:, k], angle * normals[:, c], count)
    return out


@njit(cache=True, nogil=True)
def _places(points, vertices, faces, which, out, shares, first, last):
    q = np.empty(3)
    for i in range(first, last):
        t = which[i]
        if t < 0:
            continue
        a, b, c = vertices[faces[t, 0]], vertices[faces[t, 1]], vertices[faces[t, 2]]
        nearest_on(points[i], a, b, c, q)
        # shares of the corners: by areas, in the triangle's own plane
        d00 = d01 = d11 = d20 = d21 = 0.0
        for k in range(3):
            u, v, w = b[k] - a[k], c[k] - a[k], q[k] - a[k]
            d00, d01, d11, d20, d21 = d00 + u * u, d01 + u * v, d11 + v * v, d20 + w * u, d21 + w * v
            out[i, k] = q[k]
        det = d00 * d11 - d01 * d01
        if det <= 1e-14 * d00 * d11:  # no area: the nearest corner
            near, best = 0, np.inf
            for m in range(3):
                far = 0.0
                for k in range(3):
                    far += (vertices[faces[t, m], k] - q[k]) ** 2
                if far < best:
                    near, best = m, far
            for m in range(3):
                shares[i, m] = 1.0 if m == near else 0.0
            continue
        s, r = (d11 * d20 - d01 * d21) / det, (d00 * d21 - d01 * d20) / det
        shares[i, 0], shares[i, 1], shares[i, 2] = 1 - s - r, s, r


def places_on(points, vertices, faces, reach, cells=None):
    """The nearest places on triangles; points without any within `reach` stay.

    cells : of `cells_for`, where the same triangles are asked again and again

    Returns
    -------
    places (n, 3) float64, which (n,) int64, the triangle or -1, and shares (n, 3) of its corners
    """
    points, vertices = (np.ascontiguousarray(x, np.float64) for x in (points, vertices))
    faces = np.ascontiguousarray(faces, np.int64)
    _, which = nearest_triangles(points, vertices, faces, reach, cells)
    out, shares = points.copy(), np.zeros((len(points), 3))
    in_threads(_places, len(points), points, vertices, faces, which, out, shares)
    return out, which, shares
