"""Two photos: their relative pose from matched directions, in spite of false matches.

Five matches fix the essential matrix of two calibrated photos (Nistér 2004; the elimination and the
action matrix follow Stewénius, Engels and Nistér 2006). Minimal sets drawn at random (Fischler and
Bolles 1981) are scored by truncated squared Sampson distance (Torr and Zisserman 2000).
"""

import numpy as np
from numba import njit

from .roots import real_eigenvalues

# monomials: degree 3, 2, 1, 0 in x, y, z; the last ten are the basis of the action matrix
_CUBIC = (
    (3, 0, 0),
    (2, 1, 0),
    (1, 2, 0),
    (0, 3, 0),
    (2, 0, 1),
    (1, 1, 1),
    (0, 2, 1),
    (1, 0, 2),
    (0, 1, 2),
    (0, 0, 3),
    (2, 0, 0),
    (1, 1, 0),
    (0, 2, 0),
    (1, 0, 1),
    (0, 1, 1),
    (0, 0, 2),
    (1, 0, 0),
    (0, 1, 0),
    (0, 0, 1),
    (0, 0, 0),
)
_LINEAR, _QUADRATIC = _CUBIC[16:], _CUBIC[10:]


def _product_table(left, right, result):
    place = {m: i for i, m in enumerate(result)}
    return np.array([[place[tuple(p + q for p, q in zip(a, b, strict=True))] for b in right] for a in left])


_LL = _product_table(_LINEAR, _LINEAR, _QUADRATIC)
_QL = _product_table(_QUADRATIC, _LINEAR, _CUBIC)


@njit(cache=True, nogil=True)
def _add_ll(a, b, sign, out):
    for i in range(4):
        for j in range(4):
            out[_LL[i, j]] += sign * a[i] * b[j]


@njit(cache=True, nogil=True)
def _add_ql(a, b, sign, out):
    for i in range(10):
        for j in range(4):
            out[_QL[i, j]] += sign * a[i] * b[j]


@njit(cache=True, nogil=True)
def _other_two(M, x):
    """y and z of the solution with an eigenvalue x of the action matrix M (10, 10), and whether there is one.

    The eigenvector holds the monomials of `_QUADRATIC`; the last four rows of M say which of them are x times another.
    That leaves y^2, yz, z^2, y and z unknown in the first six rows.
    """
    A = np.empty((6, 6))
    for r in range(6):
        A[r, 0], A[r, 1], A[r, 2] = M[r, 2], M[r, 4], M[r, 5]
        A[r, 3], A[r, 4] = M[r, 7] + x * M[r, 1], M[r, 8] + x * M[r, 3]
        A[r, 5] = -(M[r, 9] + x * M[r, 6] + x * x * M[r, 0])
    A[0, 5] += x * x * x
    A[1, 3] -= x * x
    A[2, 0] -= x
    A[3, 4] -= x * x
    A[4, 1] -= x
    A[5, 2] -= x
    for c in range(5):
        best = c
        for r in range(c + 1, 6):
            if abs(A[r, c]) > abs(A[best, c]):
                best = r
        if abs(A[best, c]) < 1e-13:
            return 0.0, 0.0, False
        for k in range(c, 6):
            A[c, k], A[best, k] = A[best, k], A[c, k]
        for r in range(c + 1, 6):
            f = A[r, c] / A[c, c]
            for k in range(c, 6):
                A[r, k] -= f * A[c, k]
    z = A[4, 5] / A[4, 4]
    return (A[3, 5] - A[3, 4] * z) / A[3, 3], z, True


@njit(cache=True, nogil=True)
def five_point(x1, x2, out):
    """Essential matrices of five matched directions.

    Parameters
    ----------
    x1, x2 : (5, 2) float64
        Normalized picture coordinates x/z, y/z.
    out : (10, 3, 3) float64
        Receives the solutions E with ``[x2 1] E [x1 1]^T = 0``.

    Returns
    -------
    count : int
    """
    Q = np.zeros((9, 9))
    for i in range(5):
        a = (x1[i, 0], x1[i, 1], 1.0)
        b = (x2[i, 0], x2[i, 1], 1.0)
        for p in range(3):
            for q in range(3):
                Q[i, 3 * p + q] = b[p] * a[q]
    _, _, Vt = np.linalg.svd(Q)
    # every entry of E is linear in x, y, z
    E = np.empty((3, 3, 4))
    for p in range(3):
        for q in range(3):
            for k in range(4):
                E[p, q, k] = Vt[5 + k, 3 * p + q]
    EEt = np.zeros((3, 3, 10))
    trace = np.zeros(10)
    for p in range(3):
        for q in range(3):
            for k in range(3):
                _add_ll(E[p, k], E[q, k], 1.0, EEt[p, q])
        trace += EEt[p, p]
    A = np.zeros((10, 20))
    row = 0
    for p in range(3):
        for q in range(3):
            for k in range(3):
                _add_ql(EEt[p, k], E[k, q], 2.0, A[row])
            _add_ql(trace, E[p, q], -1.0, A[row])
            row += 1
    minor = np.zeros(10)
    for k in range(3):
        a, b = (k + 1) % 3, (k + 2) % 3
        minor[:] = 0.0
        _add_ll(E[1, a], E[2, b], 1.0, minor)
        _add_ll(E[1, b], E[2, a], -1.0, minor)
        _add_ql(minor, E[0, k], 1.0, A[9])
    # Gauss-Jordan with pivoting on the ten cubic columns
    for c in range(10):
        best = c
        for r in range(c + 1, 10):
            if abs(A[r, c]) > abs(A[best, c]):
                best = r
        if abs(A[best, c]) < 1e-14:
            return 0
        if best != c:
            for k in range(20):
                A[c, k], A[best, k] = A[best, k], A[c, k]
        inv = 1.0 / A[c, c]
        for k in range(c, 20):
            A[c, k] *= inv
        for r in range(10):
            f = A[r, c]
            if r != c and f != 0.0:
                for k in range(c, 20):
                    A[r, k] -= f * A[c, k]
    M = np.zeros((10, 10))
    rows = (0, 1, 2, 4, 5, 7)
    for i in range(6):
        for k in range(10):
            M[i, k] = -A[rows[i], 10 + k]
    M[6, 0] = 1.0
    M[7, 1] = 1.0
    M[8, 3] = 1.0
    M[9, 6] = 1.0
    values = np.empty(10)
    count = 0
    for i in range(real_eigenvalues(M.copy(), values)):
        x = values[i]
        y, z, good = _other_two(M, x)
        if not good:
            continue
        norm = 0.0
        for p in range(3):
            for q in range(3):
                v = E[p, q, 0] * x + E[p, q, 1] * y + E[p, q, 2] * z + E[p, q, 3]
                out[count, p, q] = v
                norm += v * v
        for p in range(3):
            for q in range(3):
                out[count, p, q] /= np.sqrt(norm)
        count += 1
    return count


@njit(cache=True, nogil=True)
def sampson_squared(E, x1, x2, out):
    """Squared Sampson distance of each match (n,), in normalized picture coordinates."""
    for i in range(x1.shape[0]):
        a, b, c, d = x1[i, 0], x1[i, 1], x2[i, 0], x2[i, 1]
        u = E[0, 0] * a + E[0, 1] * b + E[0, 2]
        v = E[1, 0] * a + E[1, 1] * b + E[1, 2]
        w = E[2, 0] * a + E[2, 1] * b + E[2, 2]
        p = E[0, 0] * c + E[1, 0] * d + E[2, 0]
        q = E[0, 1] * c + E[1, 1] * d + E[2, 1]
        e = c * u + d * v + w
        out[i] = e * e / max(u * u + v * v + p * p + q * q, 1e-24)


@njit(cache=True, nogil=True)
def essential_ransac(x1, x2, threshold, max_rounds, seed):
    """The essential matrix most matches agree with.

    Parameters
    ----------
    x1, x2 : (n, 2) float64
    threshold : float
        Largest Sampson distance of an inlier, normalized units.
    max_rounds : int
    seed : int

    Returns
    -------
    E : (3, 3)
    inliers : (n,) bool
    """
    np.random.seed(seed)
    n = x1.shape[0]
    best = np.zeros((3, 3))
    best_score, best_count = 1e300, 0
    inliers = np.zeros(n, np.bool_)
    if n < 8:
        return best, inliers
    t2 = threshold * threshold
    pick = np.empty(5, np.int64)
    a, b = np.empty((5, 2)), np.empty((5, 2))
    out = np.empty((10, 3, 3))
    d = np.empty(n)
    need, k = max_rounds, 0
    while k < need:
        k += 1
        i = 0
        while i < 5:
            pick[i] = np.random.randint(n)
            fresh = True
            for j in range(i):
                if pick[j] == pick[i]:
                    fresh = False
            if fresh:
                i += 1
        for i in range(5):
            a[i], b[i] = x1[pick[i]], x2[pick[i]]
        for s in range(five_point(a, b, out)):
            sampson_squared(out[s], x1, x2, d)
            score, count = 0.0, 0
            for i in range(n):
                if d[i] < t2:
                    score += d[i]
                    count += 1
                else:
                    score += t2
            if score < best_score:
                best_score, best_count = score, count
                best[:] = out[s]
                share = best_count / n
                miss = 1.0 - share**5
                if miss < 1e-9:
                    need = min(max_rounds, k)
                else:
                    need = min(max_rounds, max(20, int(np.log(1e-4) / np.log(miss)) + 1))
    sampson_squared(best, x1, x2, d)
    for i in range(n):
        inliers[i] = d[i] < t2
    return best, inliers


def decompose(E, x1, x2):
    """The relative pose (4, 4), photo 1 to photo 2 with unit base, that puts most matches in front of both.

    Also returns the number of matches in front.
    """
    U, _, Vt = np.linalg.svd(E)
    if np.linalg.det(U) < 0:
        U = -U
    if np.linalg.det(Vt) < 0:
        Vt = -Vt
    W = np.array([[0.0, -1, 0], [1, 0, 0], [0, 0, 1]])
    best, most = None, -1
    a = np.c_[x1, np.ones(len(x1))]
    b = np.c_[x2, np.ones(len(x2))]
    for R in (U @ W @ Vt, U @ W.T @ Vt):
        for t in (U[:, 2], -U[:, 2]):
            # depths from  z2 b = z1 R a + t  by cross products
            Ra = a @ R.T
            cross = np.cross(b, Ra)
            z1 = -(np.cross(b, t) * cross).sum(1) / np.maximum((cross**2).sum(1), 1e-24)
            z2 = z1 * Ra[:, 2] + t[2]
            front = int(((z1 > 0) & (z2 > 0)).sum())
            if front > most:
                most = front
                best = np.eye(4)
                best[:3, :3], best[:3, 3] = R, t
    return best, most
