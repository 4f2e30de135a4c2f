"""Bundle adjustment: poses, lenses and points moved together until the sightings agree best.

Every point is seen by few photos and every sighting involves one pose, one lens and one point, so
the points can be eliminated one by one (Schur complement; Brown 1958, Triggs et al. 2000) and what
is left is a small dense system in poses and lenses. Levenberg-Marquardt takes the steps (damping
after Nielsen 1999); a robust loss, by reweighting, keeps false sightings from pulling.

Sums run in one fixed order, so the result does not depend on the number of threads.
"""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numba import njit
from scipy.linalg import LinAlgError, cho_factor, cho_solve

from ..geometry.lens import N_PARAMETERS
from ..geometry.rotation import rotation_matrix

SQUARED, HUBER, CAUCHY = 0, 1, 2
BLOCKS, THREADS = 4, 2  #: parts the points are worked on in
SMALL = 5000  #: so few sightings are not worth a thread


@dataclass
class Adjusted:
    """What an adjustment returns.

    Attributes
    ----------
    poses : (n, 4, 4), lenses : (m, 10), points : (p, 3)
    residuals : (k, 2) float64
        Seen minus predicted pixels, not weighted.
    cost : float
        Half the robust sum of squares.
    rounds : int
    """

    poses: np.ndarray
    lenses: np.ndarray
    points: np.ndarray
    residuals: np.ndarray
    cost: float
    rounds: int


@njit(cache=True, nogil=True)
def linearize(poses, lenses, lens_of, points, photo, point, xy, weight, loss, scale, r, Jc, Jl, Jx):
    """Residuals and Jacobians of every sighting, times its weight and the root of its robust weight; returns the cost.

    weight : (k,) one over the standard deviation of each sighting; `scale` is in units of that
    """
    cost = 0.0
    s2 = scale * scale
    for k in range(photo.shape[0]):
        i, p = photo[k], point[k]
        E, c, X = poses[i], lenses[lens_of[i]], points[p]
        y0 = E[0, 0] * X[0] + E[0, 1] * X[1] + E[0, 2] * X[2]
        y1 = E[1, 0] * X[0] + E[1, 1] * X[1] + E[1, 2] * X[2]
        y2 = E[2, 0] * X[0] + E[2, 1] * X[1] + E[2, 2] * X[2]
        z = y2 + E[2, 3]
        if z < 1e-9:
            r[k], Jc[k], Jl[k], Jx[k] = 0.0, 0.0, 0.0, 0.0
            cost += 50.0 * s2
            continue
        x, y = (y0 + E[0, 3]) / z, (y1 + E[1, 3]) / z
        r2 = x * x + y * y
        g = 1.0 + r2 * (c[3] + r2 * (c[4] + r2 * c[5]))
        h = 2.0 * (c[3] + r2 * (2.0 * c[4] + 3.0 * r2 * c[5]))
        xd = x * g + 2.0 * c[6] * x * y + c[7] * (r2 + 2.0 * x * x)
        yd = y * g + c[6] * (r2 + 2.0 * y * y) + 2.0 * c[7] * x * y
        fx, f, sk = c[0] + c[8], c[0], c[9]
        ru, rv = weight[k] * (fx * xd + sk * yd + c[1] - xy[k, 0]), weight[k] * (f * yd + c[2] - xy[k, 1])
        e2 = ru * ru + rv * rv
        w = 1.0
        if loss == 0:
            cost += 0.5 * e2
        elif loss == 1:
            if e2 > s2:
                e = np.sqrt(e2)
                w = scale / e
                cost += scale * e - 0.5 * s2
            else:
                cost += 0.5 * e2
        else:
            w = 1.0 / (1.0 + e2 / s2)
            cost += 0.5 * s2 * np.log(1.0 + e2 / s2)
        w = np.sqrt(w)
        r[k, 0], r[k, 1] = w * ru, w * rv
        w *= weight[k]
        a = g + x * x * h + 2.0 * c[6] * y + 6.0 * c[7] * x
        b = x * y * h + 2.0 * c[6] * x + 2.0 * c[7] * y
        d = g + y * y * h + 6.0 * c[6] * y + 2.0 * c[7] * x
        ux, uy = fx * a + sk * b, fx * b + sk * d
        vx, vy = f * b, f * d
        for q in range(2):
            gx, gy = (ux, uy) if q == 0 else (vx, vy)
            jx, jy = w * gx / z, w * gy / z
            jz = -(jx * x + jy * y)
            Jc[k, q, 0] = jz * y1 - jy * y2
            Jc[k, q, 1] = jx * y2 - jz * y0
            Jc[k, q, 2] = jy * y0 - jx * y1
            Jc[k, q, 3], Jc[k, q, 4], Jc[k, q, 5] = jx, jy, jz
            for m in range(3):
                Jx[k, q, m] = jx * E[0, m] + jy * E[1, m] + jz * E[2, m]
        r4 = r2 * r2
        Jl[k, 0, 0], Jl[k, 1, 0] = w * xd, w * yd
        Jl[k, 0, 1], Jl[k, 1, 1] = w, 0.0
        Jl[k, 0, 2], Jl[k, 1, 2] = 0.0, w
        px, py = w * (fx * x + sk * y), w * f * y
        Jl[k, 0, 3], Jl[k, 1, 3] = px * r2, py * r2
        Jl[k, 0, 4], Jl[k, 1, 4] = px * r4, py * r4
        Jl[k, 0, 5], Jl[k, 1, 5] = px * r4 * r2, py * r4 * r2
        t1, t2, t3 = 2.0 * x * y, r2 + 2.0 * x * x, r2 + 2.0 * y * y
        Jl[k, 0, 6], Jl[k, 1, 6] = w * (fx * t1 + sk * t3), w * f * t3
        Jl[k, 0, 7], Jl[k, 1, 7] = w * (fx * t2 + sk * t1), w * f * t1
        Jl[k, 0, 8], Jl[k, 1, 8] = w * xd, 0.0
        Jl[k, 0, 9], Jl[k, 1, 9] = w * yd, 0.0
    return cost


@njit(cache=True, nogil=True)
def _cost(poses, lenses, lens_of, points, photo, point, xy, weight, loss, scale, r):
    """The robust cost alone; `r` (k, 2) receives the plain residuals, predicted minus seen."""
    cost = 0.0
    s2 = scale * scale
    for k in range(photo.shape[0]):
        i, p = photo[k], point[k]
        E, c, X = poses[i], lenses[lens_of[i]], points[p]
        z = E[2, 0] * X[0] + E[2, 1] * X[1] + E[2, 2] * X[2] + E[2, 3]
        if z < 1e-9:
            r[k, 0], r[k, 1] = 1e6, 1e6
            cost += 50.0 * s2
            continue
        x = (E[0, 0] * X[0] + E[0, 1] * X[1] + E[0, 2] * X[2] + E[0, 3]) / z
        y = (E[1, 0] * X[0] + E[1, 1] * X[1] + E[1, 2] * X[2] + E[1, 3]) / z
        r2 = x * x + y * y
        g = 1.0 + r2 * (c[3] + r2 * (c[4] + r2 * c[5]))
        xd = x * g + 2.0 * c[6] * x * y + c[7] * (r2 + 2.0 * x * x)
        yd = y * g + c[6] * (r2 + 2.0 * y * y) + 2.0 * c[7] * x * y
        r[k, 0] = (c[0] + c[8]) * xd + c[9] * yd + c[1] - xy[k, 0]
        r[k, 1] = c[0] * yd + c[2] - xy[k, 1]
        e2 = weight[k] ** 2 * (r[k, 0] ** 2 + r[k, 1] ** 2)
        if loss == 0:
            cost += 0.5 * e2
        elif loss == 1:
            cost += 0.5 * e2 if e2 <= s2 else scale * np.sqrt(e2) - 0.5 * s2
        else:
            cost += 0.5 * s2 * np.log(1.0 + e2 / s2)
    return cost


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


@njit(cache=True, nogil=True, error_model="numpy")
def _reduce(
    n_photos,
    first,
    last,
    start,
    photo,
    lens_of,
    free,
    r,
    Jc,
    Jl,
    Jx,
    damping,
    kept,
    prior_row,
    info,
    pull,
    S,
    g,
    Vinv,
    gx,
):
    """What points first..last add to the reduced system. See `reduce_to_cameras`."""
    L = free.shape[0]
    S[:] = 0.0
    g[:] = 0.0
    longest = 0
    for p in range(first, last):
        longest = max(longest, start[p + 1] - start[p])
    W, Y = np.empty((longest, 3, 6)), np.empty((longest, 6, 3))
    Wl, Yl = np.empty((longest, 3, L)), np.empty((longest, L, 3))
    which = np.empty(longest, np.int64)
    V = np.empty((3, 3))
    # what photos have to do with each other, gathered block by block: neighbors in memory
    blocks = np.zeros((n_photos, n_photos, 6, 6))
    for p in range(first, last):
        V[:] = 0.0
        gx[p] = 0.0
        k0, n = start[p], start[p + 1] - start[p]
        lenses = 0
        for s in range(n):
            k = k0 + s
            i, lens = photo[k], lens_of[photo[k]]
            base, low = 6 * i, 6 * n_photos + L * lens
            r0, r1 = r[k, 0], r[k, 1]
            A, B, X = Jc[k], Jl[k], Jx[k]
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
                if which[q] == lens:
                    at = q
            if at < 0:
                at = lenses
                which[at] = lens
                lenses += 1
                Wl[at] = 0.0
            for c in range(L):
                l0, l1 = B[0, free[c]], B[1, free[c]]
                g[low + c] += l0 * r0 + l1 * r1
                for a in range(6):
                    S[base + a, low + c] += A[0, a] * l0 + A[1, a] * l1
                for d in range(c, L):
                    S[low + c, low + d] += l0 * B[0, free[d]] + l1 * B[1, free[d]]
                for b in range(3):
                    Wl[at, b, c] += l0 * X[0, b] + l1 * X[1, b]
        if prior_row[p] >= 0:
            for a in range(3):
                gx[p, a] += pull[prior_row[p], a]
                for b in range(3):
                    V[a, b] += info[prior_row[p], a, b]
        if kept[p] >= 0:
            # this point is no unknown of its own: it stays in the system
            to = kept[p]
            Vinv[p] = 0.0
            for a in range(3):
                g[to + a] += gx[p, a]
                for b in range(a, 3):
                    S[to + a, to + b] += V[a, b]
            for s in range(n):
                base = 6 * photo[k0 + s]
                for a in range(6):
                    for b in range(3):
                        S[base + a, to + b] += W[s, b, a]
            for q in range(lenses):
                low = 6 * n_photos + L * which[q]
                for c in range(L):
                    for b in range(3):
                        S[low + c, to + b] += Wl[q, b, c]
            continue
        for a in range(3):
            V[a, a] = V[a, a] * (1.0 + damping) + 1e-12
        _invert(V, Vinv[p])
        v = Vinv[p]
        x0, x1, x2 = gx[p, 0], gx[p, 1], gx[p, 2]
        for s in range(n):
            base = 6 * photo[k0 + s]
            for a in range(6):
                w0, w1, w2 = W[s, 0, a], W[s, 1, a], W[s, 2, a]
                y0 = w0 * v[0, 0] + w1 * v[1, 0] + w2 * v[2, 0]
                y1 = w0 * v[0, 1] + w1 * v[1, 1] + w2 * v[2, 1]
                y2 = w0 * v[0, 2] + w1 * v[1, 2] + w2 * v[2, 2]
                Y[s, a, 0], Y[s, a, 1], Y[s, a, 2] = y0, y1, y2
                g[base + a] -= y0 * x0 + y1 * x1 + y2 * x2
        for q in range(lenses):
            low = 6 * n_photos + L * which[q]
            for c in range(L):
                w0, w1, w2 = Wl[q, 0, c], Wl[q, 1, c], Wl[q, 2, c]
                y0 = w0 * v[0, 0] + w1 * v[1, 0] + w2 * v[2, 0]
                y1 = w0 * v[0, 1] + w1 * v[1, 1] + w2 * v[2, 1]
                y2 = w0 * v[0, 2] + w1 * v[1, 2] + w2 * v[2, 2]
                Yl[q, c, 0], Yl[q, c, 1], Yl[q, c, 2] = y0, y1, y2
                g[low + c] -= y0 * x0 + y1 * x1 + y2 * x2
        for s in range(n):
            i = photo[k0 + s]
            for u in range(s, n):
                j = photo[k0 + u]
                # the upper part only: rows of the earlier photo
                if i <= j:
                    _take_off(blocks[i, j], Y[s], W[u])
                else:
                    _take_off(blocks[j, i], Y[u], W[s])
            for q in range(lenses):
                low = 6 * n_photos + L * which[q]
                for a in range(6):
                    y0, y1, y2 = Y[s, a, 0], Y[s, a, 1], Y[s, a, 2]
                    for c in range(L):
                        S[6 * i + a, low + c] -= y0 * Wl[q, 0, c] + y1 * Wl[q, 1, c] + y2 * Wl[q, 2, c]
        for q in range(lenses):
            low = 6 * n_photos + L * which[q]
            for u in range(lenses):
                if which[u] < which[q]:
                    continue
                left = 6 * n_photos + L * which[u]
                for c in range(L):
                    y0, y1, y2 = Yl[q, c, 0], Yl[q, c, 1], Yl[q, c, 2]
                    for d in range(L):
                        S[low + c, left + d] -= y0 * Wl[u, 0, d] + y1 * Wl[u, 1, d] + y2 * Wl[u, 2, d]
    for i in range(n_photos):
        for j in range(i, n_photos):
            for a in range(6):
                for b in range(6):
                    S[6 * i + a, 6 * j + b] += blocks[i, j, a, b]


def no_priors(count):
    """What `reduce_to_cameras` takes as `extra` where points have no priors and none is kept."""
    none = np.full(count, -1, np.int64)
    return none, none, np.zeros((0, 3, 3)), np.zeros((0, 3))


def reduce_to_cameras(n_photos, start, photo, lens_of, free, r, Jc, Jl, Jx, damping, S, g, Vinv, gx, extra=None):
    """The reduced system S (upper part), g in poses, lenses and kept points; keeps what the points need later.

    Points are worked on in a fixed number of blocks, by threads, and the blocks are added in their order: the result
    does not depend on how many threads there are.

    extra : (kept (p,), prior_row (p,), info (q, 3, 3), pull (q, 3))
        Column where a point that is kept begins, or -1; the row of a point's prior, or -1; the priors' information and
        gradient.
    """
    count = len(start) - 1
    extra = no_priors(count) if extra is None else extra
    # blocks with as many sightings each
    edges = np.searchsorted(start, np.linspace(0, start[-1], BLOCKS + 1)[1:-1])
    edges = [0, *(int(e) for e in edges), count]
    parts = [(S, g)] + [(np.empty_like(S), np.empty_like(g)) for _ in range(BLOCKS - 1)]

    def work(b):
        _reduce(
            n_photos, edges[b], edges[b + 1], start, photo, lens_of, free, r, Jc, Jl, Jx, damping, *extra, *parts[b],
            Vinv, gx,
        )  # fmt: skip

    if start[-1] < SMALL:
        for b in range(BLOCKS):
            work(b)
    else:
        with ThreadPoolExecutor(THREADS) as pool:
            list(pool.map(work, range(BLOCKS)))
    for more, push in parts[1:]:
        S += more
        g += push


@njit(cache=True, nogil=True)
def _point_steps(n_photos, start, photo, lens_of, free, Jc, Jl, Jx, Vinv, gx, step, out):
    """Each point's own step, given the step of poses and lenses."""
    L = free.shape[0]
    for p in range(start.shape[0] - 1):
        v = gx[p].copy()
        for k in range(start[p], start[p + 1]):
            i = photo[k]
            base = 6 * n_photos + L * lens_of[i]
            for q in range(2):
                s = 0.0
                for a in range(6):
                    s += Jc[k, q, a] * step[6 * i + a]
                for a in range(L):
                    s += Jl[k, q, free[a]] * step[base + a]
                for b in range(3):
                    v[b] -= Jx[k, q, b] * s
        for a in range(3):
            out[p, a] = Vinv[p, a, 0] * v[0] + Vinv[p, a, 1] * v[1] + Vinv[p, a, 2] * v[2]


class _Known:
    """What is known of points besides their sightings. Those with a length stay in the reduced system: it joins two."""

    def __init__(self, count, base, known_points, lengths):
        self.base, self.known, self.lengths = base, known_points, lengths
        ends = [] if lengths is None else np.concatenate([lengths[0], lengths[1]])
        self.held = np.unique(np.asarray(ends, np.int64))
        self.size = base + 3 * len(self.held)
        self.kept, self.prior_row = np.full(count, -1, np.int64), np.full(count, -1, np.int64)
        self.kept[self.held] = base + 3 * np.arange(len(self.held))
        self.info = np.zeros((0, 3, 3))
        if known_points is not None:
            self.rows = np.asarray(known_points[0], np.int64)
            self.places = np.asarray(known_points[1], float)
            sigma = np.asarray(known_points[2], float)
            weight = 1.0 / np.broadcast_to(sigma[:, None] if sigma.ndim == 1 else sigma, self.places.shape) ** 2
            self.info = weight[:, :, None] * np.eye(3)
            self.prior_row[self.rows] = np.arange(len(self.rows))

    def _pull(self, points):
        if self.known is None:
            return np.zeros((0, 3))
        return np.einsum("qij,qj->qi", self.info, points[self.rows] - self.places)

    def extra(self, points):
        """For `reduce_to_cameras`."""
        return self.kept, self.prior_row, self.info, self._pull(points)

    def _errors(self, points):
        """Errors (l,) of the lengths in their sigmas, and the directions (l, 3) from the second to the first end."""
        first, second, value, sigma = (np.asarray(x) for x in self.lengths)
        d = points[first] - points[second]
        length = np.linalg.norm(d, axis=1)
        return (length - value) / sigma, d / np.maximum(length, 1e-12)[:, None] / sigma[:, None]

    def cost(self, points):
        """Half the sum of squares of all of them."""
        out = 0.0
        if self.known is not None:
            out += 0.5 * float((self._pull(points) * (points[self.rows] - self.places)).sum())
        if self.lengths is not None:
            out += 0.5 * float((self._errors(points)[0] ** 2).sum())
        return out

    def add_lengths(self, points, S, g):
        """The lengths' part of the system (upper part) and of its right side."""
        if self.lengths is None:
            return
        error, along = self._errors(points)
        for a, b, e, u in zip(self.lengths[0], self.lengths[1], error, along, strict=True):
            at = np.r_[self.kept[a] + np.arange(3), self.kept[b] + np.arange(3)]
            J = np.r_[u, -u]
            S[np.ix_(at, at)] += np.where(at[:, None] <= at[None], np.outer(J, J), 0.0)
            g[at] += J * e


def adjust(
    poses,
    lenses,
    lens_of,
    points,
    photo,
    point,
    xy,
    *,
    sigma=None,
    free_lens=(),
    fixed_poses=(),
    fixed_lenses=(),
    prior=None,
    known_points=None,
    lengths=None,
    loss=HUBER,
    scale=1.0,
    max_rounds=30,
    tolerance=1e-7,
    stop=None,
):
    """Minimize the reprojection error over poses, lenses and points.

    Parameters
    ----------
    poses : (n, 4, 4) float64
        World to camera, all photos that have sightings.
    lenses : (m, 10) float64
        Flat lens vectors.
    lens_of : (n,) int
    points : (p, 3) float64
    photo, point : (k,) int
        Whose sighting it is; `point` must not decrease (sightings sorted by point).
    xy : (k, 2) float64
        Seen pixels.
    sigma : (k,) float64, optional
        Standard deviation of each sighting's coordinates in pixels; 1 where not given.
    free_lens : sequence of int
        Which of the ten lens parameters are solved (the same for every lens).
    fixed_poses : sequence of int
        Photos that stay where they are. With none, the damping settles the free frame.
    fixed_lenses : sequence of int
        Lenses that stay as they are, whatever `free_lens` says.
    prior : (means (m, 10), sigmas (10,) or (m, 10)), optional
        Weak observations of the lens parameters, in their own units.
    known_points : (rows (q,) int, places (q, 3), sigmas (q,) or (q, 3)), optional
        Weighted observations of points: control points. Three of them settle the frame.
    lengths : (first (l,) int, second (l,) int, value (l,), sigma (l,)), optional
        Weighted observations of distances between points: scale bars. One settles the scale.
    loss, scale : int, float
        SQUARED, HUBER or CAUCHY, and the residual in standard deviations where it starts to bend.
    stop : callable() -> None, optional
        Called every round; may raise to cancel.

    Returns
    -------
    Adjusted
    """
    poses, lenses, points = (np.array(a, dtype=np.float64) for a in (poses, lenses, points))
    lens_of = np.ascontiguousarray(lens_of, dtype=np.int64)
    photo, point = np.ascontiguousarray(photo, dtype=np.int64), np.ascontiguousarray(point, dtype=np.int64)
    xy = np.ascontiguousarray(xy, dtype=np.float64)
    weight = np.ones(len(xy)) if sigma is None else 1.0 / np.ascontiguousarray(sigma, dtype=np.float64)
    if len(point) and (np.diff(point) < 0).any():
        raise ValueError("sightings must be sorted by point")
    n, k, P = len(poses), len(photo), len(points)
    free = np.array(sorted(free_lens), dtype=np.int64)
    L = len(free)
    start = np.searchsorted(point, np.arange(P + 1)).astype(np.int64)
    scene = _Known(P, 6 * n + L * len(lenses), known_points, lengths)
    size = scene.size
    fixed = np.zeros(size, bool)
    for i in fixed_poses:
        fixed[6 * i : 6 * i + 6] = True
    for m in fixed_lenses:
        fixed[6 * n + L * m : 6 * n + L * (m + 1)] = True
    r, Jc, Jl, Jx = np.empty((k, 2)), np.empty((k, 2, 6)), np.empty((k, 2, N_PARAMETERS)), np.empty((k, 2, 3))
    S, g = np.empty((size, size)), np.empty(size)
    Vinv, gx, dX = np.empty((P, 3, 3)), np.empty((P, 3)), np.empty((P, 3))

    def prior_terms(values):
        if prior is None or not L:
            return 0.0, None, None
        w = 1.0 / np.broadcast_to(np.asarray(prior[1], float), values.shape)[:, free] ** 2
        d = (values - prior[0])[:, free]
        return 0.5 * float((w * d * d).sum()), w.ravel(), (w * d).ravel()

    damping, growth = 1e-4, 2.0
    cost = linearize(poses, lenses, lens_of, points, photo, point, xy, weight, loss, scale, r, Jc, Jl, Jx)
    cost += prior_terms(lenses)[0] + scene.cost(points)
    rounds = 0
    while rounds < max_rounds:
        rounds += 1
        if stop:
            stop()
        extra = scene.extra(points)
        reduce_to_cameras(n, start, photo, lens_of, free, r, Jc, Jl, Jx, damping, S, g, Vinv, gx, extra)
        _, w, pg = prior_terms(lenses)
        if w is not None:
            own = np.arange(6 * n, 6 * n + L * len(lenses))
            S[own, own] += w
            g[own] += pg
        scene.add_lengths(points, S, g)
        A = np.triu(S) + np.triu(S, 1).T
        d = np.diag(A).copy()
        A[np.diag_indices(size)] += damping * np.maximum(d, 1e-9) + 1e-12
        A[fixed, :] = 0.0
        A[:, fixed] = 0.0
        A[fixed, fixed] = 1.0
        rhs = np.where(fixed, 0.0, g)
        try:
            step = cho_solve(cho_factor(A, check_finite=False), rhs, check_finite=False)
        except LinAlgError:
            damping *= growth
            growth *= 2.0
            continue
        _point_steps(n, start, photo, lens_of, free, Jc, Jl, Jx, Vinv, gx, step, dX)
        dX[scene.held] = step[scene.base :].reshape(-1, 3)
        new_poses, new_lenses = poses.copy(), lenses.copy()
        for i in range(n):
            s = step[6 * i : 6 * i + 6]
            new_poses[i, :3, :3] = rotation_matrix(-s[:3]) @ poses[i, :3, :3]
            new_poses[i, :3, 3] = poses[i, :3, 3] - s[3:]
        if L:
            new_lenses[:, free] -= step[6 * n : scene.base].reshape(-1, L)
        new_points = points - dX
        trial = _cost(new_poses, new_lenses, lens_of, new_points, photo, point, xy, weight, loss, scale, r)
        trial += prior_terms(new_lenses)[0] + scene.cost(new_points)
        if np.isfinite(trial) and trial < cost:
            done = cost - trial < tolerance * cost
            poses, lenses, points, cost = new_poses, new_lenses, new_points, trial
            damping, growth = max(damping / 5.0, 1e-10), 2.0
            linearize(poses, lenses, lens_of, points, photo, point, xy, weight, loss, scale, r, Jc, Jl, Jx)
            if done:
                break
        else:
            linearize(poses, lenses, lens_of, points, photo, point, xy, weight, loss, scale, r, Jc, Jl, Jx)
            damping *= growth
            growth *= 2.0
            if damping > 1e8:
                break
    _cost(poses, lenses, lens_of, points, photo, point, xy, weight, loss, scale, r)
    return Adjusted(poses, lenses, points, -r, float(cost), rounds)
