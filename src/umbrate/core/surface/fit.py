"""How far a place is from the surface that points round it tell of: a sphere fitted to points and their normals.

A plane through points of a curved surface lies on its inner side, by the curvature times the square of how far they
reach. A sphere does not: what is left is of fourth order, and of saddles and cylinders too the mean curvature is what a
round patch averages. The fit has a closed form, nine sums over the points (Guennebaud and Gross 2007, algebraic point
set surfaces, of points with normals). It is made where the place's foot is, not where the place is: so the same points
tell of all places over one spot. Points count by their own precision.

Where edges are to be kept, points whose normals or places do not go with the fit lose their weight, in a few rounds
(after Oztireli, Guennebaud and Gross 2009).
"""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numba import njit

from ..cloud.grid import Cells, frame_round, gathered, in_threads, sort_into_grid

ROUNDS, EDGE_ROUNDS = 2, 4
TURNED = 0.45  #: of two unit normals: so far apart they are of another side of an edge, one standard deviation
OFF = 0.5  #: in spacings: so far off the fit a point is of another side of an edge
BACKWARD = -0.3  #: cosine: normals turned farther away than this are of another sheet
FEW, ENOUGH = 0.2, 0.5  #: of the points that there are where they are as dense as usual: too few for a fit, enough
ASIDE, FAR_ASIDE = 0.27, 0.5  #: in radii: how far the middle of the points is from the foot at a rim, and beyond one

BESIDE, FAR_BESIDE = 1.2, 2.0  #: in spacings: how far the nearest point may be off the place's normal, and is at a rim

UNLIKE, ALIKE = 0.3, 0.7  #: mean cosine of normals: from where a coarse level tells of a surface finer than itself

ROUGH, TOO_ROUGH = 0.3, 0.7  #: cells: points that lie so far off their fit are better averaged over more of them


class Samples(NamedTuple):
    """Points as the kernels take them: the cells, and normals and weights in the cells' order."""

    cells: Cells
    normals: np.ndarray
    weights: np.ndarray
    low: np.ndarray
    inverse: float


class How(NamedTuple):
    """What a fit is made with: how far points count, how far the nearest may be, spacing, whether edges stay; and
    whether points stand for many, of which what lies within the fit may be finer."""

    radius: float
    reach: float
    spacing: float
    cell: float
    edges: bool
    coarse: bool = False


@njit(cache=True, nogil=True)
def _columns(s, x, y, z, lo, hi):
    """Runs of sorted points, lo and hi (9,), in the 27 cells round a place."""
    shape, key, start = s.cells.shape, s.cells.key, s.cells.start
    i = min(max(np.int64((x - s.low[0]) * s.inverse), 1), shape[0] - 2)
    j = min(max(np.int64((y - s.low[1]) * s.inverse), 1), shape[1] - 2)
    k = min(max(np.int64((z - s.low[2]) * s.inverse), 1), shape[2] - 2)
    for c in range(9):
        first = ((i + c // 3 - 1) * shape[1] + j + c % 3 - 1) * shape[2] + k - 1
        at = np.searchsorted(key, first)
        end = at
        while end < key.shape[0] and key[end] <= first + 2:
            end += 1
        lo[c], hi[c] = start[at], start[end]


@njit(cache=True, nogil=True)
def _nearest(s, x, y, z, lo, hi):
    """The sorted point nearest to a place among runs, and the square of its distance; -1 without any."""
    best, which = np.float32(np.inf), -1
    points = s.cells.points
    for c in range(9):
        for i in range(lo[c], hi[c]):
            a, b, e = points[i, 0] - x, points[i, 1] - y, points[i, 2] - z
            d = a * a + b * b + e * e
            if d < best:
                best, which = d, i
    return which, best


@njit(cache=True, nogil=True)
def _sphere(s, q, m, fit, how, lo, hi):
    """Fit a sphere to the points round q (3,) that go with normal m (3,) and, where edges stay, with the last fit.

    fit (9,) : u0, u1 to u3, u4 of ``u0 + u . y + u4 y . y``, y from q, not normed; then how many points hold it and how
    far their middle is aside. Edges weigh by the fit that is in there, where its last value is positive.
    """
    points, normals, weights = s.cells.points, s.normals, s.weights
    inner = np.float32(1.0 / (how.radius * how.radius))
    sw = sx = sy = sz = sa = sb = sc = spn = spp = 0.0
    held = every = alike = ox = oy = oz = 0.0
    before, uneven = fit[7] > 0, 0.0
    slope = np.sqrt(fit[1] ** 2 + fit[2] ** 2 + fit[3] ** 2) if before else 1.0
    for c in range(9):
        for i in range(lo[c], hi[c]):
            x, y, z = points[i, 0] - q[0], points[i, 1] - q[1], points[i, 2] - q[2]
            d2 = x * x + y * y + z * z
            t = np.float32(1.0) - d2 * inner
            if t <= 0:
                continue
            a, b, e = normals[i, 0], normals[i, 1], normals[i, 2]
            same = a * m[0] + b * m[1] + e * m[2]
            w = t * t * t
            every += w
            alike += w * same
            if same < BACKWARD:
                continue
            held += w
            ox, oy, oz = ox + w * x, oy + w * y, oz + w * z
            if before:
                off = (fit[0] + fit[1] * x + fit[2] * y + fit[3] * z + fit[4] * d2) / slope
                uneven += w * off * off
            if how.edges:
                w *= np.exp((same - 1.0) / (TURNED * TURNED))  # 2 - 2 cos is the square of how far they are apart
                if before:
                    w *= np.exp(-0.5 * (off / (OFF * how.spacing)) ** 2)
            else:
                w *= min((same - BACKWARD) / (1.0 - BACKWARD), 1.0)
            w *= weights[i]
            sw += w
            sx, sy, sz = sx + w * x, sy + w * y, sz + w * z
            sa, sb, sc = sa + w * a, sb + w * b, sc + w * e
            spn += w * (x * a + y * b + z * e)
            spp += w * d2
    fit[5] = held
    fit[6] = np.sqrt(ox * ox + oy * oy + oz * oz) / max(held * how.radius, 1e-30)
    fit[7] = sw
    fit[8] = alike / max(every, 1e-30)
    fit[9] = np.sqrt(uneven / max(held, 1e-30))
    if sw <= 1e-12:
        return
    spread = spp - (sx * sx + sy * sy + sz * sz) / sw
    u4 = 0.0
    if spread > 1e-6 * sw * how.radius**2:
        u4 = 0.5 * (spn - (sx * sa + sy * sb + sz * sc) / sw) / spread
    fit[1], fit[2], fit[3] = (sa - 2 * u4 * sx) / sw, (sb - 2 * u4 * sy) / sw, (sc - 2 * u4 * sz) / sw
    fit[0] = -(fit[1] * sx + fit[2] * sy + fit[3] * sz + u4 * spp) / sw
    fit[4] = u4


@njit(cache=True, nogil=True)
def _smoothstep(x, low, high):
    t = min(max((x - low) / (high - low), 0.0), 1.0)
    return t * t * (3.0 - 2.0 * t)


@njit(cache=True, nogil=True)
def distances(s, places, how, distance, normal, sure, first, last):
    """Signed distances of some places (n, 3) to the surface, its normal there, and how well points hold it, 0 to 1."""
    lo, hi = np.empty(9, np.int64), np.empty(9, np.int64)
    full = np.pi / 4 * (how.radius / how.spacing) ** 2  # the weights of points spread evenly over a disk
    q, m, g, fit = np.empty(3), np.empty(3), np.empty(3), np.empty(10)
    for p in range(first, last):
        x, y, z = places[p, 0], places[p, 1], places[p, 2]
        distance[p], sure[p] = np.float32(0), np.float32(0)
        for k in range(3):
            normal[p, k] = np.float32(0)
        _columns(s, x, y, z, lo, hi)
        near, away = _nearest(s, x, y, z, lo, hi)
        if near < 0 or away > how.reach**2:
            continue
        for k in range(3):
            m[k] = s.normals[near, k]
        h = (x - s.cells.points[near, 0]) * m[0] + (y - s.cells.points[near, 1]) * m[1]
        h += (z - s.cells.points[near, 2]) * m[2]
        # where a surface goes on, the nearest point stands on the place's normal, but for how far points are apart
        beside = np.sqrt(max(away - h * h, 0.0)) / how.spacing
        fit[7] = 0.0
        d, good = h, False
        d0, m0, m1, m2 = h, m[0], m[1], m[2]
        for _ in range(EDGE_ROUNDS if how.edges else ROUNDS):
            q[0], q[1], q[2] = x - d * m[0], y - d * m[1], z - d * m[2]
            _columns(s, q[0], q[1], q[2], lo, hi)
            if fit[7] > 0:  # the last fit was made round another foot
                a, b, e = d0 * m0 - d * m[0], d0 * m1 - d * m[1], d0 * m2 - d * m[2]
                fit[0] += fit[1] * a + fit[2] * b + fit[3] * e + fit[4] * (a * a + b * b + e * e)
                for k, c in enumerate((a, b, e)):
                    fit[1 + k] += 2 * fit[4] * c
            _sphere(s, q, m, fit, how, lo, hi)
            if fit[7] <= 1e-12:
                break
            d0, m0, m1, m2 = d, m[0], m[1], m[2]
            a, b, e = d * m[0], d * m[1], d * m[2]
            u = fit[0] + fit[1] * a + fit[2] * b + fit[3] * e + fit[4] * (a * a + b * b + e * e)
            for k, c in enumerate((a, b, e)):
                g[k] = fit[1 + k] + 2 * fit[4] * c
            size = np.sqrt(g[0] ** 2 + g[1] ** 2 + g[2] ** 2)
            root = fit[1] ** 2 + fit[2] ** 2 + fit[3] ** 2 - 4 * fit[0] * fit[4]
            if size < 0.1 or root <= 0:
                break  # normals that cancel each other tell of no surface
            d = 2 * u / (size + np.sqrt(root))
            if abs(d) > 2 * how.reach:
                break
            good = True
            for k in range(3):
                m[k] = g[k] / size
        if not good:
            continue
        distance[p] = d
        for k in range(3):
            normal[p, k] = m[k]
        held = _smoothstep(fit[5] / full, FEW, ENOUGH) * (1.0 - _smoothstep(fit[6], ASIDE, FAR_ASIDE))
        held *= 1.0 - _smoothstep(beside, BESIDE, FAR_BESIDE)
        held *= 1.0 - _smoothstep(fit[9] / how.cell, ROUGH, TOO_ROUGH)
        if how.coarse:
            held *= _smoothstep(fit[8], UNLIKE, ALIKE)
        sure[p] = held


@dataclass
class Fit:
    """Oriented points, and how a surface is fitted to them.

    Attributes
    ----------
    samples : Samples
    how : How
    """

    samples: Samples
    how: How

    @classmethod
    def to(cls, points, normals, weights, how, frame=None):
        """Of points (n, 3), unit normals (n, 3) and weights (n,), n > 0.

        frame : of `frame_for` all the points that these are a part of
        """
        g = sort_into_grid(points, frame=frame or cls.frame_for(points, how))
        n, w = gathered(np.asarray(normals, np.float32), g.order), np.asarray(weights, np.float32)[g.order]
        return cls(Samples(g.cells, n, w, g.low, np.float32(1.0 / g.width)), how)

    @staticmethod
    def frame_for(points, how):
        """The frame of the grid of points (n, 3)."""
        return frame_round(points, max(how.radius, how.reach))

    def at(self, places):
        """Signed distance (n,) of places (n, 3), the normal (n, 3) of the surface there, how well it is held (n,)."""
        places = np.ascontiguousarray(places, np.float32)
        n = len(places)
        distance, normal, sure = np.empty(n, np.float32), np.empty((n, 3), np.float32), np.empty(n, np.float32)
        in_threads(distances, n, self.samples, places, self.how, distance, normal, sure)
        return distance, normal, sure
