"""Years of work in a job: it is checked, mended and tidied; what dies leaves nothing behind."""

import csv
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
import unittest
from contextlib import closing
from pathlib import Path

import numpy as np

from tests.scenes import scratch
from tests.test_cli import umbrate
from tests.test_job import document, record
from tests.test_stages import job_with, run, state
from umbrate.core.errors import UmbrateError
from umbrate.formats.coordinates import read_coordinates, write_coordinates
from umbrate.formats.parts import remove_left_parts
from umbrate.formats.reading import read_json, read_text
from umbrate.formats.tables import armed, disarmed
from umbrate.job.blobs import PART
from umbrate.job.checking import AGAIN, KEPT_AS, LOST, MENDED, check_job
from umbrate.job.store import Job
from umbrate.job.undo import MOST_STEPS

ROOT = Path(__file__).resolve().parents[1]


def changed(folder, *statements):
    """Change a job's database as another program, or a bad disk, would."""
    with closing(sqlite3.connect(folder / "job.sqlite", isolation_level=None)) as db:
        db.execute("PRAGMA ignore_check_constraints = ON")
        for s in statements:
            db.execute(*s) if isinstance(s, tuple) else db.execute(s)


class Checking(unittest.TestCase):
    def setUp(self):
        job, self.sitting = job_with(scratch() / "whole", "photos", "masks", "lens", "poses", "cloud")
        self.folder = job.folder
        job.set_hand_mask(job.photos(self.sitting.id)[0].id, job.result(self.sitting.id, "masks").blob(
            "mask", job.photos(self.sitting.id)[1].id), "draw")  # fmt: skip
        job.close()

    def blob(self, stage, name):
        with Job.open(self.folder, writable=False) as job:
            key = next(b for (n, _), b in job.result(self.sitting.id, stage).artefacts.items() if n == name)
            return job.blobs.path(key)

    def test_a_whole_job_is_told_so_and_nothing_is_changed(self):
        before = {f: f.stat().st_mtime_ns for f in self.folder.rglob("*") if f.is_file()}
        found = check_job(self.folder)
        self.assertEqual(found.faults, [])
        self.assertGreater(found.files, 40)
        self.assertEqual({f: f.stat().st_mtime_ns for f in self.folder.rglob("*") if f.is_file()}, before)
        done = umbrate("check", self.folder)
        self.assertEqual((done.returncode, done.stdout.splitlines()[-1]), (0, "Everything is whole."))

    def test_each_damage_is_told_and_mended_and_nothing_else_goes(self):
        def flip():
            f = self.blob("cloud", "depth")
            data = bytearray(f.read_bytes())
            data[len(data) // 2] ^= 0x40
            f.write_bytes(data)

        def other():  # a good file of another kind, under a key of its own
            with Job.open(self.folder) as job:
                key = job.blobs.put_arrays(xy=np.zeros((3, 2), np.float32))
                job.db.execute("UPDATE artefact SET blob = ? WHERE name = 'block'", (key,))

        damages = {
            "missing": (lambda: self.blob("poses", "features").unlink(), AGAIN, "poses"),
            "not as it was written": (flip, AGAIN, "cloud"),
            "holds something else": (other, AGAIN, "poses"),
            "as settings": (lambda: changed(self.folder, "UPDATE choice SET settings = '{' WHERE stage = 'poses'"),
                            LOST, ""),
            "as figures": (lambda: changed(self.folder, "UPDATE result SET figures = '[1' WHERE stage = 'cloud'"),
                           AGAIN, "cloud"),
            "as width": (lambda: changed(self.folder, "UPDATE photo SET width = 'wide' WHERE id = 12"), LOST, ""),
            "as name": (lambda: changed(self.folder, "UPDATE sitting SET name = x'00ff'"), MENDED, ""),
            "not there": (lambda: changed(self.folder, "INSERT INTO sighting (mark_id, photo_id, x, y, sigma_px, used) "
                                          "VALUES (77, 1, 1, 1, 1, 1)"), LOST, ""),
            "history": (lambda: changed(self.folder, "INSERT INTO step (label) VALUES ('x')",
                                        "INSERT INTO inverse (step_id, tbl, act, row, old) "
                                        "VALUES (1, 'photo', 'run', 1, '1')"), LOST, ""),
        }  # fmt: skip
        whole = shutil.copytree(self.folder, scratch() / "kept")
        for words, (damage, then, stage) in damages.items():
            with self.subTest(words):
                damage()
                found = check_job(self.folder)
                self.assertTrue(any(words in str(f) and f.then == then for f in found.faults), found.faults)
                self.assertEqual(len(check_job(self.folder).faults), len(found.faults))  # looking mends nothing
                self.assertEqual(len(check_job(self.folder, repair=True).faults), len(found.faults))
                self.assertEqual(check_job(self.folder).faults, [])
                with Job.open(self.folder) as job:
                    left = {r for r in ("photos", "masks", "lens", "poses", "cloud") if job.result(self.sitting.id, r)}
                    self.assertEqual(left, {"photos", "masks", "lens", "poses", "cloud"} - {stage})
                    self.assertEqual(len(job.photos(self.sitting.id)), 12 - (words == "as width"))
                    if stage == "cloud":
                        self.assertNotEqual(state(job, "cloud"), "done")
                        run(job, self.sitting, "cloud")
                shutil.rmtree(self.folder)
                shutil.copytree(whole, self.folder)

    def test_a_job_with_wrong_rows_is_refused_with_the_way_on(self):
        for bad in (
            "UPDATE photo SET width = -3 WHERE id = 2", "UPDATE photo SET orientation = 'x' WHERE id = 2",
            "UPDATE handmask SET blob = '../../../etc/passwd'", "UPDATE result SET problems = '{}'",
            "UPDATE sitting SET name = x'00ff'", "UPDATE choice SET settings = '[]'",
        ):  # fmt: skip
            folder = shutil.copytree(self.folder, scratch() / "bad.umbrate")
            changed(folder, bad)
            for writable in (True, False):
                with self.assertRaisesRegex(UmbrateError, "check.*--repair"):
                    Job.open(folder, writable)
            shutil.rmtree(folder)

    def test_a_database_that_cannot_be_read_whole_is_written_anew_from_what_can(self):
        file = self.folder / "job.sqlite"
        with Job.open(self.folder) as job:
            before = state(job, "cloud")
        with closing(sqlite3.connect(file)) as db:
            db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            size = db.execute("PRAGMA page_size").fetchone()[0]
            db.executemany(
                "INSERT INTO ledger (moment, sitting, stage, settings, seconds, outcome, figures, message) "
                "VALUES ('m', 's', 'poses', '{}', 1, 'done', '{}', ?)", [("x" * 500,)] * 400,
            )  # fmt: skip
            db.commit()
            db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        data = bytearray(file.read_bytes())
        at = data.index(b"x" * 500) // size * size + 40 * size  # a page of the ledger
        data[at : at + size] = random.Random(3).randbytes(size)
        file.write_bytes(data)
        found = check_job(self.folder)
        self.assertEqual([f.then for f in found.faults], [MENDED])
        check_job(self.folder, repair=True)
        self.assertEqual((self.folder / KEPT_AS).read_bytes(), bytes(data))
        self.assertEqual(check_job(self.folder).faults, [])
        with Job.open(self.folder) as job:
            self.assertEqual(len(job.photos(self.sitting.id)), 12)
            self.assertEqual(state(job, "cloud"), before)
            self.assertGreater(len(job.ledger()), 100)
            job.rename_sitting(self.sitting.id, "other")
            job.undo()

    def test_what_is_open_or_newer_is_left_alone(self):
        with Job.open(self.folder):
            check_job(self.folder)
            with self.assertRaisesRegex(UmbrateError, "open in another"):
                check_job(self.folder, repair=True)
        changed(self.folder, "UPDATE meta SET value = '999' WHERE key = 'version'")
        with self.assertRaisesRegex(UmbrateError, "newer"):
            check_job(self.folder, repair=True)
        with self.assertRaisesRegex(UmbrateError, "does not exist"):
            check_job(self.folder.parent / "nowhere")


class Tidying(unittest.TestCase):
    def setUp(self):
        self.job = Job.create(scratch() / "j")
        self.addCleanup(self.job.close)
        self.sitting, _ = self.job.add_sitting("A", [record("/p/a.jpg")])

    def commit(self, sitting, key):
        self.job.commit_result(sitting.id, "masks", "f", {}, {}, [], {("mask", 1): key}, 1.0)

    def test_results_of_a_removed_sitting_wait_for_an_undo_and_go_with_it(self):
        job = self.job
        key = job.blobs.put_bytes(b"mask" * 1000)
        self.commit(self.sitting, key)
        job.remove_sitting(self.sitting.id)
        before = document(job)
        self.assertEqual((job.tidy().results, job.blobs.has(key)), (0, True))
        told = job.would_tidy(keep_steps=0)
        self.assertEqual((told.results, told.blobs), (1, (1, 4000)))
        self.assertTrue(job.blobs.has(key))
        with Job.open(job.folder, writable=False) as reader:  # also while the job is open elsewhere
            self.assertEqual(reader.would_tidy(keep_steps=0), told)
        self.assertEqual(document(job), before)
        self.assertEqual(job.undo_steps(), 2)
        done = job.tidy(keep_steps=0)
        self.assertEqual((done.steps, done.results, done.blobs), (2, 1, (1, 4000)))
        self.assertFalse(job.blobs.has(key))
        self.assertEqual(job.undo_labels(), (None, None))

    def test_undo_keeps_so_many_steps_and_the_last_of_them_work(self):
        for k in range(MOST_STEPS + 20):
            self.job.rename_sitting(self.sitting.id, f"name {k}")
        self.assertEqual(self.job.undo_steps(), MOST_STEPS)
        while self.job.undo():
            pass
        self.assertEqual(self.job.sittings()[0].name, "name 19")
        self.assertEqual(self.job.db.execute("SELECT count(DISTINCT step_id) FROM inverse").fetchone()[0], MOST_STEPS)

    def test_what_the_dead_left_goes_at_the_next_opening(self):
        folder, key = self.job.folder, self.job.blobs.put_bytes(b"x")
        part = self.job.blobs.path(key).parent / f"{PART}abc"
        for name in ("film 12ab", ".tmp9", "gone 77"):
            (folder / "frames" / name).mkdir(parents=True)
            (folder / "frames" / name / "f.jpg").write_bytes(b"j" * 100)
            if not name.startswith("."):
                os.utime(folder / "frames" / name, (1, 1))
        self.job.add_sitting("B", [record(str(folder / "frames" / "film 12ab" / "f.jpg"))])
        part.write_bytes(b"half")
        self.commit(self.sitting, key)
        self.job.close()
        self.assertEqual(sorted(p.name for p in (folder / "frames").iterdir()), [".tmp9", "film 12ab"])
        self.assertTrue(part.exists())  # new: it might have been somebody's
        with Job.open(folder, writable=False):
            self.assertTrue(part.exists())
        with Job.open(folder) as job:
            self.assertFalse(part.exists())
            self.assertEqual([p.name for p in (folder / "frames").iterdir()], ["film 12ab"])
            self.assertTrue(job.blobs.has(key))

    def test_a_job_whose_making_was_killed_goes_when_the_next_is_made_beside_it(self):
        home = scratch()
        left = {".making-old": ["job.sqlite"], ".making-mine": ["job.sqlite", "letter.txt"], ".making-new": []}
        for name, files in left.items():
            (home / name / "blobs").mkdir(parents=True)
            for f in files:
                (home / name / f).write_bytes(b"")
            if name != ".making-new":
                os.utime(home / name, (1, 1))
        Job.create(home / "j").close()
        self.assertEqual(sorted(p.name for p in home.iterdir()), [".making-mine", ".making-new", "j.umbrate"])


class TheDead(unittest.TestCase):
    def run_and_kill(self, code, *arguments):
        """Run Python code that prints a line when it is where it is to be killed; the line."""
        env = {**os.environ, "PYTHONPATH": f"{ROOT / 'src'}{os.pathsep}{ROOT}"}
        p = subprocess.Popen([sys.executable, "-c", code, *map(str, arguments)], env=env, stdout=subprocess.PIPE)
        line = p.stdout.readline().decode().strip()
        os.kill(p.pid, signal.SIGKILL)
        p.wait()
        p.stdout.close()
        return line

    def test_the_worker_ends_with_its_parent_whatever_it_computes(self):
        code = """
import time
from tests.test_upkeep import busy
from umbrate.work.worker import Worker
if __name__ == "__main__":
    w = Worker(); w.submit(busy)
    while not w.poll(0.1): pass
    print(w.pid, flush=True); time.sleep(60)
"""
        file = scratch() / "parent.py"
        file.write_text(code)
        pid = int(self.run_and_kill(f"import runpy; runpy.run_path({str(file)!r}, run_name='__main__')"))
        end = time.monotonic() + 10
        while os.path.exists(f"/proc/{pid}") and time.monotonic() < end:
            time.sleep(0.05)
        self.assertFalse(os.path.exists(f"/proc/{pid}"))

    def test_a_half_written_file_is_removed_at_the_next_start(self):
        folder = scratch()
        code = """
import sys, time
from pathlib import Path
from umbrate.formats.files import written_aside
with written_aside(Path(sys.argv[1]) / "c.ply") as part:
    part.write_text("half")
    print(part, flush=True); time.sleep(60)
"""
        part = Path(self.run_and_kill(code, folder))
        self.assertEqual([p for p in folder.iterdir()], [part])
        mine = folder / ".part-mine.txt"
        mine.write_text("no note tells of it")
        code = """
import sys, time
from pathlib import Path
from umbrate.formats.parts import DELIVERY, note_part
for name in (f"{DELIVERY}1-x", "photos"):
    (Path(sys.argv[1]) / name).mkdir()
    (Path(sys.argv[1]) / name / "f.txt").write_text("half")
    note_part(Path(sys.argv[1]) / name)
print("", flush=True); time.sleep(60)
"""
        beside = scratch()
        self.run_and_kill(code, beside)
        remove_left_parts()
        self.assertEqual([p.name for p in beside.iterdir()], ["photos"])
        self.assertEqual([p for p in folder.iterdir()], [mine])


def busy(report):
    """Work that does not look whether anybody still wants it."""
    report.progress(0.1, "begun")
    end = time.monotonic() + 60
    while time.monotonic() < end:
        np.ones(1000).sum()


class Texts(unittest.TestCase):
    def test_no_cell_is_a_formula_and_names_come_back_as_they_were(self):
        for text in ("=1+1", "+A1", "-2+3", "@SUM(A1)", "\t=1", " =HYPERLINK(1)", "'=x"):
            self.assertEqual(disarmed(text)[0], "'")
            self.assertEqual(armed(disarmed(text)), text)
        self.assertEqual((disarmed(-2.5), disarmed(None)), (-2.5, None))
        for kept in ("-1.25", "+3e5", "A=1", "", "plain", "'quoted"):
            self.assertEqual(disarmed(kept), kept)
            self.assertEqual(armed(kept), kept)
        file, names = scratch() / "p.csv", ["=cmd|' /C calc'!A0", "-3", "P-1"]
        write_coordinates(file, [(n, (1.0, -2.0, 3.0), (0.1,) * 3) for n in names])
        with open(file, newline="") as f:
            rows = list(csv.reader(f))[1:]
        self.assertEqual([r[0] for r in rows], [f"'{names[0]}", *names[1:]])
        self.assertEqual([p.name for p in read_coordinates(file)], names)

    def test_files_of_text_are_read_whole_or_refused(self):
        folder = scratch()
        bad = {"deep.json": b"[" * 100_000, "cut.json": b'{"a": [1,', "bytes.json": b"\xff\xfe\x00", "empty.json": b""}
        for name, data in bad.items():
            (folder / name).write_bytes(data)
            with self.assertRaises(UmbrateError):
                read_json(folder / name)
        with open(folder / "large", "wb") as f:
            f.truncate(10**12)
        started = time.monotonic()
        with self.assertRaisesRegex(UmbrateError, "more than 50 MB"):
            read_text(folder / "large")
        self.assertLess(time.monotonic() - started, 5)
        (folder / "lines.csv").write_text("a,b\n" + "\n".join("1," * (k % 4000) for k in range(20_000)))
        with self.assertRaises(UmbrateError):
            read_coordinates(folder / "lines.csv")


if __name__ == "__main__":
    unittest.main()
