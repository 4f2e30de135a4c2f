"""The command line as a user types it."""

import contextlib
import json
import os
import shutil
import subprocess
import sys
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from click.testing import CliRunner
from PIL import Image
from plyfile import PlyData

from tests.scenes import card_set, pebble_set, pebble_truth, scratch
from tests.test_job import record
from tests.test_stages import job_with
from umbrate.cli.main import cli
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.lens import Lens
from umbrate.core.imaging.decode import read_mask
from umbrate.core.masking.clean import overlap
from umbrate.formats.cameras import write_cameras
from umbrate.formats.clouds import write_cloud
from umbrate.job.store import Job

ROOT = Path(__file__).resolve().parents[1]


def shell(*arguments, cwd):
    """Run a command as a shell does, in a process of its own; returns the completed process."""
    env = {**os.environ, "PYTHONPATH": str(ROOT / "src"), "COLUMNS": "200"}
    command = [sys.executable, "-m", "umbrate", *map(str, arguments)]
    return subprocess.run(command, capture_output=True, text=True, env=env, cwd=cwd, timeout=600)


def umbrate(*arguments, cwd=None):
    """Run a command in this process, which is begun already; returns what `shell` would."""
    with contextlib.chdir(cwd or scratch()):
        done = CliRunner(env={"COLUMNS": "200"}).invoke(cli, [str(a) for a in arguments])
    return subprocess.CompletedProcess(arguments, done.exit_code, done.stdout, done.stderr)


def inside(*arguments, cwd):
    """The same as exit code, stdout, stderr."""
    done = umbrate(*arguments, cwd=cwd)
    return done.returncode, done.stdout, done.stderr


class WholeJob(unittest.TestCase):
    def test_new_add_run_status_export(self):
        home = scratch()
        self.assertEqual(umbrate("new", "bird", cwd=home).returncode, 0)
        photos = pebble_set() / "by-hand"
        done = shell("add", "bird", photos, "--sitting", "By hand", "--masks", photos / "masks", cwd=home)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertIn("Added 12 photos", done.stdout)
        before = json.loads(umbrate("status", "bird", "--json", cwd=home).stdout)
        self.assertEqual(before["sittings"][0]["stages"]["lens"]["state"], "ready")
        sets = ["--set", "poses.features=3000", "--set", "cloud.photo_scale=2", "--set", "cloud.rounds=1"]
        done = shell("run", "bird", "--to", "poses", *sets[:2], cwd=home)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("12/12", done.stdout)
        self.assertNotIn("\x1b", done.stdout)  # plain lines where there is no terminal
        done = umbrate("run", "bird", *sets, cwd=home)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertNotIn("By hand, Poses", done.stdout)  # it is current already
        self.assertIn("up to date", umbrate("run", "bird", cwd=home).stdout)
        status = json.loads(umbrate("status", "bird", "--json", cwd=home).stdout)
        stages = status["sittings"][0]["stages"]
        # nothing is known of its lengths, so Scale had nothing to do; and nobody saw what it stands on
        self.assertEqual(
            {n: s["state"] for n, s in stages.items() if s["state"] != "done"},
            {"scale": "ready", "join": "nothing", "surface": "look", "texture": "look", "deliver": "ready"},
        )
        table = umbrate("status", "bird", cwd=home).stdout
        self.assertIn("By hand", table)
        self.assertIn("12/12", table)

        self.assertEqual(umbrate("export", "bird", "cloud", "out.ply", cwd=home).returncode, 0)
        self.assertEqual(umbrate("export", "bird", "surface", "surface.stl", cwd=home).returncode, 0)
        self.assertEqual(umbrate("export", "bird", "texture", "textured.glb", cwd=home).returncode, 0)
        self.assertEqual(umbrate("export", "bird", "cameras", "out.json", cwd=home).returncode, 0)
        ply = PlyData.read(str(home / "out.ply"))["vertex"]
        self.assertEqual(len(ply), stages["cloud"]["figures"]["points"])
        document = json.loads((home / "out.json").read_text())
        self.assertEqual((document["format"], document["version"], document["unit"]), ("umbrate-cameras", 1, None))
        # the two files belong together: the cloud falls on the object in every photo
        truth, X = pebble_truth(), np.stack([ply[a] for a in "xyz"], 1).astype(float)
        (lens,) = document["lenses"]
        for photo in document["photos"]:
            E = np.array(photo["world_to_camera"])
            Y = X @ E[:3, :3].T + E[:3, 3]
            uv = Lens.from_dict(lens).project(Y[:, :2] / Y[:, 2:])
            mask = read_mask(photos / "masks" / (Path(photo["name"]).stem + ".png"))
            u = np.clip(np.round(uv).astype(int), 0, [639, 479])
            self.assertGreater(mask[u[:, 1], u[:, 0]].mean(), 0.97)
        figures, M = truth.judge_poses(
            "By hand", {p["name"]: np.array(p["world_to_camera"]) for p in document["photos"]}
        )
        self.assertEqual(figures["solved"], 12)
        self.assertLess(truth.judge_cloud("By hand", X, M)["distance_mm_median"], 0.3)

    def test_what_a_user_gets_wrong_is_told_in_one_sentence_with_exit_code_1(self):
        home = scratch()
        photos = pebble_set() / "by-hand"
        umbrate("new", "j", cwd=home)
        (home / "empty").mkdir()
        wrong = [
            (("new", "j"), "is there already"),
            (("new", "no/such/place/j"), None),
            (("status", "none"), "does not exist"),
            (("add", "j", "nowhere", "--sitting", "A"), "does not exist"),
            (("add", "j", "empty", "--sitting", "A"), "no photos"),
            (("add", "j", photos, "--sitting", " "), "needs a name"),
            (("run", "j"), "no sittings yet"),
            (("run", "j", "--sitting", "X"), "no sitting “X”"),
            (("export", "j", "cloud", "o.ply"), "no dense cloud yet"),
            (("export", "j", "cameras", "o.json"), "no poses yet"),
            (("simulate", "moon", "out"), "no scene “moon”"),
        ]
        done = shell(*wrong[0][0], cwd=home)  # as a shell sees it
        self.assertEqual((done.returncode, done.stdout, done.stderr.count("\n")), (1, "", 1))
        for arguments, said in wrong:
            code, out, err = inside(*arguments, cwd=home)
            if said is None:
                self.assertEqual(code, 0)
                continue
            self.assertEqual((code, out), (1, ""), arguments)
            self.assertIn(said, " ".join(err.split()))
            self.assertNotIn("Traceback", err)
        umbrate("add", "j", photos, "--sitting", "A", cwd=home)
        for sets, said in (
            ("poses.feature=3", "no setting “feature”"),
            ("poses.features=3", "500"),
            ("nonsense", "STAGE.SETTING=VALUE"),
        ):
            code, _, err = inside("run", "j", "--set", "cloud.seed=5", "--set", sets, cwd=home)
            self.assertEqual(code, 1)
            self.assertIn(said, " ".join(err.split()))
        with Job.open(home / "j") as job:  # nothing of a wrong list is applied
            self.assertEqual(job.settings(job.sittings()[0].id, "cloud"), {})
        self.assertEqual(inside("run", "j", "--to", "moon", cwd=home)[0], 1)
        self.assertEqual(inside("nonsense", cwd=home)[0], 2)

    def test_a_stage_that_fails_or_refuses_files_gives_a_failing_exit_code(self):
        home = scratch()
        umbrate("new", "j", cwd=home)
        one = home / "one"
        one.mkdir()
        (one / "a.jpg").write_bytes((pebble_set() / "by-hand" / "U_0001.jpg").read_bytes())
        (one / "b.jpg").write_bytes(b"")
        done = umbrate("add", "j", one, "--sitting", "A", cwd=home)
        self.assertEqual(done.returncode, 1)
        self.assertIn("b.jpg is empty", done.stderr)
        done = umbrate("run", "j", cwd=home)
        self.assertEqual(done.returncode, 1)
        self.assertIn("only one usable photo", done.stderr)


class Sorting(unittest.TestCase):
    """A card with two sittings and their plates, sorted and masked in the terminal."""

    def test_split_mask_and_write_masks(self):
        home, card = scratch(), card_set() / "card"
        umbrate("new", "j", cwd=home)
        done = umbrate("add", "j", card, "--sitting", "Card", cwd=home)
        self.assertIn("show the bare backdrop: U_0107.jpg, U_0137.jpg", done.stdout)
        self.assertEqual(done.returncode, 1)  # something is to be looked at
        dry = umbrate("split", "j", "--sitting", "Card", "--dry-run", cwd=home)
        self.assertIn("U_0101.jpg to U_0106.jpg, 6 photos, plates U_0107.jpg", dry.stdout)
        self.assertEqual(len(json.loads(umbrate("status", "j", "--json", cwd=home).stdout)["sittings"]), 1)
        self.assertEqual(umbrate("split", "j", "--sitting", "Card", cwd=home).returncode, 0)
        status = json.loads(umbrate("status", "j", "--json", cwd=home).stdout)
        self.assertEqual([s["name"] for s in status["sittings"]], ["Card", "Card 2"])
        again = umbrate("split", "j", "--sitting", "Card 2", "--at", "gaps", cwd=home)
        self.assertEqual(again.returncode, 1)
        self.assertIn("Nothing separates", again.stdout)
        sets = ["--set", "masks.method=plate", "--set", "masks.leave_out=#F6FCFF,#DFDFDD", "--set", "masks.holes=4"]
        done = umbrate("run", "j", "--to", "masks", *sets, cwd=home)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(umbrate("export", "j", "masks", "out", "--pattern", "{name}_m.png", cwd=home).returncode, 0)
        for sitting, folder in (("Card", "upright"), ("Card 2", "on-its-back")):
            files = sorted((home / "out" / sitting).glob("*_m.png"))
            self.assertEqual(len(files), 6)
            for file in files:
                truth = read_mask(card_set() / folder / "masks" / file.name.replace("_m", ""))
                self.assertGreater(overlap(read_mask(file), truth), 0.93)
        one = umbrate("export", "j", "masks", "one", "--sitting", "Card", cwd=home)
        self.assertIn("Wrote 6 masks", one.stdout)
        self.assertTrue((home / "one" / "U_0101.png").is_file())

    def test_a_video_becomes_a_sitting_and_moved_photos_are_found(self):
        from tests.test_imaging import write_video

        home = scratch()
        write_video(home / "walk round.mp4")
        umbrate("new", "j", cwd=home)
        done = umbrate("add", "j", "walk round.mp4", "--sitting", "Walk", "--every", "0.5", cwd=home)
        self.assertIn("Added 5 photos", done.stdout, done.stderr)
        (frames,) = (home / "j.umbrate" / "frames").iterdir()
        self.assertTrue(frames.name.startswith("walk round"))
        self.assertEqual(len(list(frames.glob("*.jpg"))), 5)
        bad = umbrate("add", "j", "none.mp4", "--sitting", "X", cwd=home)
        self.assertEqual(bad.returncode, 1)
        self.assertIn("none.mp4", bad.stderr)
        frames.rename(home / "elsewhere")
        missing = umbrate("find", "j", "j.umbrate", cwd=home)
        self.assertEqual((missing.returncode, missing.stdout.strip()), (1, "Found 0 photos; 5 are missing."))
        found = umbrate("find", "j", ".", cwd=home)
        self.assertEqual((found.returncode, found.stdout.strip()), (0, "Found 5 photos; 0 are missing."))
        self.assertEqual(umbrate("run", "j", "--to", "photos", "--redo", cwd=home).returncode, 0)

    def test_photos_are_sorted_and_masks_tried(self):
        home, photos = scratch(), card_set() / "upright"
        umbrate("new", "j", cwd=home)
        done = umbrate("add", "j", *sorted(photos.glob("*.jpg"))[:5], photos, "--sitting", "A", cwd=home)
        self.assertIn("Added 1 photos to “A” (5 were there already)", done.stdout, done.stderr)

        def listed():
            rows = json.loads(umbrate("photos", "j", "--json", cwd=home).stdout)
            return {(r["sitting"], r["name"]): r for r in rows}

        umbrate("aside", "j", "U_010[12].jpg", "--sitting", "A", cwd=home)
        umbrate("aside", "j", "U_0101.jpg", "--sitting", "A", "--back", cwd=home)
        umbrate("turn", "j", "U_0103.jpg", "--sitting", "A", "--by", "270", cwd=home)
        umbrate("move", "j", "U_0106*", "--sitting", "A", "--to", "B", cwd=home)
        rows = listed()
        self.assertEqual([r["use"] for r in rows.values()], ["in use", "aside", *["in use"] * 4])
        self.assertEqual((rows["A", "U_0103.jpg"]["turn"], rows["B", "U_0106.jpg"]["f_number"]), (3, 16.0))
        self.assertIn("1/60 s f/16 ISO 100", umbrate("photos", "j", "--sitting", "B", cwd=home).stdout)
        self.assertIn("“B”, “A”", umbrate("sitting", "j", "B", "--up", cwd=home).stdout)
        self.assertIn("“C”, “A”", umbrate("sitting", "j", "B", "--rename", "C", cwd=home).stdout)
        self.assertTrue(umbrate("sitting", "j", "C", "--merge-into", "A", cwd=home).stdout.endswith("now: “A”\n"))
        for wrong, said in (
            (("aside", "j", "x*", "--sitting", "A"), "has no photo x*"),
            (("turn", "j", "x", "--sitting", "Z"), "no sitting “Z”"),
            (("sitting", "j", "A", "--up", "--down"), "one thing"),
            (("preview", "j", "out", "--sitting", "A", "--set", "masks.nope=1"), "no setting “nope”"),
        ):
            done = umbrate(*wrong, cwd=home)
            self.assertEqual(done.returncode, 1)
            self.assertIn(said, done.stderr)
        color = ("--set", "masks.method=color", "--set", "masks.backdrop_color=#3060FF")
        done = umbrate("preview", "j", "out", "--sitting", "A", "--photos", "U_0103.jpg", *color, cwd=home)
        self.assertIn("the object fills", done.stdout, done.stderr)
        with Image.open(home / "out" / "U_0103.jpg") as tried, Image.open(photos / "U_0103.jpg") as photo:
            self.assertEqual(tried.size, photo.size[::-1])  # as it is shown: turned
        with Job.open(home / "j.umbrate", writable=False) as job:
            self.assertEqual(job.settings(job.sittings()[0].id, "masks").get("method", "files"), "files")


class Demo(unittest.TestCase):
    """The demo's judging, on made-up figures: the demo itself is run by bench/demo.py."""

    def test_the_worse_sitting_counts_and_a_missing_figure_is_missed(self):
        from umbrate.work import demo

        good = {key: limit * (1.05 if more else 0.5) for key, _, limit, more in demo.LIMITS}
        alone = {k: good[k] for k in (*demo.OF_SITTING, *demo.OF_EVERY)}
        sittings = {
            "A": {**alone, "solved": 24},
            "B": {**alone, "solved": 24, "rotation_deg_median": 0.2},
            "Whole": {**{k: v for k, v in good.items() if k not in alone}, "check_share": 0.9, "whole": True},
        }
        figures = demo.worst(sittings, 100.0)
        self.assertEqual((figures["solved"], figures["rotation_deg_median"], figures["seconds"]), (48, 0.2, 100.0))
        reached = {words: ok for words, _, _, _, ok in demo.verdicts(figures)}
        self.assertFalse(reached["rotation error, median (degrees)"])
        self.assertTrue(reached["photos solved"])
        self.assertEqual(figures["check_share"], 0.9)
        del sittings["Whole"]["distance_px_median"], sittings["B"]["center_percent_median"]
        figures = demo.worst(sittings, 1000.0)
        missed = [words for words, _, _, _, ok in demo.verdicts(figures) if not ok]
        self.assertIn("whole cloud to true surface, median (pixels)", missed)
        self.assertIn("center error, median (% of the distance)", missed)
        self.assertIn("time of the whole job (s)", missed)

    def test_the_demo_job_is_made_once_and_beside_what_is_none_any_more(self):
        from umbrate.work import demo

        data = scratch() / "demo"
        for name in ("upright", "on-its-back"):
            shutil.copytree(pebble_set() / "by-hand", data / name)
        with mock.patch.object(demo, "demo_data", lambda: data):
            place = scratch() / "d"
            with demo.make_demo_job(place) as job:
                first = job.db.execute("SELECT value FROM meta WHERE key = 'uuid'").fetchone()
                self.assertEqual(
                    [(s.name, len(job.photos(s.id))) for s in job.sittings()],
                    [("Upright", 12), ("On its back", 12), ("Whole", 24)],
                )
            with demo.make_demo_job(place) as job:
                self.assertEqual(job.db.execute("SELECT value FROM meta WHERE key = 'uuid'").fetchone(), first)
            with demo.make_demo_job(place) as job:
                job.add_sitting("My jug", [record("/photos/jug.jpg")])
            # somebody's own work is left alone: the demo is made beside it, and found there again
            for _ in range(2):
                with demo.make_demo_job(place) as job:
                    self.assertEqual(job.folder.name, "d 2.umbrate")
            with Job.open(place) as job:
                self.assertIn("My jug", [s.name for s in job.sittings()])
                job.remove_sitting(job.sitting("Upright").id)
            with demo.make_demo_job(place) as job:
                self.assertEqual(job.folder.name, "d 2.umbrate")
            moved = data.with_name("demo moved")
            data.rename(moved)
            (place.parent / "d 3.umbrate").write_text("a file of somebody's")
            with mock.patch.object(demo, "demo_data", lambda: moved), demo.make_demo_job(place) as job:
                self.assertEqual(job.folder.name, "d 4.umbrate")
                self.assertEqual(job.missing_photos(), [])
            with Job.open(place) as job:  # nothing of it was touched
                self.assertEqual(job.db.execute("SELECT value FROM meta WHERE key = 'uuid'").fetchone(), first)
                job.undo()
                self.assertEqual([s.name for s in job.sittings()], ["Upright", "On its back", "Whole", "My jug"])


class Formats(unittest.TestCase):
    def test_a_cloud_comes_back_from_its_file(self):
        rng = np.random.default_rng(1)
        file = scratch() / "c.ply"
        points, normals = rng.normal(size=(2, 50, 3)).astype(np.float32)
        colors = rng.integers(0, 255, (50, 3)).astype(np.uint8)
        cloud = {
            "points": points, "colors": colors, "normals": normals, "photos": np.full(50, 4, np.uint8),
            "score": np.full(50, 0.5, np.float32),
        }  # fmt: skip
        write_cloud(file, cloud, "mm")
        data = PlyData.read(str(file))
        self.assertIn("unit mm", data.comments)
        v = data["vertex"]
        np.testing.assert_array_equal(np.stack([v["x"], v["y"], v["z"]], 1), points)
        np.testing.assert_array_equal(np.stack([v["nx"], v["ny"], v["nz"]], 1), normals)
        np.testing.assert_array_equal(np.stack([v["red"], v["green"], v["blue"]], 1), colors)
        self.assertEqual(set(np.unique(v["photos"])), {4})

    def test_the_cameras_file_is_the_one_that_is_documented(self):
        file = scratch() / "c.json"
        lens = Lens(640, 480, 900.5, 320, 240, (0.1, 0.2, 0.3), (0.01, 0.02), (1, 2))
        E = np.arange(16.0).reshape(4, 4)
        photos = [
            {"name": "a.jpg", "sitting": "Übung", "file": "/p/a.jpg", "lens": "1-1", "pose": E},
            {"name": "b.jpg", "sitting": "Übung", "file": "/p/b.jpg", "lens": None, "pose": None},
        ]
        write_cameras(file, photos, {"1-1": lens})
        d = json.loads(file.read_text(encoding="utf-8"))
        self.assertEqual(set(d), {"format", "version", "unit", "lenses", "photos"})
        self.assertEqual(set(d["lenses"][0]), {"id", "width", "height", "f", "cx", "cy", "k", "p", "b"})
        self.assertEqual(d["photos"][0]["world_to_camera"], E.tolist())
        self.assertIsNone(d["photos"][1]["world_to_camera"])
        self.assertEqual(set(d["photos"][0]), {"name", "sitting", "file", "lens", "world_to_camera"})
        documented = (ROOT / "docs" / "formats.md").read_text()
        for key in ("world_to_camera", "umbrate-cameras", '"b"', '"unit"'):
            self.assertIn(key, documented)

    def test_a_full_disk_leaves_no_half_file(self):
        folder = scratch()
        (folder / "c.json").write_text("old")
        with mock.patch("umbrate.formats.files.os.fsync", side_effect=OSError(28, "No space left on device")):
            with self.assertRaises(UmbrateError):
                write_cameras(folder / "c.json", [], {})
        self.assertEqual([p.name for p in folder.iterdir()], ["c.json"])
        self.assertEqual((folder / "c.json").read_text(), "old")
        with self.assertRaises(UmbrateError):
            write_cameras(folder / "no" / "c.json", [], {})


class Studio(unittest.TestCase):
    def call(self, *arguments):
        return CliRunner().invoke(cli, [str(a) for a in arguments])

    def test_a_photo_set_is_simulated_with_its_truth_and_a_folder_that_holds_files_is_left_alone(self):
        out = scratch() / "set"
        done = self.call("simulate", "pebble", out, "--smaller", "8", "--photos", "2")
        self.assertEqual(done.exit_code, 0, done.output)
        truth = json.loads((out / "truth.json").read_text())
        self.assertTrue(truth["simulated"])
        photos = sorted(p.relative_to(out).as_posix() for p in out.rglob("U_*.jpg"))
        self.assertEqual(len(photos), 2)
        self.assertEqual(Image.open(out / photos[0]).size, (truth["lens"]["width"], truth["lens"]["height"]))
        before = {p: p.stat().st_mtime_ns for p in out.rglob("*")}
        for arguments, words in (
            (("pebble", out), "holds files already"), (("no such", scratch() / "x"), "There is no scene “no such”"),
        ):  # fmt: skip
            refused = self.call("simulate", *arguments)
            self.assertNotEqual(refused.exit_code, 0)
            self.assertIn(words, str(refused.exception) + refused.output)
        self.assertEqual({p: p.stat().st_mtime_ns for p in out.rglob("*")}, before)

    def test_masks_from_shape_say_which_photos_they_filled(self):
        job, _ = job_with(scratch() / "shape", "photos", "masks", "lens", "poses")
        folder = job.folder
        job.close()
        done = self.call("shape-masks", folder, "--from", "outlines", "--margin", "2")
        self.assertEqual(done.exit_code, 0, done.output)
        self.assertIn("“By hand”: 12 masks from", done.output)
        kept = self.call("shape-masks", folder, "--from", "outlines", "--there", "keep")
        self.assertIn("0 masks from", kept.output)
        self.assertIn("12 kept", kept.output)
