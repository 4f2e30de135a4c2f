"""A solved job in the window, looked at and worked on from many sides, driven as a user drives it."""

import unittest
from unittest import mock

import numpy as np
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QDropEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog

from tests import desk
from tests.desk import OF_SITTING, OneJob, texts, wait_for
from tests.scenes import scratch
from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import center
from umbrate.desk import tokens as t
from umbrate.desk.dialogs.exporting import ExportDialog
from umbrate.stages import BY_NAME


def setUpModule():
    desk.setUpModule()


def tearDownModule():
    desk.tearDownModule()


class Solved(OneJob):
    """One job with everything computed, looked at from many sides."""

    STAGES = OF_SITTING

    def test_the_board_shows_states_and_key_figures_and_chooses(self):
        for s in (BY_NAME[n] for n in OF_SITTING):
            self.assertIn(self.case.state(s.name), ("done", "look"))
            QTest.mouseClick(self.window.board, Qt.MouseButton.LeftButton, pos=self.case.cell(s.name))
            self.assertEqual(self.session.stage, s.name)
            shown = texts(self.window.bench)
            self.assertIn(s.title, shown)
            for name, value, _ in self.session.result(s.name).figures.rows():
                self.assertIn(name, shown)
                self.assertIn(value, shown)
        cells = {c.stage: c for c in self.window.board.cells[0]}
        self.assertIn("12/12", cells["poses"].first)
        for name in ("surface", "cloud", "join"):
            QTest.keyClick(self.window.board, Qt.Key.Key_Left)
            self.assertEqual(self.session.stage, name)
        self.assertIn("Joining takes two sittings", " ".join(texts(self.window.bench)))

    def test_the_pair_grid_says_who_shares_what_and_shows_two_photos(self):
        from umbrate.desk.bench.pairs import MatchesDialog, PairGrid

        s = self.session
        s.choose(stage="poses")
        (grid,) = self.window.bench.findChildren(PairGrid)
        a, b = grid.ids[:2]
        count = int(grid.counts[0, 1])
        self.assertGreater(count, 20)
        self.assertIn(f"{count:,} matches", grid.told(0, 1))
        step, asked = grid.width() / len(grid.ids), []
        grid.asked.disconnect()
        grid.asked.connect(lambda *pair: asked.append(pair))
        QTest.mouseClick(grid, Qt.MouseButton.LeftButton, pos=QPoint(int(1.5 * step), int(0.5 * step)))
        self.assertEqual(asked, [(a, b)])
        dialog = MatchesDialog(s, b, a, self.window)  # in either order
        self.assertEqual(len(dialog.matches), count)
        # matches lie on the object in both photos: features were only looked for there
        for side, photo in enumerate((a, b)):
            x, y = np.round(dialog.matches[:, 2 * side : 2 * side + 2]).astype(int).T
            self.assertGreater(s.masks.of(photo)[y, x].mean(), 0.99)

    def test_scene_and_photo_point_at_the_same_place(self):
        scene, view = self.window.scene, self.window.photo_view
        self.session.choose(stage="cloud")
        wait_for(lambda: view.image is not None)
        scene.look_through(view.shown)  # the eye looks along with the photo
        scene.grab()
        told = []
        self.session.pointed.connect(told.append)
        hits = np.argwhere(scene.canvas.buffers.index >= 0)
        y, x = hits[len(hits) // 2]
        QTest.mouseMove(scene, QPoint(int(x), int(y)))
        self.assertTrue(told and told[-1])
        # by an own computation: the nearest point at that pixel, projected into the shown photo
        block = self.session.block
        point = scene.points[scene.point_at(QPointF(x, y), 2)].astype(float)
        k = int(np.flatnonzero(block.photo_ids == view.shown)[0])
        Y = block.poses[k, :3, :3] @ point + block.poses[k, :3, 3]
        expected = Lens.from_vector(640, 480, block.lenses[0]).project(Y[None, :2] / Y[2])[0]
        np.testing.assert_allclose(told[-1][view.shown], (*expected, Y[2]), atol=1e-6)
        np.testing.assert_allclose(view.sighting[:2], expected, atol=1e-6)
        # the point nearest to the eye that looks along with the photo is not hidden, the same place from behind is
        self.assertFalse(view.overlays.is_hidden(view.shown, *expected, Y[2] * 0.99))
        self.assertTrue(view.overlays.is_hidden(view.shown, *expected, Y[2] * 1.5))
        # and back: the pixel's ray passes through that point
        rays = []
        self.session.ray.connect(rays.append)
        at = view.placement.to_view().map(QPointF(expected[0] + 0.5, expected[1] + 0.5))
        QTest.mouseMove(view, QPoint(3, 60))
        QTest.mouseMove(view, at.toPoint())
        a, d = rays[-1]
        off = np.linalg.norm(np.cross(point - a, d))
        self.assertLess(off, 0.01)  # photos stand at distance 1; a pixel of the view is some 0.002

    def test_the_photo_view_knows_its_pixels_in_every_orientation(self):
        view = self.window.photo_view
        wait_for(lambda: view.image is not None)
        before = view.placement.orientation
        for orientation in range(1, 9):
            view.placement.orientation = orientation
            view.fit()
            m = view.placement.to_view()
            for x, y in ((0.0, 0.0), (639.0, 479.0), (100.25, 333.5)):
                np.testing.assert_allclose(view.pixel_at(m.map(QPointF(x + 0.5, y + 0.5))), (x, y), atol=1e-6)
            # the corner that EXIF calls top left is drawn there
            corners = {
                1: (0, 0),
                2: (639, 0),
                3: (639, 479),
                4: (0, 479),
                5: (0, 0),
                6: (0, 479),
                7: (639, 479),
                8: (639, 0),
            }
            mapped = [m.map(QPointF(x + 0.5, y + 0.5)) for x, y in ((0, 0), (639, 0), (0, 479), (639, 479))]
            top_left = m.map(QPointF(corners[orientation][0] + 0.5, corners[orientation][1] + 0.5))
            self.assertAlmostEqual(top_left.x(), min(p.x() for p in mapped), places=6)
            self.assertAlmostEqual(top_left.y(), min(p.y() for p in mapped), places=6)
        view.placement.orientation = before
        view.fit()

    def test_the_wheel_keeps_what_is_under_the_pointer(self):
        view = self.window.photo_view
        wait_for(lambda: view.image is not None)
        view.fit()
        pos = QPointF(180, 220)
        before = view.pixel_at(pos)
        event = mock.Mock(position=lambda: pos, angleDelta=lambda: QPoint(0, 240))
        view.wheelEvent(event)
        np.testing.assert_allclose(view.pixel_at(pos), before, atol=1e-6)
        view.fit()
        scene = self.window.scene
        scene.grab()
        y, x = np.argwhere(scene.canvas.buffers.index >= 0)[40]
        k = scene.point_at(QPointF(x, y), 6)
        before = scene.eye.project(scene.points[k][None], scene.width(), scene.height())[0]
        scene.wheelEvent(mock.Mock(position=lambda: QPointF(x, y), angleDelta=lambda: QPoint(0, 120)))
        after = scene.eye.project(scene.points[k][None], scene.width(), scene.height())[0]
        np.testing.assert_allclose(after[:2], before[:2], atol=1e-6)
        self.assertLess(after[2], before[2])
        scene.look_from("Fit")

    def drag_along(self, widget, path, modifiers=Qt.KeyboardModifier.NoModifier):
        """Press at the first place of a path, move along it, let go at the last."""
        QTest.mousePress(widget, Qt.MouseButton.LeftButton, modifiers, QPoint(*map(int, path[0])))
        for x, y in path[1:]:
            QTest.mouseMove(widget, QPoint(int(x), int(y)))
        QTest.mouseRelease(widget, Qt.MouseButton.LeftButton, modifiers, QPoint(*map(int, path[-1])))

    def test_tie_points_are_sifted_traced_removed_and_brought_back(self):
        from umbrate.core.poses.sift import measure
        from umbrate.desk.bench.sift import SiftPanel
        from umbrate.desk.strip.thumbs import PHOTO_ID, TRACED

        s, scene = self.session, self.window.scene
        s.choose(stage="poses")
        desk.APP.processEvents()
        panel = self.window.bench.findChild(SiftPanel)
        panel.color.setChecked(True)
        panel.which.setCurrentIndex(panel.which.findData("pixel"))
        pixel = measure("pixel", s.block)
        self.assertEqual(s.points.legend()[3], "Pixel size")
        self.assertGreater(scene.colors[np.argmax(pixel)].sum(), scene.colors[np.argmin(pixel)].sum())
        panel.color.setChecked(False)
        np.testing.assert_array_equal(scene.colors, s.block.colors)
        panel.which.setCurrentIndex(0)
        value = measure("residual", s.block)
        limit = float(np.percentile(value, 93))
        panel.region.setRegion((limit, panel.ends[1]))
        np.testing.assert_array_equal(s.points.chosen, value >= limit)
        self.assertIn(f"Remove {int((value >= limit).sum()):,}", texts(panel))
        # what is chosen is drawn in the accent color before it is removed
        accent = t.color(t.ACCENT).rgb() & 0xFFFFFF
        colored = lambda: sum(  # noqa: E731
            (scene.canvas.image.pixel(x, y) & 0xFFFFFF) == accent
            for y in range(0, scene.canvas.image.height(), 2) for x in range(0, scene.canvas.image.width(), 2)
        )  # fmt: skip
        scene.grab()
        self.assertGreater(colored(), 0)
        QTest.mouseClick(panel.trace, Qt.MouseButton.LeftButton)
        rows = s.points.chosen[s.block.point]
        seeing = {int(s.block.photo_ids[k]) for k in np.unique(s.block.photo[rows])}
        items = [self.window.strip.list.item(k) for k in range(self.window.strip.list.count())]
        self.assertEqual({i.data(PHOTO_ID) for i in items if i.data(TRACED)}, seeing)
        drawn = len(scene.points)
        QTest.mouseClick(panel.remove, Qt.MouseButton.LeftButton)
        self.assertEqual(len(scene.points), drawn - int((value >= limit).sum()))
        self.assertEqual(self.case.state("poses"), "stale")
        self.assertEqual(s.points.count(), 0)
        s.undo()
        self.assertEqual(len(scene.points), drawn)
        self.assertIn(self.case.state("poses"), ("done", "look"))
        # by hand: a lasso round all, then a rectangle takes the left half away
        w, h = scene.width(), scene.height()
        scene.set_mode("lasso")
        self.drag_along(scene, [(1, 1), (w - 2, 1), (w - 2, h - 2), (1, h - 2)])
        uvz = scene.eye.project(s.block.points, w, h)
        inside = ((uvz[:, :2] > 2) & (uvz[:, :2] < [w - 3, h - 3])).all(1)
        np.testing.assert_array_equal(s.points.chosen[inside], True)
        scene.set_mode("rectangle")
        middle = float(np.median(uvz[inside, 0]))
        self.drag_along(scene, [(1, 1), (middle, h - 2)], Qt.KeyboardModifier.ControlModifier)
        clear = inside & (np.abs(uvz[:, 0] - middle) > 1.5)
        np.testing.assert_array_equal(s.points.chosen[clear], uvz[clear, 0] > middle)
        QTest.keyClick(scene, Qt.Key.Key_Escape)
        self.assertEqual((s.points.count(), scene.mode), (0, "look"))
        # and from photos to points
        s.points.trace_to_points({s.photo_id})
        rows = s.block.photo_ids[s.block.photo] == s.photo_id
        np.testing.assert_array_equal(np.flatnonzero(s.points.chosen), np.unique(s.block.point[rows]))
        s.points.clear()

    def test_coverage_is_told_from_tie_points_and_its_places_are_gone_to(self):
        s, scene = self.session, self.window.scene
        s.choose(stage="poses")
        scene.toggles["Tie points"].setChecked(True)
        plain = scene.colors.copy()
        self.window.bench.open("Coverage")
        part = self.window.bench.widget_of("Coverage")
        part.looks["spread"].click()
        wait_for(lambda: s.points.covered is not None)
        self.assertFalse(np.array_equal(scene.colors, plain))
        self.assertEqual(s.points.legend()[2], "°")
        scene.grab()
        rows, places = s.points.places()
        self.assertEqual(part.gaps.rowCount(), len(rows))
        self.assertTrue(places, "the pebble was seen from above only")
        before = scene.eye.pose.copy()
        part.gaps.selectRow(0)
        self.assertFalse(np.allclose(before, scene.eye.pose))
        for E in places[0].poses:
            self.assertTrue(np.isfinite(scene.on_screen(center(E)[None])).all())
        part.looks["spread"].click()
        np.testing.assert_array_equal(scene.colors, plain)
        # of other points nothing is known
        s.points.cover("seen")

        s.points.choose(np.arange(len(s.block.points)) < 20)
        s.points.remove()
        self.assertIsNone(s.points.legend())
        self.assertIsNone(s.points.covered)
        s.undo()

    def test_the_keep_box_is_sized_by_a_handle_and_by_numbers(self):
        from umbrate.desk.bench.keepbox import BoxPanel, angles_of, axes_of

        s, scene = self.session, self.window.scene
        s.choose(stage="poses")
        desk.APP.processEvents()
        scene.set_mode("box")
        before = s.keep_box
        box = scene.keep_box()
        places = scene.handles.places(box)
        uvz = scene.eye.project(places, scene.width(), scene.height())
        side = 5  # the upper one
        start = uvz[side, :2]
        self.drag_along(scene, [start, start + [0, -20], start + [0, -30]])
        scene.set_mode("look")
        now = s.keep_box
        self.assertGreater(now["half"][2], before["half"][2] * 1.05)
        np.testing.assert_allclose(now["half"][:2], before["half"][:2])
        low = lambda d: d["center"][2] - d["half"][2]  # noqa: E731
        self.assertAlmostEqual(low(now), low(before), places=6)  # the opposite side stays
        panel = self.window.bench.findChild(BoxPanel)
        panel.sizes[0].setValue(2.5)
        panel.sizes[0].editingFinished.emit()
        self.assertAlmostEqual(s.keep_box["half"][0], 1.25)
        s.undo()
        s.undo()
        # and tilted, by a handle and by numbers that say what it is
        scene.set_mode("box")
        grip = scene.eye.project(scene.handles.places(scene.keep_box()), scene.width(), scene.height())[8, :2]
        self.drag_along(scene, [grip, grip + [10, 0], grip + [20, 0]])
        scene.set_mode("look")
        axes = np.array(s.keep_box["axes"])
        turned = axes @ np.array(before["axes"]).T
        self.assertAlmostEqual(np.degrees(np.arccos((np.trace(turned) - 1) / 2)), 10, delta=0.6)
        np.testing.assert_allclose(axes_of(angles_of(axes)), axes, atol=1e-9)
        s.undo()
        panel = self.window.bench.findChildren(BoxPanel)[-1]
        panel.angles[0].setValue(30)
        panel.angles[0].editingFinished.emit()
        self.assertAlmostEqual(s.keep_box["axes"][2][2], np.cos(np.radians(30)), places=3)
        s.undo()
        self.assertEqual(s.keep_box, before)

    def test_links_are_the_shared_points_and_a_photo_is_looked_through(self):
        s, scene = self.session, self.window.scene
        s.choose(stage="poses")
        desk.APP.processEvents()
        scene.look_from("Fit")
        plain = scene.grab().toImage()
        scene.side.switches["links"].setChecked(True)
        self.assertNotEqual(scene.grab().toImage(), plain)
        shared = scene.frusta.shared(s.block)
        both = set(s.block.point[s.block.photo == 0]) & set(s.block.point[s.block.photo == 1])
        self.assertEqual(shared[0, 1], len(both))
        scene.side.switches["links"].setChecked(False)
        scene.look_through(s.photo_id)
        wait_for(lambda: scene.through._image is not None)
        # a tie point lies where the photo shows it, once the lens is taken out
        k = int(np.flatnonzero(s.block.photo_ids == s.photo_id)[0])
        row = int(np.flatnonzero(s.block.photo == k)[7])
        uv = scene.eye.project(s.block.points[s.block.point[row]][None], scene.width(), scene.height())[0, :2]
        lens, pinhole = Lens.from_vector(640, 480, s.block.lenses[0]), scene.through._pinhole
        x = lens.unproject((s.block.xy[row] - s.block.residual[row]).astype(float)[None])[0]
        picture = x * pinhole.f + [pinhole.cx, pinhole.cy]
        scale = scene.eye.f / pinhole.f
        corner = (np.array([scene.width(), scene.height()]) - 1) / 2 - np.array([pinhole.cx, pinhole.cy]) * scale
        np.testing.assert_allclose(uv, picture * scale + corner, atol=0.6)
        # a photo that is shown turned is looked through as it is shown
        s.edits.turn_photos({s.photo_id}, 1)
        self.addCleanup(lambda: s.photos()[0].turn and s.undo())
        scene.look_through(None)
        scene.look_through(s.photo_id)
        wait_for(lambda: scene.through._image is not None and scene.through._image.height() > 1)
        self.assertGreater(scene.through._image.height(), scene.through._image.width())
        uv = scene.eye.project(s.block.points[s.block.point[row]][None], scene.width(), scene.height())[0, :2]
        scale = scene.eye.f / pinhole.f
        middle = (np.array([scene.width(), scene.height()]) - 1) / 2
        side = (picture - [pinhole.cx, pinhole.cy]) * scale
        np.testing.assert_allclose(uv, middle + [-side[1], side[0]], atol=0.6)
        drawn = scene.through._middle
        h = scene.through._image.width()  # of the picture as the sensor saw it
        np.testing.assert_allclose(drawn, [h - 1 - pinhole.cy, pinhole.cx])
        s.undo()
        QTest.keyClick(scene, Qt.Key.Key_Escape)
        self.assertIsNone(scene.through.photo_id)
        scene.look_from("Fit")

    def test_clicking_a_photo_in_the_scene_chooses_it(self):
        scene = self.window.scene
        self.session.choose(stage="poses")
        scene.look_from("Fit", ring=True)
        desk.APP.processEvents()
        chosen = set()
        for pid, corners in scene.frusta.corners(scene.block):
            uv = scene.eye.project(corners, scene.width(), scene.height())[0, :2]
            if 0 < uv[0] < scene.width() and 60 < uv[1] < scene.height():
                QTest.mouseClick(scene, Qt.MouseButton.LeftButton, pos=QPoint(*uv.astype(int)))
                chosen.add(self.session.photo_id == pid)
        self.assertIn(True, chosen)
        item = self.window.strip.list.currentItem()
        self.assertEqual(item.data(Qt.ItemDataRole.UserRole), self.session.photo_id)
        self.assertEqual(self.window.strip.chosen_ids(), {self.session.photo_id})  # and nothing else with it

    def test_strip_sorts_and_filters(self):
        strip = self.window.strip
        names = lambda: [strip.list.item(k).text() for k in range(strip.list.count())]  # noqa: E731
        shooting = names()
        self.assertEqual(shooting, sorted(shooting))
        strip.sort.setCurrentIndex(2)
        per = self.session.result("poses").figures.per_photo
        by_name = {p.name: per[p.id].sightings for p in self.session.photos()}
        self.assertEqual([by_name[n] for n in names()], sorted(by_name.values()))
        strip.filter.setCurrentText("Not placed")
        self.assertEqual(names(), [])
        strip.sort.setCurrentIndex(0)
        strip.filter.setCurrentIndex(0)

    def test_overlays_that_a_stage_does_not_offer_are_not_drawn_there(self):
        view, s = self.window.photo_view, self.session
        s.choose(stage="poses", photo_id=s.photos()[2].id)
        wait_for(lambda: view.image is not None and view.shown == s.photo_id)
        self.addCleanup(view.toggles["Sightings"].setChecked, False)
        view.toggles["Sightings"].setChecked(True)
        self.assertGreater(len(view.overlays.sightings), 20)
        for stage in ("masks", "cloud"):
            s.choose(stage=stage)
            self.assertTrue(view.toggles["Sightings"].isHidden())
            self.assertEqual(len(view.overlays.sightings), 0, stage)
        s.choose(stage="poses")
        self.assertGreater(len(view.overlays.sightings), 20)

    def test_photos_dragged_onto_a_sitting_move_there(self):
        s = self.session
        ids = [p.id for p in s.photos()]
        s.job.add_sitting("Other", [])
        s.changed()
        board = self.window.board
        mime = self.window.strip.list.mimeData([self.window.strip.list.item(k) for k in (1, 2)])
        place = QPointF(60, board.cell_rect(1, 0).center().y())
        event = QDropEvent(
            place, Qt.DropAction.MoveAction, mime, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        )
        board.dropEvent(event)
        self.assertEqual([p.id for p in s.job.photos(s.job.sitting("Other").id)], ids[1:3])
        s.undo()
        s.undo()
        self.assertEqual([p.id for p in s.photos()], ids)

    def test_undo_brings_back_settings_and_photos(self):
        self.session.choose(stage="poses")
        self.session.edits.set_setting("poses", "features", 2500)
        self.assertEqual(self.case.state("poses"), "stale")
        self.window.menus.undo.trigger()
        self.assertIn(self.case.state("poses"), ("done", "look"))
        self.session.edits.set_aside({self.session.photo_id})
        self.assertEqual(self.case.state("cloud"), "stale")
        self.window.menus.undo.trigger()
        self.assertIn(self.case.state("cloud"), ("done", "look"))
        self.window.menus.redo.trigger()
        self.assertTrue(any(p.aside for p in self.session.photos()))
        self.window.menus.undo.trigger()

    def test_everything_can_be_exported(self):
        out = scratch()
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(out / "c.ply"), "")):
            with mock.patch.object(ExportDialog, "exec", return_value=True):
                self.window.deliver.cloud()
        wait_for(lambda: self.session.tasks.idle)
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(out / "c.json"), "")):
            self.window.deliver.cameras()
        wait_for(lambda: self.session.tasks.idle)
        self.assertEqual({p.name for p in out.iterdir()}, {"c.ply", "c.json"})
        self.assertEqual(self.window.foot.kind, "good")
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(out / "no" / "c.ply"), "")):
            with mock.patch.object(ExportDialog, "exec", return_value=True):
                self.window.deliver.cloud()
        wait_for(lambda: self.session.tasks.idle)
        self.assertEqual(self.window.foot.kind, "bad")
        self.assertIn("does not exist", self.window.foot.said)
        self.window.foot.clear()

    def test_while_it_moves_a_part_of_the_cloud_is_drawn_and_then_all(self):
        scene = self.window.scene
        self.session.choose(stage="cloud")
        scene.grab()
        scene.canvas.budget = 2000
        with mock.patch("umbrate.desk.scene.canvas.draw_points", wraps=__import__(
            "umbrate.core.raster.points", fromlist=["draw_points"]
        ).draw_points) as drawn:  # fmt: skip
            QTest.mousePress(scene, Qt.MouseButton.LeftButton, pos=QPoint(200, 200))
            QTest.mouseMove(scene, QPoint(220, 210))
            scene.grab()
            self.assertEqual(drawn.call_args.args[5], 2000)
            QTest.mouseRelease(scene, Qt.MouseButton.LeftButton, pos=QPoint(220, 210))
            wait_for(lambda: not scene.canvas.moving)
            scene.grab()
            self.assertEqual(drawn.call_args.args[5], len(scene.points))


if __name__ == "__main__":
    unittest.main()
