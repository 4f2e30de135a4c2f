"""Plain facts about triangles: their edges, what lies beside each, the pieces they make up, area and volume.

Triangles are rows of three vertices, counterclockwise as seen from outside. Side k of a triangle goes from its corner k
to the next; a half-edge is one side of one triangle, with number ``3 * triangle + side``.
"""

import numpy as np
from numba import njit

from ..cloud.grid import in_threads
from ..forest import root

PART = 1_000_000  #: triangles that are reckoned with at once


def half_edges(faces):
    """Where each half-edge begins and ends: two (3 t,) int64."""
    return faces.ravel().astype(np.int64), np.roll(faces, -1, axis=1).ravel().astype(np.int64)


@njit(cache=True, nogil=True)
def _begins(faces, count):
    """Half-edges sorted by where they begin: where each vertex' own are (n + 1,), and the half-edges."""
    begin = np.zeros(count + 1, np.int64)
    for t in range(faces.shape[0]):
        for k in range(3):
            begin[faces[t, k] + 1] += 1
    for v in range(count):
        begin[v + 1] += begin[v]
    at, own = begin[:-1].copy(), np.empty(3 * faces.shape[0], np.int32)
    for t in range(faces.shape[0]):
        for k in range(3):
            v = faces[t, k]
            own[at[v]] = 3 * t + k
            at[v] += 1
    return begin, own


@njit(cache=True, nogil=True)
def _opposite(faces, begin, own, out, first, last):
    for t in range(first, last):
        for k in range(3):
            a, b = faces[t, k], faces[t, (k + 1) % 3]
            same, back, which = 0, 0, -1
            for j in range(begin[a], begin[a + 1]):
                h = own[j]
                same += faces[h // 3, (h % 3 + 1) % 3] == b
            for j in range(begin[b], begin[b + 1]):
                h = own[j]
                if faces[h // 3, (h % 3 + 1) % 3] == a:
                    back, which = back + 1, h
            out[3 * t + k] = which if same == 1 and back == 1 else -1


def begins(faces, count):
    """Half-edges in the order of where they begin: where those of each vertex are (n + 1,), and they (3 t,)."""
    return _begins(np.ascontiguousarray(faces), count)


def opposite(faces, count):
    """The half-edge (3 t,) int32 on the other side of each edge, -1 at a rim and where more than two triangles meet.

    count : number of vertices
    """
    faces = np.ascontiguousarray(faces)
    return beside_of(faces, *begins(faces, count))


def beside_of(faces, begin, own):
    """As `opposite`, where `begins` is known."""
    faces = np.ascontiguousarray(faces)
    out = np.empty(3 * len(faces), np.int32)
    in_threads(_opposite, len(faces), faces, begin, own, out)
    return out


@njit(cache=True, nogil=True)
def _round(start, end, after):
    """The round (number of the first half-edge in it) of each lone half-edge, by who begins where one ends."""
    out = np.full(start.shape[0], -1, np.int64)
    for k in range(start.shape[0]):
        h = k
        while out[h] < 0:
            out[h] = k
            h = after[h]
            if h < 0:
                break
    return out


def rims(faces, beside):
    """Where a surface ends: the vertices of each round of edges with one triangle alone, the longest first.

    beside : of `opposite`

    Returns
    -------
    list of (k,) int64, in the direction that the triangles have
    """
    lone = np.flatnonzero(beside < 0)
    if not len(lone):
        return []
    start, end = (x[lone] for x in half_edges(faces))
    order = np.argsort(start, kind="stable")
    at = np.minimum(np.searchsorted(start[order], end), len(lone) - 1)
    after = np.where(start[order[at]] == end, order[at], -1)
    which = _round(start, end, after)
    out = []
    for first in np.unique(which):
        ring, h = [], first
        while True:
            ring.append(start[h])
            h = after[h]
            if h < 0 or which[h] != first or h == first:
                break
        out.append(np.array(ring))
    return sorted(out, key=len, reverse=True)


@njit(cache=True, nogil=True)
def _label(faces, count):
    parent = np.arange(count)
    for t in range(faces.shape[0]):
        a = root(parent, faces[t, 0])
        for k in range(1, 3):
            b = root(parent, faces[t, k])
            if a < b:
                parent[b] = a
            else:
                parent[a] = b
                a = b
    label = np.full(count, -1, np.int64)
    n = 0
    out = np.empty(faces.shape[0], np.int32)
    for t in range(faces.shape[0]):
        r = root(parent, faces[t, 0])
        if label[r] < 0:
            label[r] = n
            n += 1
        out[t] = label[r]
    return out


def pieces(faces, count):
    """The piece (t,) int32 that each triangle belongs to: those that share a vertex are of one."""
    return _label(np.ascontiguousarray(faces, np.int32), count)


def areas(vertices, faces):
    """Area (t,) of each triangle."""
    out = np.empty(len(faces), vertices.dtype)
    for k in range(0, len(faces), PART):
        a, b, c = vertices[faces[k : k + PART].T]
        out[k : k + PART] = np.linalg.norm(np.cross(b - a, c - a), axis=1) / 2
    return out


def volume(vertices, faces):
    """Volume inside closed triangles, the sum of signed tetrahedra over their middle; negative where inside is out."""
    v = np.asarray(vertices, float) - np.mean(vertices, axis=0)
    a, b, c = (v[faces[:, k]] for k in range(3))
    return float((a * np.cross(b, c)).sum() / 6)


def euler(faces, beside):
    """Vertices minus edges plus triangles: 2 for a closed piece without handles, 2 less for each handle.

    beside : of `opposite`
    """
    edges = len(beside) - int((beside >= 0).sum()) // 2
    return int((np.bincount(faces.ravel()) > 0).sum()) - edges + len(faces)


def used_only(faces, *values):
    """Faces numbered among the vertices they use, and values (n, ...) of those vertices alone."""
    used = np.zeros(len(values[0]), bool)
    used[faces] = True
    number = np.cumsum(used, dtype=np.int32) - 1
    return number[faces], *(v[used] for v in values)
