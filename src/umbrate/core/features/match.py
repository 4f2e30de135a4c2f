"""Matching: which key point of one photo is which of another.

Exact nearest neighbors: all descriptor products at once as one matrix product per block of rows,
then one pass over the block that keeps the two best of each row and the best of each column. A
match must be mutual and clearly better than the runner-up (Lowe 2004), and better than what looks most like either
feature elsewhere in its own photo: where the runner-up is hidden from the other photo, its own still has it.
"""

import numpy as np
from numba import njit

BLOCK, LANES = 512, 16
#: distance to a match over that to the most similar feature elsewhere in either's own photo, at most
OWN_RATIO = 1.0
SAME_PLACE = 4.0  #: times its own size, within which another feature of a photo may be the same one


@njit(cache=True, nogil=True, error_model="numpy")
def _scan(S, row0, ratio2, best, second, index, col_best):
    """Best and second best of every row of S (b, m), best of every column so far, and where good rows have their best.

    Sixteen columns at a time, each with a best and a second of its own and without branches, so that the compiler
    can do them at once.
    """
    m = S.shape[1]
    whole = m - m % LANES
    b, s = np.empty(LANES, np.float32), np.empty(LANES, np.float32)
    for i in range(S.shape[0]):
        b[:] = -1.0
        s[:] = -1.0
        row = S[i]
        for j in range(0, whole, LANES):
            for q in range(LANES):
                v = row[j + q]
                low = v if v < b[q] else b[q]
                s[q] = low if low > s[q] else s[q]
                b[q] = v if v > b[q] else b[q]
                c = col_best[j + q]
                col_best[j + q] = v if v > c else c
        first, then = np.float32(-1.0), np.float32(-1.0)
        for q in range(LANES):
            v = b[q]
            if v > first:
                then, first = max(first, s[q]), v
            else:
                then = max(then, v)
        for j in range(whole, m):
            v = row[j]
            if v > first:
                then, first = first, v
            elif v > then:
                then = v
            col_best[j] = max(col_best[j], v)
        best[row0 + i], second[row0 + i], index[row0 + i] = first, then, -1
        if 1.0 - first <= ratio2 * (1.0 - then):
            for j in range(m):
                if row[j] == first:
                    index[row0 + i] = j
                    break


def unit_descriptors(descriptors):
    """Stored descriptors (n, 128) uint8 as unit vectors, float32."""
    d = descriptors.astype(np.float32)
    return d / np.maximum(np.linalg.norm(d, axis=1, keepdims=True), 1e-6)


@njit(cache=True, nogil=True, error_model="numpy")
def _scan_own(S, row0, xy, near2, out):
    """The best of every row of S (b, n) that is not of a feature at the same place."""
    for i in range(S.shape[0]):
        r, best = row0 + i, np.float32(-1.0)
        for j in range(S.shape[1]):
            if S[i, j] > best:
                dx, dy = xy[j, 0] - xy[r, 0], xy[j, 1] - xy[r, 1]
                if dx * dx + dy * dy > near2[r]:
                    best = S[i, j]
        out[r] = best


def nearest_own(unit, xy, scale):
    """The product (n,) float32 of each descriptor of a photo with the most similar one elsewhere in that photo.

    unit : (n, 128) float32 unit vectors; xy : (n, 2); scale : (n,) size of each, pixels
    """
    n = len(unit)
    out, turned = np.empty(n, np.float32), np.ascontiguousarray(unit.T)
    xy, near2 = np.ascontiguousarray(xy, np.float32), np.square(SAME_PLACE * np.asarray(scale, np.float32))
    for r in range(0, n, BLOCK):
        _scan_own(unit[r : r + BLOCK] @ turned, r, xy, near2, out)
    return out


def match(a, b, ratio=0.85, own=None):
    """Mutual nearest neighbors that pass the ratio test.

    Parameters
    ----------
    a, b : (n, 128), (m, 128) float32 unit vectors
    ratio : float
        Largest accepted distance to the best over distance to the second best.
    own : ((n,), (m,)) float32
        `nearest_own` of either photo.

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
    col_best = np.full(m, -1, np.float32)
    bt = np.ascontiguousarray(b.T)
    buffer = np.empty((BLOCK, m), np.float32)
    for r in range(0, n, BLOCK):
        k = min(BLOCK, n - r)
        np.dot(a[r : r + k], bt, out=buffer[:k])
        # distances are compared as their squares, 2 - 2 times the product
        _scan(buffer[:k], r, np.float32(ratio * ratio), best, second, index, col_best)
    rows = np.flatnonzero(index >= 0).astype(np.int32)
    rows = rows[best[rows] >= col_best[index[rows]]]  # mutual: nobody is nearer to its best
    if own is not None:
        rival = np.maximum(own[0][rows], own[1][index[rows]])
        rows = rows[1 - best[rows] <= np.float32(OWN_RATIO**2) * (1 - rival)]
    return np.stack([rows, index[rows]], 1)


def like_each_other(unit, xy, apart_px, enough=0.95):
    """Share of a photo's features that look like another one elsewhere in it, as on graph paper or a weave.

    Parameters
    ----------
    unit : (n, 128) float32 unit vectors
    xy : (n, 2)
    apart_px : float
        Features so near to each other may be one.
    enough : float
        Cosine between the descriptors of features that look alike.
    """
    if len(unit) < 2:
        return 0.0
    near = np.linalg.norm(xy[:, None] - xy[None], axis=2) < apart_px
    return float((np.where(near, -1.0, unit @ unit.T).max(1) > enough).mean())
