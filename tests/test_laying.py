"""How coordinates lie in files: parts, unit, zero and axes, and that the window asks for them and remembers."""

import json
import unittest
from unittest import mock

import laspy
import numpy as np
from plyfile import PlyData
from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QFileDialog

from tests.desk import DeskTest, setUpModule, tearDownModule, wait_for  # noqa: F401
from tests.scenes import scratch
from tests.test_cli import umbrate
from tests.test_stages import job_with
from umbrate.core.errors import UmbrateError
from umbrate.desk.dialogs.exporting import ExportDialog
from umbrate.formats.clouds import write_cloud
from umbrate.formats.laying import UNITS, Laying, base_of, laid
from umbrate.formats.meshes import write_mesh
from umbrate.sitting.clouds import load_cloud

RNG = np.random.default_rng(5)


class Coordinates(unittest.TestCase):
    def test_unit_zero_and_axes_are_as_they_are_wanted(self):
        X, n = RNG.normal(size=(50, 3)) * (30, 20, 40), RNG.normal(size=(50, 3))
        arrays, offset = {"points": X, "normals": n}, np.array([1000.0, 2000.0, 0.0])
        same, unit, far = laid(arrays, "mm", offset, Laying())
        self.assertIs(same, arrays)
        for name, scale in UNITS.items():
            for up in "zy":
                got, unit, far = laid(arrays, "mm", offset, Laying(unit=name, up=up))
                whole = got["points"] + far
                want = scale * (X + offset)
                if up == "y":  # turned about x: what was up is y, and no left becomes a right
                    want = np.stack([want[:, 0], want[:, 2], -want[:, 1]], 1)
                    np.testing.assert_allclose(got["normals"], np.stack([n[:, 0], n[:, 2], -n[:, 1]], 1))
                np.testing.assert_allclose(whole, want, rtol=1e-12)
                self.assertEqual(unit, name)
        got, _, far = laid(arrays, "mm", offset, Laying(origin="middle"))
        np.testing.assert_allclose(got["points"].min(0), -got["points"].max(0))
        np.testing.assert_array_equal(far, 0)
        got, _, _ = laid(arrays, "mm", offset, Laying(origin="base"))
        np.testing.assert_allclose(base_of(got["points"]), 0, atol=1e-12)
        # without a scale a unit means nothing
        got, unit, _ = laid(arrays, None, np.zeros(3), Laying(unit="m"))
        self.assertIsNone(unit)
        np.testing.assert_array_equal(got["points"], X)
        for wrong in ({"unit": "ell"}, {"origin": "moon"}, {"up": "x"}, {"without": ("faces",)}):
            with self.assertRaises(UmbrateError):
                Laying(**wrong)

    def test_a_mesh_as_text_is_the_same_mesh(self):
        X = RNG.normal(size=(40, 3)).astype(np.float32)
        faces = RNG.integers(0, 40, (60, 3)).astype(np.int32)
        mesh = {"points": X, "faces": faces, "colors": RNG.integers(0, 256, (40, 3)).astype(np.uint8)}
        place = scratch()
        for name, text in (("b.ply", False), ("t.ply", True)):
            write_mesh(place / name, dict(mesh), "mm", text=text)
        a, b = (PlyData.read(str(place / n)) for n in ("b.ply", "t.ply"))
        self.assertTrue(b.text and not a.text)
        for k in ("x", "y", "z"):
            np.testing.assert_allclose(b["vertex"][k], a["vertex"][k], atol=1e-4)
        np.testing.assert_array_equal(b["vertex"]["red"], a["vertex"]["red"])
        np.testing.assert_array_equal(np.vstack(b["face"]["vertex_indices"]), np.vstack(a["face"]["vertex_indices"]))

    def test_parts_are_left_out_one_by_one(self):
        cloud = {"points": RNG.normal(size=(9, 3)), "normals": RNG.normal(size=(9, 3))}
        cloud |= {"photos": np.full(9, 3, np.uint8), "score": np.full(9, 0.5, np.float32)}
        place = scratch() / "c.ply"
        write_cloud(place, cloud, "mm", without=("score",))
        names = PlyData.read(str(place))["vertex"].data.dtype.names
        self.assertTrue("photos" in names and "nx" in names and "score" not in names, names)


class Window(DeskTest):
    def test_what_goes_in_is_asked_written_and_remembered(self):
        QSettings("umbrate", "umbrate").remove("export/cloud")
        self.open("photos", "masks", "lens", "poses", "cloud")
        s = self.session
        s.choose(stage="cloud")
        wait_for(lambda: s.tasks.idle)
        out = scratch()

        def choose(dialog):
            dialog.parts["normals"].setChecked(False)
            dialog.parts["photos"].setChecked(False)
            dialog.text.setChecked(True)
            dialog.origin.setCurrentIndex(dialog.origin.findData("base"))
            dialog.up.setCurrentIndex(dialog.up.findData("y"))
            dialog.accept()
            return True

        with mock.patch.object(ExportDialog, "exec", choose):
            with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(out / "c.ply"), "")):
                self.window.deliver.cloud()
        wait_for(lambda: s.tasks.idle and (out / "c.ply").exists())
        data = PlyData.read(str(out / "c.ply"))
        names = data["vertex"].data.dtype.names
        self.assertTrue(data.text and "red" in names and "score" in names)
        self.assertFalse({"nx", "photos"} & set(names))
        got = np.stack([data["vertex"][k] for k in "xyz"], 1)
        self.assertAlmostEqual(float(got[:, 1].min()), 0, places=3)
        again = ExportDialog("cloud", False, False, self.window)
        self.assertEqual(again.laying(), Laying(("normals", "photos"), True, False, "mm", "base", "y"))
        self.assertFalse(again.unit.isEnabled())  # there is no scale
        again.kind.setCurrentIndex(again.kind.findData("las"))
        self.assertFalse(again.text.isEnabled())
        self.assertIn("meters", again.told.text())
        QSettings("umbrate", "umbrate").setValue("export/cloud", json.dumps({"unit": "ell", "without": 3}))
        self.assertEqual(ExportDialog("cloud", True, False, self.window).laying(), Laying())


class Terminal(unittest.TestCase):
    def test_options_say_the_same(self):
        job, sitting = job_with(scratch() / "t", "photos", "masks", "lens", "poses", "cloud")
        points = load_cloud(job, sitting, job.cloud(sitting.id))["points"].astype(float)
        job.close()
        out = scratch()
        done = umbrate(
            "export", job.folder, "cloud", out / "c.ply", "--without", "colors", "--origin", "middle", "--up", "y"
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        v = PlyData.read(str(out / "c.ply"))["vertex"]
        self.assertNotIn("red", v.data.dtype.names)
        want = points - (points.min(0) + points.max(0)) / 2
        np.testing.assert_allclose(np.stack([v["x"], -np.array(v["z"]), v["y"]], 1), want, atol=1e-5)
        done = umbrate("export", job.folder, "cloud", out / "c.las", "--unit", "cm")
        self.assertEqual(done.returncode, 0, done.stderr)
        np.testing.assert_allclose(np.ptp(laspy.read(out / "c.las").xyz, axis=0), np.ptp(points, axis=0), atol=2e-3)
        done = umbrate("export", job.folder, "cloud", out / "d.ply", "--unit", "ell")
        self.assertNotEqual(done.returncode, 0)


if __name__ == "__main__":
    unittest.main()
