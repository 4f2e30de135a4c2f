"""From photos to a block: features, matches, growing, or an adjustment alone. What the Poses stage runs.

Three ways lead to a block. To *start over* solves from nothing; features and matches of photos that have not changed
are taken from the last result, which changes no bit of the outcome. To *go on* keeps the solved photos where they are
to begin with, lets those that were set aside leave, and adds the new ones. To *adjust* takes the tie points as they
are, less those that were removed, and moves everything together once more.
"""

import time
from dataclasses import replace
from functools import cached_property, partial
from itertools import combinations

import numpy as np

from ...core.errors import UmbrateError
from ...core.features.still import still_features
from ...core.geometry.sightings import PointSightings
from ...core.poses.block import Block
from ...core.poses.choose import ALL, CHEAP, LIKENESS, NEAR, choose_pairs, largest, likeness_to, nearness
from ...core.poses.fold import find_fold
from ...core.poses.fragments import PULLED, solve
from ...core.poses.frame import upright_frame
from ...core.poses.grow import Grower
from ...core.poses.growing import FOCAL_SIGMA, KEY_POINT_SIGMA_PX
from ...core.poses.marked import SHARED, missing, solve_marked
from ...core.poses.shotorder import in_order
from ...core.poses.solution import GrowSettings, HandTies, PhotoSet, Solution
from ...core.poses.targets import TargetSightings
from ...core.poses.tracks import Tracks
from ...core.targets.detect import CODED
from ...job.blobs import BlobStore
from ...job.contents import FEATURES, MATCHES, REMOVED, TARGETS
from ...sitting.blocks import stored_block
from ...sitting.marks import without_marks
from ...sitting.removal import removed_rows
from .computed import Computed
from .contradicted import as_photos_say
from .cropped import focals_of_cropped, with_open_centers
from .figures import Shared
from .hopeless import check_different, check_moves, no_match
from .inputs import ADJUST, ELSEWHERE, MARKED, START_OVER
from .items import Wanted, feature_keys, find_features, match_key, match_photos, pairs_to_relate, relate_photos
from .lenses import CENTER, center_held, lenses_of, put_held
from .sharing import with_others

MATCHED_ANEW = 16  #: photos up to which a look from the side matches those that stand anew
LIVE_S = 1.0  #: a growing block is shown no oftener
#: settings of what comes before an adjustment
BEFORE_ADJUSTING = (
    "ties", "features", "fine", "largest_side", "around", "pairs", "neighbors", "drop_still", "ratio", "verify_px",
)  # fmt: skip


class Making:
    """The steps of a run with one look at the photos, and what they hand on."""

    def __init__(self, inputs, settings, report, look, upright=None):
        """`upright`: the Making of an upright look and which photos stood (n,), of which a slanted one is more."""
        self.inputs, self.settings, self.report, self.look = inputs, settings, report, look
        self.first_look, self.stood = upright or (None, None)
        self.blobs, self.photos = BlobStore(inputs.blobs), inputs.photos
        self.times, self._clock, self._shown = {}, time.monotonic(), 0.0
        self.before = inputs.before
        self.told, self.shared = [], Shared()
        self.counts = []  #: features of each photo, once they are found
        self.described = []  #: keys of the features of each photo, once they are found
        self.order = None  #: InOrder of the pairs, where that order is to decide
        self.orientations = np.array([p.orientation for p in self.photos])

    def _lap(self, name):
        now = time.monotonic()
        self.times[name], self._clock = now - self._clock, now

    def make(self):
        adjust_only = self.inputs.mode == ADJUST
        check_different(self.photos)
        if adjust_only and not self.inputs.joined:
            self._can_adjust()
        self._features(0.3)
        self._lap("features_s")
        before = self.before if self.inputs.mode != START_OVER else None
        self.zooms, self.crops = (dict(before.zooms), dict(before.crops)) if before else ({}, {})
        self.slip_px = before.slip_px if before else None
        self.held = () if self.slip_px is None or not center_held(self._block_before) else CENTER
        self.start_lenses()
        self.start_lenses(focals_of_cropped(self.photos) | self._focals_before())
        with_open_centers(self, self._usual_before())
        self.widths = [max(p.width, p.height) for p in self.photos]
        self._targets()
        self._marks()
        self._removed()
        if self.settings.ties == MARKED:
            return self._from_marks()
        if adjust_only:
            made = self._adjust()
            solution = Solution(made.block, made.reasons, made.bridges)
            tried, chosen = self.before.figures.pairs_tried, self.before.figures.pairs_chosen
            still, share = [], self.before.figures.still_share
            self.times["matching_s"] = 0.0
        else:
            tried, chosen, still, share = self._match()
            self._lap("matching_s")
            if self.before and self.inputs.mode != START_OVER and self.before.figures.by_order:
                self.order = self.in_order()
            solution = as_photos_say(self, self.solve())
        alone = self.zooms or self.crops or self.slip_px is not None
        if not self.inputs.joined and self.settings.solve_lens and not alone:
            solution = with_others(self, solution)
        self._lap("solving_s")
        return self._made(solution, still, share, tried, chosen)

    def in_order(self):
        """The InOrder of the pairs by the order the photos were taken in, or None."""
        vectors = np.array([x.vector for x in self.lenses])
        return in_order([len(x) for x in self.xy], self._relate(vectors))

    def again_in_order(self, made):
        """What is Computed where the order of shooting decides, or None; `made` : what was without."""
        self.order = self.in_order()
        if self.order is None:
            return None
        solution = self.solve()
        return self._made(solution, made.still, made.still_share, made.tried, made.chosen)

    def start_lenses(self, focals=None):
        """Lenses to start from, apart by sitting and zoom; each cropped photo has one of its own."""
        apart = dict(self.inputs.apart)
        for i, zoom in self.zooms.items():
            apart[i] = (apart.get(i), zoom)
        for i in self.crops:
            apart[i] = (apart.get(i), "cropped", i)
        self.lenses, self.lens_of, self.guessed, self.trusted, self.lens_sigma = lenses_of(
            self.photos, self.inputs.groups, apart, focals
        )

    def _focals_before(self):
        """Focal lengths of the last block by photo id, where its photos found others than their files say.

        Held to the files they would be pulled back there.
        """
        if self.inputs.mode == START_OVER or self.before is None:
            return {}
        out = {}
        for p, k in zip(self.photos, self.lens_of, strict=True):
            row = self._block_before.row_of(p.id)
            if row is None:
                continue
            f, held = self._block_before.lens_vector(row)[0], self.lens_sigma[k, 0]
            held = held if np.isfinite(held) else FOCAL_SIGMA * self.lenses[k].f
            if self.zooms or abs(f - self.lenses[k].f) > PULLED * held:
                out[p.id] = float(f)
        return out

    def _usual_before(self):
        """Lenses of the last block that cropped photos have, but for their center, by photo id."""
        rows = {i: self._block_before.solved_row(usual) for i, usual in self.crops.items()}
        return {i: self._block_before.lens_vector(k) for i, k in rows.items() if k is not None}

    def _told_by_order(self, block):
        """Whether the order of shooting decided, and how many rounds nothing ties to the block."""
        if self.inputs.mode == ADJUST and self.before:
            return {"by_order": self.before.figures.by_order, "loose": self.before.figures.loose}
        if self.order is None:
            return {}
        # marks may have tied what the pairs left loose
        rounds = self.order.rounds if self.order.loose else []
        return {"by_order": True, "loose": sum(not block.solved[r].any() for r in rounds)}

    def _made(self, solution, still, share, tried, chosen):
        return Computed(
            solution, still, share, self.targets, self.xy, self.counts, self.lenses, self.guessed, tried, chosen,
            self.times, self.artefacts, self.fingerprints, self.mark_at, self.told, self.shared, self.look,
            None if self.inputs.joined else find_fold(solution.block.poses), zooms=self.zooms, crops=self.crops,
            slip_px=self.slip_px, **self._told_by_order(solution.block),
        )  # fmt: skip

    def _marks(self):
        """Points marked by hand: more rows of pixels behind features and targets, and the links they make."""
        row = {p.id: k for k, p in enumerate(self.photos)}
        self.mark_at, self.links, self.seen_marks = {}, {}, {}
        for mark, _, sightings in self.inputs.marks:
            mine = sorted((row[i], x, y, s) for i, x, y, s in sightings if i in row)
            at = []
            for k, x, y, s in mine:
                at.append((k, len(self.xy[k])))
                self.xy[k] = np.vstack([self.xy[k], [x, y]])
                self.sigma[k] = np.append(self.sigma[k], s)
                self.mark_at[at[-1]] = mark
            for a, b in combinations(at, 2):
                self.links.setdefault((a[0], b[0]), []).append((a[1], b[1]))
            if len(mine) >= 2:
                self.seen_marks[mark] = PointSightings(
                    np.array([m[0] for m in mine]), np.array([m[1:3] for m in mine]), np.array([m[3] for m in mine])
                )
        self.links = {p: np.array(m, np.int64) for p, m in self.links.items()}

    def _from_marks(self):
        """A block from marked points alone."""
        names = [p.name for p in self.photos]
        numbers = [
            np.array([m for (i, _), m in sorted(self.mark_at.items()) if i == k], int) for k in range(len(names))
        ]
        rows = [np.array([f for (i, f) in sorted(self.mark_at) if i == k], int) for k in range(len(names))]
        told, able = missing(numbers, names)
        if not able:
            raise UmbrateError(
                f"Poses from marked points alone need {SHARED} points that two photos share. " + " ".join(told[:3]),
                ("mark points",),
            )
        self.report.progress(0.5, "solving from marked points")
        grown = solve_marked(
            [self.xy[k][r] for k, r in enumerate(rows)], numbers, np.array([x.vector for x in self.lenses]),
            self.lens_of, [self.sigma[k][r] for k, r in enumerate(rows)], self.settings.seed,
        )  # fmt: skip
        b = grown.block
        b = replace(b, feature=np.array([rows[i][f] for i, f in zip(b.photo, b.feature, strict=True)], np.int64))
        self._lap("solving_s")
        self.times["matching_s"] = 0.0
        return self._made(Solution(b, grown.reasons), [], 0.0, 0, "marks")

    def _can_adjust(self):
        """Raise where settings have changed that an adjustment does not apply: it would pass for one made with them."""
        now = self.settings.model_dump(mode="json")
        other = [n for n in BEFORE_ADJUSTING if self.before.settings.get(n, now[n]) != now[n]]
        if other:
            fields = type(self.settings).model_fields
            names = ", ".join(f"“{fields[n].title}”" for n in other)
            raise UmbrateError(
                f"An adjustment alone does not apply {names}, which changed since the photos were solved. Run Poses.",
                ("run again",),
            )

    def _features(self, end):
        i, b = self.inputs, self.before
        if self.settings.ties == MARKED:
            self.fingerprints = {p.id: "" for p in self.photos}
            self.places = list(np.zeros((len(self.photos), 0, 2), np.float32))
            self.counts, self.artefacts = [0] * len(self.photos), {}
            return
        if i.joined:
            self.fingerprints = {p.id: b.made_from.get(p.id, "") for p in self.photos}
        else:
            self.fingerprints = feature_keys(i, self.settings, self.look)
        cached = (
            {k: key for k, key in b.features.items() if b.made_from.get(k) == self.fingerprints.get(k)} if b else {}
        )
        before = self.first_look.artefacts.items() if self.first_look else ()
        upright = {photo: key for (name, photo), key in before if name == "features"}
        items = [Wanted(p, i.masks.get(p.id), cached.get(p.id), upright.get(p.id)) for p in self.photos]
        find = partial(find_features, i.blobs, self.settings, self.look)
        self.described = self.report.map(find, items, "features of photo", 0.0, end)
        self.places = [self.blobs.get_arrays(key, FEATURES)["xy"] for key in self.described]
        self.counts = [len(x) for x in self.places]
        self.artefacts = {("features", p.id): key for p, key in zip(self.photos, self.described, strict=True)}

    def _targets(self):
        """The targets' sightings, and with them all pixels and their standard deviations."""
        numbers, dots = [], []
        for p in self.photos:
            t = self.blobs.get_arrays(self.inputs.targets[p.id], TARGETS) if p.id in self.inputs.targets else None
            coded = t["kind"] == CODED if t else np.zeros(0, bool)
            numbers.append(self._own_numbers(p, t["number"][coded]) if t else np.zeros(0, int))
            dots.append(t["dots"][coded] if t else np.zeros((0, 12)))
        every = np.concatenate(numbers)
        use = self.settings.use_targets and len(np.unique(every)) < len(every) and self.settings.ties != MARKED
        self.targets = TargetSightings(self.counts, numbers, dots) if use else None
        self.xy = self.places
        both = zip(self.counts, self.widths, strict=True)
        self.sigma = [np.full(c, KEY_POINT_SIGMA_PX * w / 1600.0) for c, w in both]
        if use:
            self.xy = [np.vstack([a, b]) for a, b in zip(self.xy, self.targets.xy, strict=True)]
            self.sigma = [np.concatenate([a, b]) for a, b in zip(self.sigma, self.targets.sigma, strict=True)]

    def _own_numbers(self, photo, numbers):
        """Numbers of targets, those of another member's support as numbers of their own."""
        member = self.inputs.foreign.get(photo.id, 0)
        return np.where(np.isin(numbers, self.inputs.support), numbers + member * ELSEWHERE, numbers)

    def _removed(self):
        """Which features and targets of each photo were taken out by hand: bool arrays."""
        self.out = [np.zeros(len(x), bool) for x in self.xy]
        if not self.inputs.removed:
            return
        arrays = self.blobs.get_arrays(self.inputs.removed, REMOVED)
        made_from = (self.first_look or self).fingerprints  # upright features come first: what was removed stays out
        for k, p in enumerate(self.photos):
            numbers = self.targets.numbers[k] if self.targets else np.zeros(0, int)
            gone = removed_rows(arrays, p.id, made_from[p.id], numbers, self.counts[k])
            # a place with two directions is two features: both go
            places = np.ascontiguousarray(self.xy[k], np.float64).view("V16").ravel()
            self.out[k] = np.isin(places, places[gone])

    # ------------------------------------------------------------------ matching
    def _cached_matches(self):
        """Matches of the last run between photos whose features are the same, by pair of rows."""
        b = self.before
        if b is None or b.matches is None or b.match_key != match_key(self.settings):
            return {}
        row = {p.id: k for k, p in enumerate(self.photos) if b.made_from.get(p.id) == self.fingerprints[p.id]}
        try:
            a = self.blobs.get_arrays(b.matches, MATCHES)
        except UmbrateError:
            return {}
        out = {}
        for (i, j), m in zip(a["photo_ids"][a["pair"]], np.split(a["rows"], a["start"][1:-1]), strict=True):
            if i in row and j in row:
                i, j = row[i], row[j]
                out[(i, j) if i < j else (j, i)] = m if i < j else m[:, ::-1]
        return out

    def _upright_matches(self):
        """Matches of the look before between photos that stood in it: its features come first here, too.

        None of a few photos, where more matches cost little and are worth more.
        """
        if len(self.photos) <= MATCHED_ANEW:
            return {}
        return {(i, j): m for (i, j), m in self.first_look.alike.items() if self.stood[i] and self.stood[j]}

    def _choose(self, start, end):
        """The pairs to match, and how they were chosen."""
        n, how = len(self.photos), self.settings.pairs
        poses = self._poses_before()
        if how == "by itself":
            how = ALL if n <= CHEAP else NEAR if poses is not None else LIKENESS
        if how == NEAR and poses is None:
            how = LIKENESS
        if how == ALL:
            return choose_pairs(ALL, n, 0), ALL
        found = (self.blobs.get_arrays(key, FEATURES) for key in self.described)
        tops = [largest(f["scale"], f["descriptors"], f["xy"]) for f in found]
        rows = self.report.map(partial(likeness_to, tops, self.widths), range(n), "comparing photo", start, end)
        like = np.array(rows)
        near = nearness(poses) if how == NEAR else None
        return choose_pairs(how, n, self.settings.neighbors, like + like.T, near), how

    def _poses_before(self):
        """Poses (n, 4, 4) of the last block, NaN where there is none; None unless going on."""
        if self.inputs.mode == START_OVER or self.before is None:
            return None
        b, none = self._block_before, np.full((4, 4), np.nan)
        return np.array([none if (k := b.solved_row(p.id)) is None else b.poses[k] for p in self.photos])

    @cached_property
    def _block_before(self):
        return stored_block(self.blobs, self.before.block)

    def _match(self):
        todo, chosen = self._choose(0.3, 0.34)
        cached = self._cached_matches() if self.stood is None else self._upright_matches()
        work = partial(match_photos, self.inputs.blobs, self.settings.ratio, self.look)

        def keys(ij):
            return self.described[ij[0]], self.described[ij[1]]

        check_moves(self, lambda ij: cached[ij] if ij in cached else work(keys(ij)))
        new = [ij for ij in todo if ij not in cached]
        made = dict(zip(new, self.report.map(work, map(keys, new), "matching pair", 0.34, 0.6), strict=True))
        found = [cached[ij] if ij in cached else made[ij] for ij in todo]
        self.alike = dict(zip(todo, found, strict=True))
        self.artefacts[("matches", None)] = self.blobs.put_arrays(
            photo_ids=np.array([p.id for p in self.photos]),
            pair=np.array(todo, np.int32).reshape(-1, 2),
            start=np.cumsum([0, *map(len, found)]),
            rows=np.vstack([np.zeros((0, 2), np.int32), *found]).astype(np.int32),
        )
        if self.targets:
            found = [np.vstack([m, self.targets.matches(i, j)]) for (i, j), m in zip(todo, found, strict=True)]
        matches = dict(zip(todo, found, strict=True))
        still, share = still_features([len(x) for x in self.xy], self.xy, matches, self.widths)
        out = [o | s if self.settings.drop_still else o for o, s in zip(self.out, still, strict=True)]
        self.matches = {(i, j): m[~out[i][m[:, 0]] & ~out[j][m[:, 1]]] for (i, j), m in matches.items()}
        return len(todo), chosen, still, share

    def _relate(self, vectors):
        """Verified pairs, with lens vectors (m, 10)."""
        items = pairs_to_relate(self.matches, self.xy, [vectors[k] for k in self.lens_of], self.widths, self.settings)
        related = self.report.map(relate_photos, items, "verifying pair", 0.6, 0.65)
        both = zip(self.matches.items(), related, strict=True)
        return {ij: replace(g, matches=m[g.matches[:, 0]]) for (ij, m), g in both if g is not None}

    # ------------------------------------------------------------------ solving
    def photo_set(self):
        lenses = np.array([x.vector for x in self.lenses])
        return PhotoSet(self.xy, lenses, self.lens_of, self.widths, self.trusted, self.lens_sigma, self.sigma)

    def ties(self):
        return HandTies(self.links, self._same_targets(), tuple(self.mark_at))

    def grow_settings(self):
        s = self.settings
        return GrowSettings(
            min_sightings=s.min_sightings,
            min_angle_deg=s.min_angle_deg,
            solve_lens=s.solve_lens,
            significant=s.lens_parameters == "if significant",
            held=tuple({*self.held, *(n for g in self.inputs.groups for n in g.held)}),
            correct=self.targets.shifts if self.targets else None,
            seed=s.seed,
            report=self._tell,
            stop=self.report.check,
        )

    def _same_targets(self):
        """Rows of targets with one number, for every pair of photos."""
        if not self.targets:
            return {}
        pairs = {p: self.targets.matches(*p) for p in combinations(range(len(self.photos)), 2)}
        return {(i, j): m[~self.out[i][m[:, 0]] & ~self.out[j][m[:, 1]]] for (i, j), m in pairs.items() if len(m)}

    def solve(self):
        vectors = np.array([x.vector for x in self.lenses])
        poses = self._poses_before()
        resume = None
        if poses is not None and np.isfinite(poses[:, 0, 0]).sum() >= 2:
            resume = poses, self._lenses_before(vectors)
        self.first = self._relate(vectors)
        if not self.first:
            raise no_match(self)

        def relate_with(v):
            pairs = self.first if np.array_equal(v, vectors) else self._relate(v)
            return pairs if self.order is None else {p: g for p, g in pairs.items() if p in self.order.pairs}

        return solve(
            self.photo_set(), relate_with, self.ties(), self.grow_settings(), resume=resume, marks=self.seen_marks
        )

    def _lenses_before(self, vectors):
        """Lenses of the last block, by the photos they belong to; those of new photos as they are."""
        out = vectors.copy()
        for p, k in zip(self.photos, self.lens_of, strict=True):
            row = self._block_before.row_of(p.id)
            if row is not None and k not in self.trusted:
                out[k] = self._block_before.lens_vector(row)
        put_held(out, self.photos, self.lens_of, self.inputs.groups)
        return out

    def _adjust(self):
        """The last block's tie points, less what was removed, adjusted together."""
        b = without_marks(self._block_before)
        row = {p.id: k for k, p in enumerate(self.photos)}
        photo, feature = np.array([row.get(int(i), -1) for i in b.photo_ids])[b.photo], b.feature
        # rows of targets follow those of the features; both are where they were, or the sighting is gone
        sizes = np.array([len(x) for x in self.xy])
        same = {p.id for p in self.photos if self.before.made_from.get(p.id) == self.fingerprints[p.id]}
        kept = np.array([int(i) in same for i in b.photo_ids])[b.photo]
        use = (photo >= 0) & kept
        use[use] = feature[use] < sizes[photo[use]]
        use[use] = [not self.out[i][f] for i, f in zip(photo[use], feature[use], strict=True)]
        photo, feature, point = photo[use], feature[use], b.point[use]
        count = np.bincount(point, minlength=len(b.points))
        two = count[point] >= 2
        photo, feature, point = photo[two], feature[two], point[two]
        start = np.flatnonzero(np.r_[True, point[1:] != point[:-1], True]) if len(point) else np.zeros(1, int)
        if len(start) - 1 < self.settings.min_sightings:
            raise UmbrateError(
                "Too few of the tie points that were solved are left to adjust. Run Poses anew.", ("run again",)
            )
        photo, feature, start = self._with_marks(photo, feature, start)
        self.report.progress(0.6, "adjusting")
        photos = self.photo_set()
        tracks = Tracks(start.astype(np.int64), photo.astype(np.int64), feature.astype(np.int64))
        grower = Grower(photos, {}, self.ties(), self.grow_settings(), tracks=tracks)
        grower.resume(self._poses_before(), self._lenses_before(photos.lenses))
        return grower.adjust_only()

    def _with_marks(self, photo, feature, start):
        """Tracks with those of the marked points behind them."""
        by_mark = {}
        for (i, f), mark in sorted(self.mark_at.items()):
            by_mark.setdefault(mark, []).append((i, f))
        for mark in sorted(by_mark):
            seen = by_mark[mark]
            if len(seen) >= 2:
                photo = np.append(photo, [i for i, _ in seen])
                feature = np.append(feature, [f for _, f in seen])
                start = np.append(start, len(photo))
        return photo, feature, start

    def _tell(self, solved, total, sentence, grower):
        self.report.progress(0.65 + 0.3 * solved / total, sentence, **{"tie points": int(grower.placed.sum())})
        now = time.monotonic()
        if solved < total and now - self._shown < LIVE_S:
            return  # drawing it takes time from computing it
        self._shown = now
        on, points = grower.solved, grower.X[grower.placed]
        if not len(points):
            return
        so_far = Block.without_sightings(
            grower.poses[on], grower.lenses.copy(), grower.lens_of[on], points,
            photo_ids=np.array([p.id for p in self.photos])[on],
            sizes=np.array([[p.width, p.height] for p in self.photos])[on],
        )  # fmt: skip
        self.report.live("block", so_far.moved(upright_frame(so_far.poses, points, self.orientations[on])))
