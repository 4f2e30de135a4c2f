"""Growing the block: from matched photos to poses, lens and tie points.

Two photos with many matches at a good angle start; the photo that sees most placed points comes
next, by resection; its matches place more points; everything is adjusted together. Sightings that
disagree are put aside at every step and looked at again later, photos that do not fit stay out
(the order of work of Snavely, Seitz and Szeliski 2006 and Schönberger and Frahm 2016).
"""

import numpy as np

from ..geometry.lens import _project_many, _unproject_many
from ..geometry.pose import center
from ..geometry.triangulate import triangulate_tracks
from .adjust import Held, adjust
from .block import Block
from .loops import STRICT, false_bridges, plausibility
from .mend import check_loops, merge, readmit
from .normal import CAUCHY, Loss, State, observations
from .resect import refine_pose, resect_ransac
from .solution import DISAGREES, LOOP, NO_OVERLAP, NO_START, PLANE, TOO_FEW, TURN, TURNED, Grown, Reason
from .tracks import Tracks, build_tracks

LENS_STEPS = ((8, ("f", "k1", "cx", "cy", "k2", "p1", "p2")), (4, ("f", "k1")), (0, ()))
KEY_POINT_SIGMA_PX = 0.4  #: of a key point in a photo 1600 pixels wide
DISTORTION = ("k1", "k2", "k3", "p1", "p2")
SIGNIFICANCE = 2.6  #: a parameter is significant from so many of its standard deviations on (99 %)
LOCAL_SHARE, LOCAL_PHOTOS = 0.1, 12  #: fewer new photos than this share move only themselves and so many others
BRIDGE_MATCHES = 60  #: from so many on, a pair that contradicts the others is called a false bridge
LEAST_BY_HAND, MARKED_PX = 4, 8.0  #: marked places that stand a photo up, and how far off their marks may be
TRIED_STARTS = 4  #: so many starts are made before the best is taken
LOSS_SCALE = 2.5  #: the robust loss bends at so many standard deviations
#: how far real lenses are from what their photos' files say, where nobody has calibrated them: the focal length as a
#: share of itself, the principal point as a share of the picture's longer side, then k1 k2 k3 p1 p2 b1 b2
FOCAL_SIGMA, CENTER_SIGMA, LENS_SIGMA = 0.02, 0.005, (0.08, 0.15, 0.15, 0.0015, 0.0015, 5.0, 5.0)
PARAMETER = {"f": 0, "cx": 1, "cy": 2, "k1": 3, "k2": 4, "k3": 5, "p1": 6, "p2": 7, "b1": 8, "b2": 9}


class Grower:
    """The state of a block while it grows. `run` does the whole of it."""

    def __init__(
        self,
        features_xy,
        pairs,
        lenses,
        lens_of,
        widths,
        *,
        min_sightings=18,
        min_angle_deg=2.0,
        solve_lens=True,
        trusted=(),
        lens_sigma=None,
        sigma=None,
        correct=None,
        significant=False,
        tracks=None,
        links=None,
        same=None,
        marked=(),
        seed=0,
        report=None,
        stop=None,
    ):
        """
        Parameters
        ----------
        features_xy : list of (n_i, 2) arrays
        pairs : dict of (i, j) to PairGeometry
        lenses : (m, 10)
            Starting lens vectors.
        lens_of : (n,) int
        widths : (n,) int
            Longer side of each photo, pixels: thresholds adapt to it.
        trusted : sequence of int
            Lenses that stay as they are.
        lens_sigma : (m, 10), optional
            How well the starting lenses are known; NaN where nobody knows.
        sigma : list of (n_i,) arrays, optional
            Standard deviations of the features in pixels; those of key points where not given.
        correct : callable(photo, feature, point, poses, lenses, lens_of) -> (k, 2), optional
            What is to be taken off the pixels of sightings once the block stands.
        significant : bool
            Distortion parameters that do not differ from their starting values by what they are known to go back to
            them.
        tracks : Tracks, optional
            In place of those that `pairs` would make.
        links : dict of (i, j) to (k, 2) int, optional
            Matches that need no verification: places marked by hand.
        same : dict of (i, j) to (k, 2) int, optional
            Matches that are taken where both points stand in one place: targets of one number.
        marked : sequence of (photo, feature)
            Sightings of places marked by hand: four of them stand a photo up that has too few others.
        report : callable(solved, total, sentence, grower), optional
        """
        self.links, self.same, self.marked = links or {}, same or {}, {(int(i), int(f)) for i, f in marked}
        self.counts = [len(x) for x in features_xy]
        self.pairs, self.doubted = self._without_false_bridges(self.counts, pairs)
        self.trusted, self.lens_sigma = tuple(trusted), lens_sigma
        self.lenses = np.array(lenses, float)
        self.first_lenses = self.lenses.copy()
        self.lens_of = np.asarray(lens_of, np.int64)
        self.unit = np.asarray(widths, float) / 1600.0
        self.n = len(features_xy)
        self.min_sightings, self.min_angle = min_sightings, np.radians(min_angle_deg)
        self.solve_lens, self.seed = solve_lens, seed
        self.report, self.stop = report, stop
        self.significant, self.dropped, self.correct = significant, set(), correct
        self.order = []
        self.base = np.concatenate([[0], np.cumsum(self.counts)])
        self.every_xy = np.concatenate([np.asarray(x, float).reshape(-1, 2) for x in features_xy])
        if sigma is None:
            sigma = [np.full(c, KEY_POINT_SIGMA_PX * u) for c, u in zip(self.counts, self.unit, strict=True)]
        self.every_sigma = np.concatenate([np.asarray(x, float) for x in sigma])
        self.poses = np.tile(np.eye(4), (self.n, 1, 1))
        self.solved = np.zeros(self.n, bool)
        self.reasons = {}
        self.last_free, self.last_prior = (), ()
        self.take_tracks(tracks)

    def take_tracks(self, tracks=None):
        """Begin with tracks, those that the pairs make where none are given: no point is placed yet."""
        if tracks is None:
            matches = {p: g.matches for p, g in self.pairs.items()}
            for p, m in self.links.items():
                matches[p] = np.vstack([matches[p], m]) if p in matches else m
            tracks = build_tracks(self.counts, matches)
        self.tracks: Tracks = tracks
        row = self.base[tracks.photo] + tracks.feature
        self.xy, self.sigma = self.every_xy[row], self.every_sigma[row]
        self.seen_xy = self.xy.copy()
        self.track_of = np.repeat(np.arange(len(tracks)), np.diff(tracks.start))
        by_hand = [(int(i), int(f)) in self.marked for i, f in zip(tracks.photo, tracks.feature, strict=True)]
        self.by_hand = np.array(by_hand, bool) if self.marked else np.zeros(len(tracks.photo), bool)
        self.X = np.zeros((len(tracks), 3))
        self.placed = np.zeros(len(tracks), bool)
        self.on = np.zeros(len(tracks.photo), bool)
        self._normalize()

    @staticmethod
    def _without_false_bridges(counts, pairs):
        """Pairs that agree round loops, and those (i, j) that do not. A plane leaves two turns open: it has no vote."""
        sure = [p for p, g in pairs.items() if g.kind != PLANE]
        matches = np.array([len(pairs[p].matches) for p in sure], float)
        share = matches / np.maximum([min(counts[i], counts[j]) for i, j in sure], 1)
        weight = matches * plausibility([pairs[p].angle_deg for p in sure], share) ** STRICT
        wrong, _ = false_bridges(len(counts), sure, [pairs[p].relative[:3, :3] for p in sure], weight)
        out = {p for p, w in zip(sure, wrong, strict=True) if w}
        return {p: g for p, g in pairs.items() if p not in out}, {p: pairs[p] for p in sure if p in out}

    @property
    def bridges(self):
        """Pairs (i, j) left out as false; one with a handful of matches shows nothing but chance."""
        return [p for p, g in self.doubted.items() if len(g.matches) >= BRIDGE_MATCHES]

    def _normalize(self):
        """Directions of all sightings through the present lenses."""
        self.xn = np.empty_like(self.xy)
        for m in range(len(self.lenses)):
            rows = self.lens_of[self.tracks.photo] == m
            self.xn[rows] = _unproject_many(np.ascontiguousarray(self.xy[rows]), self.lenses[m])

    def threshold(self, px):
        """A pixel threshold for a 1600-pixel photo, in normalized units for each photo."""
        return px * self.unit / self.lenses[self.lens_of, 0]

    def _residuals(self):
        """Pixel residual length of every sighting of a placed point in a solved photo, else infinity."""
        t = self.tracks
        out = np.full(len(t.photo), np.inf)
        rows = np.flatnonzero(self.placed[self.track_of] & self.solved[t.photo])
        E = self.poses[t.photo[rows]]
        Y = np.einsum("kij,kj->ki", E[:, :3, :3], self.X[self.track_of[rows]]) + E[:, :3, 3]
        z = np.where(Y[:, 2] > 1e-9, Y[:, 2], np.nan)
        e = np.linalg.norm(Y[:, :2] / z[:, None] - self.xn[rows], axis=1) * self.lenses[self.lens_of[t.photo[rows]], 0]
        out[rows] = np.where(np.isfinite(e), e, np.inf)
        return out

    def _place(self, px):
        """Place every track that has none yet; drop those that no longer hold; choose the sightings in use."""
        t = self.tracks
        threshold = self.threshold(px)
        ok = self.placed.copy()
        triangulate_tracks(
            t.start, t.photo, self.xn, self.poses, self.solved, ~self.placed, threshold, self.min_angle, self.X, ok
        )
        self.placed = ok
        self.on = self._residuals() < px * self.unit[t.photo]
        count = np.add.reduceat(self.on, t.start[:-1]) if len(t) else np.zeros(0, int)
        self.placed &= count >= 2
        # a point whose remaining rays are nearly parallel has no depth
        rows = np.flatnonzero(self.on & self.placed[self.track_of])
        E = self.poses[t.photo[rows]]
        d = np.einsum("kji,kj->ki", E[:, :3, :3], np.c_[self.xn[rows], np.ones(len(rows))])
        d /= np.linalg.norm(d, axis=1, keepdims=True)
        mean = np.zeros((len(t), 3))
        np.add.at(mean, self.track_of[rows], d)
        mean /= np.maximum(np.linalg.norm(mean, axis=1, keepdims=True), 1e-12)
        spread = np.ones(len(t))
        np.minimum.at(spread, self.track_of[rows], (d * mean[self.track_of[rows]]).sum(1))
        self.placed &= spread < np.cos(self.min_angle / 2)
        self.on &= self.placed[self.track_of]

    def _free_lens(self):
        if not self.solve_lens:
            return []
        count = int(self.solved.sum())
        names = next(names for least, names in LENS_STEPS if count >= least)
        return [PARAMETER[p] for p in names if p not in self.dropped]

    def _adjust(self, rounds, extra=(), tolerance=1e-4, only=None):
        """Adjust everything solved so far, or with `only` those photos (n,) bool and the points they see."""
        t = self.tracks
        in_use = self.on & self.solved[t.photo]
        if only is not None:
            seen = np.zeros(len(t), bool)
            seen[self.track_of[in_use & only[t.photo]]] = True
            in_use &= seen[self.track_of]
        use = np.flatnonzero(in_use)
        who = np.unique(t.photo[use]) if only is not None else np.flatnonzero(self.solved)
        row = np.full(self.n, -1)
        row[who] = np.arange(len(who))
        tracks, point = np.unique(self.track_of[use], return_inverse=True)
        free = sorted({*self._free_lens(), *extra})
        prior = self._prior()
        self.last_free, self.last_prior = tuple(free), prior
        held = Held(
            poses=() if only is None else np.flatnonzero(~only[who]),
            lenses=self.trusted if only is None else range(len(self.lenses)),
            lens_prior=prior,
        )
        result = adjust(
            State(self.poses[who], self.lenses, self.X[tracks]),
            observations(self.lens_of[who], row[t.photo[use]], point, self.xy[use], self.sigma[use], len(tracks)),
            free,
            held=held,
            loss=Loss(CAUCHY, LOSS_SCALE),
            max_rounds=rounds,
            tolerance=tolerance,
            stop=self.stop,
        )
        self.poses[who], self.lenses, self.X[tracks] = result.poses, result.lenses, result.points
        self._normalize()
        return result

    def _prior(self):
        """What the lenses are held by: their starting values, and how far they may be off."""
        f = self.first_lenses
        width = np.array([1600 * self.unit[self.lens_of == m].max(initial=1.0) for m in range(len(f))])
        rest = np.tile(np.array(LENS_SIGMA), (len(f), 1))
        sigma = np.hstack([FOCAL_SIGMA * f[:, :1], np.tile(CENTER_SIGMA * width[:, None], (1, 2)), rest])
        if self.lens_sigma is not None:
            sigma = np.where(np.isfinite(self.lens_sigma), self.lens_sigma, sigma)
        return f, sigma

    def _tell(self, sentence):
        if self.report:
            self.report(int(self.solved.sum()), self.n, sentence, self)

    # ------------------------------------------------------------------ the order of work
    def _start_candidates(self):
        """Pairs by how good a start they promise: many matches, at an angle of some 5 to 30 degrees, with depth."""

        def worth(item):
            _, g = item
            angle = g.angle_deg
            value = len(g.matches) * min(1.0, angle / 8.0) * (1.0 if angle < 40 else 40.0 / angle)
            return -value * (0.3 if g.kind == PLANE else 1.0)

        able = [
            (p, g)
            for p, g in self.pairs.items()
            if g.kind != TURN and g.angle_deg >= 1.5 and len(g.matches) >= 2 * self.min_sightings
        ]
        return sorted(able, key=worth)

    def _try_start(self, i, j, relative):
        """Stand two photos up; returns how well they hold each other: the points placed, less where rays are narrow."""
        self.solved[:] = False
        self.placed[:] = False
        self.lenses = self.first_lenses.copy()
        self._normalize()
        self.poses[i], self.poses[j] = np.eye(4), relative
        self.solved[[i, j]] = True
        self.order = [i, j]
        self._place(4.0)
        if self.placed.sum() < self.min_sightings:
            return 0.0
        self._adjust(20)
        self._place(3.0)
        count = int(self.placed.sum())
        if count < self.min_sightings:
            return 0.0
        d = [self.X[self.placed] - center(self.poses[k]) for k in (i, j)]
        cos = (d[0] * d[1]).sum(1) / np.linalg.norm(d[0], axis=1) / np.linalg.norm(d[1], axis=1)
        angle = float(np.degrees(np.median(np.arccos(np.clip(cos, -1, 1)))))
        return count * min(1.0, angle / 8.0)

    def _begin(self):
        """Start from the pair that holds best once it stands, of the few that promise most."""
        best, chosen, tried = 0.0, None, 0
        for (i, j), g in self._start_candidates()[:12]:
            value = self._try_start(i, j, g.relative)
            tried += value > 0
            if value > best:
                best, chosen = value, (i, j, g.relative)
            if tried == TRIED_STARTS:
                break
        if chosen:
            self._try_start(*chosen)
            return True
        self.solved[:] = False
        return False

    def resume(self, poses, lenses):
        """Take photos as solved before: poses (n, 4, 4), NaN where not, and lenses (m, 10), then `run` goes on."""
        self.lenses = np.array(lenses, float)
        self.solved = np.isfinite(poses[:, 0, 0])
        self.poses[self.solved] = poses[self.solved]
        self.order = [int(i) for i in np.flatnonzero(self.solved)]
        self._normalize()
        self._place(4.0)
        self._drop_weak()

    def _seen(self):
        """How many placed points each photo could be resected from."""
        t = self.tracks
        return np.bincount(t.photo[self.placed[self.track_of]], minlength=self.n)

    def _round_about(self, photos):
        """Some photos and those that share most points with them, (n,) bool."""
        t = self.tracks
        rows = self.on & self.solved[t.photo]
        seen = np.zeros(len(t), bool)
        seen[self.track_of[rows & np.isin(t.photo, photos)]] = True
        count = np.bincount(t.photo[rows & seen[self.track_of]], minlength=self.n)
        near = np.zeros(self.n, bool)
        near[np.argsort(-count, kind="stable")[: len(photos) + LOCAL_PHOTOS]] = True
        near[photos] = True
        return near & self.solved

    def _resect(self, i):
        t = self.tracks
        rows = np.flatnonzero((t.photo == i) & self.placed[self.track_of])
        X, x = np.ascontiguousarray(self.X[self.track_of[rows]]), np.ascontiguousarray(self.xn[rows])
        threshold = float(self.threshold(5.0)[i])
        R, tr, inliers = resect_ransac(X, x, threshold, 2000, self.seed + i)
        if inliers.sum() >= 6:
            R, tr = refine_pose(R, tr, X[inliers], x[inliers], threshold / 4, 20)
            Y = X @ R.T + tr
            with np.errstate(divide="ignore", invalid="ignore"):
                inliers = (Y[:, 2] > 0) & (np.linalg.norm(Y[:, :2] / Y[:, 2:] - x, axis=1) < threshold)
        count = int(inliers.sum())
        if count < self.min_sightings or count < 0.25 * len(rows):
            self.reasons[i] = Reason(
                DISAGREES,
                f"only {count} of the {len(rows)} points it shares with the solved photos agree on a "
                f"place for it (at least {max(self.min_sightings, int(0.25 * len(rows)))} are needed)",
                self.partners(i),
            )
            return False
        self.poses[i, :3, :3], self.poses[i, :3, 3] = R, tr
        self.solved[i] = True
        self.order = [k for k in self.order if k != i] + [i]
        self.reasons.pop(i, None)
        return True

    def run(self):
        """Solve; returns a Grown. With no start at all, every photo is unsolved, with the reason."""
        if not self.solved.any():
            if not self._begin():
                return self._block(self._why_no_start())
            self._tell("two photos stand")
        self._grow()
        self._finish()
        if check_loops(self):
            self._grow()
            self._finish()
        if readmit(self):
            self._place(4.0)
            self._grow()
            self._finish()
        if merge(self):
            self._finish()
        return self._block()

    def _stand_by_hand(self):
        """Stand up photos that have too few matches but four marked places that agree; returns whether any did."""
        t, any_did = self.tracks, False
        for i in range(self.n):
            rows = np.flatnonzero((t.photo == i) & self.by_hand & self.placed[self.track_of])
            if self.solved[i] or len(rows) < LEAST_BY_HAND:
                continue
            X, x = np.ascontiguousarray(self.X[self.track_of[rows]]), np.ascontiguousarray(self.xn[rows])
            threshold = float(self.threshold(MARKED_PX)[i])
            R, tr, inliers = resect_ransac(X, x, threshold, 500, self.seed + i)
            if inliers.sum() < LEAST_BY_HAND:
                continue
            R, tr = refine_pose(R, tr, X[inliers], x[inliers], threshold / 4, 20)
            self.poses[i, :3, :3], self.poses[i, :3, 3] = R, tr
            self.solved[i] = any_did = True
            self.order = [k for k in self.order if k != i] + [i]
            self.reasons.pop(i, None)
        return any_did

    def _grow(self):
        """Photo after photo, until none is left that fits."""
        self._grow_by_matches()
        while self.marked and self._stand_by_hand():
            self._place(4.0)
            self._adjust(6)
            self._grow_by_matches()

    def _grow_by_matches(self):
        failed_at = {}
        while True:
            seen = self._seen()
            todo = [
                i
                for i in np.argsort(-seen, kind="stable")
                if not self.solved[i] and seen[i] >= self.min_sightings and failed_at.get(i, 0) < seen[i]
            ]
            if not todo:
                break
            # of the photos that see nearly as much as the best, all may come in one round
            best = seen[todo[0]]
            added = []
            for i in [i for i in todo if seen[i] >= 0.75 * best][: max(1, int(self.solved.sum()) // 4)]:
                if self._resect(i):
                    added.append(i)
                else:
                    failed_at[i] = int(seen[i] * 1.2)
            if added:
                self._place(4.0)
                if len(added) < LOCAL_SHARE * self.solved.sum():
                    self._adjust(6, only=self._round_about(added))
                else:
                    self._adjust(6)
                self._place(4.0)
                self._drop_weak()
                self._tell(f"{int(self.solved.sum())} of {self.n} photos stand")

    def _finish(self):
        """Everything adjusted together, with sightings looked at again."""
        extra = [PARAMETER["k3"]] if self.solve_lens and self.solved.sum() >= 12 else []
        self.dropped.clear()
        for px in (4.0, 2.5, 2.0):
            self._adjust(25, extra)
            self._correct()
            self.placed[:] = False  # placed anew: sightings that were put aside get their chance
            self._place(px)
        self._adjust(40, extra, 1e-7)
        if self.significant:
            self._keep_significant(extra)
        self._drop_weak()
        self._tell("adjusted")

    def _keep_significant(self, extra):
        """Distortion that is not significant goes back to where it started, the least significant first."""
        while True:
            free = [p for p in DISTORTION if PARAMETER[p] in self.last_free]
            block = self._block().block
            if not free or not len(block.points):
                return
            cov = block.covariance()
            sd = np.sqrt(np.einsum("mii->mi", cov.lenses)) * cov.unit
            change = np.abs(self.lenses - self.first_lenses)
            worth = {p: float((change[:, PARAMETER[p]] / np.maximum(sd[:, PARAMETER[p]], 1e-12)).max()) for p in free}
            least = min(worth, key=worth.get)
            if worth[least] >= SIGNIFICANCE:
                return
            self.dropped.add(least)
            k = PARAMETER[least]
            self.lenses[:, k] = self.first_lenses[:, k]
            extra = [e for e in extra if e != k]
            self._normalize()
            self._adjust(25, extra, 1e-7)

    def adjust_only(self):
        """Move what stands and nothing else; returns a Grown. See `resume`."""
        self._finish()
        return self._block()

    def partners(self, i):
        """Photos that match a photo, those with most matches first."""
        mine = [(len(g.matches), p[0] if p[1] == i else p[1]) for p, g in self.pairs.items() if i in p]
        return tuple(k for _, k in sorted(mine, key=lambda x: (-x[0], x[1])))

    def leave(self, i, reason):
        """Take a photo out of the block."""
        self.solved[i] = False
        self.on &= self.tracks.photo != i
        self.reasons[i] = reason

    def _why_no_start(self):
        """The Reason when no pair can start a block."""
        kinds = [g.kind for g in self.pairs.values()]
        if kinds and kinds.count(TURN) >= 0.8 * len(kinds):
            return Reason(TURNED, "all photos that match were taken from one place, the camera only turned")
        return Reason(NO_START, "no two photos share enough matches seen from different places")

    def _correct(self):
        """Take off the sightings what the present block says they are shifted by."""
        if self.correct is None:
            return
        t = self.tracks
        rows = np.flatnonzero(self.placed[self.track_of] & self.solved[t.photo])
        tracks = self.track_of[rows]
        shift = self.correct(t.photo[rows], t.feature[rows], tracks, self.poses, self.lenses, self.lens_of)
        self.xy[rows] = self.seen_xy[rows] - shift
        self._normalize()

    def _drop_weak(self):
        """Photos that hold on to too few sightings leave the block."""
        count = np.bincount(self.tracks.photo[self.on], minlength=self.n)
        by_hand = np.bincount(self.tracks.photo[self.on & self.by_hand], minlength=self.n)
        for i in np.flatnonzero(self.solved & (count < self.min_sightings // 2) & (by_hand < LEAST_BY_HAND)):
            if self.solved.sum() <= 2:
                break
            why = f"after the adjustment only {count[i]} of its sightings agree with the other photos"
            self.leave(i, Reason(DISAGREES, why, self.partners(i)))

    def _block(self, why=None):
        t = self.tracks
        for i in range(self.n):
            if self.solved[i] or i in self.reasons:
                continue
            partners = self.partners(i)
            false = tuple(p[0] if p[1] == i else p[1] for p in self.bridges if i in p)
            if partners and why:
                self.reasons[i] = why
            elif partners:
                self.reasons[i] = Reason(
                    TOO_FEW,
                    f"it matches {len(partners)} other photo{'s' * (len(partners) > 1)}, but shares fewer than "
                    f"{self.min_sightings} points with those that are solved",
                    partners,
                )
            elif false:
                self.reasons[i] = Reason(LOOP, "all its matches contradict the other photos round closed loops", false)
            else:
                self.reasons[i] = Reason(
                    NO_OVERLAP, "no matches with any other photo (no overlap, blurred, or a different object)"
                )
        residual = self._residuals()
        use = np.flatnonzero(self.on & self.solved[t.photo] & np.isfinite(residual))
        tracks, point = np.unique(self.track_of[use], return_inverse=True)
        E = self.poses[t.photo[use]]
        Y = np.einsum("kij,kj->ki", E[:, :3, :3], self.X[tracks][point]) + E[:, :3, 3]
        seen = np.empty((len(use), 2))
        for m in range(len(self.lenses)):
            rows = self.lens_of[t.photo[use]] == m
            seen[rows] = _project_many(np.ascontiguousarray(Y[rows, :2] / Y[rows, 2:]), self.lenses[m])
        poses = np.where(self.solved[:, None, None], self.poses, np.nan)
        block = Block(
            poses, self.lenses.copy(), self.lens_of, self.X[tracks], t.photo[use], t.feature[use], point,
            self.xy[use], self.xy[use] - seen, self.sigma[use],
            free_lens=tuple(sorted(self.last_free)), trusted=tuple(sorted(self.trusted)), prior=self.last_prior or None,
            order=tuple(i for i in self.order if self.solved[i]),
        )  # fmt: skip
        return Grown(block, dict(sorted(self.reasons.items())), list(self.bridges))
