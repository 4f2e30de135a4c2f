"""A section: the line in which a plane cuts the surface that a cloud's points and normals describe.

Points near the plane vote for the distance to the surface at every node of a grid in the plane: each by the plane
through itself, perpendicular to its normal, weighted by nearness (moving least squares: Shen, O'Brien and Shewchuk
2004, with constant weights along the normal). Where the votes change sign, there is the surface. The line is found to
a small part of the grid's step, and only where points are. Small gaps of the cloud are closed by straight bridges,
which are counted and measured; where a large one stays open, the outline encloses nothing and has no area.
"""

from dataclasses import dataclass, field

import numpy as np
import scipy
import skimage

from ..errors import UmbrateError

MOST_NODES = 1500  #: along one side of the grid
REACH = 3.0  #: points count up to so many spacings from a node
SMALL_GAP = 0.03  #: of the outline's extent: gaps up to this are closed
LEAST_GAP = 6.0  #: spacings: gaps up to this are closed whatever the extent
LEFT_OVER = 0.03  #: share of the outline's length that may stay open beside what encloses an area
DIRECTED = 12  #: points of a piece that tell the direction of its end
TURNING = -0.2  #: cosine; a bridge does not turn back by more


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
    bridges : list of ((2,), (2,))
        Where gaps were closed: from, to.
    offset : (3,)
        What coordinates are more for people than in the frame of the cloud.
    """

    origin: np.ndarray
    u: np.ndarray
    v: np.ndarray
    lines: list
    spacing: float
    bridges: list = field(default_factory=list)
    offset: tuple = (0.0, 0.0, 0.0)

    @property
    def bounds(self):
        """Smallest and largest place (2,), (2,)."""
        every = np.vstack(self.lines)
        return every.min(0), every.max(0)

    @property
    def length(self):
        """Of all pieces together, bridges included."""
        return float(sum(map(_length, self.lines)))

    @property
    def gaps(self):
        """Widths of the gaps that were closed, the widest first."""
        return sorted((float(np.linalg.norm(b - a)) for a, b in self.bridges), reverse=True)

    @property
    def is_open(self):
        """Whether a part of the outline that matters ends nowhere: then it encloses nothing."""
        left = sum(_length(x) for x in self.lines if not is_closed(x))
        return left > LEFT_OVER * self.length

    @property
    def area(self):
        """Enclosed by the outline, holes taken off; None where it is open."""
        closed = [x for x in self.lines if is_closed(x)]
        if not closed or self.is_open:
            return None
        signed = [0.5 * float((x[:-1, 0] * x[1:, 1] - x[1:, 0] * x[:-1, 1]).sum()) for x in closed]
        return abs(sum(signed))

    def places(self, line):
        """The points (n, 3) of a piece in the world, as people read coordinates."""
        return self.offset + self.origin + line[:, :1] * self.u + line[:, 1:] * self.v


def _length(line):
    return float(np.linalg.norm(np.diff(line, axis=0), axis=1).sum())


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


def section(points, normals, origin, normal, step=None, *, spacing=None, gap=None, quick=False):
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
    spacing : float, optional
        Distance of the points, where it is known already.
    gap : float, optional
        Gaps up to so wide are closed; 3 % of the outline's extent where not given, 0 closes none.
    quick : bool
        On a coarser grid, from fewer points: for the eye while a plane is moved.

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
    h = points @ n.astype(points.dtype)
    h -= h.dtype.type(origin @ n)  # in the points' own precision: of a million, a copy in doubles would take longest
    if spacing is None:
        size = float(np.ptp(points, axis=0).max())
        sample = points[np.abs(h) < 0.02 * size]
        if len(sample) < 20:
            raise UmbrateError("The section's plane does not meet the cloud. Move it, or choose another direction.")
        some = sample[:: max(1, len(sample) // 2000)].astype(float)
        spacing = float(np.median(scipy.spatial.cKDTree(sample).query(some, k=min(7, len(sample)))[0][:, -1])) / 1.6
    near = np.abs(h) < REACH * spacing
    X, N = points[near].astype(float), normals[near].astype(float)
    if len(X) < 10:
        raise UmbrateError("The section's plane does not meet the cloud. Move it, or choose another direction.")
    P = np.stack([(X - origin) @ u, (X - origin) @ v], 1)
    H = (X - origin) @ n
    Np = np.stack([N @ u, N @ v], 1)
    Nh = N @ n
    lo, hi = P.min(0) - 3 * spacing, P.max(0) + 3 * spacing
    most = MOST_NODES // 2 if quick else MOST_NODES
    step = step or max((1.0 if quick else 0.5) * spacing, float((hi - lo).max()) / most)
    counts = np.ceil((hi - lo) / step).astype(int) + 1
    # only nodes near points can be part of the line: the others are not computed
    band = np.zeros(counts[::-1], bool)
    at = np.clip(np.round((P - lo) / step).astype(int), 0, counts - 1)
    band[at[:, 1], at[:, 0]] = True
    wide = int(np.ceil(2.0 * spacing / step)) + 1
    row, column = np.nonzero(band)
    for k in range(-wide, wide + 1):
        band[np.clip(row + k, 0, counts[1] - 1), column] = True
    row, column = np.nonzero(band)
    for k in range(-wide, wide + 1):
        band[row, np.clip(column + k, 0, counts[0] - 1)] = True
    row, column = np.nonzero(band)
    nodes = lo + step * np.stack([column, row], 1)
    tree = scipy.spatial.cKDTree(np.c_[P, H])
    reach = REACH * spacing
    k = min(8 if quick else 24, len(X))
    distance, rows = tree.query(np.c_[nodes, np.zeros(len(nodes))], k=k, distance_upper_bound=reach, workers=-1)
    ok = np.isfinite(distance)
    rows = np.where(ok, rows, 0)
    w = np.where(ok, np.exp(-((distance / (0.5 * reach)) ** 2)), 0.0)
    # of a thin wall the two sides must not be averaged: the nearest point's side counts
    first = rows[:, 0]
    same = (Np[rows] * Np[first][:, None]).sum(2) + Nh[rows] * Nh[first][:, None] > 0
    w = w * same
    vote = ((nodes[:, None] - P[rows]) * Np[rows]).sum(2) - H[rows] * Nh[rows]
    total = w.sum(1)
    value = np.where(total > 1e-9, (w * vote).sum(1) / np.maximum(total, 1e-9), np.nan)
    value[distance[:, 0] > 2.0 * spacing] = np.nan  # where no points are, there is no line
    distances = np.full(band.shape, np.nan)
    distances[row, column] = value
    lines = [
        np.stack([lo[0] + step * c[:, 1], lo[1] + step * c[:, 0]], 1)
        for c in skimage.measure.find_contours(distances, 0.0)
    ]
    lines = [x for x in lines if _length(x) > 4 * spacing]
    if not lines:
        raise UmbrateError(
            "The section's plane meets too few points for an outline. Move it, or compute a finer cloud."
        )
    if gap is None:
        every = np.vstack(lines)
        gap = max(SMALL_GAP * float(np.linalg.norm(np.ptp(every, axis=0))), LEAST_GAP * spacing)
    lines, bridges = bridged(lines, gap)
    lines.sort(key=lambda x: -_length(x))
    return Section(origin, u, v, lines, spacing, bridges)


def bridged(lines, gap):
    """Pieces of an outline with the gaps between their ends closed, the narrowest first.

    Pieces run with the surface on one side, so an end is only joined to a beginning.

    Parameters
    ----------
    lines : list of (n, 2)
    gap : float
        The widest that is closed.

    Returns
    -------
    lines : list of (n, 2)
        Closed ones end where they begin.
    bridges : list of ((2,), (2,))
    """
    done = [x for x in lines if is_closed(x)]
    parts = [x for x in lines if not is_closed(x)]
    if not parts or gap <= 0:
        return list(lines), []
    begin, end = np.array([x[0] for x in parts]), np.array([x[-1] for x in parts])
    # where a piece begins and ends: its direction over a few steps of the grid
    into = np.array([x[min(DIRECTED, len(x) - 1)] - x[0] for x in parts])
    out = np.array([x[-1] - x[max(-1 - DIRECTED, -len(x))] for x in parts])
    across = begin[None] - end[:, None]
    width = np.linalg.norm(across, axis=2)
    safe = np.maximum(width, 1e-12)

    def along(d):
        return d / np.maximum(np.linalg.norm(d, axis=1, keepdims=True), 1e-12)

    ahead = np.einsum("abk,ak->ab", across, along(out)) / safe
    onward = np.einsum("abk,bk->ab", across, along(into)) / safe
    short = width <= 0.25 * gap  # a narrow one may turn: noise at the rim says little of its direction
    good = (width <= gap) & (short | ((ahead > TURNING) & (onward > TURNING)))
    following, before, bridges = {}, set(), []
    for k in np.argsort(width, axis=None, kind="stable"):
        a, b = divmod(int(k), len(parts))
        if width[a, b] > gap:
            break
        # the rest of a ring that is hardly longer than its gap encloses nothing
        alone = a == b and _length(parts[a]) < 2 * width[a, b]
        if good[a, b] and a not in following and b not in before and not alone:
            following[a] = b
            before.add(b)
            bridges.append((end[a], begin[b]))
    left = set(range(len(parts)))
    while left:
        first = next((k for k in sorted(left) if k not in before), min(left))
        chain, k = [], first
        while k is not None and k in left:
            left.discard(k)
            chain.append(parts[k])
            k = following.get(k)
        line = np.vstack(chain)
        done.append(np.vstack([line, line[:1]]) if k == first else line)
    return done, bridges
