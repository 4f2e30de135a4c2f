"""Masks made by themselves: on made-up pictures with exact truth, and through the stage on a simulated turntable."""

import shutil
import unittest
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace
from unittest import mock

import numpy as np
from PIL import Image
from scipy.ndimage import binary_dilation, binary_erosion, gaussian_filter, label

from tests.scenes import scratch
from tests.test_stages import job_with, run, state
from umbrate.actions.delivering import export_masks
from umbrate.actions.handmasks import HandMasks, check_by_hand
from umbrate.core.errors import UmbrateError
from umbrate.core.imaging.decode import read_mask
from umbrate.core.imaging.filters import gaussian_blur, halve_by_area, narrowed, widened
from umbrate.core.imaging.sharpness import sharpness
from umbrate.core.masking import strokes
from umbrate.core.masking.backdrop import differs, empty_frames, same_place, shot_plate, still_plate
from umbrate.core.masking.clean import doubts, main_pieces, overlap, tidy
from umbrate.core.masking.light import (
    LINEAR,
    is_color,
    is_of_colors,
    keyed,
    linear_light,
    medians,
    small_light,
    unlikeness,
)
from umbrate.job.store import Job
from umbrate.sitting.masks import THING, TURNS, decode_kinds, decode_mask, encode_mask
from umbrate.stages import BY_NAME
from umbrate.stages.base import Report, parse_settings, settings_of
from umbrate.stages.masks.files import _cleaned, match_files, propose_pattern, store_mask
from umbrate.stages.masks.making import parse_color
from umbrate.studio.scene import smaller, whistle
from umbrate.studio.shoot import shoot
from umbrate.work.adding import read_folder, take_in

H, W = 150, 200


def backdrop(seed=0):
    """Linear light of a patterned wall over a plain table."""
    rng = np.random.default_rng(seed)
    light = np.empty((H, W, 3), np.float32)
    wall = 0.25 + 0.08 * gaussian_filter(rng.normal(size=(H, W)), 2.0) / 0.14
    light[:] = np.clip(wall, 0.05, 1)[..., None] * [0.85, 0.95, 1.08]
    light[90:] = 0.2 * np.array([1.1, 0.9, 0.7])
    return light


def turning_photo(k, n=12, seed=0):
    """The k-th photo of a painted disc whose shape turns before the backdrop: linear light and the true mask."""
    rng = np.random.default_rng(100 + k + 1000 * seed)
    v, u = np.mgrid[0:H, 0:W]
    a = 2 * np.pi * k / n
    x, y = u - 100, v - 80
    # an off-center ellipse that turns, with stripes that turn with it
    p, q = np.cos(a) * x + np.sin(a) * y - 6, -np.sin(a) * x + np.cos(a) * y
    mask = (p / 42) ** 2 + (q / 26) ** 2 < 1
    stripes = 1 + 0.35 * np.sin(p / 2.5) + 0.2 * gaussian_filter(rng.normal(size=(H, W)), 1.0)
    light = backdrop(seed)
    # a soft shadow beside it, half as bright
    shadow = ((x - 20) / 50) ** 2 + ((y - 30) / 14) ** 2 < 1
    light[shadow] *= 0.5
    light[mask] = np.clip(stripes, 0.2, 2)[mask][:, None] * np.array([0.5, 0.22, 0.12])
    return np.clip(light + rng.normal(size=light.shape) * 0.004, 0, 1).astype(np.float32), mask


class Light(unittest.TestCase):
    def test_less_light_is_the_same_color_and_another_hue_is_not(self):
        rng = np.random.default_rng(1)
        a = rng.uniform(0.05, 0.9, size=(20, 30, 3)).astype(np.float32)
        self.assertLess(unlikeness(a * 0.4, a).max(), 1e-5)
        self.assertGreater(unlikeness(a * 0.1, a, darker=0.3).min(), 0.3)  # too dark for a shadow
        gray, red = np.full((1, 1, 3), 0.3, np.float32), np.array([[[0.5, 0.22, 0.12]]], np.float32)
        # by the angle between the colors
        cos = float((gray * red).sum() / np.linalg.norm(gray) / np.linalg.norm(red))
        self.assertAlmostEqual(float(unlikeness(red, gray, 0.01, 100)[0, 0]), np.sqrt(1 - cos**2), delta=0.01)
        self.assertTrue(is_color(gray * 0.5, [0.9, 0.9, 0.9], 0.05)[0, 0])
        self.assertFalse(is_color(red, [0.9, 0.9, 0.9], 0.05)[0, 0])

    def test_a_key_takes_the_backdrop_its_shades_and_leaves_mixed_edges_to_the_nearer_side(self):
        green, red = np.array([0.06, 0.43, 0.10]), np.array([0.5, 0.22, 0.12])
        shares = np.linspace(0, 1, 101)
        row = (shares[:, None] * red + (1 - shares[:, None]) * green)[None].astype(np.float32)
        kept = keyed(row, green)[0]
        self.assertFalse(kept[0])
        self.assertTrue(kept[-1])
        self.assertEqual(np.abs(np.diff(kept.astype(int))).sum(), 1)  # one threshold along the edge
        self.assertTrue(0.1 < shares[np.argmax(kept)] < 0.6)
        self.assertFalse(keyed((green * [[[0.3]]]).astype(np.float32), green).any())  # in shadow it is the same cloth
        spill = (0.8 * red + 0.15 * green)[None, None].astype(np.float32)
        self.assertTrue(keyed(spill, green).all())

    def test_linear_light_inverts_srgb(self):
        x = np.arange(256, dtype=np.uint8)
        srgb = np.where(LINEAR <= 0.0031308, 12.92 * LINEAR, 1.055 * LINEAR ** (1 / 2.4) - 0.055) * 255
        np.testing.assert_allclose(srgb, x, atol=1e-3)
        picture = np.full((20, 20, 3), 118, np.uint8)
        np.testing.assert_allclose(linear_light(picture), LINEAR[118], rtol=1e-5)
        np.testing.assert_allclose(parse_color("#76ff00"), LINEAR[[0x76, 0xFF, 0]])
        for wrong in ("", "#12345", "green", "#GGGGGG"):
            with self.assertRaises(ValueError):
                parse_color(wrong)


class Kernels(unittest.TestCase):
    """Against what they are short for."""

    def test_one_of_several_colors_is_any_of_them(self):
        rng = np.random.default_rng(3)
        light = rng.random((40, 50, 3)).astype(np.float32) ** 3
        light[:8] *= 0.002  # near black nothing is a color
        colors = rng.random((5, 3)).astype(np.float32)
        want = np.any([is_color(light, c, 0.2, 0.3, 1.6) for c in colors], axis=0)
        self.assertGreater(want.sum(), 40)
        np.testing.assert_array_equal(is_of_colors(light, colors, 0.2, 0.3, 1.6), want)

    def test_medians_of_what_is_shown(self):
        rng = np.random.default_rng(4)
        for n in (1, 4, 7):
            stack, shown = rng.random((n, 9, 11, 3)).astype(np.float32), rng.random((n, 9, 11)) < 0.6
            hidden = np.broadcast_to(~shown[..., None], stack.shape)
            want = np.ma.median(np.ma.masked_array(stack, hidden), axis=0).filled(0)
            np.testing.assert_allclose(medians(stack, shown), want, atol=1e-6)
            np.testing.assert_allclose(medians(stack), np.median(stack, axis=0), atol=1e-6)

    def test_small_light_is_halved_light(self):
        rng = np.random.default_rng(5)
        for size in ((150, 200), (97, 301), (603, 1201)):
            picture = rng.integers(0, 256, (*size, 3)).astype(np.uint8)
            n = max(0, int(np.ceil(np.log2(max(size) / 960))))
            want = LINEAR[np.asarray(Image.fromarray(picture).reduce(2**n))]
            while max(want.shape[:2]) > 240:
                want = halve_by_area(want)
            np.testing.assert_allclose(small_light(picture), want, atol=1e-6)
            np.testing.assert_array_equal(small_light(picture), small_light(Image.fromarray(picture)))

    def test_a_mask_is_narrowed_as_by_so_many_erosions(self):
        rng = np.random.default_rng(6)
        for _ in range(25):
            mask = gaussian_filter(rng.random(rng.integers(5, 60, 2)), 2) > 0.5
            steps = int(rng.integers(1, 7))
            np.testing.assert_array_equal(widened(mask, steps), binary_dilation(mask, iterations=steps))
            np.testing.assert_array_equal(narrowed(mask, steps), binary_erosion(mask, iterations=steps))

    def test_sharpness_inside_a_mask_is_that_of_the_whole_picture_there(self):
        rng = np.random.default_rng(7)
        gray = (255 * gaussian_filter(rng.random((160, 220)), 0.8)).astype(np.float32)
        mask = np.zeros(gray.shape, bool)
        mask[50:120, 60:170] = True
        inside = binary_erosion(mask, iterations=6)
        a, b, c = (gaussian_blur(gray, s)[inside] for s in (1.0, 2.0, 4.0))
        some = np.abs(b - c)[::7]
        strong = np.abs(b - c) >= np.sort(some)[int(0.8 * (len(some) - 1))]
        want = np.abs(a - b)[strong].mean() / np.abs(b - c)[strong].mean()
        self.assertAlmostEqual(sharpness(gray, mask), float(want), places=5)
        # too small an object: all of the photo counts
        mask[:] = False
        mask[50:70, 60:80] = True
        self.assertEqual(sharpness(gray, mask), sharpness(gray))


class Backdrops(unittest.TestCase):
    def test_a_plate_gives_the_object_without_its_shadow(self):
        for k in (0, 3, 7):
            light, truth = turning_photo(k)
            mask = tidy(differs(light * 0.9, shot_plate(backdrop())))  # a little less exposure
            self.assertGreater(overlap(mask, truth), 0.97)

    def test_what_turns_is_told_from_what_stands_still(self):
        photos = [turning_photo(k) for k in range(12)]
        plate = still_plate([light for light, _ in photos])
        for light, truth in photos:
            self.assertTrue((plate.reach | ~truth).all())
            self.assertGreater(overlap(tidy(differs(light, plate)), truth), 0.93)
        with self.assertRaises(ValueError):
            still_plate([light for light, _ in photos[:4]])

    def test_photos_from_one_place_are_grouped_whatever_stands_there(self):
        small = [turning_photo(k, seed=s)[0].sum(-1) for s in (0, 1) for k in range(4)] + [backdrop(1).sum(-1)]
        self.assertEqual(same_place(small).tolist(), [0] * 4 + [1] * 4 + [1])
        self.assertEqual(same_place([small[0], small[0].T]).tolist(), [0, 1])

    def test_bare_frames_are_found_and_thin_sides_are_none(self):
        areas = [900, 1000, 60, 950, 420, 380, 1010, np.nan]
        self.assertEqual(np.flatnonzero(empty_frames(areas, [0] * 8)).tolist(), [2])
        # a flat dish seen edge-on: smaller and smaller, no gap
        self.assertFalse(empty_frames([1000, 900, 600, 330, 250, 330, 900], [0] * 7).any())
        self.assertFalse(empty_frames([5.0], [0]).any())


class Cleaning(unittest.TestCase):
    def test_specks_holes_and_width(self):
        v, u = np.mgrid[0:H, 0:W]
        truth = (u - 100) ** 2 + (v - 75) ** 2 < 50**2
        mask = truth.copy()
        rng = np.random.default_rng(2)
        mask |= rng.random(mask.shape) < 0.01
        mask &= ~(((u - 90) ** 2 + (v - 70) ** 2) < 4**2)
        mask[5:12, 5:12] = True
        self.assertGreater(overlap(tidy(mask), truth), 0.985)
        big_hole = truth & ~((u - 100) ** 2 + (v - 75) ** 2 < 25**2)
        self.assertFalse(tidy(big_hole)[75, 100])
        self.assertTrue(tidy(big_hole, holes=0.5)[75, 100])
        grown, shrunk = tidy(truth, grow_px=3), tidy(truth, grow_px=-3)
        self.assertTrue((grown[truth]).all() and truth[shrunk].all())
        self.assertAlmostEqual(np.sqrt(grown.sum() / np.pi), 53, delta=0.8)
        self.assertFalse(tidy(np.zeros((20, 20), bool)).any())

    def test_main_pieces_are_kept_together(self):
        mask = np.zeros((60, 100), bool)
        mask[10:50, 5:45] = True
        mask[20:40, 50:80] = True  # a head behind a band
        mask[5:8, 90:93] = True
        kept = main_pieces(mask)
        self.assertTrue(kept[30, 60])
        self.assertFalse(kept[6, 91])

    def test_odd_masks_are_pointed_out(self):
        areas = [1000, 1020, 980, 250, 1010, 0, 990, 10_000, 1000, 1000]
        edges = [0, 0, 0, 0, 0, 0, 0, 400, 0, 60]
        told = doubts(areas, edges, [10_000] * 10)
        self.assertEqual(set(told), {3, 5, 7, 9})
        for i, word in ((3, "smaller"), (5, "empty"), (7, "whole picture"), (9, "edge")):
            self.assertIn(word, told[i])


class Turntable(unittest.TestCase):
    """The demo's upright sitting, made small, through the stage."""

    @classmethod
    def setUpClass(cls):
        cls.folder = scratch() / "set"
        scene = smaller(whistle(), 4)
        scene.sittings = [replace(s, shots=s.shots[:12], plates=True) for s in scene.sittings[:1]]
        shoot(replace(scene, truth_step_mm=4.0), cls.folder)
        cls.photos = cls.folder / "upright"

    def setUp(self):
        self.job = Job.create(scratch() / "j")
        self.addCleanup(self.job.close)
        self.sitting, _, _ = take_in(self.job, "A", read_folder(self.photos))
        run(self.job, self.sitting, "photos")

    def masks(self, **settings):
        """Overlaps with the truth, photo by photo."""
        self.job.set_settings(self.sitting.id, "masks", settings)
        out = run(self.job, self.sitting, "masks")
        values = []
        for p in self.job.photos(self.sitting.id):
            truth = read_mask(self.photos / "masks" / (Path(p.name).stem + ".png"))
            mask = decode_mask(self.job.blobs.get_bytes(out.artefacts["mask", p.id]))
            values.append(overlap(mask, truth))
        return np.array(values), out

    def test_plate_and_stillness_reach_the_true_masks(self):
        for settings in ({"method": "plate", "plates": str(self.photos / "plates")}, {"method": "still"}):
            values, out = self.masks(**settings, leave_out="#DFDFDD", holes=4)
            self.assertGreater(np.median(values), 0.96, settings)
            self.assertGreater(values.min(), 0.9, settings)
            self.assertEqual(out.figures.masks, 12)
            key = out.artefacts["silhouette", self.job.photos(self.sitting.id)[0].id]
            self.assertLessEqual(max(decode_mask(self.job.blobs.get_bytes(key)).shape), 200)

    def test_masks_are_written_as_files_and_read_back_as_they_were(self):
        self.masks(method="plate", plates=str(self.photos / "plates"))
        before = dict(self.job.result(self.sitting.id, "masks").artefacts)
        out = scratch() / "new" / "masks"
        self.assertEqual(len(export_masks(self.job, out, self.sitting, "{name}_m.png")), 12)
        self.job.set_settings(self.sitting.id, "masks", {"folder": str(out), "pattern": "{name}_m.png"})
        run(self.job, self.sitting, "masks")
        self.assertEqual(self.job.result(self.sitting.id, "masks").artefacts, before)
        with self.assertRaises(UmbrateError):
            export_masks(self.job, out, self.sitting, "mask.png")

    def test_masks_on_trial_are_those_a_run_makes_and_are_kept_nowhere(self):
        chosen = {p.id for p in self.job.photos(self.sitting.id)[1::5]}
        stage, settings = BY_NAME["masks"], parse_settings(BY_NAME["masks"], {"method": "still"})
        made = stage.preview(stage.gather(self.job, self.sitting, settings), settings, chosen, Report())
        self.assertEqual(set(made), chosen)
        self.assertIsNone(self.job.result(self.sitting.id, "masks"))
        _, out = self.masks(method="still")
        for i in chosen:
            tried, kept = (self.job.blobs.get_bytes(key) for key in (made[i].mask, out.artefacts["mask", i]))
            np.testing.assert_array_equal(decode_mask(tried), decode_mask(kept))

    def test_a_pattern_is_judged_before_anything_is_read(self):
        stage, masks = BY_NAME["masks"], self.photos / "masks"
        see = lambda **k: stage.forecast(self.job, self.sitting, parse_settings(stage, k))  # noqa: E731
        self.assertIsNone(see(method="still"))
        self.assertTrue(see(folder=str(masks)).good)
        wrong = see(folder=str(masks), pattern="{name}_m.png")
        self.assertIn("0 of 12", wrong.text)
        self.assertEqual(wrong.remedy, ("set", "pattern", "{name}.png"))

    def test_changed_plates_make_masks_stale(self):
        import shutil

        plates = scratch() / "plates"
        shutil.copytree(self.photos / "plates", plates)
        self.masks(method="plate", plates=str(plates))
        self.assertIn(state(self.job, "masks"), ("done", "look"))
        (plates / "another.jpg").write_bytes(next(plates.glob("*.jpg")).read_bytes())
        self.assertEqual(state(self.job, "masks"), "stale")

    def test_what_cannot_work_says_so(self):
        empty = scratch()
        other = scratch()
        Image.fromarray(np.random.default_rng(1).integers(0, 255, (300, 400, 3)).astype(np.uint8)).save(other / "x.jpg")
        for settings, said in (
            ({"method": "plate"}, "need plates"),
            ({"method": "plate", "plates": str(empty / "no")}, "does not exist"),
            ({"method": "plate", "plates": str(empty)}, "no photos"),
            ({"method": "plate", "plates": str(other)}, "must not move"),
            ({"method": "alpha"}, "no alpha channel"),
            ({"method": "color", "backdrop_color": "#FFFFFF", "key_share": 0.3}, "Nothing of"),
        ):
            with self.assertRaises(UmbrateError) as caught:
                self.masks(**settings)
            self.assertIn(said, str(caught.exception))
        self.job.set_aside([p.id for p in self.job.photos(self.sitting.id)[4:]])
        run(self.job, self.sitting, "photos")
        with self.assertRaises(UmbrateError) as caught:
            self.masks(method="still")
        self.assertIn("turntable", str(caught.exception))
        for wrong in ({"backdrop_color": "green"}, {"leave_out": "#123456, nope"}, {"method": "magic"}):
            with self.assertRaises(UmbrateError):
                parse_settings(BY_NAME["masks"], wrong)


class Patterns(unittest.TestCase):
    def setUp(self):
        self.folder = scratch()
        for n in ("A_mask.png", "b_MASK.PNG", "c_mask.tif", "d.png", "readme.txt", "two/x.png", "one/x.png"):
            (self.folder / n).parent.mkdir(exist_ok=True)
            (self.folder / n).write_bytes(b"")

    def photos(self, *names):
        return [SimpleNamespace(id=k, name=Path(n).name, path=n) for k, n in enumerate(names)]

    def test_what_goes_with_what(self):
        photos = self.photos("/p/a.jpg", "/p/B.jpg", "/p/c.jpg", "/p/d.jpg")
        for pattern, found in (
            ("{name}_mask.png", {0: "A_mask.png", 1: "b_MASK.PNG"}),
            ("{name}_mask.*", {0: "A_mask.png", 1: "b_MASK.PNG", 2: "c_mask.tif"}),
            ("{name}*.*", {0: "A_mask.png", 1: "b_MASK.PNG", 2: "c_mask.tif", 3: "d.png"}),
            ("m-{name}.png", {}),
        ):
            m = match_files(self.folder, pattern, photos)
            self.assertEqual({k: f.name for k, f in m.file.items()}, found, pattern)
            self.assertEqual([p.id for p in m.missing], [k for k in range(4) if k not in found])
        self.assertEqual(match_files(self.folder, "{name}_mask.png", photos).spare, ["c_mask.tif", "d.png"])
        self.assertEqual(propose_pattern(self.folder, photos).lower(), "{name}_mask.png")
        self.assertIsNone(propose_pattern(self.folder, self.photos("/p/qqq.jpg")))

    def test_photos_of_one_name_take_the_mask_from_the_folder_named_like_theirs(self):
        m = match_files(self.folder, "{name}.png", self.photos("/p/one/x.jpg", "/p/two/x.jpg", "/q/d.jpg", "/r/d.jpg"))
        self.assertEqual([m.file[k].parent.name for k in (0, 1)], ["one", "two"])
        self.assertEqual([(f.name, len(ps)) for f, ps in m.shared()], [("d.png", 2)])


class Alpha(unittest.TestCase):
    def test_the_alpha_channel_is_the_mask(self):
        folder = scratch() / "cut out"
        folder.mkdir()
        rng = np.random.default_rng(3)
        truth = np.zeros((60, 80), bool)
        truth[20:50, 10:60] = True
        for k in range(3):
            rgb = rng.integers(0, 255, (60, 80, 3)).astype(np.uint8)
            Image.fromarray(np.dstack([rgb, truth.astype(np.uint8) * 255])).save(folder / f"{k}.png")
        with Job.create(scratch() / "j") as job:
            sitting, _, _ = take_in(job, "A", read_folder(folder))
            run(job, sitting, "photos")
            job.set_settings(sitting.id, "masks", {"method": "alpha"})
            out = run(job, sitting, "masks")
            for (name, _), key in out.artefacts.items():
                if name == "mask":
                    np.testing.assert_array_equal(decode_mask(job.blobs.get_bytes(key)), truth)


class ByHand(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.job, cls.sitting = job_with(scratch() / "by-hand", "photos", "masks")
        cls.addClassCleanup(cls.job.close)
        cls.photos = cls.job.photos(cls.sitting.id)
        cls.made = cls.job.result(cls.sitting.id, "masks")

    def draw(self, k, mask):
        self.job.set_hand_mask(self.photos[k].id, self.job.blobs.put_bytes(encode_mask(mask)))
        self.addCleanup(self.job.undo)

    def mask(self, k):
        return decode_mask(self.job.blobs.get_bytes(self.made.blob("mask", self.photos[k].id)), self.photos[k])

    def test_drawn_masks_are_measured_as_made_ones_and_odd_ones_are_told(self):
        self.assertEqual(check_by_hand(self.job, self.sitting), HandMasks())
        same, wide, empty = self.photos[1].id, self.photos[4].id, self.photos[8].id
        self.draw(1, self.mask(1))
        found = check_by_hand(self.job, self.sitting)
        self.assertEqual((set(found.share), found.odd, found.soft), ({same}, {}, set()))
        self.assertAlmostEqual(found.share[same], self.mask(1).mean())
        self.assertAlmostEqual(found.sharpness[same], self.made.figures.sharpness[same], places=3)
        half = np.zeros_like(self.mask(4))
        half[: half.shape[0] // 2] = True
        self.draw(4, half)
        self.draw(8, np.zeros_like(half))
        known = {}
        found = check_by_hand(self.job, self.sitting, known)
        self.assertEqual(set(found.odd), {wide, empty})
        self.assertIn("touches the edge", found.odd[wide])
        self.assertEqual(found.odd[empty], "is empty")
        with mock.patch("umbrate.actions.handmasks.measured", side_effect=AssertionError):
            self.assertEqual(check_by_hand(self.job, self.sitting, known), found)  # nothing is read twice

    def test_what_was_made_of_the_same_file_and_settings_is_not_made_again(self):
        stage, folder = BY_NAME["masks"], scratch() / "masks"
        settings = settings_of(self.job, self.sitting, stage)
        shutil.copytree(settings.folder, folder)
        settings = settings.model_copy(update={"folder": str(folder)})
        n = len(self.photos)

        def masks(made, **more):
            """Keys by photo, where so many are made anew."""
            inputs = stage.gather(self.job, self.sitting, settings)
            with mock.patch("umbrate.stages.masks.files.store_mask", side_effect=store_mask) as anew:
                out = stage.run(inputs, settings.model_copy(update=more), Report())
            self.assertEqual(anew.call_count, made)
            return out

        first = masks(0)  # another folder, the same content
        self.assertEqual(
            first.artefacts, {k: v for k, v in self.made.artefacts.items() if k[0] in ("mask", "silhouette")}
        )
        self.assertEqual(first.figures.sharpness, self.made.figures.sharpness)
        mine = folder / f"{Path(self.photos[2].name).stem}.png"
        with Image.open(mine) as image:
            smaller_mask = np.array(image) > 0
        smaller_mask[:, : smaller_mask.shape[1] // 2] = False
        Image.fromarray(smaller_mask).save(mine)
        second, key = masks(1), ("mask", self.photos[2].id)
        self.assertEqual(
            {k for k in first.artefacts if first.artefacts[k] != second.artefacts[k] and k[0] == "mask"}, {key}
        )
        shown = decode_kinds(self.job.blobs.get_bytes(second.artefacts[key])) == THING
        np.testing.assert_array_equal(shown, smaller_mask)
        masks(n, white_is_object=False)
        masks(n, clean_files=True, grow_px=2)
        masks(0)
        self.job.blobs.path(second.artefacts[key]).unlink()
        self.assertEqual(masks(1).artefacts[key], second.artefacts[key])

    def test_files_are_cleaned_where_that_is_wanted(self):
        kinds = np.zeros((60, 80), np.uint8)
        kinds[10:50, 10:60] = THING
        kinds[28:31, 30:33] = 0  # a hole
        kinds[5, 70] = THING  # a speck
        kinds[52:58, 10:60] = TURNS
        settings = parse_settings(BY_NAME["masks"], {"clean_files": True, "grow_px": 1})
        clean = _cleaned(kinds, settings)
        want = np.zeros((60, 80), bool)
        want[10:50, 10:60] = True
        want = binary_dilation(want)
        thing = clean == THING
        self.assertLess((thing != want).sum(), 12)  # corners are rounded
        self.assertTrue(thing[28:31, 30:33].all() and not thing[5, 70])
        np.testing.assert_array_equal(clean == TURNS, (kinds == TURNS) & ~thing)
        self.assertIs(_cleaned(kinds, parse_settings(BY_NAME["masks"], {})), kinds)
        speck = np.zeros((60, 80), bool)
        speck[5, 5] = True
        self.assertIs(_cleaned(speck, settings), speck)  # nothing would be left


class Strokes(unittest.TestCase):
    """Regions against the obvious way, at the picture's edges too."""

    SHAPE = (60, 90)

    def whole(self, region):
        return strokes.apply(np.zeros(self.SHAPE, bool), region)

    def grid(self):
        v, u = np.mgrid[0 : self.SHAPE[0], 0 : self.SHAPE[1]]
        return u, v

    def test_rectangles_and_polygons(self):
        u, v = self.grid()
        got = self.whole(strokes.rectangle(self.SHAPE, (70.2, 40.4), (-5, 10.6)))
        np.testing.assert_array_equal(got, (u <= 70) & (v >= 11) & (v <= 40))
        rng = np.random.default_rng(1)
        for _ in range(20):
            p = rng.uniform([-20, -20], [110, 80], size=(3, 2))
            got = self.whole(strokes.polygon(self.SHAPE, p))
            side = [
                (b - a)[0] * (v - a[1]) - (b - a)[1] * (u - a[0]) for a, b in zip(p, np.roll(p, -1, 0), strict=True)
            ]
            inside = (np.stack(side) > 1e-9).all(0) | (np.stack(side) < -1e-9).all(0)
            near = np.min(
                [np.abs(s) / np.linalg.norm(b - a) for s, a, b in zip(side, p, np.roll(p, -1, 0), strict=True)], 0
            )
            np.testing.assert_array_equal(got[near > 0.01], inside[near > 0.01])
        self.assertFalse(strokes.polygon(self.SHAPE, [(1, 1), (5, 5)]).mask.any())

    def test_brushes_cover_all_within_their_radius_of_the_path(self):
        u, v = self.grid()
        rng = np.random.default_rng(2)
        for n in (1, 2, 5):
            path = rng.uniform([-10, -10], [100, 70], size=(n, 2))
            d = np.full(self.SHAPE, np.inf)
            for a, b in zip(path, [*path[1:], path[-1]], strict=True):
                t = np.clip(((u - a[0]) * (b - a)[0] + (v - a[1]) * (b - a)[1]) / max((b - a) @ (b - a), 1e-12), 0, 1)
                d = np.minimum(d, np.hypot(u - a[0] - t * (b - a)[0], v - a[1] - t * (b - a)[1]))
            np.testing.assert_array_equal(self.whole(strokes.brush(self.SHAPE, path, 7.5)), d <= 7.5)

    def picture(self):
        """A red field with a gray bar across and a second red field."""
        a = np.full((*self.SHAPE, 3), (180, 60, 40), np.uint8)
        a[:, 40:46] = (120, 120, 120)
        return a

    def test_a_color_is_taken_where_it_hangs_together_or_everywhere(self):
        picture = self.picture()
        left = np.zeros(self.SHAPE, bool)
        left[:, :40] = True
        np.testing.assert_array_equal(self.whole(strokes.similar(picture, (10, 20), 20)), left)
        both = left.copy()
        both[:, 46:] = True
        np.testing.assert_array_equal(self.whole(strokes.similar(picture, (10, 20), 20, connected=False)), both)
        self.assertTrue(self.whole(strokes.similar(picture, (10, 20), 90)).all())  # far enough for the bar
        self.assertFalse(strokes.similar(picture, (-3, 20), 20).mask.any())

    def test_the_flood_agrees_with_connected_components(self):
        rng = np.random.default_rng(9)
        for k in range(30):
            noise = gaussian_filter(rng.normal(size=(40, 50)), 0.7 + 0.1 * k)
            gray = (np.argsort(np.argsort(noise.ravel())).reshape(40, 50) * 255 // 2000).astype(np.uint8)
            picture = np.stack([gray, gray, 0 * gray], -1)
            x, y = int(rng.integers(0, 50)), int(rng.integers(0, 40))
            got = strokes.similar(picture, (x, y), 60).mask
            color = np.median(picture[max(0, y - 1) : y + 2, max(0, x - 1) : x + 2].reshape(-1, 3), 0).astype(int)
            near = np.abs(picture.astype(int) - color).max(-1) <= 60
            near[y, x] = True
            labels, _ = label(near)
            np.testing.assert_array_equal(got, labels == labels[y, x])

    def test_the_edge_brush_stops_at_the_edge(self):
        got = self.whole(strokes.edge_brush(self.picture(), [(30, 15), (30, 45)], 20, 20))
        plain = self.whole(strokes.brush(self.SHAPE, [(30, 15), (30, 45)], 20))
        self.assertTrue(plain[30, 48])
        np.testing.assert_array_equal(got, plain & (np.arange(90) < 40)[None])

    def test_an_outline_snaps_to_the_edge(self):
        u, v = self.grid()
        disc = (u - 45) ** 2 + (v - 30) ** 2 < 20**2
        picture = np.repeat((60 + 120 * disc).astype(np.uint8)[..., None], 3, 2)
        corners = [(45 + 20 * np.cos(a), 30 + 20 * np.sin(a)) for a in np.linspace(0, 2 * np.pi, 5)[:-1]]
        line = np.vstack(
            [strokes.edge_path(picture, a, b) for a, b in zip(corners, [*corners[1:], corners[0]], strict=True)]
        )
        self.assertLess(np.abs(np.hypot(line[:, 0] - 45, line[:, 1] - 30) - 20).max(), 2.0)
        self.assertGreater(overlap(self.whole(strokes.polygon(self.SHAPE, line)), disc), 0.93)

    def test_an_outline_over_far_follows_the_edge_as_closely(self):
        v, u = np.mgrid[0:1000, 0:1400]
        disc = (u - 700) ** 2 + (v - 500) ** 2 < 400**2
        rng = np.random.default_rng(3)
        picture = np.clip(80 + 90 * disc[..., None] + rng.normal(0, 4, (1000, 1400, 3)), 0, 255).astype(np.uint8)
        corners = [(700 + 400 * np.cos(a), 500 + 400 * np.sin(a)) for a in np.linspace(0, 2 * np.pi, 4)[:-1]]
        for a, b in zip(corners, [*corners[1:], corners[0]], strict=True):
            line = strokes.edge_path(picture, a, b)
            self.assertEqual((tuple(line[0]), tuple(line[-1])), (a, b))
            self.assertLess(np.hypot(*np.diff(line, axis=0).T).max(), 4)
            self.assertLess(np.abs(np.hypot(line[:, 0] - 700, line[:, 1] - 500) - 400).max(), 4.0)

    def test_strokes_add_take_and_replace(self):
        mask = np.zeros(self.SHAPE, bool)
        mask[:, :30] = True
        bar = strokes.rectangle(self.SHAPE, (20, 10), (50, 20))
        drawn = self.whole(bar)
        np.testing.assert_array_equal(strokes.apply(mask, bar), mask | drawn)
        np.testing.assert_array_equal(strokes.apply(mask, bar, strokes.TAKE), mask & ~drawn)
        np.testing.assert_array_equal(strokes.apply(mask, bar, strokes.REPLACE), drawn)
        for mode, wanted in ((strokes.ADD, mask | drawn), (strokes.TAKE, mask & ~drawn), (strokes.REPLACE, drawn)):
            np.testing.assert_array_equal(strokes.apply(mask.copy(), bar, mode, itself=True), wanted)
        self.assertEqual(mask.sum(), 30 * 60)  # the old one is as it was
