"""Matching: which key point of one photo is which of another.

Exact nearest neighbors: all descriptor products at once as one matrix product per block of rows,
then one pass over the block that keeps the two best of each row and the best of each column. A
match must be mutual and clearly better than the runner-up (Lowe 2004).
"""

import numpy as np
from numba import njit

BLOCK = 512


@njit(cache=True, nogil=True)
def _scan(S, row0, best, second, index, col_best, col_index):
    for i in range(S.shape[0]):
        b, s, k = np.float32(-1.0), np.float32(-1.0), -1
        r = row0 + i
        for j in range(S.shape[1]):
            v = S[i, j]
            if v > s:
                if v > b:
                    s, b, k = b, v, j
                else:
                    s = v
            if v > col_best[j]:
                col_best[j] = v
                col_index[j] = r
        best[r], second[r], index[r] = b, s, k


def unit_descriptors(descriptors):
    """Stored descriptors (n, 128) uint8 as unit vectors, float32."""
    d = descriptors.astype(np.float32)
    return d / np.maximum(np.linalg.norm(d, axis=1, keepdims=True), 1e-6)


def match(a, b, ratio=0.85):
    """Mutual nearest neighbors that pass the ratio test.

    Parameters
    ----------
    a, b : (n, 128), (m, 128) float32 unit vectors
    ratio : float
        Largest accepted distance to the best over distance to the second best.

    Returns
    -------
    pairs : (k, 2) int32
        Row of `a`, row of `b`, by rows of `a`.
    """
    n, m = len(a), len(b)
    if n < 2 or m < 2:
        return np.zeros((0, 2), np.int32)
    best, second = np.empty(n, np.float32), np.empty(n, np.float32)
    index = np.empty(n, np.int32)
    col_best, col_index = np.full(m, -1, np.float32), np.full(m, -1, np.int32)
    bt = np.ascontiguousarray(b.T)
    buffer = np.empty((BLOCK, m), np.float32)
    for r in range(0, n, BLOCK):
        k = min(BLOCK, n - r)
        np.dot(a[r : r + k], bt, out=buffer[:k])
        _scan(buffer[:k], r, best, second, index, col_best, col_index)
    d1, d2 = np.sqrt(np.maximum(2 - 2 * best, 0)), np.sqrt(np.maximum(2 - 2 * second, 0))
    rows = np.arange(n, dtype=np.int32)
    keep = (d1 <= ratio * d2) & (col_index[index] == rows)
    return np.stack([rows[keep], index[keep]], 1)
