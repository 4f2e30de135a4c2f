"""The worker process and the queue: saved one by one, stopped on request, killed without loss."""

import logging
import os
import shutil
import signal
import time
import unittest
from functools import partial
from pathlib import Path
from unittest import mock

from tests.scenes import pebble_set, scratch
from tests.test_imaging import write_video
from tests.test_stages import new_job
from umbrate.actions.delivering import export_cameras
from umbrate.core.errors import Cancelled, WouldReplace
from umbrate.formats.files import written_aside
from umbrate.job.store import Job
from umbrate.stages.base import Report
from umbrate.work.adding import read_folder, read_video
from umbrate.work.queue import Queue
from umbrate.work.state import DONE, FAILED, board
from umbrate.work.tasks import Tasks
from umbrate.work.writing import Written, write_from


def drive(queue, until=lambda e: False, limit_s=120):
    """Poll until the queue is idle or an event pleases; returns the events."""
    events, end = [], time.monotonic() + limit_s
    while not queue.idle and time.monotonic() < end:
        for e in queue.poll(0.1):
            events.append(e)
            if until(e):
                return events
    return events


def reading_slowly(seconds, report):
    """A task that takes its time."""
    for k in range(int(seconds * 20)):
        time.sleep(0.05)
        report.progress(k / (seconds * 20), f"step {k}")
    return "read"


def complaining(report=None):
    """A task that logs; it runs in the worker."""
    logging.getLogger("umbrate.task").warning("said in process %d", os.getpid())
    return os.getpid()


class AnErrand(unittest.TestCase):
    def setUp(self):
        self.tasks, self.heard = Tasks(), []
        self.addCleanup(self.tasks.close)

    def send(self, function, *arguments):
        self.tasks.send(
            "t", function, arguments, lambda v: self.heard.append(v), lambda text, kind: self.heard.append((kind, text))
        )

    def wait(self, until=None, limit_s=60):
        end = time.monotonic() + limit_s
        while not self.tasks.idle and time.monotonic() < end and not (until and until()):
            self.tasks.poll(0.05)

    def test_values_come_back_in_order_and_trouble_as_a_sentence(self):
        self.send(read_folder, pebble_set() / "by-hand", None, None)
        self.send(read_folder, "/not/there", None, None)
        self.send(divmod, 1)  # what no task should do: it must not take the worker along
        self.send(reading_slowly, 0.2)
        self.wait()
        self.assertEqual(len(self.heard[0].records), 12)
        self.assertEqual(self.heard[1][0], "failed")
        self.assertIn("does not exist", self.heard[1][1])
        self.assertIn("unexpected", self.heard[2][1])
        self.assertEqual(self.heard[3], "read")

    def test_what_a_worker_logs_arrives_in_the_one_log(self):
        with self.assertLogs("umbrate.task", "WARNING") as said:
            self.send(complaining)
            self.wait(lambda: self.heard and said.records)
        self.assertNotEqual(self.heard[0], os.getpid())
        self.assertIn(f"worker: said in process {self.heard[0]}", said.records[0].getMessage())

    def test_cancel_is_heard_within_a_second_and_forgets_what_waits(self):
        self.send(reading_slowly, 30)
        self.send(reading_slowly, 0.1)
        self.wait(lambda: self.tasks.running and self.tasks.running.sentence.startswith("step"))
        start = time.monotonic()
        self.tasks.cancel()
        self.wait()
        self.assertLess(time.monotonic() - start, 2.0)
        self.assertEqual([k for k, _ in self.heard], ["cancelled"])
        self.send(reading_slowly, 0.1)
        self.wait()
        self.assertEqual(self.heard[-1], "read")

    def test_a_video_that_is_cancelled_leaves_nothing_behind(self):
        home = scratch()
        write_video(home / "walk.mp4")

        class Stop(Report):
            def progress(self, fraction, sentence, **figures):
                if "2 frames" in sentence:
                    raise Cancelled()

        with self.assertRaises(Cancelled):
            read_video(home, home / "walk.mp4", 0.5, None, report=Stop())
        self.assertEqual(list((home / "frames").iterdir()), [])
        incoming = read_video(home, home / "walk.mp4", 0.5)
        self.assertEqual(len(incoming.records), 5)
        self.assertRegex(incoming.note, "^5 frames were taken; 1 were left out")
        few = read_video(home, home / "walk.mp4", 0.5, None, 200.0)
        self.assertEqual(len(few.records), 1)
        self.assertIn("1 frames were taken; 5 were left out, as they differ by under 200 gray levels", few.note)
        shutil.rmtree(Path(few.records[0]["path"]).parent)
        again = read_video(home, home / "walk.mp4", 0.5)  # the same frames in the same place
        self.assertEqual([r["path"] for r in again.records], [r["path"] for r in incoming.records])
        self.assertEqual(len(list((home / "frames").iterdir())), 1)


class RealWorker(unittest.TestCase):
    def setUp(self):
        self.job, self.sitting = new_job(scratch() / "j")
        self.queue = Queue(self.job)
        self.addCleanup(self.job.close)
        self.addCleanup(self.queue.close)

    def test_each_result_is_saved_when_it_is_done_and_a_sigkill_costs_the_running_step_only(self):
        self.queue.add(self.sitting, ["photos", "masks", "lens", "poses", "cloud"])
        drive(self.queue, lambda e: e.kind == "progress" and e.data["stage"] == "poses")
        self.assertIsNotNone(self.job.result(self.sitting.id, "photos"))
        self.assertIsNotNone(self.job.result(self.sitting.id, "masks"))
        first = self.queue.worker.pid
        os.kill(first, signal.SIGKILL)
        events = drive(self.queue)
        crash = events[-1]
        self.assertEqual((crash.kind, crash.data["stage"]), ("crashed", "poses"))
        self.assertIn("ended unexpectedly (signal 9)", crash.data["message"])
        self.assertTrue(self.queue.idle)  # the cloud, which needed it, does not wait on
        self.assertIsNone(self.job.result(self.sitting.id, "poses"))
        self.assertEqual([e.outcome for e in self.job.ledger()], ["done", "done", "done", "crashed"])
        states = [c.state for c in board(self.job, self.queue.failures)[0]]
        self.assertEqual(states[:4], [DONE, DONE, DONE, FAILED])
        # run it again: a new process, and this time to the end, with live figures on the way
        self.queue.add(self.sitting, ["poses"])
        events = drive(self.queue)
        self.assertEqual(events[-1].kind, "done")
        self.assertNotEqual(self.queue.worker.pid, first)
        fractions = [e.data["fraction"] for e in events if e.kind == "progress"]
        self.assertEqual(fractions, sorted(fractions))
        self.assertTrue(any(e.kind == "live" for e in events))
        self.assertTrue(any(e.kind == "progress" and e.data["figures"].get("tie points") for e in events))
        self.assertNotIn((self.sitting.id, "poses"), self.queue.failures)
        # the job is whole for somebody who opens it anew
        self.job.close()
        with Job.open(self.job.folder) as job:
            self.assertEqual(job.result(self.sitting.id, "poses").figures.solved, 12)

    def test_cancel_ends_the_running_cell_and_forgets_the_waiting(self):
        self.queue.add(self.sitting, ["photos", "masks", "poses", "cloud"])
        drive(self.queue, lambda e: e.kind == "progress" and e.data["stage"] == "poses")
        self.queue.cancel()
        events = drive(self.queue)
        self.assertEqual(events[-1].kind, "cancelled")
        self.assertTrue(self.queue.idle)
        self.assertNotIn((self.sitting.id, "poses"), self.queue.failures)
        self.assertEqual(self.job.ledger()[-1].outcome, "cancelled")
        # a kernel that does not listen is ended with its process
        self.queue.add(self.sitting, ["masks"])
        drive(self.queue, lambda e: e.kind == "started")
        os.kill(self.queue.worker.pid, signal.SIGSTOP)
        self.queue.cancel()
        self.assertEqual(drive(self.queue)[-1].kind, "cancelled")
        self.queue.add(self.sitting, ["masks"])
        self.assertEqual(drive(self.queue)[-1].kind, "done")

    def test_a_failing_stage_stops_its_own_sitting_only(self):
        other, _ = self.job.add_sitting("Second", [])
        self.job.set_settings(self.sitting.id, "masks", {"folder": "/not/there"})
        self.queue.add(self.sitting, ["masks", "poses"])
        self.queue.add(other, ["photos"])
        self.queue.add(self.sitting, ["photos"])
        events = drive(self.queue)
        told = [(e.kind, e.data["stage"]) for e in events if e.kind in ("done", "failed")]
        self.assertEqual(told, [("failed", "masks"), ("failed", "photos")])
        self.assertIn("does not exist", self.queue.failures[self.sitting.id, "masks"].message)
        self.assertIn("no photos", self.queue.failures[other.id, "photos"].message)

    def test_a_result_that_cannot_be_saved_is_a_failure_not_a_crash(self):
        self.queue.add(self.sitting, ["photos"])
        with mock.patch.object(self.job, "commit_result", side_effect=OSError(28, "No space left on device")):
            events = drive(self.queue)
        self.assertEqual(events[-1].kind, "failed")
        self.assertIn("No space left", events[-1].data["message"])
        self.assertIsNone(self.job.result(self.sitting.id, "photos"))


def write_slowly(job, path, gate):
    """Write half of a file aside, say so, and take long over the rest."""
    with written_aside(path, gate) as temporary:
        temporary.write_bytes(b"half")
        Path(f"{path}.begun").touch()
        time.sleep(30)
        temporary.write_bytes(b"whole")
    return 1


class Writing(unittest.TestCase):
    """Files that a worker writes for the window."""

    def setUp(self):
        self.place = scratch()
        with Job.create(self.place / "j") as job:
            job.add_sitting("A", [])
            self.folder = job.folder
        self.tasks, self.told = Tasks(), []
        self.addCleanup(self.tasks.close)

    def send(self, write, replace=False):
        """Have a worker write; returns nothing, what comes of it is told."""
        self.tasks.send(
            "writing", write_from, (self.folder, write, replace), lambda w: self.told.append(w),
            lambda message, kind: self.told.append(kind),
        )  # fmt: skip

    def until(self, done):
        end = time.monotonic() + 60
        while not done():
            self.tasks.poll(0.05)
            self.assertLess(time.monotonic(), end)

    def test_what_cannot_be_written_fails_and_the_file_that_is_there_stays(self):
        file = self.place / "c.json"
        file.write_text("mine")
        with Job.open(self.folder) as job:  # the window has it open and writes: the worker only reads
            self.send(partial(export_cameras, path=file), replace=True)
            self.until(lambda: self.told)
            job.rename_sitting(job.sittings()[0].id, "B")
        self.assertEqual(self.told, ["failed"])  # a job without poses has no cameras
        self.assertEqual(file.read_text(), "mine")

    def test_one_that_is_cancelled_leaves_no_half_file(self):
        file = self.place / "out" / "slow.bin"
        file.parent.mkdir()
        file.write_bytes(b"before")
        self.send(partial(write_slowly, path=file), replace=True)
        self.until(lambda: Path(f"{file}.begun").exists())
        self.tasks.cancel()
        self.until(lambda: self.told)
        self.assertEqual(self.told, ["cancelled"])
        self.assertEqual(file.read_bytes(), b"before")
        self.assertEqual({f.name for f in file.parent.iterdir()}, {"slow.bin", "slow.bin.begun"})
        # and the next one is written
        self.send(partial(write_quickly, path=file), replace=True)
        self.until(lambda: len(self.told) == 2)
        self.assertEqual((self.told[1], file.read_bytes()), (Written(7), b"after"))

    def test_what_is_there_is_a_question_and_nothing_is_written(self):
        file = self.place / "there.bin"
        file.write_bytes(b"mine")
        self.send(partial(write_quickly, path=file))
        self.until(lambda: self.told)
        self.assertIsInstance(self.told[0].question, WouldReplace)
        self.assertIn("there.bin", str(self.told[0].question))
        self.assertEqual(file.read_bytes(), b"mine")


def write_quickly(job, path, gate):
    """Write a small file."""
    with written_aside(path, gate) as temporary:
        temporary.write_bytes(b"after")
    return 7
