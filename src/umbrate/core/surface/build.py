"""A surface from oriented points: the function's zero, without what noise made, and what is measured of vertices."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import scipy
from numba import njit

from ..cloud.grid import (
    cells_of,
    columns_round,
    first_columns,
    frame_round,
    gathered,
    in_threads,
    sort_into_grid,
    spacing_of,
)
from ..errors import UmbrateError
from .creases import with_creases
from .crossing import uncrossed
from .cut import cut
from .evening import evened, spread
from .field import make_field
from .handles import without_handles
from .mesh import areas, opposite, pieces, rims, used_only

FEWEST = 100  #: points that a surface is made of at least
TRIANGLES = 3.05  #: for each square as wide as a cell that the surface has (measured on spheres and the demo)
SHORT_ROUND = 12.0  #: spacings: a handle this short round is noise, whatever points are there
WEAK_ROUND = 70.0  #: spacings: one this short is, where points hold a part of it badly
WEAK_SHARE = 0.15
FLAT = 2.5  #: spacings: points that nowhere lie farther than this off a plane tell of one side only
LOOSE_RINGS, LOOSE_ROUNDS = 2, 20  #: what no points hold is evened out, with so many triangles round it
BEYOND = 8.0  #: spacings: points so far beyond what is kept still tell how the surface goes on there
PART = 1_500_000  #: vertices that are measured at once
FAR_SAMPLE = 200_000  #: points by which the distance of filled parts is found
LEAST_WEIGHT, MOST_WEIGHT = 0.1, 4.0  #: of a point by its precision, against the usual one


@dataclass(frozen=True)
class Wanted:
    """How a surface is to be.

    Attributes
    ----------
    cell : float
        Width of the cells it is cut out of, in spacings.
    radius : float
        How far points count, in spacings.
    closed : bool
        Whether places without points are closed; else there is nothing there.
    reach : float
        In spacings: what is farther than this from all points has no support.
    edges : bool
        Whether edges are kept.
    least_share : float
        Of the area: smaller pieces are left out.
    """

    cell: float = 2.0
    radius: float = 3.0
    closed: bool = True
    reach: float = 3.0
    edges: bool = False
    least_share: float = 0.005


@dataclass
class Surface:
    """Triangles, and what is known of their vertices.

    Attributes
    ----------
    points (n, 3) float32, normals (n, 3) float32, faces (t, 3) int32
    colors (n, 3) uint8
    support : (n,) float32
        Distance to the nearest point.
    deviation : (n,) float32
        How far the points there lie over it in the mean, with a sign; not finite where there are none.
    photos : (n,) uint8
        Photos of the nearest point, 0 where it is far.
    filled : (n,) bool
        Whether no points hold it.
    handles, dropped : int
        Handles that were cut, and pieces that were left out.
    """

    points: np.ndarray
    normals: np.ndarray
    faces: np.ndarray
    colors: np.ndarray
    support: np.ndarray
    deviation: np.ndarray
    photos: np.ndarray
    filled: np.ndarray
    handles: int = 0
    dropped: int = 0

    ARRAYS = ("points", "normals", "faces", "colors", "support", "deviation", "photos", "filled")

    def arrays(self):
        """The arrays by name."""
        return {k: getattr(self, k) for k in self.ARRAYS}


def cell_for(count, triangles):
    """The width of cells, in spacings, that gives some number of triangles from a number of points."""
    return float(np.sqrt(TRIANGLES * count / max(triangles, 1)))


def weights_of(precision, count):
    """Weights (n,) float32 of points by their standard deviations (n,), or 1 each."""
    if precision is None:
        return np.ones(count, np.float32)
    usual = float(np.median(precision[precision > 0])) if (precision > 0).any() else 1.0
    return np.clip((usual / np.maximum(precision, 1e-30)) ** 2, LEAST_WEIGHT, MOST_WEIGHT).astype(np.float32)


def check_points(points, normals, closed, spacing):
    """Raise UmbrateError where points cannot tell of a surface."""
    if len(points) < FEWEST:
        raise UmbrateError(
            f"{len(points)} points are too few for a surface ({FEWEST} at least). Take a finer cloud, or clean less."
        )
    step = max(1, len(points) // FAR_SAMPLE)
    size = np.linalg.norm(normals[::step], axis=1)
    if not np.isfinite(size).all() or (size < 0.5).mean() > 0.01:
        raise UmbrateError("These points have no normals, so nobody knows which side is outside. Run Cloud again.")
    some = np.asarray(points[::step], float)
    middle = some.mean(0)
    across = np.linalg.eigh(np.cov((some - middle).T))[1][:, 0]
    up = (normals[::step] @ across > 0).mean()
    if closed and not 0.02 < up < 0.98 and np.percentile(np.abs((some - middle) @ across), 99) < FLAT * spacing:
        raise UmbrateError(
            "These points lie in a plane: nothing tells how a closed surface goes on behind them. Make an open one.",
            ("set", "mode", "open"),
        )


def make_surface(cloud, wanted, outside=None, check=lambda share: None, free=None):
    """The Surface of a cloud.

    Parameters
    ----------
    cloud : dict of arrays
        points (n, 3) and normals (n, 3), and where there are: precision (n,), colors (n, 3), photos (n,).
    wanted : Wanted
    outside : callable(places) -> (n,), optional
        Positive beyond what is kept, as a distance: what is left ends there.
    check : callable(share done)
        May raise.
    free : callable(places, margin) -> (n,), (n,), optional
        What photos saw through: see `make_field`.

    Raises
    ------
    UmbrateError
        Where points cannot tell of a surface.
    """
    spacing = spacing_of(cloud["points"])
    if outside is not None:
        near = outside(cloud["points"]) < BEYOND * spacing
        cloud = cloud if near.all() else {k: v[near] for k, v in cloud.items()}
    points, normals = cloud["points"], cloud["normals"]
    check_points(points, normals, wanted.closed, spacing)
    weights = weights_of(cloud.get("precision"), len(points))
    cell, radius = wanted.cell * spacing, wanted.radius * spacing
    check(0.0)
    made = make_field(
        points, normals, weights, cell, radius, spacing, wanted.edges, outside if wanted.closed else None, free,
        lambda x: check(0.3 + 0.4 * x),
    )  # fmt: skip
    check(0.3)
    vertices, own, faces = made.surface()
    if wanted.closed:
        vertices, own, faces = _without_gaps(vertices, own, faces)
    del made
    if not len(faces):
        raise UmbrateError("No surface came of these points. Look whether the keep box holds the object.")
    check(0.75)
    vertices, own, faces, dropped = _pieces(vertices, own, faces, wanted.least_share)
    held = (own != 0).any(1)

    def may(ring, length):
        return length <= SHORT_ROUND * spacing or (~held[ring]).mean() >= WEAK_SHARE

    vertices, faces, source, handles = without_handles(vertices, faces, WEAK_ROUND * spacing, may)
    check(0.85)
    own = np.where((source < 0)[:, None], np.float32(0), own[source])
    loose = (own == 0).all(1)
    # where points end, noise has the last word on either side
    vertices = evened(vertices, faces, LOOSE_ROUNDS, spread(faces, loose, LOOSE_RINGS))
    on_edges = np.zeros(len(vertices), bool)
    if wanted.edges:
        vertices, sides, faces = with_creases(vertices, own, faces)
        on_edges = (sides == 0).all(1)
        on_edges[: len(own)] &= ~(own == 0).all(1)
        own = sides
    vertices, _ = uncrossed(vertices, faces)
    out = measured(vertices, faces, own, cloud, spacing)
    out.deviation[on_edges] = np.nan  # points lie on either side of an edge, none on it
    out.filled = ~(out.support <= wanted.reach * spacing)
    out.photos[out.filled] = 0
    out.handles, out.dropped = handles, dropped
    check(0.95)
    return out if wanted.closed else _open(out, wanted.reach * spacing, outside, wanted.least_share)


def _without_gaps(vertices, normals, faces):
    """A surface with a fan in every gap: noise can make it leave the cells that were looked at, by a cell's width."""
    rings = rims(faces, opposite(faces, len(vertices)))
    fans = [
        np.stack([np.roll(r, -1), r, np.full(len(r), len(vertices) + k)], 1) for k, r in enumerate(rings) if len(r) > 2
    ]
    if not fans:
        return vertices, normals, faces
    middles = np.array([vertices[r].mean(0) for r in rings])
    none = np.zeros((len(rings), 3), np.float32)
    return (
        np.concatenate([vertices, middles]),
        np.concatenate([normals, none]),
        np.concatenate([faces, *fans]).astype(np.int32),
    )


def _pieces(vertices, normals, faces, least):
    """What is left without pieces smaller than a share of the area, and how many these are."""
    which = pieces(faces, len(vertices))
    area = np.bincount(which, areas(vertices, faces))
    small = area < least * area.sum()
    if small.all():
        small[area.argmax()] = False
    faces, vertices, normals = used_only(faces[~small[which]], vertices, normals)
    return vertices, normals, faces, int(small.sum())


def _open(surface, reach, outside, least):
    """The part of a surface near points and within what is kept."""
    far = np.where(np.isfinite(surface.support), surface.support, 1e9).astype(float) - reach
    if outside is not None:
        far = np.maximum(far, outside(surface.points.astype(float)))
    part = cut(surface.faces, far)
    if not len(part.faces):
        raise UmbrateError(
            "Nothing of this surface is near points. Choose a larger reach, or a closed surface.",
            ("set", "mode", "closed"),
        )
    arrays = {k: part.of(v) for k, v in surface.arrays().items() if k != "faces"}
    which = pieces(part.faces, len(part.first))
    area = np.bincount(which, areas(arrays["points"], part.faces))
    keep = area >= least * area.sum()
    faces, *values = used_only(part.faces[keep[which]], *arrays.values())
    arrays = dict(zip(arrays, values, strict=True))
    arrays["filled"] = np.zeros(len(arrays["points"]), bool)
    return Surface(**arrays, faces=faces, handles=surface.handles, dropped=surface.dropped + int((~keep).sum()))


# ---------------------------------------------------------------------- what is measured of vertices
@njit(cache=True, nogil=True)
def _about(cells, asked, own, values, radius2, nearest, color, over, which, first, last):
    """Of vertices: how far the nearest point is and which, the mean color and height of the points within a radius."""
    points, key, start, shape = cells
    others, where, begin, _ = asked
    normals, colors = own, values
    lo, hi = np.empty(9, np.int64), np.empty(9, np.int64)
    cursor = first_columns(key, shape, where[first])
    for c in range(first, last):
        columns_round(where[c], key, start, shape, cursor, lo, hi)
        for i in range(begin[c], begin[c + 1]):
            best, at = np.float32(np.inf), -1
            sw = sh = sr = sg = sb = 0.0
            for r in range(9):
                for j in range(lo[r], hi[r]):
                    x, y, z = points[j, 0] - others[i, 0], points[j, 1] - others[i, 1], points[j, 2] - others[i, 2]
                    d = x * x + y * y + z * z
                    if d < best:
                        best, at = d, j
                    if d < radius2:
                        w = 1.0 - d / radius2
                        w *= w
                        sw += w
                        sh += w * (x * normals[i, 0] + y * normals[i, 1] + z * normals[i, 2])
                        sr, sg, sb = sr + w * colors[j, 0], sg + w * colors[j, 1], sb + w * colors[j, 2]
            nearest[i], which[i] = np.sqrt(best), at
            if sw > 0:
                over[i] = sh / sw
                color[i, 0], color[i, 1], color[i, 2] = sr / sw + 0.5, sg / sw + 0.5, sb / sw + 0.5
            elif at >= 0:
                color[i, 0], color[i, 1], color[i, 2] = colors[at, 0], colors[at, 1], colors[at, 2]


def vertex_normals(vertices, faces, given=None):
    """Unit normals (n, 3) float32 of vertices: those given where they are not zero, else of their triangles by area."""
    out = np.zeros((len(vertices), 3))
    for k in range(0, len(faces), PART):
        some = faces[k : k + PART]
        T = vertices[some]
        n = np.cross(T[:, 1] - T[:, 0], T[:, 2] - T[:, 0])
        for c in range(3):
            out[:, c] += np.bincount(some.ravel(), np.repeat(n[:, c], 3), len(vertices))
    out /= np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-30)
    if given is None:
        return out.astype(np.float32)
    return np.where((given != 0).any(1)[:, None], given, out).astype(np.float32)


def measured(vertices, faces, normals, cloud, spacing):
    """The Surface of a mesh over a cloud: normals where none are given (zero), colors, support, deviation, photos."""
    near, radius = 4.0 * spacing, 1.5 * spacing
    points = np.asarray(vertices, np.float32)
    n = len(points)
    normals = vertex_normals(vertices, faces, normals)
    colors = cloud.get("colors", np.full((len(cloud["points"]), 3), 200, np.uint8))
    support, over = np.full(n, np.inf, np.float32), np.full(n, np.nan, np.float32)
    shade, which = np.full((n, 3), 128, np.uint8), np.full(n, -1, np.int32)
    frame = frame_round(cloud["points"], near)
    x, edges = cloud["points"][:, 0], np.quantile(points[:, 0], np.linspace(0, 1, -(-n // PART) + 1))
    for a, b in pairwise(edges):
        # the same cells as those of the whole cloud: what is measured does not depend on where parts end
        mine = np.flatnonzero((points[:, 0] >= a) & ((points[:, 0] < b) | (b == edges[-1])))
        rows = np.flatnonzero((x > a - 3 * frame.width) & (x < b + 3 * frame.width))
        if not len(mine) or not len(rows):
            continue
        g = sort_into_grid(cloud["points"][rows], frame=frame)
        where, begin, order = cells_of(points[mine], g)
        m = len(mine)
        some = [np.empty(m, np.float32), np.full((m, 3), 128, np.uint8), np.full(m, np.nan, np.float32), np.full(m, -1)]
        asked = (gathered(points[mine], order), where, begin, g.shape)
        in_threads(
            _about, len(where), g.cells, asked, gathered(normals[mine], order), gathered(colors[rows], g.order),
            np.float32(radius**2), *some,
        )  # fmt: skip
        order = mine[order]
        support[order], shade[order], over[order] = some[:3]
        which[order] = np.where(some[3] >= 0, rows[g.order[some[3]]], -1)
    # a vertex beyond the grid's border was looked up in the cells next to it
    far = np.flatnonzero(~(support <= near))
    if len(far):
        rows = np.arange(0, len(cloud["points"]), max(1, len(cloud["points"]) // FAR_SAMPLE))
        d, k = scipy.spatial.cKDTree(cloud["points"][rows]).query(points[far], workers=-1)
        support[far], shade[far] = d, colors[rows[k]]
        which[far] = -1
    photos = np.zeros(n, np.uint8)
    if "photos" in cloud:
        on = which >= 0
        photos[on] = np.minimum(cloud["photos"][which[on]], 255)
    return Surface(
        points, normals, np.ascontiguousarray(faces, np.int32), shade, support, over, photos, np.zeros(n, bool)
    )
