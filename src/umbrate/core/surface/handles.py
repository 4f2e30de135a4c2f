"""Handles and tunnels that noise made: found as short rounds that do not divide the surface, cut there and closed.

Where points contradict each other or are missing, a surface bridges gaps or is pierced, in places too small to see.
A tree of shortest paths from anywhere and a tree of triangles that crosses none of them leave two edges for every
handle; either edge, with the two paths to it, is a round that does not divide the surface (Erickson and Whittlesey
2005). What the two paths have in common is left off: the round of a small handle is short, wherever the tree began.
Cut along it, the surface has two rims there; each is closed by a fan (as Guskov and Wood 2001 do).
"""

import numpy as np
from numba import njit

from ..forest import root
from .mesh import begins, beside_of, euler, opposite, pieces, rims

MOST_ROUND_A_VERTEX = 200  #: triangles: more are no surface
LOOKS = 3  #: the shortest of the long rounds is looked at again from so many of its vertices
TRIES = 8  #: of finding rounds anew, as those of one handle that was cut are gone


@njit(cache=True, nogil=True)
def _long(vertices, a, b):
    total = 0.0
    for k in range(3):
        total += (vertices[a, k] - vertices[b, k]) ** 2
    return np.sqrt(total)


@njit(cache=True, nogil=True)
def _ends(faces, h):
    """Where a half-edge begins and ends."""
    return faces[h // 3, h % 3], faces[h // 3, (h % 3 + 1) % 3]


@njit(cache=True, nogil=True)
def _shortest(begin, own, faces, vertices, first, far, before):
    """Paths along edges from a vertex, by the queue: far (n,) and the vertex before each, in place."""
    n = far.shape[0]
    heap_d, heap_v = np.empty(n // 4 + 16, np.float64), np.empty(n // 4 + 16, np.int32)
    size = 1
    heap_d[0], heap_v[0] = 0.0, first
    far[first] = 0.0
    while size:
        d, v = heap_d[0], heap_v[0]
        size -= 1
        x, y = heap_d[size], heap_v[size]
        i = 0
        while True:
            c = 2 * i + 1
            if c >= size:
                break
            if c + 1 < size and (heap_d[c + 1], heap_v[c + 1]) < (heap_d[c], heap_v[c]):
                c += 1
            if (heap_d[c], heap_v[c]) >= (x, y):
                break
            heap_d[i], heap_v[i] = heap_d[c], heap_v[c]
            i = c
        heap_d[i], heap_v[i] = x, y
        if d > far[v]:
            continue
        for e in range(begin[v], begin[v + 1]):
            h = own[e]
            u = faces[h // 3, (h % 3 + 1) % 3]
            t = d + _long(vertices, v, u)
            if t < far[u]:
                far[u], before[u] = t, v
                if size == heap_d.shape[0]:
                    heap_d = np.concatenate((heap_d, np.empty(size, np.float64)))
                    heap_v = np.concatenate((heap_v, np.empty(size, np.int32)))
                i = size
                size += 1
                while i and (t, u) < (heap_d[(i - 1) // 2], heap_v[(i - 1) // 2]):
                    heap_d[i], heap_v[i] = heap_d[(i - 1) // 2], heap_v[(i - 1) // 2]
                    i = (i - 1) // 2
                heap_d[i], heap_v[i] = t, u


@njit(cache=True, nogil=True)
def _round_lengths(edges, faces, vertices, far, before, out):
    """How long the round of each edge is: the edge and the two paths to it, without what these have in common."""
    for i in range(edges.shape[0]):
        a, b = _ends(faces, edges[i])
        total = far[a] + far[b] + _long(vertices, a, b)
        while a != b:
            if far[a] > far[b] or (far[a] == far[b] and a > b):
                a = before[a]
            else:
                b = before[b]
            if a < 0 or b < 0:
                break
        out[i] = total - 2 * far[a] if a == b else np.inf


@njit(cache=True, nogil=True)
def _left_over(order, beside, faces, before):
    """Edges (their half-edges) that neither the tree of paths nor a tree of triangles has, tried in an order."""
    parent = np.arange(faces.shape[0]).astype(np.int32)
    out, n = np.empty(1024, np.int64), 0
    for h in order:
        a, b = _ends(faces, h)
        if before[a] == b or before[b] == a:
            continue
        s, t = root(parent, h // 3), root(parent, beside[h] // 3)
        if s != t:
            parent[max(s, t)] = min(s, t)
        elif n < out.shape[0]:
            out[n] = h
            n += 1
    return out[:n]


def _path(before, v):
    out = [v]
    while before[v] >= 0:
        v = before[v]
        out.append(v)
    return out


def short_rounds(vertices, faces, longest, first=()):
    """Rounds of vertices, the shortest first, that do not divide the surface and are no longer than a length.

    first : vertices from which paths are taken before any other: rounds there are the shortest that there are

    Returns
    -------
    list of (length, [vertices])
    """
    n, faces = len(vertices), np.ascontiguousarray(faces)
    vertices = np.ascontiguousarray(vertices, np.float64)
    begin, own = begins(faces, n)
    beside = beside_of(faces, begin, own)
    far, before = np.full(n, np.inf), np.full(n, -1, np.int32)
    _, one_of_each = np.unique(pieces(faces, n), return_index=True)
    for v in (*first, *faces[one_of_each, 0]):  # one tree a piece
        if np.isinf(far[v]):
            _shortest(begin, own, faces, vertices, v, far, before)
    del begin, own
    once = np.flatnonzero(np.arange(len(beside), dtype=np.int32) < beside).astype(np.int32)
    # the longest rounds first: they are crossed by the tree of triangles, the short ones are left
    shorter = np.empty(len(once))
    _round_lengths(once, faces, vertices, far, before, shorter)
    np.negative(shorter, out=shorter)
    left = _left_over(once[np.argsort(shorter, kind="stable")], beside, faces, before)
    out = []
    for h in left:
        a, b = (_path(before, int(v)) for v in _ends(faces, h))
        while len(a) > 1 and len(b) > 1 and a[-2] == b[-2]:
            a.pop()
            b.pop()
        ring = a + b[-2::-1] if a[-1] == b[-1] else a + b[::-1]
        P = vertices[ring]
        long = float(np.linalg.norm(P - np.roll(P, -1, axis=0), axis=1).sum())
        if long <= longest and len(set(ring)) == len(ring) > 2:
            out.append((long, ring))
    return sorted(out)


def cut_along(faces, ring, near, first):
    """Cut a mesh along a round of vertices and close each of the two rims by a fan.

    Parameters
    ----------
    faces : (t, 3), changed where the cut goes; not at all where the round is none
    ring : list of vertices
    near : the triangles round them
    first : number of the first new vertex: copies of those of the round come, then the middles of the two fans

    Returns
    -------
    (2 k, 3) the triangles of the fans, or None where the round is none
    """
    k = len(ring)
    sides = {
        (int(f[q]), int(f[(q + 1) % 3])): (int(t), int(f[(q + 2) % 3]))
        for t, f in zip(near, faces[near], strict=True)
        for q in range(3)
    }
    lefts = []
    for i, v in enumerate(ring):  # the triangles round v on the left of the round
        third, last, left = ring[(i + 1) % k], ring[i - 1], []
        while third != last:
            if (v, third) not in sides or len(left) > MOST_ROUND_A_VERTEX:
                return None
            t, third = sides[v, third]
            left.append(t)
        lefts.append(left)
    for i, (v, left) in enumerate(zip(ring, lefts, strict=True)):
        faces[left] = np.where(faces[left] == v, first + i, faces[left])
    i, ends = np.arange(k), np.roll(ring, -1)
    right = np.stack([np.array(ring), ends, np.full(k, first + k)], 1)
    left = np.stack([first + (i + 1) % k, first + i, np.full(k, first + k + 1)], 1)
    return np.concatenate([right, left])


def handles_of(vertices, faces):
    """How many handles a mesh has: of pieces with rims, as if these were closed."""
    beside = opposite(faces, len(vertices))
    closed = euler(faces, beside) + len(rims(faces, beside))
    return int(pieces(faces, len(vertices)).max()) + 1 - closed // 2


def without_handles(vertices, faces, longest, may=lambda ring, length: True):
    """A mesh whose short handles and tunnels are cut and closed.

    Parameters
    ----------
    vertices (n, 3), faces (t, 3)
    longest : rounds longer than this are shape
    may : callable(ring, length) -> bool
        Whether a round may be cut.

    Returns
    -------
    vertices, faces
    source : (m,)
        The vertex of the given mesh that each is or is a copy of; -1 of the middles of fans.
    cut : int
        How many rounds were cut.
    """
    source, cut, looks = np.arange(len(vertices)), 0, None
    for _ in range(TRIES):
        if not handles_of(vertices, faces):
            break
        begin, own = begins(faces, len(vertices))
        faces, count = np.array(faces), len(vertices)
        touched, rows, fans, longer = set(), [], [], []
        for length, ring in short_rounds(vertices, faces, np.inf, looks[:1] if looks else ()):
            old = source[ring]
            if length > longest or not may(old[old >= 0], length):
                longer.append(ring)
            elif not touched.intersection(ring):
                near = np.unique(np.concatenate([own[begin[v] : begin[v + 1]] // 3 for v in ring]))
                beside = faces[near].ravel().tolist()  # these have another neighbor then
                fan = cut_along(faces, ring, near, count + sum(map(len, rows)) + 2 * len(rows))
                if fan is not None:
                    fans.append(fan)
                    rows.append(ring)
                    touched.update(beside)
        if rows:
            vertices = np.concatenate([vertices, *(x for r in rows for x in (vertices[r], vertices[[r, r]].mean(1)))])
            source = np.concatenate([source, *(x for r in rows for x in (source[r], [-1, -1]))])
            faces, cut = np.concatenate([faces, *fans]).astype(faces.dtype), cut + len(rows)
            continue
        # a long round may belong to a handle that has a short one: it is found from there
        if looks is None:
            looks = [int(ring[k * len(ring) // LOOKS]) for ring in longer[:1] for k in range(LOOKS)]
        else:
            looks = looks[1:]
        if not looks:
            break
    return vertices, faces, source, cut
