"""Real eigenvalues of a small matrix, for solvers that turn polynomials into one (action matrices).

Reduction to Hessenberg form by Householder reflections, then implicit double-shift QR (Francis 1961; as in Golub and
Van Loan, Matrix Computations, 7.4 and 7.5). Only what real eigenvalues need: no vectors, and a pair of complex ones is
passed over.
"""

import numpy as np
from numba import njit

EPS, ROUNDS = 2.3e-16, 30  #: rounding, and rounds for one eigenvalue before it is given up
NEARLY_REAL = 1e-12  #: a pair whose imaginary part is only this share's root is one real eigenvalue twice


@njit(cache=True, nogil=True)
def _hessenberg(H):
    """Reduce H (n, n) in place."""
    n = H.shape[0]
    v = np.empty(n)
    for c in range(n - 2):
        norm = 0.0
        for r in range(c + 1, n):
            norm += H[r, c] * H[r, c]
        norm = np.sqrt(norm)
        if norm == 0.0:
            continue
        head = H[c + 1, c] + (norm if H[c + 1, c] >= 0 else -norm)
        square = head * head
        v[c + 1] = head
        for r in range(c + 2, n):
            v[r] = H[r, c]
            square += v[r] * v[r]
        twice = 2.0 / square
        for k in range(c, n):
            s = 0.0
            for r in range(c + 1, n):
                s += v[r] * H[r, k]
            s *= twice
            for r in range(c + 1, n):
                H[r, k] -= s * v[r]
        for r in range(n):
            s = 0.0
            for k in range(c + 1, n):
                s += H[r, k] * v[k]
            s *= twice
            for k in range(c + 1, n):
                H[r, k] -= s * v[k]


@njit(cache=True, nogil=True)
def _reflect(H, k, size, x, y, z, lo, hi):
    """Turn rows and columns k and on, `size` of them, of the active block so that (x, y, z) has only its first left."""
    norm = np.sqrt(x * x + y * y + z * z)
    if norm == 0.0:
        return
    head = x + (norm if x >= 0 else -norm)
    twice = 2.0 / (head * head + y * y + z * z)
    for c in range(max(lo, k - 1), hi + 1):
        s = head * H[k, c] + y * H[k + 1, c]
        if size == 3:
            s += z * H[k + 2, c]
        s *= twice
        H[k, c] -= s * head
        H[k + 1, c] -= s * y
        if size == 3:
            H[k + 2, c] -= s * z
    for r in range(lo, min(k + 3, hi) + 1):
        s = H[r, k] * head + H[r, k + 1] * y
        if size == 3:
            s += H[r, k + 2] * z
        s *= twice
        H[r, k] -= s * head
        H[r, k + 1] -= s * y
        if size == 3:
            H[r, k + 2] -= s * z


@njit(cache=True, nogil=True)
def _francis(H, lo, hi, s, t):
    """One double step with the shifts of sum s and product t on rows and columns lo to hi."""
    x = H[lo, lo] * H[lo, lo] + H[lo, lo + 1] * H[lo + 1, lo] - s * H[lo, lo] + t
    y = H[lo + 1, lo] * (H[lo, lo] + H[lo + 1, lo + 1] - s)
    z = H[lo + 1, lo] * H[lo + 2, lo + 1]
    for k in range(lo, hi - 1):
        _reflect(H, k, 3, x, y, z, lo, hi)
        x, y = H[k + 1, k], H[k + 2, k]
        z = H[k + 3, k] if k < hi - 2 else 0.0
    _reflect(H, hi - 1, 2, x, y, 0.0, lo, hi)


@njit(cache=True, nogil=True)
def real_eigenvalues(H, out):
    """Real eigenvalues of a square matrix.

    Parameters
    ----------
    H : (n, n) float64
        Is overwritten.
    out : (n,) float64
        Receives them, each as often as it is one.

    Returns
    -------
    count : int
    """
    _hessenberg(H)
    count, rounds, hi = 0, 0, H.shape[0] - 1
    while hi >= 0:
        lo = hi
        while lo > 0:
            size = abs(H[lo - 1, lo - 1]) + abs(H[lo, lo])
            if abs(H[lo, lo - 1]) <= EPS * size:
                H[lo, lo - 1] = 0.0
                break
            lo -= 1
        if lo == hi:
            out[count] = H[hi, hi]
            count, hi, rounds = count + 1, hi - 1, 0
        elif lo == hi - 1:
            half = 0.5 * (H[lo, lo] + H[hi, hi])
            part = 0.5 * (H[lo, lo] - H[hi, hi])
            square = part * part + H[lo, hi] * H[hi, lo]
            if square >= -NEARLY_REAL * half * half:
                root = np.sqrt(max(square, 0.0))
                out[count], out[count + 1] = half + root, half - root
                count += 2
            hi, rounds = hi - 2, 0
        elif rounds == ROUNDS:
            hi, rounds = lo - 1, 0  # what this block has is lost
        else:
            rounds += 1
            s = H[hi - 1, hi - 1] + H[hi, hi]
            t = H[hi - 1, hi - 1] * H[hi, hi] - H[hi - 1, hi] * H[hi, hi - 1]
            if rounds % 10 == 0:  # shifts that go in circles
                size = abs(H[hi, hi - 1]) + abs(H[hi - 1, hi - 2])
                s, t = 1.5 * size, size * size
            _francis(H, lo, hi, s, t)
    return count
