"""Fusion: depth maps into one cloud of points that several photos agree on.

A pixel's point is looked up in the neighbors' maps; where their depth says the same and leads back
to the same pixel, the points are one place and are averaged. What too few photos confirm is left
out, and what others see through, which removes most of what is wrong in single maps (after Merrell et al. 2007).

What is called for every pixel is inlined: counting references to its arrays would take a third of the time.
"""

from dataclasses import dataclass, fields
from typing import NamedTuple

import numpy as np
from numba import njit

from ..cloud.filters import thin_by_spacing
from ..cloud.grid import spacing_of
from ..imaging.sharpness import CELL
from .held import LEAST_NOISE, STEPS, Places

AGAINST = 0.5  #: photos that see through a place for each that confirms it, from which on it is left out
SURE_SLACK = 0.1  #: they count where their patches look alike up to this much less than those of the place
SHINE, SHINE_LEVELS = 1.12, 8.0  #: a photo so much brighter than most of a place, and by gray levels, mirrors a lamp
EXPECTED = 3  #: so many photos' disagreement is what is usual in the cloud counts for beside a point's own
FAR_APART = 4.0  #: squares of a disagreement count up to so many times what is expected: mistakes are no noise
#: of the deviation of a point: its photos' maps look at the same photos, and what these have in common keeps them from
#: being as far apart as they are wrong. Measured: 1.1 to 1.4 on spheres and planes, 2.1 on the demo
SHARED = 1.65
ROOM = 300e6  #: bytes of maps that are kept in memory though not needed at the moment
SLACK, FULL = 1.15, 0.9  #: so many times the points that may be, they are thinned, to such a share of these
PACKED = 0.75  #: distance to which points are thinned, in spacings of as many that are spread evenly


@dataclass
class Cloud:
    """A dense cloud.

    Attributes
    ----------
    points, normals : (n, 3) float32
    colors : (n, 3) uint8
    photos : (n,) uint8
        How many photos agree on the point.
    score : (n,) float32
        Mean patch correlation, 0 to 1.
    precision : (n,) float32
        Expected standard deviation across the surface, in the unit of the points.
    angle : (n,) uint8
        Largest angle between the rays of the agreeing photos, degrees.
    """

    points: np.ndarray
    normals: np.ndarray
    colors: np.ndarray
    photos: np.ndarray
    score: np.ndarray
    precision: np.ndarray
    angle: np.ndarray

    def __len__(self):
        return len(self.points)

    def take(self, keep):
        """The points a mask or index array chooses."""
        return Cloud(**{k: v[keep] for k, v in self.arrays().items()})

    def arrays(self):
        """The arrays by name, as they are stored."""
        return {f.name: getattr(self, f.name) for f in fields(self)}


class Agreement(NamedTuple):
    """When places of several depth maps count as one.

    Attributes
    ----------
    least : int
        Least number of photos that agree, the one that is looked at included.
    min_score : float
        Least patch correlation of a pixel that counts.
    sure_score : float
        One photo less is enough where patches look at least so much alike; over 1: never.
    depth_tolerance : float
        Largest relative difference of depth.
    back_px : float
        Largest distance of the way there and back.
    least_cos : float
        Least cosine between the normals.
    color_tolerance : float
        Largest difference of any of the three colors, of 255.
    """

    least: int = 3
    min_score: float = 0.5
    sure_score: float = 2.0
    depth_tolerance: float = 0.006
    back_px: float = 1.2
    least_cos: float = 0.5
    color_tolerance: float = np.inf


#: room for the points of one photo: the arrays of a `Cloud`, as a tuple that a kernel takes
_Points = NamedTuple("_Points", [(f.name, np.ndarray) for f in fields(Cloud)])


@njit(cache=True, nogil=True, error_model="numpy")
def _place(K, E, j, u, v, d):
    """Where a pixel of photo j with a depth is in the world."""
    x = (u - K[j, 1]) / K[j, 0] * d - E[j, 0, 3]
    y = (v - K[j, 2]) / K[j, 0] * d - E[j, 1, 3]
    z = d - E[j, 2, 3]
    return (
        E[j, 0, 0] * x + E[j, 1, 0] * y + E[j, 2, 0] * z,
        E[j, 0, 1] * x + E[j, 1, 1] * y + E[j, 2, 1] * z,
        E[j, 0, 2] * x + E[j, 1, 2] * y + E[j, 2, 2] * z,
    )


@njit(cache=True, nogil=True, error_model="numpy")
def _project(K, E, j, X, Y, Z):
    """Pixel and depth of a place in photo j; where the depth is not positive the pixel means nothing."""
    z = E[j, 2, 0] * X + E[j, 2, 1] * Y + E[j, 2, 2] * Z + E[j, 2, 3]
    if z <= 0:
        return 0.0, 0.0, z
    x = E[j, 0, 0] * X + E[j, 0, 1] * Y + E[j, 0, 2] * Z + E[j, 0, 3]
    y = E[j, 1, 0] * X + E[j, 1, 1] * Y + E[j, 1, 2] * Z + E[j, 1, 3]
    return K[j, 0] * x / z + K[j, 1], K[j, 0] * y / z + K[j, 2], z


@njit(cache=True, nogil=True, error_model="numpy")
def _normal(normal, one, E, j, u, v):
    """The normal of a pixel in the world."""
    a, b, c = normal[j, v, u, 0] * one, normal[j, v, u, 1] * one, normal[j, v, u, 2] * one
    return (
        E[j, 0, 0] * a + E[j, 1, 0] * b + E[j, 2, 0] * c,
        E[j, 0, 1] * a + E[j, 1, 1] * b + E[j, 2, 1] * c,
        E[j, 0, 2] * a + E[j, 1, 2] * b + E[j, 2, 2] * c,
    )


@njit(cache=True, nogil=True, error_model="numpy")
def _ray(normal, one, K, E, j, u, v):
    """The direction of a pixel in the world, its length before it was made 1, and how much it faces the surface."""
    qu, qv = (u - K[j, 1]) / K[j, 0], (v - K[j, 2]) / K[j, 0]
    length = np.sqrt(qu * qu + qv * qv + 1.0)
    a, b, c = normal[j, v, u, 0] * one, normal[j, v, u, 1] * one, normal[j, v, u, 2] * one
    facing = max(-(a * qu + b * qv + c) / length, 0.05)
    return (
        (E[j, 0, 0] * qu + E[j, 1, 0] * qv + E[j, 2, 0]) / length,
        (E[j, 0, 1] * qu + E[j, 1, 1] * qv + E[j, 2, 1]) / length,
        (E[j, 0, 2] * qu + E[j, 1, 2] * qv + E[j, 2, 2]) / length,
        length,
        facing,
    )


@njit(cache=True, nogil=True, error_model="numpy", inline="always")
def _agreeing(i, x, y, others, maps, limits, seen, found):
    """Which photos have the place of a pixel too, and how many see through it.

    Of each, that of this pixel first: `seen` (m, 3) receives photo, column and row, `found` (m, 6) the place there and
    the normal. Returns how many rows are filled, and how many photos see through.
    """
    depth, normal, score, _, rgb, K, E, gain, _, one, one_score = maps
    d, tolerance = depth[i, y, x], limits.depth_tolerance
    X, Y, Z = _place(K, E, i, x, y, d)
    nx, ny, nz = _normal(normal, one, E, i, x, y)
    own = score[i, y, x] * one_score
    # a photo sees through where it shows something behind this place, and its patch looks alike nearly as much
    sure = max(limits.min_score, own - SURE_SLACK)
    back = limits.back_px * limits.back_px
    _, h, w = depth.shape
    red, green, blue = gain[i] * rgb[i, y, x, 0], gain[i] * rgb[i, y, x, 1], gain[i] * rgb[i, y, x, 2]
    seen[0, 0], seen[0, 1], seen[0, 2] = i, x, y
    found[0, 0], found[0, 1], found[0, 2], found[0, 3], found[0, 4], found[0, 5] = X, Y, Z, nx, ny, nz
    count, through = 1, 0
    for k in range(others.shape[0]):
        j = others[k]
        pu, pv, z = _project(K, E, j, X, Y, Z)
        if z <= 0:
            continue
        u, v = int(np.round(pu)), int(np.round(pv))
        if u < 0 or v < 0 or u >= w or v >= h:
            continue
        # what lies just outside the keep box counts as well: the mean shows on which side the place is
        e, likeness = abs(depth[j, v, u]), score[j, v, u] * one_score
        if e > (1.0 + tolerance) * z and likeness >= sure:
            through += 1
        if e <= 0 or likeness < limits.min_score or abs(e - z) > tolerance * z:
            continue
        # that pixel's own place, and where it falls in this photo
        A, B, C = _place(K, E, j, u, v, e)
        bu, bv, bz = _project(K, E, i, A, B, C)
        if bz <= 0 or (bu - x) * (bu - x) + (bv - y) * (bv - y) > back:
            continue
        a, b, c = _normal(normal, one, E, j, u, v)
        if a * nx + b * ny + c * nz < limits.least_cos:
            continue
        differs = max(abs(gain[j] * rgb[j, v, u, 0] - red), abs(gain[j] * rgb[j, v, u, 1] - green))
        if max(differs, abs(gain[j] * rgb[j, v, u, 2] - blue)) > limits.color_tolerance:
            continue
        seen[count, 0], seen[count, 1], seen[count, 2] = j, u, v
        found[count, 0], found[count, 1], found[count, 2] = A, B, C
        found[count, 3], found[count, 4], found[count, 5] = a, b, c
        count += 1
    return count, through


@njit(cache=True, nogil=True, error_model="numpy", inline="always")
def _shine(rgb, gain, seen, found, count):
    """How bright a photo may show a place, from what most do: brighter is a highlight. Fills `found` [:, 6]."""
    for k in range(count):
        j, u, v = seen[k, 0], seen[k, 1], seen[k, 2]
        found[k, 6] = gain[j] * (0.3 * rgb[j, v, u, 0] + 0.6 * rgb[j, v, u, 1] + 0.1 * rgb[j, v, u, 2])
    if count < 3:
        return np.inf
    for k in range(count):
        below = 0
        for m in range(count):
            below += found[m, 6] < found[k, 6] or (found[m, 6] == found[k, 6] and m < k)
        if below == (count - 1) // 2:
            return SHINE * found[k, 6] + SHINE_LEVELS
    return np.inf


@njit(cache=True, nogil=True, error_model="numpy", inline="always")
def _merge(maps, seen, found, count, at, out, apart):
    """The point of the pixels that see a place, as row `at` of `out`; returns how much alike their patches look.

    What is near and seen from the front counts most.
    """
    depth, normal, score, noise, rgb, K, E, gain, quality, one, one_score = maps
    nx = ny = nz = red = green = blue = alike = 0.0
    weight = color_weight = sure = off = off2 = 0.0
    narrow, ox, oy, oz = 1.0, 0.0, 0.0, 0.0
    shine = _shine(rgb, gain, seen, found, count)
    for k in range(count):
        j, u, v = seen[k, 0], seen[k, 1], seen[k, 2]
        e = abs(depth[j, v, u])
        rx, ry, rz, length, facing = _ray(normal, one, K, E, j, u, v)
        if k == 0:
            ox, oy, oz = rx, ry, rz
        # where the surface that this photo sees meets the first one's ray: its own pixel lies beside that
        a, b, c = found[k, 3], found[k, 4], found[k, 5]
        slope = a * ox + b * oy + c * oz
        t = 0.0
        if slope < -0.1:
            t = a * (found[k, 0] - found[0, 0]) + b * (found[k, 1] - found[0, 1]) + c * (found[k, 2] - found[0, 2])
            t /= slope
        across = LEAST_NOISE * 2.0 ** (noise[j, v, u] / STEPS) * e * length * facing
        s = 1.0 / (across * across)
        sure, off, off2 = sure + s, off + s * t, off2 + s * t * t
        w = facing / (e * e)
        nx, ny, nz = nx + a * w, ny + b * w, nz + c * w
        alike += score[j, v, u] * one_score * w
        weight += w
        # colors: those of photos that are sharp there, that look from the front, and that no lamp is mirrored in
        w *= facing * quality[j, v // CELL, u // CELL] * (found[k, 6] <= shine)
        red += gain[j] * rgb[j, v, u, 0] * w
        green += gain[j] * rgb[j, v, u, 1] * w
        blue += gain[j] * rgb[j, v, u, 2] * w
        color_weight += w
        narrow = min(narrow, ox * rx + oy * ry + oz * rz)
    long = 1.0 / max(np.sqrt(nx * nx + ny * ny + nz * nz), 1e-30)
    nx, ny, nz = nx * long, ny * long, nz * long
    points, normals, colors, photos, likeness, precision, angle = out
    t = off / sure
    points[at, 0], points[at, 1], points[at, 2] = found[0, 0] + t * ox, found[0, 1] + t * oy, found[0, 2] + t * oz
    normals[at, 0], normals[at, 1], normals[at, 2] = nx, ny, nz
    colors[at, 0] = np.uint8(min(red / color_weight + 0.5, 255.0))
    colors[at, 1] = np.uint8(min(green / color_weight + 0.5, 255.0))
    colors[at, 2] = np.uint8(min(blue / color_weight + 0.5, 255.0))
    photos[at] = count
    likeness[at] = alike / weight
    # photos that disagree by more than their textures say are trusted less, by so much
    facing = max(abs(ox * nx + oy * ny + oz * nz), 0.1)
    apart[at] = max(off2 / sure - t * t, 0.0) * facing * facing * sure
    precision[at] = np.sqrt(1.0 / sure)
    angle[at] = np.uint8(min(np.degrees(np.arccos(min(max(narrow, -1.0), 1.0))), 255.0))
    return alike / weight


@njit(cache=True, nogil=True, error_model="numpy")
def _fuse_photo(i, others, maps, limits, used, agreed, out, apart):
    """Points begun at the pixels of photo i; returns how many rows of `out` they fill."""
    _, h, w = maps.depth.shape
    seen, found = np.empty((others.shape[0] + 1, 3), np.int64), np.empty((others.shape[0] + 1, 7))
    made = 0
    for y in range(h):
        for x in range(w):
            if maps.depth[i, y, x] <= 0 or used[i, y, x] or maps.score[i, y, x] * maps.one_score < limits.min_score:
                continue
            count, through = _agreeing(i, x, y, others, maps, limits, seen, found)
            if through > AGAINST * (count - 1):
                continue
            likeness = _merge(maps, seen, found, count, made, out, apart)
            alike = count > 1 and likeness >= limits.sure_score
            # a place that is left out is met again from each of its photos, one that is kept is not
            few = count < limits.least and not (count + 1 == limits.least and alike)
            share = 1.0 / count if few else 1.0
            agreed[0, min(count, 63)] += share
            if alike:
                agreed[1, min(count, 63)] += share
            if few:
                continue
            for k in range(count):
                used[seen[k, 0], seen[k, 2], seen[k, 1]] = True
            made += 1
    return made


def fuse(maps, neighbors, limits=Agreement(), *, agreed=None, wanted=None, most=0, room=ROOM, progress=None):
    """Merge depth maps. Only a photo and its neighbors need be in memory.

    Parameters
    ----------
    maps : Maps
    neighbors : list of lists of int
        Whose maps are asked about each photo's pixels.
    limits : Agreement
    agreed : (2, 64) float64, optional
        Is filled with how many places so many photos agree on, also those left out; second, of those the ones whose
        patches look alike as `limits.sure_score` asks.
    wanted : callable(points) -> (n,) bool, optional
        Which points stay.
    most : int
        Points there may be: beyond, they are thinned to an even distance. 0 for no bound.
    room : float
        Bytes that maps may take which are not needed at the moment, so that they need not be read again.
    progress : callable(photo, photos) -> None, optional
        Called before each photo; may raise to cancel.

    Returns
    -------
    Cloud, Fused
    """
    n = len(maps)
    agreed = np.zeros((2, 64)) if agreed is None else agreed
    limits = Agreement(int(limits.least), *map(float, limits[1:]))  # one type for the kernel, whatever was given
    held = Places(maps, 1 + max((len(x) for x in neighbors), default=0), room)
    gathered = _Gathered(most)
    for i in range(n):
        if progress:
            progress(i, n)
        if not neighbors[i]:
            continue
        places = held.of([i, *neighbors[i]], i)
        at = int(places[0])
        pixels = int((held.held.depth[at] > 0).sum())
        if not pixels:
            continue
        out, apart = _room(pixels), np.empty(pixels, np.float32)
        made = _fuse_photo(at, places[1:], held.held, limits, held.used, agreed, out, apart)
        gathered.add(Cloud(*(a[:made] for a in out)), apart[:made], wanted)
    held.close()
    return gathered.cloud()


class Fused(NamedTuple):
    """How many points there were before any was left out, and how far apart they are where there were too many."""

    made: int
    distance: float  #: 0 where they were not thinned


class _Gathered:
    """Points of one photo after the other, thinned where they become too many."""

    def __init__(self, most):
        self.most, self.parts, self.apart, self.count = most, [], [], 0
        self.distance, self.made = 0.0, 0
        self.told = self.off = 0.0

    def add(self, cloud, apart, wanted):
        free = cloud.photos - 1.0
        self.made += len(cloud)
        self.told += free.sum()
        self.off += np.minimum(apart, FAR_APART * free).sum()
        on = np.ones(len(cloud), bool) if wanted is None else wanted(cloud.points)
        self.parts.append(cloud.take(on))  # which are copies: the room of a photo's points is larger
        self.apart.append(apart[on])
        self.count += len(self.parts[-1])
        if self.most and self.count > SLACK * self.most:
            self._thin()

    def _joined(self):
        """The parts as one; each array's parts are let go as soon as it is whole."""
        names = [f.name for f in fields(Cloud)]
        parts = [list(x) for x in zip(*([getattr(p, k) for k in names] for p in self.parts), strict=True)]
        empty, self.parts = [a[:0] for a in _room(0)], []
        whole = []
        for k in range(len(names)):
            whole.append(np.concatenate([empty[k], *(parts[k] if parts else ())]))
            if parts:
                parts[k] = None
        apart = np.concatenate([np.empty(0, np.float32), *self.apart])
        self.apart = []
        return Cloud(*whole), apart

    def _thin(self):
        cloud, apart = self._joined()
        while True:
            if self.distance:  # what was added since the last time is as dense as ever
                on = thin_by_spacing(cloud.points, self.distance)
                for f in fields(Cloud):  # one after the other: two clouds would be twice the memory
                    setattr(cloud, f.name, getattr(cloud, f.name)[on])
                apart = apart[on]
            if len(cloud) <= self.most:
                break
            near = max(spacing_of(cloud.points), self.distance)
            self.distance = PACKED * near * np.sqrt(len(cloud) / (FULL * self.most))
        self.parts, self.apart, self.count = [cloud], [apart], len(cloud)

    def cloud(self):
        """The Cloud, with the precision that its photos' disagreement leaves."""
        if self.distance or (self.most and self.count > self.most):
            self._thin()
        cloud, apart = self._joined()
        cloud.precision *= _disagreement(apart, cloud.photos - 1.0, self.off / self.told if self.told > 100 else 1.0)
        return cloud, Fused(self.made, self.distance)


def _disagreement(apart, free, usual):
    """By how much points are less sure than their textures say (n,): from how far their photos' depths are apart.

    apart : (n,) squares of it, each in the standard deviations that are stated; free : (n,) what these add up to where
    they are right; usual : the quotient of both all over the cloud. Noise that neighboring pixels share and errors of
    poses make it more there; the rest is a point's own, told by its few photos as far as they can.
    """
    return (SHARED * np.sqrt((EXPECTED * usual + apart) / (EXPECTED + free))).astype(np.float32)


def _room(n):
    """Room for n points."""
    return _Points(
        np.empty((n, 3), np.float32), np.empty((n, 3), np.float32), np.empty((n, 3), np.uint8), np.empty(n, np.uint8),
        np.empty(n, np.float32), np.empty(n, np.float32), np.empty(n, np.uint8),
    )  # fmt: skip
