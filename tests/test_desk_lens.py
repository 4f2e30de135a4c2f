"""Calibrating lenses, the shelf of lens cards and the printed sheets in the window, driven as a user drives it."""

import unittest
from datetime import datetime, timedelta
from types import SimpleNamespace
from unittest import mock

from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QContextMenuEvent
from PyQt6.QtWidgets import QComboBox, QPushButton

from tests import desk
from tests.desk import DeskTest, OneJob, texts, wait_for
from tests.scenes import scratch
from tests.test_cli import umbrate
from tests.test_lens import LENS, own_shelf, sheet_photos
from tests.test_stages import new_job
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.lens import Lens
from umbrate.core.lens.compare import field_difference
from umbrate.core.targets.sheets import OBJECT
from umbrate.desk.bench.calibration import CalibrationPictures
from umbrate.desk.bench.lens import LensGroups
from umbrate.desk.dialogs.lens import SheetsDialog, ShelfDialog
from umbrate.desk.dialogs.split import SplitDialog
from umbrate.desk.dialogs.video import VideoDialog
from umbrate.formats.lenscards import LensCard, put_on_shelf, read_card
from umbrate.job.store import Job
from umbrate.stages.lens.figures import LensGroup
from umbrate.work.printed import next_number

HOW = "raised by some 10 cm"  #: of the sentence that says how sheets are photographed


def setUpModule():
    desk.setUpModule()


def tearDownModule():
    desk.tearDownModule()


class Beginning(DeskTest):
    def setUp(self):
        super().setUp()
        folder = scratch() / "lens.umbrate"
        Job.create(folder).close()
        self.window.open_path(folder)
        self.session.edits.begin_calibration()

    def test_a_sitting_for_it_says_how_to_take_photos_and_what_is_missing_until_there_are_enough(self):
        s, bench, photos = self.session, self.window.bench, sheet_photos()
        self.assertEqual((s.sitting.name, s.stage), ("Calibration", "lens"))
        self.assertTrue(any(HOW in x for x in texts(bench)))
        s.arrivals.add_files([str(photos / f"U_000{k}.jpg") for k in (1, 2)])
        wait_for(lambda: s.tasks.idle and s.queue.idle and s.result("lens"))
        self.assertEqual(self.state("lens"), "look")
        self.assertTrue(any("held the same way" in x for x in texts(bench)))
        # the folder with all of them goes into the same sitting
        button = next(b for b in bench.findChildren(QPushButton) if b.text() == "Bring in photos…")
        with mock.patch("umbrate.desk.dialogs.asking.QFileDialog.getExistingDirectory", return_value=str(photos)):
            button.click()
        wait_for(lambda: s.tasks.idle and s.queue.idle and s.result("lens").figures.calibration)
        self.assertEqual((len(s.job.sittings()), len(s.photos())), (1, 8))
        self.assertEqual(self.state("lens"), "done", self.window.foot.said)
        self.assertFalse(any(HOW in x for x in texts(bench)))


class Calibrated(OneJob):
    """A sitting of eight photos of the sheets, and the lens calibrated from them."""

    @classmethod
    def prepare(cls):
        folder, s = scratch() / "lens.umbrate", cls.session
        Job.create(folder).close()
        cls.window.open_path(folder)
        s.edits.begin_calibration()
        s.arrivals.add_files(sorted(map(str, sheet_photos().glob("*.jpg"))))
        wait_for(lambda: s.tasks.idle and s.queue.idle and s.result("lens"))

    def setUp(self):
        super().setUp()
        own_shelf(self)
        self.session.choose(stage="lens")

    def test_the_lens_is_the_true_one_and_the_bench_says_what_the_photos_have(self):
        told = texts(self.window.bench)
        self.assertIn("targets in 4 of the picture's 4 corners", told)
        self.assertFalse(any(x.startswith("Next") for x in told))
        c = self.session.result("lens").figures.calibration
        self.assertLess(field_difference(Lens.from_dict(c.lens), LENS).max(), 0.15)

    def test_a_sighting_is_left_out_in_the_photo_and_brought_back(self):
        s, view = self.session, self.view
        wait_for(lambda: view.overlays.calibrated is not None and view.image is not None)
        number, at = int(view.overlays.calibrated["point"][0]), view.overlays.calibrated["xy"][0]
        spot = view.placement.to_view().map(QPointF(*(at + 0.5))).toPoint()
        right_click = QContextMenuEvent(QContextMenuEvent.Reason.Mouse, spot, view.mapToGlobal(spot))
        offered = []

        def take_first(menu, _):
            offered.append(menu.actions()[0].text())
            menu.actions()[0].trigger()

        for words, left in (("Leave {} out of the calibration", [number]), ("Bring {} back", None)):
            with mock.patch("umbrate.desk.photo.view.QMenu.exec", take_first):
                desk.APP.sendEvent(view, right_click)
            self.assertEqual(offered[-1], words.format(number))
            chosen = s.job.settings(s.sitting_id, "lens").get("leave_out")
            self.assertEqual(chosen, {f"#{s.photo_id}": left} if left else {})
            self.assertEqual(self.case.state("lens"), "stale" if left else "done")

    def test_the_targets_lie_over_the_photo(self):
        view = self.view
        wait_for(lambda: view.overlays.targets is not None)
        self.assertGreater((view.overlays.targets["number"] >= 0).sum(), 60)

    def test_four_pictures_of_the_calibration_each_say_what_they_show(self):
        (pictures,) = self.window.bench.findChildren(CalibrationPictures)
        seen, notes = set(), set()
        for k in range(4):
            pictures.choice.setCurrentIndex(k)
            desk.APP.processEvents()
            image = pictures.stack.currentWidget().grab().toImage()
            seen.add(hash(image.constBits().asstring(image.sizeInBytes())))
            notes.add(pictures.note.text())
        self.assertEqual((len(seen), len(notes)), (4, 4))
        self.assertNotIn("", notes)

    def test_it_is_kept_as_a_lens_card(self):
        button = next(b for b in self.window.bench.findChildren(QPushButton) if b.text() == "Keep as a lens card…")
        with mock.patch("umbrate.desk.deliver.QInputDialog.getText", return_value=("Mine", True)):
            button.click()
        dialog = ShelfDialog(self.window)
        ((_, card),) = dialog.cards
        self.assertEqual((card.name, card.photos), ("Mine", 8))
        self.assertLess(field_difference(card.lens, LENS).max(), 0.15)
        self.assertIn(f"k1 {card.lens.k[0]:.5f}", dialog.details.text())


class Dialogs(DeskTest):
    def test_the_shelf_of_lens_cards_shows_brings_in_writes_out_and_removes(self):
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
        own_shelf(self)
        dialog, out = SheetsDialog(self.window), scratch()
        wanted = {
            "calibration": (set(), 4, "eight photos"), "loose": ({"dot", "first"}, 1, "14 pixels"),
            "small": ({"dots"}, 1, "1.5, 2 and 3 mm"), "mat": ({"dot", "hole"}, 1, "turns with it"),
            "bars": ({"dot", "length"}, 1, "known lengths"),
        }  # fmt: skip
        fields = ("dot", "dots", "hole", "length", "first")
        self.assertEqual({dialog.kind.itemData(k) for k in range(dialog.kind.count())}, set(wanted))
        for kind, (offered, pages, said) in wanted.items():
            dialog.kind.setCurrentIndex(dialog.kind.findData(kind))
            dialog.dot.setValue(12 if kind == "loose" else 6)
            self.assertEqual({x for x in fields if not getattr(dialog, x).isHidden()}, offered, kind)
            self.assertIn(said, dialog.note.text())
            self.assertGreaterEqual(dialog.write(out / f"{kind}.pdf"), pages)
            self.assertTrue((out / f"{kind}.pdf").read_bytes().startswith(b"%PDF"))
        # numbers of loose targets do not come twice, from the window nor from the terminal
        first, following = SheetsDialog(self.window).first.value(), next_number()
        self.assertEqual(first, following)
        self.assertGreater(following, OBJECT.start)
        done = umbrate("targets", "loose", out / "more.pdf", "--dot", "16")
        self.assertIn(f"numbers {following} to ", done.stdout)
        self.assertGreater(next_number(), following)
        done = umbrate("targets", "loose", out / "all.pdf", "--dot", "2")
        self.assertIn("the last there are: a sheet after this one repeats them", done.stdout)
        self.assertEqual(next_number(), OBJECT.start)
        dialog.kind.setCurrentIndex(dialog.kind.findData("small"))
        dialog.dots.setText("two")
        with self.assertRaisesRegex(UmbrateError, "no diameters"):
            dialog.write(out / "x.pdf")

    def test_each_group_of_photos_has_a_card_and_how_it_is_used(self):
        own_shelf(self)
        lens = Lens(1000, 750, 1200.0, 501.0, 374.0)
        facts = {"focal_mm": 50.0, "sigma": {}, "date": "2026-05-04", "photos": 8, "sightings": 900, "rms_px": 0.02}
        for name in ("near", "far"):
            put_on_shelf(LensCard(name, camera="M 1", lens_name="L", lens=lens, **facts))
        self.open("photos")
        s = self.session
        groups = [LensGroup(name=n, photos=[1]) for n in ("M 1, 50 mm", "M 1, 35 mm")]
        panel = LensGroups(s, SimpleNamespace(figures=SimpleNamespace(groups=groups)))
        self.addCleanup(panel.deleteLater)
        boxes = panel.findChildren(QComboBox)
        self.assertEqual({boxes[0].itemText(k) for k in range(3)}, {"the newest that fits", "far", "near"})
        for k, value in ((2, "near"), (3, "solve")):  # of the second group: its card, then its use
            boxes[k].setCurrentIndex(boxes[k].findData(value))
            boxes[k].activated.emit(boxes[k].currentIndex())
        self.assertEqual(s.setting("lens", "groups"), {"M 1, 35 mm": {"card": "near", "use": "solve"}})
        again = LensGroups(s, SimpleNamespace(figures=SimpleNamespace(groups=groups)))
        self.addCleanup(again.deleteLater)
        shown = [b.currentData() for b in again.findChildren(QComboBox)]
        self.assertEqual(shown, ["", "trusted", "near", "solve"])
        s.undo()
        s.undo()
        self.assertEqual(s.setting("lens", "groups"), {})

    def test_a_split_at_pauses_is_shown_before_it_is_done(self):
        job, sitting = new_job(scratch() / "pauses")
        start = datetime(2026, 5, 4, 10)
        for k, p in enumerate(job.photos(sitting.id)):
            taken = start + timedelta(seconds=10 * k + 600 * (k >= 5) + 60 * (k >= 9))
            job.db.execute("UPDATE photo SET taken = ? WHERE id = ?", (taken.isoformat(), p.id))
        job.close()
        self.window.open_path(job.folder)
        s = self.session
        dialog = SplitDialog(s, self.window)
        self.assertEqual([len(ids) for ids, _ in dialog.parts], [5, 7])
        self.assertEqual([dialog.list.item(1, c).text() for c in (1, 2)], ["7", "U_0006.jpg"])
        dialog.pause.setValue(1.0)
        self.assertEqual([len(ids) for ids, _ in dialog.parts], [5, 4, 3])
        dialog.pause.setValue(20)
        self.assertEqual(len(dialog.parts), 1)
        self.assertIn("Nothing separates", dialog.told.text())
        with mock.patch.object(SplitDialog, "exec", lambda d: (d.pause.setValue(1.0), True)[1]):
            self.window.split_at_pauses()
        self.assertEqual([len(s.job.photos(x.id)) for x in s.job.sittings()], [5, 4, 3])

    def test_frames_of_a_video_are_taken_by_time_or_by_number(self):
        dialog = VideoDialog("a/walk.mp4", self.window)
        self.assertTrue(any("walk.mp4" in x for x in texts(dialog)))
        self.assertEqual(dialog.every(), (0.5, None, 2.0))
        dialog.seconds.setValue(2.0)
        self.assertEqual(dialog.every(), (2.0, None, 2.0))
        dialog.frames.setValue(30)  # whoever sets the number means it
        self.assertEqual(dialog.every()[1], 30)
        dialog.seconds.setValue(1.0)
        self.assertEqual(dialog.every(), (1.0, None, 2.0))


if __name__ == "__main__":
    unittest.main()
