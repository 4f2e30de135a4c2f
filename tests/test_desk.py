"""The window, driven as a user drives it, on Qt's offscreen platform."""

import os
import shutil
import signal
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent, QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QMessageBox, QPushButton, QToolButton, QWidget

from tests import desk
from tests.desk import DeskTest, texts, wait_for, white_in
from tests.scenes import pebble_set, scratch
from tests.test_stages import new_job, run
from umbrate.desk import tokens as t
from umbrate.desk.dialogs.newjob import NewJobDialog
from umbrate.desk.strip.thumbs import LINE
from umbrate.desk.window import Window
from umbrate.job.contents import FEATURES
from umbrate.sitting.blocks import stored_block
from umbrate.stages import BY_NAME, STAGES


def setUpModule():
    desk.setUpModule()


def tearDownModule():
    desk.tearDownModule()


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
        desk.APP.processEvents()
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
            desk.APP.processEvents()
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
        with mock.patch("umbrate.desk.dialogs.asking.QFileDialog.getExistingDirectory", return_value=str(moved.parent)):
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
        desk.APP.processEvents()
        self.assertIsNone(view.overlays.mask)
        # and those that a run makes are the same
        s.masks.try_on({s.photos()[2].id})
        wait_for(lambda: s.masks.preview and s.masks.preview.made)
        (tried,) = s.masks.preview.made.values()
        s.run()
        wait_for(lambda: s.queue.idle)
        self.assertIsNone(s.masks.preview)
        self.assertEqual(s.result("masks").blob("mask", s.photos()[2].id), tried.mask)

    def test_a_photo_that_could_not_be_placed_is_shown_beside_one_that_was(self):
        from PIL import Image

        from umbrate.desk.bench.pieces import Pieces

        folder = scratch() / "p"
        shutil.copytree(pebble_set() / "by-hand", folder)
        gray = Image.new("RGB", Image.open(folder / "U_0003.jpg").size, (140, 120, 110))
        gray.putpixel((300, 200), (0, 0, 0))
        gray.save(folder / "U_0003.jpg")
        job, sitting = new_job(scratch() / "j", folder)
        for stage in ("photos", "masks", "lens", "poses"):
            run(job, sitting, stage)
        job.close()
        self.window.open_path(job.folder)
        s = self.session
        s.choose(stage="poses")
        (out,) = s.result("poses").figures.reasons
        pieces = self.window.bench.findChildren(Pieces)[0]
        wait_for(lambda: pieces.spots is not None)
        self.assertEqual([p.name for p in pieces.photos], ["U_0003.jpg", "U_0002.jpg"])
        self.assertEqual(pieces.photos[0].id, out)
        rings = []
        for label in pieces.pieces:
            image = label.pixmap().toImage().convertToFormat(QImage.Format.Format_RGB32)
            a = np.frombuffer(image.constBits().asarray(image.sizeInBytes()), np.uint32) & 0xFFFFFF
            rings.append(int((a == int(t.ACCENT[1:], 16)).sum()))
        self.assertLess(rings[0], 100)
        self.assertGreater(rings[1], 200)
        counts = [
            len(s.job.blobs.get_arrays(s.result("poses").blob("features", p.id), FEATURES)["xy"]) for p in pieces.photos
        ]
        self.assertIn(f"{counts[0]:,} in all, and {counts[1]:,}. The two share no matches", pieces.note.text())

    def test_soft_photos_come_with_evidence_and_photos_can_be_turned(self):
        from PIL import Image, ImageFilter

        from umbrate.desk.bench.pieces import Pieces

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
        (evidence,) = self.window.bench.findChildren(Pieces)
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
