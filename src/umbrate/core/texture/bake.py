"""Texels: which triangle each lies on, and its color from that triangle's photo.

A texel's middle lies on a triangle, so at a place in space, so at a pixel of the photo that the triangle is taken from:
the color there, between pixels by a cubic that keeps what is sharp (Keys 1981), is the texel's. Where a texel is larger
than a pixel it is the mean of several places on it. Rows of pages run from above, as those of pictures do.
"""

from dataclasses import dataclass

import numpy as np
import scipy
from numba import njit

from ..cloud.grid import in_threads
from .views import Camera, _pixel

MOST = 4  #: places along a side of a texel that are averaged at most


@njit(cache=True, nogil=True)
def _owners(uv, which, owner):
    """The triangle under the middle of every texel; beside a triangle's own the nearest within half a texel."""
    h, w = owner.shape
    for i in range(which.shape[0]):
        t = which[i]
        ax, ay, bx, by, cx, cy = uv[t, 0, 0], uv[t, 0, 1], uv[t, 1, 0], uv[t, 1, 1], uv[t, 2, 0], uv[t, 2, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0:
            continue
        for y in range(
            max(int(np.ceil(min(ay, by, cy) - 0.5)), 0), min(int(np.floor(max(ay, by, cy) - 0.5)), h - 1) + 1
        ):
            for x in range(
                max(int(np.ceil(min(ax, bx, cx) - 0.5)), 0), min(int(np.floor(max(ax, bx, cx) - 0.5)), w - 1) + 1
            ):
                u, v = x + 0.5, y + 0.5
                p = ((bx - u) * (cy - v) - (by - v) * (cx - u)) / area
                q = ((cx - u) * (ay - v) - (cy - v) * (ax - u)) / area
                if p >= -1e-9 and q >= -1e-9 and p + q <= 1 + 1e-9:
                    owner[y, x] = t


def owners(uv, which, side):
    """The triangle (side, side) int32 at each texel of a page, -1 where there is none.

    uv : (t, 3, 2) in texels, right and down, of all triangles; which : (k,) those on the page
    """
    out = np.full((side, side), -1, np.int32)
    _owners(np.ascontiguousarray(uv, np.float64), np.asarray(which, np.int64), out)
    return out


@njit(cache=True, nogil=True, inline="always")
def _cubic(t):
    """Weights of four pixels for a place t between the two in the middle."""
    return (
        ((-0.5 * t + 1.0) * t - 0.5) * t,
        ((1.5 * t - 2.5) * t) * t + 1.0,
        ((-1.5 * t + 2.0) * t + 0.5) * t,
        ((0.5 * t - 0.5) * t) * t,
    )


@njit(cache=True, nogil=True)
def _sample(photo, u, v, out):
    """Adds the color (3,) at a pixel."""
    h, w, _ = photo.shape
    x, y = int(np.floor(u)), int(np.floor(v))
    a, b = _cubic(u - x), _cubic(v - y)
    for j in range(4):
        r = min(max(y + j - 1, 0), h - 1)
        for i in range(4):
            c = min(max(x + i - 1, 0), w - 1)
            s = a[i] * b[j]
            for k in range(3):
                out[k] += s * photo[r, c, k]


@njit(cache=True, nogil=True, inline="always")
def _shares(uv, t, u, v):
    """Shares of a triangle's corners at a place of the page."""
    ax, ay, bx, by, cx, cy = uv[t, 0, 0], uv[t, 0, 1], uv[t, 1, 0], uv[t, 1, 1], uv[t, 2, 0], uv[t, 2, 1]
    area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
    p = ((bx - u) * (cy - v) - (by - v) * (cx - u)) / area
    q = ((cx - u) * (ay - v) - (cy - v) * (ax - u)) / area
    return p, q, 1.0 - p - q


@njit(cache=True, nogil=True)
def _taken(at, owner, uv, points, faces, E, lens, photo, gain, more, places, color, first, last):
    """Colors of some of the texels `at`, whose triangles are taken from a photo."""
    corner, value = more
    wide = owner.shape[1]
    total = np.empty(3)
    for i in range(first, last):
        y, x = at[i] // wide, at[i] % wide
        t = owner[y, x]
        a, b, c = faces[t, 0], faces[t, 1], faces[t, 2]
        total[:] = 0.0
        for m in range(places * places):
            p, q, r = _shares(uv, t, x + (m % places + 0.5) / places, y + (m // places + 0.5) / places)
            U, V, _ = _pixel(
                E, lens, p * points[a, 0] + q * points[b, 0] + r * points[c, 0],
                p * points[a, 1] + q * points[b, 1] + r * points[c, 1],
                p * points[a, 2] + q * points[b, 2] + r * points[c, 2],
            )  # fmt: skip
            _sample(photo, U, V, total)
        p, q, r = _shares(uv, t, x + 0.5, y + 0.5)
        for k in range(3):
            z = total[k] * gain[k] / (places * places)
            z += p * value[corner[t, 0], k] + q * value[corner[t, 1], k] + r * value[corner[t, 2], k]
            color[i, k] = np.uint8(min(max(z, 0.0), 255.0) + 0.5)


@dataclass(frozen=True)
class Page:
    """What the colors of a page's texels are taken by, whichever photo they come from.

    Attributes
    ----------
    points (n, 3) float64, faces (t, 3) int32
    owner : (side, side) int32
        See `owners`.
    uv : (t, 3, 2)
    photo : (t,)
        That each triangle is taken from.
    corner : (t, 3) int32
        See `Sides`.
    added : (m, 3)
        To the colors at triangles' corners.
    """

    points: np.ndarray
    faces: np.ndarray
    owner: np.ndarray
    uv: np.ndarray
    photo: np.ndarray
    corner: np.ndarray
    added: np.ndarray


@dataclass(frozen=True)
class Taking:
    """The photo `k` of a camera whose colors, times `gain` (3,), a page takes; each texel from places x places."""

    k: int
    camera: Camera
    gain: np.ndarray
    places: int


def texels_of(page, taking, picture):
    """Where the texels lie that a page takes from a photo, (m,) along its rows, and their colors (m, 3) uint8.

    page : Page; taking : Taking; picture : (h, w, 3) uint8
    """
    mine = np.append(page.photo == taking.k, False)  # the last one is of texels without a triangle
    at = np.flatnonzero(mine[page.owner.ravel()])
    color, camera = np.empty((len(at), 3), np.uint8), taking.camera
    in_threads(
        _taken, len(at), at, page.owner, page.uv, page.points, page.faces,
        np.ascontiguousarray(camera.pose, np.float64), np.ascontiguousarray(camera.lens, np.float64),
        np.ascontiguousarray(picture), np.asarray(taking.gain, np.float64), (page.corner, page.added),
        int(min(max(taking.places, 1), MOST)), color,
    )  # fmt: skip
    return at, color


@njit(cache=True, nogil=True)
def _between(owner, mine, uv, corner, value, color, first, last):
    for y in range(first, last):
        for x in range(owner.shape[1]):
            t = owner[y, x]
            if t < 0 or not mine[t]:
                continue
            p, q, r = _shares(uv, t, x + 0.5, y + 0.5)
            for k in range(color.shape[2]):
                z = p * value[corner[t, 0], k] + q * value[corner[t, 1], k] + r * value[corner[t, 2], k]
                color[y, x, k] = np.uint8(min(max(z, 0.0), 255.0) + 0.5)


def fill_between(owner, mine, uv, corner, value, color):
    """Put values (n, c) of corners (t, 3), linear over each triangle, into the texels of some of them, mine (t,)."""
    in_threads(_between, len(owner), owner, mine, uv, np.ascontiguousarray(corner, np.int32), value, color)


def padded(color, owner):
    """Colors (side, side, c) with those of the nearest texel where no triangle lies."""
    none = owner < 0
    if none.all():
        return color
    rows, cols = scipy.ndimage.distance_transform_edt(none, return_distances=False, return_indices=True)
    return color[rows, cols]
