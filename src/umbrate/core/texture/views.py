"""What photos show of a surface's triangles: how large, whether anything stands before it, and in which color.

A photo shows a triangle where all its corners and its middle lie inside the picture and the mask, and nothing of the
surface lies before them. How good it is there is the number of its pixels on the triangle, which counts distance and
slant.
"""

from dataclasses import dataclass

import numpy as np
import scipy
from numba import njit

from ..cloud.grid import in_threads
from ..geometry.lens import project_one
from ..imaging.filters import halve_mask
from ..imaging.sharpness import CELL, LUMA, focus
from ..raster.triangles import mesh_depth

DEPTH_SCALE = 2  #: what hides what is drawn at this part of a photo's width
BEFORE = 3.0  #: pixels of the depth buffer: so much nearer, seen straight, something hides a place
FLATTEST = 0.12  #: cosine: triangles that are seen flatter are not taken from a photo
SOFT_STEP = 2  #: distances from soft outlines are measured on the mask halved
INSIDE_PX = 2  #: masks lose this much at their rim: pixels there show some of what is behind


@dataclass(frozen=True)
class Camera:
    """A photo: pose (4, 4) world to camera, lens vector (10,), size (w, h), its mask (h, w) bool, or None, and how many
    pixels inside the mask's outline count the less, the nearer to it they lie.
    """

    pose: np.ndarray
    lens: np.ndarray
    size: tuple
    mask: np.ndarray | None = None
    soft: int = 0


@njit(cache=True, nogil=True, inline="always")
def _pixel(E, lens, X, Y, Z):
    """Pixel and depth of a place; depth is not positive behind the camera."""
    z = E[2, 0] * X + E[2, 1] * Y + E[2, 2] * Z + E[2, 3]
    if z <= 1e-12:
        return 0.0, 0.0, z
    x = (E[0, 0] * X + E[0, 1] * Y + E[0, 2] * Z + E[0, 3]) / z
    y = (E[1, 0] * X + E[1, 1] * Y + E[1, 2] * Z + E[1, 3]) / z
    u, v = project_one(x, y, lens)
    return u, v, z


@njit(cache=True, nogil=True)
def _vertices(points, normals, E, lens, allowed, depth, f, cx, cy, out, first, last):
    """Pixels (n, 2) of vertices, and whether each is seen."""
    uv, seen = out
    h, w = allowed.shape
    dh, dw = depth.shape
    eye = np.empty(3)
    for k in range(3):
        eye[k] = -(E[0, k] * E[0, 3] + E[1, k] * E[1, 3] + E[2, k] * E[2, 3])
    for i in range(first, last):
        X, Y, Z = points[i, 0], points[i, 1], points[i, 2]
        u, v, z = _pixel(E, lens, X, Y, Z)
        uv[i, 0], uv[i, 1], seen[i] = u, v, False
        if z <= 1e-12 or not (u >= 0 and v >= 0 and u <= w - 1 and v <= h - 1):
            continue
        if not allowed[int(v + 0.5), int(u + 0.5)]:
            continue
        a, b, c = eye[0] - X, eye[1] - Y, eye[2] - Z
        cosine = (a * normals[i, 0] + b * normals[i, 1] + c * normals[i, 2]) / np.sqrt(a * a + b * b + c * c)
        if cosine < FLATTEST / 2:
            continue
        x = f * (E[0, 0] * X + E[0, 1] * Y + E[0, 2] * Z + E[0, 3]) / z + cx
        y = f * (E[1, 0] * X + E[1, 1] * Y + E[1, 2] * Z + E[1, 3]) / z + cy
        if not (x >= 0 and y >= 0 and x < dw - 1 and y < dh - 1):
            continue
        # the deepest of the four pixels round it: beside an outline some show what is before or behind
        p, q = int(x), int(y)
        far = max(max(depth[q, p], depth[q, p + 1]), max(depth[q + 1, p], depth[q + 1, p + 1]))
        seen[i] = z <= far + BEFORE * z / f / max(cosine, FLATTEST)


@njit(cache=True, nogil=True)
def _triangles(points, faces, uv, seen, E, photo, sharp, good, color, focused, first, last):
    """How good each triangle is in a photo, 0 where it is not seen, and its mean color."""
    h, w, _ = photo.shape
    for t in range(first, last):
        a, b, c = faces[t, 0], faces[t, 1], faces[t, 2]
        good[t] = np.float32(0)
        if not (seen[a] and seen[b] and seen[c]):
            continue
        area = (uv[b, 0] - uv[a, 0]) * (uv[c, 1] - uv[a, 1]) - (uv[b, 1] - uv[a, 1]) * (uv[c, 0] - uv[a, 0])
        if area >= 0:  # rows go down: a triangle that is seen from outside runs the other way
            continue
        e = np.empty((3, 3))
        for k in range(3):
            for m in range(3):
                e[k, m] = points[faces[t, (k + 1) % 3], m] - points[faces[t, k], m]
        nx, ny, nz = (
            e[0, 1] * e[1, 2] - e[0, 2] * e[1, 1],
            e[0, 2] * e[1, 0] - e[0, 0] * e[1, 2],
            e[0, 0] * e[1, 1] - e[0, 1] * e[1, 0],
        )
        X = (points[a, 0] + points[b, 0] + points[c, 0]) / 3
        Y = (points[a, 1] + points[b, 1] + points[c, 1]) / 3
        Z = (points[a, 2] + points[b, 2] + points[c, 2]) / 3
        along, far = 0.0, 0.0
        for k in range(3):
            d = -(E[0, k] * E[0, 3] + E[1, k] * E[1, 3] + E[2, k] * E[2, 3]) - (X, Y, Z)[k]
            along += d * (nx, ny, nz)[k]
            far += d * d
        if along < FLATTEST * np.sqrt(far * (nx * nx + ny * ny + nz * nz)):
            continue
        good[t] = np.float32(-0.5 * area)
        u, v = (uv[a, 0] + uv[b, 0] + uv[c, 0]) / 3, (uv[a, 1] + uv[b, 1] + uv[c, 1]) / 3
        focused[t] = sharp[min(int(v + 0.5), h - 1) // CELL, min(int(u + 0.5), w - 1) // CELL]
        # its middle and three places round that: the mean of what it shows, near enough
        red = green = blue = 0.0
        for k in range(4):
            if k == 3:
                u, v = (uv[a, 0] + uv[b, 0] + uv[c, 0]) / 3, (uv[a, 1] + uv[b, 1] + uv[c, 1]) / 3
            else:
                i, j, m = faces[t, k], faces[t, (k + 1) % 3], faces[t, (k + 2) % 3]
                u, v = 0.6 * uv[i, 0] + 0.2 * (uv[j, 0] + uv[m, 0]), 0.6 * uv[i, 1] + 0.2 * (uv[j, 1] + uv[m, 1])
            x, y = min(int(u), w - 2), min(int(v), h - 2)
            p, q = u - x, v - y
            for s in range(4):
                share = (p if s % 2 else 1 - p) * (q if s // 2 else 1 - q)
                red += share * photo[y + s // 2, x + s % 2, 0]
                green += share * photo[y + s // 2, x + s % 2, 1]
                blue += share * photo[y + s // 2, x + s % 2, 2]
        color[t, 0], color[t, 1], color[t, 2] = (
            np.uint8(red / 4 + 0.5),
            np.uint8(green / 4 + 0.5),
            np.uint8(blue / 4 + 0.5),
        )


def look_at(points, normals, faces, camera, photo):
    """What a photo (h, w, 3) uint8 shows of triangles, as `seen_in` says it, with how sharp it is there."""
    sharp = focus(np.ascontiguousarray(photo @ LUMA, np.float32), camera.mask)
    return seen_in(points, normals, faces, camera, photo, sharp)


def seen_in(points, normals, faces, camera, photo, sharp=None):
    """What a photo shows of triangles.

    Parameters
    ----------
    points, normals (n, 3) float64, faces (t, 3) int32
    camera : Camera
    photo : (h, w, 3) uint8
    sharp : (ceil(h / CELL), ceil(w / CELL)) uint8
        How sharp the photo is from place to place, see `focus`; not told where not given.

    Returns
    -------
    good : (t,) float32
        Pixels on each triangle; 0 where it is not seen.
    color : (t, 3) uint8
        Its mean color there.
    focus : (t,) uint8
        How sharp it is there; 0 where it is not seen.
    """
    h, w = photo.shape[:2]
    allowed = np.ones((h, w), np.bool_)
    if camera.mask is not None:
        allowed = scipy.ndimage.binary_erosion(camera.mask, iterations=INSIDE_PX)
    f, cx, cy = (
        camera.lens[0] / DEPTH_SCALE,
        (camera.lens[1] + 0.5) / DEPTH_SCALE - 0.5,
        (camera.lens[2] + 0.5) / DEPTH_SCALE - 0.5,
    )
    depth = mesh_depth(points, faces, (f, cx, cy), camera.pose, -(-w // DEPTH_SCALE), -(-h // DEPTH_SCALE))
    E, lens = np.ascontiguousarray(camera.pose, np.float64), np.ascontiguousarray(camera.lens, np.float64)
    uv, seen = np.empty((len(points), 2)), np.zeros(len(points), np.bool_)
    in_threads(_vertices, len(points), points, normals, E, lens, allowed, depth, f, cx, cy, (uv, seen))
    good, color = np.zeros(len(faces), np.float32), np.zeros((len(faces), 3), np.uint8)
    focused = np.zeros(len(faces), np.uint8)
    if sharp is None:
        sharp = np.zeros((-(-h // CELL), -(-w // CELL)), np.uint8)
    in_threads(
        _triangles, len(faces), points, faces, uv, seen, E, np.ascontiguousarray(photo), sharp, good, color,
        focused,
    )  # fmt: skip
    if camera.soft and camera.mask is not None:
        good *= _sureness(camera.mask, camera.soft, uv[faces].mean(1))
    return good, color, focused


def _sureness(mask, soft, at):
    """How much pixels (n, 2) count by their distance from a soft outline: 0 at it, 1 from `soft` pixels on."""
    away = scipy.ndimage.distance_transform_edt(halve_mask(mask)) * SOFT_STEP
    h, w = away.shape
    u, v = (np.clip(np.nan_to_num(at[:, k]) // SOFT_STEP, 0, n - 1).astype(int) for k, n in ((0, w), (1, h)))
    return np.minimum(away[v, u] / soft, 1.0).astype(np.float32)
