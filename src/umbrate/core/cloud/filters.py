"""Cleaning a cloud: which points are doubtful, by what they have round them.

Every filter answers which points to keep (or where they move to); what is done with the answer is the caller's. All
are made for clouds of surfaces with millions of points: see `grid`.
"""

import numpy as np
import scipy
from numba import njit

from ..errors import NothingHere
from ..forest import root
from ..lanes import WIDTH, all_of, load, only_within, store, total
from .around import CROSSED, ROOM, copied, new_block, squares, sum_of_nearest
from .grid import Cells, cells_of, columns_round, first_columns, gathered, in_threads, sort_into_grid, spacing_of


@njit(cache=True, nogil=True)
def _count_near(cells, radius2, enough, out, first, last):
    """Other points within a radius of at most one cell's width, counted up to `enough`."""
    points, key, start, shape = cells
    lo, hi = np.empty(9, np.int64), np.empty(9, np.int64)
    cursor = first_columns(key, shape, key[first])
    for c in range(first, last):
        columns_round(key[c], key, start, shape, cursor, lo, hi)
        for i in range(start[c], start[c + 1]):
            p0, p1, p2 = points[i, 0], points[i, 1], points[i, 2]
            count = -1  # the point itself does not count
            for r in range(9):
                for j in range(lo[r], hi[r]):
                    d0, d1, d2 = points[j, 0] - p0, points[j, 1] - p1, points[j, 2] - p2
                    if d0 * d0 + d1 * d1 + d2 * d2 <= radius2:
                        count += 1
                        if count >= enough:
                            break
                if count >= enough:
                    break
            out[i] = count


def lonely(points, radius, least):
    """Points (n,) bool with fewer than `least` others within a radius."""
    if not len(points):
        return np.zeros(0, bool)
    g = sort_into_grid(points, radius)
    count = np.empty(len(points), np.int32)
    g.run(_count_near, np.float32(radius * radius), int(least), count)
    return g.back(count) < least


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _behind_surer(cells, normals, precision, order, apart2, beside2, least, out, first, last):
    """Points beside which, on another sheet of the surface, a surer one lies."""
    points, key, start, shape = cells
    lo, hi, block = np.empty(9, np.int64), np.empty(9, np.int64), new_block(7, ROOM)
    one, other = np.float32(1), all_of(np.float32(1))
    cursor = first_columns(key, shape, key[first])
    for c in range(first, last):
        columns_round(key[c], key, start, shape, cursor, lo, hi)
        block, count = copied(points, lo, hi, block, 0)
        block, count = copied(normals, lo, hi, block, 3)
        at, room = block.ctypes.data, block.shape[1]
        for i in range(start[c], start[c + 1]):
            p0, p1, p2 = points[i, 0], points[i, 1], points[i, 2]
            n0, n1, n2 = normals[i, 0], normals[i, 1], normals[i, 2]
            found = all_of(np.float32(0))
            for k in range(0, count, WIDTH):
                d0, d1, d2 = load(at, k) - p0, load(at, room + k) - p1, load(at, 2 * room + k) - p2
                far = d0 * d0 + d1 * d1 + d2 * d2
                across = d0 * n0 + d1 * n1 + d2 * n2
                turned = one - (load(at, 3 * room + k) * n0 + load(at, 4 * room + k) * n1 + load(at, 5 * room + k) * n2)
                near = only_within(far, apart2, only_within(far - across * across, beside2, other))
                near = near - only_within(across, least, near)
                near = only_within(turned, np.float32(0.5), near)
                store(at, 6 * room + k, near)
                found += near
            out[i] = False
            if total(found) > 0:
                m = 0
                for r in range(9):
                    for j in range(lo[r], hi[r]):
                        if block[6, m] > 0:
                            # of points that are as sure as each other the one that comes first in the list
                            out[i] |= precision[j] < precision[i] or (
                                precision[j] == precision[i] and order[j] < order[i]
                            )
                        m += 1


def doubled(points, normals, precision, apart, spacing, least=1.0):
    """Points (n,) bool that lie on a second sheet of a surface, beside surer points of the other one.

    Parameters
    ----------
    points, normals (n, 3)
    precision : (n,)
        Standard deviation of each; of two sheets the one with the smaller stays.
    apart : float
        Two sheets lie no farther from each other.
    spacing : float
        How far apart points of a sheet are.
    least : float
        Spacings from which on two points are of two sheets, and not of one that is uneven.
    """
    if not len(points):
        return np.zeros(0, bool)
    g = sort_into_grid(points, float(np.hypot(apart, 1.5 * spacing)) * 1.0001)
    out = np.zeros(len(points), np.bool_)
    beside = np.float32((1.5 * spacing) ** 2)
    g.run(
        _behind_surer, gathered(np.asarray(normals, np.float32), g.order), np.asarray(precision)[g.order], g.order,
        np.float32(apart**2) + beside, beside, np.float32(least * spacing), out,
    )  # fmt: skip
    return g.back(out)


@njit(cache=True, nogil=True)
def _spacing(cells, neighbors, area, out, first, last):
    """Mean distance to the nearest `neighbors` within the 27 cells round a point; infinite with fewer.

    area : of the surface in these cells, over pi
    """
    points, key, start, shape = cells
    lo, hi, block = np.empty(9, np.int64), np.empty(9, np.int64), new_block(4, ROOM)
    cursor = first_columns(key, shape, key[first])
    for c in range(first, last):
        columns_round(key[c], key, start, shape, cursor, lo, hi)
        block, count = copied(points, lo, hi, block, 0)
        guess = area * (neighbors + 1) / count
        for i in range(start[c], start[c + 1]):
            if count <= neighbors:
                out[i] = np.inf
                continue
            squares(block, count, points[i, 0], points[i, 1], points[i, 2])
            out[i] = sum_of_nearest(block, count, neighbors + 1, guess) / neighbors  # its own distance is 0


def spacing(points, neighbors=6, reach=None):
    """Mean distance (n,) to the nearest neighbors; infinite where fewer lie near.

    reach : width of the grid's cells; two usual distances where not given
    """
    if not len(points):
        return np.zeros(0, np.float32)
    g = sort_into_grid(points, reach or 2.0 * max(spacing_of(points), 1e-12))
    out = np.empty(len(points), np.float32)
    g.run(_spacing, int(neighbors), CROSSED * g.width**2 / np.pi, out)
    return g.back(out)


@njit(cache=True, nogil=True)
def _join_cells(key, shape, parent):
    """Union of cells that touch, corners included."""
    cursor = first_columns(key, shape, key[0])
    for c in range(key.shape[0]):
        for k in range(5):  # each pair of cells once: the columns that come before, and the cell below
            low = key[c] + ((k // 3 - 1) * shape[1] + k % 3 - 1) * shape[2] - 1
            d = cursor[k]
            while d < key.shape[0] and key[d] < low:
                d += 1
            cursor[k] = d
            while d < c and key[d] <= low + 2:
                a, b = root(parent, c), root(parent, d)
                if a != b:
                    parent[max(a, b)] = min(a, b)
                d += 1


@njit(cache=True, nogil=True)
def _roots(start, parent, label):
    """The root of every sorted point's cell."""
    for c in range(start.shape[0] - 1):
        r = root(parent, c)
        for k in range(start[c], start[c + 1]):
            label[k] = r


def components(points, gap):
    """Which part of the cloud each point belongs to (n,) int: parts are farther apart than about `gap`.

    Numbered by size, 0 the largest.
    """
    if not len(points):
        return np.zeros(0, np.int64)
    g = sort_into_grid(points, gap)
    parent = np.arange(len(g.key), dtype=np.int64)
    _join_cells(g.key, g.shape, parent)
    label = np.empty(len(points), np.int64)
    _roots(g.start, parent, label)
    count = np.bincount(label)
    rank = np.empty(len(count), np.int64)
    rank[np.argsort(-count, kind="stable")] = np.arange(len(count))
    return g.back(rank[label])


@njit(cache=True, nogil=True)
def _thin(cells, radius2, kept):
    """Greedy: a point is kept where no kept one lies within the radius (one thread: the order decides)."""
    points, key, start, shape = cells
    lo, hi = np.empty(9, np.int64), np.empty(9, np.int64)
    cursor = first_columns(key, shape, key[0])
    for c in range(key.shape[0]):
        columns_round(key[c], key, start, shape, cursor, lo, hi)
        for i in range(start[c], start[c + 1]):
            free = True
            for r in range(9):
                for j in range(lo[r], hi[r]):
                    if kept[j]:
                        d0, d1, d2 = (
                            points[j, 0] - points[i, 0],
                            points[j, 1] - points[i, 1],
                            points[j, 2] - points[i, 2],
                        )
                        if d0 * d0 + d1 * d1 + d2 * d2 < radius2:
                            free = False
                            break
                if not free:
                    break
            kept[i] = free


def thin_by_spacing(points, distance):
    """Which points (n,) bool stay so that no two are nearer than a distance, and none that was left out is farther."""
    if not len(points):
        return np.zeros(0, bool)
    g = sort_into_grid(points, distance)
    kept = np.zeros(len(points), np.bool_)
    _thin(g.cells, np.float32(distance * distance), kept)
    return g.back(kept)


def thin_to(points, count, seed=0):
    """Which points (n,) bool stay so that about `count` are left: an even random share."""
    n = len(points)
    out = np.zeros(n, bool)
    out[np.random.default_rng(seed).permutation(n)[: max(0, min(int(count), n))]] = True
    return out


@njit(cache=True, nogil=True)
def _lean(cells, normals, radius2, out, first, last):
    """Mean offset of the points within a radius from each point, along its tangent plane, in radii."""
    points, key, start, shape = cells
    lo, hi = np.empty(9, np.int64), np.empty(9, np.int64)
    cursor = first_columns(key, shape, key[first])
    for c in range(first, last):
        columns_round(key[c], key, start, shape, cursor, lo, hi)
        for i in range(start[c], start[c + 1]):
            p0, p1, p2 = points[i, 0], points[i, 1], points[i, 2]
            s0, s1, s2 = np.float32(0), np.float32(0), np.float32(0)
            count = 0
            for r in range(9):
                for j in range(lo[r], hi[r]):
                    d0, d1, d2 = points[j, 0] - p0, points[j, 1] - p1, points[j, 2] - p2
                    if d0 * d0 + d1 * d1 + d2 * d2 <= radius2:
                        s0, s1, s2, count = s0 + d0, s1 + d1, s2 + d2, count + 1
            by = np.float32(1) / (np.float32(max(count, 1)) * np.sqrt(radius2))
            a, b, e = normals[i, 0], normals[i, 1], normals[i, 2]
            along = (s0 * a + s1 * b + s2 * e) * by
            out[i, 0], out[i, 1], out[i, 2] = s0 * by - along * a, s1 * by - along * b, s2 * by - along * e


def rim(points, normals, radius):
    """Where a surface ends: unit vectors (n, 3) along it, out over its edge; zero for points inside it.

    The middle of half a disk lies 4 / (3 pi) radii off its straight side; a point is of the rim from 0.6 of that.
    """
    out = np.zeros((len(points), 3), np.float32)
    if not len(points):
        return out
    g = sort_into_grid(points, radius)
    g.run(_lean, gathered(np.ascontiguousarray(normals, np.float32), g.order), np.float32(radius * radius), out)
    out = -g.back(out)
    far = np.linalg.norm(out, axis=1, keepdims=True)
    return np.where(far > 0.6 * 4 / (3 * np.pi), out / np.maximum(far, np.float32(1e-9)), np.float32(0))


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _smooth(cells, normals, radius2, noise2, edge, out, first, last):
    """Points moved along their normals to the weighted mean of their neighbors' heights over the tangent plane."""
    points, key, start, shape = cells
    lo, hi, block = np.empty(9, np.int64), np.empty(9, np.int64), new_block(6, ROOM)
    one, near, over, level = np.float32(1), np.float32(1) / radius2, np.float32(1) / noise2, np.float32(1) - edge
    cursor = first_columns(key, shape, key[first])
    for c in range(first, last):
        columns_round(key[c], key, start, shape, cursor, lo, hi)
        block, count = copied(points, lo, hi, block, 0)
        block, count = copied(normals, lo, hi, block, 3)
        at, room = block.ctypes.data, block.shape[1]
        for i in range(start[c], start[c + 1]):
            p0, p1, p2 = points[i, 0], points[i, 1], points[i, 2]
            n0, n1, n2 = normals[i, 0], normals[i, 1], normals[i, 2]
            weights = shifts = all_of(np.float32(0))
            for k in range(0, count, WIDTH):
                d0, d1, d2 = load(at, k) - p0, load(at, room + k) - p1, load(at, 2 * room + k) - p2
                d = (d0 * d0 + d1 * d1 + d2 * d2) * near
                turned = one - (load(at, 3 * room + k) * n0 + load(at, 4 * room + k) * n1 + load(at, 5 * room + k) * n2)
                h = d0 * n0 + d1 * n1 + d2 * n2
                q = h * h * over + one  # heavy-tailed: a step is not averaged away
                # beyond an edge the surface is another one
                w = only_within(d, one, only_within(turned, level, (one - d) / (q * q)))
                weights += w
                shifts += w * h
            weight = total(weights)
            s = total(shifts) / weight if weight > 0 else np.float32(0)
            out[i, 0], out[i, 1], out[i, 2] = p0 + s * n0, p1 + s * n1, p2 + s * n2


def smooth(points, normals, radius, noise, edge_deg=40.0):
    """Points (n, 3) moved along their normals so that noise goes and edges stay (after Fleishman, Drori and Cohen-Or
    2003).

    radius : of what counts; noise : steps of more than this across the surface are shape, not noise; edge_deg : normals
    that differ by more belong to another surface
    """
    if not len(points):
        return points
    g = sort_into_grid(points, radius)
    out = np.empty_like(g.points)
    n = gathered(np.asarray(normals, np.float32), g.order)
    g.run(_smooth, n, np.float32(radius**2), np.float32(noise**2), np.float32(np.cos(np.radians(edge_deg))), out)
    return g.back(out)


@njit(cache=True, nogil=True)
def _nearest(cells, asked, normals, along, out, first, last):
    """Distance of what is asked about, Cells of the same grid, to the nearest point within one cell's width."""
    points, key, start, shape = cells
    others, where, begin, _ = asked
    lo, hi = np.empty(9, np.int64), np.empty(9, np.int64)
    cursor = first_columns(key, shape, where[first])
    for c in range(first, last):
        columns_round(where[c], key, start, shape, cursor, lo, hi)
        for i in range(begin[c], begin[c + 1]):
            p0, p1, p2 = others[i, 0], others[i, 1], others[i, 2]
            best, which = np.float32(np.inf), np.int64(-1)
            for r in range(9):
                for j in range(lo[r], hi[r]):
                    d0, d1, d2 = points[j, 0] - p0, points[j, 1] - p1, points[j, 2] - p2
                    d = d0 * d0 + d1 * d1 + d2 * d2
                    if d < best:
                        best, which = d, j
            if which < 0:
                out[i] = np.inf
            elif along:
                d0, d1, d2 = p0 - points[which, 0], p1 - points[which, 1], p2 - points[which, 2]
                out[i] = d0 * normals[which, 0] + d1 * normals[which, 1] + d2 * normals[which, 2]
            else:
                out[i] = np.sqrt(best)


def distance_to(points, cloud, reach, normals=None):
    """Distance (n,) from points to the nearest point of a cloud; infinite beyond `reach`.

    normals : (m, 3) of the cloud, optional: then the distance is taken along them, with a sign
    """
    out = np.full(len(points), np.inf, np.float32)
    if not len(points) or not len(cloud):
        return out
    g = sort_into_grid(cloud, reach)
    others = np.ascontiguousarray(points, np.float32)
    high = g.low + np.float32(g.width) * g.shape.astype(np.float32)
    rows = np.flatnonzero(((others >= g.low) & (others < high)).all(1))  # what is farther has nothing near
    if not len(rows):
        return out
    some = others if len(rows) == len(others) else gathered(others, rows)
    where, begin, order = cells_of(some, g)
    asked = Cells(gathered(some, order), where, begin, g.shape)
    n = np.zeros((1, 3), np.float32) if normals is None else gathered(np.asarray(normals, np.float32), g.order)
    found = np.empty(len(rows), np.float32)
    in_threads(_nearest, len(where), g.cells, asked, n, normals is not None, found)
    out[rows[order]] = found
    out[np.abs(out) > reach] = np.inf
    return out


SUPPORT_TRIES = 4
BELOW = 0.03  #: share of the points that may lie below a support, as noise
BEYOND = 0.15  #: of the area of the object's outline: so much of a support lies outside of it at least
SECTORS, AROUND = 8, 3  #: of so many directions round the object, it does so in so many at least


def _beyond_outline(points, on, above, n, cell):
    """Area of a plane's points outside the outline of what stands on it, over that outline's; and in how many sectors.

    The outline is the convex hull of the points above, seen along the plane's normal.
    """
    axes = np.linalg.svd(n[None])[2][1:]
    P, S = points[above] @ axes.T, points[on] @ axes.T
    try:
        hull = scipy.spatial.ConvexHull(P)
    except (scipy.spatial.QhullError, ValueError):
        return 0.0, 0
    outside = np.max(S @ hull.equations[:, :2].T + hull.equations[:, 2], axis=1) > 2 * cell
    if not outside.any():
        return 0.0, 0
    cells = np.unique(np.floor(S[outside] / cell).astype(np.int64), axis=0)
    d = (cells + 0.5) * cell - P[hull.vertices].mean(0)
    sector = np.floor((np.arctan2(d[:, 1], d[:, 0]) / (2 * np.pi) % 1.0) * SECTORS).astype(int)
    return len(cells) * cell**2 / max(hull.volume, 1e-30), int((np.bincount(sector, minlength=SECTORS) >= 3).sum())


def support_plane(points, up=(0.0, 0.0, 1.0), tolerance=None, slant_deg=20.0, seed=0):
    """What an object stands on: normal (3,), offset, so that ``points @ normal - offset`` is the height above it.

    A support lies below the object, with next to nothing under it, and is flat beyond the object's own outline: an
    object's own flat side is none. Random sample consensus over planes that lie within `slant_deg` of level (Fischler
    and Bolles 1981), refined by least squares.

    Raises
    ------
    NothingHere
        Where there is none.
    """
    up = np.asarray(up, float)
    none = NothingHere(
        "There is no support here: nothing flat lies below the object and reaches out beyond its outline."
    )
    h = points @ up
    low = points[h < np.median(h)]
    some = low[:: max(1, len(low) // 20_000)].astype(float)
    every = points[:: max(1, len(points) // 60_000)].astype(float)
    if len(some) < 50:
        raise none
    spacing = max(spacing_of(points), 1e-9)
    tolerance = tolerance or 2.0 * spacing
    rng, left = np.random.default_rng(seed), some
    for _ in range(SUPPORT_TRIES):
        found = _largest_plane(left, up, tolerance, slant_deg, rng)
        if found is None or found[2] < 0.05 * len(some):
            break
        n, offset, _ = found
        height = every @ n - offset
        on, above = np.abs(height) < tolerance, height > 4 * tolerance
        cell = max(6 * spacing * np.sqrt(len(points) / len(every)), 1e-12)
        if (height < -4 * tolerance).mean() <= BELOW and above.sum() >= 50:
            share, sectors = _beyond_outline(every, on, above, n, cell)
            if share >= BEYOND and sectors >= AROUND:
                return n, offset
        left = left[np.abs(left @ n - offset) >= tolerance]
        if len(left) < 50:
            break
    raise none


def _largest_plane(some, up, tolerance, slant_deg, rng):
    """The plane near level that holds the most points: normal, offset, how many; or None."""
    best, count = None, 0
    for _ in range(400):
        a, b, c = some[rng.choice(len(some), 3, replace=False)]
        n = np.cross(b - a, c - a)
        size = np.linalg.norm(n)
        if size < 1e-12:
            continue
        n = n / size * (1 if n @ up >= 0 else -1)
        if n @ up < np.cos(np.radians(slant_deg)):
            continue
        hits = int((np.abs((some - a) @ n) < tolerance).sum())
        if hits > count:
            best, count = (n, float(a @ n)), hits
    if best is None:
        return None
    n, offset = best
    for _ in range(3):
        on = some[np.abs(some @ n - offset) < tolerance]
        if len(on) < 3:
            break
        middle = on.mean(0)
        v = np.linalg.svd(on - middle, full_matrices=False)[2][2]
        n = v if v @ up > 0 else -v
        offset = float(middle @ n)
    return n, offset, count
