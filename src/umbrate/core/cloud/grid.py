"""Who is near whom: points sorted into the cells of an even grid.

A tree over five million points takes longer to build than everything a filter then asks of it. Clouds of surfaces are
even enough for a grid. Only cells that hold points are kept, in the order of their place. What lies within one cell's
width of a cell's points is in nine columns of three cells, and each column is one run of sorted points; as cells are
visited in their order, each of the nine only ever moves forward, so nothing is searched for. Kernels run in threads
that write to different rows: the result does not depend on their number.
"""

import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple

import numpy as np
import scipy
from numba import njit

THREADS = max(1, min(8, os.cpu_count() or 1))
_POOL = ThreadPoolExecutor(THREADS, thread_name_prefix="cloud")
MOST_IN_TREE = 200_000


def in_threads(kernel, count, *arguments):
    """Call ``kernel(*arguments, first, last)`` for all of `count` rows, in even parts."""
    edges = np.linspace(0, count, 4 * THREADS + 1).astype(int)
    for job in [_POOL.submit(kernel, *arguments, int(a), int(b)) for a, b in pairwise(edges) if b > a]:
        job.result()


@njit(cache=True, nogil=True)
def _keys(points, low, inverse, shape, out, first, last):
    for i in range(first, last):
        x = min(max(np.int64((points[i, 0] - low[0]) * inverse), 1), shape[0] - 2)
        y = min(max(np.int64((points[i, 1] - low[1]) * inverse), 1), shape[1] - 2)
        z = min(max(np.int64((points[i, 2] - low[2]) * inverse), 1), shape[2] - 2)
        out[i] = (x * shape[1] + y) * shape[2] + z


@njit(cache=True, nogil=True)
def _extent(points, low, high):
    for i in range(points.shape[0]):
        for k in range(3):
            low[k], high[k] = min(low[k], points[i, k]), max(high[k], points[i, k])


@njit(cache=True, nogil=True)
def _gather(points, order, out, first, last):
    for i in range(first, last):
        for k in range(points.shape[1]):
            out[i, k] = points[order[i], k]


def gathered(values, order):
    """Rows of an array (n, k) in another order, by threads."""
    values = np.ascontiguousarray(values)
    out = np.empty((len(order), values.shape[1]), values.dtype)
    in_threads(_gather, len(order), values, order, out)
    return out


def _sorted_keys(keys, most):
    """Keys in order and the row each had; those given are overwritten.

    Key and row in one number sort ten times faster than rows by their keys.
    """
    bits = max(1, int(len(keys) - 1).bit_length())
    if most.bit_length() + bits > 63:
        order = np.argsort(keys, kind="stable")
        return keys[order], order
    keys <<= bits
    keys |= np.arange(len(keys), dtype=np.int64)
    keys.sort()
    order = keys & ((1 << bits) - 1)
    keys >>= bits
    return keys, order


@njit(cache=True, nogil=True)
def first_columns(key, shape, cell):
    """Where the nine columns round a cell begin among the sorted cells: cursors (9,) for `columns_round`."""
    out = np.empty(9, np.int64)
    for k in range(9):
        wanted = cell + ((k // 3 - 1) * shape[1] + k % 3 - 1) * shape[2] - 1
        out[k] = np.searchsorted(key, wanted)
    return out


@njit(cache=True, nogil=True)
def columns_round(cell, key, start, shape, cursor, lo, hi):
    """Runs of sorted points, lo and hi (9,), in the 27 cells round a cell (by its key), column by column.

    Cells must be asked for in their order: the cursors only move forward. No cell lies at the border of the grid.
    """
    for k in range(9):
        low = cell + ((k // 3 - 1) * shape[1] + k % 3 - 1) * shape[2] - 1
        c = cursor[k]
        while c < key.shape[0] and key[c] < low:
            c += 1
        cursor[k] = c
        lo[k] = start[c]
        while c < key.shape[0] and key[c] <= low + 2:
            c += 1
        hi[k] = start[c]


@njit(cache=True, nogil=True)
def _touch(cells, flags, out, first, last):
    """Cells round which one has a flag; of the cells only where each lies among all is given, not its points."""
    _, key, every, shape = cells
    lo, hi = np.empty(9, np.int64), np.empty(9, np.int64)
    cursor = first_columns(key, shape, key[first])
    for c in range(first, last):
        columns_round(key[c], key, every, shape, cursor, lo, hi)
        out[c] = False
        for r in range(9):
            for j in range(lo[r], hi[r]):
                out[c] |= flags[j]


class Cells(NamedTuple):
    """Sorted points and the cells that hold them, as kernels take them: see `Grid`."""

    points: np.ndarray
    key: np.ndarray
    start: np.ndarray
    shape: np.ndarray


@dataclass
class Grid:
    """Points sorted by cell.

    Attributes
    ----------
    points : (n, 3) float32
        Sorted.
    order : (n,) int64
        Row of each sorted point among those that were given.
    key : (m,) int64, start : (m + 1,) int64
        Cells that hold points, in the order of their place, and where their points begin.
    low : (3,) float32, width : float, shape : (3,) int64
        Where the grid begins; a cell wide beyond the points on every side, so that none lies at its border.
    """

    points: np.ndarray
    order: np.ndarray
    key: np.ndarray
    start: np.ndarray
    low: np.ndarray
    width: float
    shape: np.ndarray

    def back(self, values):
        """Values of sorted points in the order of those that were given."""
        out = np.empty_like(values)
        out[self.order] = values
        return out

    @property
    def cells(self):
        """The Cells."""
        return Cells(self.points, self.key, self.start, self.shape)

    def run(self, kernel, *arguments):
        """Call ``kernel(cells, *arguments, first, last)`` for all cells, in threads."""
        in_threads(kernel, len(self.key), self.cells, *arguments)


class Frame(NamedTuple):
    """Where a grid begins (3,) float32, how wide its cells are, and how many there are along each axis (3,)."""

    low: np.ndarray
    width: float
    shape: np.ndarray


def extent_of(points):
    """Lowest and highest coordinates (3,) float32 of points (n, 3), n > 0."""
    points = np.ascontiguousarray(points, np.float32)
    low, high = points[0].copy(), points[0].copy()
    _extent(points, low, high)
    return low, high


def frame_round(points, width):
    """The Frame of a grid that holds points (n, 3), n > 0, with cells of some width."""
    low, high = extent_of(points)
    extent = np.maximum((high - low).astype(float), 1e-9)
    width = max(float(width), float(extent.max()) / 2_000_000)  # keys are 63 bits long
    shape = (np.floor(extent / width) + 3).astype(np.int64)
    return Frame(low - np.float32(width), width, shape)


def sort_into_grid(points, width=None, frame=None, some=None):
    """The Grid of points (n, 3), n > 0, with cells of some width, or in a frame: a part of the points that this was
    made round is in the same cells and the same order then as among all of them.

    some : (n,) bool; the grid has only the cells that hold such points and those round them
    """
    points = np.ascontiguousarray(points, np.float32)
    frame = frame or frame_round(points, width)
    key, start, order = _cells(points, *frame)
    if some is not None:
        flags, near, every = (
            np.logical_or.reduceat(some[order], start[:-1]),
            np.empty(len(key), bool),
            np.arange(len(start)),
        )
        in_threads(_touch, len(key), Cells(points, key, every, frame.shape), flags, near)
        held = np.diff(start)
        key, order, start = key[near], order[np.repeat(near, held)], np.append(0, np.cumsum(held[near]))
    return Grid(gathered(points, order), order, key, start, *frame)


def _cells(points, low, width, shape):
    """Cells that hold points in their order (m,), where their points begin (m + 1,), and the points' order (n,)."""
    keys = np.empty(len(points), np.int64)
    in_threads(_keys, len(points), points, low, np.float32(1.0 / width), shape, keys)
    keys, order = _sorted_keys(keys, int(shape[0]) * int(shape[1]) * int(shape[2]))
    first = np.flatnonzero(np.r_[True, keys[1:] != keys[:-1]])
    return keys[first], np.append(first, len(keys)), order


def cells_of(points, grid):
    """Other points (n, 3) sorted into the cells of a grid: cells (m,), where they begin (m + 1,), order (n,).

    Points in the grid's border are put into the cells next to it.
    """
    return _cells(np.ascontiguousarray(points, np.float32), grid.low, grid.width, grid.shape)


def spacing_of(points, sample=4000):
    """How far apart points of a surface would be were they spread evenly: one over the root of their density.

    From the sixth neighbors of a sample (pi r^2 holds six more); of many points, from an even share of them.
    """
    n = len(points)
    if n < 8:
        return 0.0
    some = points if n <= MOST_IN_TREE else points[:: -(-n // MOST_IN_TREE)]
    d = scipy.spatial.cKDTree(some).query(some[:: max(1, len(some) // sample)], k=7)[0][:, -1]
    return float(np.median(d) * np.sqrt(np.pi / 6) * np.sqrt(len(some) / n))
