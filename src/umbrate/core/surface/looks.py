"""What a surface's own shape may be colored by: how it bends, and how steep it is."""

import numpy as np

from .mesh import half_edges

ROUNDS = 3  #: of means with the neighbors, as one edge alone is rough


def curvature(points, faces, normals):
    """Mean curvature (n,) float32 at vertices, 1 over the unit; convex is positive.

    From how fast the normals turn along the edges, evened out over the vertices round each.
    """
    a, b = half_edges(faces)
    d = (points[b] - points[a]).astype(np.float64)
    turn = ((normals[b] - normals[a]) * d).sum(1) / np.maximum((d * d).sum(1), 1e-30)
    n = len(points)
    count = np.maximum(np.bincount(a, minlength=n) + np.bincount(b, minlength=n), 1)
    out = (np.bincount(a, turn, n) + np.bincount(b, turn, n)) / count
    for _ in range(ROUNDS):
        out = (out + np.bincount(a, out[b], n) + np.bincount(b, out[a], n)) / (1 + count)
    return out.astype(np.float32)


def slope(points, faces, normals):
    """Degrees (n,) float32 between normals and upward: 0 lies flat, 90 is upright, 180 overhangs flat."""
    return np.degrees(np.arccos(np.clip(normals[:, 2], -1, 1))).astype(np.float32)
