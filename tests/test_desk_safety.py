"""The window acts on what it shows, survives what nobody foresaw, and tells of a disk that is full."""

import json
import subprocess
import sys
import threading
import unittest
from unittest import mock

import numpy as np
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QHelpEvent, QTextDocument
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLabel, QToolTip

from tests import desk
from tests.desk import DeskTest, wait_for
from tests.scenes import pebble_set, scratch
from tests.test_cli import umbrate
from tests.test_scaling import put_marks
from tests.test_stages import job_with, new_job, run
from umbrate.actions.leveling import change_level
from umbrate.core.errors import UmbrateError
from umbrate.core.raster.camera import eye_round
from umbrate.desk.dialogs.upkeep import UpkeepDialog
from umbrate.desk.photo import view as photoview
from umbrate.desk.plain import PlainTips, message
from umbrate.desk.scene.pointer import pick_end
from umbrate.job.database import StoreError
from umbrate.job.store import Job
from umbrate.sitting.blocks import stored_block
from umbrate.sitting.frames import load_block

setUpModule, tearDownModule = desk.setUpModule, desk.tearDownModule
NONE = Qt.KeyboardModifier.NoModifier


class Gated:
    """Reads photos only when it is let, and counts how many are read at once."""

    def __init__(self):
        self.open, self.now, self.most, self.read = threading.Event(), 0, 0, []
        self._real, self._lock = photoview.photo_picture, threading.Lock()

    def __call__(self, photo):
        with self._lock:
            self.now += 1
            self.most = max(self.most, self.now)
        self.open.wait(30)
        try:
            return self._real(photo)
        finally:
            with self._lock:
                self.now -= 1
                self.read.append(photo.name)


class ThePhotoThatIsShown(DeskTest):
    def setUp(self):
        super().setUp()
        self.open("photos", "masks")
        self.view = self.window.photo_view
        self.photos = self.session.photos()
        wait_for(lambda: self.view.image is not None)

    def everything(self):
        """All that a user could do to the photo with pointer and keys."""
        v, s = self.view, self.session
        middle = QPointF(v.width() / 2, v.height() / 2 + 40).toPoint()
        other = middle + QPointF(40, 25).toPoint()
        for tool in ("brush", "rectangle", "lasso", "color", "edge brush", "polygon", "outline"):
            if tool in v.mask_tools.buttons:
                v.mask_tools.choose(tool)
            QTest.mousePress(v, Qt.MouseButton.LeftButton, NONE, middle)
            QTest.mouseMove(v, other)
            QTest.mouseRelease(v, Qt.MouseButton.LeftButton, NONE, other)
            QTest.mouseDClick(v, Qt.MouseButton.LeftButton, NONE, other)
        for label in ("widen", "nothing", "everything", "invert"):
            v.mask_tools.change(np.ones_like, label)
        v.mask_tools.choose("move")
        pick = lambda: s.pick_color(lambda c: self.fail(f"{c}, of a picture that is not there"))  # noqa: E731
        for act in (lambda: s.marking.set_on(True), lambda: s.measuring.begin("distance"), pick):
            act()
            QTest.mouseClick(v, Qt.MouseButton.LeftButton, NONE, middle)
            for key in (Qt.Key.Key_Return, Qt.Key.Key_Delete, Qt.Key.Key_Insert):
                QTest.keyClick(v, key)
        s.picked()
        s.measuring.begin(None)
        s.marking.set_on(False)
        v.grab()

    def test_until_a_picture_is_there_nothing_can_be_done_to_it(self):
        s, v = self.session, self.view
        s.choose(stage="masks")
        gate = Gated()
        with mock.patch.object(photoview, "photo_picture", gate):
            s.choose(photo_id=self.photos[1].id)
            self.everything()
            self.assertEqual(s.job.hand_masks(s.sitting_id), {})
            self.assertEqual([q for p in s.job.marked_points(s.sitting_id) for q in p.sightings], [])
            self.assertIsNone(v.pixel_at(QPointF(300, 300)))
            gate.open.set()
            wait_for(lambda: v.image is not None)
        # and then it can, to the one that is shown
        v.mask_tools.choose("brush")
        QTest.mousePress(v, Qt.MouseButton.LeftButton, NONE, QPointF(v.width() / 2, v.height() / 2).toPoint())
        QTest.mouseRelease(v, Qt.MouseButton.LeftButton, NONE, QPointF(v.width() / 2, v.height() / 2).toPoint())
        self.assertEqual(list(s.job.hand_masks(s.sitting_id)), [self.photos[1].id])

    def test_a_stroke_or_a_mark_that_was_begun_is_not_ended_on_the_next_photo(self):
        s, v = self.session, self.view
        middle = QPointF(v.width() / 2, v.height() / 2).toPoint()
        s.choose(stage="masks")
        v.mask_tools.choose("brush")
        QTest.mousePress(v, Qt.MouseButton.LeftButton, NONE, middle)
        s.choose(photo_id=self.photos[2].id)
        wait_for(lambda: v.image is not None)
        QTest.mouseRelease(v, Qt.MouseButton.LeftButton, NONE, middle)
        self.assertEqual(s.job.hand_masks(s.sitting_id), {})
        s.choose(stage="poses")
        s.marking.set_on(True)
        QTest.mouseClick(v, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.AltModifier, middle)
        (before,) = (q for p in s.job.marked_points(s.sitting_id) for q in p.sightings)
        QTest.mousePress(v, Qt.MouseButton.LeftButton, NONE, middle)
        QTest.mouseMove(v, middle + QPointF(30, 30).toPoint())
        s.choose(photo_id=self.photos[3].id)
        wait_for(lambda: v.image is not None)
        QTest.mouseRelease(v, Qt.MouseButton.LeftButton, NONE, middle)
        self.assertEqual([q for p in s.job.marked_points(s.sitting_id) for q in p.sightings], [before])

    def test_a_held_key_reads_one_photo_at_a_time_and_shows_the_last(self):
        s, v, gate = self.session, self.view, Gated()
        threads = threading.active_count()
        with mock.patch.object(photoview, "photo_picture", gate):
            for p in [*self.photos, *self.photos[::-1]] * 3:
                s.choose(photo_id=p.id)
                desk.APP.processEvents()
            self.assertLessEqual(threading.active_count(), threads + 2)
            gate.open.set()
            wait_for(lambda: v.image is not None)
        self.assertEqual(gate.most, 1)
        self.assertLessEqual(len(gate.read), 3)
        self.assertEqual((v.shown, gate.read[-1]), (self.photos[0].id, self.photos[0].name))

    def test_a_photo_that_was_changed_or_cannot_be_read_is_told_in_its_place(self):
        s, v = self.session, self.view
        with mock.patch.object(photoview, "photo_picture", side_effect=MemoryError):
            s.choose(photo_id=self.photos[1].id)
            wait_for(lambda: v.problem)
        self.assertIn("memory", v.problem)
        with mock.patch.object(photoview, "photo_picture", side_effect=UmbrateError("It has changed on the disk.")):
            s.choose(photo_id=self.photos[2].id)
            wait_for(lambda: v.problem)
        self.everything()
        s.choose(photo_id=self.photos[3].id)
        wait_for(lambda: v.image is not None)


class WhatIsHidden(DeskTest):
    def test_a_click_snaps_to_no_target_on_the_far_side(self):
        job, sitting = job_with(scratch() / "j", "photos", "masks", "lens", "poses", "cloud")
        put_marks(job, sitting)
        run(job, sitting, "scale")
        job.close()
        self.window.open_path(job.folder)
        s, scene = self.session, self.window.scene
        s.choose(stage="scale")
        desk.APP.processEvents()
        b = load_block(s.job, s.sitting)
        rows = list(b.marks.values())
        middle = np.median(b.points, axis=0)
        seen = hidden = 0
        for show in ("cloud", "points"):
            if (scene.is_cloud and show == "points") or (not scene.is_cloud and show == "cloud"):
                QTest.keyClick(scene, Qt.Key.Key_3)
                desk.APP.processEvents()
            for r in rows:
                X = b.points[r]
                out = (X - middle) / np.linalg.norm(X - middle)
                for side in (1, -1):
                    eye = scene.eye

                    scene.look(
                        eye_round(middle, 0.6 * float(np.ptp(b.points)), side * out, scene.width(), scene.height())
                    )
                    scene.repaint()
                    self.assertIsNot(scene.eye, eye)
                    got = []
                    s.measuring.want("x", got.append)
                    ((x, y),) = scene.on_screen(X)
                    pick_end(scene, QPointF(float(x), float(y)))
                    s.measuring.begin(None)
                    if side == 1:
                        seen += got == [f"@{b.label[r]}"]
                    else:
                        hidden += f"@{b.label[r]}" in got
        self.assertGreaterEqual(seen, 1.6 * len(rows))  # places at a rim may be hidden by what is before them
        self.assertEqual(hidden, 0)


class KeptViews(DeskTest):
    def test_a_view_that_was_kept_shows_the_same_after_a_new_level_and_scale(self):
        job, sitting = job_with(scratch() / "j", "photos", "masks", "lens", "poses")
        X = put_marks(job, sitting)
        job.close()
        self.window.open_path(job.folder)
        s, scene = self.session, self.window.scene
        desk.APP.processEvents()

        def marks_on_screen():
            b = load_block(s.job, s.sitting)
            return scene.on_screen(b.points[:200])

        scene.look_from("Right")
        desk.APP.processEvents()
        scene.view.remember("mine")
        before = marks_on_screen()
        s.do(lambda: s.job.add_length(s.sitting_id, "T0", "T1", float(np.linalg.norm(X[0] - X[1]))))
        s.do(lambda: change_level(s.job, s.sitting, up={"turn": [[1, 0, 0], [0, 0, -1], [0, 1, 0]]}))
        s.choose(stage="scale")
        s.run()
        wait_for(lambda: s.queue.idle)
        self.assertTrue(s.frame.scaled)
        scene.look_from("Front")
        scene.view.go("mine")
        desk.APP.processEvents()
        # the adjustment moved points by parts of a pixel; the view itself is the same
        np.testing.assert_allclose(np.nanmedian(np.abs(marks_on_screen() - before)), 0, atol=0.3)


class WhatNobodyForesaw(unittest.TestCase):
    def test_an_error_in_a_slot_is_told_logged_and_survived(self):
        home = scratch()
        job, _ = new_job(home / "j")
        job.close()
        code = f"""
import logging, os, sys, threading
sys.path[:0] = {sys.path[:2]!r}
os.environ["XDG_STATE_HOME"] = {str(home)!r}
from PyQt6 import sip
from PyQt6.QtCore import QTimer, qWarning
from umbrate.desk.__main__ import make_app, watch
from umbrate.desk.window import Window
from umbrate.work.logs import log_file
app = make_app([])
w = Window()
watch(w.session)
w.show()
w.open_path({str(job.folder)!r})
said = []
w.session.said.connect(lambda text, kind: said.append(text))
def wrong(): raise ZeroDivisionError("in a slot")
QTimer.singleShot(10, wrong)
QTimer.singleShot(20, lambda: threading.Thread(target=wrong).start())
QTimer.singleShot(30, lambda: w.session.in_background(wrong, print))
QTimer.singleShot(40, lambda: qWarning("a complaint of Qt"))
QTimer.singleShot(60, lambda: w.session.do(lambda: w.session.job.rename_sitting(w.session.sitting_id, "after")))
QTimer.singleShot(1500, w.close)
QTimer.singleShot(1600, app.quit)
code = app.exec()
sip.delete(w)
text = log_file().read_text()
print(code, sum("in a slot" in x for x in said), text.count("Traceback"), text.count("a complaint of Qt"))
"""
        out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=120, check=False)
        self.assertEqual(out.returncode, 0, out.stderr[-2000:])
        code, said, traces, complaints = map(int, out.stdout.split()[-4:])
        self.assertEqual((code, said, complaints), (0, 3, 1))
        self.assertGreaterEqual(traces, 3)
        with Job.open(job.folder) as again:
            self.assertEqual([s.name for s in again.sittings()], ["after"])

    def test_a_command_that_fails_unforeseen_says_a_sentence_and_where_the_log_is(self):
        from click.testing import CliRunner

        from umbrate.cli.main import cli

        with mock.patch("umbrate.job.store.Job.open", side_effect=ZeroDivisionError("why")):
            out = CliRunner().invoke(cli, ["status", "x"])
        self.assertEqual(out.exit_code, 1)
        self.assertIn("umbrate.log", out.output)
        self.assertNotIn("Traceback", out.output)
        for command in (
            ("status", "x" * 300), ("new", "y" * 300), ("add", "nothing", "a", "--sitting", "b"),
            ("find", "x", "y" * 5000), ("export", "/dev/null", "cloud", "x.ply"), ("status", "/proc/self/mem"),
        ):  # fmt: skip
            done = umbrate(*command[:1], *(c.encode("utf-8", "surrogateescape").decode("utf-8", "surrogateescape")
                                            for c in command[1:]))  # fmt: skip
            self.assertNotEqual(done.returncode, 0, command)
            self.assertNotIn("Traceback", done.stderr + done.stdout, command)
            self.assertGreater(len(done.stderr.strip()), 20, command)


class EveryCommand(DeskTest):
    """Whatever command is given, at whatever stage, nothing fails unforeseen."""

    def setUp(self):
        super().setUp()
        self.failed, self.dialogs = [], 0
        hook = mock.patch.object(sys, "excepthook", lambda kind, value, trace: self.failed.append((self.now, value)))
        hook.start()
        self.addCleanup(hook.stop)
        self.now = None

    def open(self, *stages):
        sitting = super().open(*stages)
        self.first = self.session.job.undo_labels()[0]
        return sitting

    def take_back(self):
        """Undo what was done since the job was opened."""
        while self.session.job.undo_labels()[0] != self.first:
            self.session.undo()

    def dismiss(self, *_, **__):
        """In place of a dialog: somebody closes it."""
        self.dialogs += 1
        return 0

    def give(self, actions):
        """Trigger actions, every dialog dismissed; what is queued is taken back."""
        nothing = UmbrateError("not now")
        with (
            mock.patch("PyQt6.QtWidgets.QDialog.exec", self.dismiss),
            mock.patch.multiple(
                "PyQt6.QtWidgets.QFileDialog", getExistingDirectory=lambda *_, **__: "",
                getOpenFileName=lambda *_, **__: ("", ""), getSaveFileName=lambda *_, **__: ("", ""),
            ),
            mock.patch.multiple(
                "PyQt6.QtWidgets.QInputDialog", getText=lambda *_, **__: ("", False),
                getInt=lambda *_, **__: (0, False), getItem=lambda *_, **__: ("", False),
            ),
            mock.patch("umbrate.desk.window.make_demo_job", side_effect=nothing),
            mock.patch("umbrate.desk.window.QDesktopServices.openUrl", return_value=True),
        ):  # fmt: skip
            for a in actions:
                self.now = a.text()
                if a.isEnabled():
                    a.trigger()
                    QTest.qWait(0)
                    self.session.cancel()
                    wait_for(lambda: self.session.queue is None or self.session.queue.idle)

    def test_those_of_the_bar_in_every_stage(self):
        sitting = self.open("photos", "masks", "lens", "poses")
        menus, s = self.window.menus, self.session
        once = {"Close the job", "Quit"}
        actions = [a for a in menus.of_job + menus.always if a.text() not in once]
        self.assertGreater(len(actions), 45)
        actions += [a for a in self.window.scene.view.actions() if not a.isSeparator() and a.menu() is None]
        for stage in ("photos", "poses", "scale", "join"):
            if s.sitting_id != sitting.id:
                s.choose(s.job.sittings()[0].id)
            s.choose(stage=stage)
            self.give(actions)
            self.take_back()
        self.assertEqual(self.failed, [])
        self.assertGreater(self.dialogs, 10)
        self.give([a for a in menus.of_job if a.text() == "Close the job"])
        self.assertIsNone(s.job)
        self.give(menus.of_job)  # nothing to give them to: none is enabled
        self.assertEqual(self.failed, [])

    def test_those_where_the_pointer_is(self):
        from PyQt6.QtCore import QPoint
        from PyQt6.QtWidgets import QMenu

        self.open("photos", "masks")
        s, titles = self.session, []
        strip = self.window.strip.list
        offered = (
            lambda: self.window.menus.show_board_menu(QPoint(0, 0)),
            lambda: (strip.setCurrentRow(2), self.window.menus.show_strip_menu(QPoint(0, 0))),
        )
        for offer in offered:
            menus = []
            with mock.patch.object(QMenu, "exec", lambda menu, *_, menus=menus: menus.append(menu)):
                offer()
            (menu,) = menus
            for a in menu.actions():
                if a.menu() is None and not a.isSeparator():
                    titles.append(a.text())
                    self.give([a])
                    self.take_back()
        self.assertEqual(self.failed, [])
        self.assertIn("Split at pauses…", titles)
        self.assertIn("Keep as backdrop plates", titles)
        self.assertEqual(len(s.photos()), 12)


class AStrangersTexts(DeskTest):
    """What is written in a job is shown as it is written: nothing in it is markup."""

    TAG = "<img src='/dev/zero'><b>R&D</b>"

    def test_names_and_problems_are_plain_text_wherever_they_stand(self):
        self.open("photos", "poses")
        s, job = self.session, self.session.job
        job.rename_sitting(s.sitting_id, self.TAG)
        told = json.dumps([{"photo": s.photo_id, "text": self.TAG, "hint": self.TAG, "remedy": None, "kind": ""}])
        with job._transaction():
            job.db.execute("UPDATE photo SET name = ? WHERE id = ?", (self.TAG, s.photo_id))
            job.db.execute("UPDATE result SET problems = ?", (told,))
        folder = job.folder
        s.close()
        self.window.open_path(folder)
        shown, tips = set(), set()
        for stage in ("photos", "masks", "poses", "cloud"):
            s.choose(stage=stage)
            desk.APP.processEvents()
            for label in self.window.findChildren(QLabel):
                self.assertEqual(label.textFormat(), Qt.TextFormat.PlainText, label.text())
                shown.add(label.text())
        self.assertTrue(any(self.TAG in t for t in shown if "could" not in t))
        strip = self.window.strip.list
        places = [
            (strip.viewport(), strip.visualItemRect(strip.item(0)).center()),
            (self.window.board, self.cell("photos")),
        ]
        filter_ = PlainTips()
        for widget, pos in places:
            QToolTip.hideText()
            event = QHelpEvent(QEvent.Type.ToolTip, pos, widget.mapToGlobal(pos))
            if not filter_.eventFilter(widget, event):
                QTest.mouseMove(widget, pos)
            tips.add(QToolTip.text())
        for tip in tips:
            document = QTextDocument()
            document.setHtml(tip) if Qt.mightBeRichText(tip) else document.setPlainText(tip)
            self.assertIn(self.TAG, document.toPlainText())
        s.said.emit(self.TAG, "bad")
        box = message(self.window, self.TAG)
        self.assertEqual(box.textFormat(), Qt.TextFormat.PlainText)
        self.assertEqual(box.text(), self.TAG)
        s.edits.rename("A&B")
        self.assertIn("A&&B", self.window.menus.undo.text())  # no key is marked in it


class Upkeep(DeskTest):
    def test_a_job_is_checked_mended_and_tidied_in_the_window(self):
        self.open("photos", "masks", "lens", "poses")
        s = self.session
        s.edits.rename("One")
        for name in ("Two", "Three"):
            s.edits.rename(name)
        dialog = UpkeepDialog(s, self.window)

        def check(mend=False):
            (dialog.mend_button if mend else dialog.check_button).click()
            wait_for(lambda: dialog._work is None)

        check()
        self.assertIn("Everything is whole", dialog.told.text())
        self.assertTrue(dialog.mend_button.isHidden())
        s.job.blobs.path(s.result("poses").blob("pairs")).unlink()
        folder = s.job.folder
        check()
        self.assertIn("1 thing damaged, all of them can be computed again", dialog.told.text())
        self.assertIn("(pairs) is missing", dialog.faults.toPlainText())
        self.assertIsNotNone(s.result("poses"))  # looking takes nothing away
        check(mend=True)
        self.assertEqual(s.job.folder, folder)  # it is open again
        self.assertTrue(s.job.writable)
        self.assertIsNone(s.result("poses"))
        self.assertEqual(self.state("poses"), "ready")
        check()
        self.assertIn("Everything is whole", dialog.told.text())
        steps = s.job.undo_steps()
        dialog.steps.setValue(1)
        self.assertIn(f"{steps - 1} steps of undo", dialog.would.text())
        self.assertEqual(s.job.undo_steps(), steps)
        dialog.tidy_button.click()
        self.assertEqual(s.job.undo_steps(), 1)
        self.assertEqual(s.sitting.name, "Three")
        # while something runs, what it writes is named by no row yet
        s.run([(s.sitting_id, "poses")])
        dialog._look()
        self.assertFalse(dialog.tidy_button.isEnabled())
        dialog.tidy()
        wait_for(lambda: s.queue.idle)
        self.assertIsNotNone(s.result("poses"))
        check()
        self.assertIn("Everything is whole", dialog.told.text())


class AFullDisk(DeskTest):
    def test_edits_and_runs_that_cannot_be_saved_are_told_and_the_job_closes(self):
        self.open("photos")
        s, said = self.session, []
        s.said.connect(lambda text, kind: said.append((kind, text)))
        real = type(s.job.db).execute

        def full(db, sql, values=()):
            if sql.split()[0] in ("INSERT", "UPDATE", "DELETE", "BEGIN"):
                raise StoreError("The disk is full: the change could not be saved.")
            return real(db, sql, values)

        with mock.patch.object(type(s.job.db), "execute", full):
            for act in (
                lambda: s.edits.rename("x"), lambda: s.edits.set_aside([s.photo_id]), s.undo, s.redo,
                lambda: s.edits.set_setting("poses", "features", 4000), lambda: s.edits.move_photos([s.photo_id], "B"),
            ):  # fmt: skip
                said.clear()
                act()
                self.assertTrue(any(k == "bad" and "disk is full" in t for k, t in said), said)
            said.clear()
            s.run([(s.sitting_id, "lens")])
            wait_for(lambda: s.queue.idle)
            wait_for(lambda: any(k == "bad" and "disk is full" in t for k, t in said), 10)
            folder = s.job.folder
            s.close()
        with Job.open(folder) as job:  # the lock was given back
            self.assertEqual([x.name for x in job.sittings()], ["By hand"])


class Placed(unittest.TestCase):
    def test_a_fresh_solve_stays_in_the_frame_that_hand_work_is_kept_in(self):
        job, s = new_job(scratch() / "j", pebble_set() / "by-hand")
        self.addCleanup(job.close)
        for name in ("photos", "masks", "lens", "poses"):
            run(job, s, name)
        first = stored_block(job.blobs, job.result(s.id, "poses").blob("block"))
        # other settings: another solve, which would stand a little otherwise and have a size of its own
        job.set_settings(s.id, "poses", {"features": 2000, "seed": 5})
        out = run(job, s, "poses")
        second = stored_block(job.blobs, out.artefacts["block", None])
        both = second.solved_rows.keys() & first.solved_rows.keys()
        eyes = np.array([[b.eyes[b.solved_rows[i]] for b in (second, first)] for i in both])
        size = np.linalg.norm(np.ptp(eyes[:, 1], axis=0))
        self.assertLess(np.median(np.linalg.norm(eyes[:, 0] - eyes[:, 1], axis=1)), 0.01 * size)
        self.assertFalse(any("frame is a new one" in p["text"] for p in out.problems))


if __name__ == "__main__":
    unittest.main()
