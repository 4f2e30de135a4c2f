"""Marking, scaling, leveling and measuring in the window, driven as a user drives it."""

import csv
import unittest
from unittest import mock

import numpy as np
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QInputDialog
from scipy.ndimage import minimum_filter

from tests import desk
from tests.desk import OneJob, wait_for
from tests.scenes import scratch
from tests.test_scaling import put_marks, true_marks
from umbrate.core.geometry.rotation import rotation_vector
from umbrate.core.geometry.similarity import scale_of
from umbrate.core.poses.block import FEATURE
from umbrate.desk.bench.markedpoints import PointsPanel
from umbrate.desk.bench.measurements import MeasurePanel
from umbrate.desk.bench.scale import LengthsPanel, LevelPanel
from umbrate.desk.bench.shapes import ShapesPanel
from umbrate.desk.dialogs.section import SectionDialog
from umbrate.desk.scene.tools import TURN
from umbrate.sitting.frames import frame_of

ALT = Qt.KeyboardModifier.AltModifier


def setUpModule():
    desk.setUpModule()


def tearDownModule():
    desk.tearDownModule()


class WithScalePanels(OneJob):
    """The Scale stage's panels, and marks where the truth is."""

    STAGES = ("photos", "masks", "lens", "poses", "cloud")

    def setUp(self):
        super().setUp()
        self.X, self.seen = true_marks()
        self.session.choose(stage="scale")
        self.session.marking.set_on(False)
        self.session.measuring.begin(None)

    def part(self, name, kind):
        self.window.bench.open(name, "scale")
        return self.panel(kind)

    def answer(self, *texts):
        """Answer the next questions for a text with these."""
        return mock.patch.object(QInputDialog, "getText", side_effect=[(x, True) for x in texts])


class Marking(WithScalePanels):
    def setUp(self):
        super().setUp()
        self.window.mark_points()
        self.work = self.session.marking
        self.first, self.second = self.seen[3][:2]

    def marked(self, *seen):
        """Mark places in photos, without snapping; the last photo stays shown."""
        for name, x, y in seen:
            photo = self.show_photo(name)
            self.click(self.view, self.at(x, y), ALT)
        return photo

    def test_a_mark_draws_where_the_place_is_to_be_looked_for_and_return_confirms_it(self):
        w = self.work
        self.marked(self.first)
        self.assertEqual([p.name for p in w.points], ["P1"])
        self.show_photo(self.second[0])
        self.assertLess(np.linalg.norm(w.guide().line - self.second[1:], axis=1).min(), 6)
        self.click(self.view, self.at(*self.second[1:]), ALT)
        self.assertEqual(len(w.active.sightings), 2)
        QTest.keyClick(self.view, Qt.Key.Key_N)
        third = self.session.photo
        self.assertNotIn(third.id, {q.photo_id for q in w.active.sightings})
        wait_for(lambda: self.view.image is not None and self.view.shown == third.id)
        spot = w.guide().spot
        x, y = next(q[1:] for q in self.seen[3] if q[0] == third.name)
        self.assertLess(np.hypot(*(spot - [x, y])), 6)
        w.snapping = False
        self.addCleanup(setattr, w, "snapping", True)
        QTest.keyClick(self.view, Qt.Key.Key_Return)
        mine = next(q for q in w.active.sightings if q.photo_id == third.id)
        np.testing.assert_allclose([mine.x, mine.y], spot, atol=1e-6)

    def test_a_dragged_mark_shows_its_residual_before_it_is_let_go(self):
        w = self.work
        photo = self.marked(*self.seen[3][:3][::-1])
        live = []
        w.dragging.connect(live.append)
        self.addCleanup(w.dragging.disconnect, live.append)
        mark = next(q for q in w.active.sightings if q.photo_id == photo.id)
        here = self.at(mark.x, mark.y)
        self.drag(self.view, here, here + QPoint(32, 0), ALT)
        panel = self.part("Points", PointsPanel)
        worst = [max(q.length for q in w.marking.seen(p)) for p in live if p]
        self.assertGreater(worst[-1], worst[0] + 2)
        self.assertEqual(w.seen()[0].length, max(q.length for q in w.seen()))
        # its own residual in the list of points, and its place, follow too
        row = next(k for k in range(panel.points.rowCount()) if panel.points.item(k, 0).text() == w.active.name)
        before = panel.points.item(row, 2).text(), panel.told.text()
        panel._dragging(next(p for p in live if p))
        self.assertNotEqual(panel.points.item(row, 2).text(), before[0])
        self.assertRegex(panel.told.text(), r"^at -?\d")
        panel = self.part("Points", PointsPanel)
        self.assertGreater(float(panel.sightings.item(0, 1).text()), 2)

    def test_a_point_is_named_and_given_coordinates_and_what_are_none_changes_nothing(self):
        s, w = self.session, self.work
        self.marked(self.first)
        panel = self.part("Points", PointsPanel)
        with self.answer("Beak", "1 2 3 0.1"):
            panel._rename()
            panel._known()
        self.assertEqual((w.active.name, w.active.known), ("Beak", (1.0, 2.0, 3.0)))
        for text, said in (("1 two", "three coordinates"), ("1 two 3", "“two” is no number"), ("1 2 inf", "from")):
            with self.answer(text):
                panel._known()
            self.assertIn(said, s.log.lines[-1])
            self.assertEqual(w.active.known, (1.0, 2.0, 3.0))

    def test_a_target_is_given_coordinates_and_loses_them(self):
        s = self.session
        panel = self.part("Points", PointsPanel)
        with mock.patch.object(QInputDialog, "getInt", return_value=(208, True)), self.answer("4 5,5 6"):
            panel._known_target()
        known = lambda: {n: x.known for n, x in s.job.known_targets(s.sitting_id).items()}  # noqa: E731
        self.assertEqual(known(), {208: (4.0, 5.5, 6.0)})
        last = panel.points.rowCount() - 1
        self.assertEqual([panel.points.item(last, k).text() for k in (0, 3)], ["target 208", "known"])
        panel.points.selectRow(last)
        self.assertIn("4 5.5 6 mm", panel.told.text())
        with self.answer("") as asked:
            panel.points.cellDoubleClicked.emit(last, 0)
        self.assertEqual(asked.call_args.kwargs["text"], "4 5.5 6 0.1")
        self.assertEqual(known(), {})
        s.undo()
        self.assertEqual(known(), {208: (4.0, 5.5, 6.0)})

    def test_delete_takes_the_mark_of_the_shown_photo_and_escape_ends_marking(self):
        w = self.work
        photo = self.marked(self.first, self.second)
        QTest.keyClick(self.view, Qt.Key.Key_Delete)
        self.assertNotIn(photo.id, [q.photo_id for q in w.active.sightings])
        self.assertEqual(len(w.active.sightings), 1)
        QTest.keyClick(self.view, Qt.Key.Key_Escape)
        self.assertFalse(w.on)


class Shapes(WithScalePanels):
    def test_lines_and_faces_are_listed_renamed_removed_and_brought_back(self):
        s = self.session
        self.work, blk, names = s.marking, s.block, []
        count = np.where(blk.kind == FEATURE, blk.photos_of, 0)
        for k, best in enumerate(np.argsort(-count)[:3].tolist()):
            i = s.job.add_marked_point(s.sitting_id, f"Q{k}")
            for r in np.flatnonzero(blk.point == best)[:3]:
                s.job.set_sighting(i, int(blk.photo_ids[blk.photo[r]]), *map(float, blk.xy[r]))
            names.append(i)
        s.job.add_shape(s.sitting_id, "line", names[:2])
        s.job.add_shape(s.sitting_id, "face", names)
        s.changed()
        panel = self.part("Lines", ShapesPanel)
        cells = [[panel.table.item(r, c).text() for c in range(3)] for r in range(2)]
        self.assertEqual([c[:2] for c in cells], [["Line 1", "2"], ["Face 1", "3"]])
        X = [p.xyz if hasattr(p, "xyz") else p for p in (self.work.marking.place(q) for q in self.work.points)]
        self.assertAlmostEqual(float(cells[0][2].split()[0]), float(np.linalg.norm(X[0] - X[1])), delta=0.02)
        panel.table.selectRow(0)
        with self.answer("Edge"):
            panel._rename()
        panel = self.part("Lines", ShapesPanel)
        self.assertEqual(panel.table.item(0, 0).text(), "Edge")
        panel.table.selectRow(1)
        with self.answer("Edge"):
            panel._rename()  # the name of another one
        self.assertEqual([x.name for x in s.shapes()], ["Edge", "Face 1"])
        panel.table.selectRow(0)
        QTest.keyClick(panel, Qt.Key.Key_Delete)
        self.assertEqual([x.name for x in s.shapes()], ["Face 1"])
        s.undo()
        self.assertEqual([x.name for x in s.shapes()], ["Edge", "Face 1"])


class Lengths(WithScalePanels):
    def setUp(self):
        super().setUp()
        put_marks(self.session.job, self.session.sitting)
        self.session.changed()

    def state(self, first, second, value, role=0):
        panel = self.part("Lengths", LengthsPanel)
        panel.first.setCurrentText(first)
        panel.second.setCurrentText(second)
        panel.what.setCurrentIndex(role)
        panel.value.setText(value)
        panel._add()
        return panel

    def lengths(self):
        s = self.session
        return [(k.value_mm, k.role) for k in s.job.lengths(s.sitting_id)]

    def test_a_length_is_stated_with_a_comma_and_what_is_none_is_refused(self):
        s = self.session
        self.state("T0", "T1", "12,5")
        self.state("T2", "T3", " 7.25 mm", 1)
        stated = [(12.5, "scale"), (7.25, "check")]
        self.assertEqual(self.lengths(), stated)
        for first, value, words in (
            ("T0", "zero", "“zero” is no length"), ("T0", "-3", "-3"), ("nobody", "4", "“nobody”"),
            ("", "4", "Choose both ends"),
        ):  # fmt: skip
            self.state(first, "T7", value)
            self.assertIn(words, s.log.lines[-1])
        self.assertEqual(self.lengths(), stated)

    def test_scale_runs_shows_what_each_length_is_off_and_a_role_is_changed(self):
        s = self.session
        for a, b, role in ((0, 1, 0), (2, 3, 0), (4, 5, 1)):
            self.state(f"T{a}", f"T{b}", f"{np.linalg.norm(self.X[a] - self.X[b]):.3f}", role)
        self.assertIsNone(s.result("scale"))
        s.run()
        wait_for(lambda: s.queue.idle and s.result("scale"))
        self.assertTrue(s.frame.scaled)
        panel = self.part("Lengths", LengthsPanel)
        self.assertEqual([panel.table.item(k, 4).text() for k in range(3)], ["scale", "scale", "check"])
        shown = [float(panel.table.item(k, 2).text()) for k in range(3)]
        f = s.result("scale").figures.lengths
        np.testing.assert_allclose(shown, [f[0].residual, f[1].residual, f[2].error], atol=6e-4)
        self.assertLess(np.abs(shown).max(), 0.5)
        self.assertIn("in mm", self.window.board.names[0][3])
        panel.table.selectRow(2)
        panel._set_role("off")
        self.assertEqual([r for _, r in self.lengths()], ["scale", "scale", "off"])


class Level(WithScalePanels):
    def up(self):
        """The direction in the plain frame that is up."""
        R = frame_of(self.session.job, self.session.sitting).matrix[:3, :3]
        return R[2] / np.linalg.norm(R[2])

    def test_three_marks_clicked_in_the_photo_lie_level(self):
        s = self.session
        put_marks(s.job, s.sitting)
        s.changed()
        s.run()
        wait_for(lambda: s.queue.idle and s.result("scale"))
        marks = {p.name: {q.photo_id: (q.x, q.y) for q in p.sightings} for p in s.job.marked_points(s.sitting_id)}
        photo = max(s.photos(), key=lambda p: sum(p.id in seen for seen in marks.values()))
        chosen = [n for n, seen in marks.items() if photo.id in seen][:3]
        self.assertEqual(len(chosen), 3)
        self.show_photo(photo.name)
        self.part("Level", LevelPanel)._points()
        for name in chosen:
            self.click(self.view, self.at(*marks[name][photo.id]))
        ends = s.job.level(s.sitting_id)["up"]["ends"]
        self.assertEqual([s.job.end_names(s.sitting_id)[e] for e in ends], chosen)
        points = {p.name: p for p in s.marking.points}
        z = [s.marking.marking.place(points[n])[2] for n in chosen]
        self.assertLess(np.ptp(z), 1e-4 * np.ptp(s.block.points))

    def test_a_ring_turns_the_object_as_far_as_it_was_dragged_and_undo_turns_it_back(self):
        s, scene = self.session, self.scene
        before = frame_of(s.job, s.sitting).matrix
        scene.look_from("Top")
        scene.set_mode(TURN)
        self.addCleanup(scene.set_mode, "look")
        scene.grab()
        uv = np.round(scene.on_screen(scene.rings.ring(2))).astype(int)
        clear = ((uv > 60) & (uv < [scene.width() - 60, scene.height() - 60])).all(1)
        # not where the other two rings, which are seen edge on, cross it
        start = next(k for k in range(63) if 5 <= k % 18 <= 12 and clear[k : k + 10].all())
        self.drag(scene, *(QPoint(*uv[k].tolist()) for k in (start, start + 9)))
        now = frame_of(s.job, s.sitting).matrix
        R = now[:3, :3] / scale_of(now) @ (before[:3, :3] / scale_of(before)).T
        np.testing.assert_allclose(np.degrees(rotation_vector(R)), [0, 0, 9 * 360 / scene.rings.STEPS], atol=1.5)
        s.undo()
        np.testing.assert_allclose(frame_of(s.job, s.sitting).matrix, before)

    def test_a_flat_spot_of_the_cloud_that_is_clicked_looks_up(self):
        s, scene = self.session, self.scene
        if not scene.is_cloud:
            scene.toggles["Cloud"].click()
        scene.look_from("Front")
        scene.grab()
        rows, columns = np.nonzero(scene.canvas.buffers.index >= 0)
        k = np.argmin(np.hypot(rows - np.median(rows), columns - np.median(columns)))
        hit = scene.canvas.buffers.index[rows[k], columns[k]]
        n = s.cloud["normals"][hit].astype(float)
        self.assertLess(n[2], 0.9)
        R = frame_of(s.job, s.sitting).matrix[:3, :3]
        plain = R.T @ n / np.linalg.norm(R.T @ n)
        self.part("Level", LevelPanel)._patch()
        self.click(scene, QPoint(int(columns[k]), int(rows[k])))
        self.assertGreater(self.up() @ plain, np.cos(np.radians(25)))  # one point's normal against that of 400


class Measuring(WithScalePanels):
    def circle(self):
        """Measure the circle through three marked points, in the photo; returns its value and the true radius."""
        s = self.session
        X = put_marks(s.job, s.sitting, 0.05, most=99)
        s.changed()
        s.run()
        wait_for(lambda: s.queue.idle and s.result("scale"))
        marks = [{q.photo_id: (q.x, q.y) for q in p.sightings} for p in s.job.marked_points(s.sitting_id)]
        photo = max(s.photos(), key=lambda p: sum(p.id in seen for seen in marks))
        three = [k for k, seen in enumerate(marks) if photo.id in seen][:3]
        self.assertEqual(len(three), 3)
        self.window.measure("circle")
        self.show_photo(photo.name)
        for k in three:
            self.click(self.view, self.at(*marks[k][photo.id]))
        self.assertEqual(len(s.measuring.ends), 3)
        QTest.keyClick(self.view, Qt.Key.Key_Return)
        wait_for(lambda: not s.measuring.busy)
        a, b, c = (np.linalg.norm(X[i] - X[j]) for i, j in ((three[0], three[1]), (three[1], three[2]), three[::2]))
        p = (a + b + c) / 2
        (value,) = s.measuring.values.values()
        return value, a * b * c / (4 * np.sqrt(p * (p - a) * (p - b) * (p - c)))

    def test_two_clicks_on_the_cloud_measure_the_distance_between_what_was_clicked(self):
        s, scene = self.session, self.scene
        self.window.measure("distance")
        if not scene.is_cloud:
            scene.toggles["Cloud"].click()
        scene.look_from("Front")
        scene.grab()
        index, depth = scene.canvas.buffers.index, scene.canvas.buffers.depth
        near = np.where(index >= 0, depth, np.inf)
        # the foremost within a click's reach: through a gap of the cloud what lies behind is drawn, and not picked
        rows, columns = np.nonzero((index >= 0) & (near == minimum_filter(near, 9)))
        order = np.argsort(columns, kind="stable")
        ends = []
        for k in (order[len(order) // 4], order[3 * len(order) // 4]):
            ends.append(s.cloud["points"][index[rows[k], columns[k]]].astype(float))
            self.click(scene, QPoint(int(columns[k]), int(rows[k])))
        wait_for(lambda: not s.measuring.busy)
        (v,) = s.measuring.values.values()
        self.assertEqual(v["unit"], "")
        apart = np.linalg.norm(ends[0] - ends[1])
        self.assertLess(abs(v["value"] - apart), max(v["half95"], 0.01 * apart))
        panel = self.part("Measure", MeasurePanel)
        self.assertEqual(panel.table.item(0, 1).text(), v["text"])
        self.assertIn("± ", v["text"])

    def test_a_circle_through_three_marks_has_the_true_radius_and_follows_the_scale(self):
        s = self.session
        plain, true = self.circle()
        panel = self.part("Lengths", LengthsPanel)
        for a, b in ((0, 1), (2, 3)):
            panel.first.setCurrentText(f"T{a}")
            panel.second.setCurrentText(f"T{b}")
            panel.value.setText(f"{np.linalg.norm(self.X[a] - self.X[b]):.3f}")
            panel._add()
        s.run()
        wait_for(lambda: s.queue.idle and s.frame.scaled and s.background.idle)
        (value,) = s.measuring.values.values()
        self.assertEqual((plain["unit"], value["unit"]), ("", "mm"))
        self.assertLess(abs(value["value"] - true), max(3 * value["half95"], 0.01 * true))
        self.assertNotEqual(plain["text"], value["text"])
        cell = self.part("Measure", MeasurePanel).table.item(0, 1)
        self.assertEqual(cell.text(), value["text"].split(", radius")[0])
        self.assertIn(value["text"], cell.toolTip())

    def test_measurements_are_exported_and_reported_with_their_values(self):
        s = self.session
        value, _ = self.circle()
        folder = scratch()
        for act, file in (("_export", "m.csv"), ("_report", "r.pdf")):
            panel = self.part("Measure", MeasurePanel)
            with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(folder / file), "")):
                getattr(panel, act)()
            wait_for(lambda: s.tasks.idle)
        (row,) = csv.DictReader((folder / "m.csv").open())
        self.assertIn(f"{value['value']:.3f}"[:5], " ".join(map(str, row.values())))
        self.assertEqual((folder / "r.pdf").read_bytes()[:5], b"%PDF-")
        self.assertNotIn("Traceback", " ".join(s.log.lines))

    def test_a_scale_whose_points_are_gone_says_what_to_run(self):
        s, at = self.session, self.session.cloud["points"].astype(float)
        put_marks(s.job, s.sitting)
        for a, b in (("T0", "T1"), ("T2", "T3")):
            s.job.add_length(s.sitting_id, a, b, 12.0, 0.1, "scale")
        s.changed()
        s.run()
        wait_for(lambda: s.queue.idle and s.frame.scaled)
        s.job.remove_marked_points([p.id for p in s.job.marked_points(s.sitting_id)])
        s.changed()
        s.measuring.begin("distance")
        s.measuring.pick(at[0])
        s.measuring.pick(at[-1])
        wait_for(lambda: not s.measuring.busy)
        self.assertIn("Run Scale again, then measure", s.log.lines[-1])
        self.assertEqual(s.job.measurements(s.sitting_id), [])

    def test_a_measurement_of_a_sitting_that_was_removed_meanwhile_is_dropped(self):
        s = self.session
        s.run()  # what Scale was computed with before is no more
        wait_for(lambda: s.queue.idle and not s.frame.scaled)
        at = s.cloud["points"].astype(float)
        s.measuring.begin("distance")
        with mock.patch.object(s, "in_background") as asked:
            s.measuring.pick(at[0])
            s.measuring.pick(at[-1])
        work, keep, *_ = asked.call_args.args
        value = work()
        self.assertAlmostEqual(value["value"], np.linalg.norm(at[0] - at[-1]), delta=value["half95"])
        s.edits.remove()
        keep(value)
        self.assertFalse(s.measuring.busy)
        s.undo()
        self.assertEqual(s.job.measurements(s.sitting_id), [])

    def test_what_cannot_be_measured_says_why_and_leaves_nothing(self):
        s = self.session
        s.measuring.begin("sphere")
        at = s.cloud["points"][0].astype(float)
        for k in range(4):  # all in one line
            s.measuring.pick(at + [0.001 * k, 0, 0])
        QTest.keyClick(self.scene, Qt.Key.Key_Return)
        wait_for(lambda: not s.measuring.busy)
        self.assertIn("nearly in one plane", s.log.lines[-1])
        self.assertEqual((s.measuring.values, s.job.measurements(s.sitting_id)), ({}, []))


class Sections(WithScalePanels):
    def setUp(self):
        super().setUp()
        self.dialog = SectionDialog(self.session, self.window)
        self.addCleanup(self.dialog.reject)

    def names(self):
        return [x.name for x in self.session.job.sections(self.session.sitting_id)]

    def keep(self, name=None):
        """Keep the plane under the name that is offered, or another."""
        with mock.patch.object(QInputDialog, "getText", side_effect=lambda *_, text: (name or text, True)):
            self.dialog._keep()

    def test_a_section_is_drawn_and_saved_and_a_plane_beside_the_object_meets_nothing(self):
        dialog, file = self.dialog, scratch() / "s.svg"
        wait_for(lambda: dialog.drawing.section is not None)
        dialog.way.setCurrentIndex(0)
        dialog.drawing.grab()
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(file), "")):
            dialog._save()
        self.assertIn("<polyline", file.read_text())
        dialog.offset.setValue(1e5)
        wait_for(lambda: dialog.drawing.section is None)
        self.assertIn("does not meet", dialog.drawing.problem)

    def test_a_plane_is_kept_and_taken_again(self):
        dialog = self.dialog
        self.assertFalse(dialog.forget.isEnabled())
        low, high = dialog._range()
        dialog.offset.setValue(low + 0.25 * (high - low))
        first = dialog.place
        self.keep()
        dialog.slider.setValue(300)
        self.assertEqual((dialog.kept.currentIndex(), dialog.forget.isEnabled()), (0, False))  # it is another plane now
        self.keep()
        self.assertEqual(self.names(), ["Section 1", "Section 2"])
        dialog._take(1)
        self.assertTrue(dialog.forget.isEnabled())
        self.assertAlmostEqual(
            float((dialog.place - first) @ dialog.normal), 0.0, delta=10.0 ** -dialog.offset.decimals()
        )

    def test_a_forgotten_plane_gives_its_name_back_and_one_of_the_same_name_moves(self):
        dialog = self.dialog
        self.keep()
        dialog.slider.setValue(300)
        self.keep()
        second = dialog.place
        dialog._take(1)
        dialog._forget()
        dialog._take(1)
        self.assertAlmostEqual(
            float((dialog.place - second) @ dialog.normal), 0.0, delta=10.0 ** -dialog.offset.decimals()
        )
        self.keep()  # the name that is free, not that of the plane that is there
        self.assertEqual(self.names(), ["Section 2", "Section 1"])
        self.keep("Section 2")
        self.assertIn("Moved", dialog.told.text())
        self.assertEqual(sorted(self.names()), ["Section 1", "Section 2"])


if __name__ == "__main__":
    unittest.main()
