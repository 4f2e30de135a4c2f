"""A coarse copy of a surface, quickly: vertices that share a cell become one. For what moves, not for delivery."""

import numpy as np

from .mesh import areas

TRIANGLES = 2.2  #: that are left for each square as wide as a cell that the surface has


def coarse_copy(points, faces, triangles):
    """A mesh of about so many triangles, and the vertex (m,) of the given one that stands for each of its vertices.

    Returns
    -------
    points (m, 3) float32, faces (k, 3) int32, rows (m,) int64
    """
    if len(faces) <= triangles:
        return points, faces, np.arange(len(points))
    cell = np.sqrt(TRIANGLES * float(areas(points, faces).sum()) / triangles)
    low = points.min(0)
    ijk = np.minimum((points - low) / max(cell, 1e-30), 2_000_000).astype(np.int64)
    keys = (ijk[:, 0] << 42) | (ijk[:, 1] << 21) | ijk[:, 2]
    order = np.argsort(keys, kind="stable")
    first = np.flatnonzero(np.r_[True, keys[order][1:] != keys[order][:-1]])
    number = np.empty(len(points), np.int32)
    number[order] = np.repeat(np.arange(len(first), dtype=np.int32), np.diff(np.append(first, len(order))))
    few = number[faces]
    few = few[(few[:, 0] != few[:, 1]) & (few[:, 1] != few[:, 2]) & (few[:, 2] != few[:, 0])]
    rows = order[first]
    return points[rows], few, rows
