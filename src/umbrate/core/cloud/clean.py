"""First cleaning: points that stand alone, and points that the photos' own outlines rule out."""

import numpy as np
from numba import njit

from ..geometry.lens import project_one
from ..imaging.filters import widened
from .around import CROSSED, ROOM, copied, new_block, squares, sum_of_nearest, within
from .grid import columns_round, extent_of, first_columns, in_threads, sort_into_grid, spacing_of

OUTLINE_PX = 2  #: an outline is widened by so much before it rules out points
NEAR = 3.0  #: spacings within which most points of a surface have their neighbors


@njit(cache=True, nogil=True)
def _means(cells, todo, count, radius, mean, sure, first, last):
    """Mean distance of points to so many others, where these lie within a radius; else the least it can be."""
    points, key, start, shape = cells
    lo, hi, block = np.empty(9, np.int64), np.empty(9, np.int64), new_block(4, ROOM)
    square, area = np.float32(radius * radius), CROSSED * radius * radius / np.pi
    cursor = first_columns(key, shape, key[first])
    for c in range(first, last):
        if not todo[start[c] : start[c + 1]].any():
            continue
        columns_round(key[c], key, start, shape, cursor, lo, hi)
        block, held = copied(points, lo, hi, block, 0)
        for i in range(start[c], start[c + 1]):
            if not todo[i]:
                continue
            squares(block, held, points[i, 0], points[i, 1], points[i, 2])
            known = min(int(within(block, held, square)) - 1, count)  # it is near itself
            guess = min(area * (count + 1) / held, radius * radius)
            mean[i] = (sum_of_nearest(block, held, known + 1, guess) + (count - known) * radius) / count
            sure[i] = known == count


def isolated(points, neighbors=10, factor=3.0):
    """Points whose neighbors are far away compared with what is usual in the cloud.

    Neighbors are looked for as near as most points have them, and farther away for the few that have none there: a
    tree of all points took four times the memory and seven times as long, of eight million.

    Parameters
    ----------
    points : (n, 3)
    neighbors : int
        The mean distance to this many is judged.
    factor : float
        Isolated is what exceeds this many times the median.

    Returns
    -------
    (n,) bool
    """
    n = len(points)
    if n <= neighbors:
        return np.zeros(n, bool)
    points = np.ascontiguousarray(points, np.float32)
    low, high = extent_of(points)
    radius = max(NEAR * spacing_of(points), 1e-6 * float((high - low).max()), 1e-30)
    mean, sure, median = np.zeros(n, np.float32), np.zeros(n, bool), None
    todo = np.ones(n, bool)
    while todo.any():
        g = sort_into_grid(points, radius, some=None if todo.all() else todo)
        some = todo[g.order]
        found, is_sure = np.zeros(len(some), np.float32), np.zeros(len(some), bool)
        g.run(_means, some, neighbors, float(radius), found, is_sure)
        if some.all():
            mean, sure = g.back(found), g.back(is_sure)
        else:
            rows = g.order[some]
            mean[rows], sure[rows] = found[some], is_sure[some]
        del g, some, found, is_sure
        if median is None and sure.sum() > n / 2:
            # exact as soon as nothing that is not known can lie below it
            half = float(np.median(np.where(sure, mean, np.inf)))
            median = half if mean[~sure].min(initial=np.inf) >= half else None
        todo = ~sure if median is None else ~sure & (mean <= factor * median)
        radius *= 2
    return mean > factor * median


def outside_outlines(points, masks, Ks, poses, margin_px=OUTLINE_PX, frames=None):
    """In how many photos a point falls on what the mask says is not the object.

    Parameters
    ----------
    points : (n, 3)
    masks : list of (h, w) bool or None
    Ks : (m, 3), poses : (m, 4, 4)
    margin_px : int
        The outline is widened by this much first.
    frames : (m, 4), optional
        First column and row of each picture, and those behind its last, from the first pixel of its mask, which is a
        part of it then: what lies in the picture and not in that part is outside.

    Returns
    -------
    (n,) int
    """
    points, count = np.ascontiguousarray(points, np.float64), np.zeros(len(points), np.int64)
    frames = [None] * len(masks) if frames is None else frames
    for mask, K, E, frame in zip(masks, Ks, poses, frames, strict=True):
        if mask is not None:
            wide = widened(mask, margin_px)
            frame = np.array([0, 0, *mask.shape[::-1]] if frame is None else frame, float)
            K, E = np.asarray(K, float), np.asarray(E, float)
            in_threads(_fallen_outside, len(points), points, wide, K, E, frame, count)
    return count


@njit(cache=True, nogil=True)
def _fallen_outside(points, mask, K, E, frame, count, first, last):
    """Add 1 to the count of points that lie in the picture and not in its mask."""
    h, w = mask.shape
    for k in range(first, last):
        x, y, z = points[k]
        depth = E[2, 0] * x + E[2, 1] * y + E[2, 2] * z + E[2, 3]
        if depth <= 1e-9:
            continue
        u = np.rint(K[0] * (E[0, 0] * x + E[0, 1] * y + E[0, 2] * z + E[0, 3]) / depth + K[1])
        v = np.rint(K[0] * (E[1, 0] * x + E[1, 1] * y + E[1, 2] * z + E[1, 3]) / depth + K[2])
        if frame[0] <= u < frame[2] and frame[1] <= v < frame[3]:
            if not (0 <= u < w and 0 <= v < h and mask[int(v), int(u)]):
                count[k] += 1


def inside_outlines(points, normals, cameras, deep_px, steepest_deg=75.0):
    """Which points lie deeper than `deep_px` inside the mask of at least one photo that they face (n,) bool.

    What a mask's outline has cut off badly lies near it in every photo that sees it; a point of the surface lies
    deep in the photos that look at it from the front.

    Parameters
    ----------
    points, normals : (n, 3)
    cameras : sequence of `coverage.Camera`
        Those without a mask do not count.
    """
    least = np.cos(np.radians(steepest_deg))
    masked = [k for k, c in enumerate(cameras) if c.mask is not None and c.mask.any()]
    # photos in an order in which neighbors in the list look from elsewhere, so that few of them settle most points
    n = len(masked)
    stride = next((k for k in range(round(0.38 * n), n) if np.gcd(k, n) == 1), 1)
    points, normals = (np.ascontiguousarray(x, np.float32) for x in (points, normals))
    out = np.zeros(len(points), np.bool_)
    for k in range(n):
        c = cameras[masked[k * stride % n]]
        rows, columns = np.flatnonzero(c.mask.any(1)), np.flatnonzero(c.mask.any(0))
        top, left = int(rows[0]), int(columns[0])
        box = np.ascontiguousarray(c.mask[top : rows[-1] + 1, left : columns[-1] + 1], np.bool_)
        away, deep = np.empty(box.shape, np.int32), np.empty(box.shape, np.bool_)
        in_threads(_sideways, len(box), box, away)
        in_threads(_erode, len(box), away, float(deep_px), deep)
        E = np.ascontiguousarray(c.pose, np.float64)
        camera, inside = (E, -E[:3, :3].T @ E[:3, 3], c.lens.vector), (deep, left, top)
        in_threads(_deep, len(points), points, normals, camera, inside, least, out)
    return out


@njit(cache=True, nogil=True)
def _sideways(mask, away, first, last):
    """Pixels to the nearest one outside the mask in the same row; what lies beyond the array is outside."""
    w = mask.shape[1]
    for y in range(first, last):
        d = 0
        for x in range(w):
            d = d + 1 if mask[y, x] else 0
            away[y, x] = d
        d = 0
        for x in range(w - 1, -1, -1):
            d = d + 1 if mask[y, x] else 0
            away[y, x] = min(away[y, x], d)


@njit(cache=True, nogil=True)
def _erode(away, radius, deep, first, last):
    """Whether the nearest pixel outside is farther than `radius`, from the distances along the rows."""
    h, w = away.shape
    for y in range(first, last):
        for x in range(w):
            good, k = True, 0
            while good and k <= radius:
                up = away[y - k, x] if y >= k else 0
                low = away[y + k, x] if y + k < h else 0
                d = min(up, low)
                good = k * k + d * d > radius * radius
                k += 1
            deep[y, x] = good


@njit(cache=True, nogil=True)
def _deep(points, normals, camera, inside, least, out, first, last):
    """camera: world to camera, place, lens; inside: what lies deep in its mask, a part, and where that begins."""
    E, eye, lens = camera
    deep, left, top = inside
    h, w = deep.shape
    for i in range(first, last):
        if out[i]:
            continue
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        rx, ry, rz = eye[0] - x, eye[1] - y, eye[2] - z
        along = rx * normals[i, 0] + ry * normals[i, 1] + rz * normals[i, 2]
        if along <= 0 or along * along <= least * least * (rx * rx + ry * ry + rz * rz):
            continue
        d = E[2, 0] * x + E[2, 1] * y + E[2, 2] * z + E[2, 3]
        if d <= 0:
            continue
        u, v = project_one(
            (E[0, 0] * x + E[0, 1] * y + E[0, 2] * z + E[0, 3]) / d,
            (E[1, 0] * x + E[1, 1] * y + E[1, 2] * z + E[1, 3]) / d,
            lens,
        )
        a, b = int(np.floor(u + 0.5)) - left, int(np.floor(v + 0.5)) - top
        if a >= 0 and b >= 0 and a < w and b < h:
            out[i] = deep[b, a]
