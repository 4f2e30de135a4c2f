"""The normal equations of a bundle adjustment, with the points taken out.

Every point is seen by few photos, so what points have to do with each other goes only through photos: each can be
eliminated by itself (Schur complement; Brown 1958, Triggs et al. 2000), and a small dense system in poses and lenses is
left.

n photos, m lenses, p points, k sightings, L lens parameters that are solved.
"""

from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np
from numba import njit

BLOCKS, THREADS = 4, 2  #: parts the points are worked on in
SMALL = 5000  #: so few sightings are not worth a thread


class Priors(NamedTuple):
    """What is known of points besides their sightings, as the kernels take it.

    Attributes
    ----------
    kept : (p,) int64
        Column of the system where a point begins that is not eliminated, or -1.
    row : (p,) int64
        The row of a point's prior, or -1.
    information : (q, 3, 3) float64
    gradient : (q, 3) float64
    """

    kept: np.ndarray
    row: np.ndarray
    information: np.ndarray
    gradient: np.ndarray


class System(NamedTuple):
    """The reduced system, and what the eliminated points need when its solution is known.

    Attributes
    ----------
    matrix : (size, size) float64
        Upper part only. Poses come first, six columns each, then lenses, L columns each, then points that are kept.
    right : (size,) float64
    inverse : (p, 3, 3) float64
        Of each point's own normal matrix; zero for points that are kept.
    gradient : (p, 3) float64
        Of each point.
    """

    matrix: np.ndarray
    right: np.ndarray
    inverse: np.ndarray
    gradient: np.ndarray


def system(size, p):
    """Room for a System of so many columns, with p points."""
    return System(np.empty((size, size)), np.empty(size), np.empty((p, 3, 3)), np.empty((p, 3)))


def no_priors(p):
    """The Priors of p points of which nothing else is known."""
    none = np.full(p, -1, np.int64)
    return Priors(none, none, np.zeros((0, 3, 3)), np.zeros((0, 3)))


@njit(cache=True, nogil=True)
def _invert(V, out):
    """Inverse of a symmetric (3, 3); zero where it has none."""
    c00 = V[1, 1] * V[2, 2] - V[1, 2] * V[2, 1]
    c01 = V[1, 2] * V[2, 0] - V[1, 0] * V[2, 2]
    c02 = V[1, 0] * V[2, 1] - V[1, 1] * V[2, 0]
    det = V[0, 0] * c00 + V[0, 1] * c01 + V[0, 2] * c02
    if not det > 1e-300:
        out[:] = 0.0
        return
    out[0, 0], out[1, 0], out[2, 0] = c00 / det, c01 / det, c02 / det
    out[0, 1] = (V[0, 2] * V[2, 1] - V[0, 1] * V[2, 2]) / det
    out[1, 1] = (V[0, 0] * V[2, 2] - V[0, 2] * V[2, 0]) / det
    out[2, 1] = (V[0, 1] * V[2, 0] - V[0, 0] * V[2, 1]) / det
    out[0, 2] = (V[0, 1] * V[1, 2] - V[0, 2] * V[1, 1]) / det
    out[1, 2] = (V[0, 2] * V[1, 0] - V[0, 0] * V[1, 2]) / det
    out[2, 2] = (V[0, 0] * V[1, 1] - V[0, 1] * V[1, 0]) / det


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _through(w, v, x, y, g, base):
    """y (n, 3) = w^T (n, 3) v (3, 3), and what the point's own gradient x (3,) takes off g from `base` on."""
    for a in range(w.shape[1]):
        w0, w1, w2 = w[0, a], w[1, a], w[2, a]
        y[a, 0] = w0 * v[0, 0] + w1 * v[1, 0] + w2 * v[2, 0]
        y[a, 1] = w0 * v[0, 1] + w1 * v[1, 1] + w2 * v[2, 1]
        y[a, 2] = w0 * v[0, 2] + w1 * v[1, 2] + w2 * v[2, 2]
        g[base + a] -= y[a, 0] * x[0] + y[a, 1] * x[1] + y[a, 2] * x[2]


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _take_off(block, y, w):
    """block (6, 6) -= y (6, 3) w (3, 6), written out: a compiler that fears overlap does it much slower."""
    a0, a1, a2, a3, a4, a5 = w[0, 0], w[0, 1], w[0, 2], w[0, 3], w[0, 4], w[0, 5]
    b0, b1, b2, b3, b4, b5 = w[1, 0], w[1, 1], w[1, 2], w[1, 3], w[1, 4], w[1, 5]
    c0, c1, c2, c3, c4, c5 = w[2, 0], w[2, 1], w[2, 2], w[2, 3], w[2, 4], w[2, 5]
    for a in range(6):
        row = block[a]
        y0, y1, y2 = y[a, 0], y[a, 1], y[a, 2]
        row[0] -= y0 * a0 + y1 * b0 + y2 * c0
        row[1] -= y0 * a1 + y1 * b1 + y2 * c1
        row[2] -= y0 * a2 + y1 * b2 + y2 * c2
        row[3] -= y0 * a3 + y1 * b3 + y2 * c3
        row[4] -= y0 * a4 + y1 * b4 + y2 * c4
        row[5] -= y0 * a5 + y1 * b5 + y2 * c5


class _Point(NamedTuple):
    """Scratch of the point that is being eliminated: what ties it to photos and to lenses, and that times its inverse.

    Attributes
    ----------
    normal : (3, 3)
    to_photo : (s, 3, 6), photo_through : (s, 6, 3)
        For each of its sightings.
    to_lens : (s, 3, L), lens_through : (s, L, 3), lens : (s,)
        For each lens that sees it, and which lens that is.
    """

    normal: np.ndarray
    to_photo: np.ndarray
    photo_through: np.ndarray
    to_lens: np.ndarray
    lens_through: np.ndarray
    lens: np.ndarray


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _gather(p, seen, free, d, out, own):
    """Sums over the sightings of point p: its own, and those of photos and lenses; returns how many lenses see it."""
    L, lens_base = free.shape[0], 6 * seen.lens_of.shape[0]
    S, g, gx, V, W, Wl = out.matrix, out.right, out.gradient, own.normal, own.to_photo, own.to_lens
    V[:] = 0.0
    gx[p] = 0.0
    lenses = 0
    for k in range(seen.start[p], seen.start[p + 1]):
        s = k - seen.start[p]
        i = seen.photo[k]
        lens = seen.lens_of[i]
        base, low = 6 * i, lens_base + L * lens
        r0, r1 = d.residual[k, 0], d.residual[k, 1]
        A, B, X = d.by_pose[k], d.by_lens[k], d.by_point[k]
        for a in range(3):
            gx[p, a] += X[0, a] * r0 + X[1, a] * r1
            for b in range(3):
                V[a, b] += X[0, a] * X[0, b] + X[1, a] * X[1, b]
        for a in range(6):
            g[base + a] += A[0, a] * r0 + A[1, a] * r1
            for b in range(a, 6):
                S[base + a, base + b] += A[0, a] * A[0, b] + A[1, a] * A[1, b]
            for b in range(3):
                W[s, b, a] = A[0, a] * X[0, b] + A[1, a] * X[1, b]
        # sightings through one lens share its rows
        at = -1
        for q in range(lenses):
            if own.lens[q] == lens:
                at = q
        if at < 0:
            at = lenses
            own.lens[at] = lens
            lenses += 1
            Wl[at] = 0.0
        for c in range(L):
            l0, l1 = B[0, free[c]], B[1, free[c]]
            g[low + c] += l0 * r0 + l1 * r1
            for a in range(6):
                S[base + a, low + c] += A[0, a] * l0 + A[1, a] * l1
            for e in range(c, L):
                S[low + c, low + e] += l0 * B[0, free[e]] + l1 * B[1, free[e]]
            for b in range(3):
                Wl[at, b, c] += l0 * X[0, b] + l1 * X[1, b]
    return lenses


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _keep(p, to, lenses, seen, L, out, own):
    """Point p stays in the system, at column `to`."""
    lens_base = 6 * seen.lens_of.shape[0]
    S, g, gx, V = out.matrix, out.right, out.gradient, own.normal
    out.inverse[p] = 0.0
    for a in range(3):
        g[to + a] += gx[p, a]
        for b in range(a, 3):
            S[to + a, to + b] += V[a, b]
    for k in range(seen.start[p], seen.start[p + 1]):
        base, w = 6 * seen.photo[k], own.to_photo[k - seen.start[p]]
        for a in range(6):
            for b in range(3):
                S[base + a, to + b] += w[b, a]
    for q in range(lenses):
        low = lens_base + L * own.lens[q]
        for c in range(L):
            for b in range(3):
                S[low + c, to + b] += own.to_lens[q, b, c]


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _eliminate(p, lenses, seen, L, out, own, blocks):
    """Take off photos and lenses what goes through point p. `blocks` (n, n, 6, 6) is what photos have to do with each
    other, block by block: neighbors in memory."""
    lens_base, first, n = 6 * seen.lens_of.shape[0], seen.start[p], seen.start[p + 1] - seen.start[p]
    S, g, gx, v = out.matrix, out.right, out.gradient, out.inverse[p]
    W, Y, Wl, Yl, which, photo = own.to_photo, own.photo_through, own.to_lens, own.lens_through, own.lens, seen.photo
    for s in range(n):
        _through(W[s], v, gx[p], Y[s], g, 6 * photo[first + s])
    for q in range(lenses):
        _through(Wl[q], v, gx[p], Yl[q], g, lens_base + L * which[q])
    for s in range(n):
        i = photo[first + s]
        for u in range(s, n):
            j = photo[first + u]
            # the upper part only: rows of the earlier photo
            if i <= j:
                _take_off(blocks[i, j], Y[s], W[u])
            else:
                _take_off(blocks[j, i], Y[u], W[s])
        for q in range(lenses):
            low = lens_base + L * which[q]
            for a in range(6):
                y0, y1, y2 = Y[s, a, 0], Y[s, a, 1], Y[s, a, 2]
                for c in range(L):
                    S[6 * i + a, low + c] -= y0 * Wl[q, 0, c] + y1 * Wl[q, 1, c] + y2 * Wl[q, 2, c]
    for q in range(lenses):
        low = lens_base + L * which[q]
        for u in range(lenses):
            if which[u] < which[q]:
                continue
            left = lens_base + L * which[u]
            for c in range(L):
                y0, y1, y2 = Yl[q, c, 0], Yl[q, c, 1], Yl[q, c, 2]
                for e in range(L):
                    S[low + c, left + e] -= y0 * Wl[u, 0, e] + y1 * Wl[u, 1, e] + y2 * Wl[u, 2, e]


@njit(cache=True, nogil=True, error_model="numpy")
def _reduce(first, last, seen, free, d, damping, priors, out):
    """What points first..last add to the reduced system. See `reduce_to_cameras`."""
    n_photos, L = seen.lens_of.shape[0], free.shape[0]
    out.matrix[:] = 0.0
    out.right[:] = 0.0
    most = 0
    for p in range(first, last):
        most = max(most, seen.start[p + 1] - seen.start[p])
    own = _Point(
        np.empty((3, 3)), np.empty((most, 3, 6)), np.empty((most, 6, 3)), np.empty((most, 3, L)),
        np.empty((most, L, 3)), np.empty(most, np.int64),
    )  # fmt: skip
    blocks = np.zeros((n_photos, n_photos, 6, 6))
    for p in range(first, last):
        lenses = _gather(p, seen, free, d, out, own)
        row = priors.row[p]
        if row >= 0:
            for a in range(3):
                out.gradient[p, a] += priors.gradient[row, a]
                for b in range(3):
                    own.normal[a, b] += priors.information[row, a, b]
        if priors.kept[p] >= 0:
            _keep(p, priors.kept[p], lenses, seen, L, out, own)
            continue
        for a in range(3):
            own.normal[a, a] = own.normal[a, a] * (1.0 + damping) + 1e-12
        _invert(own.normal, out.inverse[p])
        _eliminate(p, lenses, seen, L, out, own, blocks)
    for i in range(n_photos):
        for j in range(i, n_photos):
            for a in range(6):
                for b in range(6):
                    out.matrix[6 * i + a, 6 * j + b] += blocks[i, j, a, b]


def reduce_to_cameras(seen, free, linear, damping, out, priors=None):
    """The system with the points taken out.

    Points are worked on in a fixed number of blocks, by threads, and the blocks are added in their order: the result
    does not depend on how many threads there are.

    Parameters
    ----------
    seen : Observations
    free : (L,) int64
        The lens parameters that are solved.
    linear : Derivatives
    damping : float
        The points' share of the Levenberg-Marquardt damping.
    out : System
        Receives it.
    priors : Priors, optional
    """
    count = len(seen.start) - 1
    priors = no_priors(count) if priors is None else priors
    # blocks with as many sightings each
    edges = np.searchsorted(seen.start, np.linspace(0, seen.start[-1], BLOCKS + 1)[1:-1])
    edges = [0, *(int(e) for e in edges), count]
    parts = [out] + [
        out._replace(matrix=np.empty_like(out.matrix), right=np.empty_like(out.right)) for _ in range(BLOCKS - 1)
    ]

    def work(b):
        _reduce(edges[b], edges[b + 1], seen, free, linear, damping, priors, parts[b])

    if seen.start[-1] < SMALL:
        for b in range(BLOCKS):
            work(b)
    else:
        with ThreadPoolExecutor(THREADS) as pool:
            list(pool.map(work, range(BLOCKS)))
    for part in parts[1:]:
        out.matrix[:] += part.matrix
        out.right[:] += part.right


@njit(cache=True, nogil=True)
def point_steps(seen, free, linear, reduced, step, out):
    """Each point's own step (p, 3), given the step of poses and lenses and the System it solves."""
    L, lens_base = free.shape[0], 6 * seen.lens_of.shape[0]
    Jc, Jl, Jx = linear.by_pose, linear.by_lens, linear.by_point
    for p in range(seen.start.shape[0] - 1):
        v = reduced.gradient[p].copy()
        for k in range(seen.start[p], seen.start[p + 1]):
            i = seen.photo[k]
            base = lens_base + L * seen.lens_of[i]
            for q in range(2):
                s = 0.0
                for a in range(6):
                    s += Jc[k, q, a] * step[6 * i + a]
                for a in range(L):
                    s += Jl[k, q, free[a]] * step[base + a]
                for b in range(3):
                    v[b] -= Jx[k, q, b] * s
        inverse = reduced.inverse[p]
        for a in range(3):
            out[p, a] = inverse[a, 0] * v[0] + inverse[a, 1] * v[1] + inverse[a, 2] * v[2]
