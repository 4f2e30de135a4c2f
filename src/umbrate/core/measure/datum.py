"""What known lengths and coordinates say of a block: scale, frame, what is left over, and how sure all of it is.

Photos leave seven things open: three shifts, three turns, and the size. A known length speaks of the size, a known
point of all seven. Each such observation is a function of the seven and of the block's own points, which are uncertain
themselves; so all are adjusted together, each with its sigma (generalized least squares). The seven have no values
beforehand, the points have those of the block with their joint covariance (a mixed model; Koch 1999).

What is left over of each observation, over what could be left over, tells which one is wrong (data snooping: Baarda
1968). With two lengths it is known that they contradict, not which is wrong; with one, nothing is.
"""

from dataclasses import dataclass

import numpy as np

SURE = 3.3  #: a residual of so many of its own sigmas is no chance: one in a thousand


@dataclass
class Lengths:
    """Known lengths between places: first, second (l,) int; value, sigma (l,), in mm."""

    first: np.ndarray
    second: np.ndarray
    value: np.ndarray
    sigma: np.ndarray

    def __len__(self):
        return len(self.value)


@dataclass
class Judged:
    """What an adjustment says of its observations.

    Attributes
    ----------
    residual : (l,)
        Stated minus adjusted.
    sigmas : (l,)
        The residual over its own standard deviation; 0 where nothing checks it.
    part : (l,)
        Redundancy: which share of an error would show in the residual, 0 to 1.
    scale_sigma : float
        Relative standard deviation of the block's size.
    """

    residual: np.ndarray
    sigmas: np.ndarray
    part: np.ndarray
    scale_sigma: float

    @property
    def error(self):
        """Which error (l,) each would have made, were it the only wrong one; NaN where nothing checks it."""
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(self.part > 0.02, self.residual / self.part, np.nan)


def directions(points, lengths):
    """Lengths (l,) between points and their derivatives (l, 3 p)."""
    a, b = np.asarray(lengths.first), np.asarray(lengths.second)
    d = points[a] - points[b]
    length = np.linalg.norm(d, axis=1)
    J = np.zeros((len(a), 3 * len(points)))
    for k in range(len(a)):
        u = d[k] / max(length[k], 1e-300)
        J[k, 3 * a[k] : 3 * a[k] + 3] += u
        J[k, 3 * b[k] : 3 * b[k] + 3] -= u
    return length, J


def _system(points, lengths, known):
    """Observed values less those of the points, their derivatives by the seven (or the size) and by the points, and
    their variances."""
    y, A, B, R = [], [], [], []
    full = known is not None
    width = 7 if full else 1
    if lengths is not None and len(lengths):
        length, J = directions(points, lengths)
        y.append(np.asarray(lengths.value) - length)
        a = np.zeros((len(length), width))
        a[:, -1] = length
        A.append(a)
        B.append(J)
        R.append(np.asarray(lengths.sigma, float) ** 2)
    if full:
        rows, places, sigma = known
        X = points[rows]
        middle = X.mean(0)
        a = np.zeros((len(rows), 3, 7))
        a[:, range(3), range(3)] = 1.0
        for k, axis in enumerate(np.eye(3)):
            a[:, :, 3 + k] = np.cross(axis, X - middle)
        a[:, :, 6] = X - middle
        J = np.zeros((len(rows), 3, 3 * len(points)))
        for k, r in enumerate(rows):
            J[k, :, 3 * r : 3 * r + 3] = np.eye(3)
        y.append((places - X).ravel())
        A.append(a.reshape(-1, 7))
        B.append(J.reshape(-1, 3 * len(points)))
        R.append((np.broadcast_to(np.asarray(sigma, float).reshape(len(rows), -1), (len(rows), 3)) ** 2).ravel())
    return np.concatenate(y), np.concatenate(A), np.concatenate(B), np.concatenate(R)


def fit_scale(points, cov, lengths):
    """The factor that points are to be multiplied by so that their lengths fit the known ones.

    Parameters
    ----------
    points : (p, 3)
    cov : (3 p, 3 p)
        Their joint covariance.
    lengths : Lengths

    Returns
    -------
    scale : float
    judged : Judged
        Of the scaled points, in mm.
    """
    length, J = directions(points, lengths)
    value, sigma = np.asarray(lengths.value, float), np.asarray(lengths.sigma, float)
    own = J @ cov @ J.T
    s = float(np.median(value / length))
    for _ in range(3):  # the weights depend on the scale a little
        W = np.linalg.inv(s * s * own + np.diag(sigma**2))
        s = float(length @ W @ value / (length @ W @ length))
    return s, judge(s * points, s * s * cov, lengths)


def judge(points, cov, lengths, known=None):
    """What is left over of known lengths (and points) once the block is fitted to them; see `Judged`.

    points (p, 3), cov (3 p, 3 p) are those of the block without the observations.
    known : (rows (q,), places (q, 3), sigmas (q,) or (q, 3)), optional
    """
    y, A, B, R = _system(points, lengths, known)
    S = B @ cov @ B.T + np.diag(R)
    W = np.linalg.inv(S)
    N = A.T @ W @ A
    P = W - W @ A @ np.linalg.solve(N, A.T @ W)
    part = np.clip(R * np.diag(P), 0.0, 1.0)
    residual = R * (P @ y)
    own = R * np.sqrt(np.maximum(np.diag(P), 0.0))
    spread = np.where(part > 1e-9, own, np.inf)
    return Judged(residual, residual / spread, part, float(np.sqrt(np.linalg.inv(N)[-1, -1])))


def after(cov, points, lengths=None, known=None):
    """Covariance (3 p, 3 p) of points once known lengths or points (see `judge`) have settled scale or frame.

    `lengths` and `known` refer to rows of `points`. Where neither is given, the covariance stays that of the shape: its
    size is not known.
    """
    if known is None and (lengths is None or not len(lengths)):
        return cov
    _, A, B, R = _system(points, lengths, known)
    S = B @ cov @ B.T + np.diag(R)
    W = np.linalg.inv(S)
    C = np.linalg.inv(A.T @ W @ A)
    # what the open ones do to every point
    G = np.zeros((cov.shape[0], A.shape[1]))
    X = points
    middle = X.mean(0) if known is None else X[known[0]].mean(0)
    if known is not None:
        G.reshape(-1, 3, 7)[:, range(3), range(3)] = 1.0
        for k, axis in enumerate(np.eye(3)):
            G.reshape(-1, 3, 7)[:, :, 3 + k] = np.cross(axis, X - middle)
    G[:, -1] = (X - middle).ravel()
    K = cov @ B.T @ W
    out = cov - K @ B @ cov
    T = G - K @ A
    return out + T @ C @ T.T


def of_shape(cov, points):
    """Covariance (3 p, 3 p) of points as a shape: what is left when they are laid on their true places as a whole.

    An S-transformation to inner constraints over these points (Baarda 1973); their size stays as uncertain as it is.
    """
    G = np.zeros((len(points), 3, 6))
    X = points - points.mean(0)
    G[:, range(3), range(3)] = 1.0
    for k, axis in enumerate(np.eye(3)):
        G[:, :, 3 + k] = np.cross(axis, X)
    Q = np.linalg.qr(G.reshape(-1, 6))[0]
    S = np.eye(len(cov)) - Q @ Q.T
    return S @ cov @ S
