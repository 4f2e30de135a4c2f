"""Poses of hard sets: folds, told by where photos stand, zooms that were moved, and rows that slipped."""

import unittest
from dataclasses import MISSING, fields, replace
from pathlib import Path
from types import SimpleNamespace
from unittest import mock

import numpy as np
from PIL import Image
from scipy.ndimage import gaussian_filter

from tests.scenes import made_once, pebble_set, pebble_truth, scratch
from tests.test_grow import LENS, grow, made_up_block
from tests.test_stages import new_job, state
from umbrate.actions.delivering import camera_rows
from umbrate.core.errors import Cancelled, CannotKeep, UmbrateError
from umbrate.core.geometry.pose import look_at, pose
from umbrate.core.geometry.rotation import rotation_matrix
from umbrate.core.poses.block import Block
from umbrate.core.poses.fold import Fold, find_fold
from umbrate.core.poses.shotorder import InOrder, in_order
from umbrate.core.poses.solution import NO_OVERLAP, PairGeometry, Reason
from umbrate.core.poses.zoom import Zooms, group_focals, own_lenses, regrouped
from umbrate.job.store import Job
from umbrate.sitting.frames import load_block
from umbrate.stages import BY_NAME
from umbrate.stages.base import settings_of
from umbrate.stages.poses import contradicted, looks, solving
from umbrate.stages.poses.computed import Computed
from umbrate.stages.poses.contradicted import SLIP_LEFT
from umbrate.stages.poses.cropped import cropped, focals_of_cropped
from umbrate.stages.poses.lenses import center_held
from umbrate.stages.poses.outcome import _slips
from umbrate.stages.poses.reasons import doubt_of, why_left_out
from umbrate.work.adding import read_folder, take_in
from umbrate.work.now import run_now


def ring(angles_deg, height_deg=30.0, rng=None, noise_deg=0.3):
    """Poses (n, 4, 4) of a turntable's ring at these angles, not quite exact."""
    rng = rng or np.random.default_rng(0)
    out = []
    for a in np.radians(angles_deg + noise_deg * rng.normal(size=len(angles_deg))):
        e = np.radians(height_deg)
        eye = 10 * np.array([np.cos(e) * np.cos(a), np.cos(e) * np.sin(a), np.sin(e)])
        out.append(look_at(eye, np.zeros(3)))
    return np.array(out)


def hand(n, rng):
    """Poses of photos by hand, no two from one place."""
    eyes = rng.normal(size=(n, 3)) * [10, 10, 2] + [0, 0, 6]
    roll = [pose(rotation_matrix(np.array([0, 0, a])), np.zeros(3)) for a in rng.normal(0, 0.2, n)]
    return np.array([r @ look_at(e, rng.normal(0, 0.5, 3)) for e, r in zip(eyes, roll, strict=True)])


class Folds(unittest.TestCase):
    def test_a_folded_ring_is_found_at_any_symmetry_and_step(self):
        for sides in (2, 3, 4, 6):
            for n in (12, 18, 24, 36):
                step = 360.0 / n
                if 360 / sides / step < 2:
                    continue
                angles = (step * np.arange(n)) % (360.0 / sides)
                found = find_fold(np.concatenate([ring(angles), ring(angles, 50.0)]))
                self.assertIsNotNone(found, (sides, n))
                self.assertEqual(found.photos, 2 * n)
                if step > 8:
                    self.assertEqual(found.places, 2 * len(set(np.round(angles, 6))))

    def test_rings_rounds_bursts_and_walks_are_none(self):
        rng = np.random.default_rng(1)
        steps = 15.0 * np.arange(24)
        self.assertIsNone(find_fold(ring(steps)))
        self.assertIsNone(find_fold(np.concatenate([ring(steps), ring(steps + 7, 50.0)])))
        self.assertIsNone(find_fold(ring(15.0 * np.arange(48))))  # turned round twice
        self.assertIsNone(find_fold(ring(np.repeat(steps, 3))))  # three shots each
        self.assertIsNone(find_fold(ring(1.0 * np.arange(300))))  # a video
        for seed in range(20):
            self.assertIsNone(find_fold(hand(40, np.random.default_rng(seed))))
        self.assertIsNone(find_fold(ring(steps[:4])))
        # photos that do not stand do not count
        some = ring(steps)
        some[rng.random(24) < 0.3] = np.nan
        self.assertIsNone(find_fold(some))
        folded = ring(steps % 90)
        folded[[3, 9]] = np.nan
        self.assertEqual(find_fold(folded).photos, 22)


def around(deg):
    """The turn about the vertical."""
    return rotation_matrix([0.0, 0.0, np.radians(deg)])


class Order(unittest.TestCase):
    """Two rounds of twelve photos of an object with four equal sides: what matches is which photo sees what."""

    ALIKE = 40  #: features that each photo sees of the side before it, the same on every side

    def rounds(self, rng, order=None, between=3, step=30.0, leap=60.0):
        """Features of each photo and pairs, in an order of shooting; and which are true.

        Photos see `between` features that are on one side only, in both rounds, and as many in one round alone.
        """
        n = 24
        order = np.arange(n) if order is None else order
        azimuth, height = step * (order % 12) + np.where(order < 12, 0.0, leap), np.where(order < 12, 20.0, 45.0)
        # each third of a right angle has features of its own: those that both rounds see, and of either
        places = [np.flatnonzero((np.arange(12) - a // step) % 12 < 4) for a in azimuth]
        own = [
            {
                (int(p), r, m): 0
                for p in at
                for r in ("both", int(o // 12))
                for m in range(3 if r != "both" else between)
            }
            for at, o in zip(places, order, strict=True)
        ]
        rows = [{x: self.ALIKE + k for k, x in enumerate(mine)} for mine in own]
        turns = [rotation_matrix(np.radians([h, 0.0, 0.0])) @ around(a) for a, h in zip(azimuth, height, strict=True)]
        pairs, true = {}, set()
        for i in range(n):
            for j in range(i + 1, n):
                apart = (azimuth[j] - azimuth[i] + 180) % 360 - 180
                near = [q for q in range(-2, 3) if abs(apart + 90 * q) <= 45]
                if not near:
                    continue
                q = near[0] if len(near) == 1 else min(near, key=lambda q: (abs(q), rng.random()))
                alike = np.flatnonzero(rng.random(self.ALIKE) < 0.8)
                m = [(k, k) for k in alike]
                if q == 0:
                    true.add((i, j))
                    m += [(r, rows[j][x]) for x, r in rows[i].items() if x in rows[j]]
                E = np.eye(4)
                E[:3, :3] = rotation_matrix(rng.normal(0, 0.02, 3)) @ turns[j] @ around(90.0 * q) @ turns[i].T
                pairs[i, j] = PairGeometry(np.array(m), E, abs(apart + 90 * q) + 1.0)
        return [self.ALIKE + len(r) for r in rows], pairs, true

    def test_the_order_and_what_is_on_one_side_only_leave_the_true_pairs(self):
        for seed, leap in enumerate((60.0, 330.0, 150.0)):
            counts, pairs, true = self.rounds(np.random.default_rng(seed), leap=leap)
            self.assertLess(len(true), 0.4 * len(pairs))
            told = in_order(counts, pairs)
            self.assertEqual([len(r) for r in told.rounds], [12, 12])
            self.assertEqual(told.loose, ())
            self.assertEqual(set(told.pairs), true)

    def test_rounds_that_nothing_ties_are_left_loose_and_true_in_themselves(self):
        for seed in range(3):
            counts, pairs, true = self.rounds(np.random.default_rng(seed), between=0)
            told = in_order(counts, pairs)
            self.assertEqual(told.loose, (1,))
            self.assertEqual(set(told.pairs), {(i, j) for i, j in true if (i < 12) == (j < 12)})

    def test_photos_in_no_order_tell_nothing(self):
        for seed in range(5):
            rng = np.random.default_rng(seed)
            counts, pairs, _ = self.rounds(rng, rng.permutation(24))
            self.assertIsNone(in_order(counts, pairs))


class Cropped(unittest.TestCase):
    """Which photos are parts of others, by what files say and what was found."""

    @staticmethod
    def photo(i, w=1600, h=1200, camera="M 1", wide=1.2, focal_mm=50.0):
        focal = None if wide is None else wide * float(np.hypot(w, h))
        return SimpleNamespace(id=i, width=w, height=h, camera=camera, focal_px=focal, focal_mm=focal_mm)

    def test_by_shape_where_files_tell_and_by_the_focal_length_found(self):
        whole = [self.photo(i) for i in range(4)] + [self.photo(4, 1200, 1600)]
        part, small = self.photo(5, 900, 1000), self.photo(6, 800, 600)
        other, square = self.photo(7, 900, 1000, camera="M 2"), self.photo(8, 1100, 1100, focal_mm=35.0)
        photos = [*whole, part, small, other, square]
        self.assertEqual(focals_of_cropped(photos), {5: 2400.0})
        focal = np.array([2400.0] * 5 + [2410, 1190, 2400, 1800])
        self.assertEqual(cropped(photos, focal), {5: 0})  # the smaller one was resized, the others are of other lenses
        focal[6] = 2390  # a crop of the same shape
        self.assertEqual(set(cropped(photos, focal)), {5, 6})
        self.assertEqual(set(cropped(photos, focal, trusted=(0, 1, 2, 3, 4, 5))), {6})
        focal[5] = np.nan  # it does not stand
        self.assertEqual(set(cropped(photos, focal)), {6})
        # files without EXIF
        bare = [self.photo(i, p.width, p.height, "", None, None) for i, p in enumerate(photos[:7])]
        self.assertEqual((focals_of_cropped(bare), cropped(bare, [2400.0] * 7)), ({}, {5: 0, 6: 0}))
        self.assertEqual(cropped(bare[2:7:2], [2400.0] * 3), {})  # too few that are whole


class ByZoom(unittest.TestCase):
    """Photos of a made-up block, some of them taken with the zoom moved."""

    @staticmethod
    def found(seed, zoom, noise_px=0.4):
        """The Zooms found where photo i was taken with zoom[i] times the focal length; and the block."""
        xy, pairs, _ = made_up_block(np.random.default_rng(seed), 14, 400, noise_px, 0.02, loner=False)
        middle = np.array([LENS.cx, LENS.cy])
        block = grow([middle + z * (x - middle) for x, z in zip(xy, zoom, strict=True)], pairs).block
        return group_focals(own_lenses(block).focal, block.lens_of), block

    def test_photos_are_grouped_by_the_zoom_they_were_taken_with(self):
        zoom = np.ones(14)
        zoom[[1, 4, 5, 9]], zoom[12] = 0.8, 1.25
        zooms, block = self.found(1, zoom)
        self.assertEqual(block.solved.sum(), 14)
        self.assertEqual(len(zooms.focal), 3)
        for z in (0.8, 1.0, 1.25):
            (group,) = set(zooms.group[zoom == z].tolist())
            self.assertAlmostEqual(zooms.focal[group] / zooms.focal[0], z, delta=0.08)  # to start from
        self.assertEqual(zooms.group[0], 0)  # the largest group comes first

    def test_one_zoom_is_never_taken_for_several(self):
        for seed in range(5):
            for noise in (0.3, 1.0):
                self.assertIsNone(self.found(10 + seed, np.ones(14), noise)[0])

    def test_a_photo_that_was_sorted_wrongly_or_not_at_all_comes_to_its_group_by_the_better_block(self):
        rng = np.random.default_rng(5)
        lens_of = np.repeat([0, 1], [12, 6])
        group = np.array([0] * 6 + [1] * 4 + [2] * 2 + [3] * 4 + [4] * 2)
        true = np.array([2000.0, 1600, 2400, 2000, 1500])  # the last two are another lens's
        zooms = Zooms(np.array(group), true * rng.uniform(0.97, 1.03, 5), np.array([0, 0, 0, 1, 1]))
        own = true[group] * rng.uniform(0.985, 1.015, 18)
        self.assertIsNone(regrouped(zooms, own, lens_of))
        for k, meanwhile, focal in ((10, -1, own[10]), (7, 0, own[7]), (14, -1, own[14]), (13, 4, own[13])):
            wrong = Zooms(np.where(np.arange(18) == k, meanwhile, group), zooms.focal, zooms.lens)
            found = regrouped(wrong, np.where(np.arange(18) == k, focal, own), lens_of)
            if k == 14:  # it has the lens of the largest group by itself
                self.assertIsNone(found)
            else:
                self.assertEqual(found.group.tolist(), group.tolist(), k)
                np.testing.assert_allclose(found.focal, true, rtol=0.015)
        nothing = own.copy()
        nothing[10] = np.nan  # nobody knows
        missing = Zooms(np.where(np.arange(18) == 10, -1, group), zooms.focal, zooms.lens)
        self.assertIsNone(regrouped(missing, nothing, lens_of))


class Slips(unittest.TestCase):
    """Photos of a made-up block whose rows slipped against each other."""

    @staticmethod
    def found(seed, slip, noise_px=0.4):
        """The OwnLenses where a row of photo i slipped by slip[i] (along, across) for each pixel that it is lower."""
        xy, pairs, _ = made_up_block(np.random.default_rng(seed), 14, 400, noise_px, 0.02, loner=False)
        xy = [x + (x[:, 1:] - LENS.cy) * s for x, s in zip(xy, slip, strict=True)]
        return own_lenses(grow(xy, pairs).block)

    def test_the_slip_of_each_photo_is_found_and_explains_what_is_left(self):
        for seed in range(3):
            slip = np.random.default_rng(seed).normal(0, 0.006, (14, 2))
            own = self.found(seed, slip)
            self.assertLess(own.left, SLIP_LEFT)
            # what all slip alike a lens could do as well, and the shape of the object
            off = own.slip - slip
            self.assertLess(np.abs(off - np.median(off, axis=0)).mean(), 0.6 * np.abs(slip).mean())
            self.assertGreater(np.corrcoef(own.slip.ravel(), slip.ravel())[0, 1], 0.8)

    def test_photos_that_were_read_at_once_have_none(self):
        for seed in range(5):
            for noise in (0.3, 1.0):
                self.assertGreater(self.found(10 + seed, np.zeros((14, 2)), noise).left, SLIP_LEFT + 0.05)


ZOOMED = (1, 4, 5, 9)  #: photos of the pebble that are taken 1.25 times nearer


def changed_set(name, change):
    """The pebble's photos after ``change(k, photo)``, which their files do not say."""

    def make(folder):
        (folder / "masks").mkdir(parents=True)
        for k, file in enumerate(sorted((pebble_set() / "by-hand").glob("*.jpg"))):
            for path, place in ((file, folder), (file.parent / "masks" / f"{file.stem}.png", folder / "masks")):
                with Image.open(path) as photo:
                    exif = photo.getexif()
                    photo = change(k, photo.convert("RGB"))
                    photo = photo if place == folder else photo.convert("1", dither=Image.Dither.NONE)
                    photo.save(place / path.name, **({"quality": 95, "exif": exif} if place == folder else {}))

    return made_once(name, make)


def zoomed(k, photo):
    """Some photos with the zoom moved."""
    w, h = photo.size
    box = (0.1 * w, 0.1 * h, 0.9 * w, 0.9 * h)
    return photo.resize((w, h), Image.Resampling.BICUBIC, box) if k in ZOOMED else photo


def box_of(k, photo):
    """What is left of a photo that is cropped, in shares of it."""
    w, h = photo.size
    left, top = (0.02, 0.14) if k % 2 else (0.16, 0.03)
    return round(left * w), round(top * h), round((left + 0.82) * w), round((top + 0.8) * h)


def cut(k, photo):
    """Some photos cropped, not round their middle."""
    return photo.crop(box_of(k, photo)) if k in ZOOMED else photo


def slipped(k, photo):
    """All photos read row by row while the camera moved."""
    (a, b), middle = np.random.default_rng(k).normal(0, 0.005, 2), photo.height / 2
    whence = (1, -a, a * middle, 0, 1 - b, b * middle)
    return photo.transform(photo.size, Image.Transform.AFFINE, whence, Image.Resampling.BICUBIC)


class Looks(unittest.TestCase):
    """Which look is taken, by what each would give: made-up runs."""

    def taken(self, stands, folds=(), counts=2000, photos=8):
        """The looks that were taken in turn, and what came of it; `stands`: photos that stand, by look."""
        looked = []

        class Made:
            def __init__(self, inputs, settings, report, look, upright=None):
                self.inputs, self.settings, self.report, self.look = inputs, settings, report, look
                self.photos, self.counts = inputs.photos, [counts] * photos

            def make(self):
                looked.append(self.look)
                if self.look not in stands:
                    raise UmbrateError("nothing stands")
                if isinstance(stands[self.look], Exception):
                    raise stands[self.look]
                solved = np.arange(photos) < stands[self.look]
                block = mock.Mock(solved=solved)
                fold = Fold(4, 2) if self.look in folds else None
                needed = (f for f in fields(Computed) if f.default is MISSING and f.default_factory is MISSING)
                rest = {f.name: None for f in needed} | {"solution": mock.Mock(block=block, fragments=[])}
                return replace(Computed(**rest), fold=fold, look=self.look)

        inputs = mock.Mock(before=None, mode="start over", photos=[None] * photos, masks={}, blobs=str(scratch()))
        settings = mock.Mock(features=6000, around="never", ties="all")
        with mock.patch.object(looks, "Making", Made), mock.patch.object(looks, "_in_order", lambda making, made: made):
            return looked, looks._better_look(inputs, settings, mock.Mock())[1]

    def test_one_looks_from_the_side_where_few_sharp_photos_stay_out_and_keeps_what_is_better(self):
        looked, made = self.taken({1: 5, 5: 8}, counts=3000)
        self.assertEqual((looked, made.look, made.first_solved), ([1, 5], 5, 5))
        looked, made = self.taken({1: 5, 5: 5}, counts=3000)
        self.assertEqual((looked, made.look, made.first_solved), ([1, 5], 1, None))
        looked, made = self.taken({1: 4, 2: 6, 6: 8})  # fainter ones first
        self.assertEqual((looked, made.look, made.first_solved), ([1, 2, 6], 6, 4))
        looked, made = self.taken({1: 4, 2: 8})
        self.assertEqual((looked, made.look), ([1, 2], 2))

    def test_a_stop_or_a_full_disk_in_a_second_look_ends_the_run(self):
        for error in (Cancelled(), CannotKeep("full")):
            with self.assertRaises(type(error)):
                self.taken({1: 5, 5: error}, counts=3000)

    def test_no_look_from_the_side_where_it_helps_nothing_or_costs_too_much(self):
        for stands, more in (
            ({1: 8}, {}),  # all stand
            ({1: 5}, {"folds": (1,), "counts": 3000}),  # sides look alike
            ({1: 5, 2: 5}, {"counts": 500}),  # blank or blurred
            ({1: 78}, {"photos": 80, "counts": 3000}),  # two of many
            ({1: 50}, {"photos": 80, "counts": 3000}),  # many
        ):
            self.assertFalse({5, 6} & set(self.taken(stands, **more)[0]), stands)


class InTheStage(unittest.TestCase):
    """What the stage does of it, and says."""

    def taken_in(self, folder):
        """A job with the photos of a folder, before Poses, and its sitting."""
        job = Job.create(Path(scratch()) / "job")
        self.addCleanup(job.close)
        s, _, _ = take_in(job, "By hand", read_folder(folder, folder / "masks"))
        for stage in ("photos", "masks", "lens"):
            run_now(job, s, stage)
        return job, s

    def test_slipped_rows_are_told_and_the_center_of_the_lens_is_held_or_the_block_doubtful(self):
        job, s = self.taken_in(changed_set("slipped", slipped))

        def worst():
            rows, *_ = camera_rows(job, s)
            figures, _ = pebble_truth().judge_poses("By hand", {r["name"]: r["pose"] for r in rows})
            return figures["rotation_deg_max"]

        out = run_now(job, s, "poses")
        self.assertEqual((out.figures.solved, out.figures.doubt), (12, ""))
        self.assertGreater(out.figures.slip_px, 2)
        self.assertIn("row by row", " ".join(p["text"] for p in out.problems))
        self.assertTrue(center_held(load_block(job, s)))
        held = worst()
        self.assertLess(held, 1.3)  # a photo that slipped by half a percent is turned by half of that
        again = run_now(job, s, "poses", mode="adjust")
        self.assertEqual((again.figures.slip_px, again.figures.doubt), (out.figures.slip_px, ""))
        self.assertTrue(center_held(load_block(job, s)))
        self.assertAlmostEqual(worst(), held, delta=0.2 * held)
        with mock.patch.object(contradicted, "SLIPPED_RMS", 0.0):  # the center cannot be held
            out = run_now(job, s, "poses")
        self.assertIn("moved while", out.figures.doubt)
        self.assertIn("The block is doubtful", " ".join(p["text"] for p in out.problems))
        self.assertEqual(run_now(job, s, "poses", mode="adjust").figures.doubt, out.figures.doubt)

    def test_a_moved_zoom_is_told_and_an_adjustment_keeps_to_it(self):
        job, s = self.taken_in(changed_set("zoomed", zoomed))
        ids = [p.id for p in job.photos(s.id)]

        def ratio():
            b = load_block(job, s)
            f = np.array([b.lens_vector(b.row_of(i))[0] for i in ids])
            return f[list(ZOOMED)].mean() / np.delete(f, ZOOMED).mean(), f

        out = run_now(job, s, "poses")
        self.assertEqual(out.figures.solved, 12)
        self.assertEqual(set(out.figures.zooms), {ids[k] for k in ZOOMED})
        self.assertIn("4 photos, the first U_0002.jpg", " ".join(p["text"] for p in out.problems))
        first, f = ratio()
        self.assertAlmostEqual(first, 1.25, delta=0.02)
        rows, *_ = camera_rows(job, s)
        figures, _ = pebble_truth().judge_poses("By hand", {r["name"]: r["pose"] for r in rows})
        self.assertLess(figures["rotation_deg_max"], 1.0)
        again = run_now(job, s, "poses", mode="adjust")
        self.assertEqual(again.figures.zooms, out.figures.zooms)
        np.testing.assert_allclose(ratio()[1], f, rtol=5e-3)
        # the setting that a deeper look depends on is none that an adjustment applies
        never = settings_of(job, s, BY_NAME["poses"]).model_copy(update={"around": "never"})
        with self.assertRaisesRegex(UmbrateError, "What turns with it"):
            run_now(job, s, "poses", never, mode="adjust")

    def test_cropped_photos_have_the_lens_of_the_others_but_for_its_center(self):
        job, s = self.taken_in(changed_set("cut", cut))
        ids = [p.id for p in job.photos(s.id)]
        whole = Image.new("1", (job.photos(s.id)[0].width, job.photos(s.id)[0].height))
        out = run_now(job, s, "poses")
        for mode in ("start over", "adjust", "go on"):
            if mode != "start over":
                out = run_now(job, s, "poses", mode=mode)
            self.assertEqual(out.figures.solved, 12)
            self.assertEqual(set(out.figures.crops), {ids[k] for k in ZOOMED}, mode)
            b = load_block(job, s)
            lenses = [b.lens_vector(b.row_of(i)) for i in ids]
            for k in ZOOMED:
                true = lenses[0][1:3] - box_of(k, whole)[:2]
                self.assertLess(np.linalg.norm(lenses[k][1:3] - true), 20, mode)  # the files' middle is 100 off
                self.assertAlmostEqual(lenses[k][0] / lenses[0][0], 1, delta=0.01)
            rows, *_ = camera_rows(job, s)
            figures, _ = pebble_truth().judge_poses("By hand", {r["name"]: r["pose"] for r in rows})
            self.assertLess(figures["rotation_deg_max"], 1.0, mode)
            told = [p["text"] for p in out.problems]
            self.assertEqual(sum("were cropped" in x for x in told), 1, told)
            self.assertNotIn("focal length", " ".join(told))

    def test_a_folded_block_is_called_doubtful_on_board_and_bench_with_what_would_decide(self):
        job, s = new_job(scratch() / "fold")
        self.addCleanup(job.close)
        for stage in ("photos", "masks", "lens"):
            run_now(job, s, stage)
        with mock.patch.object(solving, "find_fold", return_value=Fold(12, 3)):
            out = run_now(job, s, "poses")
        self.assertEqual(out.figures.doubt, "12 photos stand on 3 places")
        self.assertEqual(BY_NAME["poses"].headline(out.figures)[1], "doubtful")
        (told,) = (p for p in out.problems if "doubtful" in p["text"])
        self.assertEqual(tuple(told["remedy"]), ("print targets",))
        self.assertEqual(state(job, "poses"), "look")
        # without the fold it is none
        self.assertEqual(run_now(job, s, "poses").figures.doubt, "")
        # where the order of shooting unfolds it, it is told, and an adjustment and going on keep to that
        every = mock.Mock(side_effect=lambda counts, pairs: InOrder(frozenset(pairs), [np.arange(len(counts))], ()))
        self.enterContext(mock.patch.object(solving, "in_order", every))
        with mock.patch.object(solving, "find_fold", side_effect=[Fold(12, 3), None]):
            out = run_now(job, s, "poses")
        self.assertEqual((out.figures.doubt, out.figures.by_order), ("", True))
        self.assertIn("Order of shooting", [row[0] for row in out.figures.rows()])
        for mode in ("adjust", "go on"):
            again = run_now(job, s, "poses", mode=mode)
            self.assertTrue(again.figures.by_order)
            self.assertEqual(again.figures.solved, out.figures.solved)
        self.assertEqual(every.call_count, 2)  # an adjustment asks for no pairs
        # rounds that pairs leave loose and that stand all the same, tied by marks, are not told as loose
        every.side_effect = lambda counts, pairs: InOrder(frozenset(pairs), [np.arange(6), np.arange(6, 12)], (1,))
        again = run_now(job, s, "poses", mode="go on")
        self.assertEqual((again.figures.by_order, again.figures.loose), (True, 0))
        # what was told by the order before means nothing for a block that is started over and not folded
        again = run_now(job, s, "poses")
        self.assertEqual((again.figures.by_order, again.figures.loose), (False, 0))


class Told(unittest.TestCase):
    """Reasons and doubts, from what was computed."""

    def test_a_photo_of_a_faint_object_is_not_told_that_it_does_not_overlap(self):
        settings = BY_NAME["poses"].Settings()
        why = {k: Reason(NO_OVERLAP, "no overlap") for k in range(3)}
        inputs = SimpleNamespace(mode="start over", photos=[SimpleNamespace(id=k) for k in range(3)], soft={})
        for look, kinds in ((2, ["faint", NO_OVERLAP, "blurred"]), (1, [NO_OVERLAP, NO_OVERLAP, "blurred"])):
            made = SimpleNamespace(solution=SimpleNamespace(reasons=why), still=[], counts=[713, 5000, 90], look=look)
            told = why_left_out(None, made, inputs, settings)
            self.assertEqual([told[k].kind for k in range(3)], kinds)
            self.assertEqual("713" in told[0].text, look == 2)
            self.assertEqual("deeper look" in told[1].text, look == 2)
        # one that is clearly softer than the others is blurred whatever else it is
        inputs.soft = {1: (0.2, 0.8)}
        told = why_left_out(None, made, inputs, settings)
        self.assertEqual(told[1].kind, "blurred")
        self.assertIn("sharpness 0.20, the others' 0.80", told[1].text)

    def test_shots_that_slipped_are_named_as_problems(self):
        photos = [SimpleNamespace(id=k, name=f"{k}.jpg") for k in range(3)]
        slips = _slips(SimpleNamespace(slips=[(2, "a step of 14.0° where others are 10.0°")]), photos)
        self.assertEqual([(p["photo"], p["kind"]) for p in slips], [(2, "slip")])
        self.assertIn("2.jpg slipped on the turntable: a step of 14.0°", slips[0]["text"])
        self.assertEqual(_slips(None, photos), [])

    def test_a_lens_that_nobody_told_and_that_cannot_be_makes_the_block_doubtful(self):
        wide = "114° wide"
        cases = ((260, 1, {}, wide), (260, 0, {0: 1100.0}, wide), (260, 0, {}, ""), (420, 1, {}, ""))
        for f, guessed, wrong, doubt in cases:
            block = Block.without_sightings(np.eye(4)[None], np.array([[f, 400, 300, *[0] * 7]]), [0], np.zeros((0, 3)))
            made = SimpleNamespace(
                fold=None, slip_px=None, guessed=guessed, lenses=[LENS.guess(800, 600, 1100.0)],
                solution=SimpleNamespace(block=block, wrong_focal=wrong),
            )  # fmt: skip
            self.assertIn(doubt, doubt_of(made))
            self.assertEqual(bool(doubt), bool(doubt_of(made)))


class Nonsense(unittest.TestCase):
    """Photos from which no object can come."""

    def said(self, show, noise=2.0, count=8):
        """What Poses says of photos that ``show(k, rng)`` (h, w) gray."""
        folder = scratch()
        rng = np.random.default_rng(4)
        for k in range(count):
            gray = show(k, np.random.default_rng(9))
            picture = np.repeat(gray[..., None], 3, 2) + noise * rng.normal(size=(*gray.shape, 3))
            Image.fromarray(np.clip(picture, 0, 255).astype(np.uint8)).save(folder / f"P_{k}.jpg", quality=92)
        with Job.create(scratch() / "job") as job:
            s, *_ = take_in(job, "Photos", read_folder(folder))
            for stage in ("photos", "masks", "lens"):
                run_now(job, s, stage)
            with self.assertRaises(UmbrateError) as e:
                run_now(job, s, "poses")
        return str(e.exception)

    @staticmethod
    def texture(rng):
        out = gaussian_filter(rng.normal(size=(450, 600)), 2)
        return 128 + 40 * out / out.std()

    def test_each_is_refused_with_its_cause_and_the_evidence(self):
        self.assertRegex(
            self.said(lambda k, rng: np.full((450, 600), 180.0)), "blank but for noise.* 1[78][0-9] and 18"
        )
        self.assertIn("All 8 photos are copies of one file", self.said(lambda k, rng: self.texture(rng), 0.0))
        self.assertRegex(
            self.said(lambda k, rng: self.texture(rng)), r"Nothing moves in these 8 photos: (99|100)\.\d %"
        )

        def paper(k, rng):
            y, x = np.mgrid[0:450, 0:600]
            c, s = np.cos(0.4 * k), np.sin(0.4 * k)
            a, b = (c * x + s * y) / 30 % 1, (c * y - s * x) / 30 % 1
            return np.where((np.abs(a - 0.5) > 0.44) | (np.abs(b - 0.5) > 0.44), 90.0, 240.0)

        self.assertRegex(self.said(paper), r"(9\d|100) % of the features .* graph paper")


if __name__ == "__main__":
    unittest.main()
