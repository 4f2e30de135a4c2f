"""Joined sittings in the window: laid over each other, compared, united, and what is said of targets and picks."""

import functools
import shutil
import unittest
from unittest import mock

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QCheckBox, QPushButton

from tests import desk
from tests.desk import OneJob, texts, wait_for
from tests.scenes import made_once, scratch
from tests.test_join import same_places, two_sittings
from tests.test_stages import run
from umbrate.desk import tokens as t
from umbrate.desk.bench.join import JoinChoice, JoinPanel
from umbrate.desk.dialogs.picks import PicksDialog
from umbrate.desk.session.joining import COLORS, DISTANCE, TINTS
from umbrate.job.joins import ON_OBJECT, ON_SUPPORT
from umbrate.job.store import Job
from umbrate.sitting.clouds import load_cloud
from umbrate.sitting.frames import frame_of


def setUpModule():
    desk.setUpModule()


def tearDownModule():
    desk.tearDownModule()


@functools.cache
def joined():
    """Folder of a job with two sittings of the pebble, each with a cloud, and the row that joins them."""

    def make(folder):
        with Job.open(shutil.copytree(two_sittings(), folder)) as job:
            for s in job.photo_sittings():
                run(job, s, "cloud")
            run(job, job.add_joined([s.id for s in job.photo_sittings()]), "join")

    return made_once("joined.umbrate", make)


class OnARow(OneJob):
    """A joined row of two sittings with clouds, laid over each other in the scene."""

    @classmethod
    def prepare(cls):
        cls.window.open_path(shutil.copytree(joined(), scratch() / "shown.umbrate"))
        cls.row = cls.session.job.joined_rows()[0]

    def setUp(self):
        super().setUp()
        self.session.choose(self.row.id, "join")
        self.work = self.session.joining
        self.work.set_look(TINTS)
        for i in self.row.members:
            self.work.hide(i, False)
        wait_for(lambda: self.scene.points is not None and not self.work.coming)


class Joined(OnARow):
    def parts(self):
        """The points of each member's cloud, by its id, as they are laid over each other."""
        return {p.id: p.points for p in self.work.overlay().parts}

    def test_each_sitting_has_a_tint_and_is_hidden_with_its_box(self):
        parts = self.parts()
        self.assertEqual([*parts], [*self.row.members])
        self.assertEqual(len(self.scene.points), sum(map(len, parts.values())))
        first = len(parts[self.row.members[0]])
        for k, some in enumerate((self.scene.colors[:first], self.scene.colors[first:])):
            c = t.color(t.CATEGORIES[k])
            tint = np.array([c.red(), c.green(), c.blue()], float)
            np.testing.assert_allclose(some.max(0) / some.max(), tint / tint.max(), atol=0.02)
        box = next(b for b in self.panel(JoinPanel).findChildren(QCheckBox) if b.text() == "Again")
        box.click()
        np.testing.assert_array_equal(self.scene.points, parts[self.row.members[0]])
        box.click()
        self.assertEqual(len(self.scene.points), sum(map(len, parts.values())))

    def test_own_colors_are_those_of_the_clouds(self):
        self.work.set_look(COLORS)
        s = self.session
        first = load_cloud(s.job, s.job.photo_sittings()[0])
        np.testing.assert_array_equal(self.scene.colors[: len(first["colors"])], first["colors"])

    def test_the_distance_between_them_is_measured_beside_the_window_and_told(self):
        w = self.work
        w.set_look(DISTANCE)
        self.assertTrue(w.busy)
        self.assertIn("Measuring …", texts(self.window.bench))
        wait_for(lambda: not w.busy)
        f = w.figures()
        size = np.linalg.norm(np.ptp(self.scene.points, axis=0))
        self.assertGreater(f["overlap"], 0.7)
        self.assertLess(f["median"], 0.005 * size)  # photos of one pebble, solved twice
        low, high, _, title = w.legend()
        self.assertEqual((low, title), (-high, "Distance to the other sitting"))
        self.assertTrue(f["median"] < high < 0.1 * size)
        told = f"{100 * f['overlap']:.0f} % of the points have the other sitting near them"
        self.assertTrue(any(x.startswith(told) for x in texts(self.window.bench)))
        self.scene.grab()

    def test_the_farthest_places_are_gone_to(self):
        panel = self.panel(JoinPanel)
        self.assertGreater(panel.worst.rowCount(), 0)
        wanted, before = [], self.scene.eye.pose.copy()
        self.work.place_wanted.connect(lambda X, size: wanted.append(X))
        panel.worst.selectRow(0)
        (X,) = wanted
        place = panel.worst.item(0, 0).data(Qt.ItemDataRole.UserRole)
        M = self.session.frame.matrix
        np.testing.assert_allclose(X, M[:3, :3] @ place[:3] + M[:3, 3])
        self.assertFalse(np.allclose(self.scene.eye.pose, before))
        ((x, y),) = self.scene.on_screen(X)
        self.assertLess(np.hypot(x - self.scene.width() / 2, y - self.scene.height() / 2), 30)

    def test_what_is_said_of_targets_is_kept_and_undone(self):
        s = self.session
        s.do(lambda: s.job.set_target_roles([208], ON_SUPPORT))
        panel = self.panel(JoinPanel)
        fold = next(b for b in panel.findChildren(QPushButton) if b.text() == "Targets: 0 on the object, 1 not")
        self.assertIsNone(panel.targets)
        fold.click()
        self.addCleanup(setattr, JoinPanel, "targets_unfolded", False)
        self.assertEqual([panel.targets.item(0, k).text() for k in range(2)], ["208", "not seen in both"])
        box = panel.targets.cellWidget(0, 2)
        self.assertEqual(box.currentData(), ON_SUPPORT)
        box.setCurrentIndex(box.findData(ON_OBJECT))
        box.activated.emit(box.currentIndex())
        self.assertEqual(s.job.target_roles(), {208: ON_OBJECT})
        s.undo()
        self.assertEqual(s.job.target_roles(), {208: ON_SUPPORT})

    def test_their_clouds_are_united_as_one_more_cloud(self):
        s = self.session
        button = next(b for b in self.panel(JoinPanel).findChildren(QPushButton) if b.text() == "Unite clouds")
        each = sum(map(len, self.parts().values()))
        button.click()
        wait_for(lambda: s.tasks.idle and s.job.clouds(self.row.id))
        (kept,) = s.job.clouds(self.row.id)
        self.assertTrue(0.3 * each < kept.left < 0.95 * each, (kept.left, each))  # doubles are left out
        self.assertEqual((s.sitting_id, s.stage), (self.row.id, "cloud"))
        self.assertIn("doubled ones left out", s.log.lines[-1])
        s.undo()
        self.assertEqual(s.job.clouds(self.row.id), [])

    def test_which_sittings_are_joined_is_chosen_at_one_of_them(self):
        s = self.session
        first, second = self.row.members
        s.choose(first, "join")
        panel = self.panel(JoinChoice)
        self.assertEqual(panel.button.text(), "Join 2 sittings")
        panel.boxes[second].click()
        self.assertEqual((panel.button.text(), panel.button.isEnabled()), ("Choose two or more", False))
        next(b for b in panel.findChildren(QPushButton) if b.text() == f"Go to “{self.row.name}”").click()
        self.assertEqual((s.sitting_id, s.stage), (self.row.id, "join"))
        # the same two again are the row that there is; the other one first, it gives the frame
        with mock.patch.object(s, "run") as ran:
            self.work.join([first, second])
            self.work.join([second, first])
        self.assertEqual(ran.call_count, 2)
        self.assertEqual([r.members for r in s.job.joined_rows()], [(second, first)])


class Picking(OnARow):
    def setUp(self):
        super().setUp()
        s = self.session
        for k, pair in enumerate(same_places(s.job, 4)):
            places = {}
            for sitting, X in zip(s.job.photo_sittings(), pair, strict=True):
                plain = np.linalg.inv(frame_of(s.job, sitting).matrix) @ np.append(X, 1)
                places[sitting.id] = {"cloud": plain[:3].tolist()}
            s.do(lambda p=places: s.job.add_pick(self.row.id, p))
            self.assertEqual(len(s.job.picks(self.row.id)), k + 1)
        self.dialog = PicksDialog(s, self.window)
        self.addCleanup(self.dialog.reject)
        self.dialog.show()
        wait_for(lambda: all(v.ready for v in self.dialog.views))

    def picks(self):
        return [(p.name, p.used) for p in self.session.job.picks(self.row.id)]

    def test_a_pick_is_switched_off_taken_away_and_the_row_is_joined_again(self):
        d = self.dialog
        self.assertEqual([d.list.item(r, 0).text() for r in range(4)], ["A", "B", "C", "D"])
        d.list.selectRow(1)
        d._switch()
        self.assertEqual(self.picks(), [("A", True), ("B", False), ("C", True), ("D", True)])
        self.assertEqual(d.list.item(1, 3).text(), "off")
        d.list.selectRow(0)
        QTest.keyClick(d.list, Qt.Key.Key_Delete)
        self.assertEqual([n for n, _ in self.picks()], ["B", "C", "D"])
        with mock.patch.object(d, "exec"), mock.patch.object(self.session, "run") as ran:
            d.join()
        self.assertEqual(ran.call_args.args[0], [(self.row.id, "join")])

    def test_nothing_is_clicked_on_before_it_is_there_and_a_photo_that_is_gone_leaves_the_cloud(self):
        d, s = self.dialog, self.session
        view = d.views[0]
        before = self.picks()
        with mock.patch.object(s, "in_background") as asked:
            d._show_member(0)
            fresh = d.views[0]
            self.assertFalse(fresh.ready)
            fresh.grab()
            QTest.mouseClick(fresh, Qt.MouseButton.LeftButton, pos=fresh.rect().center())
        self.assertEqual(self.picks(), before)
        read, then, _ = asked.call_args.args
        then(read())
        fresh.grab()
        self.assertTrue(fresh.ready)
        self.assertIsNot(view, fresh)
        with mock.patch("umbrate.desk.dialogs.pickview.photo_picture", side_effect=MemoryError):
            fresh.show_photo(0)
            self.assertFalse(fresh.ready)
            wait_for(lambda: fresh.ready)
        self.assertIsNone(fresh.photo)
        fresh.grab()


if __name__ == "__main__":
    unittest.main()
