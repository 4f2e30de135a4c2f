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

from ..geometry.rotation import rotation_matrix
from .lensprior import LensPrior
from .normal import Priors, point_steps, reduce_to_cameras, system
from .reprojection import Loss, State, cost_of, derivatives, linearize

FIRST_DAMPING, LEAST_DAMPING, MOST_DAMPING = 1e-4, 1e-10, 1e8


@dataclass(frozen=True)
class Held:
    """What holds a block besides its sightings; nothing where not given.

    Attributes
    ----------
    poses : sequence of int
        Photos that stay where they are. With none, the damping settles the free frame.
    lenses : sequence of int
        Lenses that stay as they are, whatever is solved of the others.
    lens_prior : LensPrior, optional
        What is known of the lenses besides, as of observations of their parameters.
    points : (rows (q,) int, xyz (q, 3), sigmas (q,) or (q, 3)), optional
        Weighted observations of points: control points. Three of them settle the frame.
    lengths : (first (l,) int, second (l,) int, value (l,), sigma (l,)), optional
        Weighted observations of distances between points: scale bars. One settles the scale.
    """

    poses: tuple = ()
    lenses: tuple = ()
    lens_prior: LensPrior | None = None
    points: tuple | None = None
    lengths: tuple | None = None


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


class _HeldPoints:
    """Control points and lengths. Points with a length stay in the reduced system: a length joins two of them."""

    def __init__(self, count, base, held):
        """For `count` points; `base` is the first column behind poses and lenses."""
        self.base, self.observed, self.lengths = base, held.points, held.lengths
        ends = [] if self.lengths is None else np.concatenate(self.lengths[:2])
        self.rows_kept = np.unique(np.asarray(ends, np.int64))
        self.size = base + 3 * len(self.rows_kept)
        self.kept, self.prior_row = np.full(count, -1, np.int64), np.full(count, -1, np.int64)
        self.kept[self.rows_kept] = base + 3 * np.arange(len(self.rows_kept))
        self.information = np.zeros((0, 3, 3))
        if self.observed is not None:
            self.rows = np.asarray(held.points[0], np.int64)
            self.xyz = np.asarray(held.points[1], float)
            sigma = np.asarray(held.points[2], float)
            weight = 1.0 / np.broadcast_to(sigma[:, None] if sigma.ndim == 1 else sigma, self.xyz.shape) ** 2
            self.information = weight[:, :, None] * np.eye(3)
            self.prior_row[self.rows] = np.arange(len(self.rows))

    def _gradient(self, points):
        if self.observed is None:
            return np.zeros((0, 3))
        return np.einsum("qij,qj->qi", self.information, points[self.rows] - self.xyz)

    def priors(self, points):
        """The Priors of points that stand at `points`."""
        return Priors(self.kept, self.prior_row, self.information, self._gradient(points))

    def _errors(self, points):
        """Errors (l,) of the lengths in their sigmas, and the directions (l, 3) from the second to the first end."""
        first, second, value, sigma = (np.asarray(x) for x in self.lengths)
        d = points[first] - points[second]
        length = np.linalg.norm(d, axis=1)
        return (length - value) / sigma, d / np.maximum(length, 1e-12)[:, None] / sigma[:, None]

    def cost(self, points):
        """Half the sum of squares of all of them."""
        out = 0.0
        if self.observed is not None:
            out += 0.5 * float((self._gradient(points) * (points[self.rows] - self.xyz)).sum())
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


def add_lens_prior(matrix, prior, free):
    """Add to the lenses' part (L m, L m) of a normal matrix what a LensPrior says of the `free` parameters (L,)."""
    L = len(free)
    for m, information in enumerate(prior.information):
        matrix[L * m : L * (m + 1), L * m : L * (m + 1)] += information[np.ix_(free, free)]


class _Problem:
    """What is minimized: the cost of a State, and the step from it. Its arrays are made once and used every round."""

    def __init__(self, state, seen, free_lens, held, loss):
        n, m, p = len(state.poses), len(state.lenses), len(state.points)
        self.seen, self.held, self.loss = seen, held, loss
        self.free = np.array(sorted(free_lens or ()), dtype=np.int64)
        self.lens_columns = slice(6 * n, 6 * n + len(self.free) * m)
        self.points = _HeldPoints(p, self.lens_columns.stop, held)
        size, L = self.points.size, len(self.free)
        self.fixed = np.zeros(size, bool)
        for i in held.poses:
            self.fixed[6 * i : 6 * i + 6] = True
        for i in held.lenses:
            self.fixed[6 * n + L * i : 6 * n + L * (i + 1)] = True
        self.linear, self.system = derivatives(len(seen.photo)), system(size, p)

    def _lens_prior(self, lenses):
        """Cost of the lenses' prior and its gradient (m, L); None where there is none."""
        prior = self.held.lens_prior
        if prior is None or not len(self.free):
            return 0.0, None
        d = lenses - prior.mean
        push = np.einsum("mij,mj->mi", prior.information, d)
        return 0.5 * float((d * push).sum()), push[:, self.free]

    def _held_cost(self, state):
        return self._lens_prior(state.lenses)[0] + self.points.cost(state.points)

    def linearize(self, state):
        """The cost of a State, from which the next step starts."""
        return linearize(state, self.seen, self.loss, self.linear) + self._held_cost(state)

    def cost(self, state, residuals):
        """The cost alone; `residuals` (k, 2) receives predicted minus seen pixels."""
        return cost_of(state, self.seen, self.loss, residuals) + self._held_cost(state)

    def step(self, state, damping):
        """The State after a damped step from the one that was linearized; None where the system has no solution."""
        S, g = self.system.matrix, self.system.right
        reduce_to_cameras(self.seen, self.free, self.linear, damping, self.system, self.points.priors(state.points))
        _, push = self._lens_prior(state.lenses)
        if push is not None:
            add_lens_prior(S[self.lens_columns, self.lens_columns], self.held.lens_prior, self.free)
            g[self.lens_columns] += push.ravel()
        self.points.add_lengths(state.points, S, g)
        A = np.triu(S) + np.triu(S, 1).T
        A[np.diag_indices(len(A))] += damping * np.maximum(np.diag(A).copy(), 1e-9) + 1e-12
        A[self.fixed, :] = 0.0
        A[:, self.fixed] = 0.0
        A[self.fixed, self.fixed] = 1.0
        right = np.where(self.fixed, 0.0, g)
        try:
            step = scipy.linalg.cho_solve(scipy.linalg.cho_factor(A, check_finite=False), right, check_finite=False)
        except scipy.linalg.LinAlgError:
            return None
        return self._moved(state, step)

    def _moved(self, state, step):
        """A State after a step (size,) of poses, lenses and kept points, and what the other points do then."""
        back = np.empty_like(state.points)
        point_steps(self.seen, self.free, self.linear, self.system, step, back)
        back[self.points.rows_kept] = step[self.points.base :].reshape(-1, 3)
        poses, lenses = state.poses.copy(), state.lenses.copy()
        for i in range(len(poses)):
            s = step[6 * i : 6 * i + 6]
            poses[i, :3, :3] = rotation_matrix(-s[:3]) @ state.poses[i, :3, :3]
            poses[i, :3, 3] = state.poses[i, :3, 3] - s[3:]
        if len(self.free):
            lenses[:, self.free] -= step[self.lens_columns].reshape(-1, len(self.free))
        return State(poses, lenses, state.points - back)


def adjust(state, seen, free_lens=(), *, held=Held(), loss=Loss(), max_rounds=30, tolerance=1e-7, stop=None):
    """Minimize the reprojection error over poses, lenses and points.

    Parameters
    ----------
    state : State
        Where it starts; all its photos have sightings. Not changed.
    seen : Observations
    free_lens : sequence of int
        Which of the ten lens parameters are solved (the same for every lens).
    held : Held
    loss : Loss
    tolerance : float
        It ends when a round gains less than this share of the cost.
    stop : callable() -> None, optional
        Called every round; may raise to cancel.

    Returns
    -------
    Adjusted
    """
    state = State(*(np.array(a, dtype=np.float64) for a in state))
    problem, residuals = _Problem(state, seen, free_lens, held, loss), np.empty((len(seen.photo), 2))
    damping, growth = FIRST_DAMPING, 2.0
    cost = problem.linearize(state)
    rounds = 0
    while rounds < max_rounds and damping <= MOST_DAMPING:
        rounds += 1
        if stop:
            stop()
        moved = problem.step(state, damping)
        trial = np.inf if moved is None else problem.cost(moved, residuals)
        if np.isfinite(trial) and trial < cost:
            done = cost - trial < tolerance * cost
            state, cost = moved, trial
            if done:
                break
            damping, growth = max(damping / 5.0, LEAST_DAMPING), 2.0
            problem.linearize(state)
        else:
            damping *= growth
            growth *= 2.0
    cost_of(state, seen, loss, residuals)
    return Adjusted(*state, -residuals, float(cost), rounds)
