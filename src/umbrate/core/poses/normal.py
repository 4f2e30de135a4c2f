"""The normal equations of a bundle adjustment: residuals and derivatives, and the system with the points taken out.

Every point is seen by few photos, so what points have to do with each other goes only through photos: each can be
eliminated by itself (Schur complement; Brown 1958, Triggs et al. 2000), and a small dense system in poses and lenses is
left.

The kernels take what belongs together as named tuples: `State` is what the adjustment moves, `Observations` what the
photos saw. n photos, m lenses, p points, k sightings, L lens parameters that are solved.
"""

from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np
from numba import njit

from ..geometry.lens import N_PARAMETERS

SQUARED, HUBER, CAUCHY = 0, 1, 2
BLOCKS, THREADS = 4, 2  #: parts the points are worked on in
SMALL = 5000  #: so few sightings are not worth a thread


class State(NamedTuple):
    """What an adjustment moves.

    Attributes
    ----------
    poses : (n, 4, 4) float64
        World to camera.
    lenses : (m, 10) float64
        Lens vectors.
    points : (p, 3) float64
    """

    poses: np.ndarray
    lenses: np.ndarray
    points: np.ndarray


class Observations(NamedTuple):
    """What the photos saw, sorted by point. See `observations`.

    Attributes
    ----------
    lens_of : (n,) int64
        The lens of each photo.
    photo, point : (k,) int64
    xy : (k, 2) float64
        Seen pixels.
    weight : (k,) float64
        One over the standard deviation of each sighting.
    start : (p + 1,) int64
        Where the sightings of each point begin.
    """

    lens_of: np.ndarray
    photo: np.ndarray
    point: np.ndarray
    xy: np.ndarray
    weight: np.ndarray
    start: np.ndarray


class Loss(NamedTuple):
    """How much large residuals count: SQUARED, HUBER or CAUCHY, and the standard deviations where it starts to bend."""

    kind: int = HUBER
    scale: float = 1.0


class Derivatives(NamedTuple):
    """Weighted residuals (k, 2) of the sightings and their derivatives by pose (k, 2, 6), lens (k, 2, 10) and point
    (k, 2, 3)."""

    residual: np.ndarray
    by_pose: np.ndarray
    by_lens: np.ndarray
    by_point: np.ndarray


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


def observations(lens_of, photo, point, xy, sigma=None, points=None):
    """Observations from plain arrays.

    Parameters
    ----------
    lens_of : (n,) int
    photo, point : (k,) int
        Whose sighting it is; `point` must not decrease.
    xy : (k, 2)
    sigma : (k,), optional
        Standard deviation of each sighting's coordinates in pixels; 1 where not given.
    points : int, optional
        How many points there are; as many as are seen where not given.

    Raises
    ------
    ValueError
        Where the sightings are not sorted by point.
    """
    point = np.ascontiguousarray(point, dtype=np.int64)
    if len(point) and (np.diff(point) < 0).any():
        raise ValueError("sightings must be sorted by point")
    count = (int(point[-1]) + 1 if len(point) else 0) if points is None else points
    return Observations(
        np.ascontiguousarray(lens_of, dtype=np.int64),
        np.ascontiguousarray(photo, dtype=np.int64),
        point,
        np.ascontiguousarray(xy, dtype=np.float64).reshape(-1, 2),
        np.ones(len(point)) if sigma is None else 1.0 / np.ascontiguousarray(sigma, dtype=np.float64),
        np.searchsorted(point, np.arange(count + 1)).astype(np.int64),
    )


def derivatives(k):
    """Room for the Derivatives of k sightings."""
    return Derivatives(np.empty((k, 2)), np.empty((k, 2, 6)), np.empty((k, 2, N_PARAMETERS)), np.empty((k, 2, 3)))


def system(size, p):
    """Room for a System of so many columns, with p points."""
    return System(np.empty((size, size)), np.empty(size), np.empty((p, 3, 3)), np.empty((p, 3)))


def no_priors(p):
    """The Priors of p points of which nothing else is known."""
    none = np.full(p, -1, np.int64)
    return Priors(none, none, np.zeros((0, 3, 3)), np.zeros((0, 3)))


@njit(cache=True, nogil=True)
def linearize(state, seen, loss, out):
    """Residuals and derivatives of every sighting, times its weight and the root of its robust weight.

    Parameters
    ----------
    state : State
    seen : Observations
    loss : Loss
    out : Derivatives
        Receives them.

    Returns
    -------
    float
        Half the robust sum of squares.
    """
    poses, lenses, points = state.poses, state.lenses, state.points
    lens_of, photo, point, xy, weight = seen.lens_of, seen.photo, seen.point, seen.xy, seen.weight
    r, Jc, Jl, Jx = out.residual, out.by_pose, out.by_lens, out.by_point
    kind, scale = loss.kind, loss.scale
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
        if kind == SQUARED:
            cost += 0.5 * e2
        elif kind == HUBER:
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
def cost_of(state, seen, loss, r):
    """The robust cost alone; `r` (k, 2) receives the plain residuals, predicted minus seen."""
    poses, lenses, points = state.poses, state.lenses, state.points
    lens_of, photo, point, xy, weight = seen.lens_of, seen.photo, seen.point, seen.xy, seen.weight
    kind, scale = loss.kind, loss.scale
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
        if kind == SQUARED:
            cost += 0.5 * e2
        elif kind == HUBER:
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
