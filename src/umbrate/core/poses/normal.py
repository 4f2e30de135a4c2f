"""The normal equations of a bundle adjustment: residuals and derivatives, and the system with the points taken out.

Every point is seen by few photos, so what points have to do with each other goes only through photos: each can be
eliminated by itself (Schur complement; Brown 1958, Triggs et al. 2000), and a small dense system in poses and lenses is
left.
"""

from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numba import njit

SQUARED, HUBER, CAUCHY = 0, 1, 2
BLOCKS, THREADS = 4, 2  #: parts the points are worked on in
SMALL = 5000  #: so few sightings are not worth a thread


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
def cost_of(poses, lenses, lens_of, points, photo, point, xy, weight, loss, scale, r):
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
        for s in range(n):
            _through(W[s], v, gx[p], Y[s], g, 6 * photo[k0 + s])
        for q in range(lenses):
            _through(Wl[q], v, gx[p], Yl[q], g, 6 * n_photos + L * which[q])
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
def point_steps(n_photos, start, photo, lens_of, free, Jc, Jl, Jx, Vinv, gx, step, out):
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
