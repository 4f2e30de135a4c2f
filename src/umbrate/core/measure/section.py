"""A section: the line in which a plane cuts the surface that a cloud's points and normals describe.

Points near the plane vote for the distance to the surface at every node of a grid in the plane: each by the plane
through itself, perpendicular to its normal, weighted by nearness (moving least squares: Shen, O'Brien and Shewchuk
2004, with constant weights along the normal). Where the votes change sign, there is the surface. The line is found to
a small part of the grid's step, and only where points are: a gap in the cloud stays a gap in the section.
"""

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree
from skimage.measure import find_contours

from ..errors import UmbrateError

MOST_NODES = 1500  #: along one side of the grid
REACH = 3.0  #: points count up to so many spacings from a node


@dataclass
class Section:
    """The cut of a cloud by a plane.

    Attributes
    ----------
    origin : (3,), u : (3,), v : (3,)
        The plane's own axes: a place (a, b) in it is ``origin + a u + b v``.
    lines : list of (n, 2) float64
        The outline's pieces, in the plane; a closed one ends where it begins.
    spacing : float
        Distance of the points of the cloud there.
    """

    origin: np.ndarray
    u: np.ndarray
    v: np.ndarray
    lines: list
    spacing: float

    @property
    def bounds(self):
        """Smallest and largest place (2,), (2,)."""
        every = np.vstack(self.lines)
        return every.min(0), every.max(0)

    @property
    def length(self):
        """Of all pieces together."""
        return float(sum(np.linalg.norm(np.diff(x, axis=0), axis=1).sum() for x in self.lines))

    @property
    def area(self):
        """Enclosed by the closed pieces, holes taken off; None where none is closed."""
        closed = [x for x in self.lines if is_closed(x)]
        if not closed:
            return None
        signed = [0.5 * float((x[:-1, 0] * x[1:, 1] - x[1:, 0] * x[:-1, 1]).sum()) for x in closed]
        return abs(sum(signed))

    def places(self, line):
        """The points (n, 3) of a piece in the world."""
        return self.origin + line[:, :1] * self.u + line[:, 1:] * self.v


def is_closed(line):
    """Whether a piece of an outline ends where it begins."""
    return len(line) > 3 and bool(np.allclose(line[0], line[-1]))


def plane_axes(normal):
    """Two directions (3,), (3,) in a plane: u is level where that can be, v points as far up as it can."""
    n = np.asarray(normal, float) / np.linalg.norm(normal)
    up = np.array([0.0, 0.0, 1.0])
    u = np.cross(up, n)
    u = np.array([1.0, 0, 0]) if np.linalg.norm(u) < 1e-6 else u / np.linalg.norm(u)
    v = np.cross(n, u)
    return u, v


def section(points, normals, origin, normal, step=None):
    """Cut a cloud by a plane.

    Parameters
    ----------
    points, normals : (n, 3)
    origin : (3,)
        A place of the plane.
    normal : (3,)
        Across the plane.
    step : float, optional
        Of the grid; half the spacing of the points where not given.

    Returns
    -------
    Section

    Raises
    ------
    UmbrateError
        Where the plane meets no surface.
    """
    n = np.asarray(normal, float)
    if not np.isfinite(n).all() or np.linalg.norm(n) < 1e-12:
        raise UmbrateError("The section's plane needs a direction across it, such as 0 0 1 for a level cut.")
    n = n / np.linalg.norm(n)
    origin = np.asarray(origin, float)
    u, v = plane_axes(n)
    h = (points - origin) @ n
    size = float(np.ptp(points, axis=0).max())
    sample = points[np.abs(h) < 0.02 * size]
    if len(sample) < 20:
        raise UmbrateError("The section's plane does not meet the cloud. Move it, or choose another direction.")
    some = sample[:: max(1, len(sample) // 2000)].astype(float)
    spacing = float(np.median(cKDTree(sample).query(some, k=min(7, len(sample)))[0][:, -1])) / 1.6
    near = np.abs(h) < REACH * spacing
    X, N = points[near].astype(float), normals[near].astype(float)
    if len(X) < 10:
        raise UmbrateError("The section's plane does not meet the cloud. Move it, or choose another direction.")
    P = np.stack([(X - origin) @ u, (X - origin) @ v], 1)
    H = (X - origin) @ n
    Np = np.stack([N @ u, N @ v], 1)
    Nh = N @ n
    lo, hi = P.min(0) - 3 * spacing, P.max(0) + 3 * spacing
    step = step or max(0.5 * spacing, float((hi - lo).max()) / MOST_NODES)
    counts = np.ceil((hi - lo) / step).astype(int) + 1
    gu, gv = np.meshgrid(lo[0] + step * np.arange(counts[0]), lo[1] + step * np.arange(counts[1]))
    nodes = np.stack([gu.ravel(), gv.ravel()], 1)
    tree = cKDTree(np.c_[P, H])
    reach = REACH * spacing
    k = min(24, len(X))
    distance, rows = tree.query(np.c_[nodes, np.zeros(len(nodes))], k=k, distance_upper_bound=reach)
    ok = np.isfinite(distance)
    rows = np.where(ok, rows, 0)
    w = np.where(ok, np.exp(-((distance / (0.5 * reach)) ** 2)), 0.0)
    # of a thin wall the two sides must not be averaged: the nearest point's side counts
    first = rows[:, 0]
    same = (Np[rows] * Np[first][:, None]).sum(2) + Nh[rows] * Nh[first][:, None] > 0
    w = w * same
    vote = ((nodes[:, None] - P[rows]) * Np[rows]).sum(2) - H[rows] * Nh[rows]
    total = w.sum(1)
    field = np.where(total > 1e-9, (w * vote).sum(1) / np.maximum(total, 1e-9), np.nan)
    field[distance[:, 0] > 2.0 * spacing] = np.nan  # where no points are, there is no line
    lines = [
        np.stack([lo[0] + step * c[:, 1], lo[1] + step * c[:, 0]], 1)
        for c in find_contours(field.reshape(gu.shape), 0.0)
    ]
    lines = [x for x in lines if np.linalg.norm(np.diff(x, axis=0), axis=1).sum() > 4 * spacing]
    if not lines:
        raise UmbrateError(
            "The section's plane meets too few points for an outline. Move it, or compute a finer cloud."
        )
    lines.sort(key=lambda x: -len(x))
    return Section(origin, u, v, lines, spacing)
