"""What turns with the object: found in photos, kept in masks, used where photos stay out, never part of the object."""

import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
import scipy
from PIL import Image

from tests.scenes import made_once, scratch
from umbrate.actions.delivering import camera_rows, export_masks
from umbrate.core.cloud.keepbox import KeepBox, box_of_outlines, covering, hull_box
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import look_at
from umbrate.core.imaging.decode import read_kinds
from umbrate.core.masking.turning import turning_place
from umbrate.job.store import Job
from umbrate.sitting.frames import load_block
from umbrate.sitting.masks import (
    STILL,
    THING,
    TURNS,
    decode_kinds,
    decode_mask,
    encode_mask,
    mask_blobs,
    thing_blobs,
    with_turning,
)
from umbrate.stages import BY_NAME
from umbrate.stages.base import Report, settings_of
from umbrate.stages.poses.figures import DEEPER, FIRST, SLANTED
from umbrate.stages.poses.items import feature_key
from umbrate.stages.poses.stage import PosesStage
from umbrate.studio.hard import HARD
from umbrate.studio.judge import Truth
from umbrate.studio.scene import smaller
from umbrate.studio.shoot import shoot
from umbrate.studio.surroundings import Surroundings
from umbrate.work.adding import read_folder, take_in
from umbrate.work.now import run_now

H, W = 360, 480


def pictures(grain, seed=0, n=12, sway=False):
    """Photos of a table with a disc (whose grain is another in each), masks, and where the disc is seen."""
    rng = np.random.default_rng(seed)
    v, u = np.mgrid[0:H, 0:W] / 2.0
    disc = ((u - 120) / 90.0) ** 2 + ((v - 120) / 45.0) ** 2 < 1
    weave = scipy.ndimage.gaussian_filter(rng.normal(size=(H, W)), 1.2)
    base = np.where(v < 60, 0.3 * (1 + 0.3 * weave / weave.std()), 0.18 + 0.0003 * u)
    base[disc] = 0.33
    lights, masks = [], []
    for k in range(n):
        x = base.copy()
        own = scipy.ndimage.gaussian_filter(rng.normal(size=(H, W)), 1.0)
        x[disc] *= 1 + grain * (own / own.std())[disc]
        if sway:  # leaves before the window
            x[10:80, 10:80] *= 1 + 0.3 * (own / own.std())[10:80, 10:80]
        a = 2 * np.pi * k / n  # the object's shadow wanders over the table
        x *= 1 - 0.4 * np.exp(-(((u - 120 - 95 * np.cos(a)) / 30) ** 2 + ((v - 120 - 55 * np.sin(a)) / 22) ** 2))
        mask = ((u - 120 - 8 * np.cos(a)) / 30.0) ** 2 + ((v - 90) / 40.0) ** 2 < 1
        x[mask] = 0.5 * (1 + 0.4 * own[mask] / own.std())
        if k == 3:
            x[:, :100] = 0.45  # somebody's arm, once
        x = np.maximum(x, 0.02)
        x += 0.004 * np.sqrt(x) * rng.normal(size=(H, W))
        lights.append(np.repeat(x[..., None], 3, 2).astype(np.float32))
        masks.append(mask)
    return lights, masks, disc


class Found(unittest.TestCase):
    def test_a_disc_with_a_faint_grain_is_told_from_what_stands_still(self):
        for grain in (0.03, 0.15):
            lights, masks, disc = pictures(grain)
            place = turning_place(lights, masks)
            # apart from a seam along its edge, and round the object
            inner = scipy.ndimage.binary_erosion(disc, iterations=10)
            inner &= ~scipy.ndimage.binary_dilation(np.any(masks, 0), iterations=14)
            self.assertGreater((place & inner).sum() / inner.sum(), 0.8)
            self.assertLess((place & ~disc & ~np.any(masks, 0)).sum() / disc.sum(), 0.02)

    def test_nothing_turns_but_the_object_and_few_photos_tell_nothing(self):
        lights, masks, _ = pictures(0.0)
        self.assertFalse(turning_place(lights, masks).any())
        lights, masks, _ = pictures(0.15, n=4)
        self.assertFalse(turning_place(lights, masks).any())

    def test_what_moves_elsewhere_does_not_turn_with_it(self):
        lights, masks, disc = pictures(0.1, sway=True)
        place = turning_place(lights, masks)
        self.assertFalse(place[:90, :90].any())
        self.assertTrue(place[disc].any())


class Kept(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(1)
        self.kinds = rng.integers(0, 3, (9, 11)).repeat(7, 0).repeat(7, 1).astype(np.uint8)

    def test_masks_keep_three_kinds_of_place_and_two_as_small_as_ever(self):
        np.testing.assert_array_equal(decode_kinds(encode_mask(self.kinds)), self.kinds)
        np.testing.assert_array_equal(decode_mask(encode_mask(self.kinds)), self.kinds == THING)
        thing = self.kinds == THING
        self.assertEqual(encode_mask(thing), encode_mask(np.where(thing, THING, STILL).astype(np.uint8)))
        np.testing.assert_array_equal(decode_kinds(encode_mask(thing)), np.where(thing, THING, STILL))
        both = with_turning(thing, np.ones_like(thing))
        np.testing.assert_array_equal(both, np.where(thing, THING, TURNS))

    def test_gray_areas_of_a_mask_file_turn_along_and_soft_outlines_do_not(self):
        folder = Path(scratch())
        (folder / "kinds.png").write_bytes(encode_mask(self.kinds))
        np.testing.assert_array_equal(read_kinds(folder / "kinds.png"), self.kinds)
        v, u = np.mgrid[0:200, 0:300]
        for soft in (1.5, 25.0):  # an outline of some gray pixels, and a very soft one
            gray = np.clip(255 / (1 + np.exp((np.hypot(u - 150, v - 100) - 60) / soft)), 0, 255).astype(np.uint8)
            Image.fromarray(gray).save(folder / "soft.png")
            np.testing.assert_array_equal(read_kinds(folder / "soft.png"), np.where(gray >= 128, THING, STILL))

    def test_features_of_another_look_are_others(self):
        class Ref:
            hash, width, height = "a" * 64, 640, 480

        s = PosesStage.Settings()
        keys = {
            (look, around): feature_key(Ref, "m", s.model_copy(update={"around": around}), look)
            for look in (FIRST, DEEPER, FIRST + SLANTED, DEEPER + SLANTED)
            for around in ("when needed", "always", "never")
        }
        self.assertEqual(keys[FIRST, "never"], keys[FIRST, "when needed"])  # what was kept before holds
        self.assertEqual(len(set(keys.values())), 8)


class Boxes(unittest.TestCase):
    def test_outlines_alone_give_a_box_round_the_object(self):
        rng, middle, radius = np.random.default_rng(2), np.array([3.0, -2.0, 5.0]), 1.5
        eyes = rng.normal(size=(8, 3))
        eyes = middle + 20 * eyes / np.linalg.norm(eyes, axis=1, keepdims=True)
        poses = np.array([look_at(e, middle + rng.normal(size=3)) for e in eyes])
        seen = np.einsum("nij,j->ni", poses[:, :3, :3], middle) + poses[:, :3, 3]
        box = box_of_outlines(poses, seen[:, :2] / seen[:, 2:], radius / seen[:, 2])
        np.testing.assert_allclose(box.center, middle, atol=0.01)
        self.assertTrue((box.half >= radius).all() and (box.half < 1.3 * radius).all())

    def test_a_box_reaches_out_to_the_outlines_only_where_it_lacks_much(self):
        rng, radius = np.random.default_rng(3), 1.5
        middle = np.array([1.0, 0.5, -0.7])
        lens = Lens.guess(400, 300, 500.0)
        eyes = rng.normal(size=(20, 3))
        eyes = middle + 9 * eyes / np.linalg.norm(eyes, axis=1, keepdims=True)
        poses = np.array([look_at(e, middle) for e in eyes])
        v, u = np.mgrid[0:300, 0:400]
        rays = np.stack([*np.moveaxis(lens.unproject(np.stack([u, v], -1).reshape(-1, 2).astype(float)), 1, 0)], 1)
        # a ray meets the ball where its angle to the middle is small enough
        cos = 1 / np.sqrt(1 + (rays**2).sum(1))
        mask = (cos > np.sqrt(1 - (radius / 9) ** 2)).reshape(300, 400)
        wide = KeepBox(middle + [0.3, -0.2, 0.1], np.eye(3), np.full(3, 2.6))
        hull = hull_box(wide, poses, [lens] * 20, [mask] * 20)
        np.testing.assert_allclose(hull.center, middle, atol=0.2)
        self.assertTrue((hull.half > radius - 0.05).all() and (hull.half < 1.3 * radius).all())
        self.assertIsNone(hull_box(KeepBox(middle + [8.0, 0, 0], np.eye(3), np.full(3, 1.0)), poses, [lens] * 20,
                                   [mask] * 20))  # fmt: skip
        # tie points on the upper half only: the box reaches down to the outlines, and stays where it fits
        half = KeepBox(middle + [0, 0, 0.75], np.eye(3), np.array([1.6, 1.6, 0.85]))
        whole = covering(half, KeepBox(middle, np.eye(3), np.full(3, 1.55)))
        np.testing.assert_allclose(whole.center + whole.half, half.center + half.half)
        self.assertAlmostEqual(float((whole.center - whole.half)[2]), middle[2] - 1.55)
        np.testing.assert_allclose((whole.center - whole.half)[:2], (half.center - half.half)[:2])
        near = covering(KeepBox(middle, np.eye(3), np.full(3, 1.5)), KeepBox(middle, np.eye(3), np.full(3, 1.6)))
        np.testing.assert_array_equal(near.half, 1.5)


def white_set():
    """A white pebble without texture on a disc of felt: 12 small photos."""

    def make(folder):
        scene = smaller(HARD["white"](), 2.4)
        sitting = replace(scene.sittings[0], shots=scene.sittings[0].shots[12:])
        around = Surroundings(disc_radius=85.0)
        shoot(replace(scene, sittings=[replace(sitting, surroundings=around)], truth_step_mm=2.0), folder)

    return made_once("white", make)


class Whole(unittest.TestCase):
    """A white object stands up by its disc, in the running stages."""

    @classmethod
    def setUpClass(cls):
        cls.folder = white_set()
        cls.truth = Truth(cls.folder)
        cls.job = Job.create(Path(scratch()) / "job")
        cls.addClassCleanup(cls.job.close)
        photos = cls.folder / "photos"
        cls.sitting, _, _ = take_in(cls.job, "On the table", read_folder(photos, photos / "masks"))
        for stage in ("photos", "masks", "lens"):
            run_now(cls.job, cls.sitting, stage)

    def poses_right(self):
        rows, *_ = camera_rows(self.job, self.sitting)
        solved = {r["name"]: r["pose"] for r in rows if r["pose"] is not None}
        return self.truth.judge_poses("On the table", solved)

    def test_it_stands_up_by_its_disc_and_the_disc_is_never_the_object(self):
        job, s = self.job, self.sitting
        masks = job.result(s.id, "masks").figures
        self.assertGreater(masks.turning, 0.1)
        for key in mask_blobs(job, s).values():
            kinds = decode_kinds(job.blobs.get_bytes(key))
            self.assertGreater((kinds == TURNS).mean(), 0.1)
        # features found on the object stay good, however what turns along is marked
        stage = BY_NAME["masks"]
        settings = settings_of(job, s, stage).model_copy(update={"around": "left out"})
        left = stage.run(stage.gather(job, s, settings), settings, Report())
        self.assertEqual({p: k for (n, p), k in left.artefacts.items() if n == "mask"}, thing_blobs(job, s))
        # without it nothing stands, and the reason is the right one
        never = settings_of(job, s, PosesStage()).model_copy(update={"around": "never"})
        with self.assertRaisesRegex(UmbrateError, "(?i)feature") as caught:
            run_now(job, s, "poses", never)
        self.assertNotIn("Walk round", str(caught.exception))
        out = run_now(job, s, "poses")
        self.assertEqual((out.figures.solved, out.figures.first_solved, out.figures.look), (12, 0, DEEPER))
        figures, M = self.poses_right()
        self.assertLess(figures["rotation_deg_max"], 0.5)
        # the keep box is round the object, though no tie point lies on it
        box = KeepBox.from_dict(out.figures.keep_box)
        back = np.linalg.inv(M)
        self.assertTrue(box.contains(self.truth.vertices @ back[:3, :3].T + back[:3, 3]).all())
        # adjusting alone takes the same features again
        before = load_block(job, s).poses
        again = run_now(job, s, "poses", mode="adjust")
        self.assertEqual((again.figures.solved, again.figures.look), (12, DEEPER))
        np.testing.assert_allclose(load_block(job, s).poses, before, atol=1e-3)
        folder = Path(scratch()) / "out"
        export_masks(job, folder)
        first = sorted(folder.glob("*.png"))[0]
        self.assertEqual(set(np.unique(read_kinds(first))), {STILL, TURNS, THING})


if __name__ == "__main__":
    unittest.main()
