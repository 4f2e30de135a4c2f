"""The queue over several jobs: kept, shared, run by one process at a time, whatever becomes of a job meanwhile."""

import multiprocessing
import os
import shutil
import time
import unittest
from dataclasses import replace
from unittest import mock

from tests.desk import DeskTest, setUpModule, tearDownModule, wait_for  # noqa: F401
from tests.scenes import scratch
from tests.test_stages import job_with
from umbrate.core.errors import UmbrateError
from umbrate.desk.dialogs.queue import QueueDialog
from umbrate.desk.session.later import LaterWork
from umbrate.job.store import Job
from umbrate.work.jobqueue import FAILED, RUNS, WAITS, Entry, Runner, Waiting, cell_entry, job_entry
from umbrate.work.recipes import shelf
from umbrate.work.recipes.text import text_of_recipe


def two_jobs(*stages):
    """Folders of two jobs in which stages have run, and their sittings."""
    out = []
    for name in "AB":
        job, sitting = job_with(scratch() / name, *stages)
        job.close()
        out.append((job.folder, sitting))
    return out


def cell(folder, sitting, stage, **more):
    with Job.open(folder, writable=False) as job:
        return cell_entry(job, sitting, stage, **more)


def results(folder):
    with Job.open(folder, writable=False) as job:
        return [s for s in ("photos", "masks", "lens", "poses", "cloud") if job.result(job.sittings()[0].id, s)]


def run_out(runner, seconds=90):
    """Let a runner do all that it can."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        runner.step()
        entries, paused = runner.waiting.read()
        if runner.entry is None and (paused or all(e.state == FAILED or e.why for e in entries)):
            return
        time.sleep(0.02)
    raise AssertionError("it does not end")


def hold(folder, ready, done):
    """Another process that has a job open."""
    with Job.open(folder):
        ready.set()
        done.wait(60)


class Queues(unittest.TestCase):
    def setUp(self):
        self.waiting = Waiting(scratch())
        self.runner = Runner(self.waiting)
        self.addCleanup(self.runner.close)

    def test_cells_of_several_jobs_run_in_their_order_and_what_is_wrong_stops_nothing_else(self):
        (a, sa), (b, sb) = two_jobs("photos")
        gone, moved = scratch() / "gone.umbrate", scratch() / "moved.umbrate"
        shutil.copytree(a, gone)
        shutil.copytree(a, moved)
        entries = [
            cell(a, sa, "masks"), job_entry(gone), cell(b, sb, "lens"), cell(moved, sa, "masks"),
            replace(cell(a, sa, "masks"), sitting_id=99),
        ]  # fmt: skip
        self.waiting.add(entries)
        self.waiting.add([cell(a, sa, "masks")])  # waits already
        self.assertEqual(len(self.waiting.read()[0]), 5)
        self.waiting.order([entries[k].id for k in (2, 1, 0, 3, 4)])
        shutil.rmtree(gone)
        moved.rename(moved.with_name("elsewhere.umbrate"))
        run_out(self.runner)
        self.assertEqual([e.title for e, why in self.runner.ended if not why], ["Lens, By hand", "Masks, By hand"])
        self.assertEqual((results(a), results(b)), (["photos", "masks"], ["photos", "lens"]))
        left, paused = self.waiting.read()
        self.assertEqual(([e.state for e in left], paused), ([FAILED] * 3, False))
        for e, words in zip(left, ("does not exist", "does not exist", "not in the job any more"), strict=True):
            self.assertIn(words, e.why)

    def test_a_job_that_is_open_elsewhere_waits_and_two_processes_share_one_queue(self):
        (a, sa), (b, sb) = two_jobs()
        spawn = multiprocessing.get_context("spawn")
        ready, done = spawn.Event(), spawn.Event()
        other = spawn.Process(target=hold, args=(a, ready, done))
        other.start()
        self.addCleanup(other.kill)
        self.assertTrue(ready.wait(60))
        self.waiting.add([cell(a, sa, "photos"), cell(b, sb, "photos")])
        run_out(self.runner)
        (left,) = self.waiting.read()[0]
        self.assertEqual((left.folder, left.state), (str(a), WAITS))
        self.assertIn("open in another window", left.why)
        second = Runner(Waiting(self.waiting.folder))
        self.addCleanup(second.close)
        self.assertFalse(second.step())
        done.set()
        other.join()
        self.assertFalse(second.step())  # the first one still has it
        self.runner.close()
        run_out(second)
        while second.entry:
            second.step()
        self.assertEqual(self.waiting.read()[0], [])
        self.assertEqual((results(a), results(b)), (["photos"], ["photos"]))

    def test_what_ran_when_its_process_was_killed_or_stopped_goes_on_later(self):
        ((a, sa), _) = two_jobs("photos")
        entry = replace(cell(a, sa, "poses"), state=RUNS)
        self.waiting.add([entry])
        self.waiting.pause(True)
        self.assertFalse(self.runner.step())
        self.waiting.pause(False)
        while self.runner.running is None or self.runner.running.stage != "poses":
            self.runner.step()
            time.sleep(0.01)
        self.assertEqual(self.waiting.read()[0][0].state, RUNS)
        self.runner.stop()
        self.assertEqual((self.waiting.read()[1], self.runner.entry), (True, None))
        self.assertEqual([e.state for e in self.waiting.read()[0]], [WAITS])
        with Job.open(a):
            pass  # nobody holds it
        self.assertNotIn("poses", results(a))
        self.waiting.pause(False)
        run_out(self.runner)
        self.assertIn("poses", results(a))

    def test_by_a_recipe_and_all_that_is_missing(self):
        (a, _), (b, _) = two_jobs("photos", "masks", "lens")
        quick = shelf.find_recipe("quick").recipe
        quick = replace(quick, until="poses", stages={"poses": {"features": 900}})
        self.waiting.add([job_entry(a, (quick.name, text_of_recipe(quick))), replace(job_entry(b), stage="poses")])
        run_out(self.runner)
        with Job.open(a, writable=False) as job:
            self.assertEqual(job.result(job.sittings()[0].id, "poses").settings["features"], 900)
        self.assertIn("poses", results(b))

    def test_a_damaged_file_is_an_empty_queue_that_is_paused_and_can_be_used_again(self):
        one = Entry("x", "/a", "t")
        self.waiting.add([one])
        self.assertEqual(self.waiting.read(), ([one], False))
        for text in ("", "{", "[]", '{"entries": [{"id": 1}]}', '{"entries": [{"id": "x"}]}', '{"entries": 3}'):
            self.waiting.file.write_text(text)
            self.assertEqual(self.waiting.read(), ([], True), text)
        self.waiting.file.write_text('{"entries": [{"id": "x", "folder": "/a", "title": "t", "stage": "polish"}]}')
        self.assertEqual(self.waiting.read(), ([], True))
        self.waiting.add([one])
        self.assertEqual(self.waiting.read()[0], [one])
        os.chmod(self.waiting.file, 0o400)
        self.waiting.pause(False)
        self.assertEqual(self.waiting.read(), ([one], False))


class InTheWindow(DeskTest):
    def setUp(self):
        super().setUp()
        self.session.later.close()
        self.session.later = later = LaterWork(self.session, scratch())
        self.addCleanup(later.close)
        later.changed.connect(self.window.foot.follow)

    def test_cells_of_this_and_another_job_are_queued_dragged_paused_and_their_end_is_told(self):
        ((b, sb), _) = two_jobs("photos", "masks", "lens")
        here = self.open("photos", "masks", "lens")
        s, later = self.session, self.session.later
        dialog = QueueDialog(s, self.window)
        self.addCleanup(dialog.deleteLater)
        dialog.show()
        later.waiting.pause(True)
        with mock.patch("umbrate.desk.dialogs.queue.ask_folder", return_value=str(b)):
            dialog.what.setCurrentIndex(0)
            dialog.add.click()
        later.add_cells([(here.id, "poses")])
        later.add_cells([(here.id, "lens")])
        texts = [dialog.list.item(k).text() for k in range(3)]
        self.assertEqual([x.split(": ")[1] for x in texts],
                         ["everything that is missing or stale", "Poses, By hand", "Lens, By hand"])  # fmt: skip
        # the last one is dragged to the top, the job's entry is taken off, a cell of it comes in its place
        model = dialog.list.model()
        self.assertTrue(model.moveRow(model.index(0, 0).parent(), 2, model.index(0, 0).parent(), 0))
        self.assertEqual(later.waiting.read()[0][0].title, "Lens, By hand")
        dialog.list.item(1).setSelected(True)
        dialog.remove.click()
        later.do(lambda: later.waiting.add([cell(b, sb, "poses")]))
        self.assertEqual([e.stage for e in later.waiting.read()[0]], ["lens", "poses", "poses"])
        told = []
        with mock.patch("umbrate.desk.session.later.tell", lambda *x: told.append(x[1:]) or ["The mail did not work."]):
            self.assertEqual(dialog.pause.text(), "Go on")
            dialog.pause.click()
            wait_for(lambda: later.runner.running is not None)  # the other job's
            self.assertIsNotNone(s.result("poses"))
            wait_for(lambda: self.window.foot.bar.isVisible())
            dialog.refresh()
            self.assertIn("Poses, By hand", dialog.now.text())
            wait_for(lambda: told and not later.waiting.read()[0])
        self.assertIn("3 done, 0 failed", told[0][0])
        wait_for(lambda: self.window.foot.said == "The mail did not work.")
        self.assertIn("poses", results(b))

    def test_the_foot_stops_what_runs_in_another_job_and_what_ran_here_is_kept_for_the_next_window(self):
        ((b, sb), _) = two_jobs("photos", "masks", "lens")
        here = self.open("photos", "masks", "lens")
        s, later = self.session, self.session.later
        later.do(lambda: later.waiting.add([cell(b, sb, "poses")]))
        wait_for(lambda: later.runner.running is not None)
        self.window.foot.stop()
        self.assertEqual([e.state for e in later.waiting.read()[0]], [WAITS])
        self.assertTrue(later.waiting.read()[1])
        # what the queue runs in the open job and is cancelled there is not done: it waits on
        left = {e.id for e in later.waiting.read()[0]}
        later.add_cells([(here.id, "poses")])
        later.do(lambda: later.waiting.order([e.id for e in reversed(later.waiting.read()[0])]))
        later.do(lambda: later.waiting.pause(False))
        wait_for(lambda: s.running() is not None and later.runner.is_here)
        self.window.foot.stop()
        wait_for(lambda: s.queue.idle)
        self.assertEqual((later.runner.entry, later.waiting.read()[1]), (None, True))
        self.assertEqual([e.state for e in later.waiting.read()[0]], [WAITS] * 2)
        self.assertIsNone(s.result("poses"))
        later.waiting.remove({e.id for e in later.waiting.read()[0]} - left)
        s.run([(here.id, "cloud")])
        wait_for(lambda: s.running() is not None)
        with mock.patch.object(self.window, "_may_leave", return_value=True):
            self.window.close_job()
        self.assertIsNone(s.job)
        left, paused = later.waiting.read()
        self.assertEqual(([e.title for e in left], paused), (["Poses, By hand", "Cloud, By hand"], True))
        again = LaterWork(s, later.waiting.folder)  # the next window says so
        self.addCleanup(again.close)
        wait_for(lambda: "2 entries wait in the queue, which is paused" in self.window.foot.said, 20)

    def test_a_mail_that_cannot_be_sent_is_refused_when_it_is_asked_for(self):
        later = self.session.later
        dialog = QueueDialog(self.session, self.window)
        self.addCleanup(dialog.deleteLater)
        dialog.mail.setText("nobody")
        dialog.mail.editingFinished.emit()
        self.assertIn("no mail address", dialog.trouble.text())
        self.assertEqual(later.ending().mail, "")
        with self.assertRaises(UmbrateError):
            later.ending().__class__(mail="a b").check()


if __name__ == "__main__":
    unittest.main()
