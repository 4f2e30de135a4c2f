"""What stands round an object in the studio: wall, table, disc, boxes, sheets and arms, met by rays in closed form.

What is called for every ray is inlined: counting references to its arrays would take longer than what it does.
"""

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from numba import njit

from .lamps import SOFT_BOXES, meet_capsule
from .noise import fractal, value_noise
from .prints import OBJECT, TURNING, level
from .shapes import distance

PAPER = 0.85  #: share of its own light that paper reflects here, so that white stays below the brightest
HIDDEN = 1e6  #: where the box of an object that is not there lies, mm
FAR = 4000.0  #: nothing is beyond, mm
SKY, WALL, TABLE, DISC, BOX, SHEET, ARM = range(7)  #: what a ray meets


@dataclass
class Surroundings:
    """What stands round the object. Boxes are (cx, cy, cz, hx, hy, hz) in the turning frame, mm."""

    disc_radius: float = 95.0
    table_z: float = -14.0
    wall_y: float = 260.0
    boxes: np.ndarray = field(default_factory=lambda: np.zeros((0, 6)))
    sheets: list = field(default_factory=list)  #: of Printed
    bars: list = field(default_factory=list)  #: the known lengths among the targets, `core.targets.sheets.Bar`
    green: bool = False
    wood: bool = False  #: the disc is of wood with a faint grain, not of dark felt
    lamps: tuple = SOFT_BOXES
    capsules: tuple = ()  #: arms and the like, `lamps.Capsule`


class Ray(NamedTuple):
    """Where a ray begins, and its direction."""

    ox: float
    oy: float
    oz: float
    dx: float
    dy: float
    dz: float


class Hit(NamedTuple):
    """What a ray meets first: how far off, what it is, its normal in the studio, and how light the print is there."""

    t: float
    what: int
    nx: float
    ny: float
    nz: float
    print: float


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def moved(M, x, y, z):
    """A place after a similarity (4, 4)."""
    return (
        M[0, 0] * x + M[0, 1] * y + M[0, 2] * z + M[0, 3],
        M[1, 0] * x + M[1, 1] * y + M[1, 2] * z + M[1, 3],
        M[2, 0] * x + M[2, 1] * y + M[2, 2] * z + M[2, 3],
    )


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def meet_capsules(capsules, ray, hit):
    """Arms that are seen, where they are nearer than `hit`."""
    for k in range(capsules.shape[0]):
        if capsules[k, 7] > 0:
            t, nx, ny, nz = meet_capsule(capsules, k, ray.ox, ray.oy, ray.oz, ray.dx, ray.dy, ray.dz)
            if 0 < t < hit.t:
                hit = Hit(t, ARM, nx, ny, nz, 0.0)
    return hit


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def meet_planes(wall_y, table_z, disc_radius, ray, turned):
    """The wall and the table, which stand still, and the disc, which turns."""
    hit = Hit(FAR, SKY, 0.0, 0.0, 1.0, 0.0)
    if ray.dy > 1e-9:
        t = (wall_y - ray.oy) / ray.dy
        if 0 < t < hit.t:
            hit = Hit(t, WALL, 0.0, -1.0, 0.0, 0.0)
    if ray.dz < -1e-9:
        t = (table_z - ray.oz) / ray.dz
        if 0 < t < hit.t:
            hit = Hit(t, TABLE, 0.0, 0.0, 1.0, 0.0)
    if disc_radius > 0 and turned.dz < -1e-9:
        t = -turned.oz / turned.dz
        if 0 < t < hit.t:
            px, py = turned.ox + t * turned.dx, turned.oy + t * turned.dy
            if px * px + py * py < disc_radius * disc_radius:
                hit = Hit(t, DISC, 0.0, 0.0, 1.0, 0.0)
    return hit


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def meet_boxes(boxes, turn, turned, hit):
    """The boxes, which turn, where they are nearer than `hit`."""
    tox, toy, toz, tdx, tdy, tdz = turned
    for k in range(boxes.shape[0]):
        t0, t1, axis = 0.0, 1e9, 0
        for a in range(3):
            o = tox if a == 0 else (toy if a == 1 else toz)
            d = tdx if a == 0 else (tdy if a == 1 else tdz)
            inv = 1.0 / d if abs(d) > 1e-12 else 1e12
            u0 = (boxes[k, a] - boxes[k, 3 + a] - o) * inv
            u1 = (boxes[k, a] + boxes[k, 3 + a] - o) * inv
            if u0 > u1:
                u0, u1 = u1, u0
            if u0 > t0:
                t0, axis = u0, a
            t1 = min(t1, u1)
        if t0 < t1 and 0 < t0 < hit.t:
            d = tdx if axis == 0 else (tdy if axis == 1 else tdz)
            g = -1.0 if d > 0 else 1.0
            # back to the studio frame: rows of `turn` are the axes
            hit = Hit(t0, BOX, g * turn[axis, 0], g * turn[axis, 1], g * turn[axis, 2], 0.0)
    return hit


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def meet_sheets(sheets, to_sheet, fixed_to, ray, turned, hit):
    """Sheets that lie in the studio or turn, where they are nearer than `hit` or lie on what it meets."""
    for k in range(to_sheet.shape[0]):
        M = to_sheet[k]
        if fixed_to[k] == OBJECT:
            continue
        q = turned if fixed_to[k] == TURNING else ray
        hz = M[2, 0] * q.dx + M[2, 1] * q.dy + M[2, 2] * q.dz
        if hz < 1e-9:
            continue
        t = -(M[2, 0] * q.ox + M[2, 1] * q.oy + M[2, 2] * q.oz + M[2, 3]) / hz
        if t <= 0 or t > hit.t + 0.02:
            continue
        u, v, _ = moved(M, q.ox + t * q.dx, q.oy + t * q.dy, q.oz + t * q.dz)
        here = level(sheets, k, u, v)
        if here >= 0:
            hit = Hit(t, SHEET, 0.0, 0.0, 1.0, here)
    return hit


@njit(cache=True, nogil=True, error_model="numpy")
def _wall_paint(x, z, green):
    if green:
        n = 1.0 + 0.05 * value_noise(x / 40.0, z / 40.0, 0.5, 91)
        return 0.06 * n, 0.42 * n, 0.10 * n
    # a hung cloth with a printed pattern: still, and full of features
    n = 0.30 + 0.10 * fractal(x / 60.0, z / 60.0, 0.3, 4, 92) + 0.06 * value_noise(x / 2.0, z / 2.0, 0.7, 93)
    u, v = x / 28.0, z / 28.0
    iu, iv = np.floor(u), np.floor(v)
    a = value_noise(iu * 1.7, iv * 1.3, 4.4, 94)
    w = np.sqrt((u - iu - 0.5 - 0.2 * a) ** 2 + (v - iv - 0.5 + 0.2 * a) ** 2)
    if w < 0.22 + 0.1 * a:
        n *= 0.55
    return 0.85 * n, 0.95 * n, 1.08 * n


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def scenery_paint(shape, obj, lo, green, wood, ray, turned, hit):
    """Color and shade of what is not the object."""
    t = hit.t
    px, py, pz = ray.ox + t * ray.dx, ray.oy + t * ray.dy, ray.oz + t * ray.dz
    tx, ty, tz = turned.ox + t * turned.dx, turned.oy + t * turned.dy, turned.oz + t * turned.dz
    r, g, b, shade = 0.0, 0.0, 0.0, 1.0
    if green and hit.what <= DISC:
        # a cloth that runs from the wall over the table
        r, g, b = _wall_paint(px + py, pz, green)
    elif hit.what == WALL:
        r, g, b = _wall_paint(px, pz, green)
    elif hit.what == TABLE:
        v = 0.20 + 0.05 * fractal(px / 70.0, py / 9.0, 0.0, 4, 95)
        r, g, b = 1.1 * v, 0.9 * v, 0.7 * v
    elif hit.what == DISC and wood:
        v = 0.33 * (
            1.0 + 0.05 * fractal(tx / 30.0, ty / 2.2, 0.0, 3, 98) + 0.03 * value_noise(tx / 1.3, ty / 0.8, 0.3, 99)
        )
        r, g, b = 1.12 * v, 0.93 * v, 0.72 * v
    elif hit.what == DISC:
        v = 0.075 + 0.02 * value_noise(tx / 0.9, ty / 0.9, 0.0, 96)
        r, g, b = v, v, 1.05 * v
    elif hit.what == BOX:
        v = 0.46 + 0.09 * fractal(tx / 3.0, ty / 3.0, tz / 3.0, 3, 97)
        r, g, b = 0.92 * v, 0.97 * v, v
    elif hit.what == SHEET:
        v = PAPER * hit.print
        r, g, b = v, v, 0.97 * v
    elif hit.what == ARM:
        v = 1.0 + 0.12 * fractal(px / 5.0, py / 5.0, pz / 5.0, 3, 89)
        r, g, b = 0.47 * v, 0.27 * v, 0.19 * v
    # the object keeps light from what it stands on
    if DISC <= hit.what <= SHEET and lo[0] < HIDDEN:
        ex, ey, ez = moved(obj, px, py, pz)
        near = distance(shape, ex, ey, ez)
        shade = 0.45 + 0.55 * min(1.0, max(0.0, near / 18.0))
    return r, g, b, shade
