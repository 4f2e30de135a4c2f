"""Which point is drawn at a pixel, and which places lie inside what somebody drew on the screen."""

import os
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise
from typing import NamedTuple

import numpy as np
import scipy
from numba import njit

BANDS = 512  #: the polygon's height is divided into so many, each with the edges that cross it
CELLS, PARTLY = 256, 2  #: what it reaches over is divided into so many along each side; one that its line may cross
SLANT = 4.0  #: how deep a surface may go for each pixel across it, in sizes of a pixel: some 76 degrees
SOME = 100_000  #: points under a brush by which the usual distance is measured
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


class View(NamedTuple):
    """World to eye (4, 4), focal length and middle of the picture in pixels."""

    E: np.ndarray
    f: float
    cx: float
    cy: float


class Drawn(NamedTuple):
    """A closed polygon (m, 2), what it reaches to, and its edges by band of height, `per` bands a pixel.

    `cells` (n, n) int8 says of even parts of that, `across` and `down` a pixel, what lies in the polygon: nothing of
    it, all, or a part (`PARTLY`).
    """

    polygon: np.ndarray
    low: float
    high: float
    left: float
    right: float
    per: float
    begin: np.ndarray
    edges: np.ndarray
    cells: np.ndarray
    across: float
    down: float


@njit(cache=True, nogil=True)
def _odd(u, v, drawn):
    """Whether a place has an odd number of edges to its left."""
    polygon, begin, edges = drawn.polygon, drawn.begin, drawn.edges
    odd, c = False, min(int((v - drawn.low) * drawn.per), BANDS - 1)
    for e in range(begin[c], begin[c + 1]):
        j = edges[e]
        k = j - 1 if j else polygon.shape[0] - 1
        if (polygon[j, 1] > v) != (polygon[k, 1] > v):
            t = (v - polygon[j, 1]) / (polygon[k, 1] - polygon[j, 1])
            if u < polygon[j, 0] + t * (polygon[k, 0] - polygon[j, 0]):
                odd = not odd
    return odd


@njit(cache=True, nogil=True)
def _crossed(drawn):
    """Fill the cells: those an edge may cross lie partly inside, the others wholly or not at all."""
    polygon, cells = drawn.polygon, drawn.cells
    n = cells.shape[0]
    cells[:] = 0
    for j in range(polygon.shape[0]):
        k = j - 1 if j else polygon.shape[0] - 1
        y0, y1 = (polygon[j, 1] - drawn.low) * drawn.down, (polygon[k, 1] - drawn.low) * drawn.down
        x0, x1 = (polygon[j, 0] - drawn.left) * drawn.across, (polygon[k, 0] - drawn.left) * drawn.across
        if y0 > y1:
            x0, y0, x1, y1 = x1, y1, x0, y0
        slope = (x1 - x0) / (y1 - y0) if y1 > y0 else 0.0
        for y in range(max(int(y0) - 1, 0), min(int(y1) + 1, n - 1) + 1):
            # what the edge reaches over while it crosses the row, and a cell more for what rounding does
            a = x0 + slope * (min(max(y, y0), y1) - y0) if y1 > y0 else x0
            b = x0 + slope * (min(max(y + 1.0, y0), y1) - y0) if y1 > y0 else x1
            for x in range(max(int(min(a, b)) - 1, 0), min(int(max(a, b)) + 1, n - 1) + 1):
                cells[y, x] = PARTLY
    for y in range(n):
        for x in range(n):
            if cells[y, x] != PARTLY:
                cells[y, x] = _odd(drawn.left + (x + 0.5) / drawn.across, drawn.low + (y + 0.5) / drawn.down, drawn)


@njit(cache=True, nogil=True, error_model="numpy")
def _seen_inside(points, view, drawn, out, first, last):
    E, f, cx, cy = view
    low, high, left, right, cells = drawn.low, drawn.high, drawn.left, drawn.right, drawn.cells
    a0, a1, a2, a3 = E[0, 0] * f, E[0, 1] * f, E[0, 2] * f, E[0, 3] * f
    b0, b1, b2, b3 = E[1, 0] * f, E[1, 1] * f, E[1, 2] * f, E[1, 3] * f
    c0, c1, c2, c3 = E[2, 0], E[2, 1], E[2, 2], E[2, 3]
    n = cells.shape[0]
    for i in range(first, last):
        out[i] = False
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        w = c0 * x + c1 * y + c2 * z + c3
        if w <= 0:
            continue
        w = 1.0 / w
        v = (b0 * x + b1 * y + b2 * z + b3) * w + cy
        u = (a0 * x + a1 * y + a2 * z + a3) * w + cx
        if not (low <= v <= high and left <= u <= right):
            continue
        r, c = min(int((v - low) * drawn.down), n - 1), min(int((u - left) * drawn.across), n - 1)
        kind = cells[r, c]
        out[i] = _odd(u, v, drawn) if kind == PARTLY else kind == 1


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
    cells = np.empty((CELLS, CELLS), np.int8)
    across, down = CELLS / max(right - left, 1e-9), CELLS / max(high - low, 1e-9)
    drawn = Drawn(polygon, low, high, left, right, per, begin, edges, cells, across, down)
    _crossed(drawn)
    _in_parts(_seen_inside, len(points), np.ascontiguousarray(points, np.float32), _view(view, f, middle), drawn, out)
    return out


def _view(view, f, middle):
    return View(np.ascontiguousarray(view, np.float64), float(f), float(middle[0]), float(middle[1]))


def _in_parts(kernel, count, *arguments):
    """Call ``kernel(*arguments, first, last)`` for all of `count` points, in threads."""
    parts = np.linspace(0, count, 2 * THREADS + 1).astype(int)
    for job in [_POOL.submit(kernel, *arguments, int(a), int(b)) for a, b in pairwise(parts)]:
        job.result()


@njit(cache=True, nogil=True, error_model="numpy")
def _under(points, view, left, top, painted, out, first, last):
    E, f, cx, cy = view
    h, w = painted.shape
    a0, a1, a2, a3 = E[0, 0] * f, E[0, 1] * f, E[0, 2] * f, E[0, 3] * f
    b0, b1, b2, b3 = E[1, 0] * f, E[1, 1] * f, E[1, 2] * f, E[1, 3] * f
    c0, c1, c2, c3 = E[2, 0], E[2, 1], E[2, 2], E[2, 3]
    cx, cy = cx - left, cy - top
    for i in range(first, last):
        out[i] = False
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        d = c0 * x + c1 * y + c2 * z + c3
        if d <= 0:
            continue
        d = 1.0 / d
        v = (b0 * x + b1 * y + b2 * z + b3) * d + cy
        u = (a0 * x + a1 * y + a2 * z + a3) * d + cx
        if u >= 0 and v >= 0 and u < w and v < h:
            out[i] = painted[int(v), int(u)]


def seen_under(points, view, f, middle, strokes, radius, front, spacing):
    """Which points (n, 3) float32 a brush painted over in a view, (n,) bool: the foremost ones, not what they hide.

    view : (4, 4) world to eye; f, middle : focal length and middle of the picture in pixels
    strokes : list of (m, 2), where the brush went; radius : of the brush, pixels
    front : (4,) depth of a point is ``front[:3] X + front[3]``, in the unit of the points
    spacing : distance between points
    """
    points = np.ascontiguousarray(points, np.float32)
    out = np.zeros(len(points), np.bool_)
    strokes = [np.asarray(x, float).reshape(-1, 2) for x in strokes if len(x)]
    if not strokes or not len(points):
        return out
    path = np.concatenate(strokes)
    left, top = np.floor(path.min(0) - radius).astype(int)
    right, low = np.ceil(path.max(0) + radius).astype(int)
    y, x = np.mgrid[top:low, left:right] + 0.5
    painted = np.zeros(x.shape, np.bool_)
    for stroke in strokes:
        for a, b in pairwise(stroke if len(stroke) > 1 else np.repeat(stroke, 2, 0)):
            # only round the segment: a long path has many of them
            lo = np.maximum(np.floor(np.minimum(a, b) - radius).astype(int) - [left, top], 0)
            hi = np.ceil(np.maximum(a, b) + radius).astype(int) - [left, top]
            part = np.s_[lo[1] : hi[1], lo[0] : hi[0]]
            d, px, py = b - a, x[part] - a[0], y[part] - a[1]
            t = np.clip((px * d[0] + py * d[1]) / max(d @ d, 1e-12), 0, 1)
            painted[part] |= (px - t * d[0]) ** 2 + (py - t * d[1]) ** 2 <= radius * radius
    view = np.ascontiguousarray(view, np.float64)
    _in_parts(_under, len(points), points, _view(view, f, middle), int(left), int(top), painted, out)
    rows = np.flatnonzero(out)
    if len(rows):
        some = rows[:: max(1, len(rows) // SOME)]
        usual = float(np.median(points[some] @ view[2, :3] + view[2, 3]))
        cell = max(2.0, 2.5 * spacing * f / usual)
        # rows and columns of cells that what is painted reaches over, and one more on each side
        shape = [int((b - a) / cell) + 4 for a, b in ((top, low), (left, right))]
        front, at = np.asarray(front, np.float64), (float(left), float(top), float(cell))
        nearest = np.full((2 * THREADS, *shape), np.inf)
        parts = np.linspace(0, len(rows), len(nearest) + 1).astype(int)
        jobs = [
            _POOL.submit(_foremost, points, rows[a:b], _view(view, f, middle), front, at, nearest[k])
            for k, (a, b) in enumerate(pairwise(parts))
        ]
        for job in jobs:
            job.result()
        # a cell at the brush's rim may hold nothing of the front; a slanted surface lies deeper within a cell
        nearest = scipy.ndimage.minimum_filter(nearest.min(0), 3, mode="nearest")
        _in_parts(
            _near_front, len(rows), points, rows, _view(view, f, middle), front, at, nearest, float(4 * spacing), out
        )  # fmt: skip
    return out


@njit(cache=True, nogil=True, error_model="numpy", inline="always")
def _cell_of(points, i, view, at):
    """Row and column of the cell a point is seen in, and its distance along the view."""
    E, f, cx, cy = view
    left, top, cell = at
    x, y, z = points[i, 0], points[i, 1], points[i, 2]
    d = E[2, 0] * x + E[2, 1] * y + E[2, 2] * z + E[2, 3]
    v = (E[1, 0] * x + E[1, 1] * y + E[1, 2] * z + E[1, 3]) / d * f + cy
    u = (E[0, 0] * x + E[0, 1] * y + E[0, 2] * z + E[0, 3]) / d * f + cx
    return int((v - top) / cell + 1.0), int((u - left) / cell + 1.0), d


@njit(cache=True, nogil=True, error_model="numpy", inline="always")
def _depth_of(points, i, front):
    return points[i, 0] * front[0] + points[i, 1] * front[1] + points[i, 2] * front[2] + front[3]


@njit(cache=True, nogil=True, error_model="numpy")
def _foremost(points, rows, view, front, at, nearest):
    """The least depth in each cell of a view."""
    for i in rows:
        r, c, _ = _cell_of(points, i, view, at)
        nearest[r, c] = min(nearest[r, c], _depth_of(points, i, front))


@njit(cache=True, nogil=True, error_model="numpy")
def _near_front(points, rows, view, front, at, nearest, slack, out, first, last):
    """Of the points of rows only those stay that lie hardly behind the foremost one of their cell."""
    for k in range(first, last):
        i = rows[k]
        r, c, d = _cell_of(points, i, view, at)
        out[i] = _depth_of(points, i, front) <= nearest[r, c] + slack + 3 * at[2] * d / view[1]


def drawn_at(depth, index, at, reach, f, flat=0.0):
    """The point drawn at a pixel, or else the one drawn nearest to it.

    Between points of a surface what lies behind can be seen: what is much deeper than the nearest point within reach
    does not count, unless nothing else is there. What a surface seen at a slant reaches in depth does.

    Parameters
    ----------
    depth, index : (h, w) of the drawn points; the index is -1 where there is none
    at : (x, y) of the pixel
    reach : int
        How many pixels away a point may be.
    f : focal length of the view in pixels
    flat : what a parallel view divides by; 0 of a perspective one

    Returns
    -------
    int
        The index, or -1 without any.
    """
    (x, y), (h, w) = at, index.shape
    x0, y0 = max(0, x - reach), max(0, y - reach)
    some = np.s_[y0 : min(h, y + reach + 1), x0 : min(w, x + reach + 1)]
    z, i = depth[some], index[some]
    rows, columns = np.nonzero(i >= 0)
    if not len(rows):
        return -1
    z = z[rows, columns].astype(float)
    behind = z - z.min() > SLANT * max(reach, 1) * (flat or z.min()) / f
    d = np.hypot(rows + y0 - y, columns + x0 - x) + np.where(behind, 1e6, 0.0)
    k = np.lexsort((z, d))[0]
    return int(i[rows[k], columns[k]])
