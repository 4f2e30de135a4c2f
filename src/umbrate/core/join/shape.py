"""Surface to surface: two clouds of one object brought together where they show the same of it.

Points of one follow the tangent planes of the other (Chen and Medioni 1991), nearest points that face the same way
pairing up. What only one of them has, its own support or underside, finds no partner within a reach that becomes
smaller from round to round, and larger differences count less.
"""

from dataclasses import dataclass

import numpy as np
import scipy

from ..geometry.pose import pose
from ..geometry.rotation import rotation_matrix

SAMPLE = 30_000  #: points of the first cloud that are used
ROUNDS = 40
FACING = 0.7  #: least cosine between the normals of a pair
LOOSE = 0.02  #: the weakest direction's share of the strongest, under which the shape does not hold it


@dataclass(frozen=True)
class ShapeFit:
    """A fit of two clouds.

    Attributes
    ----------
    M : (4, 4)
        From the first cloud's frame to the second's.
    overlap : float
        Share of the first cloud's points that have a partner.
    rms, median : float
        Of the partners' distances across the surface, in the second's unit; median of their sizes.
    held : float
        How well the shape holds the direction it holds worst, as a share of the best: a ball can turn, at 0.
    """

    M: np.ndarray
    overlap: float
    rms: float
    median: float
    held: float


def fit_shapes(first, second, M, reach, *, finest, with_scale=False, seed=0):
    """The ShapeFit of two clouds from a rough start, or None where they have nothing in common there.

    Parameters
    ----------
    first, second : points and normals, (n, 3) each
    M : (4, 4)
        The start, from the first's frame to the second's.
    reach : float
        How far off the start may be, in the second's unit.
    finest : float
        The reach of the last rounds: some spacings of the points.
    """
    rng = np.random.default_rng(seed)
    rows = rng.permutation(len(first[0]))[:SAMPLE]
    P, N = (np.asarray(x, float)[rows] for x in first)
    Q, QN = (np.asarray(x, float) for x in second)
    tree = scipy.spatial.cKDTree(Q)
    M = np.array(M, float)
    fit = None
    for k in range(ROUNDS):
        near = max(finest, reach * 0.8**k)
        s = np.cbrt(np.linalg.det(M[:3, :3]))
        X, XN = P @ M[:3, :3].T + M[:3, 3], N @ (M[:3, :3] / s).T
        d, j = tree.query(X, distance_upper_bound=near, workers=-1)
        on = np.flatnonzero(np.isfinite(d))
        on = on[(XN[on] * QN[j[on]]).sum(1) > FACING]
        if len(on) < 50:
            return None
        n = QN[j[on]]
        r = ((X[on] - Q[j[on]]) * n).sum(1)
        middle = X[on].mean(0)
        A = X[on] - middle
        size = np.sqrt((A**2).sum(1).mean())
        J = np.concatenate([np.cross(A, n) / size, n, (A * n).sum(1, keepdims=True) / size], 1)[:, : 6 + with_scale]
        scale = max(1.4826 * np.median(np.abs(r)), 1e-3 * finest)
        w = np.maximum(0.0, 1.0 - (r / (4.0 * scale)) ** 2) ** 2
        H = (J * w[:, None]).T @ J
        value = np.linalg.eigvalsh(H / w.sum())
        step = np.linalg.solve(H + 1e-9 * np.trace(H) * np.eye(len(H)), -(J * w[:, None]).T @ r)
        grow = 1.0 + (step[6] / size if with_scale else 0.0)
        D = pose(grow * rotation_matrix(step[:3] / size), np.zeros(3))
        D[:3, 3] = middle + step[3:6] - D[:3, :3] @ middle
        M = D @ M
        fit = ShapeFit(
            M, len(on) / len(P), float(np.sqrt((w * r**2).sum() / w.sum())), float(np.median(np.abs(r))),
            float(value[0] / max(value[-1], 1e-300)),
        )  # fmt: skip
        if near <= finest and np.abs(step).max() < 1e-7 * size:
            break
    return fit
