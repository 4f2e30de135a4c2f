"""Who is near whom: points sorted into the cells of an even grid.

A tree over five million points takes longer to build than everything a filter then asks of it. Clouds of surfaces are
even enough for a grid. Only cells that hold points are kept, in the order of their place, and found through a hash
table: what lies within one cell's width of a cell's points is in nine columns of three cells, and each column is one
run of sorted points. Kernels work cell by cell on the sorted points, so what they read lies side by side in memory, and
in threads that write to different rows: the result does not depend on their number.
"""

import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numba import njit
from scipy.spatial import cKDTree

THREADS = max(1, min(8, os.cpu_count() or 1))
_POOL = ThreadPoolExecutor(THREADS, thread_name_prefix="cloud")
MOST_IN_TREE = 200_000
_MIX = np.int64(-7046029254386353131)  #: 2^64 over the golden ratio, which spreads keys over a table (Knuth 1973)


def in_threads(kernel, count, *arguments):
    """Call ``kernel(*arguments, first, last)`` for all of `count` rows, in even parts."""
    edges = np.linspace(0, count, 4 * THREADS + 1).astype(int)
    for job in [_POOL.submit(kernel, *arguments, int(a), int(b)) for a, b in pairwise(edges) if b > a]:
        job.result()


@njit(cache=True, nogil=True)
def _keys(points, low, inverse, shape, out, first, last):
    for i in range(first, last):
        x = min(max(np.int64((points[i, 0] - low[0]) * inverse), 0), shape[0] - 1)
        y = min(max(np.int64((points[i, 1] - low[1]) * inverse), 0), shape[1] - 1)
        z = min(max(np.int64((points[i, 2] - low[2]) * inverse), 0), shape[2] - 1)
        out[i] = (x * shape[1] + y) * shape[2] + z


@njit(cache=True, nogil=True, inline="always")
def _slot(key, bits):
    """Where a key's search in a table of 2^bits begins."""
    return np.int64(np.uint64(key * _MIX) >> np.uint64(64 - bits))


@njit(cache=True, nogil=True)
def _enter(keys, table_key, table_row, bits, cell):
    """Number the different keys in the order they come; the number of each (n,); returns how many, -1 when full."""
    mask = table_key.shape[0] - 1
    count = 0
    for i in range(keys.shape[0]):
        k = keys[i]
        s = _slot(k, bits)
        while table_key[s] != k:
            if table_key[s] == -1:
                if count * 4 > 3 * mask:
                    return -1
                table_key[s], table_row[s] = k, count
                count += 1
                break
            s = (s + 1) & mask
        cell[i] = table_row[s]
    return count


@njit(cache=True, nogil=True)
def _place(cell, rank, start, order):
    """Counting sort of points by the rank of their cell."""
    for i in range(cell.shape[0]):
        start[rank[cell[i]] + 1] += 1
    for c in range(start.shape[0] - 1):
        start[c + 1] += start[c]
    fill = start[:-1].copy()
    for i in range(cell.shape[0]):
        r = rank[cell[i]]
        order[fill[r]] = i
        fill[r] += 1


@njit(cache=True, nogil=True)
def find_cell(key, table_key, table_row, bits):
    """The row of a cell, or -1 where no point lies in it."""
    mask = table_key.shape[0] - 1
    s = _slot(key, bits)
    while table_key[s] != -1:
        if table_key[s] == key:
            return table_row[s]
        s = (s + 1) & mask
    return -1


@njit(cache=True, nogil=True)
def columns_round(x, y, z, key, start, shape, table_key, table_row, bits, lo, hi):
    """Runs of sorted points, lo and hi (9,), in the 27 cells round cell x, y, z; returns how many there are."""
    count = 0
    z0, z1 = max(z - 1, 0), min(z + 1, shape[2] - 1)
    if z1 < 0 or z0 > shape[2] - 1:
        return 0
    for u in range(max(x - 1, 0), min(x + 2, shape[0])):
        for v in range(max(y - 1, 0), min(y + 2, shape[1])):
            base = (u * shape[1] + v) * shape[2]
            row = np.int64(-1)
            for w in range(z0, z1 + 1):
                row = find_cell(base + w, table_key, table_row, bits)
                if row >= 0:
                    break
            if row < 0:
                continue
            last = row
            while last + 1 < key.shape[0] and key[last + 1] <= base + z1:
                last += 1
            lo[count], hi[count] = start[row], start[last + 1]
            count += 1
    return count


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
    table_key, table_row : (2^bits,)
        From a cell's key to its row.
    """

    points: np.ndarray
    order: np.ndarray
    key: np.ndarray
    start: np.ndarray
    low: np.ndarray
    width: float
    shape: np.ndarray
    table_key: np.ndarray
    table_row: np.ndarray
    bits: int

    def back(self, values):
        """Values of sorted points in the order of those that were given."""
        out = np.empty_like(values)
        out[self.order] = values
        return out

    @property
    def fixed(self):
        """What kernels take first."""
        return self.points, self.key, self.start, self.shape, self.table_key, self.table_row, self.bits

    def run(self, kernel, *arguments):
        """Call ``kernel(*fixed, *arguments, first, last)`` for all cells, in threads."""
        in_threads(kernel, len(self.key), *self.fixed, *arguments)


def sort_into_grid(points, width):
    """The Grid of points (n, 3), n > 0, with cells of some width."""
    points = np.ascontiguousarray(points, np.float32)
    low, high = points.min(0), points.max(0)
    extent = np.maximum((high - low).astype(float), 1e-9)
    width = max(float(width), float(extent.max()) / 2_000_000)  # keys are 63 bits long
    shape = (np.floor(extent / width) + 1).astype(np.int64)
    keys, cell = np.empty(len(points), np.int64), np.empty(len(points), np.int64)
    in_threads(_keys, len(points), points, low, np.float32(1.0 / width), shape, keys)
    bits = max(8, int(np.ceil(np.log2(len(points)))))
    while True:
        table_key, table_row = np.full(1 << bits, -1, np.int64), np.zeros(1 << bits, np.int64)
        count = _enter(keys, table_key, table_row, bits, cell)
        if count >= 0:
            break
        bits += 1
    used = np.flatnonzero(table_key >= 0)
    sort = np.argsort(table_key[used])
    rank = np.empty(count, np.int64)
    rank[table_row[used[sort]]] = np.arange(count)
    key = table_key[used[sort]]
    table_row[used] = rank[table_row[used]]
    start, order = np.zeros(count + 1, np.int64), np.empty(len(points), np.int64)
    _place(cell, rank, start, order)
    return Grid(points[order], order, key, start, low, width, shape, table_key, table_row, bits)


def spacing_of(points, sample=4000):
    """How far apart points of a surface would be were they spread evenly: one over the root of their density.

    From the sixth neighbors of a sample (pi r^2 holds six more); of many points, from an even share of them.
    """
    n = len(points)
    if n < 8:
        return 0.0
    some = points if n <= MOST_IN_TREE else points[:: -(-n // MOST_IN_TREE)]
    d = cKDTree(some).query(some[:: max(1, len(some) // sample)], k=7)[0][:, -1]
    return float(np.median(d) * np.sqrt(np.pi / 6) * np.sqrt(len(some) / n))
