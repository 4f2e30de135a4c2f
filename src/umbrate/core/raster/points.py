"""Drawing points: a z-buffer in plain memory.

Every point writes its color, depth and index where it is nearest; the index buffer is what makes
the pixel under the pointer know its point. Points are shared out among threads, each with buffers of
its own, merged by depth and then by index, so the picture does not depend on the number of threads.
"""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numba import njit

_POOL = ThreadPoolExecutor(2, thread_name_prefix="raster")
FAR = np.float32(3.0e38)
LARGEST = 48  #: side of a point's square in pixels


@dataclass
class Buffers:
    """A picture in the making: depth (h, w) float32 (FAR: nothing), index (h, w) int32 (-1: nothing)."""

    depth: np.ndarray
    index: np.ndarray
    flat: float = 0.0  #: of a parallel view, the depth of its pivot; else 0

    @classmethod
    def empty(cls, width, height):
        """Buffers with nothing drawn."""
        return cls(np.full((height, width), FAR, np.float32), np.full((height, width), -1, np.int32))


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _splat(points, first, last, view, size, spacing, depth, index):
    """Points in a view, which is the pose (4, 4), the focal length, and 0 or the depth that a parallel one projects at.

    spacing : 0, or what a point covers
    """
    E, f, flat = view
    h, w = depth.shape
    cx, cy = np.float32((w - 1) / 2.0), np.float32((h - 1) / 2.0)
    a, b, c, d = E[0, 0], E[0, 1], E[0, 2], E[0, 3]
    e, g, i, j = E[1, 0], E[1, 1], E[1, 2], E[1, 3]
    k, l, m, n = E[2, 0], E[2, 1], E[2, 2], E[2, 3]
    lo = -((size - 1) // 2)
    side = size
    for p in range(first, last):
        x, y, z = points[p, 0], points[p, 1], points[p, 2]
        zz = k * x + l * y + m * z + n
        if zz <= np.float32(1e-6) and flat == 0:
            continue
        q = f / (flat if flat > 0 else zz)
        if spacing > 0:
            side = min(max(int(spacing * q + np.float32(0.999)), size), LARGEST)
            lo = -((side - 1) // 2)
        u = int((a * x + b * y + c * z + d) * q + cx + np.float32(0.5)) + lo
        v = int((e * x + g * y + i * z + j) * q + cy + np.float32(0.5)) + lo
        if u < 0 or v < 0 or u + side > w or v + side > h:
            continue
        for vv in range(v, v + side):
            for uu in range(u, u + side):
                if zz < depth[vv, uu]:
                    depth[vv, uu] = zz
                    index[vv, uu] = p


@njit(cache=True, nogil=True)
def _merge(depth, index, depth2, index2):
    h, w = depth.shape
    for v in range(h):
        for u in range(w):
            if depth2[v, u] < depth[v, u] or (depth2[v, u] == depth[v, u] and 0 <= index2[v, u] < index[v, u]):
                depth[v, u] = depth2[v, u]
                index[v, u] = index2[v, u]


def merge(first, second):
    """Put into the first Buffers what the second has nearer."""
    _merge(first.depth, first.index, second.depth, second.index)


def draw_points(points, eye, width, height, size=1, count=None, spacing=0.0):
    """Depth and index of the nearest point at every pixel.

    Parameters
    ----------
    points : (n, 3) float32, C order
    eye : Eye
    size : int
        Width of a point's square in pixels.
    count : int, optional
        Only this many first points.
    spacing : float
        Where it is over 0, a point's square is as wide as this length is there, at least `size` and at most LARGEST.

    Returns
    -------
    Buffers
    """
    n = len(points) if count is None else min(count, len(points))
    view = eye.pose.astype(np.float32), np.float32(eye.f), np.float32(eye.flat)
    first = Buffers.empty(width, height)
    first.flat = eye.flat
    if n < 100_000:
        _splat(points, 0, n, view, size, np.float32(spacing), first.depth, first.index)
        return first
    second = Buffers.empty(width, height)
    half = n // 2
    other = _POOL.submit(_splat, points, half, n, view, size, np.float32(spacing), second.depth, second.index)
    _splat(points, 0, half, view, size, np.float32(spacing), first.depth, first.index)
    other.result()
    merge(first, second)
    return first


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _paint(buffers, colors, ground, edges, first, last, out):
    """Of buffers: depth, index and flat."""
    depth, index, flat = buffers
    h, w = depth.shape
    for v in range(first, last):
        for u in range(w):
            k = index[v, u]
            if k < 0:
                out[v, u, 0], out[v, u, 1], out[v, u, 2], out[v, u, 3] = ground[2], ground[1], ground[0], 255
                continue
            s = np.float32(1.0)
            if edges > 0:
                # darken what lies behind its neighbors: relief becomes readable without normals
                z = depth[v, u]
                drop = np.float32(0.0)
                for q in range(4):
                    uu = u + (2 if q == 0 else (-2 if q == 1 else 0))
                    vv = v + (2 if q == 2 else (-2 if q == 3 else 0))
                    if uu < 0 or vv < 0 or uu >= w or vv >= h or index[vv, uu] < 0:
                        continue
                    drop += max(np.float32(0.0), z - depth[vv, uu])
                if drop > 0:
                    s = np.exp(-min(drop * edges / (flat if flat > 0 else z), np.float32(1.2)))
            out[v, u, 0] = np.uint8(colors[k, 2] * s)
            out[v, u, 1] = np.uint8(colors[k, 1] * s)
            out[v, u, 2] = np.uint8(colors[k, 0] * s)
            out[v, u, 3] = 255


def paint(buffers, colors, ground, edges=0.0):
    """The picture of drawn points.

    Parameters
    ----------
    buffers : Buffers
    colors : (n, 3) uint8
        Red, green and blue of every point.
    ground : 3 ints
        Color where nothing is drawn.
    edges : float
        Strength of depth edges: 0 none, some 30 clear.

    Returns
    -------
    (h, w, 4) uint8, blue-green-red-alpha
    """
    h, w = buffers.depth.shape
    out = np.empty((h, w, 4), np.uint8)
    drawn = buffers.depth, buffers.index, np.float32(buffers.flat)
    arguments = drawn, colors, np.array(ground, np.uint8), np.float32(edges)
    other = _POOL.submit(_paint, *arguments, h // 2, h, out)
    _paint(*arguments, 0, h // 2, out)
    other.result()
    return out
