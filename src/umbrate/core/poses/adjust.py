"""Bundle adjustment: poses, lenses and points moved together until the sightings agree best.

Every point is seen by few photos and every sighting involves one pose, one lens and one point, so
the points can be eliminated one by one (Schur complement; Brown 1958, Triggs et al. 2000) and what
is left is a small dense system in poses and lenses. Levenberg-Marquardt takes the steps (damping
after Nielsen 1999); a robust loss, by reweighting, keeps false sightings from pulling.

Sums run in one fixed order, so the result does not depend on the number of threads.
"""

from dataclasses import dataclass

import numpy as np
import scipy

from ..geometry.lens import N_PARAMETERS
from ..geometry.rotation import rotation_matrix
from .normal import HUBER, cost_of, linearize, point_steps, reduce_to_cameras


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


class _Known:
    """What is known of points besides their sightings. Those with a length stay in the reduced system: it joins two."""

    def __init__(self, count, base, known_points, lengths):
        self.base, self.known, self.lengths = base, known_points, lengths
        ends = [] if lengths is None else np.concatenate([lengths[0], lengths[1]])
        self.held = np.unique(np.asarray(ends, np.int64))
        self.size = base + 3 * len(self.held)
        self.kept, self.prior_row = np.full(count, -1, np.int64), np.full(count, -1, np.int64)
        self.kept[self.held] = base + 3 * np.arange(len(self.held))
        self.info = np.zeros((0, 3, 3))
        if known_points is not None:
            self.rows = np.asarray(known_points[0], np.int64)
            self.places = np.asarray(known_points[1], float)
            sigma = np.asarray(known_points[2], float)
            weight = 1.0 / np.broadcast_to(sigma[:, None] if sigma.ndim == 1 else sigma, self.places.shape) ** 2
            self.info = weight[:, :, None] * np.eye(3)
            self.prior_row[self.rows] = np.arange(len(self.rows))

    def _pull(self, points):
        if self.known is None:
            return np.zeros((0, 3))
        return np.einsum("qij,qj->qi", self.info, points[self.rows] - self.places)

    def extra(self, points):
        """For `reduce_to_cameras`."""
        return self.kept, self.prior_row, self.info, self._pull(points)

    def _errors(self, points):
        """Errors (l,) of the lengths in their sigmas, and the directions (l, 3) from the second to the first end."""
        first, second, value, sigma = (np.asarray(x) for x in self.lengths)
        d = points[first] - points[second]
        length = np.linalg.norm(d, axis=1)
        return (length - value) / sigma, d / np.maximum(length, 1e-12)[:, None] / sigma[:, None]

    def cost(self, points):
        """Half the sum of squares of all of them."""
        out = 0.0
        if self.known is not None:
            out += 0.5 * float((self._pull(points) * (points[self.rows] - self.places)).sum())
        if self.lengths is not None:
            out += 0.5 * float((self._errors(points)[0] ** 2).sum())
        return out

    def add_lengths(self, points, S, g):
        """The lengths' part of the system (upper part) and of its right side."""
        if self.lengths is None:
            return
        error, along = self._errors(points)
        for a, b, e, u in zip(self.lengths[0], self.lengths[1], error, along, strict=True):
            at = np.r_[self.kept[a] + np.arange(3), self.kept[b] + np.arange(3)]
            J = np.r_[u, -u]
            S[np.ix_(at, at)] += np.where(at[:, None] <= at[None], np.outer(J, J), 0.0)
            g[at] += J * e


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
    known_points=None,
    lengths=None,
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
    known_points : (rows (q,) int, places (q, 3), sigmas (q,) or (q, 3)), optional
        Weighted observations of points: control points. Three of them settle the frame.
    lengths : (first (l,) int, second (l,) int, value (l,), sigma (l,)), optional
        Weighted observations of distances between points: scale bars. One settles the scale.
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
    scene = _Known(P, 6 * n + L * len(lenses), known_points, lengths)
    size = scene.size
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
    cost += prior_terms(lenses)[0] + scene.cost(points)
    rounds = 0
    while rounds < max_rounds:
        rounds += 1
        if stop:
            stop()
        extra = scene.extra(points)
        reduce_to_cameras(n, start, photo, lens_of, free, r, Jc, Jl, Jx, damping, S, g, Vinv, gx, extra)
        _, w, pg = prior_terms(lenses)
        if w is not None:
            own = np.arange(6 * n, 6 * n + L * len(lenses))
            S[own, own] += w
            g[own] += pg
        scene.add_lengths(points, S, g)
        A = np.triu(S) + np.triu(S, 1).T
        d = np.diag(A).copy()
        A[np.diag_indices(size)] += damping * np.maximum(d, 1e-9) + 1e-12
        A[fixed, :] = 0.0
        A[:, fixed] = 0.0
        A[fixed, fixed] = 1.0
        rhs = np.where(fixed, 0.0, g)
        try:
            step = scipy.linalg.cho_solve(scipy.linalg.cho_factor(A, check_finite=False), rhs, check_finite=False)
        except scipy.linalg.LinAlgError:
            damping *= growth
            growth *= 2.0
            continue
        point_steps(n, start, photo, lens_of, free, Jc, Jl, Jx, Vinv, gx, step, dX)
        dX[scene.held] = step[scene.base :].reshape(-1, 3)
        new_poses, new_lenses = poses.copy(), lenses.copy()
        for i in range(n):
            s = step[6 * i : 6 * i + 6]
            new_poses[i, :3, :3] = rotation_matrix(-s[:3]) @ poses[i, :3, :3]
            new_poses[i, :3, 3] = poses[i, :3, 3] - s[3:]
        if L:
            new_lenses[:, free] -= step[6 * n : scene.base].reshape(-1, L)
        new_points = points - dX
        trial = cost_of(new_poses, new_lenses, lens_of, new_points, photo, point, xy, weight, loss, scale, r)
        trial += prior_terms(new_lenses)[0] + scene.cost(new_points)
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
    cost_of(poses, lenses, lens_of, points, photo, point, xy, weight, loss, scale, r)
    return Adjusted(poses, lenses, points, -r, float(cost), rounds)
