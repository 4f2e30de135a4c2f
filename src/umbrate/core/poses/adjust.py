"""Bundle adjustment: poses, lenses and points moved together until the sightings agree best.

Every point is seen by few photos and every sighting involves one pose, one lens and one point, so
the points can be eliminated one by one (Schur complement; Brown 1958, Triggs et al. 2000) and what
is left is a small dense system in poses and lenses. Levenberg-Marquardt takes the steps (damping
after Nielsen 1999); a robust loss, by reweighting, keeps false sightings from pulling.

Sums run in one fixed order, so the result does not depend on the number of threads.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit
from scipy.linalg import LinAlgError, cho_factor, cho_solve

from ..geometry.lens import N_PARAMETERS
from ..geometry.rotation import rotation_matrix

SQUARED, HUBER, CAUCHY = 0, 1, 2


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
def reduce_to_cameras(n_photos, start, photo, lens_of, free, r, Jc, Jl, Jx, damping, S, g, Vinv, gx):
    """The reduced system S (upper part), g in poses and lenses; keeps what the points need later."""
    L = free.shape[0]
    S[:] = 0.0
    g[:] = 0.0
    longest = 0
    for p in range(start.shape[0] - 1):
        longest = max(longest, start[p + 1] - start[p])
    rows = longest * (6 + L)
    W, Y = np.empty((rows, 3)), np.empty((rows, 3))
    index = np.empty(rows, np.int64)
    V = np.empty((3, 3))
    J = np.empty((2, 6 + L))
    for p in range(start.shape[0] - 1):
        V[:] = 0.0
        gx[p] = 0.0
        n = 0
        lens_row, last_lens = -1, -1
        for k in range(start[p], start[p + 1]):
            i = photo[k]
            lens = lens_of[i]
            for a in range(3):
                for b in range(3):
                    V[a, b] += Jx[k, 0, a] * Jx[k, 0, b] + Jx[k, 1, a] * Jx[k, 1, b]
                gx[p, a] += Jx[k, 0, a] * r[k, 0] + Jx[k, 1, a] * r[k, 1]
            for q in range(2):
                for a in range(6):
                    J[q, a] = Jc[k, q, a]
                for a in range(L):
                    J[q, 6 + a] = Jl[k, q, free[a]]
            base_c, base_l = 6 * i, 6 * n_photos + L * lens
            for a in range(6 + L):
                ca = base_c + a if a < 6 else base_l + a - 6
                g[ca] += J[0, a] * r[k, 0] + J[1, a] * r[k, 1]
                for b in range(a, 6 + L):
                    cb = base_c + b if b < 6 else base_l + b - 6
                    S[ca, cb] += J[0, a] * J[0, b] + J[1, a] * J[1, b]
            for a in range(6):
                index[n] = base_c + a
                for b in range(3):
                    W[n, b] = J[0, a] * Jx[k, 0, b] + J[1, a] * Jx[k, 1, b]
                n += 1
            # sightings through one lens share its rows
            fresh = lens != last_lens
            if fresh:
                lens_row, last_lens = n, lens
                n += L
            for a in range(L):
                index[lens_row + a] = base_l + a
                for b in range(3):
                    v = J[0, 6 + a] * Jx[k, 0, b] + J[1, 6 + a] * Jx[k, 1, b]
                    W[lens_row + a, b] = v if fresh else W[lens_row + a, b] + v
        for a in range(3):
            V[a, a] = V[a, a] * (1.0 + damping) + 1e-12
        c00 = V[1, 1] * V[2, 2] - V[1, 2] * V[2, 1]
        c01 = V[1, 2] * V[2, 0] - V[1, 0] * V[2, 2]
        c02 = V[1, 0] * V[2, 1] - V[1, 1] * V[2, 0]
        det = V[0, 0] * c00 + V[0, 1] * c01 + V[0, 2] * c02
        inv = Vinv[p]
        if not det > 1e-300:
            inv[:] = 0.0
        else:
            inv[0, 0], inv[1, 0], inv[2, 0] = c00 / det, c01 / det, c02 / det
            inv[0, 1] = (V[0, 2] * V[2, 1] - V[0, 1] * V[2, 2]) / det
            inv[1, 1] = (V[0, 0] * V[2, 2] - V[0, 2] * V[2, 0]) / det
            inv[2, 1] = (V[0, 1] * V[2, 0] - V[0, 0] * V[2, 1]) / det
            inv[0, 2] = (V[0, 1] * V[1, 2] - V[0, 2] * V[1, 1]) / det
            inv[1, 2] = (V[0, 2] * V[1, 0] - V[0, 0] * V[1, 2]) / det
            inv[2, 2] = (V[0, 0] * V[1, 1] - V[0, 1] * V[1, 0]) / det
        for a in range(n):
            for b in range(3):
                Y[a, b] = W[a, 0] * inv[0, b] + W[a, 1] * inv[1, b] + W[a, 2] * inv[2, b]
            g[index[a]] -= Y[a, 0] * gx[p, 0] + Y[a, 1] * gx[p, 1] + Y[a, 2] * gx[p, 2]
        for a in range(n):
            ia = index[a]
            y0, y1, y2 = Y[a, 0], Y[a, 1], Y[a, 2]
            for b in range(n):
                if index[b] >= ia:
                    S[ia, index[b]] -= y0 * W[b, 0] + y1 * W[b, 1] + y2 * W[b, 2]


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
    size = 6 * n + L * len(lenses)
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
    cost += prior_terms(lenses)[0]
    rounds = 0
    while rounds < max_rounds:
        rounds += 1
        if stop:
            stop()
        reduce_to_cameras(n, start, photo, lens_of, free, r, Jc, Jl, Jx, damping, S, g, Vinv, gx)
        _, w, pg = prior_terms(lenses)
        if w is not None:
            S[np.arange(6 * n, size), np.arange(6 * n, size)] += w
            g[6 * n :] += pg
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
        new_poses, new_lenses = poses.copy(), lenses.copy()
        for i in range(n):
            s = step[6 * i : 6 * i + 6]
            new_poses[i, :3, :3] = rotation_matrix(-s[:3]) @ poses[i, :3, :3]
            new_poses[i, :3, 3] = poses[i, :3, 3] - s[3:]
        if L:
            new_lenses[:, free] -= step[6 * n :].reshape(-1, L)
        new_points = points - dX
        trial = _cost(new_poses, new_lenses, lens_of, new_points, photo, point, xy, weight, loss, scale, r)
        trial += prior_terms(new_lenses)[0]
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
