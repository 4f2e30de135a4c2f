"""Spikes and slivers: vertices that stand out from those round them, and triangles without area.

A vertex stands out where it lies farther off the plane of its neighbors than their mean distance tells: it and those
round it are evened out until none does. Slivers are flipped, or their shortest edge is drawn together.
"""

import numpy as np
from numba import njit

from ..cloud.grid import in_threads
from .evening import beside_vertices, evened, spread
from .mesh import half_edges
from .remesh import RIM, drawn_together, flipped, kinds_of

ROUNDS, STEPS = 12, 3


@njit(cache=True, nogil=True)
def _steep(points, begin, ends, out, first, last):
    for i in range(first, last):
        n = begin[i + 1] - begin[i]
        x = y = z = far = 0.0
        for j in range(begin[i], begin[i + 1]):
            e = ends[j]
            a, b, c = points[e, 0] - points[i, 0], points[e, 1] - points[i, 1], points[e, 2] - points[i, 2]
            x, y, z = x + a, y + b, z + c
            far += np.sqrt(a * a + b * b + c * c)
        out[i] = np.sqrt(x * x + y * y + z * z) / max(far, 1e-30) if n else 0.0


def steepness(points, beside):
    """How far (n,) each vertex lies off the mean of its neighbors, in mean distances to them.

    beside : of `beside_vertices`
    """
    out = np.empty(len(points))
    in_threads(_steep, len(points), np.ascontiguousarray(points, np.float64), *beside, out)
    return out


def least_angles(points, faces):
    """The least angle (t,) of each triangle, degrees."""
    T = points[faces]
    out = np.full(len(faces), np.pi)
    for k in range(3):
        u, v = T[:, (k + 1) % 3] - T[:, k], T[:, (k + 2) % 3] - T[:, k]
        out = np.minimum(out, np.arctan2(np.linalg.norm(np.cross(u, v), axis=1), (u * v).sum(1)))
    return np.degrees(out)


def without_spikes(points, faces, steep, angle):
    """A surface without spikes and slivers.

    Parameters
    ----------
    points (n, 3), faces (t, 3)
    steep : vertices with more `steepness` are spikes
    angle : degrees; triangles with a smaller angle are slivers

    Returns
    -------
    points (m, 3) float64, faces (u, 3), spikes, slivers : how many there were
    """
    points = np.array(points, np.float64)
    kinds = kinds_of(faces, len(points))
    free = kinds != RIM
    first, beside = None, beside_vertices(faces, len(points))
    for k in range(ROUNDS):
        out = (steepness(points, beside) > steep) & free
        first = int(out.sum()) if first is None else first
        if not out.any():
            break
        points = evened(points, faces, STEPS, spread(faces, out, 1 + k // 3) & free, back=0.0)
    thin = least_angles(points, faces) < angle
    slivers = int(thin.sum())
    if slivers:
        start, end = half_edges(faces)
        edge = np.linalg.norm(points[start] - points[end], axis=1)
        short = 2 * np.sin(np.radians(angle)) * edge.mean()
        points, faces, _ = drawn_together(points, faces, kinds, short, 3 * edge.mean())
        faces = flipped(points, faces)
    return points, faces, first, slivers
