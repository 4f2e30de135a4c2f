"""The studio's objects, as signed distances and as paint, both functions of a place in millimetres.

A signed distance gives exact truth at any resolution: the renderer walks along rays with it, the
truth mesh is its zero level. Shapes are numbered because a compiled kernel cannot be handed a
Python function and stay cached.
"""

import numpy as np
from numba import njit

from .noise import fractal, specks, value_noise

WHISTLE, PEBBLE, BOWL, JUG, HANDLED = range(5)
#: how an object is painted: as its shape is, white all over, or the bowl with a motif painted four times, and that with
#: one small mark
OWN, WHITE, MOTIF, MARKED = range(4)
JUG_RINGS, JUG_RING = (22.0, 52.0, 66.0), 0.8  #: heights and half the width of the rings brushed round the jug, mm
MARK = (0.0, -38.5, 24.0)  #: where the mark is on the bowl
MARK_RADIUS = 3.5
HANDLE = 1.1  #: radius of the thin handle
#: half-size of a box round each shape: (center, half), millimetres
BOUNDS = {
    WHISTLE: (np.array([4.0, 0.0, 35.0]), np.array([52.0, 34.0, 40.0])),
    PEBBLE: (np.array([0.0, 0.0, 20.0]), np.array([36.0, 30.0, 24.0])),
    BOWL: (np.array([0.0, 0.0, 23.0]), np.array([54.0, 54.0, 26.0])),
    JUG: (np.array([10.0, 0.0, 48.0]), np.array([50.0, 40.0, 50.0])),
    HANDLED: (np.array([0.0, 0.0, 30.0]), np.array([36.0, 30.0, 34.0])),
}


@njit(cache=True, nogil=True, inline="always")
def _smooth_union(a, b, k):
    h = max(k - abs(a - b), 0.0) / k
    return min(a, b) - h * h * k * 0.25


@njit(cache=True, nogil=True, inline="always")
def _smooth_cut(a, b, k):
    """`a` without `b`."""
    h = max(k - abs(a + b), 0.0) / k
    return max(a, -b) + h * h * k * 0.25


@njit(cache=True, nogil=True, inline="always")
def _ellipsoid(x, y, z, a, b, c):
    k0 = np.sqrt((x / a) ** 2 + (y / b) ** 2 + (z / c) ** 2)
    k1 = np.sqrt((x / (a * a)) ** 2 + (y / (b * b)) ** 2 + (z / (c * c)) ** 2)
    if k1 < 1e-6:
        return -min(a, b, c)  # the center, where the estimate has no value
    return k0 * (k0 - 1.0) / k1


@njit(cache=True, nogil=True, inline="always")
def _rod(x, y, z, ax, ay, az, bx, by, bz, ra, rb):
    """A capsule whose radius runs from `ra` at a to `rb` at b."""
    ux, uy, uz = bx - ax, by - ay, bz - az
    px, py, pz = x - ax, y - ay, z - az
    t = (px * ux + py * uy + pz * uz) / (ux * ux + uy * uy + uz * uz)
    t = min(1.0, max(0.0, t))
    qx, qy, qz = px - t * ux, py - t * uy, pz - t * uz
    return np.sqrt(qx * qx + qy * qy + qz * qz) - (ra + t * (rb - ra))


@njit(cache=True, nogil=True)
def _whistle(x, y, z):
    s = abs(y)
    d = _ellipsoid(x + 1.0, y, z - 29.0, 32.0, 22.5, 24.0)
    # neck and head
    d = _smooth_union(d, _rod(x, y, z, 12.0, 0.0, 40.0, 24.0, 0.0, 54.0, 13.0, 11.0), 9.0)
    d = _smooth_union(d, _ellipsoid(x - 26.0, y, z - 56.5, 15.0, 12.5, 12.5), 5.0)
    d = _smooth_union(d, _rod(x, y, z, 36.0, 0.0, 57.0, 46.5, 0.0, 54.0, 5.5, 1.6), 4.0)
    # comb
    d = _smooth_union(d, _rod(x, y, z, 20.0, 0.0, 67.0, 32.0, 0.0, 68.0, 3.0, 2.0), 3.0)
    # tail: a flattened rod
    d = _smooth_union(
        d, 0.75 * _rod(x, y * 0.55, (z + 0.2 * x) * 1.25 - 4.0, -20.0, 0.0, 38.0, -38.0, 0.0, 50.0, 8.0, 6.0), 7.0
    )
    # mouthpiece under the tail
    d = _smooth_union(d, _rod(x, y, z, -20.0, 0.0, 22.0, -37.0, 0.0, 17.5, 8.0, 6.2), 4.0)
    # wings, with feather grooves
    wing = _ellipsoid(x + 5.0 + 0.35 * (z - 32.0), s - 21.0, z - 32.0 - 0.18 * x, 20.0, 4.6, 11.5)
    wing += 0.45 * np.sin(0.75 * (x + 0.8 * z)) * max(0.0, 1.0 - abs(wing) / 4.0)
    d = _smooth_union(d, wing, 2.5)
    d = _smooth_union(d, np.sqrt((x - 31.5) ** 2 + (s - 10.4) ** 2 + (z - 60.0) ** 2) - 2.7, 1.0)
    # foot ring
    r = np.sqrt((x + 1.0) ** 2 + y * y)
    foot = np.sqrt(max(r - 15.0, 0.0) ** 2 + max(abs(z - 5.0) - 3.0, 0.0) ** 2) - 2.0
    d = _smooth_union(d, foot, 4.0)
    # finger holes, blow hole, sounding window
    d = _smooth_cut(d, _rod(x, s, z, -5.0, 5.0, 40.0, -8.0, 13.0, 64.0, 2.8, 2.8), 1.2)
    d = _smooth_cut(d, _rod(x, y, z, 18.0, 0.0, 26.0, 42.0, 0.0, 24.0, 3.2, 3.2), 1.2)
    d = _smooth_cut(d, _rod(x, y, z, -52.0, 0.0, 14.0, -24.0, 0.0, 21.0, 2.3, 2.3), 0.8)
    d = _smooth_cut(d, _rod(x, s, z, -27.0, 0.0, 10.0, -27.0, 3.5, 10.0, 2.2, 2.2), 0.8)
    if abs(d) < 2.5:
        # a hand-made surface
        d += 0.30 * value_noise(x / 9.0, y / 9.0, z / 9.0, 3) + 0.07 * value_noise(x / 2.2, y / 2.2, z / 2.2, 5)
    return d


@njit(cache=True, nogil=True)
def _pebble(x, y, z):
    d = _smooth_union(
        _ellipsoid(x, y, z - 18.0, 30.0, 24.0, 18.0),
        np.sqrt((x - 14.0) ** 2 + (y + 4.0) ** 2 + (z - 30.0) ** 2) - 11.0,
        8.0,
    )
    return d + 0.8 * value_noise(x / 12.0, y / 12.0, z / 12.0, 21)


@njit(cache=True, nogil=True)
def _bowl(x, y, z):
    """A bowl with four equal handles: turned by 90 degrees it is the same."""
    a, b = max(abs(x), abs(y)), min(abs(x), abs(y))
    d = _ellipsoid(x, y, z - 44.0, 40.0, 40.0, 40.0)
    d = max(d, z - 42.0)
    r = np.sqrt(x * x + y * y)
    d = _smooth_union(d, np.sqrt((r - 16.0) ** 2 + (z - 4.0) ** 2) - 3.0, 4.0)
    d = _smooth_cut(d, _ellipsoid(x, y, z - 46.0, 36.0, 36.0, 36.0), 1.5)
    # a handle: a ring that stands out from the wall
    q = np.sqrt((a - 41.0) ** 2 + (z - 32.0) ** 2) - 7.5
    return _smooth_union(d, np.sqrt(q * q + b * b) - 2.4, 2.0)


@njit(cache=True, nogil=True)
def _jug(x, y, z):
    """A jug of 96 mm with a handle."""
    d = _ellipsoid(x, y, z - 36.0, 35.0, 35.0, 40.0)
    d = _smooth_union(d, _rod(x, y, z, 0.0, 0.0, 62.0, 0.0, 0.0, 112.0, 19.0, 25.0), 12.0)
    r = np.sqrt(x * x + y * y)
    d = _smooth_union(d, np.sqrt((r - 21.0) ** 2 + (z - 3.5) ** 2) - 3.5, 4.0)
    q = np.sqrt((x - 32.0) ** 2 + (z - 62.0) ** 2) - 20.0
    d = _smooth_union(d, np.sqrt(q * q + y * y) - 4.0, 4.0)
    d = _smooth_cut(d, _rod(x, y, z, 0.0, 0.0, 70.0, 0.0, 0.0, 112.0, 17.0, 22.0), 1.0)
    return max(d, z - 96.0, -z)


@njit(cache=True, nogil=True)
def _handled(x, y, z):
    """The pebble with a thin handle over it."""
    q = np.sqrt(x * x + (z - 34.0) ** 2) - 26.0
    return min(_pebble(x, y, z), np.sqrt(q * q + y * y) - HANDLE)


@njit(cache=True, nogil=True)
def distance(shape, x, y, z):
    """Signed distance in mm (a lower bound away from the surface), negative inside."""
    if shape == 0:
        return _whistle(x, y, z)
    if shape == 2:
        return _bowl(x, y, z)
    if shape == 3:
        return _jug(x, y, z)
    if shape == 4:
        return _handled(x, y, z)
    return _pebble(x, y, z)


@njit(cache=True, nogil=True)
def gradient(shape, x, y, z):
    """Gradient of `distance` by central differences."""
    e = 0.02
    return np.array(
        [
            (distance(shape, x + e, y, z) - distance(shape, x - e, y, z)) / (2 * e),
            (distance(shape, x, y + e, z) - distance(shape, x, y - e, z)) / (2 * e),
            (distance(shape, x, y, z + e) - distance(shape, x, y, z - e)) / (2 * e),
        ]
    )


@njit(cache=True, nogil=True)
def _slip(x, y, z):
    """Pale slip with a faint mottling and three thin rings brushed round."""
    f = 1.0 + 0.04 * fractal(x / 5.0, y / 5.0, z / 5.0, 3, 33) + 0.025 * value_noise(x / 1.2, y / 1.2, z / 1.2, 43)
    wobble = 0.5 * value_noise(x / 7.0, y / 7.0, z / 7.0, 73)
    for k in range(3):
        off = abs(z + wobble - JUG_RINGS[k])
        ring = min(1.0, max(0.0, (JUG_RING - off) / 0.3))
        f *= 1.0 - 0.55 * ring * (0.8 + 0.2 * value_noise(x / 2.0, y / 2.0, z / 2.0, 83))
    return 0.58 * f, 0.54 * f, 0.44 * f


@njit(cache=True, nogil=True)
def _motif(x, y, z, mark):
    """A strong motif that is the same on all four sides, to the last bit; `mark`: with a spot on one of them."""
    if mark:
        d = np.sqrt((x - MARK[0]) ** 2 + (y - MARK[1]) ** 2 + (z - MARK[2]) ** 2)
        if d < MARK_RADIUS:
            return 0.30, 0.07, 0.05
    # turned until it lies about the x axis
    for _ in range(3):
        if x < abs(y) or (x == -y):
            x, y = y, -x
    near, tag = specks(x / 4.0, y / 4.0, z / 4.0, 62)
    dark = min(1.0, max(0.0, (0.42 - near) / 0.06)) if tag > 0.35 else 0.0
    f = 1.0 + 0.12 * fractal(x / 3.0, y / 3.0, z / 3.0, 3, 42)
    r, g, b = 0.55 * f, 0.51 * f, 0.44 * f
    return r * (1 - dark) + 0.06 * dark, g * (1 - dark) + 0.09 * dark, b * (1 - dark) + 0.24 * dark


@njit(cache=True, nogil=True)
def paint(shape, finish, x, y, z):
    """Diffuse reflectance (red, green, blue), linear, at a surface place."""
    if finish == WHITE:
        return 0.72, 0.72, 0.71
    if finish == MOTIF or finish == MARKED:
        return _motif(x, y, z, finish == MARKED)
    if shape == 3:
        return _slip(x, y, z)
    grain = (
        0.13 * fractal(x / 16.0, y / 16.0, z / 16.0, 3, 31)
        + 0.17 * fractal(x / 2.6, y / 2.6, z / 2.6, 3, 41)
        + 0.13 * value_noise(x / 0.45, y / 0.45, z / 0.45, 51)
    )
    near, tag = specks(x / 1.5, y / 1.5, z / 1.5, 61)
    r, g, b = 0.50, 0.225, 0.125
    if shape == 0:
        wobble = 0.9 * fractal(x / 6.0, y / 6.0, z / 6.0, 3, 71)
        cream, brown = 0.0, 0.0
        # bands round the body and the neck, dots along the wing, a dark beak
        along = x + 0.25 * (z - 30.0) + wobble
        for k in range(4):
            c = -17.0 + 9.0 * k
            e = abs(along - c)
            if z < 46.0 and z > 8.0:
                if k % 2 == 0:
                    cream = max(cream, min(1.0, max(0.0, (2.1 - e) / 0.35)))
                else:
                    brown = max(brown, min(1.0, max(0.0, (0.9 - e) / 0.3)))
        ring = abs((x - 12.0) * 0.62 + (z - 44.0) * 0.78 + wobble)
        cream = max(cream, min(1.0, max(0.0, (1.7 - ring) / 0.35)))
        if x > 37.5 + wobble:
            brown = 1.0
        eye = np.sqrt((x - 31.8) ** 2 + (abs(y) - 12.0) ** 2 + (z - 60.2) ** 2)
        if eye < 2.2:
            brown = 1.0
        elif eye < 4.3:
            cream = 1.0
        bare = 0.5 + 0.5 * value_noise(x / 1.1, y / 1.1, z / 1.1, 81)
        cream *= 0.72 + 0.28 * bare
        brown *= 0.75 + 0.25 * bare
        r = r * (1 - cream) + 0.70 * cream
        g = g * (1 - cream) + 0.60 * cream
        b = b * (1 - cream) + 0.43 * cream
        r = r * (1 - brown) + 0.085 * brown
        g = g * (1 - brown) + 0.045 * brown
        b = b * (1 - brown) + 0.033 * brown
    elif shape == 2:
        # four handles with the same dark bands; what tells the sides apart is a fine, faint grain
        u = max(abs(x), abs(y))
        dark = 1.0 if u > 42.0 and np.sin(1.3 * z + 0.7 * u) > 0.55 else 0.0
        r, g, b = 0.52 - 0.36 * dark, 0.50 - 0.36 * dark, 0.44 - 0.24 * dark
        grain = 0.14 * fractal(x / 1.6, y / 1.6, z / 1.6, 3, 41) + 0.08 * value_noise(x / 0.5, y / 0.5, z / 0.5, 51)
        near = 1.0
    else:
        r, g, b = 0.34, 0.33, 0.30
    f = 1.0 + grain
    if near < 0.33 and tag > 0.45:
        f *= 0.62 if tag > 0.68 else 1.32
    return r * f, g * f, b * f


def onto_surface(shape, place):
    """The surface place (3,) beside a given one, and the outward normal (3,) there."""
    v = np.array(place, float)
    for _ in range(30):
        g = gradient(shape, *v)
        v = v - 0.8 * distance(shape, *v) * g / max(float(g @ g), 1e-12)
    return v, g / np.linalg.norm(g)
