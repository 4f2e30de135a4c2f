"""Which drawn places lie inside what somebody drew on the screen."""

import os
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise

import numpy as np
from numba import njit

BANDS = 512  #: the polygon's height is divided into so many, each with the edges that cross it
THREADS = max(1, min(8, os.cpu_count() or 1))
_POOL = ThreadPoolExecutor(THREADS, thread_name_prefix="pick")


@njit(cache=True, nogil=True)
def _inside(uv, polygon, out):
    n = polygon.shape[0]
    for i in range(uv.shape[0]):
        x, y = uv[i, 0], uv[i, 1]
        odd = False
        k = n - 1
        for j in range(n):
            if (polygon[j, 1] > y) != (polygon[k, 1] > y):
                t = (y - polygon[j, 1]) / (polygon[k, 1] - polygon[j, 1])
                if x < polygon[j, 0] + t * (polygon[k, 0] - polygon[j, 0]):
                    odd = not odd
            k = j
        out[i] = odd


def inside_polygon(uv, polygon):
    """Which places (n, 2) lie inside a closed polygon (m, 2), (n,) bool: by the number of edges to the left."""
    out = np.zeros(len(uv), np.bool_)
    if len(polygon) >= 3:
        _inside(np.ascontiguousarray(uv, np.float64), np.ascontiguousarray(polygon, np.float64), out)
    return out


def within(uv, path, radius):
    """Which places (n, 2) lie within `radius` of the corners of a path (m, 2), (n,) bool."""
    out = np.zeros(len(uv), bool)
    for p in np.asarray(path, float).reshape(-1, 2):
        out |= ((uv - p) ** 2).sum(1) <= radius * radius
    return out


@njit(cache=True, nogil=True)
def _bands(polygon, low, per, begin, edges, fill):
    """Edges (their first corner) by band of height; with `fill` off, only counted."""
    n = polygon.shape[0]
    for j in range(n):
        k = j - 1 if j else n - 1
        a = (min(polygon[j, 1], polygon[k, 1]) - low) * per
        b = (max(polygon[j, 1], polygon[k, 1]) - low) * per
        for c in range(max(int(a), 0), min(int(b), BANDS - 1) + 1):
            if fill:
                edges[begin[c]] = j
            begin[c] += 1


@njit(cache=True, nogil=True)
def _seen_inside(points, E, f, cx, cy, polygon, low, high, left, right, per, begin, edges, out, first, last):
    n = polygon.shape[0]
    for i in range(first, last):
        out[i] = False
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        w = E[2, 0] * x + E[2, 1] * y + E[2, 2] * z + E[2, 3]
        if w <= 0:
            continue
        v = (E[1, 0] * x + E[1, 1] * y + E[1, 2] * z + E[1, 3]) / w * f + cy
        if v < low or v > high:
            continue
        u = (E[0, 0] * x + E[0, 1] * y + E[0, 2] * z + E[0, 3]) / w * f + cx
        if u < left or u > right:
            continue
        c = min(int((v - low) * per), BANDS - 1)
        odd = False
        for e in range(begin[c], begin[c + 1]):
            j = edges[e]
            k = j - 1 if j else n - 1
            if (polygon[j, 1] > v) != (polygon[k, 1] > v):
                t = (v - polygon[j, 1]) / (polygon[k, 1] - polygon[j, 1])
                if u < polygon[j, 0] + t * (polygon[k, 0] - polygon[j, 0]):
                    odd = not odd
        out[i] = odd


def seen_inside(points, view, f, middle, polygon):
    """Which points (n, 3) float32 are seen inside a closed polygon (m, 2) of a view, (n,) bool.

    view : (4, 4) world to eye; f, middle : focal length and middle of the picture in pixels
    """
    out = np.zeros(len(points), np.bool_)
    polygon = np.ascontiguousarray(polygon, np.float64)
    if len(polygon) < 3 or not len(points):
        return out
    (left, low), (right, high) = polygon.min(0), polygon.max(0)
    per = BANDS / max(high - low, 1e-9)
    count, none = np.zeros(BANDS, np.int64), np.zeros(0, np.int64)
    _bands(polygon, low, per, count, none, False)
    begin = np.concatenate([[0], np.cumsum(count)])
    edges = np.empty(int(begin[-1]), np.int64)
    _bands(polygon, low, per, begin[:-1].copy(), edges, True)
    fixed = (
        np.ascontiguousarray(points, np.float32), np.ascontiguousarray(view, np.float64), float(f), float(middle[0]),
        float(middle[1]), polygon, low, high, left, right, per, begin, edges, out,
    )  # fmt: skip
    parts = np.linspace(0, len(points), 2 * THREADS + 1).astype(int)
    for job in [_POOL.submit(_seen_inside, *fixed, int(a), int(b)) for a, b in pairwise(parts)]:
        job.result()
    return out
