"""Surfaces in the window: listed, drawn, colored, compared, found under the pointer."""

from unittest import mock

import numpy as np
import trimesh
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QInputDialog

from tests import desk
from tests.desk import OneJob, texts, wait_for
from tests.scenes import scratch
from tests.test_stages import run
from umbrate.core.raster.solid import BOTH, FLAT, SMOOTH, SOLID, WIRES
from umbrate.desk.bench.surface import SurfacePanel
from umbrate.desk.scene.points import Slab
from umbrate.sitting.surfaces import load_surface


def setUpModule():
    desk.setUpModule()


def tearDownModule():
    desk.tearDownModule()


class Surfaces(OneJob):
    STAGES = ("photos", "masks", "lens", "poses", "cloud", "surface")

    def setUp(self):
        super().setUp()
        self.work = self.session.surfacing
        self.session.choose(stage="surface")
        wait_for(lambda: self.scene.is_surface and self.work.mesh is not None)

    def picture(self):
        """What the scene has drawn (h, w, 3)."""
        self.scene.canvas.draw()
        return self.scene.canvas._memory[..., :3].copy()

    def test_it_is_drawn_where_it_is_chosen_and_clouds_and_points_by_their_keys(self):
        scene, mesh = self.scene, load_surface(self.session.job, self.session.sitting)
        np.testing.assert_array_equal(scene.drawn.faces, mesh["faces"])
        np.testing.assert_allclose(scene.points, mesh["points"])
        self.assertIn(f"{len(mesh['faces']):,}", texts(self.window.bench))
        self.assertFalse(scene.size.isVisible())  # points have a size, triangles have none
        self.assertEqual([scene.toggles[n].shortcut().toString() for n in ("Cloud", "Surface")], ["3", "7"])
        scene.toggles["Cloud"].click()
        wait_for(lambda: scene.is_cloud)
        self.assertFalse(scene.is_surface or scene.toggles["Surface"].isChecked())
        scene.toggles["Surface"].click()
        wait_for(lambda: scene.is_surface)
        self.session.choose(stage="cloud")
        wait_for(lambda: scene.is_cloud)

    def test_every_look_and_manner_shows_something_else(self):
        seen = {}
        panel = self.panel(SurfacePanel)
        for k in range(panel.look.count()):
            name = panel.look.itemData(k)
            if name == "compared":
                continue
            panel.look.setCurrentIndex(k)
            panel.look.activated.emit(k)
            seen[name] = self.picture()
            self.assertEqual(panel.plot.isHidden(), name in ("relief", "color", "filled"))
            self.assertEqual(panel.ramp.isHidden(), name in ("relief", "color", "filled"))
        self.work.set_look("relief")
        for what, shading in ((BOTH, None), (WIRES, None), (SOLID, FLAT)):
            self.work.set_manner(what, shading)
            seen[what, shading] = self.picture()
        self.work.set_manner(SOLID, SMOOTH)
        names = list(seen)
        for a in range(len(names)):
            for b in range(a):
                self.assertTrue((seen[names[a]] != seen[names[b]]).any(), (names[a], names[b]))
        orange = (seen["filled"][..., 2] > 1.6 * seen["filled"][..., 0].astype(int)).sum()
        self.scene.look_from("bottom")
        self.work.set_look("filled")
        below = self.picture()
        self.assertGreater((below[..., 2] > 1.6 * below[..., 0].astype(int)).sum(), orange + 500)  # what it stands on
        self.work.set_look("relief")

    def test_the_pointer_finds_a_vertex_and_photos_that_see_it(self):
        scene = self.scene
        scene.look_from("corner")
        scene.canvas.draw()
        pos = QPointF(scene.width() / 2, scene.height() / 2)
        k = scene.point_at(pos)
        self.assertGreaterEqual(k, 0)
        uv = scene.on_screen(scene.points[k])[0]
        self.assertLess(np.hypot(uv[0] - pos.x(), uv[1] - pos.y()), 12)
        depth = scene.eye.project(scene.points, scene.width(), scene.height())
        near = np.hypot(depth[:, 0] - pos.x(), depth[:, 1] - pos.y()) < 5
        self.assertLess(depth[k, 2], np.median(depth[near, 2]))  # of the front, not of the back
        self.session.pointed.connect(found := [].append)
        QTest.mouseMove(scene, pos.toPoint())
        wait_for(lambda: True)
        self.session.pointed.disconnect(found)
        # while it moves a coarse copy is drawn, and the same place is found
        scene.redraw(moving=True)
        scene.canvas.draw()
        few = scene.point_at(pos)
        self.assertLess(np.linalg.norm(scene.points[few] - scene.points[k]), 0.1 * np.ptp(scene.points, axis=0).max())

    def test_it_is_written_and_what_is_not_seen_is_not_touched(self):
        s, file = self.session, scratch() / "out.stl"
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(file), "")):
            self.window.deliver.surface()
        wait_for(lambda: s.tasks.idle)
        self.assertEqual(len(trimesh.load(file).faces), len(self.work.mesh["faces"]))
        s.points.choose(np.ones(len(s.block.points), bool))
        self.scene.setFocus()
        QTest.keyClick(self.scene, Qt.Key.Key_Delete)
        self.assertIsNone(s.job.removed(s.sitting_id))
        s.points.clear()

    def test_a_slab_leaves_the_triangles_between_its_planes(self):
        scene = self.scene
        z = scene.points[:, 2]
        low, high = np.percentile(z, (30, 60))
        scene.drawn.show_slab(Slab((0, 0, 1.0), float(low), float(high)))
        held = scene.points[scene.drawn.faces][..., 2]
        self.assertGreater(len(held), 100)
        self.assertTrue(low <= held.min() and held.max() <= high)
        scene.drawn.show_slab(None)
        self.assertEqual(len(scene.drawn.faces), len(self.work.mesh["faces"]))

    def test_several_are_compared_renamed_removed_and_brought_back(self):
        s, work = self.session, self.work
        first = work.kept
        panel = self.panel(SurfacePanel)
        said = []
        s.said.connect(lambda text, kind: said.append(text))
        panel._compare()
        self.assertIn("no other surface", said[-1])
        s.job.set_settings(s.sitting_id, "surface", {"size_by": "triangles", "triangles": 2000})
        run(s.job, s.sitting, "surface")
        s.document_changed.emit()
        wait_for(lambda: self.scene.is_surface and work.mesh is not None and work.kept.id != first.id)
        self.assertLess(len(self.scene.drawn.faces), 4000)
        panel = self.panel(SurfacePanel)
        self.assertEqual(panel.surfaces.table.rowCount(), 2)
        panel._compare()
        wait_for(lambda: work.look == "compared" and work.compared)
        self.assertIn("median", panel.about.text())
        self.assertEqual(len(work.values()), len(work.mesh["points"]))
        panel.surfaces.table.selectRow(0)
        wait_for(lambda: work.kept.id == first.id and work.mesh is not None)
        self.assertEqual(work.look, "relief")  # what was compared was the other one
        with mock.patch.object(QInputDialog, "getText", return_value=("fine", True)):
            panel.surfaces.rename()
        self.assertEqual(work.kept.name, "fine")
        panel.surfaces.remove()
        self.assertEqual([x.name for x in s.job.surfaces(s.sitting_id)], ["Surface 2"])
        s.undo()
        self.assertEqual([x.name for x in s.job.surfaces(s.sitting_id)], ["fine", "Surface 2"])
