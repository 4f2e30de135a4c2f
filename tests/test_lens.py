"""The Lens stage, lens cards and their shelf, on photos of simulated sheets."""

import functools
import json
import os
import shutil
import unittest
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace
from unittest import mock

import numpy as np
from PIL import Image

from tests.scenes import made_once, pebble_set, scratch
from tests.test_cli import umbrate
from tests.test_stages import job_with, new_job, run, state
from umbrate.actions.delivering import export_undistorted
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import look_at
from umbrate.core.imaging.undistort import undistort
from umbrate.core.lens.compare import field_difference
from umbrate.core.targets.board import find_board, refine_corners
from umbrate.core.targets.detect import find_targets
from umbrate.formats.lenscards import (
    LensCard,
    card_from_dict,
    put_on_shelf,
    read_card,
    shelf,
    take_off_shelf,
    write_card,
)
from umbrate.job.store import Job
from umbrate.sitting.blocks import stored_block
from umbrate.sitting.frames import load_block
from umbrate.sitting.knownlenses import lenses_known
from umbrate.sitting.lenses import group_name
from umbrate.stages import BY_NAME
from umbrate.stages.base import parse_settings
from umbrate.stages.lens.calibration import printed_scales
from umbrate.stages.lens.cards import card_of
from umbrate.stages.lens.figures import LensGroup
from umbrate.stages.poses.lenses import lenses_of
from umbrate.studio.flat import calibration_sheets, develop_gray, photograph
from umbrate.studio.prints import Printed
from umbrate.studio.scene import whistle
from umbrate.studio.shoot import shoot_calibration
from umbrate.work.adding import read_files, read_folder, take_in

LENS = Lens(1000, 750, 2120.0, 503.0, 371.0, (-0.115, 0.09, 0.0), (0.0006, -0.0004))


@functools.cache
def sheet_photos():
    """A folder of eight small photos of the calibration sheets with EXIF facts of the demo's camera."""
    return made_once("sheets", lambda folder: shoot_calibration(replace(whistle(), lens=LENS), folder))


def own_shelf(case):
    """A shelf of its own for every test."""
    patch = mock.patch.dict(os.environ, {"XDG_DATA_HOME": str(scratch())})
    patch.start()
    case.addCleanup(patch.stop)


class Shelf(unittest.TestCase):
    setUp = own_shelf

    def card(self, name="50 at 0.6 m", **more):
        facts = {
            "camera": "M 1", "lens_name": "L", "focal_mm": 50.0, "lens": LENS, "sigma": {"f": 0.2},
            "date": "2026-05-04", "photos": 8, "sightings": 900, "rms_px": 0.02,
        }  # fmt: skip
        return LensCard(name, **{**facts, **more})

    def photo(self, **more):
        facts = {"camera": "M 1", "lens": "L", "focal_mm": 50.0, "width": 1000, "height": 750}
        return SimpleNamespace(**{**facts, **more})

    def test_cards_come_back_as_they_were(self):
        card = self.card("a/b: 50 mm ü", notes=["flat"])
        file = put_on_shelf(card)
        self.assertEqual(shelf(), [(file, card)])
        write_card(file.parent / "damaged.json", card)
        (file.parent / "damaged.json").write_text("{")
        self.assertEqual(len(shelf()), 1)
        put_on_shelf(replace(card, date="2026-06-01"), replace=True)  # the same name: instead of it
        put_on_shelf(self.card("older", date="2025-01-01"))
        self.assertEqual([c.date for _, c in shelf()], ["2026-06-01", "2025-01-01"])
        take_off_shelf(file)
        self.assertEqual([c.name for _, c in shelf()], ["older"])

    def test_a_card_fits_its_camera_lens_size_and_zoom_only(self):
        card = self.card()
        self.assertTrue(card.fits(self.photo()))
        self.assertTrue(card.fits(self.photo(focal_mm=50.1, lens="")))
        for change, word in (
            ({"camera": "M 2"}, "camera"),
            ({"width": 750, "height": 1000}, "750 x 1000"),
            ({"focal_mm": 55.0}, "55"),
            ({"focal_mm": None}, "unknown"),
            ({"lens": "other"}, "lens"),
        ):
            self.assertFalse(card.fits(self.photo(**change)))
            self.assertIn(word, " ".join(card.differs(self.photo(**change))))
        self.assertFalse(self.card(camera="").fits(self.photo(camera="")))  # nobody knows: nobody applies it

    def test_what_is_no_card_is_refused(self):
        place = scratch() / "x.json"
        for text, said in (
            ("{}", "no lens card"),
            ("[1]", "no lens card"),
            (json.dumps({**self.card().as_dict(), "version": 99}), "newer version"),
            (json.dumps({**self.card().as_dict(), "lens": {"f": 1}}), "no lens card"),
        ):
            place.write_text(text)
            with self.assertRaisesRegex(UmbrateError, said):
                read_card(place)
        self.assertEqual(card_from_dict(self.card().as_dict()), self.card())

    def test_photos_are_matched_to_a_card_and_the_poses_take_it(self):
        job, sitting = new_job(scratch() / "j")
        self.addCleanup(job.close)
        run(job, sitting, "photos")
        photo = job.photos(sitting.id)[0]
        truth = json.loads((pebble_set() / "truth.json").read_text())["lens"]
        mine = self.card(
            camera=photo.camera,
            lens_name=photo.lens,
            focal_mm=photo.focal_mm,
            lens=Lens.from_dict(truth),
            date="2026-01-01",
        )
        out = run(job, sitting, "lens")
        self.assertEqual((out.figures.groups[0].use, out.problems), ("solve", []))
        put_on_shelf(mine)
        self.assertEqual(state(job, "lens"), "stale")
        out = run(job, sitting, "lens")
        self.assertEqual((out.figures.groups[0].card, out.problems), (mine.name, []))
        run(job, sitting, "masks")
        solved = run(job, sitting, "poses")
        block = stored_block(job.blobs, solved.artefacts["block", None])
        np.testing.assert_array_equal(block.lenses[0], Lens.from_dict(truth).vector)  # trusted: to the bit
        self.assertEqual(solved.figures.solved, 12)
        # several fit, another is named, one of another camera is named
        put_on_shelf(replace(mine, name="newer", date="2026-02-02"))
        put_on_shelf(self.card("wrong"))
        out = run(job, sitting, "lens")
        self.assertEqual(out.figures.groups[0].card, "newer")
        self.assertIn("2 lens cards fit", out.problems[0]["text"])
        job.set_settings(sitting.id, "lens", {"card": mine.name, "use": "refined"})
        group = run(job, sitting, "lens").figures.groups[0]
        self.assertEqual((group.card, group.use), (mine.name, "refined"))
        # one group of photos goes its own way
        name = group_name(photo)
        job.set_settings(sitting.id, "lens", {"groups": {name: {"card": mine.name, "use": "refined"}}})
        group = run(job, sitting, "lens").figures.groups[0]
        self.assertEqual((group.name, group.card, group.use), (name, mine.name, "refined"))
        job.set_settings(sitting.id, "lens", {"groups": {name: {"use": "solve"}, "M, 9 mm, 1 x 1": {}}})
        out = run(job, sitting, "lens")
        self.assertEqual((out.figures.groups[0].card, out.figures.groups[0].use), (None, "solve"))
        self.assertIn("no photos of “M, 9 mm, 1 x 1”", out.problems[0]["text"])
        # focused elsewhere: the card at the photos' own distance is taken, and another one only with a word
        job.db.execute("UPDATE photo SET focus_m = 0.4")
        put_on_shelf(replace(mine, name="near", focus_m=0.42))
        put_on_shelf(replace(mine, name="far", focus_m=2.0, date="2026-03-03"))
        for old in ("newer", mine.name):
            take_off_shelf(next(f for f, c in shelf() if c.name == old))
        job.set_settings(sitting.id, "lens", {})
        out = run(job, sitting, "lens")
        self.assertEqual((out.figures.groups[0].card, out.problems), ("near", []))
        job.set_settings(sitting.id, "lens", {"card": "far"})
        out = run(job, sitting, "lens")
        self.assertEqual(out.figures.groups[0].card, "far")
        self.assertIn("was focused at 0.4 m, the lens card “far” at 2 m", out.problems[0]["text"])
        # photos that say nothing of their camera take the card that somebody chose, and that is said
        job.db.execute("UPDATE photo SET make = '', model = '', lens = '', focal_mm = NULL, focal_35mm = NULL")
        job.db.execute("UPDATE photo SET focus_m = NULL")
        job.set_settings(sitting.id, "lens", {})
        self.assertIsNone(run(job, sitting, "lens").figures.groups[0].card)
        job.set_settings(sitting.id, "lens", {"card": "far"})
        self.assertEqual(state(job, "lens"), "stale")
        out = run(job, sitting, "lens")
        self.assertEqual(out.figures.groups[0].card, "far")
        self.assertIn("was chosen by hand", out.problems[0]["text"])
        job.set_settings(sitting.id, "lens", {"card": "wrong"})  # of another size
        self.assertIsNone(run(job, sitting, "lens").figures.groups[0].card)
        job.set_settings(sitting.id, "lens", {"card": "wrong"})
        out = run(job, sitting, "lens")
        self.assertIsNone(out.figures.groups[0].lens)
        self.assertIn("is not of U_0001.jpg: the picture is", out.problems[0]["text"])
        # undistorted copies: with the solved lens, masks with them, and the ideal camera beside
        place = scratch() / "straight"
        self.assertEqual(len(export_undistorted(job, place, sitting)), 12)
        cameras = json.loads((place / "cameras.json").read_text())
        self.assertEqual(cameras["lenses"][0]["k"], [0, 0, 0])
        with Image.open(place / "U_0001.png") as picture, Image.open(place / "masks" / "U_0001.png") as mask:
            self.assertEqual(picture.size, mask.size)

    def test_parameters_are_held_at_a_value_and_the_poses_solve_the_others(self):
        job, sitting = job_with(scratch() / "held", "photos", "masks", "lens", "poses")
        self.addCleanup(job.close)
        solved = load_block(job, sitting).lenses[0]
        for bad, told in (("f", "“f”"), ("k9 0.1", "no lens parameter “k9”"), ("f -3", "above 0"), ("k1 nan", "k1")):
            with self.assertRaisesRegex(UmbrateError, told):
                parse_settings(BY_NAME["lens"], {"hold": bad})
        f = round(1.004 * solved[0], 1)
        job.set_settings(sitting.id, "lens", {"hold": f"f={f}; k3 0"})
        self.assertIn(f"held: f {f:g}, k3 0", str(run(job, sitting, "lens").figures.rows()))
        run(job, sitting, "poses")
        b = load_block(job, sitting)
        self.assertEqual((b.lenses[0, 0], b.lenses[0, 5]), (f, 0.0))
        self.assertFalse({0, 5} & set(b.free_lens))
        self.assertTrue({1, 2, 3} <= set(b.free_lens))
        self.assertEqual(b.solved.sum(), len(job.photos(sitting.id)))
        (known,) = lenses_known(job)
        self.assertEqual((known.held, "f" in known.sigma, known.photos), ({"f": f, "k3": 0.0}, False, b.solved.sum()))
        np.testing.assert_allclose(known.lens.vector, b.lenses[0])
        own = np.sqrt(np.diag(b.covariance(of_points=False).lenses[0])) * b.covariance(of_points=False).unit
        self.assertAlmostEqual(known.sigma["k1"], own[3], delta=0.02 * own[3])
        self.assertIn(f"f {f:.2f} px, not solved", umbrate("lenses", job.folder).stdout)
        # a focal length that the files contradict is held and pointed out
        job.set_settings(sitting.id, "lens", {"hold": f"f {2 * f}"})
        self.assertIn("files of", " ".join(p["text"] for p in run(job, sitting, "lens").problems))

    def test_refined_lenses_know_how_well_they_are_known(self):
        photos = [
            SimpleNamespace(id=k, camera="M", width=1000, height=750, focal_px=2000.0, focal_mm=50.0) for k in (1, 2)
        ]
        group = LensGroup(name="M", photos=[1, 2], lens=LENS.as_dict(), use="refined", sigma={"f": 0.5})
        lenses, _, _, trusted, sigma = lenses_of(photos, [group])
        self.assertEqual((lenses[0], trusted, sigma[0, 0]), (LENS, [], 1.5))
        self.assertTrue(np.isnan(sigma[0, 1:]).all())
        self.assertEqual(lenses_of(photos, [group.model_copy(update={"use": "trusted"})])[3], [0])


class FromSheets(unittest.TestCase):
    """Rendered photos of the sheets, calibrated by the stage and from the terminal."""

    setUp = own_shelf

    @classmethod
    def setUpClass(cls):
        cls.photos = sheet_photos()

    def test_a_card_comes_of_eight_photos_of_the_sheets(self):
        with Job.create(scratch() / "j") as job:
            sitting, _, _ = take_in(job, "Sheets", read_folder(self.photos))
            run(job, sitting, "photos")
            job.set_settings(sitting.id, "lens", {"source": "targets"})
            out = run(job, sitting, "lens")
            c = out.figures.calibration
            self.assertLess(field_difference(Lens.from_dict(c.lens), LENS).max(), 0.15)
            self.assertLess(abs(c.lens["f"] / LENS.f - 1), 0.0005)
            self.assertEqual((c.paper, c.photos, len(c.checks)), ("A4", 8, 5))
            self.assertGreater(out.figures.numbers, 120)
            self.assertGreater(np.count_nonzero(c.coverage), 40)
            card = card_of(job, sitting, "mine")
            self.assertEqual((card.focal_mm, card.lens.width), (50.0, 1000))
            put_on_shelf(card)
            with self.assertRaisesRegex(UmbrateError, "needs a name"):
                card_of(job, sitting, " ")
            # the same photos without being told that they are of sheets: the card is found
            job.set_settings(sitting.id, "lens", {})
            self.assertEqual(run(job, sitting, "lens").figures.groups[0].card, "mine")
            # sightings that are left out by hand, by photo and number
            job.set_settings(sitting.id, "lens", {"source": "targets", "leave_out": {"U_0002.jpg": [5, 6], "no": [1]}})
            with mock.patch("umbrate.stages.lens.stage.find_targets", side_effect=AssertionError("found before")):
                fewer = run(job, sitting, "lens").figures.calibration
            self.assertEqual((fewer.by_hand, fewer.left_out - c.left_out), (2, 2))
            # zoom changed for some of them
            job.db.execute("UPDATE photo SET focal_mm = 70 WHERE id > 5")
            job.set_settings(sitting.id, "lens", {"source": "targets"})
            with self.assertRaisesRegex(UmbrateError, "not taken with one lens at one zoom"):
                run(job, sitting, "lens")

    def test_photos_that_come_in_one_by_one_are_told_what_is_missing(self):
        with Job.create(scratch() / "j") as job:
            files = sorted(self.photos.glob("*.jpg"))
            sitting, _, _ = take_in(job, "Sheets", read_files(files[:2]))
            job.set_settings(sitting.id, "lens", {"source": "targets"})
            out = run(job, sitting, "lens")
            self.assertIsNone(out.figures.calibration)
            g = out.figures.gathering
            self.assertEqual(g.photos, 2)
            self.assertIn("2 of 2 photos show", out.problems[0]["text"])
            self.assertIn("held the same way", " ".join(c.text for c in g.checks if not c.good))
            self.assertEqual(BY_NAME["lens"].headline(out.figures)[0], "2 of 8 photos")
            with self.assertRaisesRegex(UmbrateError, "no calibration yet"):
                card_of(job, sitting, "mine")
            take_in(job, "Sheets", read_files(files))
            with mock.patch("umbrate.stages.lens.stage.find_targets", side_effect=find_targets) as finding:
                out = run(job, sitting, "lens")
            self.assertEqual((finding.call_count, out.figures.calibration.photos), (6, 8))

    def test_from_the_terminal(self):
        home = scratch()
        done = umbrate("targets", "calibration", "c.pdf", "--paper", "Letter", cwd=home)
        self.assertIn("4 pages with 160 targets", done.stdout, done.stderr)
        self.assertGreater((home / "c.pdf").stat().st_size, 5000)
        done = umbrate("calibrate", self.photos, "--card", "card.json", "--keep", "Mine", "--json", cwd=home)
        self.assertEqual(done.returncode, 0, done.stderr)
        found = json.loads(done.stdout[: done.stdout.rindex("}") + 1])
        self.assertLess(abs(found["lens"]["f"] / LENS.f - 1), 0.0005)
        self.assertEqual(read_card(home / "card.json").lens.f, found["lens"]["f"])
        self.assertIn("Mine", umbrate("cards", cwd=home).stdout)
        done = umbrate("undistort", self.photos, "out", "--card", "card.json", cwd=home)
        self.assertIn("Wrote 8 undistorted photos", done.stdout, done.stderr)
        # masks beside the photos go along, bent as these are
        masked = home / "masked"
        (masked / "masks").mkdir(parents=True)
        first = sorted(Path(self.photos).glob("*.jpg"))[0]
        shutil.copy(first, masked)
        mask = np.zeros((LENS.height, LENS.width), bool)
        mask[10:-10, 20:-20] = True
        Image.fromarray(mask).save(masked / "masks" / f"{first.stem}.png")
        done = umbrate("undistort", masked, "bent", "--card", "card.json", cwd=home)
        self.assertIn("1 undistorted photos, 1 masks", done.stdout, done.stderr)
        bent = np.asarray(Image.open(home / "bent" / "masks" / f"{first.stem}.png")) > 0
        straight = undistort(np.zeros((*mask.shape, 3), np.uint8), mask, read_card(home / "card.json").lens, 1)[1]
        np.testing.assert_array_equal(bent, straight)
        for wrong, said in (
            (("calibrate", pebble_set() / "by-hand"), "No calibration target"),
            (("calibrate", self.photos, "--board", "9-6"), "write it like 9x6"),
            (("undistort", pebble_set() / "by-hand", "o", "--card", "card.json"), "is not of U_0001.jpg"),
            (("targets", "mat", "m.pdf", "--hole", "190"), "no room"),
            (("cards", "--remove", "nope"), "no lens card “nope”"),
        ):
            done = umbrate(*wrong, cwd=home)
            self.assertEqual(done.returncode, 1, wrong)
            self.assertIn(said, done.stderr)

    def test_sheets_printed_at_another_scale_are_told(self):
        ideal = calibration_sheets()
        plane = np.array([[m.x, m.y] for s in ideal for m in s.targets])
        sheet = np.repeat(np.arange(4), 40)
        points = np.hstack([plane * np.where(sheet == 2, 0.97, 1.0)[:, None] * 0.1, np.zeros((160, 1))])
        scales = printed_scales(SimpleNamespace(points=points), SimpleNamespace(sheet=sheet, plane=plane))
        np.testing.assert_allclose([scales[k] for k in range(4)], [1, 1, 0.97, 1])


class Boards(unittest.TestCase):
    lens = Lens(640, 480, 540.0, 322.0, 238.0, (-0.28, 0.10, 0.0), (0.0005, -0.0004))

    def test_all_corners_are_found_in_their_order_or_turned(self):
        columns, rows, side = 9, 6, 25.0
        width, height = (columns + 1) * side + 20, (rows + 1) * side + 20
        board = Printed([], width, height, np.eye(4), (columns + 1, rows + 1, side))
        u, v = np.meshgrid(10 + side * (1 + np.arange(columns)), 10 + side * (1 + np.arange(rows)))
        middle = np.array([width / 2, height / 2, 0])
        for slant, heading, roll in ((5, 0.3, 0.0), (35, 2.0, 0.6), (45, 4.0, 1.5)):
            a = np.radians(slant)
            away = np.array([np.sin(a) * np.cos(heading), np.sin(a) * np.sin(heading), -np.cos(a)])
            E = look_at(middle + 400 * away, middle, up=(np.sin(roll), -np.cos(roll), 0))
            gray = develop_gray(photograph([board], self.lens, E, 4), 1, 0.8).astype(np.float32).mean(2)
            p = np.stack([u.ravel(), v.ravel(), 0 * u.ravel()], 1) @ E[:3, :3].T + E[:3, 3]
            truth = self.lens.project(p[:, :2] / p[:, 2:]).reshape(rows, columns, 2)
            for given in ((columns, rows), (None, None)):
                found = find_board(gray, *given)
                self.assertIsNotNone(found, slant)
                xy = found.xy if found.xy.shape == truth.shape else found.xy.transpose(1, 0, 2)[::-1]
                off = min(np.abs(xy - t).max() for t in (truth, truth[::-1, ::-1]))
                self.assertLess(off, 0.3)
            self.assertIsNone(find_board(gray, 7, 5))
        with self.assertRaises(UmbrateError):
            find_board(gray, 9, None)

    def test_a_webcam_is_calibrated_from_a_board_whose_size_is_found(self):
        columns, rows, side, folder = 9, 6, 25.0, scratch()
        width, height = (columns + 1) * side + 20, (rows + 1) * side + 20
        board = Printed([], width, height, np.eye(4), (columns + 1, rows + 1, side))
        rng = np.random.default_rng(0)
        for k in range(8):
            a, heading = np.radians(rng.uniform(15, 45)), 2 * np.pi * k / 8
            away = np.array([np.sin(a) * np.cos(heading), np.sin(a) * np.sin(heading), -np.cos(a)])
            middle = np.array([width / 2, height / 2, 0]) + rng.normal(size=3) * 20
            E = look_at(middle + rng.uniform(330, 430) * away, middle, up=(0.3 * rng.normal(), -1, 0))
            gray = develop_gray(photograph([board], self.lens, E, 4), k, 0.8)
            Image.fromarray(gray).save(folder / f"W{k}.jpg", quality=90)  # nothing known of camera and lens
        with Job.create(scratch() / "j") as job:
            sitting, _, _ = take_in(job, "Board", read_folder(folder))
            job.set_settings(sitting.id, "lens", {"source": "board"})
            out = run(job, sitting, "lens")
            c = out.figures.calibration
            self.assertEqual(c.targets, columns * rows)
            self.assertGreaterEqual(c.photos, 7)
            self.assertLess(c.rms_px, 0.1)
            self.assertLess(abs(c.lens["f"] - self.lens.f), max(4 * c.sigma["f"], 0.5))
            self.assertLess(c.sigma["f"], 0.005 * self.lens.f)
            self.assertIn("one plane", " ".join(p["text"] for p in out.problems))
            job.set_settings(sitting.id, "lens", {"source": "board", "columns": 12, "rows": 5})
            with self.assertRaisesRegex(UmbrateError, "No photo shows a checkerboard of 12 x 5"):
                run(job, sitting, "lens")

    def test_corners_are_refined_to_where_edges_meet(self):
        v, u = np.mgrid[0:60, 0:80].astype(np.float32)
        x, y = 40.37, 29.81
        edge = lambda d: 1 / (1 + np.exp(-d / 0.45))  # noqa: E731
        a, b = edge((u - x) + 0.2 * (v - y)), edge((v - y) - 0.15 * (u - x))
        gray = 40 + 160 * (a * b + (1 - a) * (1 - b))
        found, sigma = refine_corners(gray, np.array([[42.0, 28.0], [10.0, 10.0]]), 7)
        np.testing.assert_allclose(found[0], [x, y], atol=0.03)
        self.assertTrue(np.isinf(sigma[1]))
