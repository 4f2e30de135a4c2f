"""The worker process and the queue: saved one by one, stopped on request, killed without loss."""

import os
import signal
import time
import unittest
from unittest import mock

from tests.scenes import scratch
from tests.test_stages import new_job
from umbrate.job.store import Job
from umbrate.work.queue import Queue
from umbrate.work.state import DONE, FAILED, board


def drive(queue, until=lambda e: False, limit_s=120):
    """Poll until the queue is idle or an event pleases; returns the events."""
    events, end = [], time.monotonic() + limit_s
    while not queue.idle and time.monotonic() < end:
        for e in queue.poll(0.1):
            events.append(e)
            if until(e):
                return events
    return events


class RealWorker(unittest.TestCase):
    def setUp(self):
        self.job, self.sitting = new_job(scratch() / "j")
        self.queue = Queue(self.job)
        self.addCleanup(self.job.close)
        self.addCleanup(self.queue.close)

    def test_each_result_is_saved_when_it_is_done_and_a_sigkill_costs_the_running_step_only(self):
        self.queue.add(self.sitting, ["photos", "masks", "poses", "cloud"])
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
        self.assertEqual([e.outcome for e in self.job.ledger()], ["done", "done", "crashed"])
        states = [c.state for c in board(self.job, self.queue.failures)[0]]
        self.assertEqual(states[:3], [DONE, DONE, FAILED])
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
            self.assertEqual(job.result(self.sitting.id, "poses").figures["solved"], 12)

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
