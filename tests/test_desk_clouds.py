"""Clouds in the window: looked at, cleaned, compared and kept, driven as a user drives it."""

import unittest
from unittest import mock

import numpy as np
import pyqtgraph as pg
from plyfile import PlyData
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QInputDialog

from tests import desk
from tests.desk import OneJob, wait_for
from tests.scenes import scratch
from tests.test_stages import run
from umbrate.core.cloud.grid import spacing_of
from umbrate.core.geometry.pose import center
from umbrate.desk.bench.cleaning import CleanPart
from umbrate.desk.bench.cloud import CloudsPart, CoveragePart
from umbrate.desk.dialogs.exporting import ExportDialog
from umbrate.desk.photo.depth import DEPTH_LAYERS, DepthLook
from umbrate.stages import BY_NAME
from umbrate.stages.base import settings_of


def setUpModule():
    desk.setUpModule()


def tearDownModule():
    desk.tearDownModule()


class WithCloud(OneJob):
    """A job with one cloud, shown in the scene."""

    STAGES = ("photos", "masks", "lens", "poses", "cloud")

    def setUp(self):
        super().setUp()
        s = self.session
        s.choose(stage="cloud")
        self.work = s.cleaning
        self.work.try_on(None)
        self.work.set_look("color")
        self.scene.set_mode("look")
        self.scene.look_from("Fit")
        self.whole = s.cloud["points"].copy()

    def settle(self):
        wait_for(lambda: self.work.step is not None and not self.work.busy)

    def second_cloud(self, **settings):
        """Compute another cloud beside the first, which becomes the chosen one; returns the first."""
        s = self.session
        for name, value in settings.items():
            s.edits.set_setting("cloud", name, value)
        run(s.job, s.sitting, "cloud")
        s.changed()
        return s.job.clouds(s.sitting_id)[-2]

    def within(self, corners, points=None):
        """Which points are drawn inside a rectangle given by its corners (QPoint, QPoint)."""
        uv = self.scene.on_screen(self.session.cloud["points"] if points is None else points)
        a, b = ([q.x(), q.y()] for q in corners)
        return ((uv > a) & (uv < b)).all(1)


class DepthOver(unittest.TestCase):
    def test_a_part_of_a_depth_map_lies_on_the_photo_where_the_whole_does(self):
        rng = np.random.default_rng(6)
        h, w, (y, x), (rows, columns) = 60, 80, (16, 32), (30, 40)
        depth = np.zeros((h, w), np.float32)
        depth[y : y + rows, x : x + columns] = rng.uniform(1, 2, (rows, columns))
        whole = {
            "depth": depth, "normal": rng.integers(-99, 99, (h, w, 3)).astype(np.int8),
            "score": rng.integers(0, 255, (h, w)).astype(np.uint8), "lens": np.array([90.0, 39.5, 29.5]),
        }  # fmt: skip
        part = {k: a[y : y + rows, x : x + columns] for k, a in whole.items() if k != "lens"}
        part |= {"lens": whole["lens"] - [0, x, y], "whole": np.array([h, w])}
        lens = np.array([180.0, 79.5, 59.5, -0.1, 0, 0, 0, 0, 0, 0])
        a, b = (DepthLook(m, lens, (160, 120), 1.0) for m in (whole, part))
        np.testing.assert_array_equal(a.depth, b.depth)
        self.assertGreater((a.depth > 0).sum(), 800)
        for look in DEPTH_LAYERS[1:]:
            np.testing.assert_array_equal(*(m.picture(look)[a.depth > 0] for m in (a, b)))
        self.assertEqual(a.told(85, 60, "mm"), b.told(85, 60, "mm"))


class Looking(WithCloud):
    def tearDown(self):
        view = self.scene.view
        for action in (view.parallel, view.slab):
            if action.isChecked():
                action.trigger()

    def test_what_is_drawn_round_without_perspective_is_what_lies_inside(self):
        scene = self.scene
        scene.view.parallel.trigger()
        self.assertTrue(scene.eye.parallel)
        scene.set_mode("rectangle")
        scene.grab()
        corners = QPoint(scene.width() // 2, 90), QPoint(scene.width() - 5, scene.height() - 60)
        self.drag(scene, *corners)
        self.settle()
        inside = self.within(corners)
        self.assertTrue(0.1 < inside.mean() < 0.9)
        self.assertLess((inside != self.work.drop).mean(), 0.01)

    def slab(self):
        """Show a slab from left to right, a tenth of the cloud thick."""
        bar = self.scene.slab
        self.scene.view.slab.trigger()
        bar.axis.setCurrentIndex(2)
        bar.thick.setValue(100)
        return bar

    def held(self, slab):
        x = self.session.cloud["points"][:, 0]
        return (x >= np.float32(slab.low)) & (x <= np.float32(slab.high))

    def test_a_slab_shows_what_lies_in_it_and_cuts_that_out(self):
        bar = self.slab()
        held = self.held(bar.slab())
        self.assertTrue(0.01 < held.mean() < 0.5)
        np.testing.assert_array_equal(self.scene.points, self.whole[held])
        self.work.set_look("relief")
        self.assertEqual(len(self.scene.colors), held.sum())
        bar.cut.click()
        self.settle()
        np.testing.assert_array_equal(self.work.drop, held)

    def test_a_plane_of_the_slab_follows_its_handle(self):
        bar, scene = self.slab(), self.scene
        before = bar.slab()
        uv = scene.on_screen(bar.places())
        along = (uv[1] - uv[0]) / np.linalg.norm(uv[1] - uv[0])
        self.drag(scene, *(QPoint(*(uv[1] + k * along).round().astype(int).tolist()) for k in (0, 30)))
        self.assertAlmostEqual(bar.slab().low, before.low)
        self.assertGreater(bar.slab().high, before.high)
        moved = scene.on_screen(bar.places())[1] - uv[1]
        self.assertLess(np.linalg.norm(moved - 30 * along), 1.5)

    def test_smoothing_shows_where_points_would_move_and_moves_none(self):
        w, scene = self.work, self.scene
        w.try_on({"filter": "smooth"})
        wait_for(lambda: w.moves is not None)
        inward, outward = np.argmin(w.moves), np.argmax(w.moves)
        self.assertGreater(scene.colors[inward, 2], scene.colors[inward, 0])
        self.assertGreater(scene.colors[outward, 0], scene.colors[outward, 2])
        self.assertIn("median", w.told())
        w.try_on(None)
        np.testing.assert_array_equal(scene.points, self.whole)

    def test_a_larger_picture_shows_the_same_finer(self):
        scene, file = self.scene, scratch() / "scene.png"
        h, v = scene.width(), scene.height()
        image = scene.snapshot(3 * h)()
        self.assertEqual((image.width(), image.height()), (3 * h, 3 * v))
        small = scene.snapshot(h)().scaled(64, 64).convertToFormat(QImage.Format.Format_Grayscale8)
        large = image.scaled(64, 64, transformMode=Qt.TransformationMode.SmoothTransformation)
        gray = [
            np.frombuffer(x.constBits().asarray(64 * 64), np.uint8).astype(float)
            for x in (small, large.convertToFormat(QImage.Format.Format_Grayscale8))
        ]
        self.assertGreater(np.corrcoef(*gray)[0, 1], 0.7)
        for answer, told in (((2 * h, True), "Wrote scene.png"), ((h, True), "Nothing was written")):
            with (
                mock.patch.object(QInputDialog, "getInt", return_value=answer),
                mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(file), "")),
                mock.patch("umbrate.desk.dialogs.writing.may_replace", return_value=False),
            ):
                scene.view._save_picture()
                wait_for(lambda: self.session.background.idle)
            self.assertIn(told, self.session.log.lines[-1])
            self.assertEqual(QImage(str(file)).width(), 2 * h)

    def test_a_view_is_kept_and_come_back_to(self):
        scene, view = self.scene, self.scene.view
        view.parallel.trigger()
        view.remember("here")
        eye = scene.eye
        view.parallel.trigger()
        scene.look_from("Top")
        self.assertFalse(np.allclose(scene.eye.pose, eye.pose))
        view._fill()
        view.go("here")
        np.testing.assert_allclose(scene.eye.pose, eye.pose)
        self.assertTrue(scene.eye.parallel and view.parallel.isChecked())

    def test_the_ramps_ends_are_as_one_sets_them_and_the_histogram_has_every_point(self):
        w = self.work
        w.set_look("precision")
        panel = self.panel(CloudsPart)
        usual = w.legend()[:2]
        self.assertEqual(int(panel.looked_bars.opts["height"].sum()), len(self.whole))
        panel.ramp.low.setText("0")
        panel.ramp.low.editingFinished.emit()
        self.assertEqual(w.legend()[0], 0)
        w.set_ramp(None)
        self.assertEqual(w.legend()[:2], usual)

    def test_looks_that_measure_have_a_legend_and_others_none(self):
        for look in ("relief", "photos", "score", "precision", "angle", "color"):
            self.work.set_look(look)
            self.scene.grab()
            self.assertEqual(self.work.legend() is None, look in ("relief", "color"), look)

    def test_coverage_is_computed_when_it_is_asked_for_and_its_places_are_gone_to(self):
        w, panel = self.work, self.panel(CloudsPart)
        plain = self.scene.colors.copy()
        panel.look.setCurrentIndex(panel.look.findData("spread"))
        panel._set_look()
        wait_for(lambda: w.covered is not None)
        self.assertEqual(w.look, "spread")
        legend, values = w.legend(), w.covered[1].coverage.spread
        np.testing.assert_allclose(legend[:2], np.percentile(values, (1, 99)), rtol=1e-5)
        self.assertEqual(legend[2], "°")
        lightest, darkest = (self.scene.colors[f(values)].astype(int).sum() for f in (np.argmax, np.argmin))
        self.assertGreater(lightest, darkest)
        rows, places = w.places()
        gaps = self.panel(CoveragePart).gaps
        self.assertEqual(gaps.rowCount(), len(rows))
        self.assertTrue(places, "the pebble was seen from above only: its surface ends below")
        before = self.scene.eye.pose.copy()
        gaps.selectRow(0)
        self.assertEqual(w.place, 0)
        self.assertFalse(np.allclose(before, self.scene.eye.pose))
        for E in places[0].poses:  # where to stand is in view
            self.assertTrue(np.isfinite(self.scene.on_screen(center(E))).all())
        panel = self.panel(CloudsPart)
        panel.look.setCurrentIndex(panel.look.findData("color"))
        panel._set_look()
        np.testing.assert_array_equal(self.scene.colors, plain)

    def test_depth_lies_over_the_photo_with_its_value_under_the_pointer(self):
        view, block = self.view, self.session.block
        self.show_photo(self.session.photos()[0].name)
        k = int(np.flatnonzero(block.photo_ids == view.shown)[0])
        for look in range(1, 4):
            view.depth_look.setCurrentIndex(look)
            view.reload_overlays()
            self.assertIsNotNone(view.overlays.depth)
            view.grab()
        rows = np.flatnonzero(block.photo == k)
        depth = block.points[block.point[rows]] @ block.poses[k, 2, :3] + block.poses[k, 2, 3]
        told = [view.overlays.depth.told(*xy, "") for xy in block.xy[rows]]
        near = [
            bool(x) and abs(float(x.split()[1].rstrip(",")) / z - 1) < 0.02 for x, z in zip(told, depth, strict=True)
        ]
        self.assertGreater(np.mean(near), 0.7)
        view.depth_look.setCurrentIndex(0)
        view.reload_overlays()
        self.assertIsNone(view.overlays.depth)


class Cleaning(WithCloud):
    def test_every_filter_is_tried_from_the_panel_and_says_what_it_would_take(self):
        w, panel = self.work, self.panel(CleanPart)
        names = [panel.which.itemData(k) for k in range(panel.which.count())]
        self.assertIn("lonely", names)
        for name in names:
            panel.which.setCurrentIndex(panel.which.findData(name))
            panel._filter_chosen()
            if name in ("support", "box"):
                continue
            if name == "doubles":
                panel.editors["apart"].setValue(5 * spacing_of(self.whole))
            panel._try()
            wait_for(lambda: not w.busy)
            self.assertIsNotNone(w.drop, name)
            self.assertIn(f"{int(w.drop.sum()):,}" if w.moves is None else "median", w.told(), name)
        np.testing.assert_array_equal(self.session.cloud["points"], self.whole)

    def test_few_photos_is_set_on_its_histogram_tried_in_color_and_applied(self):
        s, w, panel = self.session, self.work, self.panel(CleanPart)
        panel.which.setCurrentIndex(panel.which.findData("photos"))
        panel._filter_chosen()
        panel.editors["least"].setValue(4)
        self.assertEqual(panel.line.value(), 4)
        photos = s.cloud["photos"]
        self.assertEqual(int(panel.bars.opts["height"].sum()), int((photos <= panel.bars.opts["x1"][-1]).sum()))
        panel.line.setValue(5)
        self.assertEqual(panel.editors["least"].value(), 5)
        self.assertEqual(w.step["least"], 5)  # dragging the line tries it
        panel.editors["least"].setValue(4)
        panel._try()
        self.settle()
        np.testing.assert_array_equal(w.drop, photos < 4)
        self.assertTrue(0 < w.drop.sum() < len(photos))
        self.assertTrue((np.abs(w.colors()[w.drop].astype(int) - [0xD0, 0x8A, 0x3C]) <= 1).all())
        w.apply()
        np.testing.assert_array_equal(self.scene.points, self.whole[photos >= 4])
        s.undo()
        np.testing.assert_array_equal(self.scene.points, self.whole)

    def draw_round(self):
        """Draw a rectangle in the scene; returns its corners."""
        scene = self.scene
        scene.set_mode("rectangle")
        scene.grab()
        corners = QPoint(scene.width() // 2, scene.height() // 4), QPoint(scene.width() - 30, 3 * scene.height() // 4)
        self.drag(scene, *corners)
        self.settle()
        return corners

    def test_what_is_drawn_round_is_deleted_and_stays_so_when_a_step_before_it_is_taken_back(self):
        w = self.work
        w.try_on({"filter": "photos", "least": 4})
        self.settle()
        w.apply()
        corners = self.draw_round()
        inside = self.within(corners)
        self.assertLess((inside != w.drop).mean(), 0.01)
        gone = self.session.cloud["points"][w.drop]
        QTest.keyClick(self.scene, Qt.Key.Key_Delete)
        self.assertEqual([x.step["filter"] for x in w.kept.steps], ["photos", "lasso"])
        panel = self.panel(CleanPart)
        panel.steps.selectRow(0)
        panel.steps.back.click()
        wait_for(lambda: not w.computing)
        self.assertEqual([x.step["filter"] for x in w.kept.steps], ["lasso"])
        left = {tuple(x) for x in self.session.cloud["points"].tolist()}
        self.assertFalse(left & {tuple(x) for x in gone.tolist()})
        self.assertGreater(len(left), 0.5 * len(self.whole))

    def test_two_strokes_of_the_brush_are_one_step(self):
        w, scene = self.work, self.scene
        scene.look_from("Top")
        scene.set_mode("brush")
        middle, counts = QPoint(scene.width() // 2, scene.height() // 2), []
        for row in (0, 60):
            self.drag(scene, middle + QPoint(-40, row), middle + QPoint(40, row))
            self.settle()
            counts.append(int(w.drop.sum()))
        self.assertTrue(0 < counts[0] < counts[1] < len(self.whole))
        off = scene.on_screen(self.whole[w.drop]) - [middle.x(), middle.y() + 30]
        reach = scene.picker.brush_px + 2
        self.assertTrue((np.abs(off) < [40 + reach, 30 + reach]).all())

    def test_a_backdrop_color_is_picked_in_the_photo_and_tried(self):
        panel = self.panel(CleanPart)
        panel.which.setCurrentIndex(panel.which.findData("color"))
        panel._filter_chosen()
        panel._pick_color(panel.editors["color"])
        self.session.picked("#B06030")
        self.settle()
        self.assertEqual(self.work.step["color"], "#B06030")

    def test_several_steps_that_cannot_all_be_done_change_nothing_and_say_which(self):
        s, w = self.session, self.work
        w.apply_all([{"filter": "photos", "least": 3}, {"filter": "plane", "height": 1e4}])
        wait_for(lambda: not w.computing)
        self.assertIn("Below a height: That would take all points away", s.log.lines[-1])
        self.assertEqual((w.kept.steps, w.told()), ((), ""))
        w.apply_all([{"filter": "share", "percent": 50}])
        w.apply_all([{"filter": "share", "percent": 50}])  # before the first is there: it would build on what is not
        wait_for(lambda: not w.computing)
        self.assertEqual(len(w.kept.steps), 1)
        self.assertAlmostEqual(w.kept.left / len(self.whole), 0.5, delta=0.01)


class Several(WithCloud):
    def test_the_number_of_agreeing_photos_is_set_on_the_histogram(self):
        s = self.session
        self.window.bench.open("Settings")
        plot = next(
            p
            for p in self.window.bench.findChildren(pg.PlotWidget)
            if p.isVisible() and getattr(p, "line", None) in p.getPlotItem().items
        )
        least = settings_of(s.job, s.sitting, BY_NAME["cloud"]).min_photos
        self.assertEqual(plot.line.value(), least - 0.5)
        figures = s.job.result(s.sitting_id, "cloud").figures
        told = BY_NAME["cloud"].left_at(figures, least)
        left = int(told.split("some ")[1].split(" ")[0].replace(",", ""))
        self.assertLess(abs(left / figures.fused - 1), 0.05)
        plot.line.setValue(3.9)
        plot.line.sigPositionChangeFinished.emit(plot.line)
        self.assertEqual(s.job.settings(s.sitting_id, "cloud")["min_photos"], 4)

    def test_another_cloud_is_shown_beside_and_both_go_into_one_file(self):
        s, scene = self.session, self.scene
        first = self.second_cloud(min_photos=4)
        row = [c.id for c in s.job.clouds(s.sitting_id)].index(first.id)
        alone = len(scene.points)
        self.panel(CloudsPart).clouds.table.item(row, 0).setCheckState(Qt.CheckState.Checked)
        wait_for(lambda: len(scene.points) == alone + first.left)
        self.assertEqual(len(scene.colors), alone + first.left)
        file = scratch() / "both.ply"
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(file), "")):
            with mock.patch.object(ExportDialog, "exec", return_value=True):
                self.window.deliver.cloud()
        wait_for(lambda: s.tasks.idle)
        self.assertEqual(PlyData.read(str(file))["vertex"].count, alone + first.left)
        self.panel(CloudsPart).clouds.table.item(row, 0).setCheckState(Qt.CheckState.Unchecked)
        self.assertEqual(len(scene.points), alone)

    def test_clouds_are_compared_renamed_and_removed(self):
        s, w = self.session, self.work
        first = self.second_cloud(min_photos=2)
        names = [c.name for c in s.job.clouds(s.sitting_id)]
        panel = self.panel(CloudsPart)
        self.assertEqual(panel.clouds.table.rowCount(), len(names))
        with mock.patch.object(QInputDialog, "getItem", return_value=(first.name, True)):
            panel._compare()
        wait_for(lambda: w.look == "compared")
        self.assertLess(w.compared[2]["median_abs"], 0.01)
        panel.clouds.table.selectRow(names.index(first.name))
        self.assertEqual(w.kept.name, first.name)
        with mock.patch.object(QInputDialog, "getText", return_value=("strict", True)):
            panel.clouds.rename()
        self.assertEqual(w.kept.name, "strict")
        panel.clouds.remove()
        self.assertNotIn("strict", [c.name for c in s.job.clouds(s.sitting_id)])
        s.undo()
        self.assertIn("strict", [c.name for c in s.job.clouds(s.sitting_id)])


if __name__ == "__main__":
    unittest.main()
