"""Marking, scaling, leveling and measuring in the window, driven as a user drives it."""

import unittest
from unittest import mock

import numpy as np
import pyqtgraph as pg
from plyfile import PlyData
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QInputDialog

from tests import test_desk
from tests.scenes import scratch
from tests.test_desk import DeskTest, texts, wait_for
from tests.test_scaling import put_marks, true_marks
from umbrate.core.geometry.pose import center
from umbrate.core.geometry.similarity import scale_of
from umbrate.desk.bench.cloud import CloudPanel
from umbrate.desk.bench.markedpoints import PointsPanel
from umbrate.desk.bench.measurements import MeasurePanel
from umbrate.desk.bench.scale import LengthsPanel, LevelPanel, ScalePanel
from umbrate.desk.dialogs.section import SectionDialog
from umbrate.desk.scene.tools import TURN
from umbrate.sitting.frames import frame_of
from umbrate.stages import BY_NAME

ALT = Qt.KeyboardModifier.AltModifier


def setUpModule():
    test_desk.setUpModule()


def tearDownModule():
    test_desk.tearDownModule()


class Measuring(unittest.TestCase):
    """One solved job with a cloud, and marks where the truth is."""

    @classmethod
    def setUpClass(cls):
        cls.case = DeskTest()
        cls.case.setUp()
        cls.addClassCleanup(cls.case.doCleanups)
        cls.case.open("photos", "masks", "lens", "poses", "cloud")
        cls.window, cls.session = cls.case.window, cls.case.session
        cls.view, cls.scene = cls.window.photo_view, cls.window.scene
        cls.X, cls.seen = true_marks()

    def setUp(self):
        s = self.session
        s.choose(stage="scale")
        s.marking.set_on(False)
        s.measuring.begin(None)
        ScalePanel.shown = "Lengths"
        self.window.bench.show_part()

    def panel(self, name, kind):
        ScalePanel.shown = name
        self.window.bench.show_part()
        test_desk.APP.processEvents()
        return self.window.bench.findChildren(kind)[-1]

    def show_photo(self, name):
        photo = next(p for p in self.session.photos() if p.name == name)
        self.session.choose(photo_id=photo.id)
        wait_for(lambda: self.view.shown == photo.id and self.view._file[0] == photo.id and self.view.image is not None)
        test_desk.APP.processEvents()
        wait_for(lambda: self.view.picture is not None)
        return photo

    def at(self, x, y):
        q = self.view.placement.to_view().map(QPointF(x + 0.5, y + 0.5))
        return QPoint(round(q.x()), round(q.y()))

    def click(self, widget, pos, modifier=Qt.KeyboardModifier.NoModifier):
        QTest.mouseMove(widget, pos)
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, modifier, pos)
        test_desk.APP.processEvents()

    def test_a_place_is_marked_guided_confirmed_dragged_and_named(self):
        s, w = self.session, self.session.marking
        self.window.mark_points()
        self.assertTrue(w.on)
        first, second = self.seen[3][:2]
        self.show_photo(first[0])
        self.click(self.view, self.at(*first[1:]), ALT)
        self.assertEqual([p.name for p in w.points], ["P1"])
        photo = self.show_photo(second[0])
        g = w.guide()
        self.assertIsNotNone(g.line)
        self.assertLess(np.linalg.norm(g.line - second[1:], axis=1).min(), 6)
        self.click(self.view, self.at(*second[1:]), ALT)
        self.assertEqual(len(w.active.sightings), 2)
        QTest.keyClick(self.view, Qt.Key.Key_N)
        third = s.photo
        self.assertNotIn(third.id, {q.photo_id for q in w.active.sightings})
        wait_for(lambda: self.view.image is not None and self.view.shown == third.id)
        spot = w.guide().spot
        self.assertIsNotNone(spot)
        self.view.grab()
        w.snapping = False
        QTest.keyClick(self.view, Qt.Key.Key_Return)
        w.snapping = True
        mine = next(q for q in w.active.sightings if q.photo_id == third.id)
        np.testing.assert_allclose([mine.x, mine.y], spot, atol=1e-6)
        # dragged: its residuals follow before it is let go
        self.show_photo(photo.name)
        self.view.fit()
        live = []
        w.dragging.connect(live.append)
        mark = next(q for q in w.active.sightings if q.photo_id == photo.id)
        here = self.at(mark.x, mark.y)
        QTest.mousePress(self.view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, here)
        for k in range(1, 5):
            QTest.mouseMove(self.view, here + QPoint(8 * k, 0))
            test_desk.APP.processEvents()
        QTest.mouseRelease(self.view, Qt.MouseButton.LeftButton, ALT, here + QPoint(32, 0))
        w.dragging.disconnect(live.append)
        worst = [max(q.length for q in seen) for seen in live if seen]
        self.assertGreater(worst[-1], worst[0])
        self.assertEqual(w.seen()[0].length, max(q.length for q in w.seen()))
        panel = self.panel("Points", PointsPanel)
        self.assertGreater(float(panel.sightings.item(0, 1).text()), 2)
        with mock.patch.object(QInputDialog, "getText", return_value=("Beak", True)):
            panel._rename()
        self.assertEqual(w.active.name, "Beak")
        with mock.patch.object(QInputDialog, "getText", return_value=("1 2 3 0.1", True)):
            panel._known()
        self.assertEqual(w.active.known, (1.0, 2.0, 3.0))
        for text, said in (("1 two", "three coordinates"), ("1 two 3", "“two” is no number"), ("1 2 inf", "from")):
            with mock.patch.object(QInputDialog, "getText", return_value=(text, True)):
                panel._known()
            self.assertIn(said, s.log.lines[-1])
            self.assertEqual(w.active.known, (1.0, 2.0, 3.0))
        with (
            mock.patch.object(QInputDialog, "getInt", return_value=(208, True)),
            mock.patch.object(QInputDialog, "getText", return_value=("4 5,5 6", True)),
        ):
            panel._known_target()
        self.assertEqual(s.job.known_targets(s.sitting_id)[208].known, (4.0, 5.5, 6.0))
        last = panel.points.rowCount() - 1
        self.assertEqual([panel.points.item(last, k).text() for k in (0, 3)], ["target 208", "known"])
        panel.points.selectRow(last)
        self.assertIn("4 5.5 6 mm", panel.told.text())
        with mock.patch.object(QInputDialog, "getText", return_value=("", True)) as asked:
            panel.points.cellDoubleClicked.emit(last, 0)
        self.assertEqual(asked.call_args.kwargs["text"], "4 5.5 6 0.1")
        self.assertEqual(s.job.known_targets(s.sitting_id), {})
        s.undo()
        s.undo()
        self.assertEqual(s.job.known_targets(s.sitting_id), {})
        before = len(w.active.sightings)
        QTest.keyClick(self.view, Qt.Key.Key_Delete)
        self.assertEqual(len(w.active.sightings), before - 1)
        while self.session.job.marked_points(s.sitting_id):
            s.undo()
        self.assertEqual(w.points, [])
        QTest.keyClick(self.view, Qt.Key.Key_Escape)
        self.assertFalse(w.on)

    def test_lengths_are_stated_run_and_doubted_and_the_object_is_stood_up_and_measured(self):
        s = self.session
        put_marks(s.job, s.sitting)
        s.changed()
        panel = self.panel("Lengths", LengthsPanel)
        true = lambda a, b: float(np.linalg.norm(self.X[a] - self.X[b]))  # noqa: E731
        for a, b, role in ((0, 1, 0), (2, 3, 0), (4, 5, 1)):
            panel.first.setCurrentText(f"T{a}")
            panel.second.setCurrentText(f"T{b}")
            panel.what.setCurrentIndex(role)
            panel.value.setText(f"{true(a, b):.3f}".replace(".", ","))
            panel._add()
        self.assertEqual(len(s.job.lengths(s.sitting_id)), 3)
        for first, value in (("T0", "zero"), ("T0", "-3"), ("nobody", "4"), ("", "4")):
            panel.first.setCurrentText(first)
            panel.second.setCurrentText("T7")
            panel.value.setText(value)
            panel._add()
        self.assertEqual(len(s.job.lengths(s.sitting_id)), 3)
        s.run()
        wait_for(lambda: s.queue.idle and s.result("scale"))
        self.assertTrue(s.frame.scaled)
        panel = self.panel("Lengths", LengthsPanel)
        self.assertEqual([panel.table.item(k, 4).text() for k in range(3)], ["scale", "scale", "check"])
        self.assertNotEqual(panel.table.item(2, 2).text(), "-")
        self.assertIn("in mm", self.window.board.names[0][3])
        panel.table.selectRow(2)
        panel._set_role("off")
        self.assertEqual(s.job.lengths(s.sitting_id)[2].role, "off")
        s.undo()
        # level by three clicked marks in the photo, then turned by a ring
        level = self.panel("Level", LevelPanel)
        name = max(
            {n for seen in self.seen for n, _, _ in seen}, key=lambda n: sum(n in [x[0] for x in q] for q in self.seen)
        )
        self.show_photo(name)
        self.view.fit()
        level._points()
        placed = 0
        for k, seen in enumerate(self.seen):
            here = [x for x in seen if x[0] == name]
            if here and placed < 3:
                mark = next(
                    (q for q in s.job.marked_point(s.sitting_id, f"T{k}").sightings if q.photo_id == s.photo_id), None
                )
                if mark:
                    self.click(self.view, self.at(mark.x, mark.y))
                    placed += 1
        if placed == 3:
            self.assertEqual(len(s.job.level(s.sitting_id)["up"]["ends"]), 3)
        s.measuring.begin(None)
        before = frame_of(s.job, s.sitting).matrix
        self.scene.set_mode(TURN)
        self.scene.grab()
        ring = self.scene.rings._ring(2)
        uv = self.scene.on_screen(ring)
        inside = [
            k
            for k in range(8, 60)
            if 40 < uv[k, 0] < self.scene.width() - 40 and 60 < uv[k, 1] < self.scene.height() - 60
        ]
        start, end = (
            QPoint(*np.round(uv[k]).astype(int).tolist()) for k in (inside[0], inside[min(6, len(inside) - 1)])
        )
        QTest.mousePress(self.scene, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
        QTest.mouseMove(self.scene, end)
        test_desk.APP.processEvents()
        QTest.mouseRelease(self.scene, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, end)
        now = frame_of(s.job, s.sitting).matrix
        self.assertGreater(np.abs(now[:3, :3] - before[:3, :3]).max() / scale_of(now), 0.02)
        s.undo()
        np.testing.assert_allclose(frame_of(s.job, s.sitting).matrix, before)
        self.scene.set_mode("look")
        # measured on the cloud in the scene, and in the photo
        self.window.measure("distance")
        if not self.scene.is_cloud:
            self.scene.toggles["Cloud"].click()
        self.scene.look_from("Front")
        self.scene.grab()
        index = self.scene.canvas.buffers.index
        rows, columns = np.nonzero(index >= 0)
        order = np.argsort(columns)
        picks = [order[len(order) // 4], order[3 * len(order) // 4]]
        for k in picks:
            self.click(self.scene, QPoint(int(columns[k]), int(rows[k])))
        wait_for(lambda: not s.measuring.busy)
        values = s.measuring.values
        self.assertEqual(len(values), 1)
        v = next(iter(values.values()))
        self.assertEqual(v["unit"], "mm")
        self.assertGreater(v["value"], 5)
        panel = self.panel("Measure", MeasurePanel)
        self.assertIn("± ", panel.table.item(0, 1).text())
        self.scene.grab()
        self.view.grab()
        self.window.measure("circle")
        seen = [(k, x) for k, q in enumerate(self.seen) for x in q if x[0] == name]
        self.show_photo(name)
        self.view.fit()
        for _, x in seen[:3]:
            self.click(self.view, self.at(*x[1:]))
        self.assertLessEqual(len(s.measuring.ends), 3)
        picked = len(s.measuring.ends)
        QTest.keyClick(self.view, Qt.Key.Key_Return)
        wait_for(lambda: not s.measuring.busy)
        self.assertEqual(len(s.measuring.values), 2 if picked == 3 else 1)
        folder = scratch()
        for act, file in (("_export", "m.csv"), ("_report", "r.pdf")):
            panel = self.panel("Measure", MeasurePanel)
            with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(folder / file), "")):
                getattr(panel, act)()
            wait_for(lambda: s.tasks.idle)
            self.assertTrue((folder / file).stat().st_size > 50)
        dialog = SectionDialog(s, self.window)
        wait_for(lambda: dialog.drawing.section is not None)
        dialog.way.setCurrentIndex(0)
        dialog.drawing.grab()
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(folder / "s.svg"), "")):
            dialog._save()
        self.assertIn("<polyline", (folder / "s.svg").read_text())
        dialog.offset.setValue(1e5)
        wait_for(lambda: dialog.drawing.section is None)
        self.assertIn("does not meet", dialog.drawing.problem)
        dialog.close()
        self.assertNotIn("Traceback", " ".join(s.log.lines))
        self.assertTrue(texts(self.window.bench))

    def test_planes_of_sections_are_kept_taken_again_moved_and_forgotten(self):
        s = self.session
        dialog = SectionDialog(s, self.window)
        self.assertFalse(dialog.forget.isEnabled())

        def keep(name=None):
            """Keep the plane under the name that is offered, or another."""
            answer = lambda *_, text: (name or text, True)  # noqa: E731
            with mock.patch.object(QInputDialog, "getText", side_effect=answer):
                dialog._keep()

        low, high = dialog._range()
        dialog.offset.setValue(low + 0.25 * (high - low))
        first = dialog.place
        keep()
        dialog.slider.setValue(300)
        self.assertEqual((dialog.kept.currentIndex(), dialog.forget.isEnabled()), (0, False))  # it is another plane now
        second = dialog.place
        keep()
        self.assertEqual([x.name for x in s.job.sections(s.sitting_id)], ["Section 1", "Section 2"])
        dialog._take(1)
        self.assertTrue(dialog.forget.isEnabled())
        n = dialog.normal
        step = 10.0 ** -dialog.offset.decimals()
        self.assertAlmostEqual(float((dialog.place - first) @ n), 0.0, delta=step)
        dialog._forget()
        dialog._take(1)
        self.assertAlmostEqual(float((dialog.place - second) @ n), 0.0, delta=step)
        keep()  # the name that is free, not that of the plane that is there
        self.assertEqual([x.name for x in s.job.sections(s.sitting_id)], ["Section 2", "Section 1"])
        keep("Section 2")
        self.assertIn("Moved", dialog.told.text())
        for _ in range(5):
            s.undo()
        self.assertEqual(s.job.sections(s.sitting_id), [])
        dialog.reject()


class Cleaning(unittest.TestCase):
    """Clouds side by side in the window, and a filter tried, applied, taken back."""

    @classmethod
    def setUpClass(cls):
        cls.case = DeskTest()
        cls.case.setUp()
        cls.addClassCleanup(cls.case.doCleanups)
        cls.case.open("photos", "masks", "lens", "poses", "cloud")
        cls.window, cls.session, cls.scene = cls.case.window, cls.case.session, cls.case.window.scene

    def panel(self):
        self.window.bench.show_part()
        test_desk.APP.processEvents()
        return self.window.bench.findChildren(CloudPanel)[-1]

    def test_the_scene_shows_a_slab_parallel_rays_kept_views_other_clouds_and_large_pictures(self):
        s, w, scene = self.session, self.session.cleaning, self.scene
        s.choose(stage="cloud")
        view, whole = scene.view, len(s.cloud["points"])
        scene.look_from("Fit")
        view.parallel.trigger()
        self.assertTrue(scene.eye.parallel)
        scene.grab()
        # drawn round without perspective
        scene.set_mode("rectangle")
        h, v = scene.width(), scene.height()
        QTest.mousePress(scene, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(h // 2, 90))
        QTest.mouseMove(scene, QPoint(h - 5, v - 60))
        QTest.mouseRelease(scene, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(h - 5, v - 60))
        wait_for(lambda: w.step is not None and not w.busy)
        uv = scene.on_screen(s.cloud["points"])
        inside = ((uv > [h // 2, 90]) & (uv < [h - 5, v - 60])).all(1)
        self.assertTrue(0.1 < inside.mean() < 0.9)
        self.assertLess((inside != w.drop).mean(), 0.01)
        w.try_on(None)
        scene.set_mode("look")
        # a slab across what is looked at
        view.slab.trigger()
        scene.slab.axis.setCurrentIndex(2)
        scene.slab.thick.setValue(100)
        slab = scene.slab.slab()
        x = s.cloud["points"][:, 0]
        held = (x >= slab.low) & (x <= slab.high)
        self.assertTrue(0.01 < held.mean() < 0.5)
        np.testing.assert_array_equal(scene.points, s.cloud["points"][held])
        w.set_look("relief")
        self.assertEqual(len(scene.colors), held.sum())
        # its planes have handles, and what it holds can be cut out
        low, high = scene.slab.slab().low, scene.slab.slab().high
        uv = scene.on_screen(scene.slab.places())
        along = (uv[1] - uv[0]) / np.linalg.norm(uv[1] - uv[0])
        start, end = (QPoint(*(uv[1] + k * along).round().astype(int).tolist()) for k in (0, 30))
        QTest.mousePress(scene, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
        QTest.mouseMove(scene, end)
        QTest.mouseRelease(scene, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, end)
        slab = scene.slab.slab()
        self.assertAlmostEqual(slab.low, low)
        moved = scene.on_screen(scene.slab.places())[1] - uv[1]
        self.assertLess(np.linalg.norm(moved - 30 * along), 1.5)
        self.assertGreater(slab.high, high)
        scene.slab.cut.click()
        wait_for(lambda: w.step is not None and not w.busy)
        x = s.cloud["points"][:, 0]
        np.testing.assert_array_equal(w.drop, (x >= np.float32(slab.low)) & (x <= np.float32(slab.high)))
        # smoothing shows where points would move, and moves none
        before = scene.points.copy()
        w.try_on({"filter": "smooth"})
        wait_for(lambda: w.moves is not None)
        inward, outward = np.argmin(w.moves), np.argmax(w.moves)
        self.assertGreater(scene.colors[inward, 2], scene.colors[inward, 0])
        self.assertGreater(scene.colors[outward, 0], scene.colors[outward, 2])
        self.assertIn("median", w.told())
        w.try_on(None)
        np.testing.assert_array_equal(scene.points, before)
        self.assertEqual(len(scene.points), whole)
        # painted over twice: what lies under both strokes is on trial
        scene.look_from("Top")
        scene.set_mode("brush")
        counts = []
        for row in (v // 2, v // 2 + 60):
            QTest.mousePress(scene, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(h // 2 - 40, row))
            QTest.mouseMove(scene, QPoint(h // 2 + 40, row))
            QTest.mouseRelease(
                scene, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(h // 2 + 40, row)
            )
            wait_for(lambda: w.step is not None and not w.busy)
            counts.append(int(w.drop.sum()))
        self.assertTrue(0 < counts[0] < counts[1] < whole)
        inside = scene.on_screen(s.cloud["points"][w.drop]) - [h // 2, v // 2]
        self.assertTrue((np.abs(inside) < [42 + scene.picker.brush_px, 62 + scene.picker.brush_px]).all())
        w.try_on(None)
        scene.set_mode("look")
        w.set_look("color")
        # a picture with more pixels shows the same, finer
        image = scene.picture(3 * h)
        self.assertEqual((image.width(), image.height()), (3 * h, 3 * v))
        file = scratch() / "scene.png"
        view.write_picture(file, 2 * h)
        self.assertEqual(QImage(str(file)).width(), 2 * h)
        # a view is kept and come back to
        view.remember("here")
        eye = scene.eye
        view.parallel.trigger()
        scene.look_from("Top")
        view._fill()
        view.go("here")
        np.testing.assert_allclose(scene.eye.pose, eye.pose)
        self.assertTrue(scene.eye.parallel and view.parallel.isChecked())
        view.parallel.trigger()
        # another cloud beside it, and both in one file
        s.edits.set_setting("cloud", "min_photos", 4)
        test_desk.run(s.job, s.sitting, "cloud")
        s.changed()
        first = s.job.clouds(s.sitting_id)[0]
        panel = self.panel()
        alone = len(scene.points)
        panel.clouds.item(0, 0).setCheckState(Qt.CheckState.Checked)
        self.assertEqual(len(scene.points), alone + first.left)
        self.assertEqual(len(scene.colors), alone + first.left)
        file = scratch() / "both.ply"
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(file), "")):
            self.window.deliver.cloud()
        wait_for(lambda: s.tasks.idle)
        self.assertEqual(PlyData.read(str(file))["vertex"].count, alone + first.left)
        self.panel().clouds.item(0, 0).setCheckState(Qt.CheckState.Unchecked)
        self.assertEqual(len(scene.points), alone)
        # the ramp's ends are as one sets them, and the histogram has the points between them
        w.set_look("precision")
        panel = self.panel()
        usual = w.legend()[:2]
        self.assertEqual(int(panel.looked_bars.opts["height"].sum()), len(s.cloud["points"]))
        panel.low.setText("0")
        panel.low.editingFinished.emit()
        self.assertEqual(w.legend()[0], 0)
        w.set_ramp(None)
        self.assertEqual(w.legend()[:2], usual)
        w.set_look("color")
        for _ in range(2):
            s.undo()

    def test_a_backdrop_color_is_picked_in_the_photo_and_tried(self):
        s, w = self.session, self.session.cleaning
        s.choose(stage="cloud")
        panel = self.panel()
        panel.which.setCurrentIndex(panel.which.findData("color"))
        panel._filter_chosen()
        panel._pick_color(panel.editors["color"])
        s.picked("#B06030")
        wait_for(lambda: w.step is not None and not w.busy)
        self.assertEqual(w.step["color"], "#B06030")
        w.try_on(None)

    def test_the_number_of_agreeing_photos_is_set_on_the_histogram(self):
        s = self.session
        s.choose(stage="cloud")
        self.panel()
        plot = next(p for p in self.window.bench.findChildren(pg.PlotWidget) if hasattr(p, "line"))
        least = s.job.settings(s.sitting_id, "cloud")["min_photos"]
        self.assertEqual(plot.line.value(), least - 0.5)
        figures = s.job.result(s.sitting_id, "cloud").figures
        told = BY_NAME["cloud"].left_at(figures, least)
        left = int(told.split("some ")[1].split(" ")[0].replace(",", ""))
        self.assertLess(abs(left / figures.fused - 1), 0.05)
        plot.line.setValue(3.9)
        plot.line.sigPositionChangeFinished.emit(plot.line)
        self.assertEqual(s.job.settings(s.sitting_id, "cloud")["min_photos"], 4)
        s.undo()

    def test_coverage_is_computed_when_it_is_asked_for_and_its_places_are_gone_to(self):
        s, w = self.session, self.session.cleaning
        s.choose(stage="cloud")
        panel = self.panel()
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
        self.assertEqual(panel.gaps.rowCount(), len(rows))
        self.assertTrue(places, "the pebble was seen from above only: its surface ends below")
        before = self.scene.eye.pose.copy()
        panel.gaps.selectRow(0)
        self.assertEqual(w.place, 0)
        self.assertFalse(np.allclose(before, self.scene.eye.pose))
        self.scene.grab()
        for E in places[0].poses:  # where to stand is in view
            self.assertTrue(np.isfinite(self.scene.on_screen(center(E))).all())
        panel.look.setCurrentIndex(panel.look.findData("color"))
        panel._set_look()
        np.testing.assert_array_equal(self.scene.colors, plain)

    def test_a_filter_is_tried_applied_taken_back_and_drawn_in_the_scene(self):
        s, w = self.session, self.session.cleaning
        s.choose(stage="cloud")
        panel = self.panel()
        whole = w.kept.left
        for name in [panel.which.itemData(k) for k in range(panel.which.count())]:
            panel.which.setCurrentIndex(panel.which.findData(name))
            panel._filter_chosen()
            if name in ("support", "box"):
                continue
            panel._try()
            wait_for(lambda: not w.busy)
            self.assertIsNotNone(w.drop, name)
            self.scene.grab()
        panel.which.setCurrentIndex(panel.which.findData("photos"))
        panel._filter_chosen()
        panel.editors["least"].setValue(4)
        self.assertEqual(panel.line.value(), 4)
        self.assertEqual(
            int(panel.bars.opts["height"].sum()), int((s.cloud["photos"] <= panel.bars.opts["x1"][-1]).sum())
        )
        panel.line.setValue(5)
        self.assertEqual(panel.editors["least"].value(), 5)
        self.assertEqual(w.step["least"], 5)  # dragging the line tries it
        panel.editors["least"].setValue(4)
        panel._try()
        wait_for(lambda: not w.busy)
        count = int(w.drop.sum())
        self.assertGreater(count, 0)
        self.assertIn(f"{count:,}", w.told())
        accent = (np.abs(w.colors()[w.drop].astype(int) - [0xD0, 0x8A, 0x3C]) <= 1).all()
        self.assertTrue(accent)
        w.apply()
        self.assertEqual(w.kept.left, whole - count)
        self.assertEqual(len(self.scene.points), whole - count)
        # drawn round in the scene
        self.scene.set_mode("rectangle")
        self.scene.grab()
        h, v = self.scene.width(), self.scene.height()
        corners = QPoint(h // 2, v // 4), QPoint(h - 30, 3 * v // 4)
        QTest.mousePress(self.scene, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, corners[0])
        QTest.mouseMove(self.scene, corners[1])
        QTest.mouseRelease(self.scene, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, corners[1])
        wait_for(lambda: w.step is not None and not w.busy)
        uv = self.scene.on_screen(self.scene.points)
        inside = ((uv > [h // 2, v // 4]) & (uv < [h - 30, 3 * v // 4])).all(1)
        self.assertLess((inside != w.drop).mean(), 0.01)
        QTest.keyClick(self.scene, Qt.Key.Key_Delete)
        self.assertEqual(len(w.kept.steps), 2)
        self.panel().steps.selectRow(0)
        self.window.bench.findChildren(CloudPanel)[-1]._back()
        wait_for(lambda: not w.computing)
        self.assertEqual([x.step["filter"] for x in w.kept.steps], ["lasso"])
        for _ in range(3):
            s.undo()
        self.assertEqual(w.kept.left, whole)
        self.scene.set_mode("look")
        # depth over the photo, and its value under the pointer
        view = self.window.photo_view
        wait_for(lambda: view.image is not None)
        block = s.block
        k = int(np.flatnonzero(block.photo_ids == view.shown)[0])
        E = block.poses[k]
        for look in range(1, 4):
            view.depth_look.setCurrentIndex(look)
            view.reload_overlays()
            self.assertIsNotNone(view.overlays.depth)
            view.grab()
        near = 0
        rows = np.flatnonzero(block.photo == k)
        for r in rows:
            z = float(E[2, :3] @ block.points[block.point[r]] + E[2, 3])
            told = view.overlays.depth.told(*block.xy[r], "")
            near += bool(told) and abs(float(told.split()[1].rstrip(",")) / z - 1) < 0.02
        self.assertGreater(near, 0.7 * len(rows))
        view.depth_look.setCurrentIndex(0)
        view.reload_overlays()
        self.assertIsNone(view.overlays.depth)
        # looks, and another cloud beside it
        for look in ("relief", "photos", "score", "precision", "angle", "color"):
            w.set_look(look)
            self.scene.grab()
            self.assertEqual(w.legend() is None, look in ("relief", "color"))
        s.edits.set_setting("cloud", "min_photos", 2)
        s.run()
        wait_for(lambda: s.queue.idle and len(s.job.clouds(s.sitting_id)) == 2)
        panel = self.panel()
        self.assertEqual(panel.clouds.rowCount(), 2)
        panel._compare()
        wait_for(lambda: w.look == "compared")
        self.scene.grab()
        self.assertLess(w.compared[2]["median_abs"], 0.01)
        panel.clouds.selectRow(0)
        self.assertEqual(w.kept.name, "Cloud 1")
        with mock.patch.object(QInputDialog, "getText", return_value=("strict", True)):
            panel._rename()
        self.assertEqual(w.kept.name, "strict")
        panel._remove()
        self.assertEqual([c.name for c in s.job.clouds(s.sitting_id)], ["Cloud 2"])
        s.undo()
        self.assertEqual(len(s.job.clouds(s.sitting_id)), 2)


if __name__ == "__main__":
    unittest.main()
