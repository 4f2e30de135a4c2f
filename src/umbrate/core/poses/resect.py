"""One more photo: its pose from points that are already placed.

Three points fix a pose up to four choices (Grunert 1841, in the form of Haralick et al. 1994); random
sampling finds the one most sightings agree with; least squares over those refines it.
"""

import numpy as np
from numba import njit

from ..geometry.rotation import rotation_matrix


@njit(cache=True, nogil=True)
def _frame(a, b, c):
    """An orthonormal frame (columns) from three points."""
    F = np.empty((3, 3))
    x = b - a
    x = x / np.sqrt((x * x).sum())
    y = c - a
    z = np.array([x[1] * y[2] - x[2] * y[1], x[2] * y[0] - x[0] * y[2], x[0] * y[1] - x[1] * y[0]])
    z = z / np.sqrt((z * z).sum())
    F[:, 0], F[:, 2] = x, z
    F[:, 1] = np.array([z[1] * x[2] - z[2] * x[1], z[2] * x[0] - z[0] * x[2], z[0] * x[1] - z[1] * x[0]])
    return F


@njit(cache=True, nogil=True)
def three_point(X, x, R_out, t_out):
    """Poses of a camera that sees three points.

    Parameters
    ----------
    X : (3, 3) float64, world points in rows
    x : (3, 2) float64, directions x/z, y/z
    R_out, t_out : (4, 3, 3), (4, 3)
        Receive the solutions, world to camera.

    Returns
    -------
    count : int
    """
    f = np.empty((3, 3))
    for i in range(3):
        q = 1.0 / np.sqrt(x[i, 0] ** 2 + x[i, 1] ** 2 + 1.0)
        f[i, 0], f[i, 1], f[i, 2] = x[i, 0] * q, x[i, 1] * q, q
    a2 = ((X[1] - X[2]) ** 2).sum()
    b2 = ((X[0] - X[2]) ** 2).sum()
    c2 = ((X[0] - X[1]) ** 2).sum()
    n = np.array(
        [
            (X[1, 1] - X[0, 1]) * (X[2, 2] - X[0, 2]) - (X[1, 2] - X[0, 2]) * (X[2, 1] - X[0, 1]),
            (X[1, 2] - X[0, 2]) * (X[2, 0] - X[0, 0]) - (X[1, 0] - X[0, 0]) * (X[2, 2] - X[0, 2]),
            (X[1, 0] - X[0, 0]) * (X[2, 1] - X[0, 1]) - (X[1, 1] - X[0, 1]) * (X[2, 0] - X[0, 0]),
        ]
    )
    if (n * n).sum() < 1e-12 * b2 * c2 or b2 < 1e-24:
        return 0
    ca, cb, cg = (f[1] * f[2]).sum(), (f[0] * f[2]).sum(), (f[0] * f[1]).sum()
    q = (a2 - c2) / b2
    s = (a2 + c2) / b2
    A4 = (q - 1) ** 2 - 4 * c2 / b2 * ca * ca
    A3 = 4 * (q * (1 - q) * cb - (1 - s) * ca * cg + 2 * c2 / b2 * ca * ca * cb)
    A2 = 2 * (
        q * q
        - 1
        + 2 * q * q * cb * cb
        + 2 * (b2 - c2) / b2 * ca * ca
        - 4 * s * ca * cb * cg
        + 2 * (b2 - a2) / b2 * cg * cg
    )
    A1 = 4 * (-q * (1 + q) * cb + 2 * a2 / b2 * cg * cg * cb - (1 - s) * ca * cg)
    A0 = (1 + q) ** 2 - 4 * a2 / b2 * cg * cg
    if abs(A4) < 1e-14:
        return 0
    C = np.zeros((4, 4), np.complex128)
    C[0, 0], C[0, 1], C[0, 2], C[0, 3] = -A3 / A4, -A2 / A4, -A1 / A4, -A0 / A4
    C[1, 0] = C[2, 1] = C[3, 2] = 1.0
    roots = np.linalg.eigvals(C)
    count = 0
    for k in range(4):
        if abs(roots[k].imag) > 1e-5 * (1 + abs(roots[k].real)):
            continue
        v = roots[k].real
        den = 2 * (cg - v * ca)
        if v <= 0 or abs(den) < 1e-12:
            continue
        u = ((-1 + q) * v * v - 2 * q * cb * v + 1 + q) / den
        w = 1 + v * v - 2 * v * cb
        if u <= 0 or w <= 1e-14:
            continue
        s1 = np.sqrt(b2 / w)
        P0, P1, P2 = f[0] * s1, f[1] * (u * s1), f[2] * (v * s1)
        R = np.ascontiguousarray(_frame(P0, P1, P2)) @ np.ascontiguousarray(_frame(X[0], X[1], X[2]).T)
        R_out[count] = R
        t_out[count] = P0 - R @ np.ascontiguousarray(X[0])
        count += 1
    return count


@njit(cache=True, nogil=True)
def resect_ransac(X, x, threshold, max_rounds, seed):
    """The pose most sightings agree with.

    Parameters
    ----------
    X : (n, 3) float64, points
    x : (n, 2) float64, directions
    threshold : float
        Largest distance of an inlier in normalized picture coordinates.

    Returns
    -------
    R : (3, 3), t : (3,), inliers : (n,) bool
    """
    np.random.seed(seed)
    n = X.shape[0]
    R_best, t_best = np.eye(3), np.zeros(3)
    inliers = np.zeros(n, np.bool_)
    if n < 4:
        return R_best, t_best, inliers
    best, t2 = 1e300, threshold * threshold
    Rs, ts = np.empty((4, 3, 3)), np.empty((4, 3))
    P, p = np.empty((3, 3)), np.empty((3, 2))
    need, k = max_rounds, 0
    while k < need:
        k += 1
        i = np.random.randint(n)
        j = np.random.randint(n)
        m = np.random.randint(n)
        if i == j or j == m or i == m:
            continue
        P[0], P[1], P[2] = X[i], X[j], X[m]
        p[0], p[1], p[2] = x[i], x[j], x[m]
        for s in range(three_point(P, p, Rs, ts)):
            score, count = 0.0, 0
            R, t = Rs[s], ts[s]
            for a in range(n):
                z = R[2, 0] * X[a, 0] + R[2, 1] * X[a, 1] + R[2, 2] * X[a, 2] + t[2]
                e = t2
                if z > 1e-9:
                    u = (R[0, 0] * X[a, 0] + R[0, 1] * X[a, 1] + R[0, 2] * X[a, 2] + t[0]) / z - x[a, 0]
                    v = (R[1, 0] * X[a, 0] + R[1, 1] * X[a, 1] + R[1, 2] * X[a, 2] + t[1]) / z - x[a, 1]
                    e = min(t2, u * u + v * v)
                if e < t2:
                    count += 1
                score += e
            if score < best:
                best = score
                R_best[:], t_best[:] = R, t
                miss = 1.0 - (count / n) ** 3
                if miss < 1e-9:
                    need = min(max_rounds, k)
                else:
                    need = min(max_rounds, max(30, int(np.log(1e-4) / np.log(miss)) + 1))
    for a in range(n):
        Y = R_best @ np.ascontiguousarray(X[a]) + t_best
        inliers[a] = Y[2] > 1e-9 and (Y[0] / Y[2] - x[a, 0]) ** 2 + (Y[1] / Y[2] - x[a, 1]) ** 2 < t2
    return R_best, t_best, inliers


@njit(cache=True, nogil=True)
def _pose_system(R, t, X, x, scale, H, g):
    """Normal equations (6, 6), (6,) of the robust reprojection cost about a pose; returns the cost."""
    H[:] = 0.0
    g[:] = 0.0
    cost = 0.0
    J = np.empty((2, 6))
    for a in range(X.shape[0]):
        Y = R @ np.ascontiguousarray(X[a])
        z = Y[2] + t[2]
        if z < 1e-9:
            cost += 4 * scale * scale
            continue
        u, v = (Y[0] + t[0]) / z, (Y[1] + t[1]) / z
        ru, rv = u - x[a, 0], v - x[a, 1]
        e = np.sqrt(ru * ru + rv * rv)
        w = 1.0 if e <= scale else scale / e
        cost += e * e if e <= scale else 2 * scale * e - scale * scale
        for k in range(2):
            jx, jy, jz = (1.0 / z if k == 0 else 0.0), (1.0 / z if k == 1 else 0.0), -(u if k == 0 else v) / z
            # d(exp(w) Y) = w x Y
            J[k, 0] = jz * Y[1] - jy * Y[2]
            J[k, 1] = jx * Y[2] - jz * Y[0]
            J[k, 2] = jy * Y[0] - jx * Y[1]
            J[k, 3], J[k, 4], J[k, 5] = jx, jy, jz
        for p in range(6):
            g[p] += w * (J[0, p] * ru + J[1, p] * rv)
            for q in range(6):
                H[p, q] += w * (J[0, p] * J[0, q] + J[1, p] * J[1, q])
    return cost


@njit(cache=True, nogil=True)
def refine_pose(R, t, X, x, scale, rounds):
    """Levenberg-Marquardt over sightings with a Huber loss at `scale` (normalized units): R, t."""
    H, g, A = np.empty((6, 6)), np.empty(6), np.empty((6, 6))
    cost = _pose_system(R, t, X, x, scale, H, g)
    H2, g2 = np.empty((6, 6)), np.empty(6)
    damping = 1e-6
    for _ in range(rounds):
        A[:] = H
        for p in range(6):
            A[p, p] += damping * H[p, p] + 1e-15
        step = np.linalg.solve(A, g)
        R2 = rotation_matrix(-step[:3]) @ R
        t2 = t - step[3:]
        new = _pose_system(R2, t2, X, x, scale, H2, g2)
        if new < cost:
            small = cost - new < 1e-10 * cost
            R, t, cost = R2, t2, new
            H[:], g[:] = H2, g2
            damping = max(damping * 0.1, 1e-12)
            if small:
                break
        else:
            damping *= 100.0
            if damping > 1e3:
                break
    return R, t


def resect(X, x, threshold, seed):
    """The pose that most sightings agree with, refined on these.

    Parameters
    ----------
    X : (n, 3), points
    x : (n, 2), directions they are seen in
    threshold : float
        Largest distance of one that agrees, in normalized picture coordinates.

    Returns
    -------
    R : (3, 3), t : (3,), agree : (n,) bool
    """
    X, x = np.ascontiguousarray(X, np.float64), np.ascontiguousarray(x, np.float64)
    R, t, agree = resect_ransac(X, x, threshold, 2000, seed)
    if agree.sum() < 6:
        return R, t, agree
    R, t = refine_pose(R, t, X[agree], x[agree], threshold / 4, 20)
    Y = X @ R.T + t
    with np.errstate(divide="ignore", invalid="ignore"):
        return R, t, (Y[:, 2] > 0) & (np.linalg.norm(Y[:, :2] / Y[:, 2:] - x, axis=1) < threshold)
