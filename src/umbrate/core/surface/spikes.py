"""Spikes and slivers: vertices that stand out from those round them, and triangles without area.

A vertex stands out where it lies farther off the plane of its neighbors than their mean distance tells: it and those
round it are evened out until none does. Slivers are flipped, or their shortest edge is drawn together.
"""

import numpy as np

from .evening import evened, spread
from .mesh import half_edges
from .remesh import RIM, drawn_together, flipped, kinds_of

ROUNDS, STEPS = 12, 3


def steepness(points, faces):
    """How far (n,) each vertex lies off the mean of its neighbors, in mean distances to them."""
    n = len(points)
    a, b = half_edges(faces)
    a, b = np.concatenate([a, b]), np.concatenate([b, a])  # inside each neighbor twice, which a mean does not mind
    count = np.maximum(np.bincount(a, minlength=n), 1)
    mean = np.stack([np.bincount(a, points[b, k], n) for k in range(3)], 1) / count[:, None]
    far = np.bincount(a, np.linalg.norm(points[b] - points[a], axis=1), n) / count
    return np.linalg.norm(mean - points, axis=1) / np.maximum(far, 1e-30)


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
    first = None
    for k in range(ROUNDS):
        out = (steepness(points, faces) > steep) & free
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
