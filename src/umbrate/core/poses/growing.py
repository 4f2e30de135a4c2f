"""The block while it grows: which photos stand, where points are, and which sightings are in use.

`grow` decides what comes next; here are the single steps: place points, adjust, put sightings aside, let a photo go.
"""

import numpy as np

from ..geometry.lens import _unproject_many
from ..geometry.triangulate import triangulate_tracks
from .adjust import Held, adjust
from .lensprior import LensPrior
from .loops import STRICT, false_bridges, plausibility
from .reprojection import CAUCHY, Loss, State, observations
from .solution import DISAGREES, PLANE, GrowSettings, HandTies, Reason
from .tracks import Tracks, build_tracks

LENS_STEPS = ((8, ("f", "k1", "cx", "cy", "k2", "p1", "p2")), (4, ("f", "k1")), (0, ()))
KEY_POINT_SIGMA_PX = 0.4  #: of a key point in a photo 1600 pixels wide
LOCAL_PHOTOS = 12  #: a few new photos move themselves and so many others
BRIDGE_MATCHES = 60  #: from so many on, a pair that contradicts the others is called a false bridge
LEAST_BY_HAND = 4  #: marked points that stand a photo up
LOSS_SCALE = 2.5  #: the robust loss bends at so many standard deviations
#: how far real lenses are from what their photos' files say, where nobody has calibrated them: the focal length as a
#: share of itself, the principal point as a share of the picture's longer side, then k1 k2 k3 p1 p2 b1 b2
FOCAL_SIGMA, CENTER_SIGMA, LENS_SIGMA = 0.02, 0.005, (0.08, 0.15, 0.15, 0.0015, 0.0015, 5.0, 5.0)
PARAMETER = {"f": 0, "cx": 1, "cy": 2, "k1": 3, "k2": 4, "k3": 5, "p1": 6, "p2": 7, "b1": 8, "b2": 9}


class Growing:
    """The state of a block while it grows.

    Attributes
    ----------
    photos, ties, settings : PhotoSet, HandTies, GrowSettings
    pairs, doubted : dict of (i, j) to PairGeometry
        Those in use, and those that contradict the others round closed loops.
    poses, solved, order : (n, 4, 4), (n,) bool, list of int
        Where photos stand, which do, and in which order they came.
    lenses, first_lenses : (m, 10)
    tracks : Tracks
    X, placed : (p, 3), (p,) bool
        Points of the tracks, and which have a place.
    xy, xn, sigma, on : (k, 2), (k, 2), (k,), (k,) bool
        Pixels of the sightings, their directions through the present lenses, standard deviations, and which are in use.
    reasons : dict of int to Reason
        Why photos do not stand.
    """

    def __init__(self, photos, pairs, ties=HandTies(), settings=GrowSettings(), *, tracks=None):
        """
        Parameters
        ----------
        photos : PhotoSet
        pairs : dict of (i, j) to PairGeometry
        ties : HandTies
        settings : GrowSettings
        tracks : Tracks, optional
            In place of those that `pairs` would make.
        """
        self.photos, self.ties, self.settings = photos, ties, settings
        self.marked = {(int(i), int(f)) for i, f in ties.marked}
        self.counts = [len(x) for x in photos.xy]
        self.pairs, self.doubted = self._without_false_bridges(self.counts, pairs)
        self.lenses = np.array(photos.lenses, float)
        self.first_lenses = self.lenses.copy()
        self.lens_of = np.asarray(photos.lens_of, np.int64)
        self.unit = np.asarray(photos.widths, float) / 1600.0
        self.n = len(photos.xy)
        self.min_sightings, self.min_angle = settings.min_sightings, np.radians(settings.min_angle_deg)
        self.order, self.dropped = [], set()
        self.base = np.concatenate([[0], np.cumsum(self.counts)])
        self.every_xy = np.concatenate([np.asarray(x, float).reshape(-1, 2) for x in photos.xy])
        sigma = photos.sigma
        if sigma is None:
            sigma = [np.full(c, KEY_POINT_SIGMA_PX * u) for c, u in zip(self.counts, self.unit, strict=True)]
        self.every_sigma = np.concatenate([np.asarray(x, float) for x in sigma])
        self.poses = np.tile(np.eye(4), (self.n, 1, 1))
        self.solved = np.zeros(self.n, bool)
        self.reasons = {}
        self.last_free, self.last_prior = (), None
        self.take_tracks(tracks)

    def take_tracks(self, tracks=None):
        """Begin with tracks, those that the pairs make where none are given: no point is placed yet."""
        if tracks is None:
            matches = {p: g.matches for p, g in self.pairs.items()}
            for p, m in self.ties.links.items():
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
        self.normalize()

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

    def normalize(self):
        """Directions of all sightings through the present lenses."""
        self.xn = np.empty_like(self.xy)
        for m in range(len(self.lenses)):
            rows = self.lens_of[self.tracks.photo] == m
            self.xn[rows] = _unproject_many(np.ascontiguousarray(self.xy[rows]), self.lenses[m])

    def threshold(self, px):
        """A pixel threshold for a 1600-pixel photo, in normalized units for each photo."""
        return px * self.unit / self.lenses[self.lens_of, 0]

    def residuals(self):
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

    def place(self, px):
        """Place every track that has none yet; drop those that no longer hold; choose the sightings in use."""
        t = self.tracks
        threshold = self.threshold(px)
        ok = self.placed.copy()
        triangulate_tracks(
            (t.start, t.photo, self.xn), self.poses, self.solved, ~self.placed, threshold, self.min_angle, self.X, ok
        )
        self.placed = ok
        self.on = self.residuals() < px * self.unit[t.photo]
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
        if not self.settings.solve_lens:
            return []
        count = int(self.solved.sum())
        names = next(names for least, names in LENS_STEPS if count >= least)
        dropped = {PARAMETER[p] for p in {*self.dropped, *self.settings.held}}
        return sorted({*(PARAMETER[p] for p in names), *self.photos.free} - dropped)

    def adjust(self, rounds, extra=(), tolerance=1e-4, only=None):
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
            lenses=self.photos.trusted if only is None else range(len(self.lenses)),
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
            stop=self.settings.stop,
        )
        self.poses[who], self.lenses, self.X[tracks] = result.poses, result.lenses, result.points
        self.normalize()
        return result

    def _prior(self):
        """What the lenses are held by: what is known, else their starting values and how far those may be off."""
        if self.photos.prior is not None:
            return self.photos.prior
        f = self.first_lenses
        width = np.array([1600 * self.unit[self.lens_of == m].max(initial=1.0) for m in range(len(f))])
        rest = np.tile(np.array(LENS_SIGMA), (len(f), 1))
        sigma = np.hstack([FOCAL_SIGMA * f[:, :1], np.tile(CENTER_SIGMA * width[:, None], (1, 2)), rest])
        if self.photos.lens_sigma is not None:
            sigma = np.where(np.isfinite(self.photos.lens_sigma), self.photos.lens_sigma, sigma)
        return LensPrior.of_sigmas(f, sigma)

    def resume(self, poses, lenses):
        """Take photos as solved before: poses (n, 4, 4), NaN where not, and lenses (m, 10), then `run` goes on."""
        self.lenses = np.array(lenses, float)
        self.solved = np.isfinite(poses[:, 0, 0])
        self.poses[self.solved] = poses[self.solved]
        self.order = [int(i) for i in np.flatnonzero(self.solved)]
        self.normalize()
        self.place(4.0)
        self.drop_weak()

    def seen(self):
        """How many placed points each photo could be resected from."""
        t = self.tracks
        return np.bincount(t.photo[self.placed[self.track_of]], minlength=self.n)

    def round_about(self, photos):
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

    def partners(self, i):
        """Photos that match a photo, those with most matches first."""
        mine = [(len(g.matches), p[0] if p[1] == i else p[1]) for p, g in self.pairs.items() if i in p]
        return tuple(k for _, k in sorted(mine, key=lambda x: (-x[0], x[1])))

    def leave(self, i, reason):
        """Take a photo out of the block."""
        self.solved[i] = False
        self.on &= self.tracks.photo != i
        self.reasons[i] = reason

    def correct(self):
        """Take off the sightings what the present block says they are shifted by."""
        if self.settings.correct is None:
            return
        t = self.tracks
        rows = np.flatnonzero(self.placed[self.track_of] & self.solved[t.photo])
        tracks = self.track_of[rows]
        shift = self.settings.correct(t.photo[rows], t.feature[rows], tracks, self.poses, self.lenses, self.lens_of)
        self.xy[rows] = self.seen_xy[rows] - shift
        self.normalize()

    def drop_weak(self):
        """Photos that hold on to too few sightings leave the block."""
        count = np.bincount(self.tracks.photo[self.on], minlength=self.n)
        by_hand = np.bincount(self.tracks.photo[self.on & self.by_hand], minlength=self.n)
        for i in np.flatnonzero(self.solved & (count < self.min_sightings // 2) & (by_hand < LEAST_BY_HAND)):
            if self.solved.sum() <= 2:
                break
            why = f"after the adjustment only {count[i]} of its sightings agree with the other photos"
            self.leave(i, Reason(DISAGREES, why, self.partners(i)))
