"""Drawing one simulated photo: a ray through the exact inverse lens for every sample.

Rays are walked through the object's signed distance (sphere tracing, Hart 1996); support, table,
backdrop and sheets are met in closed form. Nothing is approximated between the lens model and the
pixel, so that a photo is as good a truth as its numbers.
"""

from dataclasses import dataclass, field

import numpy as np
import scipy
from numba import njit

from ..core.geometry.lens import unproject_one
from .noise import fractal, value_noise
from .prints import OBJECT, TURNING, level, pack
from .shapes import BOUNDS, distance, paint

STICKER_DEPTH = 3.0  #: a sticker reaches so far above and below its middle, mm
PAPER = 0.85  #: share of its own light that paper reflects here, so that white stays below the brightest
HIDDEN = 1e6  #: where the box of an object that is not there lies, mm


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


@njit(cache=True, nogil=True)
def _walk(shape, ox, oy, oz, dx, dy, dz, lo, hi, far):
    """First place along the ray inside the box where the distance vanishes, or -1."""
    t0, t1 = 0.0, far
    for k in range(3):
        o = ox if k == 0 else (oy if k == 1 else oz)
        d = dx if k == 0 else (dy if k == 1 else dz)
        if abs(d) < 1e-12:
            if o < lo[k] or o > hi[k]:
                return -1.0
            continue
        a, b = (lo[k] - o) / d, (hi[k] - o) / d
        if a > b:
            a, b = b, a
        t0, t1 = max(t0, a), min(t1, b)
    if t0 > t1:
        return -1.0
    t = t0
    for _ in range(600):  # grazing rays take many small steps
        s = distance(shape, ox + t * dx, oy + t * dy, oz + t * dz)
        if s < 0.004:
            return t
        t += max(0.75 * s, 0.006)
        if t > t1:
            return -1.0
    return -1.0


@njit(cache=True, nogil=True)
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


@njit(cache=True, nogil=True)
def render_kernel(
    width,
    height,
    lens,
    cam_to_studio,
    turn,
    obj,
    shape,
    lo,
    hi,
    disc_radius,
    table_z,
    wall_y,
    green,
    boxes,
    sheet_inv,
    fixed_to,
    sizes,
    cuts,
    marks,
    bits,
    first,
    cells,
    acrosses,
    squares,
    offsets,
    aperture,
    focus_mm,
    out,
    cover,
):
    """Fill `out` (h, w, 3) with linear light and `cover` (h, w) with the object's share.

    turn: studio to turning frame (4, 4); obj: studio to object frame (4, 4); offsets: (n, 4) sub-pixel
    offsets and aperture positions (unit disc).
    """
    n = offsets.shape[0]
    C = cam_to_studio
    for row in range(height):
        for col in range(width):
            rr, gg, bb, hits = 0.0, 0.0, 0.0, 0
            # the few places on the aperture are turned from pixel to pixel: always the same ones would move
            # what is out of focus to one side
            spin = 6.283185307179586 * ((row * 0.7548776662466927 + col * 0.5698402909980532) % 1.0)
            cos, sin = np.cos(spin), np.sin(spin)
            for s in range(n):
                x, y = unproject_one(col + offsets[s, 0], row + offsets[s, 1], lens)
                # the ray leaves a place on the aperture and meets the focus plane where the pinhole ray does
                ax = (cos * offsets[s, 2] - sin * offsets[s, 3]) * aperture
                ay = (sin * offsets[s, 2] + cos * offsets[s, 3]) * aperture
                vx, vy, vz = x * focus_mm - ax, y * focus_mm - ay, focus_mm
                q = 1.0 / np.sqrt(vx * vx + vy * vy + vz * vz)
                vx, vy, vz = vx * q, vy * q, vz * q
                dx = C[0, 0] * vx + C[0, 1] * vy + C[0, 2] * vz
                dy = C[1, 0] * vx + C[1, 1] * vy + C[1, 2] * vz
                dz = C[2, 0] * vx + C[2, 1] * vy + C[2, 2] * vz
                ox = C[0, 0] * ax + C[0, 1] * ay + C[0, 3]
                oy = C[1, 0] * ax + C[1, 1] * ay + C[1, 3]
                oz = C[2, 0] * ax + C[2, 1] * ay + C[2, 3]
                best, what = 4000.0, 0
                nx, ny, nz = 0.0, 0.0, 1.0
                # the wall and the table stand still
                if dy > 1e-9:
                    t = (wall_y - oy) / dy
                    if 0 < t < best:
                        best, what = t, 1
                        nx, ny, nz = 0.0, -1.0, 0.0
                if dz < -1e-9:
                    t = (table_z - oz) / dz
                    if 0 < t < best:
                        best, what = t, 2
                        nx, ny, nz = 0.0, 0.0, 1.0
                # the disc, the boxes and most sheets turn
                tox = turn[0, 0] * ox + turn[0, 1] * oy + turn[0, 2] * oz + turn[0, 3]
                toy = turn[1, 0] * ox + turn[1, 1] * oy + turn[1, 2] * oz + turn[1, 3]
                toz = turn[2, 0] * ox + turn[2, 1] * oy + turn[2, 2] * oz + turn[2, 3]
                tdx = turn[0, 0] * dx + turn[0, 1] * dy + turn[0, 2] * dz
                tdy = turn[1, 0] * dx + turn[1, 1] * dy + turn[1, 2] * dz
                tdz = turn[2, 0] * dx + turn[2, 1] * dy + turn[2, 2] * dz
                if disc_radius > 0 and tdz < -1e-9:
                    t = -toz / tdz
                    if 0 < t < best:
                        px, py = tox + t * tdx, toy + t * tdy
                        if px * px + py * py < disc_radius * disc_radius:
                            best, what = t, 3
                            nx, ny, nz = 0.0, 0.0, 1.0
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
                    if t0 < t1 and 0 < t0 < best:
                        best, what = t0, 4
                        d = tdx if axis == 0 else (tdy if axis == 1 else tdz)
                        g = -1.0 if d > 0 else 1.0
                        # back to the studio frame: rows of `turn` are the axes
                        nx, ny, nz = g * turn[axis, 0], g * turn[axis, 1], g * turn[axis, 2]
                sheet_v = 0.0
                for k in range(sheet_inv.shape[0]):
                    M = sheet_inv[k]
                    if fixed_to[k] == OBJECT:
                        continue
                    if fixed_to[k] == TURNING:
                        qox, qoy, qoz, qdx, qdy, qdz = tox, toy, toz, tdx, tdy, tdz
                    else:
                        qox, qoy, qoz, qdx, qdy, qdz = ox, oy, oz, dx, dy, dz
                    hz = M[2, 0] * qdx + M[2, 1] * qdy + M[2, 2] * qdz
                    if hz < 1e-9:
                        continue
                    t = -(M[2, 0] * qox + M[2, 1] * qoy + M[2, 2] * qoz + M[2, 3]) / hz
                    if t <= 0 or t > best + 0.02:
                        continue
                    px, py, pz = qox + t * qdx, qoy + t * qdy, qoz + t * qdz
                    u = M[0, 0] * px + M[0, 1] * py + M[0, 2] * pz + M[0, 3]
                    v = M[1, 0] * px + M[1, 1] * py + M[1, 2] * pz + M[1, 3]
                    here = level(
                        u, v, sizes[k], cuts[k], marks[k], bits[k], first[k], cells[k], acrosses[k], squares[k]
                    )
                    if here < 0:
                        continue
                    sheet_v = here
                    best, what = t, 5
                    nx, ny, nz = 0.0, 0.0, 1.0
                # the object
                bx = obj[0, 0] * ox + obj[0, 1] * oy + obj[0, 2] * oz + obj[0, 3]
                by = obj[1, 0] * ox + obj[1, 1] * oy + obj[1, 2] * oz + obj[1, 3]
                bz = obj[2, 0] * ox + obj[2, 1] * oy + obj[2, 2] * oz + obj[2, 3]
                cx = obj[0, 0] * dx + obj[0, 1] * dy + obj[0, 2] * dz
                cy = obj[1, 0] * dx + obj[1, 1] * dy + obj[1, 2] * dz
                cz = obj[2, 0] * dx + obj[2, 1] * dy + obj[2, 2] * dz
                t = _walk(shape, bx, by, bz, cx, cy, cz, lo, hi, best)
                r, g, b, shade = 0.0, 0.0, 0.0, 1.0
                if t >= 0 and t < best:
                    best, what = t, 6
                    hits += 1
                    px, py, pz = bx + t * cx, by + t * cy, bz + t * cz
                    e = 0.06
                    k0 = distance(shape, px + e, py - e, pz - e)
                    k1 = distance(shape, px - e, py - e, pz + e)
                    k2 = distance(shape, px - e, py + e, pz - e)
                    k3 = distance(shape, px + e, py + e, pz + e)
                    gx, gy, gz = k0 - k1 - k2 + k3, -k0 - k1 + k2 + k3, -k0 + k1 - k2 + k3
                    q = 1.0 / max(np.sqrt(gx * gx + gy * gy + gz * gz), 1e-12)
                    gx, gy, gz = gx * q, gy * q, gz * q
                    r, g, b = paint(shape, px, py, pz)
                    for k in range(sheet_inv.shape[0]):
                        if fixed_to[k] != OBJECT:
                            continue
                        # a sticker follows the surface below it: it is seen straight from above it
                        M = sheet_inv[k]
                        w = M[2, 0] * px + M[2, 1] * py + M[2, 2] * pz + M[2, 3]
                        if abs(w) > STICKER_DEPTH or M[2, 0] * gx + M[2, 1] * gy + M[2, 2] * gz > -0.5:
                            continue
                        u = M[0, 0] * px + M[0, 1] * py + M[0, 2] * pz + M[0, 3]
                        v = M[1, 0] * px + M[1, 1] * py + M[1, 2] * pz + M[1, 3]
                        here = level(
                            u, v, sizes[k], cuts[k], marks[k], bits[k], first[k], cells[k], acrosses[k], squares[k]
                        )
                        if here >= 0:
                            v = PAPER * here
                            r, g, b = v, v, 0.97 * v
                    # hollows get less light
                    d1 = distance(shape, px + 2.0 * gx, py + 2.0 * gy, pz + 2.0 * gz)
                    d2 = distance(shape, px + 6.0 * gx, py + 6.0 * gy, pz + 6.0 * gz)
                    shade = 1.0 - 0.45 * max(0.0, 1.0 - d1 / 2.0) - 0.35 * max(0.0, 1.0 - d2 / 6.0)
                    nx = obj[0, 0] * gx + obj[1, 0] * gy + obj[2, 0] * gz
                    ny = obj[0, 1] * gx + obj[1, 1] * gy + obj[2, 1] * gz
                    nz = obj[0, 2] * gx + obj[1, 2] * gy + obj[2, 2] * gz
                else:
                    px, py, pz = ox + best * dx, oy + best * dy, oz + best * dz
                    tx, ty, tz = tox + best * tdx, toy + best * tdy, toz + best * tdz
                    if green and what <= 3:
                        # a cloth that runs from the wall over the table
                        r, g, b = _wall_paint(px + py, pz, green)
                    elif what == 1:
                        r, g, b = _wall_paint(px, pz, green)
                    elif what == 2:
                        v = 0.20 + 0.05 * fractal(px / 70.0, py / 9.0, 0.0, 4, 95)
                        r, g, b = 1.1 * v, 0.9 * v, 0.7 * v
                    elif what == 3:
                        v = 0.075 + 0.02 * value_noise(tx / 0.9, ty / 0.9, 0.0, 96)
                        r, g, b = v, v, 1.05 * v
                    elif what == 4:
                        v = 0.46 + 0.09 * fractal(tx / 3.0, ty / 3.0, tz / 3.0, 3, 97)
                        r, g, b = 0.92 * v, 0.97 * v, v
                    elif what == 5:
                        v = PAPER * sheet_v
                        r, g, b = v, v, 0.97 * v
                    # the object keeps light from what it stands on
                    if what >= 3 and lo[0] < HIDDEN:
                        ex = obj[0, 0] * px + obj[0, 1] * py + obj[0, 2] * pz + obj[0, 3]
                        ey = obj[1, 0] * px + obj[1, 1] * py + obj[1, 2] * pz + obj[1, 3]
                        ez = obj[2, 0] * px + obj[2, 1] * py + obj[2, 2] * pz + obj[2, 3]
                        near = distance(shape, ex, ey, ez)
                        shade = 0.45 + 0.55 * min(1.0, max(0.0, near / 18.0))
                # two soft boxes beside the camera, and the room
                hx, hy, hz = ox + best * dx, oy + best * dy, oz + best * dz
                light = 0.26
                for k in range(2):
                    lx, ly = (-260.0, -230.0) if k == 0 else (300.0, -140.0)
                    wx = C[0, 0] * lx + C[0, 1] * ly + C[0, 3] - hx
                    wy = C[1, 0] * lx + C[1, 1] * ly + C[1, 3] - hy
                    wz = C[2, 0] * lx + C[2, 1] * ly + C[2, 3] - hz
                    q = 1.0 / np.sqrt(wx * wx + wy * wy + wz * wz)
                    c = (nx * wx + ny * wy + nz * wz) * q
                    light += (0.62 if k == 0 else 0.42) * max(0.0, (c + 0.25) / 1.25)
                f = light * max(shade, 0.05)
                rr += r * f
                gg += g * f
                bb += b * f
            out[row, col, 0] = rr / n
            out[row, col, 1] = gg / n
            out[row, col, 2] = bb / n
            cover[row, col] = hits / n


def sample_offsets(n):
    """Sub-pixel offsets in [-0.5, 0.5) and aperture places in the unit disc, well spread: (n, 4)."""
    side = round(np.sqrt(n))
    if side * side != n:
        raise ValueError("the number of samples a pixel must be a square")
    i, j = np.meshgrid(np.arange(side), np.arange(side))
    sub = (np.stack([i.ravel(), j.ravel()], 1) + 0.5) / side - 0.5
    k = np.arange(n)
    radius, angle = np.sqrt((k + 0.5) / n), k * np.pi * (3 - np.sqrt(5))
    lens = np.stack([radius * np.cos(angle), radius * np.sin(angle)], 1)
    lens -= lens.mean(0)
    lens[:] = lens[np.random.default_rng(5).permutation(n)]
    return np.ascontiguousarray(np.hstack([sub, lens]))


def render(
    shape,
    lens,
    studio_to_camera,
    studio_to_turning,
    studio_to_object,
    surroundings,
    samples=4,
    aperture_mm=0.0,
    focus_mm=350.0,
    show_object=True,
):
    """One picture in linear light.

    Returns
    -------
    light : (h, w, 3) float32
    cover : (h, w) float32
        Share of each pixel that shows the object.
    """
    s = surroundings
    C = np.linalg.inv(studio_to_camera)
    mid, half = BOUNDS[shape]
    lo, hi = (mid - half, mid + half) if show_object else (np.full(3, HIDDEN), np.full(3, HIDDEN + 1))
    inv = np.array([np.linalg.inv(x.to_world) for x in s.sheets] or np.zeros((0, 4, 4)))
    fixed_to = np.array([x.fixed_to for x in s.sheets], np.int64)
    out = np.zeros((lens.height, lens.width, 3), np.float32)
    cover = np.zeros((lens.height, lens.width), np.float32)
    c = np.ascontiguousarray

    render_kernel(
        lens.width,
        lens.height,
        lens.vector,
        c(C),
        c(studio_to_turning),
        c(studio_to_object),
        shape,
        lo,
        hi,
        s.disc_radius,
        s.table_z,
        s.wall_y,
        s.green,
        c(s.boxes, dtype=np.float64),
        inv,
        fixed_to,
        *pack(s.sheets),
        sample_offsets(samples),
        aperture_mm / 2.0,
        focus_mm,
        out,
        cover,
    )
    return out, cover


def develop(light, rng, blur_px=0.0, full_well=14000.0, read_noise=5.0):
    """Linear light (h, w, 3) to an 8-bit sRGB picture, with blur, shot noise and read noise."""
    if blur_px > 0:
        light = np.stack([scipy.ndimage.gaussian_filter(light[..., k], blur_px) for k in range(3)], -1)
    e = np.maximum(light, 0) * full_well
    e = e + rng.normal(size=e.shape) * np.sqrt(e + read_noise**2)
    x = np.clip(e / full_well, 0, 1)
    srgb = np.where(x <= 0.0031308, 12.92 * x, 1.055 * np.power(np.maximum(x, 1e-9), 1 / 2.4) - 0.055)
    return np.clip(np.round(srgb * 255), 0, 255).astype(np.uint8)
