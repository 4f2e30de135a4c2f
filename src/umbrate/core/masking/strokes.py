"""Strokes: the places in a picture that a movement of the hand chooses.

Every stroke is a Region: a small mask and where it lies, so that its cost goes with its size and not
with the picture's. Points are (x, y) in pixels, pixel centers at whole numbers.
"""

from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise
from typing import NamedTuple

import numpy as np
import scipy
import skimage
from numba import njit

from ..forest import root
from ..imaging.runs import join_runs

ADD, TAKE, REPLACE = "add", "take away", "replace"


class Region(NamedTuple):
    """A mask (h, w) bool whose pixel (0, 0) is the picture's (left, top)."""

    top: int
    left: int
    mask: np.ndarray


def _box(shape, points, margin=0):
    """The part of a picture that points span: top, left, bottom, right, kept inside it."""
    p = np.asarray(points, float)
    lo, hi = np.floor(p.min(0)).astype(int) - margin, np.ceil(p.max(0)).astype(int) + margin + 1
    return max(0, lo[1]), max(0, lo[0]), min(shape[0], hi[1]), min(shape[1], hi[0])


def _empty():
    return Region(0, 0, np.zeros((0, 0), bool))


def rectangle(shape, a, b):
    """The Region between two corners."""
    top, left, bottom, right = _box(shape, [np.round(a), np.round(b)])
    return Region(top, left, np.ones((max(0, bottom - top), max(0, right - left)), bool))


@njit(cache=True, nogil=True)
def _fill(points, out):
    h, w = out.shape
    n = points.shape[0]
    crossings = np.empty(n)
    for y in range(h):
        count = 0
        for k in range(n):
            ax, ay = points[k, 0], points[k, 1]
            bx, by = points[(k + 1) % n, 0], points[(k + 1) % n, 1]
            # half open, so that a corner on the row counts once
            if (ay <= y) != (by <= y):
                crossings[count] = ax + (y - ay) * (bx - ax) / (by - ay)
                count += 1
        row = np.sort(crossings[:count])
        for k in range(0, count - 1, 2):
            for x in range(max(0, int(np.ceil(row[k]))), min(w - 1, int(np.floor(row[k + 1]))) + 1):
                out[y, x] = True


def polygon(shape, points):
    """The Region inside a closed line of at least three points (where it crosses itself: inside and out by turns)."""
    if len(points) < 3:
        return _empty()
    top, left, bottom, right = _box(shape, points)
    out = np.zeros((max(0, bottom - top), max(0, right - left)), bool)
    _fill(np.asarray(points, float) - [left, top], out)
    return Region(top, left, out)


@njit(cache=True, nogil=True)
def _sweep(points, radius, left, top, out):
    h, w = out.shape
    r2 = radius * radius
    for k in range(max(1, points.shape[0] - 1)):
        ax, ay = points[k, 0] - left, points[k, 1] - top
        m = min(k + 1, points.shape[0] - 1)
        dx, dy = points[m, 0] - left - ax, points[m, 1] - top - ay
        length2 = dx * dx + dy * dy
        y0, y1 = max(0, int(min(ay, ay + dy) - radius)), min(h - 1, int(max(ay, ay + dy) + radius) + 1)
        x0, x1 = max(0, int(min(ax, ax + dx) - radius)), min(w - 1, int(max(ax, ax + dx) + radius) + 1)
        for y in range(y0, y1 + 1):
            for x in range(x0, x1 + 1):
                t = 0.0
                if length2 > 0:
                    t = min(1.0, max(0.0, ((x - ax) * dx + (y - ay) * dy) / length2))
                ex, ey = x - ax - t * dx, y - ay - t * dy
                if ex * ex + ey * ey <= r2:
                    out[y, x] = True


def brush(shape, path, radius):
    """The Region a round brush of `radius` pixels covers along a path of one or more points."""
    top, left, bottom, right = _box(shape, path, int(np.ceil(radius)))
    out = np.zeros((max(0, bottom - top), max(0, right - left)), bool)
    _sweep(np.asarray(path, np.float64), float(radius), float(left), float(top), out)
    return Region(top, left, out)


@njit(cache=True, nogil=True)
def _near_any(picture, colors, tolerance, out):
    """Which pixels are near one of some colors (n, 3): the largest difference of a channel decides."""
    h, w, _ = picture.shape
    for v in range(h):
        for u in range(w):
            for k in range(colors.shape[0]):
                far = 0
                for c in range(3):
                    far = max(far, abs(np.int64(picture[v, u, c]) - colors[k, c]))
                if far <= tolerance:
                    out[v, u] = True
                    break


@njit(cache=True, nogil=True)
def _spread(allowed, rows, cols, out):
    """What of `allowed` is connected with some pixels of it."""
    h, w = allowed.shape
    stack = np.empty(h * w, np.int64)
    n = 0
    for k in range(rows.shape[0]):
        if allowed[rows[k], cols[k]] and not out[rows[k], cols[k]]:
            out[rows[k], cols[k]] = True
            stack[n] = rows[k] * w + cols[k]
            n += 1
    while n > 0:
        n -= 1
        y, x = stack[n] // w, stack[n] % w
        if y > 0 and allowed[y - 1, x] and not out[y - 1, x]:
            out[y - 1, x] = True
            stack[n] = (y - 1) * w + x
            n += 1
        if y < h - 1 and allowed[y + 1, x] and not out[y + 1, x]:
            out[y + 1, x] = True
            stack[n] = (y + 1) * w + x
            n += 1
        if x > 0 and allowed[y, x - 1] and not out[y, x - 1]:
            out[y, x - 1] = True
            stack[n] = y * w + x - 1
            n += 1
        if x < w - 1 and allowed[y, x + 1] and not out[y, x + 1]:
            out[y, x + 1] = True
            stack[n] = y * w + x + 1
            n += 1


@njit(cache=True, nogil=True, inline="always")
def _is_near(picture, v, u, r, g, b, tolerance):
    return (
        abs(np.int32(picture[v, u, 0]) - r) <= tolerance
        and abs(np.int32(picture[v, u, 1]) - g) <= tolerance
        and abs(np.int32(picture[v, u, 2]) - b) <= tolerance
    )


@njit(cache=True, nogil=True)
def _find_runs(picture, color, tolerance, at, first, start, end):
    """Runs of pixels near a color, row by row: pixels start to end - 1 of row y are runs first[y] to first[y + 1] - 1.

    The pixel `at` (x, y) counts as near whatever its color.
    """
    h, w, _ = picture.shape
    r, g, b = np.int32(color[0]), np.int32(color[1]), np.int32(color[2])
    n = 0
    for y in range(h):
        first[y] = n
        inside = False
        for x in range(w):
            here = _is_near(picture, y, x, r, g, b, tolerance) or (x == at[0] and y == at[1])
            if here != inside:
                if here:
                    start[n] = x
                else:
                    end[n] = x
                    n += 1
                inside = here
        if inside:
            end[n] = w
            n += 1
    first[h] = n
    return n


@njit(cache=True, nogil=True)
def _draw_runs(first, start, end, parent, x0, y0, out):
    """Set the pixels of all runs that are connected with a pixel."""
    chosen = -1
    for k in range(first[y0], first[y0 + 1]):
        if start[k] <= x0 < end[k]:
            chosen = root(parent, k)
    if chosen < 0:
        return
    for y in range(first.shape[0] - 1):
        for k in range(first[y], first[y + 1]):
            if root(parent, k) == chosen:
                out[y, start[k] : end[k]] = True


_POOL = ThreadPoolExecutor(1)  #: for the lower half of a picture, beside the caller's thread


def _runs(picture, color, tolerance, at):
    """Runs of the whole picture (see `_find_runs`): its upper and lower half at once."""
    h, w = picture.shape[:2]
    parts = []
    for top, bottom in ((0, h // 2), (h // 2, h)):
        room = (bottom - top) * (w // 2 + 1)  # only what is written to takes memory
        runs = np.empty(bottom - top + 1, np.int64), np.empty(room, np.int32), np.empty(room, np.int32)
        parts.append((picture[top:bottom], color, tolerance, np.array([at[0], at[1] - top]), *runs))
    lower = _POOL.submit(_find_runs, *parts[1])
    n = _find_runs(*parts[0])
    m = lower.result()
    (*_, first, start, end), (*_, first2, start2, end2) = parts
    return (
        np.concatenate([first[:-1], first2 + n]),
        np.concatenate([start[:n], start2[:m]]),
        np.concatenate([end[:n], end2[:m]]),
    )


def _near(picture, colors, tolerance):
    out = np.zeros(picture.shape[:2], bool)
    _near_any(picture, np.asarray(colors, np.int64).reshape(-1, 3), int(tolerance), out)
    return out


def _color_at(picture, x, y, reach=1):
    around = picture[max(0, y - reach) : y + reach + 1, max(0, x - reach) : x + reach + 1].reshape(-1, 3)
    return np.median(around, axis=0).astype(np.int64)


def similar(picture, at, tolerance, connected=True):
    """The Region of the color at a point.

    Parameters
    ----------
    picture : (h, w, 3) uint8
    at : (x, y)
    tolerance : int
        Largest difference in any channel, 0 to 255.
    connected : bool
        Only what is connected with the point.
    """
    x, y = (round(c) for c in at)
    if not (0 <= x < picture.shape[1] and 0 <= y < picture.shape[0]):
        return _empty()
    color = _color_at(picture, x, y)
    if not connected:
        return Region(0, 0, _near(picture, color, tolerance))
    first, start, end = _runs(np.ascontiguousarray(picture), color, int(tolerance), (x, y))
    parent = np.empty(len(start), np.int32)
    join_runs(first, start, end, parent)
    out = np.zeros(picture.shape[:2], bool)
    _draw_runs(first, start, end, parent, x, y, out)
    return Region(0, 0, out)


def edge_brush(picture, path, radius, tolerance):
    """What a brush covers that is connected with its path and has the colors under it: it stops at edges."""
    whole = brush(picture.shape[:2], path, radius)
    h, w = whole.mask.shape
    if not whole.mask.any():
        return whole
    part = picture[whole.top : whole.top + h, whole.left : whole.left + w]
    core = brush(picture.shape[:2], path, max(1.0, 0.2 * radius))
    seed = np.zeros((h, w), bool)
    y, x = core.top - whole.top, core.left - whole.left
    seed[y : y + core.mask.shape[0], x : x + core.mask.shape[1]] = core.mask
    colors = part[seed]
    # a few colors stand for all under the brush
    near = _near(part, colors[:: max(1, len(colors) // 12)], tolerance)
    out = np.zeros((h, w), bool)
    _spread((near | seed) & whole.mask, *np.nonzero(seed), out)
    return Region(whole.top, whole.left, out)


FAR = 180  #: pixels between two places from which on an edge is followed first in a smaller picture
PIECE = 60  #: and then, that way, so many pixels at a time


def edge_path(picture, a, b, margin=24):
    """A line from a to b that follows edges: the cheapest way over a picture of where edges are not.

    Over far it is found in a smaller picture, and there after between places on that way where the edge is strongest.

    Returns
    -------
    (n, 2) array of points, a and b included
    """
    far = max(abs(a[0] - b[0]), abs(a[1] - b[1]))
    if far <= FAR:
        return _near_path(picture, a, b, margin)
    step = int(np.ceil(far / FAR))
    wide = max(margin, FAR // 3)  # edges bend
    top, left, bottom, right = _box(picture.shape[:2], [a, b], wide * step)
    h, w = (bottom - top) // step, (right - left) // step
    small = picture[top : top + h * step : step, left : left + w * step : step]
    ends = [np.clip((np.array(p) - [left, top]) / step, 0, [w - 1, h - 1]) for p in (a, b)]
    coarse = _near_path(small, *ends, wide) * step + [left, top] + step // 2
    along = np.r_[0.0, np.cumsum(np.hypot(*np.diff(coarse, axis=0).T))]
    at = np.searchsorted(along, np.arange(PIECE, along[-1] - PIECE / 2, PIECE))
    stops = [a, *(_strongest(picture, coarse[k], 2 * step) for k in at), b]
    pieces = [_near_path(picture, p, q, margin // 2) for p, q in pairwise(stops)]
    return np.vstack([pieces[0], *(x[1:] for x in pieces[1:])])


def _edges(part):
    """How strong the edge is at each pixel of a part (h, w, 3) of a picture."""
    return scipy.ndimage.gaussian_gradient_magnitude(part.astype(np.float32).mean(-1), 1.2)


def _strongest(picture, at, reach):
    """The pixel (x, y) with the strongest edge within so many pixels."""
    top, left, bottom, right = _box(picture.shape[:2], [at], reach + 4)
    edge = _edges(picture[top:bottom, left:right])
    edge[:4], edge[-4:], edge[:, :4], edge[:, -4:] = 0, 0, 0, 0  # the filter saw less there
    y, x = np.unravel_index(int(edge.argmax()), edge.shape)
    return float(x + left), float(y + top)


def _near_path(picture, a, b, margin):
    top, left, bottom, right = _box(picture.shape[:2], [a, b], margin)
    part = picture[top:bottom, left:right]
    if min(part.shape[:2]) < 3:
        return np.array([a, b], float)
    edge = _edges(part)
    cost = 1.0 / (0.05 + edge / max(float(edge.max()), 1e-6))
    ends = np.round([a, b]).astype(int) - [left, top]
    start, end = (tuple(np.clip(p, 0, [edge.shape[1] - 1, edge.shape[0] - 1])[::-1]) for p in ends)
    way = skimage.graph.MCP_Geometric(cost)
    way.find_costs([start], [end])
    path = np.array(way.traceback(end), float)[:, ::-1] + [left, top]
    return np.vstack([[a], path[1:-1], [b]])


def apply(mask, region, mode=ADD, itself=False):
    """A mask (h, w) bool after a stroke: its Region added, taken away, or all that is left.

    itself : whether the mask that is given may be changed, which spares a copy
    """
    out = np.zeros_like(mask) if mode == REPLACE else mask if itself else mask.copy()
    h, w = region.mask.shape
    part = out[region.top : region.top + h, region.left : region.left + w]
    if mode == TAKE:
        part &= ~region.mask
    else:
        part |= region.mask
    return out
