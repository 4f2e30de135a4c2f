"""A whole block from points marked by hand: two or three photos, no features at all.

A few points that people marked are exact to half a pixel and hold hardly a blunder, where matched features are many
and partly false. So nothing is thrown out here: for every pair of photos that shares six points, all essential
matrices that five of them allow (Nister 2004) are tried against all, the best are adjusted, the others resected, and
the start that leaves the least is taken. A blunder shows in the residuals, where its marker can see it.
"""

from itertools import combinations

import numpy as np

from ..geometry.lens import _unproject_many, project_one
from .adjust import adjust
from .block import Block
from .essential import decompose, five_point, sampson_squared
from .reprojection import HUBER, Loss, State, observations
from .resect import refine_pose, resect_ransac
from .solution import NO_OVERLAP, TOO_FEW, Grown, Reason

SHARED = 6  #: points that two photos must share at least
EXPLAINED = 2.0  #: mean cost of a sighting, in its variance, up to which the marks are explained by the poses
ENOUGH = 3  #: once so many pairs, with all their starts, led to all photos and explain them, others lead nowhere else
SAMPLES = 300
KEPT = 6  #: so many starts of a pair are adjusted


def missing(numbers, names):
    """What is still to be marked: sentences, and whether a block can be solved.

    numbers : list of (n_i,) int, the points marked in each photo; names : of the photos
    """
    out, good = [], False
    for i, j in combinations(range(len(numbers)), 2):
        have = len(np.intersect1d(numbers[i], numbers[j]))
        if have >= SHARED:
            good = True
        elif len(numbers[i]) or len(numbers[j]) or len(numbers) <= 3:
            more = SHARED - have
            out.append(f"{names[i]} and {names[j]} share {have} marked points: {more} more needed.")
    return out, good


def _starts(a, b, seed, scale):
    """Relative poses (4, 4) of two photos from shared directions (n, 2), the most promising first."""
    rng, n = np.random.default_rng(seed), len(a)
    every = list(combinations(range(n), 5))
    if len(every) > SAMPLES:
        every = [every[k] for k in rng.choice(len(every), SAMPLES, replace=False)]
    found, out, d = [], np.empty((10, 3, 3)), np.empty(n)
    for pick in every:
        pick = list(pick)
        for s in range(five_point(np.ascontiguousarray(a[pick]), np.ascontiguousarray(b[pick]), out)):
            sampson_squared(out[s], a, b, d)
            found.append((float(np.minimum(d, (8 * scale) ** 2).sum()), out[s].copy()))
    found.sort(key=lambda x: x[0])
    poses = []
    for _, E in found:
        relative, front = decompose(E, a, b)
        if front < 0.9 * n:
            continue
        if all(np.abs(relative - p).max() > 0.02 for p in poses):
            poses.append(relative)
        if len(poses) == KEPT:
            break
    return poses


class _State:
    """Points, photos and sightings while a block is made from them."""

    def __init__(self, xy, numbers, lenses, lens_of, sigma):
        self.xy, self.numbers, self.sigma = xy, numbers, sigma
        self.lenses, self.lens_of = np.asarray(lenses, float), np.asarray(lens_of, np.int64)
        self.xn = [
            _unproject_many(np.ascontiguousarray(x, np.float64).reshape(-1, 2), self.lenses[m])
            for x, m in zip(xy, lens_of, strict=True)
        ]
        self.every = np.unique(np.concatenate(numbers)) if numbers else np.zeros(0, int)

    def sightings(self, on):
        """Photo, row, point (index of `every`) of what the photos `on` see, sorted by point; each point twice."""
        rows = [(int(np.searchsorted(self.every, n)), i, k) for i in on for k, n in enumerate(self.numbers[i].tolist())]
        rows.sort()
        p = np.array([r[0] for r in rows])
        count = np.bincount(p, minlength=len(self.every))
        rows = [r for r in rows if count[r[0]] >= 2]
        return tuple(np.array([r[k] for r in rows], np.int64) for k in (1, 2, 0))

    def points(self, poses, photo, row, point):
        """Places (len(every), 3) by the rays' nearest point; NaN where not seen twice."""
        out = np.full((len(self.every), 3), np.nan)
        for p in np.unique(point):
            A, b = np.zeros((3, 3)), np.zeros(3)
            for k in np.flatnonzero(point == p):
                E = poses[photo[k]]
                d = E[:3, :3].T @ np.r_[self.xn[photo[k]][row[k]], 1.0]
                d /= np.linalg.norm(d)
                P = np.eye(3) - np.outer(d, d)
                A += P
                b += P @ (-E[:3, :3].T @ E[:3, 3])
            out[p] = np.linalg.solve(A + 1e-9 * np.eye(3), b)
        return out

    def adjusted(self, poses, on, X=None):
        """Adjust photos `on`; returns their poses, the points and the mean robust cost of a sighting."""
        photo, row, point = self.sightings(on)
        X = self.points(poses, photo, row, point) if X is None else X
        used, index = np.unique(point, return_inverse=True)
        where = {i: k for k, i in enumerate(on)}
        seen = observations(
            self.lens_of[on],
            np.array([where[i] for i in photo]),
            index,
            np.array([self.xy[i][k] for i, k in zip(photo, row, strict=True)]),
            np.array([self.sigma[i][k] for i, k in zip(photo, row, strict=True)]),
        )
        start = State(poses[on], self.lenses, X[used])
        result = adjust(start, seen, loss=Loss(HUBER, 4.0), max_rounds=60, tolerance=1e-9)
        out, places = poses.copy(), np.full_like(X, np.nan)
        out[on], places[used] = result.poses, result.points
        return out, places, result.cost / max(len(photo), 1), result


def solve_marked(xy, numbers, lenses, lens_of, sigma, seed=0):
    """Solve photos from marked points alone.

    Parameters
    ----------
    xy : list of (n_i, 2)
        Pixels of the points in each photo.
    numbers : list of (n_i,) int
        Which point each is.
    lenses : (m, 10), lens_of : (n,)
        Taken as they are.
    sigma : list of (n_i,)
        How sure the marker was, in pixels.

    Returns
    -------
    Block
        With no photo solved where none could be.
    """
    s = _State(xy, numbers, lenses, lens_of, sigma)
    n = len(xy)
    best, whole = None, 0
    pairs = [(i, j, *np.intersect1d(numbers[i], numbers[j], return_indices=True)) for i, j in combinations(range(n), 2)]
    for i, j, shared, a, b in sorted(pairs, key=lambda p: -len(p[2])):
        if len(shared) < SHARED or whole >= ENOUGH:
            break
        scale, done = 1.0 / s.lenses[s.lens_of[i], 0], False
        for relative in _starts(s.xn[i][a], s.xn[j][b], seed, scale):
            poses = np.tile(np.eye(4), (n, 1, 1))
            poses[j] = relative
            made = _grown(s, poses, [i, j], seed)
            if made and (best is None or (-len(made[1]), made[3]) < (-len(best[1]), best[3])):
                best = made
            done |= bool(made and len(made[1]) == n and made[3] < EXPLAINED)
        whole += done
    return _block(s, best, n)


def _grown(s, poses, on, seed):
    """A start adjusted, and the other photos added; poses, photos, points, cost, Adjusted, or None."""
    poses, X, cost, result = s.adjusted(poses, on)
    tried = set()
    while True:
        seen = {
            k: [
                r
                for r, number in enumerate(s.numbers[k].tolist())
                if np.isfinite(X[np.searchsorted(s.every, number), 0])
            ]
            for k in range(len(poses))
            if k not in on and k not in tried
        }
        able = [k for k in seen if len(seen[k]) >= 4]
        if not able:
            return poses, on, X, cost, result
        k = max(able, key=lambda q: len(seen[q]))
        rows = seen[k]
        P = np.ascontiguousarray(X[np.searchsorted(s.every, s.numbers[k][rows])])
        x = np.ascontiguousarray(s.xn[k][rows])
        unit = 1.0 / s.lenses[s.lens_of[k], 0]
        R, t, inliers = resect_ransac(P, x, 12 * unit, 500, seed + k)
        if inliers.sum() < 4:
            tried.add(k)
            continue
        R, t = refine_pose(R, t, P[inliers], x[inliers], 4 * unit, 30)
        poses = poses.copy()
        poses[k, :3, :3], poses[k, :3, 3] = R, t
        on = [*on, k]
        poses, X, cost, result = s.adjusted(poses, on)


def _block(s, best, n):
    """The Grown of what was made; without any photo solved where nothing was."""
    poses = np.full((n, 4, 4), np.nan)
    reasons = {}
    on = best[1] if best else []
    if best:
        poses[on] = best[0][on]
        photo, row, point = s.sightings(sorted(on))
    else:
        photo = row = point = np.zeros(0, np.int64)
    used, index = np.unique(point, return_inverse=True)
    for i in range(n):
        if i in on:
            continue
        partners = [k for k in range(n) if k != i and len(np.intersect1d(s.numbers[i], s.numbers[k]))]
        have = max((len(np.intersect1d(s.numbers[i], s.numbers[k])) for k in partners), default=0)
        text = (
            f"it shares at most {have} marked points with another photo ({SHARED} are needed)"
            if have
            else "no point that other photos show is marked in it"
        )
        reasons[i] = Reason(TOO_FEW if have else NO_OVERLAP, text, tuple(partners))
    seen = [(i, k) for i, k in zip(photo, row, strict=True)]
    block = Block(
        poses, s.lenses, s.lens_of, best[2][used] if best else np.zeros((0, 3)), photo, row, index,
        np.array([s.xy[i][k] for i, k in seen]).reshape(-1, 2),
        _residuals(s, best, photo, row, point) if best else np.zeros((0, 2)),
        np.array([s.sigma[i][k] for i, k in seen]), trusted=tuple(range(len(s.lenses))), order=tuple(on),
    )  # fmt: skip
    return Grown(block, reasons)


def _residuals(s, best, photo, row, point):
    """Residuals (k, 2) of the block's sightings, seen less predicted."""
    out = np.empty((len(photo), 2))
    for k, (i, r, p) in enumerate(zip(photo, row, point, strict=True)):
        Y = best[0][i, :3, :3] @ best[2][p] + best[0][i, :3, 3]
        out[k] = s.xy[i][r] - np.array(project_one(Y[0] / Y[2], Y[1] / Y[2], s.lenses[s.lens_of[i]]))
    return out
