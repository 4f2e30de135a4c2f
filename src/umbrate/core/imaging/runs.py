"""Runs: a picture's pieces found row by row.

A run is a stretch of pixels of one row. Joining the runs of a row with those above that they touch finds the
connected pieces in the time it takes to read the picture once (Rosenfeld and Pfaltz 1966).
"""

from numba import njit

from ..forest import root


@njit(cache=True, nogil=True)
def join_runs(first, start, end, parent):
    """Join runs that touch in rows one below the other.

    Parameters
    ----------
    first : (rows + 1,) int
        Runs first[y] to first[y + 1] - 1 lie in row y, from left to right.
    start, end : (n,) int
        A run holds pixels start to end - 1.
    parent : (n,) int
        Filled in; `forest.root` reads it. The smallest run of a piece stands for it.
    """
    for k in range(parent.shape[0]):
        parent[k] = k
    for y in range(1, first.shape[0] - 1):
        i, j = first[y - 1], first[y]
        while i < first[y] and j < first[y + 1]:
            if start[i] < end[j] and start[j] < end[i]:
                p, q = root(parent, i), root(parent, j)
                parent[max(p, q)] = min(p, q)
            if end[i] < end[j]:
                i += 1
            else:
                j += 1
