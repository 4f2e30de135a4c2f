"""Drawing one simulated photo: a ray through the exact inverse lens for every sample.

Rays are walked through the object's signed distance (sphere tracing, Hart 1996); support, table,
backdrop and sheets are met in closed form. Nothing is approximated between the lens model and the
pixel, so that a photo is as good a truth as its numbers.

What is called for every ray is inlined: counting references to its arrays would take longer than what it does.

A picture can be read row by row while the camera moves (a phone's): its pose is that of the middle of the picture, and
changes evenly.
"""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import scipy
from numba import njit

from ..core.geometry.lens import unproject_one
from .lamps import MATTE, Gloss, capsules_in, lamps_in, light_on
from .prints import OBJECT, Sheets, level, pack
from .shapes import BOUNDS, OWN, distance, paint
from .surroundings import (
    HIDDEN,
    PAPER,
    Ray,
    meet_boxes,
    meet_capsules,
    meet_planes,
    meet_sheets,
    moved,
    scenery_paint,
)

STICKER_DEPTH = 3.0  #: a sticker reaches so far above and below its middle, mm


@dataclass(frozen=True)
class Place:
    """An object, and where it stands: its shape, and the similarities (4, 4) from the studio to camera, turntable and
    object; how it is painted and how it shines."""

    shape: int
    to_camera: np.ndarray
    to_turning: np.ndarray
    to_object: np.ndarray
    finish: int = OWN
    gloss: Gloss = MATTE


class _Camera(NamedTuple):
    """The camera as the kernel takes it.

    Attributes
    ----------
    lens : (10,)
        Lens vector.
    to_studio : (4, 4)
    offsets : (n, 4)
        Sub-pixel offsets and aperture positions (unit disc).
    aperture, focus_mm : float
        Radius of the aperture and distance of the focus plane, mm.
    drift : (4, 4)
        Change of `to_studio` while the picture is read from its first to its last row.
    exposure : float
        How long a row gathers light, as a share of that time.
    """

    lens: np.ndarray
    to_studio: np.ndarray
    offsets: np.ndarray
    aperture: float
    focus_mm: float
    drift: np.ndarray
    exposure: float


class _Scenery(NamedTuple):
    """What stands before the camera, as the kernel takes it.

    Attributes
    ----------
    turn, obj : (4, 4)
        Studio to turning frame, studio to object frame.
    shape : int
    lo, hi : (3,)
        The object's box in its frame.
    disc_radius, table_z, wall_y : float
    green, wood : bool
    boxes : (b, 6)
    sheets : Sheets
    to_sheet : (s, 4, 4)
    fixed_to : (s,) int64
    lamps : (k, 5)
    capsules : (c, 8)
    finish : int
    gloss, exponent : float
    """

    turn: np.ndarray
    obj: np.ndarray
    shape: int
    lo: np.ndarray
    hi: np.ndarray
    disc_radius: float
    table_z: float
    wall_y: float
    green: bool
    wood: bool
    boxes: np.ndarray
    sheets: Sheets
    to_sheet: np.ndarray
    fixed_to: np.ndarray
    lamps: np.ndarray
    capsules: np.ndarray
    finish: int
    gloss: float
    exponent: float


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _ray_in(M, ray):
    """A ray in another frame."""
    ox, oy, oz = moved(M, ray.ox, ray.oy, ray.oz)
    dx, dy, dz = ray.dx, ray.dy, ray.dz
    return Ray(
        ox, oy, oz,
        M[0, 0] * dx + M[0, 1] * dy + M[0, 2] * dz,
        M[1, 0] * dx + M[1, 1] * dy + M[1, 2] * dz,
        M[2, 0] * dx + M[2, 1] * dy + M[2, 2] * dz,
    )  # fmt: skip


@njit(cache=True, nogil=True, error_model="numpy")
def _walk(shape, ray, lo, hi, far):
    """First place along the ray inside the box where the distance vanishes, or -1."""
    ox, oy, oz, dx, dy, dz = ray
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


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _camera_ray(lens, C, D, when, focus_mm, u, v, ax, ay):
    """The ray of a place (u, v) of the picture in the studio.

    It leaves a place (ax, ay) of the aperture and meets the focus plane where the pinhole ray does. C : camera to
    studio, D : how that changes until `when` is 1.
    """
    x, y = unproject_one(u, v, lens)
    vx, vy, vz = x * focus_mm - ax, y * focus_mm - ay, focus_mm
    a, b, c = C[0, 0] + when * D[0, 0], C[0, 1] + when * D[0, 1], C[0, 2] + when * D[0, 2]
    d, e, f = C[1, 0] + when * D[1, 0], C[1, 1] + when * D[1, 1], C[1, 2] + when * D[1, 2]
    g, h, i = C[2, 0] + when * D[2, 0], C[2, 1] + when * D[2, 1], C[2, 2] + when * D[2, 2]
    rx, ry, rz = a * vx + b * vy + c * vz, d * vx + e * vy + f * vz, g * vx + h * vy + i * vz
    q = 1.0 / np.sqrt(rx * rx + ry * ry + rz * rz)
    return Ray(
        a * ax + b * ay + C[0, 3] + when * D[0, 3],
        d * ax + e * ay + C[1, 3] + when * D[1, 3],
        g * ax + h * ay + C[2, 3] + when * D[2, 3],
        rx * q, ry * q, rz * q,
    )  # fmt: skip


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _object_paint(shape, finish, obj, sheets, to_sheet, fixed_to, px, py, pz):
    """Color, shade and the studio's normal at a place of the object, in its frame."""
    e = 0.06
    k0 = distance(shape, px + e, py - e, pz - e)
    k1 = distance(shape, px - e, py - e, pz + e)
    k2 = distance(shape, px - e, py + e, pz - e)
    k3 = distance(shape, px + e, py + e, pz + e)
    gx, gy, gz = k0 - k1 - k2 + k3, -k0 - k1 + k2 + k3, -k0 + k1 - k2 + k3
    q = 1.0 / max(np.sqrt(gx * gx + gy * gy + gz * gz), 1e-12)
    gx, gy, gz = gx * q, gy * q, gz * q
    r, g, b = paint(shape, finish, px, py, pz)
    for k in range(to_sheet.shape[0]):
        if fixed_to[k] != OBJECT:
            continue
        # a sticker follows the surface below it: it is seen straight from above it
        M = to_sheet[k]
        u, v, w = moved(M, px, py, pz)
        if abs(w) > STICKER_DEPTH or M[2, 0] * gx + M[2, 1] * gy + M[2, 2] * gz > -0.5:
            continue
        here = level(sheets, k, u, v)
        if here >= 0:
            v = PAPER * here
            r, g, b = v, v, 0.97 * v
    # hollows get less light
    d1 = distance(shape, px + 2.0 * gx, py + 2.0 * gy, pz + 2.0 * gz)
    d2 = distance(shape, px + 6.0 * gx, py + 6.0 * gy, pz + 6.0 * gz)
    shade = 1.0 - 0.45 * max(0.0, 1.0 - d1 / 2.0) - 0.35 * max(0.0, 1.0 - d2 / 6.0)
    return (
        r, g, b, shade,
        obj[0, 0] * gx + obj[1, 0] * gy + obj[2, 0] * gz,
        obj[0, 1] * gx + obj[1, 1] * gy + obj[2, 1] * gz,
        obj[0, 2] * gx + obj[1, 2] * gy + obj[2, 2] * gz,
    )  # fmt: skip


@njit(cache=True, nogil=True, error_model="numpy")
def render_kernel(camera, scene, out, cover):
    """Fill `out` (h, w, 3) with linear light and `cover` (h, w) with the object's share."""
    # taken apart here, once: what is called for each ray gets the arrays it reads
    lens, C, offsets, aperture, focus_mm, drift, exposure = camera
    turn, obj, shape, lo, hi, disc_radius, table_z, wall_y, green, wood, boxes, sheets, to_sheet, fixed_to = scene[:14]
    lamps, capsules, finish, gloss, exponent = scene[14:]
    n = offsets.shape[0]
    height, width = cover.shape
    for row in range(height):
        for col in range(width):
            rr, gg, bb, hits = 0.0, 0.0, 0.0, 0
            # the few places on the aperture are turned from pixel to pixel: always the same ones would move
            # what is out of focus to one side
            spin = 6.283185307179586 * ((row * 0.7548776662466927 + col * 0.5698402909980532) % 1.0)
            cos, sin = np.cos(spin), np.sin(spin)
            for s in range(n):
                ax = (cos * offsets[s, 2] - sin * offsets[s, 3]) * aperture
                ay = (sin * offsets[s, 2] + cos * offsets[s, 3]) * aperture
                when = (row + 0.5) / height - 0.5 + exposure * ((s + 0.5) / n - 0.5)
                u, v = col + offsets[s, 0], row + offsets[s, 1]
                ray = _camera_ray(lens, C, drift, when, focus_mm, u, v, ax, ay)
                turned, inner = _ray_in(turn, ray), _ray_in(obj, ray)
                hit = meet_planes(wall_y, table_z, disc_radius, ray, turned)
                hit = meet_boxes(boxes, turn, turned, hit)
                hit = meet_sheets(sheets, to_sheet, fixed_to, ray, turned, hit)
                hit = meet_capsules(capsules, ray, hit)
                t = _walk(shape, inner, lo, hi, hit.t)
                best, nx, ny, nz, mirrors = hit.t, hit.nx, hit.ny, hit.nz, 0.0
                if t >= 0 and t < best:
                    best, mirrors = t, gloss
                    hits += 1
                    px, py, pz = inner.ox + t * inner.dx, inner.oy + t * inner.dy, inner.oz + t * inner.dz
                    r, g, b, shade, nx, ny, nz = _object_paint(
                        shape, finish, obj, sheets, to_sheet, fixed_to, px, py, pz
                    )
                else:
                    r, g, b, shade = scenery_paint(shape, obj, lo, green, wood, ray, turned, hit)
                hx, hy, hz = ray.ox + best * ray.dx, ray.oy + best * ray.dy, ray.oz + best * ray.dz
                matte, shine = light_on(
                    lamps, capsules, mirrors, exponent, hx, hy, hz, nx, ny, nz, ray.dx, ray.dy, ray.dz
                )
                f = matte * max(shade, 0.05)
                rr += r * f + shine
                gg += g * f + shine
                bb += b * f + shine
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


@dataclass(frozen=True)
class Focus:
    """How a photo is taken: rays a pixel, the width of the aperture, and the distance that is sharp."""

    samples: int = 4
    aperture_mm: float = 0.0
    focus_mm: float = 350.0
    drift: np.ndarray | None = None  #: (4, 4): how camera-to-studio changes from the first row to the last
    exposure: float = 0.0  #: of a row, as a share of the time from the first row to the last


def render(lens, place, surroundings, focus=Focus(), show_object=True):
    """One picture in linear light.

    Parameters
    ----------
    lens : Lens
    place : Place
    surroundings : Surroundings
    focus : Focus
    show_object : bool
        Without it, the picture is of the bare backdrop.

    Returns
    -------
    light : (h, w, 3) float32
    cover : (h, w) float32
        Share of each pixel that shows the object.
    """
    s, shape = surroundings, place.shape
    c = np.ascontiguousarray
    mid, half = BOUNDS[shape]
    lo, hi = (mid - half, mid + half) if show_object else (np.full(3, HIDDEN), np.full(3, HIDDEN + 1))
    camera = _Camera(
        lens.vector, c(np.linalg.inv(place.to_camera)), sample_offsets(focus.samples), focus.aperture_mm / 2.0,
        focus.focus_mm, np.zeros((4, 4)) if focus.drift is None else c(focus.drift), focus.exposure,
    )  # fmt: skip
    scene = _Scenery(
        c(place.to_turning), c(place.to_object), shape, lo, hi, s.disc_radius, s.table_z, s.wall_y, s.green, s.wood,
        c(s.boxes, dtype=np.float64), pack(s.sheets),
        np.array([np.linalg.inv(x.to_world) for x in s.sheets] or np.zeros((0, 4, 4))),
        np.array([x.fixed_to for x in s.sheets], np.int64), lamps_in(s.lamps, place.to_camera, place.to_turning),
        capsules_in(s.capsules), place.finish, place.gloss.share, place.gloss.exponent,
    )  # fmt: skip
    out = np.zeros((lens.height, lens.width, 3), np.float32)
    cover = np.zeros((lens.height, lens.width), np.float32)
    render_kernel(camera, scene, out, cover)
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
