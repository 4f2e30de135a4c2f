"""Where a function in space is kept: the corners of those cells of an even lattice that are near something.

A level of the adaptive grid is such a lattice; the next finer one has cells of half the width, and only where they are
wanted. A cell or a corner is one number made of its three, so a set of them is a sorted array, and finding neighbors is
running along two sorted arrays at once: the same for any order in which things came.
"""

from typing import NamedTuple

import numpy as np
from numba import njit

BITS = 20  #: of each of the three numbers; two more bits tell the three edges of a corner apart
LARGEST = (1 << BITS) - 2
_LOW = (1 << BITS) - 1
STEP = (1 << 2 * BITS, 1 << BITS, 1)  #: from a key to that of the next one along x, y, z


def keys_of(ijk):
    """Keys (n,) int64 of whole numbers (n, 3) from 0 to LARGEST."""
    i, j, k = (np.asarray(ijk)[:, a].astype(np.int64) for a in range(3))
    return (i << 2 * BITS) | (j << BITS) | k


def numbers_of(keys):
    """The three numbers (n, 3) int32 of keys (n,)."""
    out = np.empty((len(keys), 3), np.int32)
    for a, shift in enumerate((2 * BITS, BITS, 0)):
        out[:, a] = (keys >> shift) & _LOW
    return out


def halved(keys):
    """Keys of the cells of the coarser level that hold cells: one for each, sorted no more."""
    n = keys >> 1
    # each number loses its last bit: what falls into the number below is taken off
    return n & ~((1 << 2 * BITS - 1) | (1 << BITS - 1))


def unique(keys):
    """Sorted keys without those that repeat."""
    return _united(np.array(keys))


def _united(keys):
    """The same of an array that nobody else has: it is sorted in place."""
    keys.sort()
    first = np.ones(len(keys), np.bool_)
    np.not_equal(keys[1:], keys[:-1], out=first[1:])
    return keys[first]


def children(cells):
    """Keys of the eight cells that each cell has at the next finer level, in order."""
    return _united((2 * cells[:, None] + _offsets((0, 1))[None]).ravel())


def _offsets(steps):
    return np.array([a * STEP[0] + b * STEP[1] + c * STEP[2] for a in steps for b in steps for c in steps])


def widened(cells):
    """Keys of cells and of all that touch them, in order; none may lie at number 0."""
    for step in STEP:
        cells = _united(np.concatenate([_united(np.concatenate([cells - step, cells])), cells + step]))
    return cells


def corners_of(cells):
    """Keys of the corners of cells, in order."""
    for step in STEP:
        cells = _united(np.concatenate([cells, cells + step]))
    return cells


@njit(cache=True, nogil=True)
def _find(wanted, offset, keys, out):
    """Rows of ``wanted + offset`` among sorted keys, -1 where there is none; `wanted` is sorted as well."""
    c = 0
    for i in range(wanted.shape[0]):
        k = wanted[i] + offset
        while c < keys.shape[0] and keys[c] < k:
            c += 1
        out[i] = c if c < keys.shape[0] and keys[c] == k else -1


def rows_of(wanted, keys, offset=0):
    """Rows (n,) int32 of sorted keys ``wanted + offset`` among other sorted keys, -1 where there is none."""
    out = np.empty(len(wanted), np.int32)
    _find(wanted, offset, keys, out)
    return out


def among(wanted, keys):
    """Which keys (n,), in any order, are among sorted ones: (n,) bool."""
    at = np.minimum(np.searchsorted(keys, wanted), len(keys) - 1)
    return keys[at] == wanted


def neighbors_of(corners):
    """Rows (n, 6) int32 of the corners beside each, -x +x -y +y -z +z, -1 where there is none."""
    out = np.empty((6, len(corners)), np.int32)
    for a, step in enumerate(STEP):
        _find(corners, -step, corners, out[2 * a])
        _find(corners, step, corners, out[2 * a + 1])
    return np.ascontiguousarray(out.T)


def rows_of_cells(cells, corners):
    """Rows (m, 8) int32 of the corners of cells: bit 2 of the column is x, bit 1 y, bit 0 z."""
    out = np.empty((8, len(cells)), np.int32)
    for b, offset in enumerate(_offsets((0, 1)).tolist()):
        _find(cells, offset, corners, out[b])
    return np.ascontiguousarray(out.T)


@njit(cache=True, nogil=True)
def _interpolate(cells, rows, values, corners, out):
    """Values of finer corners within sorted coarse cells, linear along each axis."""
    c = 0
    for i in range(corners.shape[0]):
        k = corners[i]
        x, y, z = k >> 2 * BITS, (k >> BITS) & _LOW, k & _LOW
        fx, fy, fz = (x & 1) * 0.5, (y & 1) * 0.5, (z & 1) * 0.5
        x, y, z = x >> 1, y >> 1, z >> 1
        found = -1
        # an even corner lies between cells: any of those that are there will do
        for b in range(8):
            bx, by, bz = b >> 2, (b >> 1) & 1, b & 1
            if (bx and fx > 0) or (by and fy > 0) or (bz and fz > 0):
                continue
            cell = ((x - bx) << 2 * BITS) | ((y - by) << BITS) | (z - bz)
            c = np.searchsorted(cells, cell)
            if c < cells.shape[0] and cells[c] == cell:
                found = c
                gx, gy, gz = fx + bx, fy + by, fz + bz
                break
        if found < 0:
            out[i] = np.nan
            continue
        total = 0.0
        for b in range(8):
            w = (gx if b >> 2 else 1 - gx) * (gy if (b >> 1) & 1 else 1 - gy) * (gz if b & 1 else 1 - gz)
            if w > 0:
                total += w * values[rows[found, b]]
        out[i] = total


class Lattice(NamedTuple):
    """A level: cells (m,) and their corners (n,) by key, and the rows (m, 8) of the corners of each cell."""

    cells: np.ndarray
    corners: np.ndarray
    rows: np.ndarray

    @classmethod
    def of(cls, cells):
        """The lattice of sorted cells."""
        corners = corners_of(cells)
        return cls(cells, corners, rows_of_cells(cells, corners))

    def at_finer(self, values, corners):
        """Values (n,) of this level's corners at those (k,) of the next finer one; NaN outside of its cells."""
        out = np.empty(len(corners), np.float32)
        _interpolate(self.cells, self.rows, values, corners, out)
        return out
