"""How well a block is known: the covariance of poses, lenses and tie points.

The inverse of the normal equations is the covariance. Two things stand in the way. The equations are large; but each
tie point shares them with its own photos only, so points are eliminated first (the Schur complement that the
adjustment solves anyway) and come back one by one. And photos alone do not fix where the block is, how it is turned
and how large it is, so the equations have no inverse: seven changes of frame cost nothing. Any generalized inverse
will do to begin with; the answer is then moved to the frame in which the tie points as a whole have neither shifted,
turned nor grown (inner constraints: Meissl 1965; S-transformation: Baarda 1973), which is what a comparison after a
best fit sees.
"""

from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
import scipy
from numba import njit

from ..geometry.lens import N_PARAMETERS
from .adjust import Held, add_lens_prior
from .normal import reduce_to_cameras, system
from .reprojection import SQUARED, Loss, Observations, derivatives, linearize


class _Back(NamedTuple):
    """What leads from the covariance of the cameras back to points, L lens parameters being solved.

    Attributes
    ----------
    seen : Observations
    follow : (k, 3, 6 + L)
        How each sighting's point follows its pose and lens: A = V^-1 W^T.
    cameras : (size, size)
        Covariance of poses and lenses in the frame that the photos hold: Q.
    tie : (size, 7), frame : (7, 7)
        What the change of frame takes from them: K = Q W V^-1 G, and N + Z = M^T K + G^T V^-1 G.
    inverse : (p, 3, 3)
        Of each point's own normal matrix: V^-1.
    gauge : (p, 3, 7)
        What a change of frame does to each point: G.
    """

    seen: Observations
    follow: np.ndarray
    cameras: np.ndarray
    tie: np.ndarray
    frame: np.ndarray
    inverse: np.ndarray
    gauge: np.ndarray


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
    _back: _Back | None = None

    def between(self, rows):
        """Joint covariance (3 r, 3 r) of some points."""
        seen, A, Q, K, NZ, Vinv, G = self._back
        n, L = len(seen.lens_of), A.shape[2] - 6
        out = np.zeros((3 * len(rows), 3 * len(rows)))
        dense = []
        for p in rows:
            D = np.zeros((3, len(Q)))
            for s in range(seen.start[p], seen.start[p + 1]):
                i, lens = 6 * seen.photo[s], 6 * n + L * seen.lens_of[seen.photo[s]]
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


def gauge_of(poses, points, lenses, free):
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
def _follow(seen, free, linear, Vinv, G, A, M, Z):
    """How each sighting's point follows its camera, A = V^-1 W^T (k, 3, 6 + L), and M = W V^-1 G, Z = G^T V^-1 G."""
    L, lens_base = free.shape[0], 6 * seen.lens_of.shape[0]
    for p in range(seen.start.shape[0] - 1):
        VG = Vinv[p] @ G[p]
        Z += G[p].T @ VG
        for k in range(seen.start[p], seen.start[p + 1]):
            i = seen.photo[k]
            for a in range(6 + L):
                row = 6 * i + a if a < 6 else lens_base + L * seen.lens_of[i] + a - 6
                for b in range(3):
                    w = 0.0
                    for q in range(2):
                        j = linear.by_pose[k, q, a] if a < 6 else linear.by_lens[k, q, free[a - 6]]
                        w += j * linear.by_point[k, q, b]
                    for g in range(7):
                        M[row, g] += w * VG[b, g]
                    for c in range(3):
                        A[k, c, a] += Vinv[p, c, b] * w


@njit(cache=True, nogil=True)
def _of_points(back, out):
    """Covariance (p, 3, 3) of every point."""
    seen, A, Q, K, NZ, Vinv, G = back
    start, L, lens_base = seen.start, A.shape[2] - 6, 6 * seen.lens_of.shape[0]
    longest = 0
    for p in range(start.shape[0] - 1):
        longest = max(longest, start[p + 1] - start[p])
    width = longest * (6 + L)
    D, index = np.empty((3, width)), np.empty(width, np.int64)
    for p in range(start.shape[0] - 1):
        n = 0
        for k in range(start[p], start[p + 1]):
            i = seen.photo[k]
            for a in range(6 + L):
                index[n] = 6 * i + a if a < 6 else lens_base + L * seen.lens_of[i] + a - 6
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


def _cameras(S, gauge, held):
    """Covariance (size, size) of poses and lenses from their normal matrix, in a frame that they hold themselves;
    zero for columns that are `held` (size,) bool."""
    S = np.triu(S) + np.triu(S, 1).T
    S[held, :] = 0.0
    S[:, held] = 0.0
    Q = np.linalg.qr(gauge)[0]
    A = S + Q @ Q.T * (np.trace(S) / max(len(S), 1))
    A[held, held] = 1.0
    out = scipy.linalg.cho_solve(scipy.linalg.cho_factor(A, check_finite=False), np.eye(len(S)), check_finite=False)
    out[held, :] = 0.0
    out[:, held] = 0.0
    return out


def covariance(state, seen, free_lens=(), *, held=Held(), of_points=True):
    """The covariance of a solved block.

    Parameters are those of `adjust`, at its solution; a sighting that was left out must not be among them. Of what is
    `held`, lenses and their prior count.

    of_points : whether the points' own are wanted too, which take half of the time; zero where not

    Returns
    -------
    Covariance
    """
    n, m, k, p = len(state.poses), len(state.lenses), len(seen.photo), len(state.points)
    free = np.array(sorted(free_lens or ()), dtype=np.int64)
    L = len(free)
    size = 6 * n + L * m
    linear, reduced = derivatives(k), system(size, p)
    linearize(state, seen, Loss(SQUARED), linear)
    reduce_to_cameras(seen, free, linear, 0.0, reduced)
    if held.lens_prior is not None and L:
        add_lens_prior(reduced.matrix[6 * n :, 6 * n :], held.lens_prior, free)
    fixed = np.zeros(size, bool)
    for i in held.lenses:
        fixed[6 * n + L * i : 6 * n + L * (i + 1)] = True
    of_cameras, gauge = gauge_of(state.poses, state.points, state.lenses, free)
    Q = _cameras(reduced.matrix, of_cameras, fixed)
    follow, M, Z = np.zeros((k, 3, 6 + L)), np.zeros((size, 7)), np.zeros((7, 7))
    _follow(seen, free, linear, reduced.inverse, gauge, follow, M, Z)
    M[fixed] = 0.0
    K = Q @ M
    back = _Back(seen, follow, Q, K, M.T @ K + Z, reduced.inverse, gauge)
    T = np.eye(size) + of_cameras @ M.T
    cameras = T @ Q @ T.T + of_cameras @ Z @ of_cameras.T
    out = np.zeros((p, 3, 3))
    if of_points:
        _of_points(back, out)
    of_lenses = np.zeros((m, N_PARAMETERS, N_PARAMETERS))
    for i in range(m):
        rows = slice(6 * n + L * i, 6 * n + L * (i + 1))
        of_lenses[np.ix_([i], free, free)] = cameras[rows, rows]
    of_poses = np.array([cameras[6 * i : 6 * i + 6, 6 * i : 6 * i + 6] for i in range(n)])
    unknowns = size - int(fixed.sum()) + 3 * p - 7
    unit = float(np.sqrt((linear.residual**2).sum() / max(2 * k - unknowns, 1)))
    return Covariance(of_poses, of_lenses, out, unit, Q, back)


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


def known_median(block, cov):
    """How well photos are known: standard deviations of a turn in degrees, of a place in % of its distance; medians."""
    who = np.flatnonzero(block.solved)
    turns, centers = pose_spreads(block, cov)
    away = np.linalg.norm(block.eyes[who] - block.points.mean(0), axis=1)
    return round(float(np.degrees(np.median(turns))), 5), round(float(100 * np.median(centers / away)), 5)


def pose_spreads(block, cov):
    """Standard deviations of the solved photos' turns (radians) and centers, the mean over the axes."""
    centers = np.sqrt(np.einsum("nii->n", of_centers(block.poses[block.solved], cov.poses)) / 3) * cov.unit
    return np.sqrt(np.einsum("nii->n", cov.poses[:, :3, :3]) / 3) * cov.unit, centers
