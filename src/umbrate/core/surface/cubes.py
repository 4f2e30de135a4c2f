"""Triangles where a function that is known at the corners of cells is zero (Lorensen and Cline 1987, marching cubes).

What becomes of a cell follows from the signs at its corners. The table of that is made here from one rule: on each side
of a cell, a line cuts off every run of inner corners. Two cells have the same line on the side between them, so the
triangles close. Lines of a cell make rounds, and rounds are cut into triangles with as few cuts across a side as there
can be: a neighbor might have the same cut, and four triangles would meet in it.
"""

from functools import cache

import numpy as np
from numba import njit

from .lattice import STEP

NEAR = 0.08  #: share of an edge's length: no corner of a triangle is nearer to the end of it, so that none is a sliver
#: a corner is a number with bits x y z; an edge goes from one along an axis
EDGES = tuple((b, a) for a in range(3) for b in range(8) if not b & (4 >> a))


def _sides():
    """Corners (4,) of the six sides, counterclockwise as seen from outside."""
    for a in range(3):
        u, v = 4 >> (a + 1) % 3, 4 >> (a + 2) % 3  # x, y, z in a round: u, v and the axis are right-handed
        for high in (0, 4 >> a):
            loop = [high, high | u, high | u | v, high | v]
            yield loop if high else loop[::-1]


def _edge(b, c):
    axis = {4: 0, 2: 1, 1: 2}[b ^ c]
    return EDGES.index((min(b, c), axis))


def _rounds(case):
    """The rounds of edges that the lines on the sides of a cell make, those corners whose bit is set being inside."""
    after = {}
    for loop in _sides():
        inner = [bool(case >> b & 1) for b in loop]
        for k in range(4):
            if inner[k] and not inner[k - 1]:  # a run of inner corners begins
                n = 1
                while inner[(k + n) % 4] and n < 4:
                    n += 1
                last = (k + n - 1) % 4
                after[_edge(loop[k - 1], loop[k])] = _edge(loop[last], loop[(last + 1) % 4])
    rounds = []
    while after:
        first = edge = min(after)
        ring = []
        while True:
            ring.append(edge)
            edge = after.pop(edge)
            if edge == first:
                break
        rounds.append(ring)
    return rounds


def _on_one_side(e, f):
    def sides(edge):
        b, axis = EDGES[edge]
        return {(a, bool(b & (4 >> a))) for a in range(3) if a != axis}

    return bool(sides(e) & sides(f))


def _triangles(ring):
    """A round cut into triangles, with the fewest cuts across a side of the cell."""
    n = len(ring)

    @cache
    def best(i, j):
        if j - i < 2:
            return 0, ()
        out = None
        for k in range(i + 1, j):
            cost = sum(_on_one_side(ring[a], ring[b]) for a, b in ((i, k), (k, j)) if b - a > 1)
            (p, left), (q, right) = best(i, k), best(k, j)
            if out is None or cost + p + q < out[0]:
                out = cost + p + q, (*left, (ring[i], ring[k], ring[j]), *right)
        return out

    return best(0, n - 1)[1]


def _table():
    count, table = np.zeros(256, np.int64), np.zeros((256, 5, 3), np.int64)
    for case in range(256):
        all_of = [t for ring in _rounds(case) for t in _triangles(ring)]
        count[case] = len(all_of)
        for k, t in enumerate(all_of):
            table[case, k] = t
    return count, table


COUNT, TABLE = _table()
CORNER, AXIS = np.array(EDGES).T.copy()


@njit(cache=True, nogil=True)
def _cases(rows, values, case, marked):
    """The case of every cell, and which edges of corners (n, 3) carry a vertex; how many triangles there are."""
    total = 0
    for c in range(rows.shape[0]):
        k = 0
        for b in range(8):
            if values[rows[c, b]] < 0:
                k |= 1 << b
        case[c] = k
        n = COUNT[k]
        total += n
        for t in range(n):
            for e in TABLE[k, t]:
                marked[rows[c, CORNER[e]], AXIS[e]] = 1
    return total


@njit(cache=True, nogil=True)
def _place(corners, along, values, marked, number, places, keys):
    """Number the marked edges in the order of their corners; where the function is zero on each, and its key."""
    n = 0
    for c in range(marked.shape[0]):
        for a in range(3):
            if marked[c, a] == 0:
                continue
            u, v = values[c], values[along[c, a]]
            t = min(max(u / (u - v), NEAR), 1.0 - NEAR)
            k = corners[c]
            places[n, 0], places[n, 1], places[n, 2] = k >> 40, (k >> 20) & 0xFFFFF, k & 0xFFFFF
            places[n, a] += t
            keys[n] = 4 * k + a
            number[c, a] = n
            n += 1


@njit(cache=True, nogil=True)
def _fill(rows, case, number, out):
    n = 0
    for c in range(rows.shape[0]):
        k = case[c]
        for t in range(COUNT[k]):
            for q in range(3):
                e = TABLE[k, t, q]
                out[n, q] = number[rows[c, CORNER[e]], AXIS[e]]
            n += 1


def triangles_of(lattice, values, neighbors):
    """The surface where a function is zero, its inside being where it is negative.

    Parameters
    ----------
    lattice : Lattice
    values : (n,) float32
        At its corners.
    neighbors : (n, 6)
        Of its corners, as `neighbors_of` gives them.

    Returns
    -------
    places : (v, 3) float64
        Vertices in cells' widths from the corner with number 0.
    keys : (v,) int64
        Of the edge each lies on, in order: the same for every lattice that has the edge.
    faces : (t, 3) int32
        Counterclockwise as seen from outside.
    """
    case = np.empty(len(lattice.cells), np.uint8)
    marked = np.zeros((len(values), 3), np.uint8)
    total = _cases(lattice.rows, values, case, marked)
    number = np.full((len(values), 3), -1, np.int32)
    count = int(marked.sum())
    places, keys = np.empty((count, 3)), np.empty(count, np.int64)
    along = np.ascontiguousarray(neighbors[:, 1::2])
    _place(lattice.corners, along, values, marked, number, places, keys)
    faces = np.empty((total, 3), np.int32)
    _fill(lattice.rows, case, number, faces)
    return places, keys, faces


assert STEP[0] == 1 << 40  # as `_place` takes keys apart
