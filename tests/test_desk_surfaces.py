"""Surfaces in the window: listed, drawn, colored, compared, found under the pointer."""

from unittest import mock

import numpy as np
import trimesh
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QInputDialog

from tests import desk
from tests.desk import OneJob, texts, wait_for
from tests.scenes import scratch
from tests.test_stages import run
from umbrate.actions.mending import MEND
from umbrate.core.measure.section import is_closed
from umbrate.core.measure.solid import surface_section
from umbrate.core.raster.camera import eye_round
from umbrate.core.raster.solid import BOTH, FLAT, SMOOTH, SOLID, WIRES
from umbrate.desk.bench.gauge import GaugePart
from umbrate.desk.bench.mend import MendPart
from umbrate.desk.bench.surface import SurfacesPart
from umbrate.desk.dialogs.exporting import ExportDialog
from umbrate.desk.dialogs.modelpicks import ModelPicksDialog
from umbrate.desk.dialogs.section import SectionDialog
from umbrate.desk.scene.points import Slab
from umbrate.desk.scene.tools import BRUSH, LOOK, PIECE, RECTANGLE
from umbrate.formats.meshes import write_mesh
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
        self.addCleanup(self.session.mending.try_on, None)
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
        self.assertFalse(scene.point_size.isVisible())  # points have a size, triangles have none
        self.assertEqual([scene.toggles[n].shortcut().toString() for n in ("Cloud", "Surface")], ["Alt+C", "Alt+S"])
        scene.toggles["Cloud"].click()
        wait_for(lambda: scene.is_cloud)
        self.assertFalse(scene.is_surface or scene.toggles["Surface"].isChecked())
        scene.toggles["Surface"].click()
        wait_for(lambda: scene.is_surface)
        self.session.choose(stage="cloud")
        wait_for(lambda: scene.is_cloud)

    def test_every_look_and_manner_shows_something_else(self):
        seen = {}
        panel = self.panel(SurfacesPart)
        for k in range(panel.look.count()):
            name = panel.look.itemData(k)
            if name == "compared":
                continue
            panel.look.setCurrentIndex(k)
            panel.look.activated.emit(k)
            wait_for(lambda: not self.work.measuring)
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
            with mock.patch.object(ExportDialog, "exec", return_value=True):
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
        panel = self.panel(SurfacesPart)
        said = []
        s.said.connect(lambda text, kind: said.append(text))
        panel._compare()
        self.assertIn("no other surface", said[-1])
        s.job.set_settings(s.sitting_id, "surface", {"size_by": "triangles", "triangles": 2000})
        run(s.job, s.sitting, "surface")
        s.document_changed.emit()
        wait_for(lambda: self.scene.is_surface and work.mesh is not None and work.kept.id != first.id)
        self.assertLess(len(self.scene.drawn.faces), 4000)
        panel = self.panel(SurfacesPart)
        self.assertEqual(panel.surfaces.table.rowCount(), 2)
        # a tick draws the other one beside it, in a tint of its own
        item = panel.surfaces.table.item(0, 0)
        item.setCheckState(Qt.CheckState.Checked)
        wait_for(lambda: len(self.scene.drawn.faces) == first.left + work.kept.left)
        self.picture()
        self.assertEqual(len(self.scene.colors), len(self.scene.points))
        self.assertGreater(np.ptp(self.scene.colors[-1].astype(int)), 20)
        panel = self.panel(SurfacesPart)
        panel.surfaces.table.item(0, 0).setCheckState(Qt.CheckState.Unchecked)
        wait_for(lambda: len(self.scene.drawn.faces) == work.kept.left)
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

    # ------------------------------------------------------------------ mending
    def mending(self):
        """The session's MendWork, with its part of the bench as it is now."""
        return self.session.mending, self.panel(MendPart)

    def tried(self):
        w = self.session.mending
        wait_for(lambda: not w.busy and not w.computing)

    def choose_mend(self, part, name, **values):
        part.which.setCurrentIndex(part.which.findData(name))
        part._other()
        for k, v in values.items():
            e = part.editors[k]
            e.setCurrentIndex(e.findData(v)) if isinstance(v, str) else e.setValue(v)

    def test_thinning_is_seen_before_it_is_done_and_can_be_left(self):
        w, part = self.mending()
        before, mesh = w.kept, self.work.mesh
        self.choose_mend(part, "share", percent=30.0)
        part.see.click()
        self.tried()
        self.assertLess(len(self.scene.drawn.faces), 0.31 * len(mesh["faces"]))
        self.assertEqual(self.work.legend()[3], "Moved by the step")
        self.assertIn("in the median", part.told.text())
        self.assertFalse(part.see.isVisible() and part.apply.isHidden())
        part.leave.click()
        self.assertIs(self.work.mesh, mesh)
        self.assertEqual(len(self.scene.drawn.faces), len(mesh["faces"]))
        self.assertEqual(w.kept, before)
        # another value is tried by itself once something is on trial
        part.see.click()
        self.tried()
        part.editors["percent"].setValue(60.0)
        wait_for(lambda: w.step and w.step["percent"] == 60.0)
        self.tried()
        QTest.keyClick(self.scene, Qt.Key.Key_Delete)
        wait_for(lambda: bool(w.kept.steps) and not w.computing and self.work.mesh is not None)
        self.assertEqual([x.step["percent"] for x in w.kept.steps], [60.0])
        self.assertEqual(len(self.scene.drawn.faces), w.kept.left)
        self.assertIn("Thin by share", part.steps.table.item(0, 0).text())
        part.steps.back.click()
        wait_for(lambda: not w.kept.steps and self.work.mesh is not None)
        self.assertEqual(len(self.scene.drawn.faces), len(mesh["faces"]))

    def test_a_cut_leaves_a_hole_that_is_listed_looked_at_and_filled(self):
        w, part = self.mending()
        z = self.work.mesh["points"][:, 2]
        self.assertEqual(w.holes(), [])
        self.choose_mend(part, "height", height=float(z.min() + 0.3 * np.ptp(z)), cut="open")
        part.see.click()
        w.apply()  # before it is there: it is applied as soon as it is
        wait_for(lambda: bool(w.kept.steps) and not w.computing and self.work.mesh is not None)
        wait_for(lambda: w.holes() is not None)
        self.assertEqual(len(w.holes()), 1)
        self.assertTrue(part.holes.isVisibleTo(part))
        eye = self.scene.eye
        part.holes.selectRow(0)
        self.assertIsNot(self.scene.eye, eye)
        self.assertLess(self.scene.eye.pose[2, 2], 1.1)
        toward = self.scene.eye.center - w.holes()[0].middle
        self.assertGreater(toward @ w.holes()[0].normal / np.linalg.norm(toward), 0.9)  # from outside, into it
        part._fill("flat")
        self.tried()
        made = w.made
        self.assertTrue(made.closed)
        new = (made.colors == [0xD0, 0x8A, 0x3C]).all(1)
        self.assertGreater(new.sum(), 5)
        self.assertTrue(made.mesh["filled"][new].all())
        w.apply()
        wait_for(lambda: len(w.kept.steps) == 2 and not w.computing and self.work.mesh is not None)
        self.assertTrue(w.kept.now["closed"])
        self.assertEqual(w.holes(), [])
        self.session.undo()
        self.session.undo()
        wait_for(lambda: self.work.mesh is not None)
        self.assertEqual(w.kept.steps, ())

    def test_what_is_drawn_round_painted_or_clicked_is_taken_away(self):
        w, scene = self.session.mending, self.scene
        scene.look_from("front")
        wait_for(lambda: not scene.canvas.moving)
        scene.canvas.draw()
        mesh = self.work.mesh
        uvz = scene.eye.project(scene.points, scene.width(), scene.height())
        lo, hi = uvz[:, :2].min(0), uvz[:, :2].max(0)
        middle = (lo + hi) / 2
        scene.set_mode(RECTANGLE)
        self.drag(scene, QPoint(*(lo - 5).astype(int)), QPoint(int(hi[0] + 5), int(middle[1])))
        self.tried()
        inside = uvz[:, 1] < int(middle[1])
        self.assertLess((w.gone != inside).mean(), 0.02)
        self.assertIs(self.work.mesh, mesh)  # nothing is gone yet: it is drawn in the accent
        self.assertTrue((scene.colors[w.gone] == [0xD0, 0x8A, 0x3C]).all())
        QTest.keyClick(scene, Qt.Key.Key_Escape)
        self.assertIsNone(w.step)
        scene.set_mode(BRUSH)
        at = QPoint(*middle.astype(int))
        self.drag(scene, at, at + QPoint(12, 0))
        self.tried()
        front = scene.eye.pose[2, :3]
        self.assertGreater(w.gone.sum(), 3)
        self.assertLess((mesh["normals"][w.gone] @ front).max(), 0.4)  # not the far side
        w.apply()
        wait_for(lambda: bool(w.kept.steps) and not w.computing and self.work.mesh is not None)
        # of one piece alone nothing would be left, and that is said; of two, the one that is clicked goes
        scene.set_mode(PIECE)
        said = []
        self.session.said.connect(lambda text, kind: said.append(text))

        def click_the_top():
            scene.canvas.draw()
            y, x = np.argwhere(scene.canvas.buffers.index >= 0)[0]
            self.click(scene, QPoint(int(x), int(y) + 2))
            self.tried()

        click_the_top()
        self.assertIn("take the whole surface away", said[-1])
        z = self.work.mesh["points"][:, 2]
        low, high = (float(z.min() + share * np.ptp(z)) for share in (0.45, 0.55))
        w.try_on({"filter": "slab", "normal": [0, 0, 1], "low": low, "high": high, "cut": "open"})
        w.apply()
        wait_for(lambda: len(w.kept.steps) == 2 and not w.computing and self.work.mesh is not None)
        click_the_top()
        self.assertEqual(w.step["filter"], "piece")
        upper = self.work.mesh["points"][:, 2] > (low + high) / 2
        np.testing.assert_array_equal(w.gone, upper)
        scene.set_mode(LOOK)
        w.try_on(None)

    # ------------------------------------------------------------------ measuring
    def test_a_model_is_laid_over_by_places_clicked_on_both(self):
        w, file = self.work, scratch() / "turned.stl"
        R = np.array([[0.0, -1, 0], [1, 0, 0], [0, 0, 1]])
        write_mesh(file, {**w.mesh, "points": w.mesh["points"] @ R.T + np.float32([30, 5, 2])})
        file_before = file.read_bytes()
        dialog = ModelPicksDialog(self.session, str(file), self.window)
        self.addCleanup(dialog.reject)
        dialog.show()
        model, surface = dialog.views
        wait_for(lambda: model.mesh is not None)
        model.grab(), surface.grab()
        self.assertFalse(dialog.compare.isEnabled())

        def click(view, X):
            view.eye = eye_round(X, 3.0, X - view.mesh["points"].mean(0), view.width(), view.height())
            view._anew()
            view.grab()
            QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=view.rect().center())

        low, high = w.mesh["points"].min(0), w.mesh["points"].max(0)
        for k, X in enumerate(w.mesh["points"][w.mesh["points"][:, a].argmax()] for a in range(3)):
            X = X.astype(float)
            self.assertTrue((X >= low).all() and (X <= high).all())
            click(model, R @ X + [30, 5, 2])
            self.assertIn("on the surface", dialog.hint.text())
            if k == 0:
                QTest.keyClick(dialog, Qt.Key.Key_Escape)
                self.assertIn("3 more", dialog.hint.text())
                click(model, R @ X + [30, 5, 2])
            click(surface, X)
            np.testing.assert_allclose(dialog.pairs[-1][1], X, atol=0.2)
            np.testing.assert_allclose(dialog.pairs[-1][0], R @ X + [30, 5, 2], atol=0.2)
        self.assertEqual(dialog.list.rowCount(), 3)
        self.assertTrue(dialog.compare.isEnabled())
        dialog.list.selectRow(1)
        QTest.keyClick(dialog, Qt.Key.Key_Delete)
        self.assertFalse(dialog.compare.isEnabled())
        click(surface, dialog.pairs[1][1])
        click(model, R @ dialog.pairs[1][1] + [30, 5, 2])
        self.assertIn("on one line", dialog.hint.text())
        dialog.list.selectRow(2)
        QTest.keyClick(dialog, Qt.Key.Key_Delete)
        X = w.mesh["points"][w.mesh["points"][:, 1].argmax()].astype(float)
        click(surface, X)
        click(model, R @ X + [30, 5, 2])
        with (
            mock.patch.object(QFileDialog, "getOpenFileName", return_value=(str(file), "")),
            mock.patch("umbrate.desk.bench.gauge.ModelPicksDialog", return_value=dialog),
            mock.patch.object(dialog, "exec", return_value=1),
        ):
            self.panel(GaugePart)._model("picks")
        wait_for(lambda: not w.measuring and w.look == "compared")
        self.assertLess(w.compared[2]["median_abs"], 0.3)
        self.assertEqual(file.read_bytes(), file_before)

    def test_a_section_of_the_surface_is_closed_and_one_of_the_cloud_can_be_had_beside_it(self):
        self.session.with_cloud(lambda _: None)
        wait_for(lambda: self.session.cloud is not None)
        dialog = SectionDialog(self.session, self.window, surface=True)
        self.addCleanup(dialog.reject)
        wait_for(lambda: dialog.drawing.section is not None)
        dialog.way.setCurrentIndex(0)
        low, high = dialog._range()
        dialog.offset.setValue((low + high) / 2)
        m, place, normal = self.work.mesh, dialog.place, dialog.normal
        wanted = surface_section(m["points"], m["faces"], place, normal)
        wait_for(
            lambda: dialog.drawing.section is not None and abs(dialog.drawing.section.area / wanted.area - 1) < 1e-9
        )
        self.assertTrue(all(is_closed(x) for x in dialog.drawing.section.lines))
        dialog.what.setCurrentText("the cloud")
        wait_for(lambda: dialog.drawing.section is not None and dialog.drawing.section.area != wanted.area)
        self.assertAlmostEqual(dialog.drawing.section.area / wanted.area, 1, delta=0.2)

    def test_it_is_measured_and_laid_beside_a_model_and_a_form(self):
        w, part = self.work, self.panel(GaugePart)
        self.assertEqual(part.values.rowCount(), 0)
        part.measure.click()
        self.assertFalse(part.measure.isEnabled())
        wait_for(lambda: not w.measuring)
        names = [part.values.item(k, 0).text() for k in range(part.values.rowCount())]
        self.assertEqual(names, ["Area *", "Volume *", "Size along x", "Size along y", "Size along z *"])
        self.assertIn("no photo sees into", part.told.text())
        file = scratch() / "model.ply"
        write_mesh(file, {**w.mesh, "points": w.mesh["points"] - 0.01 * w.mesh["normals"]})
        with mock.patch.object(QFileDialog, "getOpenFileName", return_value=(str(file), "")):
            part._model("frame")
        wait_for(lambda: not w.measuring)
        self.assertEqual((w.look, w.legend()[3]), ("compared", "Distance to model.ply"))
        self.assertLess(abs(w.compared[2]["median"] - 0.01), 1e-3)
        part.limit.setValue(0.001)
        self.assertIn("0.0", part.told.text().split(" ")[0])
        part.limit.setValue(0.5)
        self.assertIn("100.00 % lies within", part.told.text())
        w.compare_form("plane")
        wait_for(lambda: not w.measuring)
        self.assertIn("Form error", [part.values.item(k, 0).text() for k in range(part.values.rowCount())])
        # a file that is none is a sentence, and what was shown stays
        said = []
        self.session.said.connect(lambda text, kind: said.append(text))
        file.write_bytes(b"x")
        w.compare_model(str(file), "frame")
        wait_for(lambda: not w.measuring)
        self.assertIn("damaged", said[-1])
        self.assertEqual(w.look, "compared")
        # thickness takes long and is computed beside the window
        w._slow.clear()  # what another test looked at
        w.set_look("thickness")
        self.assertEqual(w.look, "compared")
        wait_for(lambda: not w.measuring)
        self.assertEqual(w.look, "thickness")
        self.assertGreater(w.legend()[1], w.legend()[0])
        # values of a surface that was changed since are not shown as its own
        MEND.apply_step(self.session.job, self.session.sitting, w.kept, {"filter": "share", "percent": 50})
        self.session.changed()
        wait_for(lambda: w.mesh is not None)
        self.assertIsNone(w.values_now())
        self.assertEqual(w.look, "relief")
