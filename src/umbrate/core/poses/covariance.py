"""How well a block is known: the covariance of poses, lenses and tie points.

The normal equations say it: their inverse is the covariance. Two things stand in the way. They are large, but each
tie point hangs together with its own photos only, so points are eliminated first (the Schur complement that the
adjustment solves anyway) and come back one by one. And photos alone do not tell where the block is, how it is turned
and how large it is, so the equations have no inverse: seven changes of frame cost nothing. Any generalized inverse
will do to begin with; the answer is then moved to the frame in which the tie points as a whole have neither shifted,
turned nor grown (inner constraints: Meissl 1965; S-transformation: Baarda 1973), which is what a comparison after a
best fit sees.
"""

from dataclasses import dataclass, replace

import numpy as np
import scipy
from numba import njit

from ..geometry.lens import N_PARAMETERS
from .normal import SQUARED, linearize, reduce_to_cameras


@dataclass
class Covariance:
    """Covariance of a block, for sightings with the standard deviations that were given, in the inner frame.

    Attributes
    ----------
    poses : (n, 6, 6)
        Of a turn about the camera (radians) and a shift of the world's origin in the camera's frame.
    lenses : (m, 10, 10)
        Zero for parameters that were not solved.
    points : (p, 3, 3)
    unit : float
        Standard deviation of unit weight: 1 where the sightings were as good as stated. Not yet multiplied in.
    """

    poses: np.ndarray
    lenses: np.ndarray
    points: np.ndarray
    unit: float
    cameras: np.ndarray  #: of poses and lenses together, in the frame that the photos hold: see `measure.network`
    _state: tuple = ()

    def between(self, rows):
        """Joint covariance (3 r, 3 r) of some points."""
        n, start, photo, lens_of, A, Q, K, NZ, Vinv, G = self._state
        L = A.shape[2] - 6
        out = np.zeros((3 * len(rows), 3 * len(rows)))
        dense = []
        for p in rows:
            D = np.zeros((3, len(Q)))
            for s in range(start[p], start[p + 1]):
                i, lens = 6 * photo[s], 6 * n + L * lens_of[photo[s]]
                D[:, i : i + 6] += A[s, :, :6]
                D[:, lens : lens + L] += A[s, :, 6:]
            dense.append(D)
        for a, p in enumerate(rows):
            for b, q in enumerate(rows):
                c = dense[a] @ Q @ dense[b].T
                c -= dense[a] @ K @ G[q].T + G[p] @ (dense[b] @ K).T
                c += G[p] @ NZ @ G[q].T
                c -= Vinv[p] @ G[p] @ G[q].T + G[p] @ G[q].T @ Vinv[q]
                if p == q:
                    c += Vinv[p]
                out[3 * a : 3 * a + 3, 3 * b : 3 * b + 3] = c
        return out


def _gauge(poses, points, lenses, free):
    """What a change of frame changes: cameras (size, 7) and points (p, 3, 7), the points' columns orthonormal."""
    n, middle = len(poses), points.mean(0)
    cameras = np.zeros((6 * n + len(free) * len(lenses), 7))
    R, t = poses[:, :3, :3], poses[:, :3, 3]
    for i in range(n):
        rows = slice(6 * i, 6 * i + 6)
        block = np.zeros((6, 7))
        block[3:, :3] = -R[i]
        for k, axis in enumerate(np.eye(3)):
            block[:3, 3 + k] = -R[i] @ axis
            block[3:, 3 + k] = R[i] @ np.cross(axis, middle)
        block[3:, 6] = t[i] + R[i] @ middle
        cameras[rows] = block
    Y = points - middle
    out = np.zeros((len(points), 3, 7))
    out[:, range(3), range(3)] = 1.0
    for k, axis in enumerate(np.eye(3)):
        out[:, :, 3 + k] = np.cross(axis, Y)
    out[:, :, 6] = Y
    U, S = np.linalg.qr(out.reshape(-1, 7))
    return cameras @ np.linalg.inv(S), U.reshape(len(points), 3, 7)


@njit(cache=True, nogil=True)
def _back(n_photos, start, photo, lens_of, free, Jc, Jl, Jx, Vinv, G, A, M, Z):
    """What each sighting's camera does to its point, A = V^-1 W^T (k, 3, 6 + L), and M = W V^-1 G, Z = G^T V^-1 G."""
    L = free.shape[0]
    for p in range(start.shape[0] - 1):
        VG = Vinv[p] @ G[p]
        Z += G[p].T @ VG
        for k in range(start[p], start[p + 1]):
            for a in range(6 + L):
                for b in range(3):
                    w = 0.0
                    for q in range(2):
                        j = Jc[k, q, a] if a < 6 else Jl[k, q, free[a - 6]]
                        w += j * Jx[k, q, b]
                    row = 6 * photo[k] + a if a < 6 else 6 * n_photos + L * lens_of[photo[k]] + a - 6
                    for g in range(7):
                        M[row, g] += w * VG[b, g]
                    for c in range(3):
                        A[k, c, a] += Vinv[p, c, b] * w


@njit(cache=True, nogil=True)
def _of_points(n_photos, start, photo, lens_of, L, A, Q, K, NZ, Vinv, G, out):
    """Covariance (p, 3, 3) of every point."""
    longest = 0
    for p in range(start.shape[0] - 1):
        longest = max(longest, start[p + 1] - start[p])
    width = longest * (6 + L)
    D, index = np.empty((3, width)), np.empty(width, np.int64)
    for p in range(start.shape[0] - 1):
        n = 0
        for k in range(start[p], start[p + 1]):
            for a in range(6 + L):
                index[n] = 6 * photo[k] + a if a < 6 else 6 * n_photos + L * lens_of[photo[k]] + a - 6
                for c in range(3):
                    D[c, n] = A[k, c, a]
                n += 1
        DK = np.zeros((3, 7))
        for a in range(n):
            for c in range(3):
                for g in range(7):
                    DK[c, g] += D[c, a] * K[index[a], g]
        for c in range(3):
            for d in range(3):
                s = Vinv[p, c, d]
                for a in range(n):
                    row = 0.0
                    for b in range(n):
                        row += Q[index[a], index[b]] * D[d, b]
                    s += D[c, a] * row
                out[p, c, d] = s
        VG = Vinv[p] @ G[p]
        both = (DK + VG) @ G[p].T
        out[p] += G[p] @ NZ @ G[p].T - both - both.T


def covariance(
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
    fixed_lenses=(),
    prior=None,
    of_points=True,
):
    """The covariance of a solved block.

    Parameters are those of `adjust`, at its solution; a sighting that was left out must not be among them.

    of_points : whether the points' own are wanted too, which take half of the time; zero where not

    Returns
    -------
    Covariance
    """
    lens_of, photo, point = (np.ascontiguousarray(a, dtype=np.int64) for a in (lens_of, photo, point))
    xy = np.ascontiguousarray(xy, dtype=np.float64)
    weight = np.ones(len(xy)) if sigma is None else 1.0 / np.ascontiguousarray(sigma, dtype=np.float64)
    n, m, k, P = len(poses), len(lenses), len(photo), len(points)
    free = np.array(sorted(free_lens), dtype=np.int64)
    L = len(free)
    start = np.searchsorted(point, np.arange(P + 1)).astype(np.int64)
    r, Jc, Jl, Jx = np.empty((k, 2)), np.empty((k, 2, 6)), np.empty((k, 2, N_PARAMETERS)), np.empty((k, 2, 3))
    linearize(poses, lenses, lens_of, points, photo, point, xy, weight, SQUARED, 1.0, r, Jc, Jl, Jx)
    size = 6 * n + L * m
    S, g, Vinv, gx = np.empty((size, size)), np.empty(size), np.empty((P, 3, 3)), np.empty((P, 3))
    reduce_to_cameras(n, start, photo, lens_of, free, r, Jc, Jl, Jx, 0.0, S, g, Vinv, gx)
    S = np.triu(S) + np.triu(S, 1).T
    if prior is not None and L:
        w = 1.0 / np.broadcast_to(np.asarray(prior[1], float), (m, N_PARAMETERS))[:, free] ** 2
        S[np.arange(6 * n, size), np.arange(6 * n, size)] += w.ravel()
    held = np.zeros(size, bool)
    for i in fixed_lenses:
        held[6 * n + L * i : 6 * n + L * (i + 1)] = True
    S[held, :] = 0.0
    S[:, held] = 0.0
    Gc, Gp = _gauge(poses, points, lenses, free)
    Q = np.linalg.qr(Gc)[0]
    A = S + Q @ Q.T * (np.trace(S) / max(size, 1))
    A[held, held] = 1.0
    Qc = scipy.linalg.cho_solve(scipy.linalg.cho_factor(A, check_finite=False), np.eye(size), check_finite=False)
    Qc[held, :] = 0.0
    Qc[:, held] = 0.0
    back, M, Z = np.zeros((k, 3, 6 + L)), np.zeros((size, 7)), np.zeros((7, 7))
    _back(n, start, photo, lens_of, free, Jc, Jl, Jx, Vinv, Gp, back, M, Z)
    M[held] = 0.0
    K = Qc @ M
    N = M.T @ K
    T = np.eye(size) + Gc @ M.T
    cameras = T @ Qc @ T.T + Gc @ Z @ Gc.T
    out = np.zeros((P, 3, 3))
    if of_points:
        _of_points(n, start, photo, lens_of, L, back, Qc, K, N + Z, Vinv, Gp, out)
    of_lenses = np.zeros((m, N_PARAMETERS, N_PARAMETERS))
    for i in range(m):
        rows = slice(6 * n + L * i, 6 * n + L * (i + 1))
        of_lenses[np.ix_([i], free, free)] = cameras[rows, rows]
    of_poses = np.array([cameras[6 * i : 6 * i + 6, 6 * i : 6 * i + 6] for i in range(n)])
    unknowns = size - int(held.sum()) + 3 * P - 7
    unit = float(np.sqrt((r**2).sum() / max(2 * k - unknowns, 1)))
    state = (n, start, photo, lens_of, back, Qc, K, N + Z, Vinv, Gp)
    return Covariance(of_poses, of_lenses, out, unit, Qc, state)


def shifted(cov, poses, shift):
    """The Covariance of a block after all of it was shifted in the world.

    A pose's translation is that of the world's origin, seen by the camera: far from the origin a turn moves it much.

    Parameters
    ----------
    cov : Covariance
    poses : (n, 4, 4)
        Before the shift.
    shift : (3,)
    """
    shift = np.asarray(shift, float)
    if not shift.any():
        return cov
    n, size = len(poses), len(cov.cameras)
    J = np.eye(size)
    for i, E in enumerate(poses):
        x, y, z = E[:3, :3] @ shift
        J[6 * i + 3 : 6 * i + 6, 6 * i : 6 * i + 3] = [[0, -z, y], [z, 0, -x], [-y, x, 0]]
    cameras = J @ cov.cameras @ J.T
    own = np.array([cameras[6 * i : 6 * i + 6, 6 * i : 6 * i + 6] for i in range(n)])
    return replace(cov, poses=own, cameras=cameras)


def of_centers(poses, cov):
    """Covariance (n, 3, 3) of the camera centers from that of the poses."""
    R, t = poses[:, :3, :3], poses[:, :3, 3]
    cross = np.zeros((len(poses), 3, 3))
    cross[:, 0, 1], cross[:, 0, 2], cross[:, 1, 2] = -t[:, 2], t[:, 1], -t[:, 0]
    cross -= cross.transpose(0, 2, 1)
    J = -np.concatenate([R.transpose(0, 2, 1) @ cross, R.transpose(0, 2, 1)], 2)
    return J @ cov @ J.transpose(0, 2, 1)
