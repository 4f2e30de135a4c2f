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


def looked_at(poses, at=None):
    """The place (3,) nearest to all optical axes, or to the rays of each photo through a place of its picture.

    at : (n, 2), optional
        Normalized coordinates.
    """
    A, b = np.zeros((3, 3)), np.zeros(3)
    for k, E in enumerate(poses):
        d = E[2, :3]
        if at is not None:
            d = E[:3, :3].T @ [*at[k], 1.0]
            d /= np.linalg.norm(d)
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
    focus = looked_at(poses, middles)
    away = np.array([(E[:3, :3] @ focus + E[:3, 3])[2] for E in poses])
    return KeepBox(focus, np.eye(3), np.full(3, 1.1 * float(np.max(away * reach))))


def box_of_sides(middle, poses, sides):
    """A box round where photos see the sides of an outline, taken to be as far away as the object's middle.

    Unlike what all outlines have in common it does not reach below an object that is seen from above only.

    Parameters
    ----------
    middle : (3,)
    poses : (n, 4, 4)
    sides : (n, k, 2)
        Normalized coordinates.

    Returns
    -------
    KeepBox
    """
    away = poses[:, 2, :3] @ middle + poses[:, 2, 3]
    rays = np.concatenate([sides, np.ones((*sides.shape[:2], 1))], 2) * away[:, None, None]
    places = np.einsum("nji,nkj->nki", poses[:, :3, :3], rays - poses[:, None, :3, 3]).reshape(-1, 3)
    low, high = places.min(0), places.max(0)
    return KeepBox((low + high) / 2, np.eye(3), (high - low) / 2)


def hull_box(box, poses, lenses, masks, cells=28):
    """The box of what lies inside the outlines of all photos that look at it, within another box; None if nothing does.

    Parameters
    ----------
    box : KeepBox
        Where it is looked for.
    poses : (n, 4, 4)
    lenses : list of Lens
    masks : iterable of (h, w) bool
    """
    at = (np.arange(cells) + 0.5) / cells * 2 - 1
    grid = np.stack(np.meshgrid(at, at, at, indexing="ij"), -1).reshape(-1, 3)
    places = box.center + (grid * box.half) @ box.axes.T
    inside = np.ones(len(places), bool)
    for E, lens, mask in zip(poses, lenses, masks, strict=True):
        Y = places @ E[:3, :3].T + E[:3, 3]
        front = Y[:, 2] > 1e-9
        uv = np.full((len(Y), 2), -1.0)
        uv[front] = lens.project(Y[front, :2] / Y[front, 2:])
        u, v = np.round(uv).astype(int).T
        there = front & (u >= 0) & (v >= 0) & (u < mask.shape[1]) & (v < mask.shape[0])
        # what lies beside the picture is not known to be outside
        inside[there] &= mask[v[there], u[there]]
    if not inside.any():
        return None
    low, high = grid[inside].min(0) - 2 / cells, grid[inside].max(0) + 2 / cells  # and half a cell of margin
    return KeepBox(box.center + (0.5 * (low + high) * box.half) @ box.axes.T, box.axes, 0.5 * (high - low) * box.half)


def covering(box, other, least=0.18, most=1.0):
    """A box that reaches out to another one along its own axes, on the sides where that lies clearly further out.

    least, most : share of the box's size that a side must lack, and that it is moved at most
    """
    size = 2 * box.half
    middle = (other.center - box.center) @ box.axes
    low, high = middle - other.half, middle + other.half
    lack_low, lack_high = -box.half - low, high - box.half
    move_low = np.where(lack_low > least * size, np.minimum(lack_low, most * size), 0.0)
    move_high = np.where(lack_high > least * size, np.minimum(lack_high, most * size), 0.0)
    shift = 0.5 * (move_high - move_low)
    return KeepBox(box.center + shift @ box.axes.T, box.axes, box.half + 0.5 * (move_low + move_high))
