"""One lens for all sittings: what a block says of its lens, what it takes of others, and when they contradict."""

import re
import shutil
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
from PIL import Image
from scipy.stats import chi2

from tests.scenes import made_once
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import center, look_at, transform
from umbrate.core.geometry.rotation import rotation_matrix
from umbrate.core.geometry.similarity import compare_poses
from umbrate.core.poses.adjust import Held, adjust
from umbrate.core.poses.block import Block
from umbrate.core.poses.evidence import KNOWABLE, evidence
from umbrate.core.poses.lensprior import LensPrior, disagreement, gain, spreads
from umbrate.core.poses.reprojection import State, observations
from umbrate.job.contents import BLOCK
from umbrate.job.store import Job
from umbrate.sitting.lenses import same_lens
from umbrate.sitting.photos import PhotoRef, photo_refs
from umbrate.stages import BY_NAME
from umbrate.stages.base import chosen
from umbrate.stages.poses.inputs import ADJUST
from umbrate.stages.poses.sharing import Heard, agree, heard, knows_better, shared_figures, told_of
from umbrate.studio.scene import hand_shots, pebble
from umbrate.studio.shoot import shoot
from umbrate.work.adding import read_folder, take_in
from umbrate.work.now import run_now
from umbrate.work.queue import Queue
from umbrate.work.state import is_current, plan, why_stale

LENS = Lens(1600, 1200, 3000.0, 812.0, 588.0, (-0.08, 0.05, 0.0), (4e-4, -3e-4))
GUESS = Lens.guess(1600, 1200, 3030.0).vector[None]
FREE = (0, 1, 2, 3, 4, 6, 7)
FROM_FILE = LensPrior.of_sigmas(GUESS, [60.0, 8.0, 8.0, 0.08, 0.15, 0.15, 0.0015, 0.0015, 5.0, 5.0])
NOISE_PX = 0.2


def sitting(rng, heights, roll_deg=0.0, points=500, photos=10, lens=LENS):
    """Photos round an egg in rings, none upright; poses, points and who sees what where."""
    axes = np.array([48, 30, 24.0])
    X = rng.normal(size=(points, 3))
    X /= np.linalg.norm(X, axis=1, keepdims=True)
    outwards, X = X / axes / np.linalg.norm(X / axes, axis=1, keepdims=True), X * axes
    poses = []
    for h in np.radians(heights):
        for a in 2 * np.pi * np.arange(photos) / photos:
            eye = rng.uniform(300, 340) * np.array([np.cos(a) * np.cos(h), np.sin(a) * np.cos(h), np.sin(h)])
            E = look_at(eye, rng.normal(size=3))
            E[:3] = rotation_matrix(np.array([0, 0, np.radians(roll_deg * rng.normal())])) @ E[:3]
            poses.append(E)
    seen = []
    for i, E in enumerate(poses):
        to_eye = center(E) - X
        rows = np.flatnonzero((to_eye * outwards).sum(1) > 0.3 * np.linalg.norm(to_eye, axis=1))
        Y = transform(E, X[rows])
        u = lens.project(Y[:, :2] / Y[:, 2:]) + NOISE_PX * rng.normal(size=(len(rows), 2))
        seen.append(np.c_[rows, np.full(len(rows), i), u])
    seen = np.vstack(seen)
    seen = seen[np.bincount(seen[:, 0].astype(int), minlength=points)[seen[:, 0].astype(int)] >= 2]
    seen = seen[np.lexsort((seen[:, 1], seen[:, 0]))]
    kept, point = np.unique(seen[:, 0].astype(int), return_inverse=True)
    return np.array(poses), X[kept], seen[:, 1].astype(int), point, seen[:, 2:]


def solved(taken, prior=FROM_FILE, lens_of=None):
    """The Block of a sitting, adjusted from the truth."""
    poses, X, photo, point, xy = taken
    lens_of = np.zeros(len(poses), int) if lens_of is None else lens_of
    sigma = np.full(len(photo), NOISE_PX)
    seen = observations(lens_of, photo, point, xy, sigma, len(X))
    r = adjust(State(poses, GUESS.copy(), X), seen, FREE, held=Held(lens_prior=prior), max_rounds=100, tolerance=1e-12)
    return Block(r.poses, r.lenses, lens_of, r.points, photo, np.arange(len(photo)), point, xy, r.residuals, sigma,
                 free_lens=FREE, prior=prior)  # fmt: skip


def own(block):
    """What a block's sightings say of its lens."""
    return evidence(block, block.covariance(of_points=False).unit, 2.5)


def turn_error(block, taken):
    """Median error of the orientations in degrees."""
    return float(np.median(compare_poses(block.poses, taken[0])[1]))


class Evidence(unittest.TestCase):
    def test_it_does_not_depend_on_what_held_the_lens_and_errs_as_it_says(self):
        square = []
        for seed in range(8):
            taken = sitting(np.random.default_rng(seed), (20, 45), 10.0)
            weak = own(solved(taken))
            d = weak.mean[0] - LENS.vector
            square.append(d @ weak.information[0] @ d)
            if seed < 2:
                sigma = np.array([4.0, 3.0, 3.0, 0.02, 0.1, 0.1, 5e-4, 5e-4, 5.0, 5.0])
                strong = LensPrior.of_sigmas(LENS.vector[None] + 0.5 * sigma, sigma)
                other = own(solved(taken, strong))
                off = other.mean[0] - weak.mean[0]
                self.assertLess(off @ weak.information[0] @ off, 0.8)  # of what moves by 1 in each of seven directions
                self.assertLess(abs(np.log(gain(weak, other))), 0.25)
        low, high = chi2.ppf([0.001, 0.999], len(KNOWABLE) * len(square))
        self.assertTrue(low < sum(square) < high, square)

    def test_knowledge_adds_up_and_what_nobody_knows_stays_open(self):
        rng = np.random.default_rng(1)
        for _ in range(20):
            A = rng.normal(size=(3, 10))
            some = LensPrior(rng.normal(size=(1, 10)), (A.T @ A)[None])  # three directions of ten
            full = LensPrior.of_sigmas(rng.normal(size=(1, 10)), rng.uniform(0.5, 2, 10))
            both = some.plus([full])
            information = some.information[0] + full.information[0]
            want = np.linalg.solve(information, some.information[0] @ some.mean[0] + full.information[0] @ full.mean[0])
            np.testing.assert_allclose(both.mean[0], want, atol=1e-6)
            self.assertTrue(np.isinf(spreads(some)).all())
            np.testing.assert_allclose(spreads(both)[0], np.sqrt(np.diag(np.linalg.inv(information))), rtol=1e-6)
        self.assertIs(full.plus([]), full)


class Sharing(unittest.TestCase):
    def test_what_is_handed_on_does_what_one_adjustment_of_both_would(self):
        rng = np.random.default_rng(3)
        one, two = sitting(rng, (10, 30, 50, 70), 30.0, 2000), sitting(rng, (20, 45), photos=6)
        alone = [solved(one), solved(two)]
        heard = solved(two, FROM_FILE.plus([own(alone[0])]))
        n, p = len(one[0]), len(one[1])
        both = (
            np.concatenate([one[0], two[0]]), np.concatenate([one[1], two[1]]), np.r_[one[2], two[2] + n],
            np.r_[one[3], two[3] + p], np.vstack([one[4], two[4]]),
        )  # fmt: skip
        together = solved(both)
        known = own(alone[0]).plus([own(alone[1])])
        off = heard.lenses[0] - together.lenses[0]
        self.assertLess(off @ known.information[0] @ off, 0.2)
        near, far = turn_error(heard, two), turn_error(alone[1], two)
        zeros = np.zeros(len(two[0]), int)
        part = turn_error(Block.without_sightings(together.poses[n:], together.lenses, zeros, together.points), two)
        self.assertAlmostEqual(near, part, delta=0.1 * far)
        self.assertLess(near, 0.5 * far)

    def test_the_order_does_not_matter_and_nothing_comes_back_to_who_said_it(self):
        rng = np.random.default_rng(5)
        takes = [sitting(rng, (15, 40), 25.0), sitting(rng, (20, 45), photos=6)]
        said = [own(solved(t)) for t in takes]
        again = own(solved(takes[1], FROM_FILE.plus([said[0]])))
        d = again.mean[0] - said[1].mean[0]
        self.assertLess(d @ said[1].information[0] @ d, 0.3)
        self.assertLess(abs(np.log(gain(said[1], again))), 0.2)

    def test_a_moved_zoom_is_found_and_named_and_noise_is_not(self):
        for seed in range(3):
            rng = np.random.default_rng(20 + seed)
            zoomed = replace(LENS, f=LENS.f * 1.02)
            takes = [sitting(rng, (15, 40), 10.0), sitting(rng, (20, 45)), sitting(rng, (20, 45), 10.0, lens=zoomed)]
            a, b, c = (own(solved(t)) for t in takes)
            chi, directions = disagreement(a, b)
            self.assertLess(chi, chi2.ppf(0.9999, directions))
            told = [Heard(2, "Twin", 20, 0, b), Heard(3, "Zoomed", 20, 0, c)]
            taken, parted = agree(a, told)
            self.assertEqual([h.name for h in taken], ["Twin"])
            self.assertEqual([h.name for h, _ in parted], ["Zoomed"])
            self.assertIn("focal length", parted[0][1])
            self.assertAlmostEqual(float(re.search(r"([-+.0-9]+)%", parted[0][1])[1]), -2.0, delta=0.8)

    def test_a_solved_sitting_is_looked_at_again_only_where_it_gains_much_and_once(self):
        sigma = np.array([2.0, 1.0, 1.0, 0.01, 0.1, 1.0, 1e-4, 1e-4, np.inf, np.inf])
        said = [
            LensPrior.of_sigmas(LENS.vector[None], k * sigma) for k in (1.0, 10.0)
        ]  # by a good sitting and a poor one
        photos = [PhotoRef(1, "a", "a", 1600, 1200, 1, "Maker", 3030.0)]
        figures = BY_NAME["poses"].Figures(told=told_of(said[1], photos, [0], [True]))
        heard = [Heard(7, "Good", 30, 0, said[0])]
        self.assertEqual(knows_better(figures, heard), "Good")
        after = figures.model_copy(update={"shared": shared_figures(heard, [])})
        self.assertEqual(knows_better(after, heard), "")
        lost = figures.model_copy(update={"shared": shared_figures([], [(heard[0], "photos would be lost")])})
        self.assertEqual(knows_better(lost, heard), "")
        # the good one gains little from the poor one
        rich = BY_NAME["poses"].Figures(told=told_of(said[0], photos, [0], [True]))
        self.assertEqual(knows_better(rich, [Heard(8, "Poor", 10, 0, said[1])]), "")
        # and is another lens altogether once the other sitting was solved anew, and differently
        moved = said[0]._replace(mean=said[0].mean + 12 * sigma[0] * np.eye(10)[0])
        self.assertEqual(knows_better(after, [Heard(7, "Good", 30, 0, moved)]), "Good")


class Files(unittest.TestCase):
    def test_what_files_say_of_camera_lens_zoom_focus_and_day_decides(self):
        a = PhotoRef(1, "a", "a", 1600, 1200, 1, "Maker", 3000.0, lens="50 mm", focal_mm=50.0, focus_m=0.5,
                     taken="2026-05-04T09:30:00")  # fmt: skip
        same = (
            a, replace(a, focus_m=0.505), replace(a, focus_m=None), replace(a, lens=""), replace(a, taken=None),
            replace(a, taken="2026-05-05T08:00:00"), replace(a, orientation=8),
        )  # fmt: skip
        others = (
            replace(a, camera="Other"), replace(a, lens="35 mm"), replace(a, focal_mm=35.0), replace(a, focus_m=0.6),
            replace(a, focal_px=3100.0), replace(a, width=3200), replace(a, taken="2026-05-06T10:00:00"),
            replace(a, camera=""),
        )  # fmt: skip
        self.assertEqual([same_lens([a], [x]) for x in same], [True] * len(same))
        self.assertEqual([same_lens([a], [x]) for x in others], [False] * len(others))
        silent = replace(a, camera="")
        self.assertFalse(same_lens([silent], [silent]), "files that tell nothing are no reason to share")


def all_round(folder):
    """Photograph the pebble from 20 places."""
    scene = pebble()
    shots = hand_shots(20, 165.0, (2.0, 0, 16.0), np.random.default_rng(3))
    shoot(replace(scene, sittings=[replace(scene.sittings[0], shots=shots)]), folder)


class Sittings(unittest.TestCase):
    """The pebble's photos as two sittings of one camera."""

    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory(prefix="umbrate-test-")
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        photos = sorted((made_once("pebble-all-round", all_round) / "by-hand").glob("*.jpg"))
        for k, name in enumerate(("front", "back", "zoomed")):
            (cls.folder / name / "masks").mkdir(parents=True)
            for p in photos[:10] if k == 0 else photos[10:]:
                mask = p.parent / "masks" / f"{p.stem}.png"
                if name != "zoomed":
                    shutil.copy(p, cls.folder / name)
                    shutil.copy(mask, cls.folder / name / "masks")
                    continue
                into = cls.folder / name
                for source, to, how in (
                    (p, into / p.name, Image.Resampling.BICUBIC),
                    (mask, into / "masks" / mask.name, Image.Resampling.NEAREST),
                ):
                    with Image.open(source) as picture:
                        w, h = picture.size
                        box = (w * 0.04, h * 0.04, w * 0.96, h * 0.96)
                        more = {"exif": picture.getexif(), "quality": 95} if to.suffix == ".jpg" else {}
                        picture.resize((w, h), how, box).save(to, **more)

    def job(self, *names):
        folder = Path(tempfile.mkdtemp(dir=self.folder)) / "job"
        job = Job.create(folder)
        self.addCleanup(job.close)
        sittings = []
        for n in names:
            s, _, _ = take_in(job, n, read_folder(self.folder / n, self.folder / n / "masks"))
            for stage in ("photos", "masks", "lens"):
                run_now(job, s, stage)
            sittings.append(s)
        return job, sittings

    def test_the_second_hears_the_first_and_either_can_be_parted(self):
        job, (a, b) = self.job("front", "back")
        run_now(job, a, "poses")
        first = job.result(a.id, "poses").figures
        self.assertEqual((first.shared.taken, len(first.told), len(first.told[0].photos)), ([], 1, first.solved))
        run_now(job, b, "poses")
        second = job.result(b.id, "poses").figures
        self.assertEqual([(t.sitting, t.name, t.count) for t in second.shared.taken], [(a.id, "front", first.solved)])
        self.assertLess(second.turn_sigma_deg, second.shared.turn_alone_deg)
        row = next(r for r in second.rows() if r[0] == "Lens shared with")
        self.assertEqual(row[1], f"front, {first.solved} photos")
        block = Block.from_arrays(job.blobs.get_arrays(job.result(b.id, "poses").blob("block"), BLOCK))
        self.assertGreater(gain(own(replace(block, prior=None)), block.prior), 0.0)
        # parted from either side, it is as if the other were not there
        for sitting in (a, b):
            with self.subTest(parted=sitting.name):
                job.set_settings(sitting.id, "poses", {"share_lens": False})
                told = "lens parted from front" if sitting is a else "settings changed"
                self.assertEqual(why_stale(job, b, BY_NAME["poses"]), told)
                run_now(job, b, "poses")
                figures = job.result(b.id, "poses").figures
                self.assertEqual((figures.shared.taken, figures.shared.parted), ([], []))
                self.assertTrue(is_current(job, b, BY_NAME["poses"]))
                job.set_settings(sitting.id, "poses", {})
                run_now(job, b, "poses", mode="start over")
                self.assertEqual(len(job.result(b.id, "poses").figures.shared.taken), 1)

    def test_photos_that_count_here_are_not_heard_of_from_where_they_were_before(self):
        job, (a,) = self.job("front")
        run_now(job, a, "poses")
        photos = [p.id for p in job.photos(a.id)]
        job.split_sitting(a.id, [(photos[:5], []), (photos[5:], [])])
        one, two = job.photo_sittings()
        self.assertEqual(job.result(one.id, "poses").figures.told[0].photos, photos)
        for mine in (one, two):
            self.assertEqual(heard(job, mine, photo_refs(job, mine), []), [])

    def test_a_zoom_that_moved_is_a_sentence_on_the_board_and_each_keeps_its_lens(self):
        job, (a, b) = self.job("front", "zoomed")
        run_now(job, a, "poses")
        done = run_now(job, b, "poses")
        told = [p["text"] for p in done.problems if "same lens" in p["text"]]
        self.assertEqual(len(told), 1)
        self.assertIn("“front”", told[0])
        f = [job.result(s.id, "poses").figures for s in (a, b)]
        self.assertEqual((f[1].shared.taken, [p.sitting for p in f[1].shared.parted]), ([], [a.id]))
        self.assertAlmostEqual(f[1].lens.f / f[0].lens.f, 1 / 0.92, delta=0.025)
        self.assertTrue(is_current(job, a, BY_NAME["poses"]), "a contradiction makes nothing stale")

    def test_a_sitting_that_gains_much_is_adjusted_before_what_follows_and_all_poses_come_first(self):
        job, (a, b) = self.job("front", "back")
        run_now(job, a, "poses")
        poses = BY_NAME["poses"]
        figures = job.result(a.id, "poses").figures
        weak = figures.told[0].model_copy(
            update={"information": (np.array(figures.told[0].information) / 400).tolist()}
        )  # as if the photos had told twenty times less
        old = job.result(a.id, "poses")
        job.commit_result(
            a.id, "poses", old.fingerprint, old.settings, figures.model_copy(update={"told": [weak]}), [],
            old.artefacts, 1.0, {}, poses.keeps,
        )  # fmt: skip
        self.assertTrue(is_current(job, a, poses))
        queue = Queue(job)
        self.addCleanup(queue.close)
        queue.ran.append((a.id, "poses"))  # earlier in this window
        queue.add_all([(a, []), (b, ["poses"])])
        ran = []
        while not queue.idle:
            for e in queue.poll(0.1):
                self.assertNotEqual(e.kind, "failed", e.data)
                if e.kind == "started":
                    ran.append((e.data["sitting"], e.data["stage"]))
                if e.kind == "done" and e.data["sitting"] == b.id:
                    self.assertIn("lens better known by back", why_stale(job, a, poses))
                    self.assertEqual(plan(job, a, "poses"), ["poses"])
        self.assertEqual(ran, [(b.id, "poses"), (a.id, "poses")])
        figures = job.result(a.id, "poses").figures
        self.assertEqual((figures.mode, [t.name for t in figures.shared.taken]), (ADJUST, ["back"]))
        self.assertTrue(is_current(job, a, poses))

    def test_a_joined_row_whose_member_fails_says_so_and_ends(self):
        job, (a, b) = self.job("front", "back")
        for s in (a, b):
            run_now(job, s, "poses")
        row = job.add_joined([a.id, b.id])
        queue, ran = Queue(job), []
        self.addCleanup(queue.close)
        with mock.patch("umbrate.work.queue.is_invited", side_effect=lambda j, s, n: (s.id, n) == (a.id, "poses")), \
             mock.patch("umbrate.work.queue.would_be_the_same", return_value=False), \
             mock.patch.object(BY_NAME["poses"], "gather", side_effect=UmbrateError("No.")):  # fmt: skip
            queue.add(row, ["join"])
            for _ in range(400):
                ran += [(e.kind, e.data["sitting"], e.data["stage"]) for e in queue.poll(0.1) if e.kind != "progress"]
                if queue.idle:
                    break
        self.assertTrue(queue.idle)
        self.assertEqual(ran[0], ("failed", a.id, "poses"))
        self.assertEqual([x[1:] for x in ran].count((a.id, "poses")), 1)
        self.assertIn((row.id, "join"), [x[1:] for x in ran])

    def test_settings_that_do_not_hold_are_no_trouble_for_the_board(self):
        job, (a,) = self.job("front")
        run_now(job, a, "poses")
        job.set_settings(a.id, "poses", {"features": -5})
        self.assertFalse(is_current(job, a, BY_NAME["poses"]))
        self.assertEqual(why_stale(job, a, BY_NAME["poses"]), "settings changed")

    def test_results_made_before_lenses_were_shared_hold(self):
        poses = BY_NAME["poses"]
        plain = poses.Settings().model_dump(mode="json")
        self.assertEqual((plain["share_lens"], plain["around"]), (True, "when needed"))
        before = {n: v for n, v in plain.items() if n not in ("share_lens", "around")}
        self.assertEqual(chosen(poses.Settings()), before)
        self.assertEqual(chosen(poses.Settings(share_lens=False)), {**before, "share_lens": False})
        self.assertEqual(chosen(poses.Settings(around="never")), {**before, "around": "never"})


if __name__ == "__main__":
    unittest.main()
