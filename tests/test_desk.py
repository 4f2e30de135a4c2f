"""The window, driven as a user drives it, on Qt's offscreen platform."""

import gc
import os
import signal
import time
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
from PyQt6.QtCore import QEvent, QMimeData, QPoint, QPointF, QSettings, Qt, QUrl, qInstallMessageHandler
from PyQt6.QtGui import QContextMenuEvent, QDropEvent, QImage, QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLabel, QMessageBox, QPushButton, QToolButton, QWidget

from tests.scenes import pebble_set, scratch
from tests.test_lens import own_shelf
from tests.test_stages import new_job, run
from umbrate.core.geometry.lens import Lens
from umbrate.desk import tokens
from umbrate.desk import tokens as t
from umbrate.desk.dialogs.newjob import NewJobDialog
from umbrate.desk.strip.thumbs import LINE
from umbrate.desk.window import Window
from umbrate.formats.lenscards import LensCard, put_on_shelf, read_card
from umbrate.job.store import Job
from umbrate.sitting.blocks import stored_block
from umbrate.stages import BY_NAME, STAGES

#: stages of one sitting that is not joined
OF_SITTING = [s.name for s in STAGES if s.name != "join"]
APP = None


COMPLAINTS = []


def setUpModule():
    global APP
    # what Qt complains of (a painter on a dead device, a timer in a wrong thread) is a fault of the desk
    qInstallMessageHandler(lambda kind, _, text: COMPLAINTS.append(text))
    # what tests do must not show up among the user's recent jobs
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(scratch()))
    APP = QApplication.instance() or QApplication(["umbrate"])
    APP.setStyle("Fusion")
    APP.setStyleSheet(tokens.STYLE)


def tearDownModule():
    qInstallMessageHandler(None)
    real = [x for x in COMPLAINTS if "propagateSizeHints" not in x]
    if real:
        raise AssertionError(f"Qt complained: {real[:5]}")


def wait_for(condition, limit_s=90):
    """Let the window live until something holds."""
    end = time.monotonic() + limit_s
    while not condition():
        if time.monotonic() > end:
            raise AssertionError("waited in vain")
        QApplication.processEvents()
        time.sleep(0.01)
    QApplication.processEvents()


def texts(widget):
    """All label and button texts of a widget that is shown."""
    return [w.text() for kind in (QLabel, QPushButton) for w in widget.findChildren(kind)]


def white_in(widget):
    """Share of a widget's picture that is white."""
    image = widget.grab().toImage().convertToFormat(QImage.Format.Format_RGB32)
    data = image.constBits().asarray(image.sizeInBytes())
    return float((np.frombuffer(data, np.uint32) & 0xFFFFFF == 0xFFFFFF).mean())


class DeskTest(unittest.TestCase):
    def setUp(self):
        self.window = Window()
        self.window.resize(1280, 800)
        self.window.show()
        self.session = self.window.session
        self.addCleanup(self.finish)

    def finish(self):
        """End the window here and now: what is left for later may be collected in another thread, which Qt forbids."""
        self.window.close()
        self.window.deleteLater()
        APP.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
        self.window = self.session = None
        gc.collect()

    def open(self, *stages):
        """Open a pebble job in which these stages have run."""
        job, sitting = new_job(scratch() / "pebble")
        for name in stages:
            run(job, sitting, name)
        job.close()
        self.assertTrue(self.window.open_path(job.folder))
        APP.processEvents()
        return sitting

    def cell(self, stage, row=0):
        """Middle of a Board cell."""
        column = [s.name for s in STAGES].index(stage)
        return self.window.board.cell_rect(row, column).center()

    def state(self, stage):
        return next(self.session.state_of(c) for c in self.window.board.cells[0] if c.stage == stage)


class Solved(unittest.TestCase):
    """One job with everything computed, looked at from many sides."""

    @classmethod
    def setUpClass(cls):
        cls.case = DeskTest()
        cls.case.setUp()
        cls.addClassCleanup(cls.case.doCleanups)
        cls.case.open(*OF_SITTING)
        cls.window, cls.session = cls.case.window, cls.case.session

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
        QTest.keyClick(self.window.board, Qt.Key.Key_Left)
        self.assertEqual(self.session.stage, "join")
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

    def drag(self, widget, path, modifiers=Qt.KeyboardModifier.NoModifier):
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
        APP.processEvents()
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
        self.drag(scene, [(1, 1), (w - 2, 1), (w - 2, h - 2), (1, h - 2)])
        uvz = scene.eye.project(s.block.points, w, h)
        inside = ((uvz[:, :2] > 2) & (uvz[:, :2] < [w - 3, h - 3])).all(1)
        np.testing.assert_array_equal(s.points.chosen[inside], True)
        scene.set_mode("rectangle")
        middle = float(np.median(uvz[inside, 0]))
        self.drag(scene, [(1, 1), (middle, h - 2)], Qt.KeyboardModifier.ControlModifier)
        clear = inside & (np.abs(uvz[:, 0] - middle) > 1.5)
        np.testing.assert_array_equal(s.points.chosen[clear], uvz[clear, 0] > middle)
        QTest.keyClick(scene, Qt.Key.Key_Escape)
        self.assertEqual((s.points.count(), scene.mode), (0, "look"))
        # and from photos to points
        s.points.trace_to_points({s.photo_id})
        rows = s.block.photo_ids[s.block.photo] == s.photo_id
        np.testing.assert_array_equal(np.flatnonzero(s.points.chosen), np.unique(s.block.point[rows]))
        s.points.clear()

    def test_the_keep_box_is_sized_by_a_handle_and_by_numbers(self):
        from umbrate.desk.bench.keepbox import BoxPanel

        s, scene = self.session, self.window.scene
        s.choose(stage="poses")
        APP.processEvents()
        scene.set_mode("box")
        before = s.keep_box
        box = scene.keep_box()
        places = scene.handles.places(box)
        uvz = scene.eye.project(places, scene.width(), scene.height())
        side = 5  # the upper one
        start = uvz[side, :2]
        self.drag(scene, [start, start + [0, -20], start + [0, -30]])
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
        self.assertEqual(s.keep_box, before)

    def test_links_are_the_shared_points_and_a_photo_is_looked_through(self):
        s, scene = self.session, self.window.scene
        s.choose(stage="poses")
        APP.processEvents()
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
        QTest.keyClick(scene, Qt.Key.Key_Escape)
        self.assertIsNone(scene.through.photo_id)
        scene.look_from("Fit")

    def test_clicking_a_photo_in_the_scene_chooses_it(self):
        scene = self.window.scene
        self.session.choose(stage="poses")
        APP.processEvents()
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

    def test_strokes_on_the_photo_become_the_mask_and_can_be_undone(self):
        view, s = self.window.photo_view, self.session
        s.choose(stage="masks", photo_id=s.photos()[0].id)
        wait_for(lambda: view.image is not None and view.shown == s.photo_id and view.overlays.mask is not None)
        tools, made = view.mask_tools, view.overlays.mask.copy()
        self.assertTrue(tools.isVisible())

        def at(x, y):
            return view.placement.to_view().map(QPointF(x + 0.5, y + 0.5)).toPoint()

        def drag(tool, points, modifier=Qt.KeyboardModifier.NoModifier):
            tools.choose(tool)
            QTest.mousePress(view, Qt.MouseButton.LeftButton, modifier, at(*points[0]))
            for p in points[1:]:
                # a real drag has the button down: QTest's own move does not say so
                event = QMouseEvent(
                    QEvent.Type.MouseMove, QPointF(at(*p)), view.mapToGlobal(QPointF(at(*p))), Qt.MouseButton.NoButton,
                    Qt.MouseButton.LeftButton, modifier,
                )  # fmt: skip
                APP.sendEvent(view, event)
            QTest.mouseRelease(view, Qt.MouseButton.LeftButton, modifier, at(*points[-1]))

        pixel = 2 / view.placement.scale + 1  # where a widget's pixel may fall in the photo
        v, u = np.mgrid[0:480, 0:640]
        drag("rectangle", [(40, 50), (140, 120)])
        added = view.overlays.mask & ~made
        self.assertTrue((u[added].min() - 40) ** 2 < pixel**2 and (v[added].max() - 120) ** 2 < pixel**2)
        self.assertAlmostEqual(added.sum() / (100 * 70), 1.0, delta=0.08)
        drag("rectangle", [(40, 50), (140, 120)], Qt.KeyboardModifier.ControlModifier)
        self.assertLess((view.overlays.mask ^ made).sum(), 0.02 * made.sum())
        tools.size.setValue(15)
        drag("brush", [(100, 300), (160, 300), (160, 360)])
        painted = view.overlays.mask & ~made
        self.assertTrue(painted[300, 130] and painted[330, 160] and not painted[340, 110])
        drag("lasso", [(300, 200), (360, 200), (360, 260), (300, 260)], Qt.KeyboardModifier.ShiftModifier)
        self.assertAlmostEqual(view.overlays.mask.sum() / 3600, 1.0, delta=0.12)
        self.assertTrue(view.overlays.mask[230, 330] and not view.overlays.mask[300, 130])
        tools.choose("polygon")
        for p in ((20, 20), (60, 20), (60, 60)):
            QTest.mouseClick(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at(*p))
        QTest.mouseDClick(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at(20, 60))
        self.assertTrue(view.overlays.mask[30, 50])
        for _ in range(5):
            self.window.menus.undo.trigger()
        np.testing.assert_array_equal(view.overlays.mask, made)
        self.assertEqual(s.job.hand_masks(s.sitting_id), {})
        self.assertIn(self.case.state("poses"), ("done", "look"))
        # widen, invert, copy on
        tools.change(lambda m: ~m, "invert")
        np.testing.assert_array_equal(view.overlays.mask, ~made)
        self.assertEqual(self.case.state("poses"), "stale")
        s.masks.copy_on()
        following = s.photos()[1].id
        self.assertEqual(s.photo_id, following)
        self.assertEqual(s.masks.key(following), s.masks.key(s.photos()[0].id))
        self.window.menus.undo.trigger()
        self.window.menus.undo.trigger()
        self.assertIn(self.case.state("poses"), ("done", "look"))
        tools.choose("move")

    def masking(self):
        """The mask tools on the first photo, and functions that click and drag at its pixels."""
        view, s = self.window.photo_view, self.session
        s.choose(stage="masks", photo_id=s.photos()[0].id)
        wait_for(lambda: view.image is not None and view.shown == s.photo_id and view.overlays.mask is not None)

        def undo_all():
            while s.job.hand_masks(s.sitting_id):
                s.undo()
            view.mask_tools.choose("move")

        self.addCleanup(undo_all)
        return view, view.mask_tools, view.overlays.mask.copy()

    @staticmethod
    def at(view, x, y):
        return view.placement.to_view().map(QPointF(x + 0.5, y + 0.5)).toPoint()

    def draw(self, view, points, modifier=Qt.KeyboardModifier.NoModifier):
        """Drag with the left button over pixels of the photo."""
        QTest.mousePress(view, Qt.MouseButton.LeftButton, modifier, self.at(view, *points[0]))
        for p in points[1:]:
            place = QPointF(self.at(view, *p))
            # a real drag has the button down: QTest's own move does not say so
            event = QMouseEvent(
                QEvent.Type.MouseMove, place, view.mapToGlobal(place), Qt.MouseButton.NoButton,
                Qt.MouseButton.LeftButton, modifier,
            )  # fmt: skip
            APP.sendEvent(view, event)
        QTest.mouseRelease(view, Qt.MouseButton.LeftButton, modifier, self.at(view, *points[-1]))

    def paint_squares(self, view, color=(200, 40, 40)):
        """A picture with two squares on grey in place of the photo's: what tools find is known."""
        self.addCleanup(setattr, view, "picture", view.picture)
        view.picture = np.full((480, 640, 3), 110, np.uint8)
        view.picture[100:200, 100:200] = view.picture[100:200, 300:400] = color

    def test_the_color_tool_takes_what_is_connected_and_dragging_changes_its_tolerance(self):
        view, tools, _ = self.masking()
        self.paint_squares(view, (150, 90, 90))
        tools.choose("color")
        shift = Qt.KeyboardModifier.ShiftModifier  # starts anew
        QTest.mouseClick(view, Qt.MouseButton.LeftButton, shift, self.at(view, 150, 150))
        square = np.zeros((480, 640), bool)
        square[100:200, 100:200] = True
        np.testing.assert_array_equal(view.overlays.mask, square)
        tools.connected.setChecked(False)
        self.addCleanup(tools.connected.setChecked, True)
        QTest.mouseClick(view, Qt.MouseButton.LeftButton, shift, self.at(view, 150, 150))
        self.assertTrue(view.overlays.mask[150, 350])
        self.assertEqual(view.overlays.mask.sum(), 20_000)
        QTest.mouseClick(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier, self.at(view, 150, 150))
        self.assertEqual(view.overlays.mask.sum(), 0)  # Ctrl takes away
        low = tools.tolerance()
        tools.points = [(150, 150), (150, 150 - 90 / view.placement.scale)]
        self.assertEqual(tools.tolerance(), low + 30)
        tools.drop()
        self.draw(view, [(150, 190), (150, 190), (150, 10)], shift)  # up: so much tolerance that the grey is in it
        self.assertEqual(view.overlays.mask.sum(), 480 * 640)

    def test_the_edge_brush_stops_at_an_edge_that_the_brush_paints_over(self):
        view, tools, _ = self.masking()
        self.paint_squares(view)
        tools.size.setValue(30)
        shift = Qt.KeyboardModifier.ShiftModifier
        tools.choose("edge brush")
        self.draw(view, [(185, 130), (185, 150), (185, 170)], shift)
        edge = view.overlays.mask.copy()
        self.assertGreater(edge.sum(), 1500)
        self.assertFalse(edge[:, 201:].any())
        tools.choose("brush")
        self.draw(view, [(185, 130), (185, 150), (185, 170)], shift)
        self.assertTrue(view.overlays.mask[150, 210])
        self.assertTrue((view.overlays.mask | ~edge).all())  # what the edge brush took, the brush takes too
        QTest.keyClick(view, Qt.Key.Key_BracketRight)
        self.assertEqual(tools.size.value(), 38)
        QTest.keyClick(view, Qt.Key.Key_BracketLeft)
        self.assertEqual(tools.size.value(), 30)

    def test_the_outline_snaps_to_the_edge_between_its_clicks(self):
        view, tools, _ = self.masking()
        self.paint_squares(view)
        tools.choose("outline")
        shift = Qt.KeyboardModifier.ShiftModifier
        for p in ((100, 100), (199, 100), (199, 199)):
            QTest.mouseClick(view, Qt.MouseButton.LeftButton, shift, self.at(view, *p))
        QTest.keyClick(view, Qt.Key.Key_Escape)  # thought better of it
        self.assertEqual(tools.points, [])
        for p in ((100, 100), (199, 100), (199, 199)):
            QTest.mouseClick(view, Qt.MouseButton.LeftButton, shift, self.at(view, *p))
        QTest.mouseDClick(view, Qt.MouseButton.LeftButton, shift, self.at(view, 100, 199))
        square = np.zeros((480, 640), bool)
        square[100:200, 100:200] = True
        self.assertLess((view.overlays.mask ^ square).sum(), 600)  # within a pixel and a half along its four sides

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
        with mock.patch("umbrate.desk.window.QFileDialog.getSaveFileName", return_value=(str(out / "c.ply"), "")):
            self.window.deliver.cloud()
        wait_for(lambda: self.session.tasks.idle)
        with mock.patch("umbrate.desk.window.QFileDialog.getSaveFileName", return_value=(str(out / "c.json"), "")):
            self.window.deliver.cameras()
        wait_for(lambda: self.session.tasks.idle)
        self.assertEqual({p.name for p in out.iterdir()}, {"c.ply", "c.json"})
        self.assertEqual(self.window.foot.kind, "good")
        with mock.patch(
            "umbrate.desk.window.QFileDialog.getSaveFileName", return_value=(str(out / "no" / "c.ply"), "")
        ):
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


class Working(DeskTest):
    def test_a_new_job_from_folders_runs_to_the_cloud_and_reopens_where_one_was(self):
        dialog = NewJobDialog([pebble_set()])
        self.assertEqual([n for _, n in dialog.folders()], ["by-hand"])
        self.assertEqual(dialog.table.item(0, 1).text(), "12")
        place = scratch() / "new job"
        dialog.line.setText(str(place))
        self.assertEqual(dialog.place().name, "new job.umbrate")
        with (
            mock.patch.object(NewJobDialog, "exec", lambda d: d.line.setText(str(place)) or 1),
        ):
            self.window.new_job([pebble_set()])
        wait_for(lambda: self.session.result("masks") is not None and self.session.queue.idle)
        self.assertEqual(len(self.session.photos()), 12)
        self.session.edits.set_setting("poses", "features", 3000)
        self.session.edits.set_setting("cloud", "photo_scale", 4)
        lives = []
        self.session.live.connect(lambda name, data: lives.append((name, self.window.scene.live is not None)))
        self.session.choose(stage="poses")
        QTest.mouseDClick(self.window.board, Qt.MouseButton.LeftButton, pos=self.cell("poses"))
        wait_for(lambda: self.session.running() is not None)
        self.assertFalse(self.window.foot.bar.isHidden())
        wait_for(lambda: self.session.queue.idle)
        self.assertTrue(any(n == "block" for n, _ in lives))
        self.assertIsNone(self.window.scene.live)
        self.assertTrue(self.window.foot.bar.isHidden())
        self.assertIn("Next: run Cloud", texts(self.window.bench))
        next(b for b in self.window.bench.findChildren(QPushButton) if b.text() == "Next: run Cloud").click()
        wait_for(lambda: self.session.queue.idle)
        self.assertEqual(self.state("cloud"), "done")
        self.assertTrue(self.window.scene.is_cloud)
        photo = self.session.photos()[7].id
        self.session.choose(photo_id=photo)
        self.window.close_job()
        self.assertEqual(self.window.stack.currentIndex(), 0)
        self.assertIn("new job", " ".join(texts(self.window.welcome)))
        self.window.open_path(place.with_name("new job.umbrate"))
        self.assertEqual((self.session.stage, self.session.photo_id), ("cloud", photo))

    def test_a_killed_worker_is_told_and_the_job_goes_on(self):
        self.open("photos", "masks", "lens")
        self.session.choose(stage="poses")
        self.session.run()
        wait_for(lambda: self.session.running() and self.session.running().fraction > 0.05)
        os.kill(self.session.queue.worker.pid, signal.SIGKILL)
        wait_for(lambda: self.session.queue.idle)
        self.assertIn("ended unexpectedly", self.window.foot.said)
        self.assertEqual(self.state("poses"), "failed")
        self.assertEqual(self.state("masks"), "done")
        again = next(b for b in self.window.bench.findChildren(QPushButton) if b.text() == "Run it again")
        again.click()
        self.assertEqual(self.window.foot.kind, "")
        wait_for(lambda: self.session.queue.idle)
        self.assertEqual(self.state("poses"), "done")
        self.assertEqual(len(self.session.job.ledger()), 5)

    def test_cancel_is_heard(self):
        self.open("photos", "masks")
        self.session.choose(stage="poses")
        self.session.run_all()
        wait_for(lambda: self.session.running() and self.session.running().fraction > 0.05)
        QTest.mouseClick(self.window.foot.cancel, Qt.MouseButton.LeftButton)
        wait_for(lambda: self.session.queue.idle)
        self.assertEqual(self.state("lens"), "ready")
        self.assertIn("Stopped on request", self.window.foot.said)

    def test_bad_folders_are_told_and_cost_nothing(self):
        self.open()
        empty = scratch()
        (empty / "zero.jpg").write_bytes(b"")
        before = len(self.session.job.sittings())
        for folder, said in ((empty, "0 bytes"), (empty / "gone", "does not exist"), (scratch(), "no photos")):
            self.window.foot.clear()
            self.session.arrivals.add_folders([folder])
            wait_for(lambda: self.window.foot.kind == "bad")
            self.assertIn(said, self.window.foot.said)
        self.assertEqual(len(self.session.job.sittings()), before)
        # good news does not wipe out bad news before it was read
        self.session.said.emit("fine", "good")
        self.assertIn("no photos", self.window.foot.said)
        QTest.mouseClick(self.window.foot.dismiss, Qt.MouseButton.LeftButton)
        self.assertEqual(self.window.foot.said, "")

    def test_a_stage_that_fails_says_why_and_offers_what_mends_it(self):
        self.open("photos")
        self.session.choose(stage="masks")
        self.session.edits.set_setting("masks", "folder", "/not/there")
        self.session.run()
        wait_for(lambda: self.session.queue.idle)
        self.assertEqual(self.state("masks"), "failed")
        self.assertTrue(any("/not/there does not exist" in x for x in texts(self.window.bench)))
        next(b for b in self.window.bench.findChildren(QPushButton) if b.text().startswith("Clear “Folder”")).click()
        wait_for(lambda: self.session.queue.idle)
        self.assertEqual(self.state("masks"), "done")

    def test_a_second_window_reads_and_does_not_write(self):
        self.open("photos", "masks")
        other = Window()
        self.addCleanup(other.close)
        other.show()
        other.open_path(self.session.job.folder)
        self.assertIn("reading only", other.foot.said)
        other.session.choose(stage="poses")
        other.session.run()
        self.assertIn("nothing can be run", other.foot.said)
        other.session.edits.set_setting("poses", "features", 999)
        self.assertEqual(self.session.job.settings(self.session.sitting_id, "poses")["features"], 3000)

    def test_what_is_no_job_is_told_on_the_welcome_page(self):
        with mock.patch.object(QMessageBox, "open") as shown:
            self.window.open_path(scratch())
        shown.assert_called_once()
        self.assertEqual(self.window.stack.currentIndex(), 0)

    def test_dropped_folders_become_sittings(self):
        self.open()
        mime = QMimeData()
        mime.setUrls([QUrl.fromLocalFile(str(pebble_set() / "by-hand"))])
        event = QDropEvent(
            QPointF(100, 100), Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        )
        self.window.dropEvent(event)
        wait_for(lambda: len(self.session.job.sittings()) == 2)
        self.assertEqual(self.session.sitting.name, "by-hand")
        masks = self.session.job.settings(self.session.sitting_id, "masks")
        self.assertEqual(Path(masks["folder"]).name, "masks")
        wait_for(lambda: self.session.queue.idle)

    def test_every_setting_has_an_editor_that_changes_it(self):
        from umbrate.desk.bench.editors import make_editor

        for stage in STAGES:
            for name, field in stage.Settings.model_fields.items():
                if not (field.json_schema_extra or {}).get("form", True):
                    continue  # set elsewhere on the bench
                got = []
                editor = make_editor(name, field, field.default, lambda n, v, got=got: got.append((n, v)))
                self.assertTrue(editor.accessibleName(), name)
                for child in [editor, *editor.findChildren(type(editor))]:
                    if hasattr(child, "toggle"):
                        child.toggle()
                    elif hasattr(child, "setCurrentIndex"):
                        child.setCurrentIndex(1)
                        child.activated.emit(1)
                    elif hasattr(child, "setValue"):
                        child.setValue(child.maximum())
                        child.editingFinished.emit()
                if got:
                    stage.Settings(**dict(got))  # what it hands out is a valid setting
        self.assertIn("poses", BY_NAME)

    def test_a_color_is_picked_in_the_photo(self):
        self.open("photos")
        view, s = self.window.photo_view, self.session
        s.choose(stage="masks")
        s.edits.set_setting("masks", "method", "color")
        wait_for(lambda: view.image is not None)
        APP.processEvents()
        eyedropper = next(
            e for e in self.window.bench.findChildren(QWidget) if e.accessibleName() == "Backdrop color"
        ).findChild(QToolButton)
        eyedropper.click()
        self.assertEqual(view.cursor().shape(), Qt.CursorShape.CrossCursor)
        place = view.placement.to_view().map(QPointF(100.5, 60.5)).toPoint()
        QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=place)
        color = s.job.settings(s.sitting_id, "masks")["backdrop_color"]
        x, y = (round(c) for c in view.pixel_at(QPointF(place)))
        around = view.picture[y - 3 : y + 4, x - 3 : x + 4].reshape(-1, 3)
        self.assertEqual(color, "#{:02X}{:02X}{:02X}".format(*np.median(around, axis=0).astype(int)))
        # a second thought
        s.pick_color(lambda c: self.fail("nothing was picked"))
        QTest.keyClick(view, Qt.Key.Key_Escape)
        QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=place)
        self.assertEqual(view.cursor().shape(), Qt.CursorShape.ArrowCursor)

    def test_settings_that_belong_to_another_method_are_not_shown(self):
        self.open("photos")
        self.session.choose(stage="masks")

        def shown():
            APP.processEvents()
            return {e.accessibleName() for e in self.window.bench.findChildren(QWidget)}

        self.assertIn("File name", shown())
        self.session.edits.set_setting("masks", "method", "still")
        self.assertNotIn("File name", shown())
        self.assertIn("Leave out colors", shown())
        self.session.edits.set_setting("masks", "leave_out", "no color")
        self.assertEqual(self.window.foot.kind, "bad")
        self.assertNotIn("leave_out", self.session.job.settings(self.session.sitting_id, "masks"))

    def test_silhouettes_and_looks_of_masks(self):
        self.open("photos", "masks")
        view, strip = self.window.photo_view, self.window.strip
        self.session.choose(stage="masks")
        wait_for(lambda: view.image is not None and view.overlays.mask is not None)
        photo = white_in(strip.list)
        strip.silhouettes.click()
        self.assertGreater(white_in(strip.list), photo + 0.05)
        inside = np.argwhere(view.overlays.mask)[len(np.argwhere(view.overlays.mask)) // 2]
        for look, outside_alpha, inside_alpha in ((0, 175, 0), (1, 255, 0), (2, 255, 255)):
            view.mask_look.setCurrentIndex(look)
            view.reload_overlays()
            self.assertEqual(view.tint.pixelColor(int(inside[1]), int(inside[0])).alpha(), inside_alpha)
            self.assertEqual(view.tint.pixelColor(1, 1).alpha(), outside_alpha)
        view.toggles["Mask"].click()
        self.assertIsNone(view.tint)

    def test_a_running_step_is_not_lost_without_a_question(self):
        self.open("photos", "masks")
        self.session.choose(stage="poses")
        self.session.run()
        wait_for(lambda: self.session.running() is not None)
        with mock.patch.object(QMessageBox, "exec"), mock.patch.object(QMessageBox, "clickedButton", return_value=None):
            self.window.close()
            self.assertTrue(self.window.isVisible())
            self.window.close_job()
            self.assertIsNotNone(self.session.job)
        self.session.cancel()
        wait_for(lambda: self.session.queue.idle)

    def test_dropped_files_join_the_sitting_and_odd_ones_are_told(self):
        self.open()
        extra = scratch() / "extra.jpg"
        extra.write_bytes((pebble_set() / "by-hand" / "U_0001.jpg").read_bytes())
        other = scratch() / "notes.txt"
        other.write_text("x")

        def drop(path):
            mime = QMimeData()
            mime.setUrls([QUrl.fromLocalFile(str(path))])
            self.window.dropEvent(
                QDropEvent(
                    QPointF(9, 9),
                    Qt.DropAction.CopyAction,
                    mime,
                    Qt.MouseButton.LeftButton,
                    Qt.KeyboardModifier.NoModifier,
                )
            )

        drop(other)
        self.assertIn("no photos", self.window.foot.said)
        self.window.foot.clear()
        drop(extra)
        wait_for(lambda: self.session.tasks.idle)
        self.assertEqual([p.name for p in self.session.photos()][-1], "extra.jpg")
        wait_for(lambda: self.session.queue.idle)

    def test_missing_photos_are_shown_and_found_again(self):
        import shutil

        folder = scratch() / "p"
        shutil.copytree(pebble_set() / "by-hand", folder)
        job, sitting = new_job(scratch() / "j", folder)
        run(job, sitting, "photos")
        job.close()
        moved = folder.with_name("moved")
        folder.rename(moved)
        self.window.open_path(job.folder)
        self.session.choose(stage="photos")
        self.assertTrue(any("12 files of this sitting are missing" in x for x in texts(self.window.bench)))
        with mock.patch("umbrate.desk.window.QFileDialog.getExistingDirectory", return_value=str(moved.parent)):
            next(b for b in self.window.bench.findChildren(QPushButton) if b.text() == "Find missing photos…").click()
        wait_for(lambda: self.session.tasks.idle)
        self.assertIn("Found 12", self.window.foot.said)
        self.assertEqual(self.state("photos"), "done")
        wait_for(lambda: self.window.photo_view.image is not None)

    def test_reading_can_be_cancelled_and_is_followed_in_the_foot(self):
        self.open("photos")
        foot, folder = self.window.foot, scratch() / "many"
        folder.mkdir()
        for k in range(600):
            (folder / f"{k:03d}.jpg").symlink_to(pebble_set() / "by-hand" / f"U_{k % 12 + 1:04d}.jpg")
        self.session.arrivals.add_folders([folder])
        wait_for(lambda: self.session.task() and self.session.task().fraction > 0)
        foot.follow()
        self.assertTrue(foot.cancel.isVisible())
        self.assertRegex(foot.doing.text(), r"Reading many: reading photo \d+ of 600")
        foot.cancel.click()
        wait_for(lambda: self.session.tasks.idle)
        self.assertIn("Stopped on request", foot.said)
        self.assertEqual(len(self.session.job.sittings()), 1)

    def test_masks_are_tried_on_a_few_photos_before_they_are_made(self):
        self.open("photos")
        s, view = self.session, self.window.photo_view
        s.choose(stage="masks")
        s.edits.set_setting("masks", "method", "color")
        wait_for(lambda: view.image is not None)
        # nothing is green here: all would be object, but for the color of what lies in the corner
        s.edits.set_setting("masks", "backdrop_color", "#00C000")
        s.edits.set_setting(
            "masks", "leave_out", view.pointer.color.color_at(view.placement.to_view().map(QPointF(30, 30)))
        )
        button = lambda text: next(b for b in self.window.bench.findChildren(QPushButton) if b.text() == text)  # noqa: E731
        button("Try it on a few photos").click()
        wait_for(lambda: s.masks.preview and s.masks.preview.made)
        self.assertEqual(len(s.masks.preview.made), 4)
        first = s.masks.preview.photo_ids[0]
        self.assertEqual(s.photo_id, first)
        wait_for(lambda: view.image is not None and view.shown == first and view.overlays.mask is not None)
        before = view.overlays.mask.copy()
        self.assertIsNone(s.result("masks"))  # nothing was kept
        s.edits.set_setting("masks", "leave_out_tolerance", 0.01)  # a changed setting is tried at once
        wait_for(
            lambda: s.masks.preview.made and view.overlays.mask is not None and view.overlays.mask.sum() > before.sum()
        )
        button("Leave it").click()
        APP.processEvents()
        self.assertIsNone(view.overlays.mask)
        # and those that a run makes are the same
        s.masks.try_on({s.photos()[2].id})
        wait_for(lambda: s.masks.preview and s.masks.preview.made)
        (tried,) = s.masks.preview.made.values()
        s.run()
        wait_for(lambda: s.queue.idle)
        self.assertIsNone(s.masks.preview)
        self.assertEqual(s.result("masks").blob("mask", s.photos()[2].id), tried.mask)

    def test_soft_photos_come_with_evidence_and_photos_can_be_turned(self):
        from PIL import Image, ImageFilter

        from umbrate.desk.bench.softness import Evidence

        folder = scratch() / "p"
        folder.mkdir()
        for file in sorted((pebble_set() / "by-hand").glob("*.jpg"))[:6]:
            im = Image.open(file)
            im.filter(ImageFilter.GaussianBlur(3 if file.stem == "U_0003" else 0)).save(folder / file.name, quality=95)
        job, sitting = new_job(scratch() / "j", folder, masks=False)
        run(job, sitting, "photos")
        job.close()
        self.window.open_path(job.folder)
        s, view, strip = self.session, self.window.photo_view, self.window.strip
        s.choose(stage="photos")
        strip.filter.setCurrentText("Soft")
        self.assertEqual([strip.list.item(k).text() for k in range(strip.list.count())], ["U_0003.jpg"])
        strip.filter.setCurrentText("All photos")
        (evidence,) = self.window.bench.findChildren(Evidence)
        wait_for(lambda: evidence.spots is not None)
        self.assertEqual([p.name for p in evidence.photos], ["U_0003.jpg", "U_0002.jpg"])
        fine = []
        for label in evidence.pieces:
            image = label.pixmap().toImage().convertToFormat(QImage.Format.Format_Grayscale8)
            a = np.frombuffer(image.constBits().asarray(image.sizeInBytes()), np.uint8)
            fine.append(np.abs(np.diff(a.reshape(image.height(), -1)[:, : image.width()].astype(int))).mean())
        self.assertLess(fine[0], 0.8 * fine[1])  # what it shows is what it says
        QTest.mouseClick(evidence, Qt.MouseButton.LeftButton, pos=evidence.pieces[1].geometry().center())
        wait_for(lambda: view.image is not None and view.shown == evidence.photos[1].id and view.placement.scale == 1.0)
        at = view.pixel_at(QPointF(view.width() / 2, view.height() / 2))
        np.testing.assert_allclose(at, evidence.spots[1], atol=1)
        # turning: undone like everything, the pixel under the pointer stays the sensor's
        chosen = s.photo_id
        s.edits.turn_photos({chosen}, 1)
        self.assertEqual(view.placement.turn, 1)
        self.assertEqual(view.placement.upright().mapRect(view.image.rect()).width(), view.image.height())
        corner = view.placement.to_view().map(QPointF(0.5, 0.5))
        np.testing.assert_allclose(view.pixel_at(corner), (0, 0), atol=1e-6)
        self.assertGreater(
            corner.x(), view.placement.to_view().map(QPointF(0.5, 99.5)).x()
        )  # above is at the right now
        s.undo()
        self.assertEqual(view.placement.turn, 0)
        self.assertEqual(self.state("photos"), "look")  # no result is stale for it

    def test_a_changed_file_is_told_and_taken_as_it_is(self):
        import shutil

        folder = scratch() / "p"
        shutil.copytree(pebble_set() / "by-hand", folder)
        job, sitting = new_job(scratch() / "j", folder)
        run(job, sitting, "photos")
        job.close()
        self.window.open_path(job.folder)
        s = self.session
        s.choose(stage="photos")
        files = sorted(folder.glob("*.jpg"))
        shutil.copy(files[1], files[0])
        s.arrivals.check_files()
        wait_for(lambda: any("not as when brought in" in x for x in texts(self.window.bench)))
        item = self.window.strip.list.item(0)
        self.assertEqual(item.data(LINE), "file changed")
        next(b for b in self.window.bench.findChildren(QPushButton) if b.text() == "Take them as they are now").click()
        wait_for(lambda: s.tasks.idle and s.queue.idle)
        self.assertEqual(s.arrivals.file_state(s.photos()[0]), "here")
        self.assertEqual(s.photos()[0].hash, s.photos()[1].hash)

    def test_a_lens_is_calibrated_looked_at_and_kept(self):
        from tests.test_lens import sheet_photos
        from umbrate.desk.bench.calibration import CalibrationPictures
        from umbrate.desk.dialogs.lens import SheetsDialog, ShelfDialog

        place = scratch() / "lens.umbrate"
        Job.create(place).close()
        self.window.open_path(place)
        s, view, bench = self.session, self.window.photo_view, self.window.bench
        button = lambda text: next(b for b in bench.findChildren(QPushButton) if b.text() == text)  # noqa: E731
        # a sitting for it, with what to do; two photos first: what is missing is said
        s.edits.begin_calibration()
        self.assertEqual((s.sitting.name, s.stage), ("Calibration", "lens"))
        self.assertTrue(any("raised by some 10 cm" in x for x in texts(bench)))
        photos = sheet_photos()
        s.arrivals.add_files([str(photos / f"U_000{k}.jpg") for k in (1, 2)])
        wait_for(lambda: s.tasks.idle and s.queue.idle and s.result("lens"))
        self.assertEqual(self.state("lens"), "look")
        self.assertTrue(any("held the same way" in x for x in texts(bench)))
        # the folder with all of them goes into the same sitting
        with mock.patch("umbrate.desk.window.QFileDialog.getExistingDirectory", return_value=str(photos)):
            button("Bring in photos…").click()
        wait_for(lambda: s.tasks.idle and s.queue.idle and s.result("lens").figures.calibration)
        self.assertEqual((len(s.job.sittings()), len(s.photos())), (1, 8))
        self.assertEqual(self.state("lens"), "done", self.window.foot.said)
        self.assertFalse(any("raised by some 10 cm" in x for x in texts(bench)))
        # a sighting is left out with the right button, and brought back
        wait_for(lambda: view.overlays.calibrated is not None and view.image is not None)
        number, at = int(view.overlays.calibrated["point"][0]), view.overlays.calibrated["xy"][0]
        spot = view.placement.to_view().map(QPointF(*(at + 0.5))).toPoint()
        menus, right_click = [], QContextMenuEvent(QContextMenuEvent.Reason.Mouse, spot, view.mapToGlobal(spot))

        def take_first(menu, _):
            menus.append(menu.actions()[0].text())
            menu.actions()[0].trigger()

        for offered in ("Leave {} out of the calibration", "Bring {} back"):
            with mock.patch("umbrate.desk.photo.view.QMenu.exec", take_first):
                APP.sendEvent(view, right_click)
            self.assertEqual(menus[-1], offered.format(number))
            chosen = s.job.settings(s.sitting_id, "lens").get("leave_out")
            self.assertEqual(chosen, {f"#{s.photo_id}": [number]} if offered.startswith("Leave") else {})
        self.assertEqual(len(menus), 2)
        self.assertEqual(self.state("lens"), "done")  # all is as it was
        wait_for(lambda: view.overlays.targets is not None)
        self.assertGreater((view.overlays.targets["number"] >= 0).sum(), 60)
        (pictures,) = self.window.bench.findChildren(CalibrationPictures)
        seen = set()
        for k in range(4):
            pictures.choice.setCurrentIndex(k)
            APP.processEvents()
            seen.add(hash(pictures.stack.currentWidget().grab().toImage().constBits().asstring(40_000)))
            self.assertTrue(pictures.note.text())
        self.assertEqual(len(seen), 4)
        self.assertIn("targets in 4 of the picture's 4 corners", texts(self.window.bench))
        self.assertFalse(any(x.startswith("Next") for x in texts(self.window.bench)))
        with mock.patch("umbrate.desk.deliver.QInputDialog.getText", return_value=("Mine", True)):
            next(b for b in self.window.bench.findChildren(QPushButton) if b.text() == "Keep as a lens card…").click()
        dialog = ShelfDialog(self.window)
        self.assertEqual([c.name for _, c in dialog.cards], ["Mine"])
        self.assertIn("k1 -0.1", dialog.details.text())
        dialog.remove.click()
        self.assertEqual(dialog.cards, [])
        sheets, place = SheetsDialog(self.window), scratch() / "mat.pdf"
        sheets.kind.setCurrentIndex(sheets.kind.findData("mat"))
        self.assertTrue(sheets.hole.isEnabled())
        self.assertEqual(sheets.write(place), 1)
        self.assertGreater(place.stat().st_size, 2000)

    def test_the_shelf_of_lens_cards_shows_brings_in_writes_out_and_removes(self):
        from umbrate.desk.dialogs.lens import ShelfDialog

        own_shelf(self)
        empty = ShelfDialog(self.window)
        self.assertIn("The shelf is empty", empty.details.text())
        self.assertFalse(empty.write.isEnabled() or empty.remove.isEnabled())
        facts = {
            "camera": "M 1", "lens_name": "L", "focal_mm": 50.0, "sigma": {"f": 0.2}, "date": "2026-05-04",
            "photos": 8, "sightings": 900, "rms_px": 0.02,
        }  # fmt: skip
        lens = Lens(1000, 750, 1200.0, 501.0, 374.0, (-0.1, 0.0, 0.0))
        file = put_on_shelf(LensCard("50 at 0.6 m", lens=lens, notes=["flat"], **facts))
        (file.parent / "broken.json").write_text("{")
        dialog, out = ShelfDialog(self.window), scratch()
        shown = [[dialog.table.item(r, c).text() for c in range(dialog.table.columnCount())] for r in range(2)]
        self.assertEqual(shown[0][:4], ["50 at 0.6 m", "M 1, L", "1000 x 750", "50 mm, 1200.0 px"])
        self.assertEqual(shown[1][:2], ["broken.json", "no lens card, or damaged"])
        self.assertIn("f 1200.00 ± 0.2 px", dialog.details.text())
        self.assertIn("k1 -0.10000", dialog.details.text())
        self.assertIn("flat", dialog.details.text())
        self.assertNotIn("k2", dialog.details.text())
        with mock.patch("PyQt6.QtWidgets.QFileDialog.getSaveFileName", return_value=(str(out / "c.json"), "")):
            dialog.write.click()
        self.assertEqual(read_card(out / "c.json").name, "50 at 0.6 m")
        dialog.table.selectRow(1)
        self.assertIn("passed over until it is removed", dialog.details.text())
        self.assertEqual((dialog.write.isEnabled(), dialog.remove.isEnabled()), (False, True))
        dialog.remove.click()
        self.assertEqual(dialog.table.rowCount(), 1)
        dialog.remove.click()
        self.assertEqual(dialog.cards, [])
        for name in ("c.json", "gone.json"):
            with mock.patch("PyQt6.QtWidgets.QFileDialog.getOpenFileName", return_value=(str(out / name), "")):
                dialog.bring.click()
            self.assertEqual(bool(dialog.trouble.text()), name == "gone.json")
            self.assertEqual([c.name for _, c in dialog.cards], ["50 at 0.6 m"])

    def test_sheets_offer_what_their_kind_has_and_are_written(self):
        from umbrate.desk.dialogs.lens import SheetsDialog

        dialog, out = SheetsDialog(self.window), scratch()
        wanted = {
            "calibration": (False, False, 4, "eight photos"), "loose": (True, False, 1, "14 pixels"),
            "small": (False, False, 1, "1.5, 2 and 3 mm"), "mat": (True, True, 1, "turns with it"),
            "bars": (True, False, 1, "known lengths"),
        }  # fmt: skip
        self.assertEqual({dialog.kind.itemData(k) for k in range(dialog.kind.count())}, set(wanted))
        for kind, (dots, hole, pages, said) in wanted.items():
            dialog.kind.setCurrentIndex(dialog.kind.findData(kind))
            self.assertEqual((dialog.dot.isEnabled(), dialog.hole.isEnabled()), (dots, hole), kind)
            self.assertIn(said, dialog.note.text())
            self.assertGreaterEqual(dialog.write(out / f"{kind}.pdf"), pages)
            self.assertTrue((out / f"{kind}.pdf").read_bytes().startswith(b"%PDF"))

    def test_fragments_are_shown_one_at_a_time(self):
        sitting = self.open("photos", "masks", "lens", "poses")
        s, scene = self.session, self.window.scene
        s.choose(stage="poses")
        self.assertTrue(scene.part.isHidden())
        done = s.result("poses")
        whole = stored_block(s.job.blobs, done.blob("block"))
        first = np.arange(len(whole.poses)) < 7

        def part(keep):
            poses = np.where(keep[:, None, None], whole.poses, np.nan)
            on = keep[whole.photo]
            points = np.bincount(whole.point[on], minlength=len(whole.points)) >= 2
            some = replace(whole, poses=poses).keeping(points)
            return s.job.blobs.put_arrays(**some.arrays())

        figures = done.figures.model_copy(update={"solved": 7, "fragments": [5]})
        artefacts = {**done.artefacts, ("block", None): part(first), ("fragment 2", None): part(~first)}
        s.job.commit_result(sitting.id, "poses", done.fingerprint, done.settings, figures, [], artefacts, 1.0)
        s.changed()
        wait_for(lambda: not scene.part.isHidden())
        names = [scene.part.itemText(k) for k in range(scene.part.count())]
        self.assertEqual(names, ["Block, 7 photos", "Fragment 2, 5 photos"])
        self.assertEqual(set(scene.block.solved_rows.values()), set(np.flatnonzero(first)))
        scene.part.setCurrentIndex(1)
        scene.part.activated.emit(1)
        self.assertEqual(s.fragment, 1)
        self.assertEqual(set(scene.block.solved_rows.values()), set(np.flatnonzero(~first)))
        self.assertLess(white_in(scene), 0.5)  # it draws
        s.show_fragment(0)
        self.assertEqual(set(scene.block.solved_rows.values()), set(np.flatnonzero(first)))

    def test_the_finder_runs_what_is_typed(self):
        from umbrate.desk.dialogs.finder import Finder

        self.open("photos", "masks")
        finder = Finder(self.window.menus.of_job, self.window)
        QTest.keyClicks(finder.line, "ledger")
        self.assertEqual(finder.list.count(), 1)
        with mock.patch("umbrate.desk.window.LedgerDialog") as shown:
            QTest.keyClick(finder.line, Qt.Key.Key_Return)
        shown.assert_called_once()
