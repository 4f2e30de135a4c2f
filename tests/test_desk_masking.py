"""Masks drawn in the photo: brush, shapes, color, edge brush and outline, driven as a user drives them."""

import unittest
from unittest import mock

import numpy as np
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtTest import QTest

from tests import desk
from tests.desk import OF_SITTING, OneJob, wait_for
from umbrate.core.masking import strokes
from umbrate.desk.bench.shapemasks import ShapePanel
from umbrate.sitting.frames import set_keep_box
from umbrate.sitting.masks import STILL, THING, TURNS, decode_kinds, decode_mask, mask_blobs


def setUpModule():
    desk.setUpModule()


def tearDownModule():
    desk.tearDownModule()


class Masking(OneJob):
    STAGES = OF_SITTING

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
                desk.APP.sendEvent(view, event)
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
            desk.APP.sendEvent(view, event)
        QTest.mouseRelease(view, Qt.MouseButton.LeftButton, modifier, self.at(view, *points[-1]))

    def paint_squares(self, view, color=(200, 40, 40)):
        """A picture with two squares on grey in place of the photo's: what tools find is known."""
        self.addCleanup(setattr, view, "picture", view.picture)
        view.picture = np.full((480, 640, 3), 110, np.uint8)
        view.picture[100:200, 100:200] = view.picture[100:200, 300:400] = color

    def test_what_turns_with_the_object_is_drawn_beside_it_and_never_over_it(self):
        view, tools, made = self.masking()
        s = self.session
        tools.choose("rectangle")
        tools.along.click()
        self.addCleanup(tools.along.setChecked, False)
        self.draw(view, [(10, 300), (629, 470)])
        kinds = view.overlays.kinds
        np.testing.assert_array_equal(kinds == THING, made)  # the object stays what it was
        box = np.zeros_like(made)
        box[300:471, 10:630] = True
        self.assertGreater(((kinds == TURNS) & box & ~made).sum(), 0.98 * (box & ~made).sum())
        box[298:473, 8:632] = True  # but for the pixels that the mouse is off
        self.assertEqual(((kinds == TURNS) & ~box).sum(), 0)
        blue = view.tint.pixelColor(20, 460)
        self.assertGreater(blue.blue(), blue.red() + 60)
        self.assertEqual(view.tint.pixelColor(*(np.argwhere(made)[0][::-1].tolist())).alpha(), 0)
        # the object drawn over it takes its place, and what is taken away from the object is left out
        tools.along.click()
        self.draw(view, [(20, 400), (60, 460)])
        self.assertEqual(view.overlays.kinds[430, 40], THING)
        self.draw(view, [(20, 400), (60, 460)], Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(view.overlays.kinds[430, 40], STILL)
        self.assertEqual(view.overlays.kinds[430, 300], TURNS if not made[430, 300] else THING)
        stored = s.job.blobs.get_bytes(mask_blobs(s.job, s.sitting)[s.photo_id])
        np.testing.assert_array_equal(decode_kinds(stored), view.overlays.kinds)
        for _ in range(3):
            s.undo()
        self.assertFalse((view.overlays.kinds == TURNS).any())

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
        QTest.keyClick(view, Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier)
        self.assertEqual(tools.size.value(), 38)
        QTest.keyClick(view, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
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
        # a real double click presses first; the one made here does not
        for p in ((100, 100), (199, 100), (199, 199), (100, 199)):
            QTest.mouseClick(view, Qt.MouseButton.LeftButton, shift, self.at(view, *p))
        wait_for(lambda: tools._closing is not None)  # the way back is known before it is asked for
        with mock.patch.object(strokes, "edge_path", side_effect=AssertionError):
            QTest.mouseDClick(view, Qt.MouseButton.LeftButton, shift, self.at(view, 100, 199))
        self.assertIsNone(tools._closing)
        square = np.zeros((480, 640), bool)
        square[100:200, 100:200] = True
        self.assertLess((view.overlays.mask ^ square).sum(), 600)  # within a pixel and a half along its four sides


class FromShape(OneJob):
    STAGES = ("photos", "masks", "lens", "poses")

    def setUp(self):
        super().setUp()
        self.session.choose(stage="masks")
        self.masks = {p.id: self.mask(p) for p in self.session.photos()}

    def mask(self, photo):
        s = self.session
        blob = mask_blobs(s.job, s.sitting).get(photo.id)
        return decode_mask(s.job.blobs.get_bytes(blob)) if blob else None

    def make(self, source, margin=0, there="replace"):
        s, panel = self.session, self.panel(ShapePanel)
        for box, value in ((panel.source, source), (panel.there, there)):
            box.setCurrentIndex(box.findData(value))
        panel.margin.setValue(margin)
        panel._make()
        wait_for(lambda: s.tasks.idle)

    def test_masks_from_shape_fit_the_outlines_they_come_from_and_are_taken_back(self):
        s = self.session
        self.make("outlines")
        self.assertIn("12 masks from shape", s.log.lines[-1])
        for p in s.photos():
            now, was = self.mask(p), self.masks[p.id]
            self.assertGreater((now & was).sum() / (now | was).sum(), 0.8, p.name)
        s.undo()
        for p in s.photos():
            np.testing.assert_array_equal(self.mask(p), self.masks[p.id])

    def test_a_margin_widens_them_and_what_is_there_can_stay(self):
        s = self.session
        self.make("outlines", 6, "keep")
        self.assertIn("0 masks from shape", s.log.lines[-1])
        for p in s.photos():
            np.testing.assert_array_equal(self.mask(p), self.masks[p.id])
        self.make("outlines", 0)
        plain = [self.mask(p).sum() for p in s.photos()]
        s.undo()
        self.make("outlines", 6)
        self.assertTrue(all(self.mask(p).sum() > n for p, n in zip(s.photos(), plain, strict=True)))

    def test_a_keep_box_beside_the_object_says_so_and_changes_no_mask(self):
        s = self.session
        box = s.keep_box
        away = {**box, "center": (np.asarray(box["center"]) + 50 * np.asarray(box["half"])).tolist()}
        s.do(lambda: set_keep_box(s.job, s.sitting, away))
        self.make("depth")
        self.assertIn("it stands beside the object", s.log.lines[-1])
        for p in s.photos():
            np.testing.assert_array_equal(self.mask(p), self.masks[p.id])


if __name__ == "__main__":
    unittest.main()
