"""A cluster of two worker processes on this machine: the same bits, and what goes wrong said in words."""

import hashlib
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from functools import partial
from pathlib import Path
from unittest import mock

from tests.desk import DeskTest, setUpModule, tearDownModule, wait_for  # noqa: F401
from tests.scenes import scratch
from tests.test_cli import shell, umbrate
from tests.test_stages import job_with, new_job, run
from umbrate.core.errors import Cancelled, CannotKeep, UmbrateError
from umbrate.desk.dialogs.cluster import ClusterDialog
from umbrate.desk.session.cluster import chosen_cluster
from umbrate.job import elsewhere
from umbrate.job.blobs import BlobStore
from umbrate.job.contents import FEATURES
from umbrate.sitting.photos import PhotoRef
from umbrate.stages import BY_NAME
from umbrate.stages.base import Report, settings_of
from umbrate.stages.executor import LocalExecutor, anywhere
from umbrate.stages.poses.figures import FIRST
from umbrate.stages.poses.items import Wanted, find_features
from umbrate.work import away, cluster
from umbrate.work.cluster import ClusterExecutor, executor_for, look_at_cluster
from umbrate.work.identity import differences, identity
from umbrate.work.worker import ONE_THREAD

ROOT = Path(__file__).resolve().parents[1]
with socket.socket() as free:  # a port that nobody has
    free.bind(("127.0.0.1", 0))
    PORT = free.getsockname()[1]
ADDRESS = f"tcp://127.0.0.1:{PORT}"
#: a worker that sees no file of anybody else, as on a machine without a shared folder
APART = """
from umbrate.work import away
away.Away.sees = lambda self, place: False
content_hash = away.content_hash
def of_cache(path, *a):
    if len(path.stem) != 64:  # its own files have their content for a name
        raise OSError("elsewhere")
    return content_hash(path, *a)
away.content_hash = of_cache
from umbrate.__main__ import main
main()
"""


@anywhere
def numbered(item):
    """What an item is, a while later; as many kinds of trouble as there are names for."""
    kind, value = item
    if kind == "refuse":
        raise UmbrateError("No.", ("go to", "photos"))
    if kind == "break":
        raise ValueError("broken")
    if kind == "full":
        raise CannotKeep("Full.")
    if kind == "memory":
        raise MemoryError
    time.sleep(0.05)
    return value, os.getpid()


def here_only(item):
    """What runs in the process of the run."""
    return os.getpid()


class Machines:
    """The scheduler and its workers, each a process of its own."""

    def __init__(self, *workers):
        self.home, self.processes = scratch(), {}
        self.environment = os.environ | ONE_THREAD | {"PYTHONPATH": f"{ROOT / 'src'}:{ROOT}"}
        self.start("scheduler", "-m", "umbrate", "scheduler", "--port", str(PORT), "--host", "127.0.0.1")
        for name, how in workers:
            self.work(name, how)

    def start(self, name, *arguments):
        """Start a process; returns when it said that it is ready."""
        said = self.home / f"{name}.txt"  # a file, as a pipe that nobody reads fills up
        with open(said, "w") as out:
            p = self.processes[name] = subprocess.Popen(
                [sys.executable, *arguments], stdout=out, stderr=subprocess.STDOUT, env=self.environment, cwd=ROOT
            )
        end = time.monotonic() + 120
        while not said.read_text().endswith("\n") and p.poll() is None and time.monotonic() < end:
            time.sleep(0.05)
        p.first = said.read_text()

    def work(self, name, how=("-m", "umbrate"), *more):
        """Start a worker; `how`: the arguments that run Umbrate."""
        self.start(
            name, *how, "worker", "--cluster", ADDRESS, "--threads", "1", "--name", name,
            "--cache", str(self.home / name), *more,
        )  # fmt: skip

    def end(self, name, how=signal.SIGKILL):
        """End a process."""
        p = self.processes.pop(name)
        p.send_signal(how)
        p.wait(20)

    def close(self):
        """End all, the workers first."""
        for name in reversed(list(self.processes)):
            self.end(name)
        cluster._clients.clear()


class Together(unittest.TestCase):
    """Two workers: one beside the job, one that has to ask for everything."""

    @classmethod
    def setUpClass(cls):
        cls.machines = Machines(("near", ("-m", "umbrate")), ("far", ("-c", APART)))
        cls.addClassCleanup(cls.machines.close)
        for name, words in (("scheduler", "listens at"), ("near", "near works for"), ("far", "far works for")):
            assert words in cls.machines.processes[name].first, cls.machines.processes[name].first

    def executor(self, job, sitting, stage="poses"):
        inputs = BY_NAME[stage].gather(job, sitting, settings_of(job, sitting, BY_NAME[stage]))
        out = executor_for(ADDRESS, inputs, 1)
        self.addCleanup(out.close)
        return out, inputs

    def test_every_stage_gives_the_same_bits_as_here(self):
        local, there = new_job(scratch() / "here"), new_job(scratch() / "there")
        for job, sitting in (local, there):
            job.set_settings(sitting.id, "surface", {"triangles": 20_000, "source": "depth"})
            job.set_settings(sitting.id, "texture", {"side": 1024, "triangles": 5_000})
            self.addCleanup(job.close)
        texts = []

        class Told(Report):
            def progress(self, fraction, sentence, **figures):
                texts.append(sentence)

        for name in ("photos", "masks", "lens", "poses", "cloud", "surface", "texture"):
            want = run(*local, name, Report(LocalExecutor(1)))
            inputs = BY_NAME[name].gather(*there, settings_of(*there, BY_NAME[name]))
            executor = executor_for(ADDRESS, inputs, 1)
            try:
                out = run(*there, name, Told(executor))
            finally:
                executor.close()
            self.assertEqual(out.artefacts, want.artefacts, name)
        self.assertTrue(any("depth of photo" in x and x.endswith(", 2 workers") for x in texts))
        # what was fetched is kept, what was needed meanwhile is not, and nothing is left in the job
        self.assertTrue(any((self.machines.home / "far" / "photos").iterdir()))
        for name in ("near", "far"):
            (room,) = (self.machines.home / name).glob("scratch-*")
            self.assertEqual(list(room.iterdir()), [])
        self.assertEqual(list((there[0].folder / "scratch").iterdir()), [])

    def test_a_run_that_is_cancelled_goes_on_here(self):
        job, sitting = job_with(scratch() / "cancelled", "photos", "masks", "lens", "poses")
        self.addCleanup(job.close)
        executor, _ = self.executor(job, sitting, "cloud")
        done = []

        class Impatient(Report):
            def progress(self, fraction, sentence, **figures):
                done.extend([sentence] if "depth of photo" in sentence else [])
                if len(done) == 4:
                    raise Cancelled()

        with self.assertRaises(Cancelled):
            run(job, sitting, "cloud", Impatient(executor))
        self.assertIsNone(job.result(sitting.id, "cloud"))
        executor.close()
        self.assertEqual(list((job.folder / "scratch").iterdir()), [])
        self.assertGreaterEqual(run(job, sitting, "cloud").figures.reused, 4)

    def test_from_the_terminal(self):
        job, _ = job_with(scratch() / "cli", "photos", "masks", "lens", "poses")
        job.close()
        done = umbrate("run", job.folder, "--to", "cloud", "--cluster", ADDRESS)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        done = umbrate("run", job.folder, "--to", "cloud", "--redo", "--cluster", "tcp://127.0.0.1:9")
        self.assertEqual(done.returncode, 1)
        self.assertIn("No scheduler answers at tcp://127.0.0.1:9", done.stdout + done.stderr)
        some = self.machines.home / "ca.pem"
        some.write_text("")
        done = umbrate("run", job.folder, "--cluster", ADDRESS, "--tls-ca-file", some)
        self.assertIn("takes all three", done.stdout + done.stderr)
        done = shell("scheduler", "--port", PORT, "--host", "127.0.0.1", cwd=ROOT)
        self.assertIn("cannot be used", done.stdout + done.stderr)

    def test_a_photo_that_one_machine_has_not_is_fetched_and_one_that_nobody_has_is_named(self):
        job, sitting = job_with(scratch() / "moved", "photos", "masks", "lens")
        self.addCleanup(job.close)
        executor, inputs = self.executor(job, sitting)
        gone = [replace(p, path=f"/nowhere/{p.name}") for p in inputs.photos[:4]]
        find = partial(find_features, inputs.blobs, settings_of(job, sitting, BY_NAME["poses"]), FIRST)
        items = [Wanted(p, inputs.masks.get(p.id), None, None) for p in gone]
        keys = list(executor.map(find, items))
        here = [x._replace(photo=p) for x, p in zip(items, inputs.photos, strict=False)]
        self.assertEqual(keys, list(LocalExecutor(1).map(find, here)))
        self.assertTrue(all(len(BlobStore(inputs.blobs).get_arrays(k, FEATURES)["xy"]) for k in keys))
        lost = replace(gone[0], hash="0" * 64)
        with self.assertRaisesRegex(UmbrateError, f"{lost.name} is not in /nowhere"):
            list(executor.map(find, [items[0]._replace(photo=lost)]))
        # a blob that nobody has
        with self.assertRaisesRegex(UmbrateError, "is missing"):
            list(executor.map(find, [items[0]._replace(photo=inputs.photos[0], mask="0" * 64)]))

    def test_items_come_back_in_order_from_both_and_troubles_are_sentences(self):
        job, sitting = new_job(scratch() / "j")
        self.addCleanup(job.close)
        run(job, sitting, "photos")
        executor = ClusterExecutor(ADDRESS, str(job.blobs.folder), [], 1)
        self.addCleanup(executor.close)
        self.assertEqual(executor.threads, 2)
        out = list(executor.map(numbered, [("tell", k) for k in range(30)]))
        self.assertEqual([x for x, _ in out], list(range(30)))
        self.assertEqual(len({pid for _, pid in out} - {os.getpid()}), 2)
        self.assertEqual(set(executor.map(here_only, range(3))), {os.getpid()})
        for kind, error, words in (
            ("refuse", UmbrateError, "^No.$"),
            ("full", CannotKeep, "On the worker .*: Full."),
            ("break", UmbrateError, r"on the worker .* \(ValueError: broken\)"),
            ("memory", UmbrateError, "memory of the worker .* was not enough"),
        ):
            with self.assertRaisesRegex(error, words) as caught:
                list(executor.map(numbered, [("tell", 1), (kind, 0), ("tell", 2)]))
            if kind == "refuse":
                self.assertEqual(caught.exception.remedy, ("go to", "photos"))
        with self.assertRaisesRegex(UmbrateError, "needs 1000.0 GB .* no worker has that much"):
            list(executor.map(numbered, [("tell", 1)], memory=1e12))
        # left in the middle, nothing goes on
        some = executor.map(numbered, [("tell", k) for k in range(500)])
        self.assertEqual(next(some)[0], 0)
        some.close()
        self.assertEqual([x for x, _ in executor.map(numbered, [("tell", 7)])], [7])
        self.assertGreater(executor.counted.sent, 0)

    def test_another_version_is_refused_and_no_cluster_is_said(self):
        found = look_at_cluster(ADDRESS, None)
        self.assertEqual({w["name"] for w in found}, {"near", "far"})
        self.assertTrue(all(w["threads"] == 1 and w["memory"] > 0 and not w["wrong"] for w in found))
        mine = identity()
        self.assertEqual(differences(mine, mine), "")
        other = mine | {"numpy": "1.0"}
        self.assertIn(f"numpy {mine['numpy']} instead of 1.0", differences(other, mine))
        with mock.patch.object(cluster, "identity", lambda: other):
            with self.assertRaisesRegex(UmbrateError, "(near|far) would not compute the same: numpy"):
                cluster.workers_of(cluster._client(ADDRESS))
        place = away.Place("/x", "/x/here", "0" * 32, "tcp://127.0.0.1:1", other)
        job, _ = new_job(scratch() / "j")
        with job:
            executor = ClusterExecutor(ADDRESS, str(job.blobs.folder), [], 1)
            try:
                executor.place = place
                with self.assertRaisesRegex(UmbrateError, "would not compute the same"):
                    list(executor.map(numbered, [("tell", 1)]))
            finally:
                executor.close()
        with mock.patch.object(cluster, "CONNECT_S", 0.5):
            with self.assertRaisesRegex(UmbrateError, "No scheduler answers at tcp://127.0.0.1:9"):
                cluster._client("tcp://127.0.0.1:9")
            # what cannot run there needs no cluster
            some = cluster.WhenNeeded("tcp://127.0.0.1:9", str(job.blobs.folder), [], 1)
            self.assertEqual(list(some.map(here_only, range(2))), [os.getpid()] * 2)
            with self.assertRaisesRegex(UmbrateError, "No scheduler answers"):
                some.map(numbered, [("tell", 1)])
            some.close()


class InTheWindow(DeskTest):
    def test_workers_are_looked_for_used_and_left_again(self):
        machines = Machines(("near", ("-m", "umbrate")))
        self.addCleanup(machines.close)
        self.open("photos", "masks", "lens", "poses")
        s = self.session
        dialog = ClusterDialog(s, self.window)
        self.assertFalse(dialog.use_button.isEnabled())
        dialog.address.setText(ADDRESS)
        dialog.look()
        wait_for(lambda: dialog.table.rowCount() == 1)
        self.assertEqual([dialog.table.item(0, c).text() for c in (0, 1, 3)], ["near", "1", "yes"])
        dialog.use_button.click()
        self.assertEqual((s.queue.cluster, chosen_cluster()), (ADDRESS, ADDRESS))
        told = []
        s.listening.progressed.connect(lambda: told.append(s.queue.running.sentence if s.queue.running else ""))
        s.choose(stage="cloud")
        s.run()
        wait_for(lambda: s.result("cloud"))
        self.assertTrue(any(x.endswith(", 1 worker") for x in told), told[-5:])
        again = ClusterDialog(s, self.window)
        self.assertIn(ADDRESS, again.said.text())
        again.alone_button.click()
        self.assertEqual((s.queue.cluster, chosen_cluster()), ("", ""))


class Losses(unittest.TestCase):
    def test_lost_workers_and_a_lost_scheduler_leave_a_job_to_go_on_with(self):
        machines = Machines(("one", ("-m", "umbrate")), ("two", ("-m", "umbrate")))
        self.addCleanup(machines.close)
        job, sitting = job_with(scratch() / "lost", "photos", "masks", "lens", "poses")
        self.addCleanup(job.close)
        executor = ClusterExecutor(ADDRESS, str(job.blobs.folder), [], 1)
        with self.subTest("a worker dies: its items run elsewhere"):
            out = []
            for k, x in enumerate(executor.map(numbered, [("tell", k) for k in range(40)])):
                out.append(x[0])
                if k == 5:
                    machines.end("one")
            self.assertEqual(out, list(range(40)))
        with self.subTest("all are gone"):
            machines.end("two")
            with mock.patch.object(cluster, "ALONE_S", 1.0):
                with self.assertRaisesRegex(UmbrateError, "All workers are gone"):
                    list(executor.map(numbered, [("tell", 1)]))
            with self.assertRaisesRegex(UmbrateError, "No worker is there yet"):
                ClusterExecutor(ADDRESS, str(job.blobs.folder), [], 1)
        machines.work("three")
        with self.subTest("the scheduler dies in the middle of a cloud, and it goes on without"):
            done = []

            class Cutting(Report):
                def progress(self, fraction, sentence, **figures):
                    if "depth of photo" in sentence:
                        done.append(sentence)
                        if len(done) == 4 and "scheduler" in machines.processes:
                            machines.end("scheduler")

            executor.workers = {}
            with self.assertRaisesRegex(UmbrateError, "scheduler at .* is gone|All workers are gone"):
                run(job, sitting, "cloud", Cutting(executor))
            executor.close()
            kept = run(job, sitting, "cloud").figures
            self.assertGreaterEqual(kept.reused, 4)
        self.assertEqual(list((job.folder / "scratch").iterdir()), [])


class Kept(unittest.TestCase):
    def test_what_is_damaged_in_the_cache_is_fetched_anew(self):
        home = scratch()
        asked, data = [], (b"blob", b"photo")
        key, of_photo = (hashlib.sha256(x).hexdigest() for x in data)

        class Asks(away.Away):
            def _ask(self, place, what, **more):
                asked.append(what)
                return data[0] if what == "blob" else data[1][more["start"] :]

        photo = PhotoRef(1, "a.jpg", "/nowhere/a.jpg", 10, 10, 1, "", None, of_photo)
        for round_ in range(3):
            here = Asks(home, None, "far", 1e9)
            here.arrive(away.Place("/j/blobs", "/nowhere/token", "s", "", {}))
            with mock.patch.object(elsewhere, "here", here):
                for _ in range(2):
                    self.assertEqual(BlobStore("/j/blobs").get_bytes(key), data[0])
                    self.assertEqual(Path(here.photo(photo).path).read_bytes(), data[1])
            files = [f for f in home.rglob("*") if f.is_file()]
            self.assertEqual(len(files), 2)
            if round_ == 0:  # the next worker finds both damaged
                for f in files:
                    f.write_bytes(b"X" + f.read_bytes()[1:])
                self.assertEqual(asked, ["blob", "photo", "photo"])
                asked.clear()
            elif round_ == 1:
                self.assertEqual(asked, ["blob", "photo", "photo"])
                asked.clear()
        self.assertEqual(asked, [])
        shutil.rmtree(home)

    def test_the_cache_keeps_what_was_used_last_and_no_more_than_it_may(self):
        home = scratch()
        here = away.Away(home, None, "me", 2500.0)
        for k in range(4):
            f = home / "photos" / f"{k}.jpg"
            f.write_bytes(bytes(1000))
            os.utime(f, (1000 + k, 1000 + k))
        here.trim()
        self.assertEqual(sorted(f.name for f in (home / "photos").iterdir()), ["2.jpg", "3.jpg"])
        dead = subprocess.Popen(["true"])
        dead.wait()
        (home / f"scratch-{dead.pid}" / "left").mkdir(parents=True)
        away.Away(home, None, "me", 1e9)
        self.assertEqual([f.name for f in home.glob("scratch-*")], [f"scratch-{os.getpid()}"])
        with self.assertRaisesRegex(UmbrateError, "does not know of"):
            here.blobs("/x")
        # two runs that name their folders alike are told apart, each thread works for its own
        places = [away.Place("/j/blobs", f"/nowhere/{k}", str(k) * 32, "", {}) for k in range(2)]
        with ThreadPoolExecutor(2) as pool:

            def at(place):
                here.arrive(place)
                time.sleep(0.05)
                return here.scratch("/j/scratch/x")

            folders = list(pool.map(at, places))
        self.assertEqual(len(set(folders)), 2)
        here.forget(places[0].key)
        self.assertEqual([f.exists() for f in folders], [False, True])
        # an item that was taken over by another worker ends after its run: it leaves nothing
        with here.working(places[1]):
            here.forget(places[1].key)
            late = here.scratch("/j/scratch/y")
            self.assertTrue(late.exists())
        self.assertEqual(list(here.room.iterdir()), [])
        shutil.rmtree(home)


if __name__ == "__main__":
    unittest.main()
