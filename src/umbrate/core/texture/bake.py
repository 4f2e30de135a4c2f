"""Texels: which triangle each lies on, and its color from that triangle's photo.

A texel's middle lies on a triangle, so at a place in space, so at a pixel of the photo that the triangle is taken from:
the color there, between pixels by a cubic that keeps what is sharp (Keys 1981), is the texel's. Where a texel is larger
than a pixel it is the mean of several places on it. Rows of pages run from above, as those of pictures do.
"""

import numpy as np
import scipy
from numba import njit

from ..cloud.grid import in_threads
from .views import _pixel

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
def _taken(owner, mine, uv, points, faces, E, lens, photo, gain, more, places, color, first, last):
    """Colors of the texels of some rows whose triangles are taken from a photo."""
    corner, value = more
    total = np.empty(3)
    for y in range(first, last):
        for x in range(owner.shape[1]):
            t = owner[y, x]
            if t < 0 or not mine[t]:
                continue
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
                color[y, x, k] = np.uint8(min(max(z, 0.0), 255.0) + 0.5)


def take_from(photo, camera, gain, mine, owner, uv, mesh, sides, correction, places, color):
    """Put colors into the texels of a page whose triangles are taken from a photo.

    Parameters
    ----------
    photo : (h, w, 3) uint8
    camera : Camera
    gain : (3,)
        Factors on its colors.
    mine : (t,) bool
        The triangles that are taken from it.
    owner : (side, side) int32
    uv : (t, 3, 2)
    mesh : points (n, 3) float64 and faces (t, 3)
    sides : Sides, correction : (m, 3)
        What is added at the triangles' corners.
    places : int
        Along a side of a texel that are averaged.
    color : (side, side, 3) uint8
        Receives them.
    """
    E, lens = np.ascontiguousarray(camera.pose, np.float64), np.ascontiguousarray(camera.lens, np.float64)
    in_threads(
        _taken, len(owner), owner, mine, uv, *mesh, E, lens, np.ascontiguousarray(photo), np.asarray(gain, np.float64),
        (sides.corner, correction), int(min(max(places, 1), MOST)), color,
    )  # fmt: skip


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
