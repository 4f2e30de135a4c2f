"""The keep box: the oriented box that says what is kept, and its first guess."""

from dataclasses import dataclass

import numpy as np
import scipy

from ..geometry.pose import center


@dataclass(frozen=True)
class KeepBox:
    """An oriented box: center (3,), axes (3, 3) with the box's directions in columns, half sizes (3,)."""

    center: np.ndarray
    axes: np.ndarray
    half: np.ndarray

    def contains(self, points):
        """(n,) bool."""
        return (np.abs((points - self.center) @ self.axes) <= self.half).all(1)

    def distance(self, points):
        """How far places (n, 3) are from the box, negative inside: (n,)."""
        q = np.abs((points - self.center) @ self.axes) - self.half
        return np.linalg.norm(np.maximum(q, 0), axis=1) + np.minimum(q.max(1), 0)

    def corners(self):
        """(8, 3), in the order of the bits of the index (x, y, z)."""
        s = np.array([[(i & 1) * 2 - 1, (i >> 1 & 1) * 2 - 1, (i >> 2 & 1) * 2 - 1] for i in range(8)], float)
        return self.center + (s * self.half) @ self.axes.T

    def as_dict(self):
        """Plain lists, as they are stored."""
        return {"center": self.center.tolist(), "axes": self.axes.tolist(), "half": self.half.tolist()}

    @classmethod
    def from_dict(cls, d):
        """The inverse of `as_dict`."""
        return cls(np.array(d["center"], float), np.array(d["axes"], float), np.array(d["half"], float))


BOX_EDGES = ((0, 1), (2, 3), (4, 5), (6, 7), (0, 2), (1, 3), (4, 6), (5, 7), (0, 4), (1, 5), (2, 6), (3, 7))


#: corners of each face, in a round
BOX_FACES = ((0, 1, 3, 2), (4, 5, 7, 6), (0, 1, 5, 4), (2, 3, 7, 6), (0, 2, 6, 4), (1, 3, 7, 5))


def looked_at(poses):
    """The place nearest to all optical axes (3,)."""
    A, b = np.zeros((3, 3)), np.zeros(3)
    for E in poses:
        d = E[2, :3]
        P = np.eye(3) - np.outer(d, d)
        A += P
        b += P @ center(E)
    return np.linalg.solve(A + 1e-9 * np.eye(3), b)


def fit_keep_box(points, photos_of, poses, half_view):
    """A box round what the photos look at, along the axes of the frame (z is up).

    Parameters
    ----------
    points : (p, 3)
        Tie points.
    photos_of : (p,) int
        Number of photos that see each.
    poses : (n, 4, 4)
        Solved photos only.
    half_view : (n,)
        Tangent of half the narrower field of view of each photo.

    Returns
    -------
    KeepBox
    """
    focus = looked_at(poses)
    away = np.array([np.linalg.norm(center(E) - focus) for E in poses])
    # what is inside the picture in nearly all photos lies within this distance of the place looked at
    reach = float(np.median(away * half_view)) * 1.1
    near = np.linalg.norm(points - focus, axis=1) < reach
    p = points[near & (photos_of >= 3)]
    if len(p) < 20:
        p = points[near] if near.sum() >= 20 else points
    # lone points must not stretch the box
    if len(p) > 20:
        d = scipy.spatial.cKDTree(p).query(p, k=6)[0][:, -1]
        p = p[d < 5 * np.median(d)]
    lo, hi = np.percentile(p, 0.2, axis=0), np.percentile(p, 99.8, axis=0)
    margin = 0.06 * float((hi - lo).max())
    return KeepBox((lo + hi) / 2, np.eye(3), (hi - lo) / 2 + margin)


def box_of_outlines(poses, middles, reach):
    """A box round what masks show, where no tie points lie on it.

    Parameters
    ----------
    poses : (n, 4, 4)
        Solved photos.
    middles : (n, 2)
        Where each sees the middle of its mask, in normalized coordinates.
    reach : (n,)
        How far the mask's corners lie from there, in the same.

    Returns
    -------
    KeepBox
        A cube: how far an outline reaches, it may reach in depth.
    """
    A, b = np.zeros((3, 3)), np.zeros(3)
    for E, m in zip(poses, middles, strict=True):
        d = E[:3, :3].T @ [*m, 1.0]
        d /= np.linalg.norm(d)
        P = np.eye(3) - np.outer(d, d)
        A += P
        b += P @ center(E)
    focus = np.linalg.solve(A + 1e-9 * np.eye(3), b)
    away = np.array([(E[:3, :3] @ focus + E[:3, 3])[2] for E in poses])
    return KeepBox(focus, np.eye(3), np.full(3, 1.1 * float(np.max(away * reach))))
