"""What is written outside a job: never over a photo, never over anything that nobody gave leave for."""

import functools
import os
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from click.testing import CliRunner
from PIL import Image
from PyQt6.QtWidgets import QApplication, QFileDialog, QInputDialog, QMessageBox

from tests.scenes import pebble_set, scratch
from tests.test_scaling import put_marks
from tests.test_stages import new_job, run
from umbrate.actions.delivering import export_masks
from umbrate.cli.main import cli
from umbrate.core.errors import UmbrateError, WouldReplace
from umbrate.core.geometry.lens import Lens
from umbrate.formats.files import CLOSED, Gate, as_written, taken_by_camera, written_aside
from umbrate.formats.lenscards import LensCard, put_on_shelf, read_card, shelf, take_off_shelf, write_card
from umbrate.job.store import Job
from umbrate.sitting.guarding import export_names, files_read, folder_names, gate_of
from umbrate.sitting.masks import decode_mask, encode_mask
from umbrate.stages.masks.files import match_files


def card(name="C", size=(640, 480)):
    """A lens card."""
    return LensCard(name, "Cam", "", 35.0, Lens.guess(*size, 600.0), {"f": 0.1}, "2026-01-01", 8, 400, 0.1)


@functools.cache
def solved_job():
    """A folder with PNG photos without a camera's name, their masks, and a job in which all of it ran."""
    home = scratch()
    photos = home / "photos"
    (photos / "masks").mkdir(parents=True)
    for f in sorted((pebble_set() / "by-hand").glob("*.jpg")):
        with Image.open(f) as image:
            exif = Image.Exif()
            exif.get_ifd(0x8769)[0xA405] = image.getexif().get_ifd(0x8769)[0xA405]
            image.save(photos / f"{f.stem}.png", exif=exif, compress_level=1)
        (photos / "masks" / f"{f.stem}.png").write_bytes((f.parent / "masks" / f"{f.stem}.png").read_bytes())
    job, sitting = new_job(home / "j", photos)
    for name in ("photos", "masks", "lens", "poses", "cloud"):
        run(job, sitting, name)
    put_marks(job, sitting)
    job.add_length(sitting.id, "T0", "T1", 20.0)
    job.add_length(sitting.id, "T2", "T3", 20.0)
    job.add_shape(sitting.id, "line", [p.id for p in job.marked_points(sitting.id)[:3]])
    run(job, sitting, "scale")
    job.add_measurement(sitting.id, "distance", ["T0", "T2"])
    job.close()
    return job.folder, photos


def contents(folder):
    """All files below a folder with what is in them."""
    return {str(f.relative_to(folder)): f.read_bytes() for f in Path(folder).rglob("*") if f.is_file()}


def call(*arguments):
    """Run a command in this process."""
    return CliRunner().invoke(cli, [str(a) for a in arguments])


class TheGate(unittest.TestCase):
    def setUp(self):
        self.home = scratch()
        self.file = self.home / "there.txt"
        self.file.write_text("mine")

    def write(self, path, gate=CLOSED):
        with written_aside(path, gate) as part:
            part.write_text("new")

    def test_what_is_there_is_replaced_only_with_leave_and_what_is_read_never(self):
        self.write(self.home / "new.txt")
        with self.assertRaises(WouldReplace) as caught:
            self.write(self.file)
        self.assertEqual((caught.exception.paths, self.file.read_text()), ([self.file], "mine"))
        self.write(self.file, Gate(True))
        self.assertEqual(self.file.read_text(), "new")
        (self.home / "link").symlink_to(self.file)
        os.link(self.file, self.home / "hard")
        (self.home / "dangling").symlink_to(self.home / "nowhere")
        gate = Gate(True, [self.file], self.home / "job")
        for path in (self.file, self.home / "link", self.home / "hard", self.home / "." / "x" / ".." / "there.txt"):
            (self.home / "x").mkdir(exist_ok=True)
            with self.assertRaisesRegex(UmbrateError, "never written over"):
                self.write(path, gate)
        with self.assertRaises(WouldReplace):
            self.write(self.home / "dangling")
        (self.home / "job" / "blobs").mkdir(parents=True)
        for path in (self.home / "job" / "x", self.home / "job" / "blobs" / "x"):
            with self.assertRaisesRegex(UmbrateError, "own folder"):
                self.write(path, gate)
        with self.assertRaisesRegex(UmbrateError, "is a folder"):
            self.write(self.home / "x", Gate(True))
        with self.assertRaisesRegex(UmbrateError, "Two files"):
            CLOSED.check(self.home / "a.png", self.home / "A.png")
        for name in ("n" * 300, "a\0b"):
            with self.assertRaises(UmbrateError):
                self.write(self.home / name)
        self.assertEqual([f.name for f in self.home.glob(".part-*")], [])

    def test_a_file_that_comes_to_be_while_it_is_written_is_not_replaced(self):
        path = self.home / "late.txt"
        with self.assertRaises(WouldReplace), written_aside(path) as part:
            part.write_text("new")
            path.write_text("somebody else's")
        self.assertEqual(path.read_text(), "somebody else's")
        with mock.patch("umbrate.formats.files.os.link", side_effect=OSError(1, "no links here")):
            self.write(self.home / "plain.txt")
            with self.assertRaises(WouldReplace):
                self.write(path)
        self.assertEqual([f.name for f in self.home.glob(".part-*")], [])

    def test_photos_of_a_camera_are_known_whoever_they_belong_to(self):
        picture = Image.fromarray(np.zeros((32, 32, 3), np.uint8))
        exif = Image.Exif()
        exif[0x0110] = "Camera"
        picture.save(self.home / "photo.jpg", exif=exif)
        picture.save(self.home / "drawn.png")
        (self.home / "raw.nef").write_bytes(b"x")
        self.assertEqual(
            [taken_by_camera(self.home / n) for n in ("photo.jpg", "drawn.png", "raw.nef", "there.txt")],
            [True, False, True, False],
        )
        with self.assertRaisesRegex(UmbrateError, "camera took"):
            self.write(self.home / "photo.jpg", Gate(True))

    def test_a_writer_that_fails_leaves_nothing_and_says_why(self):
        for error in (
            OSError(28, "No space left on device"),
            RuntimeError("library says no\nin line 782"),
            ValueError("odd"),
        ):
            with self.assertRaisesRegex(UmbrateError, "could not be written"), written_aside(self.home / "x") as part:
                part.write_text("half")
                raise error
        from umbrate.formats.clouds import write_cloud

        cloud = {"points": np.zeros((3, 3), np.float32)}
        with mock.patch("pye57.E57.write_scan_raw", side_effect=RuntimeError("E57 exception: write failed")):
            with self.assertRaisesRegex(UmbrateError, "write failed"):
                write_cloud(self.home / "c.e57", cloud)
        self.assertEqual([f.name for f in self.home.iterdir()], ["there.txt"])


class EveryCommand(unittest.TestCase):
    """Each command that writes: into a new place, over its own file, over a photo."""

    def setUp(self):
        self.job, self.photos = solved_job()
        self.home = scratch()
        put_on_shelf(card("kept"), replace=True)
        self.before = contents(self.photos)
        self.addCleanup(lambda: self.assertEqual(contents(self.photos), self.before))

    def test_files(self):
        j = self.job
        commands = {
            **{f"c.{e}": lambda f: ("export", j, "cloud", f) for e in ("ply", "las", "laz", "e57", "xyz", "csv")},
            "cams.json": lambda f: ("export", j, "cameras", f), "cams.csv": lambda f: ("export", j, "cameras", f),
            **{f"p.{e}": lambda f: ("points", j, "--export", f) for e in ("csv", "dxf", "obj")},
            **{f"m.{e}": lambda f: ("measure", j, "--export", f) for e in ("csv", "json")},
            **{f"s.{e}": lambda f: ("section", j, f) for e in ("svg", "dxf", "csv")},
            "r.pdf": lambda f: ("report", j, f), "v.png": lambda f: ("picture", j, f, "--width", 64, "--height", 64),
            "steps.json": lambda f: ("clean", j, "--save-steps", f), "t.pdf": lambda f: ("targets", "bars", f),
            "card.json": lambda f: ("cards", "--export", "kept", "--to", f),
        }  # fmt: skip
        photo = next(self.photos.glob("*.png"))
        for name, command in commands.items():
            with self.subTest(name):
                file = self.home / name
                out = call(*command(file))
                self.assertEqual(out.exit_code, 0, out.output)
                self.assertGreater(file.stat().st_size, 20)
                file.write_text("mine")
                out = call(*command(file))
                self.assertEqual((out.exit_code, file.read_text()), (1, "mine"), out.output)
                self.assertIn("--replace", out.output)
                out = call(*command(file), "--replace")
                self.assertEqual(out.exit_code, 0, out.output)
                self.assertNotEqual(file.read_bytes(), b"mine")
                if name in ("t.pdf", "card.json"):
                    continue  # these know no job
                file.unlink()
                os.link(photo, file)
                out = call(*command(file), "--replace")
                self.assertEqual(out.exit_code, 1, out.output)
                self.assertIn("never written over", out.output)
        self.assertEqual([f for f in self.home.iterdir() if f.name.startswith(".part")], [])

    def test_folders(self):
        j, masks = self.job, self.photos / "masks"
        plain = self.home / "card.json"
        with Image.open(next(self.photos.glob("*.png"))) as image:
            write_card(plain, card("of these", image.size))
        commands = (
            ("export", j, "masks"), ("undistort", j), ("undistort", self.photos, "--card", plain),
            ("preview", j, "--sitting", "By hand", "--set", "masks.method=color"),
        )  # fmt: skip
        for k, command in enumerate(commands):
            with self.subTest(command[0]):
                where = 3 if command[0] == "export" else 2

                def with_folder(folder, command=command, where=where):
                    return (*command[:where], folder, *command[where:])

                new = self.home / f"new {k}"
                out = call(*with_folder(new))
                self.assertEqual(out.exit_code, 0, out.output)
                made = contents(new)
                self.assertGreater(len(made), 3)
                out = call(*with_folder(new))
                self.assertEqual((out.exit_code, contents(new)), (1, made), out.output)
                self.assertEqual(call(*with_folder(new), "--replace").exit_code, 0)
                for place in (self.photos, *([masks] if command[0] == "export" else [])):
                    for more in ((), ("--replace",)):
                        if command[0] == "preview":  # it writes JPEG: put photos of that name there
                            continue
                        out = call(*with_folder(place), *more)
                        self.assertEqual(out.exit_code, 1, out.output)
                        self.assertIn("never written over" if more else "written", out.output)
                        self.assertEqual(contents(self.photos), self.before)

    def test_a_preview_into_the_folder_of_its_jpeg_photos(self):
        photos = self.home / "jpegs"
        photos.mkdir()
        for f in sorted((pebble_set() / "by-hand").glob("*.jpg"))[:4]:
            (photos / f.name).write_bytes(f.read_bytes())
        Job.create(self.home / "k").close()
        self.assertEqual(call("add", self.home / "k", photos, "--sitting", "A").exit_code, 0)
        before = contents(photos)
        for more in ((), ("--replace",)):
            out = call("preview", self.home / "k", photos, "--sitting", "A", "--set", "masks.method=color", *more)
            self.assertEqual(out.exit_code, 1, out.output)
        self.assertEqual(contents(photos), before)

    def test_a_studio_and_a_shelf_write_over_nothing(self):
        (self.home / "truth.json").write_text("mine")
        out = call("simulate", "pebble", self.home)
        self.assertEqual((out.exit_code, (self.home / "truth.json").read_text()), (1, "mine"))
        file = self.home / "card.json"
        write_card(file, card("kept"))
        out = call("cards", "--import", file)
        self.assertEqual(out.exit_code, 1)
        self.assertIn("--replace", out.output)
        self.assertEqual(call("cards", "--import", file, "--replace").exit_code, 0)


class Names(unittest.TestCase):
    def test_photos_of_one_name_get_files_of_their_own_that_are_read_again(self):
        home = scratch()
        picture = Image.fromarray(np.random.default_rng(0).integers(0, 255, (48, 64, 3), np.uint8))
        for name in ("top/a.jpg", "side/a.jpg", "top/b.jpg", "top/b.png", "top/c.jpg", "other/top/d.jpg", "top/d.jpg"):
            (home / name).parent.mkdir(parents=True, exist_ok=True)
            picture.save(home / name)
        Job.create(home / "j").close()
        files = [*home.glob("top/*"), *home.glob("side/*"), *home.glob("other/top/*")]
        out = call("add", home / "j", *files, "--sitting", "..")
        self.assertEqual(out.exit_code, 0, out.output)
        with Job.open(home / "j") as job:
            (s,) = job.sittings()
            photos = job.photos(s.id)
            self.assertEqual(len(photos), 7)
            marks = {}
            for k, p in enumerate(photos):
                mask = np.zeros((48, 64), bool)
                mask[k : k + 4, :9] = True
                marks[p.id] = job.blobs.put_bytes(encode_mask(mask))
            job.set_hand_masks(marks, "x")
            names = export_names(photos)
            self.assertEqual(len({n.lower() for n in names.values()}), 7)
            self.assertIn("c", names.values())
            job.add_sitting("Empty", [])
            written = export_masks(job, home / "out")
            self.assertTrue(all(f.startswith("unnamed/") for _, f in written))  # not one folder up
            self.assertFalse(any((home / x).exists() for x in ("a.png", "b.png", "c.png")))
            self.assertIn("files of their own", as_written(written))
            # what was exported goes with the photos it is of, but for two that nothing tells apart
            found = match_files(home / "out" / "unnamed", "{name}.png", photos)
            right = 0
            for p in photos:
                if p.id in found.file:
                    same = np.array_equal(
                        decode_mask(found.file[p.id].read_bytes()), decode_mask(job.blobs.get_bytes(marks[p.id]))
                    )
                    right += same
            self.assertGreaterEqual(right, 5)
            self.assertEqual(len(set(folder_names(job.sittings()).values())), 2)
            reads = set(files_read(job))
            self.assertTrue({job.photo_path(p) for p in photos} <= reads)
            for bad in ("mask.png", "../{name}.png", "x/{name}.png"):
                with self.assertRaises(UmbrateError):
                    export_masks(job, home / "out2", s, bad)

    def test_sittings_whose_names_differ_little_have_folders_of_their_own(self):
        with Job.create(scratch() / "j") as job:
            for name in ("a/b", "a-b", "A-B", "..", ".", "x" * 120):
                job.add_sitting(name, [])
            names = folder_names(job.sittings())
            self.assertEqual(len({n.lower() for n in names.values()}), 6)
            self.assertTrue(all("/" not in n and n.strip(".") for n in names.values()))


class Cards(unittest.TestCase):
    def setUp(self):
        for file, _ in shelf():
            take_off_shelf(file)

    def test_a_bad_card_is_passed_over_named_and_removable(self):
        import json

        from umbrate.formats.lenscards import damaged_cards, shelf_folder

        put_on_shelf(card("good"))
        whole = card("bad").as_dict()
        bad = (
            {"focal_mm": "fifty"}, {"rms_px": "x"}, {"photos": "many"}, {"lens": {**whole["lens"], "width": 1e400}},
            {"lens": {**whole["lens"], "f": float("nan")}}, {"lens": {**whole["lens"], "width": "640"}, "sigma": []},
            {"sigma": {"f": float("inf")}}, {"name": ""}, {"name": "x" * 300}, {"lens": 3}, {"focus_m": -1},
        )  # fmt: skip
        for k, change in enumerate(bad):
            (shelf_folder() / f"bad {k}.json").write_text(json.dumps({**whole, **change}))
        (shelf_folder() / "deep.json").write_text("[" * 100_000)
        self.assertEqual([c.name for _, c in shelf()], ["good"])
        self.assertEqual(len(damaged_cards()), len(bad) + 1)
        out = call("cards")
        self.assertEqual(out.exit_code, 0)
        self.assertIn("bad 3.json", out.output)
        for file, _ in damaged_cards():
            self.assertEqual(call("cards", "--remove", file.name).exit_code, 0)
        self.assertEqual((len(damaged_cards()), len(shelf())), (0, 1))

    def test_cards_of_like_names_do_not_share_a_file(self):
        files = {put_on_shelf(card(n)) for n in ("A/B", "A-B", "A:B", "..")}
        self.assertEqual(len(files), 4)
        self.assertEqual({read_card(f).name for f in files}, {"A/B", "A-B", "A:B", ".."})
        with self.assertRaises(WouldReplace):
            put_on_shelf(card("A/B"))
        self.assertIn(put_on_shelf(card("A/B"), replace=True), files)


class EveryDialog(unittest.TestCase):
    """The same in the window: what is there is asked for, once."""

    @classmethod
    def setUpClass(cls):
        from umbrate.desk.window import Window

        cls.app = QApplication.instance() or QApplication(["umbrate"])
        cls.folder, cls.photos = solved_job()
        cls.window = Window()
        cls.addClassCleanup(cls.window.close)
        cls.window.show()
        cls.window.open_path(cls.folder)
        cls.app.processEvents()

    def answer(self, act, replace):
        """Do something; the question whether to replace is answered. Returns how often it was asked."""
        asked = []

        def exec_(box):
            asked.append(box.text())
            wanted = "Replace" if replace else "Leave it"
            box._clicked = next(b for b in box.buttons() if b.text() == wanted)

        with (
            mock.patch.object(QMessageBox, "exec", exec_),
            mock.patch.object(QMessageBox, "clickedButton", lambda box: box._clicked),
        ):
            act()
            end, idle = time.monotonic() + 60, 0
            while idle < 3 and time.monotonic() < end:
                self.app.processEvents()
                s = self.window.session
                idle = (idle + 1) * (s.tasks.idle and s.background.idle)
                time.sleep(0.01)
        return len(asked)

    def test_every_dialog_asks_before_it_replaces_and_never_replaces_a_photo(self):
        from umbrate.desk.bench.cloud import CloudsPart
        from umbrate.desk.bench.markedpoints import PointsPanel
        from umbrate.desk.bench.measurements import MeasurePanel
        from umbrate.desk.bench.shapes import ShapesPanel
        from umbrate.desk.dialogs.exporting import ExportDialog
        from umbrate.desk.dialogs.lens import SheetsDialog, ShelfDialog
        from umbrate.desk.dialogs.problem import ProblemDialog
        from umbrate.desk.dialogs.section import SectionDialog

        w, s, home = self.window, self.window.session, scratch()
        before = contents(self.photos)
        put_on_shelf(card("kept"), replace=True)
        measures, points = MeasurePanel(s), PointsPanel(s)
        s.choose(stage="cloud")
        cloud, shelf_dialog, section = CloudsPart(s), ShelfDialog(w), SectionDialog(s, w)
        shapes, problem = ShapesPanel(s), ProblemDialog(s, w)
        end = time.monotonic() + 60
        while section.drawing.section is None and time.monotonic() < end:
            self.app.processEvents()
            time.sleep(0.01)
        shelf_dialog.table.selectRow(0)
        files = {
            "c.ply": w.deliver.cloud, "k.json": w.deliver.cameras, "m.csv": measures._export, "r.pdf": measures._report,
            "p.csv": points._give, "p.dxf": points._drawing, "s.svg": section._save,
            "v.png": w.scene.view._save_picture, "steps.json": cloud._write_steps, "t.pdf": w.deliver.sheets,
            "card.json": shelf_dialog._export, "l.dxf": shapes._write, "p.zip": problem._save,
        }  # fmt: skip
        photo = next(self.photos.glob("*.png"))
        for name, act in files.items():
            with self.subTest(name):
                file = home / name
                with (
                    mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(file), "")),
                    mock.patch.object(QInputDialog, "getInt", return_value=(64, True)),
                    mock.patch.object(SheetsDialog, "exec", return_value=True),
                    mock.patch.object(ExportDialog, "exec", return_value=True),
                ):
                    self.assertEqual(self.answer(act, False), 0)
                    self.assertGreater(file.stat().st_size, 20)
                    file.write_text("mine")
                    self.assertEqual((self.answer(act, False), file.read_text()), (1, "mine"))
                    self.assertEqual(self.answer(act, True), 1)
                    self.assertNotEqual(file.read_bytes(), b"mine")
                    if name not in ("t.pdf", "card.json"):
                        file.unlink()
                        os.link(photo, file)
                        self.assertEqual(self.answer(act, True), 0)
        for k, act in enumerate((w.deliver.masks, w.deliver.undistorted)):
            new = home / f"new {k}"
            with mock.patch.object(QFileDialog, "getExistingDirectory", return_value=str(new)):
                self.assertEqual(self.answer(act, False), 0)
                made = contents(new)
                self.assertEqual(self.answer(act, False), 1)
                self.assertEqual(self.answer(act, True), 1)
                self.assertEqual(contents(new).keys(), made.keys())
            with mock.patch.object(QFileDialog, "getExistingDirectory", return_value=str(self.photos)):
                self.assertEqual(self.answer(act, True), 0)
        self.assertEqual(contents(self.photos), before)
        self.assertNotIn("Traceback", " ".join(s.log.lines))


class OfAJob(unittest.TestCase):
    def test_the_gate_of_a_job_knows_all_that_it_reads(self):
        home = scratch()
        for folder in ("photos", "masks", "plates"):
            (home / folder).mkdir()
            for k in range(2):
                Image.fromarray(np.full((32, 32, 3), 9 * k, np.uint8)).save(home / folder / f"{k}.png")
        Job.create(home / "j").close()
        call("add", home / "j", home / "photos", "--sitting", "A", "--masks", home / "masks")
        with Job.open(home / "j") as job:
            s = job.sittings()[0]
            job.set_aside([job.photos(s.id)[0].id], True)
            job.keep_as_plates([job.photos(s.id)[1].id])
            job.set_settings(s.id, "masks", {"plates": str(home / "plates"), "folder": str(home / "masks")})
            gate = gate_of(job, True)
            for folder in ("photos", "masks", "plates"):
                for k in range(2):
                    with self.assertRaisesRegex(UmbrateError, "never"):
                        gate.check(home / folder / f"{k}.png")
            gate.check(home / "new.png")


if __name__ == "__main__":
    unittest.main()
