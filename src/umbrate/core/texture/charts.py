"""Charts: parts of a surface that are flat enough to be laid onto a plane.

Parts grow from seeds over triangles whose normals are near that of the part, the nearest first; where nothing can be
reached any more new seeds are set, and the normals are taken anew (after Cohen-Steiner, Alliez and Desbrun 2004,
variational shape approximation). A part is laid down along its mean normal: what is as flat as that is drawn out
little, nothing is turned over, and what is up on the object is up in the picture. Where a part would lie over itself,
the triangles on top become parts of their own.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit

from ..surface.mesh import opposite

LIMIT, LOOSE = 50.0, 72.0  #: degrees between a triangle's normal and its part's: while parts grow, and for crumbs
FLAT = 84.0  #: a triangle steeper than this on its part's plane is a part of its own
ROUNDS, EVENING = 40, 3  #: of setting seeds, and of growing again from where parts have their middle
CRUMB = 2e-4  #: share of the area: smaller parts are put to one beside them where they fit
SAMPLE = 0.35  #: mean edges: the grid on which parts are looked at for lying over themselves
UP = np.array([0.0, 0, 1])


@njit(cache=True, nogil=True)
def _grow(beside, normals, seeds, directions, least, label):
    """Label triangles from seeds, the flattest first; those beyond `least`, a cosine, stay at -1."""
    n = seeds.shape[0]
    room = max(4 * n, 1024)
    cost, triangle, part = np.empty(room), np.empty(room, np.int32), np.empty(room, np.int32)
    order = np.argsort(seeds)  # what is in order is a heap
    for k in range(n):
        cost[k], triangle[k], part[k] = -1.0, seeds[order[k]], order[k]
    while n:
        t, p = triangle[0], part[0]
        n -= 1
        c, x, y = cost[n], triangle[n], part[n]
        i = 0
        while True:
            j = 2 * i + 1
            if j >= n:
                break
            if j + 1 < n and (cost[j + 1], triangle[j + 1], part[j + 1]) < (cost[j], triangle[j], part[j]):
                j += 1
            if (cost[j], triangle[j], part[j]) >= (c, x, y):
                break
            cost[i], triangle[i], part[i] = cost[j], triangle[j], part[j]
            i = j
        cost[i], triangle[i], part[i] = c, x, y
        if label[t] >= 0:
            continue
        label[t] = p
        for side in range(3):
            h = beside[3 * t + side]
            if h < 0 or label[h // 3] >= 0:
                continue
            u = h // 3
            a = normals[u, 0] * directions[p, 0] + normals[u, 1] * directions[p, 1] + normals[u, 2] * directions[p, 2]
            if a < least:
                continue
            if n == cost.shape[0]:
                cost = np.concatenate((cost, np.empty(n)))
                triangle = np.concatenate((triangle, np.empty(n, np.int32)))
                part = np.concatenate((part, np.empty(n, np.int32)))
            c = 1.0 - a
            i = n
            n += 1
            while i:
                j = (i - 1) // 2
                if (c, np.int32(u), np.int32(p)) >= (cost[j], triangle[j], part[j]):
                    break
                cost[i], triangle[i], part[i] = cost[j], triangle[j], part[j]
                i = j
            cost[i], triangle[i], part[i] = c, u, p


@njit(cache=True, nogil=True)
def _connected(label, beside, out):
    """Number connected triangles that have one label; returns how many parts there are."""
    stack = np.empty(label.shape[0], np.int64)
    count = 0
    for t in range(label.shape[0]):
        if out[t] >= 0:
            continue
        n = 1
        stack[0], out[t] = t, count
        while n:
            n -= 1
            f = stack[n]
            for k in range(3):
                h = beside[3 * f + k]
                if h >= 0 and out[h // 3] < 0 and label[h // 3] == label[t]:
                    out[h // 3] = count
                    stack[n] = h // 3
                    n += 1
        count += 1
    return count


def connected(label, beside):
    """Parts (t,) of connected triangles with one label, numbered from 0; and how many."""
    out = np.full(len(label), -1, np.int64)
    return out, _connected(np.asarray(label, np.int64), beside, out)


def _directions(label, count, weighted):
    d = np.stack([np.bincount(label, weighted[:, k], count) for k in range(3)], 1)
    return d / np.maximum(np.linalg.norm(d, axis=1, keepdims=True), 1e-30)


def parts_of(points, faces):
    """Parts (t,) int64 of a surface that are about flat, connected each, and how many there are.

    points (n, 3) float64; faces (t, 3)
    """
    beside = opposite(faces, len(points))
    T = points[faces]
    cross = np.cross(T[:, 1] - T[:, 0], T[:, 2] - T[:, 0])
    size = np.linalg.norm(cross, axis=1)
    normals = cross / np.maximum(size, 1e-300)[:, None]
    middle = T.mean(1)
    least = np.cos(np.radians(LIMIT))

    def seeds_in(label):
        """The triangle of each part whose normal and place are nearest to the part's own."""
        count = int(label.max()) + 1
        d = _directions(label, count, cross)
        total = np.maximum(np.bincount(label, size, count), 1e-300)
        m = np.stack([np.bincount(label, size * middle[:, k], count) for k in range(3)], 1) / total[:, None]
        far = ((middle - m[label]) ** 2).sum(1) / total[label]
        off = 1 - (normals * d[label]).sum(1) + far
        order = np.lexsort((off, label))
        first = order[np.r_[True, label[order][1:] != label[order][:-1]]]
        return first, d

    whole, _ = connected(np.zeros(len(faces)), beside)
    seeds, directions = seeds_in(whole)
    label = np.empty(len(faces), np.int64)
    for _ in range(ROUNDS):
        label[:] = -1
        _grow(beside, normals, seeds, directions, least, label)
        rest = label < 0
        if not rest.any():
            break
        # one more seed where most is left of each piece that could not be reached
        left, count = connected(rest, beside)
        area = np.bincount(left, size * rest, count)
        more = np.flatnonzero(area > max(CRUMB * size.sum(), 0.3 * area.max()) * 0.999)
        if not len(more):
            break
        d = _directions(left, count, cross)
        off = np.where(np.isin(left, more), 1 - (normals * d[left]).sum(1), np.inf)
        order = np.lexsort((off, left))
        first = order[np.r_[True, left[order][1:] != left[order][:-1]]]
        first = first[np.isin(left[first], more)]
        seeds, directions = np.append(seeds, first), np.concatenate([directions, normals[first]])
    for _ in range(EVENING):
        whole, _ = connected(label, beside)
        seeds, directions = seeds_in(whole)
        label[:] = -1
        _grow(beside, normals, seeds, directions, least, label)
    return _without_crumbs(connected(label, beside)[0], beside, cross, size, normals)


def _without_crumbs(label, beside, cross, size, normals):
    """Small parts put to the one beside them with which they share most and that is not too steep for them."""
    for _ in range(4):
        count = int(label.max()) + 1
        area, d = np.bincount(label, size, count), _directions(label, count, cross)
        small = area < CRUMB * size.sum()
        own, other = np.repeat(label, 3), np.where(beside >= 0, label[np.maximum(beside, 0) // 3], -1)
        rim = (other >= 0) & (own != other) & small[own]
        # the steepest triangle of a part on another's plane is what counts
        pairs, of = np.unique(own[rim] * count + other[rim], return_inverse=True)
        if not len(pairs):
            break
        shared = np.bincount(of)
        into = np.arange(count)
        for k in np.lexsort((-area[pairs % count], -shared)):
            a, b = int(pairs[k] // count), int(pairs[k] % count)
            if into[a] != a or (small[b] and area[b] <= area[a]) or into[b] != b:
                continue
            if (normals[label == a] @ d[b]).min() > np.cos(np.radians(LOOSE)):
                into[a] = b
        if (into == np.arange(count)).all():
            break
        label, _ = connected(into[label], beside)
    return label, int(label.max()) + 1


@dataclass
class Charts:
    """A surface laid out on planes.

    Attributes
    ----------
    corner : (t, 3) int32
        The place in the plane of each triangle's corners, rows of `place`.
    place : (m, 2) float64
        In the surface's unit, right and up, each part from where its box begins; sizes along the plane.
    vertex : (m,) int32
        The vertex of the surface that a place belongs to.
    part : (t,) int64, of : (m,) int64
        The part of each triangle and of each place.
    size : (parts, 2)
        Of their boxes.
    """

    corner: np.ndarray
    place: np.ndarray
    vertex: np.ndarray
    part: np.ndarray
    of: np.ndarray
    size: np.ndarray


@njit(cache=True, nogil=True)
def _covered_twice(uv, part, begin, shape, owner, out):
    """Triangles that cover a cell's middle which one before them of the same part covers already."""
    for t in range(uv.shape[0]):
        p = part[t]
        w, h = shape[p, 0], shape[p, 1]
        ax, ay, bx, by, cx, cy = uv[t, 0, 0], uv[t, 0, 1], uv[t, 1, 0], uv[t, 1, 1], uv[t, 2, 0], uv[t, 2, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area <= 0:
            out[t] = True
            continue
        eps = 1e-9 * area
        for y in range(max(int(min(ay, by, cy)) - 1, 0), min(int(max(ay, by, cy)) + 2, h)):
            for x in range(max(int(min(ax, bx, cx)) - 1, 0), min(int(max(ax, bx, cx)) + 2, w)):
                u, v = x + 0.5, y + 0.5
                p0 = (bx - u) * (cy - v) - (by - v) * (cx - u)
                p1 = (cx - u) * (ay - v) - (cy - v) * (ax - u)
                if p0 <= eps or p1 <= eps or area - p0 - p1 <= eps:
                    continue
                k = begin[p] + y * w + x
                if owner[k] >= 0 and not out[owner[k]]:
                    out[t] = True
                else:
                    owner[k] = t


def _laid(points, faces, label, count, cross):
    """Places (t, 3, 2) of the triangles' corners on the planes of their parts, from where these begin, and sizes."""
    d = _directions(label, count, cross)
    up = UP - (d @ UP)[:, None] * d
    flat = np.linalg.norm(up, axis=1) < 0.1  # seen from above: what is along y is up
    up[flat] = np.array([0.0, 1, 0]) - d[flat, 1:2] * d[flat]
    up /= np.linalg.norm(up, axis=1, keepdims=True)
    right = np.cross(up, d)
    T = points[faces]
    uv = np.stack([np.einsum("tij,tj->ti", T, right[label]), np.einsum("tij,tj->ti", T, up[label])], 2)
    low, high = np.full((count, 2), np.inf), np.full((count, 2), -np.inf)
    np.minimum.at(low, label, uv.min(1))
    np.maximum.at(high, label, uv.max(1))
    return uv - low[label][:, None], high - low


def charts_of(points, faces):
    """The Charts of a surface.

    Parameters
    ----------
    points (n, 3), faces (t, 3), t > 0
    """
    points, faces = np.asarray(points, np.float64), np.ascontiguousarray(faces, np.int32)
    beside = opposite(faces, len(points))
    T = points[faces]
    cross = np.cross(T[:, 1] - T[:, 0], T[:, 2] - T[:, 0])
    normals = cross / np.maximum(np.linalg.norm(cross, axis=1), 1e-300)[:, None]
    label, count = parts_of(points, faces)
    edge = float(np.linalg.norm(T[:, 1] - T[:, 0], axis=1).mean())
    while True:
        uv, size = _laid(points, faces, label, count, cross)
        cell = SAMPLE * edge
        shape = np.ceil(size / cell).astype(np.int64) + 1
        begin = np.append(0, np.cumsum(shape.prod(1)))
        twice = np.zeros(len(faces), np.bool_)
        _covered_twice(uv / cell, label, begin, shape, np.full(int(begin[-1]), -1, np.int32), twice)
        alone = np.bincount(label, minlength=count)[label] == 1
        steep = (normals * _directions(label, count, cross)[label]).sum(1) < np.cos(np.radians(FLAT))
        twice = (twice | steep) & ~alone
        if not twice.any():
            break
        # those that lie on top are parts by themselves where they are connected and face one way
        main = np.abs(normals).argmax(1)
        side = 2 * main + (np.take_along_axis(normals, main[:, None], 1)[:, 0] < 0)
        label, count = connected(np.where(twice, count + 6 * label + side, label), beside)
    # a vertex has one place in each part
    key = (label[:, None] * len(points) + faces).ravel()
    _, first, corner = np.unique(key, return_index=True, return_inverse=True)
    return Charts(
        corner.reshape(-1, 3).astype(np.int32), uv.reshape(-1, 2)[first], faces.ravel()[first].astype(np.int32),
        label, label[first // 3], size,
    )  # fmt: skip
