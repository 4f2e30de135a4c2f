"""From sightings to points: the place where the rays of one track meet, in spite of a false sighting.

Every pair of rays proposes a place (the middle of their shortest connection); the place most rays
agree with is refined by least squares over those (Gauss-Newton on the reprojection error).
"""

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def _error2(E, X, u, v):
    z = E[2, 0] * X[0] + E[2, 1] * X[1] + E[2, 2] * X[2] + E[2, 3]
    if z < 1e-9:
        return 1e12
    a = (E[0, 0] * X[0] + E[0, 1] * X[1] + E[0, 2] * X[2] + E[0, 3]) / z - u
    b = (E[1, 0] * X[0] + E[1, 1] * X[1] + E[1, 2] * X[2] + E[1, 3]) / z - v
    return a * a + b * b


@njit(cache=True, nogil=True)
def ray(E, u, v):
    """Unit direction (3,) in the world of the picture direction (u, v, 1)."""
    d = np.empty(3)
    for k in range(3):
        d[k] = E[0, k] * u + E[1, k] * v + E[2, k]
    return d / np.sqrt(d[0] * d[0] + d[1] * d[1] + d[2] * d[2])


@njit(cache=True, nogil=True)
def triangulate_tracks(tracks, poses, solved, want, threshold, min_angle, X, ok):
    """Place the tracks that `want` names.

    Parameters
    ----------
    tracks : start (t + 1,) int64, photo (k,) int64, xn (k, 2) float64
        Where each track's sightings begin; photo of each sighting and its direction x/z, y/z.
    poses : (n, 4, 4), solved : (n,) bool
    want : (t,) bool
    threshold : (n,) float64
        Largest reprojection error of an inlier in each photo, normalized units.
    min_angle : float
        Least angle between two of a point's rays, radians.
    X : (t, 3), ok : (t,) bool
        Receive the places and whether there is one.
    """
    start, photo, xn = tracks
    cos_limit = np.cos(min_angle)
    for t in range(start.shape[0] - 1):
        if not want[t]:
            continue
        ok[t] = False
        lo, hi = start[t], start[t + 1]
        best_count, best_error = 0, 1e300
        best = np.zeros(3)
        tried = 0
        for a in range(lo, hi):
            if not solved[photo[a]] or tried > 60:
                continue
            Ea = poses[photo[a]]
            da = ray(Ea, xn[a, 0], xn[a, 1])
            for b in range(a + 1, hi):
                if not solved[photo[b]]:
                    continue
                Eb = poses[photo[b]]
                db = ray(Eb, xn[b, 0], xn[b, 1])
                c = da[0] * db[0] + da[1] * db[1] + da[2] * db[2]
                if c > cos_limit:
                    continue
                tried += 1
                w = np.empty(3)
                ca, cb = np.empty(3), np.empty(3)
                for k in range(3):
                    ca[k] = -(Ea[0, k] * Ea[0, 3] + Ea[1, k] * Ea[1, 3] + Ea[2, k] * Ea[2, 3])
                    cb[k] = -(Eb[0, k] * Eb[0, 3] + Eb[1, k] * Eb[1, 3] + Eb[2, k] * Eb[2, 3])
                    w[k] = cb[k] - ca[k]
                den = 1.0 - c * c
                wa = w[0] * da[0] + w[1] * da[1] + w[2] * da[2]
                wb = w[0] * db[0] + w[1] * db[1] + w[2] * db[2]
                sa, sb = (wa - c * wb) / den, (c * wa - wb) / den
                if sa <= 0 or sb <= 0:
                    continue
                P = np.empty(3)
                for k in range(3):
                    P[k] = 0.5 * (ca[k] + sa * da[k] + cb[k] + sb * db[k])
                count, error = 0, 0.0
                for m in range(lo, hi):
                    i = photo[m]
                    if solved[i]:
                        e = _error2(poses[i], P, xn[m, 0], xn[m, 1])
                        if e < threshold[i] ** 2:
                            count += 1
                            error += e
                if count > best_count or (count == best_count and error < best_error):
                    best_count, best_error = count, error
                    best[:] = P
        if best_count < 2:
            continue
        for _ in range(4):
            H, g = np.zeros((3, 3)), np.zeros(3)
            for m in range(lo, hi):
                i = photo[m]
                if not solved[i]:
                    continue
                E = poses[i]
                if _error2(E, best, xn[m, 0], xn[m, 1]) > 4 * threshold[i] ** 2:
                    continue
                z = E[2, 0] * best[0] + E[2, 1] * best[1] + E[2, 2] * best[2] + E[2, 3]
                for q in range(2):
                    p = (E[q, 0] * best[0] + E[q, 1] * best[1] + E[q, 2] * best[2] + E[q, 3]) / z
                    res = p - xn[m, q]
                    for j in range(3):
                        ja = (E[q, j] - p * E[2, j]) / z
                        g[j] += ja * res
                        for k in range(3):
                            H[j, k] += ja * (E[q, k] - p * E[2, k]) / z
            trace = H[0, 0] + H[1, 1] + H[2, 2]
            if not trace > 0.0:
                break
            for j in range(3):
                H[j, j] += 1e-9 * trace
            best -= np.linalg.solve(H, g)
        # after the refinement: enough rays, at a useful angle
        count, widest = 0, 1.0
        for a in range(lo, hi):
            i = photo[a]
            if not solved[i] or _error2(poses[i], best, xn[a, 0], xn[a, 1]) > threshold[i] ** 2:
                continue
            count += 1
            da = ray(poses[i], xn[a, 0], xn[a, 1])
            for b in range(a + 1, hi):
                j = photo[b]
                if solved[j] and _error2(poses[j], best, xn[b, 0], xn[b, 1]) <= threshold[j] ** 2:
                    db = ray(poses[j], xn[b, 0], xn[b, 1])
                    widest = min(widest, da[0] * db[0] + da[1] * db[1] + da[2] * db[2])
        if count >= 2 and widest < cos_limit:
            X[t] = best
            ok[t] = True
