"""The command line as a user types it, in processes of its own."""

import json
import os
import subprocess
import sys
import unittest
from pathlib import Path

import numpy as np
from plyfile import PlyData

from tests.scenes import pebble_set, pebble_truth, scratch
from umbrate.core.geometry.lens import Lens
from umbrate.formats.cameras import write_cameras
from umbrate.formats.ply import write_cloud

ROOT = Path(__file__).resolve().parents[1]


def umbrate(*arguments, cwd=None):
    """Run a command; returns the completed process."""
    env = {**os.environ, "PYTHONPATH": str(ROOT / "src"), "COLUMNS": "200"}
    command = [sys.executable, "-m", "umbrate", *map(str, arguments)]
    return subprocess.run(command, capture_output=True, text=True, env=env, cwd=cwd or scratch(), timeout=600)


class WholeJob(unittest.TestCase):
    def test_new_add_run_status_export(self):
        home = scratch()
        self.assertEqual(umbrate("new", "bird", cwd=home).returncode, 0)
        photos = pebble_set() / "by-hand"
        done = umbrate("add", "bird", photos, "--sitting", "By hand", "--masks", photos / "masks", cwd=home)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertIn("Added 12 photos", done.stdout)
        before = json.loads(umbrate("status", "bird", "--json", cwd=home).stdout)
        self.assertEqual(before["sittings"][0]["stages"]["poses"]["state"], "ready")
        sets = ["--set", "poses.features=3000", "--set", "cloud.photo_scale=2", "--set", "cloud.rounds=1"]
        done = umbrate("run", "bird", "--to", "poses", *sets[:2], cwd=home)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("12/12", done.stdout)
        self.assertNotIn("\x1b", done.stdout)  # plain lines where there is no terminal
        done = umbrate("run", "bird", *sets, cwd=home)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertNotIn("By hand, Poses", done.stdout)  # it is current already
        self.assertIn("up to date", umbrate("run", "bird", cwd=home).stdout)
        status = json.loads(umbrate("status", "bird", "--json", cwd=home).stdout)
        stages = status["sittings"][0]["stages"]
        self.assertEqual({s["state"] for s in stages.values()}, {"done"})
        table = umbrate("status", "bird", cwd=home).stdout
        self.assertIn("By hand", table)
        self.assertIn("12/12", table)

        self.assertEqual(umbrate("export", "bird", "cloud", "out.ply", cwd=home).returncode, 0)
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
            from umbrate.core.imaging.decode import read_mask

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
        for arguments, said in wrong:
            done = umbrate(*arguments, cwd=home)
            if said is None:
                self.assertEqual(done.returncode, 0)
                continue
            self.assertEqual((done.returncode, done.stdout), (1, ""), arguments)
            self.assertIn(said, done.stderr)
            self.assertNotIn("Traceback", done.stderr)
        umbrate("add", "j", photos, "--sitting", "A", cwd=home)
        for sets, said in (
            ("poses.feature=3", "no setting “feature”"),
            ("poses.features=3", "500"),
            ("nonsense", "STAGE.SETTING=VALUE"),
        ):
            done = umbrate("run", "j", "--set", "cloud.seed=5", "--set", sets, cwd=home)
            self.assertEqual(done.returncode, 1)
            self.assertIn(said, done.stderr)
        from umbrate.job.store import Job

        with Job.open(home / "j") as job:  # nothing of a wrong list is applied
            self.assertEqual(job.settings(job.sittings()[0].id, "cloud"), {})
        self.assertEqual(umbrate("run", "j", "--to", "moon", cwd=home).returncode, 1)
        self.assertEqual(umbrate("nonsense", cwd=home).returncode, 2)

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


class Formats(unittest.TestCase):
    def test_a_cloud_comes_back_from_its_file(self):
        rng = np.random.default_rng(1)
        file = scratch() / "c.ply"
        points, normals = rng.normal(size=(2, 50, 3)).astype(np.float32)
        colors = rng.integers(0, 255, (50, 3)).astype(np.uint8)
        write_cloud(file, points, colors, normals, np.full(50, 4, np.uint8), np.full(50, 0.5, np.float32), "mm")
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
        from unittest import mock

        from umbrate.core.errors import UmbrateError

        folder = scratch()
        (folder / "c.json").write_text("old")
        with mock.patch("umbrate.formats.files.os.fsync", side_effect=OSError(28, "No space left on device")):
            with self.assertRaises(UmbrateError):
                write_cameras(folder / "c.json", [], {})
        self.assertEqual([p.name for p in folder.iterdir()], ["c.json"])
        self.assertEqual((folder / "c.json").read_text(), "old")
        with self.assertRaises(UmbrateError):
            write_cameras(folder / "no" / "c.json", [], {})
