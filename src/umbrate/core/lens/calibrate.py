"""Calibrating a lens: all photos of all sheets in one adjustment.

What is known of a printed sheet is which targets are on it; where exactly they lie is not quite known (paper
shrinks, is bent, lies on a book), so the targets are unknowns like the poses and the lens. Only photos from several
sides, turned by 90 degrees, of a scene with depth tell all of that apart, and the standard deviations say whether
they did.

A free network: nothing is held, the frame is settled by inner constraints (Meissl 1965), which the lens does not
notice. Least squares over 500 unknowns or so in a dense system. Sightings that stick out are left out one after
the other. The covariance is the inverse of the normal equations times the variance of unit weight.
"""

from dataclasses import dataclass, field, replace

import numpy as np
import scipy

from ..errors import UmbrateError
from ..geometry.lens import N_PARAMETERS, PARAMETER_NAMES, Lens
from ..geometry.rotation import rotation_matrix
from ..geometry.similarity import fit_similarity
from ..poses.reprojection import SQUARED, Loss, Observations, State, derivatives, linearize
from ..targets.circle import center_shift
from .checks import checks
from .start import SheetSightings, first_guess

FIXED, SOLVED, SIGNIFICANT = "fixed", "solved", "if significant"
USUAL = {
    **dict.fromkeys(("f", "cx", "cy", "k1", "k2", "k3", "p1", "p2"), SOLVED),
    **dict.fromkeys(("b1", "b2"), SIGNIFICANT),
}
FEWEST_PHOTOS, FEWEST_SIGHTINGS = 3, 8
STICKS_OUT = 4.5  #: sightings whose residual is so many times what is usual are left out
SIGNIFICANCE = 2.6  #: a parameter is significant from so many of its standard deviations on (99 %)


@dataclass
class Calibration:
    """What a calibration found.

    Attributes
    ----------
    lens : Lens
    sigma : (10,)
        Standard deviations of the lens parameters in the order of `PARAMETER_NAMES`; 0 for those that were fixed.
    correlation : (10, 10)
    free : list of str
        The parameters that were solved.
    poses : (n, 4, 4)
        World to camera; NaN for photos without enough sightings.
    points : (p, 3)
        Targets in mm, in the frame of the first sheet; NaN where not seen twice.
    residuals : (k, 2)
        Seen minus predicted, of all sightings, in pixels.
    used : (k,) bool
        Those that were not left out.
    rms_px : float
        Root mean square of the used residuals' coordinates.
    unit : float
        Standard deviation of unit weight: 1 where the stated standard deviations of the sightings were right.
    """

    lens: Lens
    sigma: np.ndarray
    correlation: np.ndarray
    free: list
    poses: np.ndarray
    points: np.ndarray
    residuals: np.ndarray
    used: np.ndarray
    rms_px: float
    unit: float
    checks: list = field(default_factory=list)

    @property
    def warnings(self):
        """Sentences about what is less certain than it could be."""
        return [f"{c.text[0].upper()}{c.text[1:]}. {c.advice}" for c in self.checks if not c.good]


_NOT_SORTED = np.zeros(0, np.int64)  #: sightings of a sheet are in the order of the photos


class _System:
    """The normal equations of one state."""

    def __init__(self, s, photos, points, free, known_sigma):
        self.s, self.photos, self.points, self.free, self.known_sigma = s, photos, points, free, known_sigma
        self.size = len(free) + 6 * photos + 3 * points
        k = len(s.photo)
        self.linear = derivatives(k)
        self.lens_of = np.zeros(photos, np.int64)
        L = len(free)
        columns = np.empty((k, L + 9), np.int64)
        columns[:, :L] = np.arange(L)
        columns[:, L : L + 6] = L + 6 * s.photo[:, None] + np.arange(6)
        columns[:, L + 6 :] = L + 6 * photos + 3 * s.point[:, None] + np.arange(3)
        self.columns = columns

    def linearize(self, poses, lens, X, xy, weight):
        """Residuals and Jacobians of a state, times the weights (k,): one over each standard deviation."""
        seen = Observations(self.lens_of, self.s.photo, self.s.point, xy, weight, _NOT_SORTED)
        linearize(State(poses, lens[None], X), seen, Loss(SQUARED), self.linear)

    def build(self, poses, lens, X, xy, weight, start):
        """Normal matrix and right side (see `linearize`)."""
        L = len(self.free)
        self.linearize(poses, lens, X, xy, weight)
        d = self.linear
        J, r = np.concatenate([d.by_lens[:, :, self.free], d.by_pose, d.by_point], axis=2), d.residual
        N, g = np.zeros((self.size, self.size)), np.zeros(self.size)
        block = np.einsum("kqa,kqb->kab", J, J)
        flat = self.columns[:, :, None] * self.size + self.columns[:, None, :]
        N += np.bincount(flat.ravel(), block.ravel(), self.size**2).reshape(self.size, self.size)
        g += np.bincount(self.columns.ravel(), np.einsum("kqa,kq->ka", J, r).ravel(), self.size)
        base = L + 6 * self.photos
        if self.known_sigma is not None:
            # known places hold their points; the frame still has to be free of any tension
            w = 1.0 / self.known_sigma**2
            N[range(base, self.size), range(base, self.size)] += w
            g[base:] += (w * (X - start)).ravel()
        else:
            G = self._gauge(X, base)
            N += G @ G.T * (np.trace(N[base:, base:]) / (3 * self.points))
        return N, g

    def _gauge(self, X, base):
        """Columns (size, 7): the changes of all points that are only a change of frame, of length 1."""
        P = self.points
        Y = X - X.mean(0)
        G = np.zeros((P, 3, 7))
        G[:, range(3), range(3)] = 1.0
        for a, axis in enumerate(np.eye(3)):
            G[:, :, 3 + a] = np.cross(axis, Y)
        G[:, :, 6] = Y
        Q = np.linalg.qr(G.reshape(3 * P, 7))[0]
        out = np.zeros((self.size, 7))
        out[base:] = Q
        return out


def _minimize(system, poses, lens, X, xy, weight, start, rounds=40):
    """Levenberg and Marquardt from a state; returns the state and the last normal matrix."""

    def cost(p, c, x):
        system.linearize(p, c, x, xy, weight)
        value = float((system.linear.residual**2).sum())
        if system.known_sigma is not None:
            value += float((((x - start) / system.known_sigma) ** 2).sum())
        return value

    L, n = len(system.free), system.photos
    damping, value = 1e-4, cost(poses, lens, X)
    for _ in range(rounds):
        N, g = system.build(poses, lens, X, xy, weight, start)
        better = False
        while not better and damping < 1e8:
            A = N.copy()
            A[np.diag_indices(system.size)] += damping * np.diag(N)
            try:
                step = scipy.linalg.cho_solve(scipy.linalg.cho_factor(A, check_finite=False), g, check_finite=False)
            except scipy.linalg.LinAlgError:
                damping *= 10
                continue
            c, p = lens.copy(), poses.copy()
            c[system.free] -= step[:L]
            for i in range(n):
                q = step[L + 6 * i : L + 6 * i + 6]
                p[i, :3, :3] = rotation_matrix(-q[:3]) @ poses[i, :3, :3]
                p[i, :3, 3] = poses[i, :3, 3] - q[3:]
            x = X - step[L + 6 * n :].reshape(-1, 3)
            trial = cost(p, c, x)
            better = np.isfinite(trial) and trial < value
            damping = max(damping / 8, 1e-12) if better else damping * 8
        if not better:
            break
        done = value - trial < 1e-10 * value
        poses, lens, X, value = p, c, x, trial
        if done:
            break
    return poses, lens, X


def _normals(X, sheet):
    """The normal (p, 3) of the paper at each point: of the plane through its nearest neighbors on the sheet."""
    out = np.zeros_like(X)
    for g in np.unique(sheet):
        rows = np.flatnonzero(sheet == g)
        for k in rows:
            near = rows[np.argsort(((X[rows] - X[k]) ** 2).sum(1))[:9]]
            out[k] = np.linalg.svd(X[near] - X[near].mean(0))[2][-1] if len(near) >= 3 else [0, 0, 1.0]
    return out


def _scale_of_sheets(X, s):
    """Length of the frame's unit on each point's sheet: solved distances over printed ones (p,)."""
    out = np.ones(len(X))
    for g in np.unique(s.sheet):
        rows = np.flatnonzero(s.sheet == g)
        a, b = X[rows] - X[rows].mean(0), s.plane[rows] - s.plane[rows].mean(0)
        out[rows] = np.sqrt((a**2).sum() / max((b**2).sum(), 1e-12))
    return out


def _put_back(X, s, lost):
    """Points that a false sighting has drawn away, or that have no sighting left, back to where the sheet has them.

    Else their good sightings would look false for ever.
    """
    out = X.copy()
    for g in np.unique(s.sheet):
        rows = np.flatnonzero(s.sheet == g)
        if len(rows) < 6:
            continue
        flat = np.hstack([s.plane[rows], np.zeros((len(rows), 1))])
        keep = ~lost[rows]
        for _ in range(4):
            if keep.sum() < 4:
                break
            M = fit_similarity(flat[keep], X[rows][keep])
            there = flat @ M[:3, :3].T + M[:3, 3]
            off = np.linalg.norm(there - X[rows], axis=1)
            keep = ~lost[rows] & (off <= max(6 * np.median(off), 1e-9))
        if keep.sum() >= 4:
            out[rows[~keep]] = there[~keep]
    return out


def shifts(poses, lens, X, s):
    """By how many pixels (k, 2) each sighting's ellipse center lies off its circle's center."""
    if not s.radius.any():
        return np.zeros((len(s.photo), 2))
    R, t = poses[s.photo, :3, :3], poses[s.photo, :3, 3]
    centers = np.einsum("kij,kj->ki", R, X[s.point]) + t
    normals = np.einsum("kij,kj->ki", R, _normals(X, s.sheet)[s.point])
    radii = (s.radius * _scale_of_sheets(X, s))[s.point]
    off = center_shift(centers, normals, radii)
    at = centers[:, :2] / centers[:, 2:]
    return lens.project(at + off) - lens.project(at)


def calibrate(s, size, photos, modes=None, focal=None, known_sigma=None, without=None, held=None, stop=None):
    """Solve a lens from sightings of targets or corners.

    Parameters
    ----------
    s : SheetSightings
    size : (width, height) of the pictures in pixels
    photos : int
    modes : dict of parameter name to FIXED, SOLVED or SIGNIFICANT, optional
        Others as in `USUAL`.
    focal : float, optional
        A first focal length in pixels; without it one is found.
    known_sigma : float, optional
        Where given, points lie where `plane` says, give or take so many mm (one sheet only); else they are solved.
    without : (k,) bool, optional
        Sightings that shall not count, whatever they say.
    held : dict of parameter name to float, optional
        Parameters that are not solved, and their values in pixels of the picture.
    stop : callable, optional
        Called now and then; may raise to cancel.

    Returns
    -------
    Calibration

    Raises
    ------
    UmbrateError
        With too few photos or sightings, or where nothing can be solved.
    """
    held = held or {}
    modes = {**USUAL, **(modes or {}), **dict.fromkeys(held, FIXED)}
    focal = held.get("f", focal)
    wanted = np.ones(len(s.photo), bool) if without is None else ~np.asarray(without)
    enough = np.bincount(s.photo[wanted], minlength=photos) >= FEWEST_SIGHTINGS
    if enough.sum() < FEWEST_PHOTOS:
        raise UmbrateError(
            f"{int(enough.sum())} of {photos} photos show {FEWEST_SIGHTINGS} targets or more; a calibration needs "
            f"{FEWEST_PHOTOS} of them at least, eight are good. Take more, nearer and sharper."
        )
    every = len(s.photo)
    keep = enough[s.photo] & wanted
    poses, X, focal = first_guess(s.kept(keep), *size, photos, focal)
    keep &= ~np.isnan(poses[s.photo, 0, 0]) & ~np.isnan(X[s.point, 0])
    # a point that is seen once tells nothing
    keep &= np.bincount(s.point[keep], minlength=len(X))[s.point] >= (1 if known_sigma else 2)
    solved, seen = np.unique(s.photo[keep]), np.unique(s.point[keep])
    if len(solved) < FEWEST_PHOTOS:
        raise UmbrateError("The photos are not connected: too few show the same sheets. Take some that show several.")
    to_photo, to_point = np.full(photos, -1), np.full(len(X), -1)
    to_photo[solved], to_point[seen] = np.arange(len(solved)), np.arange(len(seen))
    whole = SheetSightings(
        to_photo[s.photo[keep]], to_point[s.point[keep]], s.xy[keep], s.sigma[keep], s.plane[seen], s.sheet[seen],
        s.radius[seen],
    )  # fmt: skip
    rows = np.flatnonzero(keep)
    p, x = poses[solved].copy(), X[seen].copy()
    start = x.copy()
    lens = Lens.guess(*size, held.get("f", focal)).with_values(held).vector
    free = [k for k, n in enumerate(PARAMETER_NAMES) if modes[n] != FIXED]
    good = np.ones(len(rows), bool)
    shift = np.zeros_like(whole.xy)
    for stage in range(3 * N_PARAMETERS):
        if stop:
            stop()
        part = whole.kept(good)
        # the first rounds learn the lens step by step: everything at once may run away
        now = [k for k in free if k < (4, 5, 10)[min(stage, 2)]]
        system = _System(part, len(p), len(x), now, known_sigma)
        sigma = part.sigma if stage > 1 else np.ones(len(part.sigma))
        weight = 1.0 / sigma
        if stage < 3:  # false readings must not pull while nothing is known
            for _ in range(4):
                _, e = _residuals(part, p, lens, x, (whole.xy - shift)[good])
                scale = max(1.48 * np.median(e), 1e-3)
                weight = 1.0 / sigma / (1 + (e / (3 * scale)) ** 2)
                p, lens, x = _minimize(system, p, lens, x, (whole.xy - shift)[good], weight, start, 5)
        else:
            p, lens, x = _minimize(system, p, lens, x, (whole.xy - shift)[good], weight, start)
        if not known_sigma:
            x = _put_back(x, whole, np.bincount(whole.point[good], minlength=len(x)) < 2)
        shift = shifts(p, Lens.from_vector(*size, lens), x, whole)
        if stage < 3:
            continue
        r, e = _residuals(whole, p, lens, x, whole.xy - shift)
        normed = e / whole.sigma
        usual = 1.48 * np.median(np.abs(r[good] / whole.sigma[good, None]))
        now_good = _tied(whole, normed <= STICKS_OUT * max(usual, 1e-9) * np.sqrt(2), known_sigma)
        changed = (now_good != good).any()
        good = now_good
        if changed and stage < 8:
            continue
        found = _covariance(whole.kept(good), p, lens, x, (whole.xy - shift)[good], free, known_sigma, start)
        weak = [
            k for k in free if modes[PARAMETER_NAMES[k]] == SIGNIFICANT and abs(lens[k]) < SIGNIFICANCE * found[0][k]
        ]
        if not weak:
            break
        drop = min(weak, key=lambda k: abs(lens[k]) / found[0][k])
        free.remove(drop)
        lens[drop] = 0.0
    sd, correlation, unit = found
    residuals, used = np.full((every, 2), np.nan), np.zeros(every, bool)
    residuals[rows], used[rows] = r, good
    all_poses, all_points = np.full((photos, 4, 4), np.nan), np.full((len(X), 3), np.nan)
    all_poses[solved], all_points[seen] = p, x
    return Calibration(
        Lens.from_vector(*size, lens), sd, correlation, [PARAMETER_NAMES[k] for k in free], all_poses,
        all_points, residuals, used, float(np.sqrt(np.mean(r[good] ** 2))), unit,
        checks(whole.kept(good), p, x, *size),
    )  # fmt: skip


def _residuals(s, poses, lens, X, xy):
    """Seen minus predicted (k, 2) and their lengths (k,)."""
    Y = np.einsum("kij,kj->ki", poses[s.photo, :3, :3], X[s.point]) + poses[s.photo, :3, 3]
    r = xy - Lens.from_vector(1, 1, lens).project(Y[:, :2] / Y[:, 2:])
    return r, np.linalg.norm(r, axis=1)


def _tied(s, good, known_sigma):
    """Without the sightings of points that are left with one, and never fewer than tie a photo down."""
    if known_sigma:
        return good
    return good & (np.bincount(s.point[good], minlength=len(s.plane))[s.point] >= 2)


def _covariance(s, poses, lens, X, xy, free, known_sigma, start):
    """Standard deviations (10,), correlations (10, 10) and the standard deviation of unit weight."""
    seen = np.unique(s.point)
    to_point = np.full(len(X), -1)
    to_point[seen] = np.arange(len(seen))
    t = replace(s, point=to_point[s.point], plane=s.plane[seen], sheet=s.sheet[seen], radius=s.radius[seen])
    system = _System(t, len(poses), len(seen), free, known_sigma)
    weight = 1.0 / t.sigma
    N, _ = system.build(poses, lens, X[seen], xy, weight, start[seen])
    r = system.linear.residual
    unknowns = system.size - (0 if known_sigma else 7) - (3 * len(seen) if known_sigma else 0)
    unit2 = float((r**2).sum()) / max(2 * len(t.photo) - unknowns, 1)
    L = len(free)
    part = (
        scipy.linalg.cho_solve(
            scipy.linalg.cho_factor(N, check_finite=False), np.eye(system.size)[:, :L], check_finite=False
        )[:L]
        * unit2
    )
    sd, correlation = np.zeros(N_PARAMETERS), np.eye(N_PARAMETERS)
    sd[free] = np.sqrt(np.maximum(np.diag(part), 0))
    correlation[np.ix_(free, free)] = part / np.maximum(np.outer(sd[free], sd[free]), 1e-300)
    return sd, correlation, float(np.sqrt(unit2))
