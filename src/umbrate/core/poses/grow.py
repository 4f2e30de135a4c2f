"""Growing the block: from matched photos to poses, lens and tie points.

Two photos with many matches at a good angle start; the photo that sees most placed points comes
next, by resection; its matches place more points; everything is adjusted together. Sightings that
disagree are put aside at every step and looked at again later, photos that do not fit stay out
(the order of work of Snavely, Seitz and Szeliski 2006 and Schönberger and Frahm 2016).
"""

import numpy as np

from ..geometry.lens import _project_many
from ..geometry.pose import center
from .block import Block
from .growing import LEAST_BY_HAND, PARAMETER, Growing
from .mend import check_loops, merge, readmit
from .resect import refine_pose, resect, resect_ransac
from .solution import DISAGREES, LOOP, NO_OVERLAP, NO_START, PLANE, TOO_FEW, TURN, TURNED, Grown, Reason

DISTORTION = ("k1", "k2", "k3", "p1", "p2")
SIGNIFICANCE = 2.6  #: a parameter is significant from so many of its standard deviations on (99 %)
LOCAL_SHARE = 0.1  #: fewer new photos than this share move only themselves and a few others
MARKED_PX = 8.0  #: how far off the marks of a photo may be that marked points stand up
TRIED_STARTS = 4  #: so many starts are made before the best is taken


COARSE = 1e-3  #: an adjustment that is not the last ends when a round gains less than this share of the cost
FINISH_PX = (4.0, 2.5, 2.0)  #: how far sightings may be off while a block is finished, step by step


class Grower(Growing):
    """The order of work. `run` does the whole of it, `adjust_only` moves what stands."""

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
            self.place(4.0)
            self._grow()
            self._finish()
        if merge(self):
            self._finish()
        self._settle()
        return self._block()

    def adjust_only(self, within=FINISH_PX):
        """Move what stands and nothing else; returns a Grown. See `resume`.

        within : pixels that sightings may be off, one adjustment after the other
        """
        self._finish(within)
        self._settle()
        return self._block()

    def _tell(self, sentence):
        if self.settings.report:
            self.settings.report(int(self.solved.sum()), self.n, sentence, self)

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
        self.normalize()
        self.poses[i], self.poses[j] = np.eye(4), relative
        self.solved[[i, j]] = True
        self.order = [i, j]
        self.place(4.0)
        if self.placed.sum() < self.min_sightings:
            return 0.0
        self.adjust(20)
        self.place(3.0)
        count = int(self.placed.sum())
        if count < self.min_sightings:
            return 0.0
        d = [self.X[self.placed] - center(self.poses[k]) for k in (i, j)]
        cos = (d[0] * d[1]).sum(1) / np.linalg.norm(d[0], axis=1) / np.linalg.norm(d[1], axis=1)
        angle = float(np.degrees(np.median(np.arccos(np.clip(cos, -1, 1)))))
        return count * min(1.0, angle / 8.0)

    def _grow(self):
        """Photo after photo, until none is left that fits."""
        self._grow_by_matches()
        while self.marked and self._stand_by_hand():
            self.place(4.0)
            self.adjust(6)
            self._grow_by_matches()

    def _grow_by_matches(self):
        failed_at = {}
        while True:
            seen = self.seen()
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
                self.place(4.0)
                if len(added) < LOCAL_SHARE * self.solved.sum():
                    self.adjust(6, only=self.round_about(added))
                else:
                    self.adjust(6)
                self.place(4.0)
                self.drop_weak()
                self._tell(f"{int(self.solved.sum())} of {self.n} photos stand")

    def _resect(self, i):
        t = self.tracks
        rows = np.flatnonzero((t.photo == i) & self.placed[self.track_of])
        threshold = float(self.threshold(5.0)[i])
        R, tr, inliers = resect(self.X[self.track_of[rows]], self.xn[rows], threshold, self.settings.seed + i)
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

    def _stand_by_hand(self):
        """Stand up photos that have too few matches but four marked places that agree; returns whether any did."""
        t, any_did = self.tracks, False
        for i in range(self.n):
            rows = np.flatnonzero((t.photo == i) & self.by_hand & self.placed[self.track_of])
            if self.solved[i] or len(rows) < LEAST_BY_HAND:
                continue
            X, x = np.ascontiguousarray(self.X[self.track_of[rows]]), np.ascontiguousarray(self.xn[rows])
            threshold = float(self.threshold(MARKED_PX)[i])
            R, tr, inliers = resect_ransac(X, x, threshold, 500, self.settings.seed + i)
            if inliers.sum() < LEAST_BY_HAND:
                continue
            R, tr = refine_pose(R, tr, X[inliers], x[inliers], threshold / 4, 20)
            self.poses[i, :3, :3], self.poses[i, :3, 3] = R, tr
            self.solved[i] = any_did = True
            self.order = [k for k in self.order if k != i] + [i]
            self.reasons.pop(i, None)
        return any_did

    def _more_lens(self):
        free = self.settings.solve_lens and "k3" not in self.settings.held
        return [PARAMETER["k3"]] if free and self.solved.sum() >= 12 else []

    def _finish(self, within=FINISH_PX):
        """Everything adjusted together, with sightings looked at again."""
        self.dropped.clear()
        for px in within:
            self.adjust(25, self._more_lens(), COARSE)
            self.correct()
            self.placed[:] = False  # placed anew: sightings that were put aside get their chance
            self.place(px)
        self.adjust(25, self._more_lens(), COARSE)
        self.drop_weak()

    def _settle(self):
        """The last adjustment, to the end."""
        extra = self._more_lens()
        self.adjust(40, extra, 1e-7)
        if self.settings.significant:
            self._keep_significant(extra)
        self.drop_weak()
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
            self.normalize()
            self.adjust(25, extra, 1e-7)

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
        residual = self.residuals()
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
            free_lens=tuple(sorted(self.last_free)), trusted=tuple(sorted(self.photos.trusted)),
            prior=self.last_prior, order=tuple(i for i in self.order if self.solved[i]),
        )  # fmt: skip
        return Grown(block, dict(sorted(self.reasons.items())), list(self.bridges))

    def _why_no_start(self):
        """The Reason when no pair can start a block."""
        kinds = [g.kind for g in self.pairs.values()]
        if kinds and kinds.count(TURN) >= 0.8 * len(kinds):
            return Reason(TURNED, "all photos that match were taken from one place, the camera only turned")
        return Reason(NO_START, "no two photos share enough matches seen from different places")
