"""What two photos cannot tell: a camera that only turned, and a scene that is one plane.

Any epipolar geometry explains a turn on the spot, and a family of them a plane, with all matches agreeing. Such pairs
are true neighbors, but no depth comes from the first, and the second leaves two relative poses open (Longuet-Higgins
1986). So each pair is also explained by a turn alone and by a plane alone, and whatever explains nearly all matches is
what the pair shows (the idea of the geometric information criterion, Torr 1997, with a plain share in its place).
"""

import numpy as np
from numba import njit

from ..geometry.rotation import nearest_rotation
from .solution import PLANE, SCENE, TURN

ENOUGH = 0.9  #: share of the matches that a turn or a plane must explain
BENT = 0.6  #: share that a turn must explain through a lens known badly, where a plane explains nearly all
OTHER_FOCALS = np.geomspace(0.5, 2.0, 13)


@njit(cache=True, nogil=True)
def plane_inliers(a, b, threshold, rounds, seed):
    """How many matches one plane explains at most, of minimal sets drawn at random.

    a, b : (n, 2) float64, normalized picture coordinates, n >= 4
    """
    np.random.seed(seed)
    n = a.shape[0]
    A, y = np.empty((8, 8)), np.empty(8)
    best, t2 = 0, threshold * threshold
    for _ in range(rounds):
        for i in range(4):
            k = np.random.randint(n)
            u, v, p, q = a[k, 0], a[k, 1], b[k, 0], b[k, 1]
            A[2 * i] = np.array([u, v, 1.0, 0.0, 0.0, 0.0, -p * u, -p * v])
            A[2 * i + 1] = np.array([0.0, 0.0, 0.0, u, v, 1.0, -q * u, -q * v])
            y[2 * i], y[2 * i + 1] = p, q
        if abs(np.linalg.det(A)) < 1e-18:
            continue
        h = np.linalg.solve(A, y)
        count = 0
        for k in range(n):
            u, v = a[k, 0], a[k, 1]
            w = h[6] * u + h[7] * v + 1.0
            if abs(w) < 1e-9:
                continue
            du = (h[0] * u + h[1] * v + h[2]) / w - b[k, 0]
            dv = (h[3] * u + h[4] * v + h[5]) / w - b[k, 1]
            if du * du + dv * dv < t2:
                count += 1
        best = max(best, count)
    return best


def turn_inliers(a, b, R, threshold):
    """How many matches a turn alone explains, starting from the turn `R` (3, 3)."""
    A, B = np.c_[a, np.ones(len(a))], np.c_[b, np.ones(len(b))]
    A, B = (x / np.linalg.norm(x, axis=1, keepdims=True) for x in (A, B))
    best = 0
    # what the epipolar geometry says, and "nothing moved", are both worth a start
    for start in (R, np.eye(3)):
        turn = start
        for _ in range(8):
            d = np.linalg.norm(A @ turn.T - B, axis=1)
            w = 1.0 / (1.0 + (d / max(threshold, 0.5 * float(np.median(d)))) ** 2)
            turn = nearest_rotation((B * w[:, None]).T @ A)
        best = max(best, int((np.linalg.norm(A @ turn.T - B, axis=1) < threshold).sum()))
    return best


def kind_of(a, b, R, threshold, seed=0):
    """What the verified matches (n, 2), (n, 2) of a pair show: SCENE, PLANE or TURN.

    R : (3, 3), turn of the pair's epipolar geometry
    threshold : float, of an inlier, in normalized picture coordinates
    """
    if turn_inliers(a, b, R, 1.5 * threshold) >= ENOUGH * len(a):
        return TURN
    if plane_inliers(a, b, threshold, 100, seed) < ENOUGH * len(a):
        return SCENE
    # with a focal length or a distortion that is not quite right, a turn bends and passes for a plane
    most = max(turn_inliers(a * s, b * s, R, 1.5 * threshold * s) for s in OTHER_FOCALS)
    return TURN if most >= BENT * len(a) else PLANE
