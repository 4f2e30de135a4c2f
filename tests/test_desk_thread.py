"""The window's thread and what runs beside it: nothing long in it, the latest wins, workers are heard."""

import inspect
import logging
import os
import shutil
import sys
import threading
import time
import unittest
from types import SimpleNamespace
from unittest import mock

import numpy as np
from PyQt6.QtCore import QObject

from tests import desk
from tests.desk import OF_SITTING, DeskTest, wait_for
from tests.scenes import pebble_set, scratch
from tests.test_stages import job_with, run
from umbrate.actions import cleaning, delivering, steps
from umbrate.core.cloud import coverage
from umbrate.core.dense import fuse
from umbrate.core.errors import UmbrateError
from umbrate.core.features import detect
from umbrate.core.imaging import decode, sharpness, undistort
from umbrate.core.masking.backdrop import still_plate
from umbrate.core.targets.detect import find_targets
from umbrate.desk.bench.measurements import MeasurePanel
from umbrate.desk.bench.scale import LevelPanel
from umbrate.desk.dialogs.exporting import ExportDialog
from umbrate.desk.dialogs.section import SectionDialog
from umbrate.desk.session import listening
from umbrate.desk.session.background import Background
from umbrate.job.sittings import content_hash, search
from umbrate.job.store import Job
from umbrate.sitting import clouds
from umbrate.sitting.clouds import compare_clouds
from umbrate.stages.photos.records import read_records
from umbrate.work.demo import make_demo_job

setUpModule, tearDownModule = desk.setUpModule, desk.tearDownModule


class TheWindowsThread(DeskTest):
    """What takes longer than 50 ms in a job of the demo's size is never called in the window's thread.

    Time would depend on the machine, so the calls are watched: a profile function sees each that this thread makes.
    """

    HEAVY = (
        decode.read_picture, decode.read_reduced_image, decode.read_mask, content_hash, sharpness.sharpness,
        undistort.undistort, clouds._read, coverage.coverage, clouds.raw_cloud, delivering.export_cloud,
        delivering.export_masks, delivering.export_undistorted, read_records, search, make_demo_job, still_plate,
        find_targets, fuse.fuse, detect.detect, compare_clouds, steps.try_step,
    )  # fmt: skip

    @classmethod
    def setUpClass(cls):
        job, sitting = job_with(scratch() / "made", *OF_SITTING)
        with job:
            job.set_settings(sitting.id, "cloud", {**job.settings(sitting.id, "cloud"), "min_photos": 4})
            run(job, sitting, "cloud")
        cls.folder = job.folder

    def setUp(self):
        super().setUp()
        self.window.open_path(shutil.copytree(self.folder, scratch() / "copy.umbrate"))
        self.codes = {inspect.unwrap(f).__code__: f.__qualname__ for f in self.HEAVY}
        self.seen = set()
        small = mock.patch("umbrate.desk.session.contents.READ_AT_ONCE", 0)  # the demo's clouds are larger
        small.start()
        self.addCleanup(small.stop)

    def watched(self, words, act):
        """Do something and wait for what comes of it, with every call of this thread seen."""

        def look(frame, event, _):
            if event == "call" and frame.f_code in self.codes:
                self.seen.add((words, self.codes[frame.f_code]))

        s = self.session
        sys.setprofile(look)
        try:
            act()
            wait_for(lambda: s.background.idle and s.tasks.idle and (s.queue is None or s.queue.idle))
            self.window.scene.grab()
            self.window.photo_view.grab()
        finally:
            sys.setprofile(None)

    def from_cold(self, things):
        """Do things one after the other, each with nothing read yet; nothing heavy may run in this thread."""
        for words, act in things.items():
            self.session._cache.clear()
            self.watched(words, act)
        self.assertEqual(self.seen, set())

    def asked(self, kind, answer, act):
        def do():
            with (
                mock.patch.object(ExportDialog, "exec", return_value=True),
                mock.patch(f"PyQt6.QtWidgets.QFileDialog.{kind}", return_value=answer),
            ):
                act()

        return do

    def spots(self):
        """Two places of the cloud, far from each other."""
        with Job.open(self.session.job.folder, writable=False) as job:
            points = clouds.load_cloud(job, job.sittings()[0])["points"].astype(float)
        return points[points[:, 0].argmin()], points[points[:, 0].argmax()]

    def test_stages_and_photos_are_looked_at(self):
        s, w = self.session, self.window
        self.from_cold({name: lambda n=name: s.choose(stage=n) for name in OF_SITTING})
        self.from_cold(
            {
                "a photo": lambda: s.choose(photo_id=s.photos()[5].id),
                "look through": lambda: w.scene.look_through(s.photo_id),
                "files outside": s.arrivals.check_files,
                "a setting": lambda: s.edits.set_setting("cloud", "outline_votes", 2),
                "aside": lambda: s.edits.set_aside({s.photos()[1].id}),
                "back": s.undo,
            }
        )

    def test_a_cloud_is_measured_leveled_and_cut(self):
        s = self.session
        first, second = self.spots()

        def measure(*ends):
            s.measuring.begin("distance")
            for end in ends:
                s.measuring.pick(end)

        def level():
            panel = LevelPanel(s)
            self.addCleanup(panel.deleteLater)
            panel._patch()
            s.measuring.pick(first)

        def section():
            panel = MeasurePanel(s)
            self.addCleanup(panel.deleteLater)
            with mock.patch.object(SectionDialog, "exec") as opened:
                panel._section()
                wait_for(lambda: opened.called)

        s.choose(stage="scale")
        self.from_cold({"a measure": lambda: measure(first, second), "a section": section, "a level": level})
        (value,) = s.measuring.values.values()
        self.assertAlmostEqual(value["value"], np.linalg.norm(first - second), delta=value["half95"])
        self.assertIn("plane", s.job.level(s.sitting_id)["up"])

    def test_clouds_are_shown_compared_covered_and_cleaned(self):
        s = self.session
        s.choose(stage="cloud")
        other = next(c for c in s.job.clouds(s.sitting_id) if not c.chosen)
        alone = s.cleaning.kept.left
        self.from_cold(
            {
                "another cloud": lambda: s.cleaning.show(other.id, True),
                "compare": lambda: s.cleaning.compare(other.id),
                "coverage": lambda: s.cleaning.cover(),
                "a filter": lambda: s.cleaning.try_on({"filter": "lonely", "least": 6}),
                "apply": lambda: s.cleaning.apply(),
                "steps": lambda: s.cleaning.apply_all([{"filter": "share", "percent": 50}] * 2),
                "take back": lambda: s.cleaning.take_back(0),
            }
        )
        self.assertEqual([x.step["filter"] for x in s.cleaning.kept.steps], ["share", "share"])
        self.assertEqual(len(self.window.scene.points), s.cleaning.kept.left + other.left)
        self.from_cold({"undo": s.undo, "twice": s.undo, "and again": s.undo})
        self.assertEqual(s.cleaning.kept.left, alone)

    def test_files_are_written_and_looked_for(self):
        w, out = self.window, scratch()
        self.from_cold(
            {
                "the cloud as file": self.asked("getSaveFileName", (str(out / "c.ply"), ""), w.deliver.cloud),
                "masks as files": self.asked("getExistingDirectory", str(out / "m"), w.deliver.masks),
                "undistorted": self.asked("getExistingDirectory", str(out / "u"), w.deliver.undistorted),
                "find photos": self.asked("getExistingDirectory", str(out), w.find_missing),
                "try masks": w.preview_masks,
            }
        )
        self.assertTrue((out / "c.ply").exists())
        for folder in ("m", "u"):
            self.assertEqual(len(list((out / folder).rglob("U_*"))) >= 12, True, folder)

    def test_stages_run_photos_come_in_and_the_demo_is_made(self):
        s, w = self.session, self.window
        self.from_cold(
            {
                "run": lambda: s.run([(s.sitting_id, "photos")]),
                "more photos": lambda: s.arrivals.add_folders([pebble_set() / "by-hand"]),
            }
        )
        with mock.patch("umbrate.desk.window.demo_folder", return_value=scratch() / "d.umbrate"):
            self.watched("the demo", lambda: (w.open_demo(), wait_for(lambda: s.background.idle), s.cancel()))
        self.assertEqual(self.seen, set())

    def test_the_watch_sees_what_there_is_to_see(self):
        self.watched("itself", lambda: decode.read_reduced_image(pebble_set() / "by-hand" / "U_0001.jpg", 100))
        self.assertEqual(self.seen, {("itself", "read_reduced_image")})

    def test_what_is_applied_before_its_trial_is_over_is_applied_then(self):
        s = self.session
        s.choose(stage="cloud")
        wait_for(lambda: s.cloud_at_hand() is not None)
        before = s.cleaning.kept.left
        s.cleaning.try_on({"filter": "share", "percent": 40})
        self.assertTrue(s.cleaning.busy)
        s.cleaning.apply()
        self.assertEqual(s.cleaning.kept.left, before)
        wait_for(lambda: s.cleaning.kept.left < before)
        self.assertAlmostEqual(s.cleaning.kept.left / before, 0.4, delta=0.02)
        self.assertIsNone(s.cleaning.step)
        # a trial that is left while it runs is neither applied nor said to run on
        s.cleaning.try_on({"filter": "share", "percent": 50})
        s.cleaning.apply()
        s.cleaning.try_on(None)
        wait_for(lambda: s.background.idle)
        self.assertEqual((len(s.cleaning.kept.steps), s.cleaning.busy, s.cleaning.told()), (1, False, ""))

    def test_a_large_cloud_comes_when_it_is_read_and_the_one_before_stays_until_then(self):
        s, scene = self.session, self.window.scene
        s.choose(stage="cloud")
        wait_for(lambda: scene.is_cloud)
        count = len(scene.points)
        self.assertGreater(count, 1000)
        gate, real = threading.Event(), clouds.CloudSource.read

        def late(source):
            gate.wait(30)
            return real(source)

        with mock.patch.object(clouds.CloudSource, "read", late):
            kept = s.cleaning.kept
            s.do(lambda: cleaning.apply_steps(s.job, s.sitting, kept, [{"filter": "share", "percent": 60}]))
            self.assertIsNone(s.cloud_at_hand())
            self.assertIsNotNone(s.cloud_coming)
            self.assertTrue(scene.is_cloud)  # the one before, no tie points in between
            self.assertEqual(len(scene.points), count)
            gate.set()
            wait_for(lambda: s.cloud_coming is None)
        wait_for(lambda: scene.points is not None and len(scene.points) == s.cleaning.kept.left)
        self.assertLess(len(scene.points), count)


class Backgrounds(unittest.TestCase):
    def setUp(self):
        self.app = desk.APP
        self.told, self.got = [], []
        self.work = Background(self.told.append)
        self.addCleanup(self.work.close)

    def test_errors_are_told_and_leave_nothing_running(self):
        def wrong(error):
            def call():
                raise error

            return call

        logging.getLogger("umbrate.desk.session.session.background").addFilter(lambda r: False)
        for k, error in enumerate((UmbrateError("a sentence"), ValueError("odd"), MemoryError(), SystemExit(3))):
            self.work.run(wrong(error), self.got.append, series="one")
            wait_for(lambda k=k: len(self.told) == k + 1, 10)
            self.assertTrue(self.work.idle)
        self.assertEqual(self.told[0], "a sentence")
        self.assertIn("odd", self.told[1])
        heard = []
        self.work.run(wrong(UmbrateError("mine")), self.got.append, heard.append)
        wait_for(lambda: heard, 10)
        self.assertEqual((heard, len(self.told), self.got), (["mine"], 4, []))

    def test_of_a_series_the_latest_wins_and_closing_ends_all(self):
        gate, ran = threading.Event(), []

        def slow(k):
            ran.append(k)
            gate.wait(20)
            return k

        for k in range(50):
            self.work.run(lambda k=k: slow(k), self.got.append, series="x")
        gate.set()
        wait_for(lambda: self.got, 10)
        self.assertEqual((self.got, ran), ([49], [0, 49]))
        gate.clear()
        for k in range(6):
            self.work.run(lambda k=k: slow(100 + k), self.got.append)
        self.work.close()
        gate.set()
        end = time.monotonic() + 0.5
        while time.monotonic() < end:
            self.app.processEvents()
        self.assertEqual(self.got, [49])
        self.work.run(lambda: 7, self.got.append)
        wait_for(lambda: self.got[-1] == 7, 10)


class Series:
    """What `Listening` asks of the queue and of the tasks, with a pipe that a worker would speak through."""

    def __init__(self):
        self.out, self.mouth = os.pipe()
        self.worker = SimpleNamespace(busy=False, ear=self.out)
        self.running, self.idle, self.polls, self.events = None, True, 0, []

    def begin(self):
        self.running, self.idle, self.worker.busy = object(), False, True

    def end(self):
        self.running, self.idle, self.worker.busy = None, True, False

    def say(self, *events):
        self.events += events
        os.write(self.mouth, b"x" * len(events))

    def poll(self):
        self.polls += 1
        events, self.events = self.events, []
        if events:
            os.read(self.out, len(events))
        return events


class Heard(unittest.TestCase):
    """Workers are heard when they speak, and not asked else."""

    def setUp(self):
        self.queue, self.tasks = Series(), Series()
        self.tasks.poll = lambda: bool(Series.poll(self.tasks))
        self.told, self.moved = [], []
        self.session = QObject()
        self.session.queue, self.session.tasks = self.queue, self.tasks
        self.session.recipes = SimpleNamespace(step=lambda: False, follower=None)
        self.session.on_event = self.told.append
        self.session.log = SimpleNamespace(progress=lambda data: self.told.append(data))
        with mock.patch.object(listening, "TICK_MS", 60_000):
            self.ear = listening.Listening(self.session)
        self.ear.progressed.connect(lambda: self.moved.append(time.monotonic()))
        self.addCleanup(self.ear.stop)

    def live(self, seconds):
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            desk.APP.processEvents()
            time.sleep(0.005)

    def test_while_a_worker_is_silent_nobody_asks_and_what_it_says_is_heard_at_once(self):
        self.queue.begin()
        self.ear.wake()
        self.live(0.1)
        asked = self.queue.polls
        self.live(0.4)
        self.assertEqual(self.queue.polls, asked)
        self.queue.say(SimpleNamespace(kind="started", data={}))
        wait_for(lambda: self.told, 2)
        self.assertEqual([e.kind for e in self.told], ["started"])
        self.assertEqual(len(self.moved), 1)

    def test_progress_is_shown_no_oftener_than_five_times_a_second_and_all_of_it_is_logged(self):
        self.queue.begin()
        self.ear.wake()
        self.live(0.1)
        self.moved.clear()
        for k in range(60):
            self.queue.say(SimpleNamespace(kind="progress", data=k))
            self.live(0.01)
        wait_for(lambda: len(self.told) == 60, 5)
        self.assertEqual(self.told, [*range(60)])
        self.assertTrue(2 <= len(self.moved) <= 1 + (self.moved[-1] - self.moved[0]) / listening.TOLD_S + 1)

    def test_the_next_one_starts_by_itself_and_when_all_is_done_nobody_listens(self):
        self.queue.idle = False  # one waits, none runs
        starts = []

        def poll():
            starts.append(self.queue.running)
            if self.queue.running is None and len(starts) == 2:
                self.queue.begin()
            return Series.poll(self.queue)

        self.queue.poll = poll
        self.ear.wake()
        wait_for(lambda: self.queue.running is not None, 2)
        self.tasks.begin()
        self.queue.say(SimpleNamespace(kind="done", data={}))
        wait_for(lambda: self.told, 2)
        self.assertEqual(len(self.ear._ears), 2)
        self.queue.end()
        self.tasks.end()
        self.tasks.say("over")
        wait_for(lambda: not self.ear._ears, 2)
        self.assertFalse(self.ear._timer.isActive())

    def test_a_job_that_what_is_said_closes_is_not_asked_again(self):
        def close(event):
            self.told.append(event)
            self.session.queue = None

        self.session.on_event = close
        self.queue.begin()
        self.ear.wake()
        self.live(0.05)
        self.queue.say(*(SimpleNamespace(kind="done", data={}) for _ in range(3)))
        wait_for(lambda: self.told, 2)
        self.live(0.1)
        self.assertEqual(len(self.told), 1)


if __name__ == "__main__":
    unittest.main()
