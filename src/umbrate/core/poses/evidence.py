"""What the sightings of a block say of its lenses, and nothing else: what held the lenses does not count.

The normal equations at the block's solution have columns for poses, points and lens parameters. Points and then poses
are eliminated (Schur complement), in whatever frame; what is left is the information of the lenses, and the pull that
the sightings have on them there. All parameters count, those that were not solved too: a block of few photos that kept
its principal point where the files had it does not know its focal length as well as it would if that were right.
"""

import numpy as np

from ..geometry.lens import N_PARAMETERS
from .covariance import gauge_of
from .lensprior import STEPS, LensPrior
from .normal import reduce_to_cameras, system
from .reprojection import CAUCHY, Loss, derivatives, linearize

KNOWABLE = np.arange(8)  #: f cx cy k1 k2 k3 p1 p2; affinity and skew are solved from calibration sheets only


def evidence(block, unit, loss_scale):
    """What the sightings of a block alone say of its lenses: a LensPrior.

    Parameters
    ----------
    block : Block
        Adjusted with a robust loss that bends at `loss_scale` standard deviations.
    unit : float
        Standard deviation of unit weight: sightings err so many times more than stated.
    """
    b, L, m = block.of_solved(), len(KNOWABLE), len(block.lenses)
    n = len(b.poses)
    linear, reduced = derivatives(len(b.photo)), system(6 * n + L * m, len(b.points))
    linearize(b.state, b.observations, Loss(CAUCHY, loss_scale), linear)
    reduce_to_cameras(b.observations, KNOWABLE, linear, 0.0, reduced)
    S, g = np.triu(reduced.matrix) + np.triu(reduced.matrix, 1).T, reduced.right.copy()
    frame = np.linalg.qr(gauge_of(b.poses, b.points, b.lenses, KNOWABLE)[0][: 6 * n])[0]
    S[: 6 * n, : 6 * n] += frame @ frame.T * (np.trace(S[: 6 * n, : 6 * n]) / (6 * n))
    step = np.tile(STEPS[KNOWABLE], m)
    g[6 * n :] *= step
    S[6 * n :] *= step[:, None]
    S[:, 6 * n :] *= step
    mean, information = block.lenses.copy(), np.zeros((m, N_PARAMETERS, N_PARAMETERS))
    held = LensPrior.of_sigmas(block.lenses, np.inf) if block.prior is None else block.prior
    at = np.ix_(KNOWABLE, KNOWABLE)
    for k in range(m):
        A, right = S.copy(), g.copy()
        for j in np.delete(np.arange(m), k):  # the other lenses are held as they were
            rows = slice(6 * n + L * j, 6 * n + L * (j + 1))
            scale = STEPS[KNOWABLE]
            A[rows, rows] += held.information[j][at] * scale[:, None] * scale + 1e-9 * np.eye(L)
            right[rows] += (held.information[j] @ (block.lenses[j] - held.mean[j]))[KNOWABLE] * scale
        own = np.arange(6 * n + L * k, 6 * n + L * (k + 1))
        rest = np.delete(np.arange(len(A)), own)
        through = np.linalg.solve(A[np.ix_(rest, rest)], A[np.ix_(rest, own)]).T
        values, axes = np.linalg.eigh(A[np.ix_(own, own)] - through @ A[np.ix_(rest, own)])
        some = values > 1e-9 * max(values[-1], 1e-300)
        pull = right[own] - through @ right[rest]
        mean[k, KNOWABLE] -= STEPS[KNOWABLE] * (axes[:, some] @ ((axes[:, some].T @ pull) / values[some]))
        known = (axes[:, some] * values[some]) @ axes[:, some].T / unit**2
        information[k][at] = known / STEPS[KNOWABLE][:, None] / STEPS[KNOWABLE]
    return LensPrior(mean, information)
