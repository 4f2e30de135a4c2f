"""More than two sittings brought into one frame at once: every join pulls, as hard as it is sure.

A join says where eight corners round the first sitting come to lie in the second. All frames are moved until the
corners of all joins disagree least (Gauss-Newton on similarities), so that the error of a loop is shared among its
joins instead of lying in the last one.
"""

from itertools import product

import numpy as np

from ..geometry.pose import pose
from ..geometry.rotation import rotation_matrix
from ..geometry.similarity import scale_of

ROUNDS = 30


def corners_round(middle, extent):
    """Eight corners (8, 3) of a cube round a middle, as large as a sitting."""
    return np.asarray(middle) + 0.3 * extent * np.array(list(product((-1.0, 1.0), repeat=3)))


def solve_network(moves, edges, *, with_scale=False):
    """Moves of all sittings to the first's frame, fitted to all joins.

    Parameters
    ----------
    moves : list of (4, 4)
        The start; the first is the identity and stays.
    edges : list of (i, k, M, corners (8, 3), sigma)
        A join from i's frame to k's, corners in i's frame, and how sure it is of them in k's unit.

    Returns
    -------
    list of (4, 4)
    """
    moves = [np.array(M, float) for M in moves]
    size = 7 if with_scale else 6
    n = len(moves) - 1
    if n < 1:
        return moves
    for _ in range(ROUNDS):
        H, g = np.zeros((n * size, n * size)), np.zeros(n * size)
        for i, k, M, X, sigma in edges:
            P = X @ moves[i][:3, :3].T + moves[i][:3, 3]
            Y = X @ M[:3, :3].T + M[:3, 3]
            Q = Y @ moves[k][:3, :3].T + moves[k][:3, 3]
            w = 1.0 / (sigma * scale_of(moves[k])) ** 2
            J = np.zeros((3 * len(X), n * size))
            for s, Z, sign in ((i, P, 1.0), (k, Q, -1.0)):
                if s:
                    A = _jacobian(Z - moves[s][:3, 3], size)
                    J[:, (s - 1) * size : s * size] += sign * A
            r = (P - Q).ravel()
            H += w * J.T @ J
            g += w * J.T @ r
        step = np.linalg.solve(H + 1e-12 * np.trace(H) * np.eye(len(H)), -g)
        for s in range(1, n + 1):
            moves[s] = _moved(moves[s], step[(s - 1) * size : s * size])
        if np.abs(step).max() < 1e-12:
            break
    return moves


def _jacobian(Z, size):
    """How places turn, shift and grow (3 m, size) about their frame's origin."""
    out = np.zeros((len(Z), 3, size))
    x, y, z = Z.T
    out[:, 0, 1], out[:, 0, 2] = z, -y
    out[:, 1, 0], out[:, 1, 2] = -z, x
    out[:, 2, 0], out[:, 2, 1] = y, -x
    out[:, [0, 1, 2], [3, 4, 5]] = 1.0
    if size == 7:
        out[:, :, 6] = Z
    return out.reshape(-1, size)


def _moved(M, step):
    grow = np.exp(step[6]) if len(step) == 7 else 1.0
    D = pose(grow * rotation_matrix(step[:3]), np.zeros(3))
    out = M.copy()
    out[:3, :3] = D[:3, :3] @ M[:3, :3]
    out[:3, 3] = M[:3, 3] + step[3:6]
    return out
