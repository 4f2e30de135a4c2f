"""What the program promises of the user's files and jobs: whatever a job holds, whatever happens to its folder."""

import ast
import errno
import io
import json
import os
import sqlite3
import subprocess
import sys
import tracemalloc
import unittest
import zipfile
from contextlib import closing
from pathlib import Path
from unittest import mock

import numpy as np

import umbrate.stages  # noqa: F401  (describes the figures of results)
from tests.scenes import scratch
from tests.test_job import document, record
from tests.test_stages import job_with
from umbrate.core.errors import UmbrateError
from umbrate.job import schema
from umbrate.job.contents import (
    BLOCK,
    CLOUD,
    COVARIANCE,
    DEPTH_MAP,
    FEATURES,
    LIGHT,
    MATCHES,
    PAIRS,
    SURFACE,
)
from umbrate.job.database import StoreError
from umbrate.job.folder import JobInUse, JobReadOnly
from umbrate.job.store import Job
from umbrate.job.undo import literals

ROOT = Path(__file__).resolve().parents[1]


def tampered(folder, *statements):
    """Change a job's database as another program would."""
    with closing(sqlite3.connect(folder / "job.sqlite", isolation_level=None)) as db:
        for s in statements:
            db.execute(s)


class FromAStranger(unittest.TestCase):
    def setUp(self):
        self.home = scratch()
        self.job = Job.create(self.home / "j")
        self.sitting, _ = self.job.add_sitting("A", [record("/p/a.jpg"), record("/p/b.jpg")])
        self.folder = self.job.folder
        self.addCleanup(self.job.close)
        self.valuable = self.home / "valuable"
        (self.valuable / "ab").mkdir(parents=True)
        for name in ("letter.txt", "ab/" + "a" * 64, "ab/thesis.txt", ".part-x"):
            (self.valuable / name).write_text("mine")
            os.utime(self.valuable / name, (1, 1))

    def untouched(self):
        return all(f.read_text() == "mine" for f in self.valuable.rglob("*") if f.is_file()) and (
            len([f for f in self.valuable.rglob("*") if f.is_file()]) == 4
        )

    def test_nothing_in_a_job_is_followed_through_a_link_and_only_blobs_are_removed(self):
        blobs = self.folder / "blobs"
        (blobs / "ab").symlink_to(self.valuable / "ab")
        (blobs / "cd").mkdir()
        keep = ["notes.txt", "f" * 63, "F" * 64]
        for name in (*keep, "e" * 64, ".part-1"):
            (blobs / "cd" / name).write_text("x")
            os.utime(blobs / "cd" / name, (1, 1))
        (blobs / "cd" / ("d" * 64)).symlink_to(self.valuable / "letter.txt")
        (blobs / "cd" / ".part-new").write_text("x")  # somebody writes it now
        (self.folder / "known").symlink_to(self.valuable)
        with self.assertRaisesRegex(UmbrateError, "link"):
            for k in range(600):  # some key begins with ab
                self.job.blobs.put_bytes(b"%d" % k)
        self.job.blobs.remember("mark", "a" * 64)
        self.assertEqual(self.job.blobs.recall("mark", LIGHT), (None, None))
        self.job.close()
        self.assertTrue(self.untouched())
        left = sorted(f.name for f in (blobs / "cd").iterdir())
        self.assertEqual(left, sorted([*keep, "d" * 64, ".part-new"]))
        with self.assertRaisesRegex(UmbrateError, "known in it leads elsewhere"):
            Job.open(self.folder)
        (self.folder / "known").unlink()
        os.rename(blobs, self.home / "blobs-elsewhere")
        blobs.symlink_to(self.valuable)
        for writable in (True, False):
            with self.assertRaisesRegex(UmbrateError, "blobs in it leads elsewhere"):
                Job.open(self.folder, writable=writable)
        self.assertTrue(self.untouched())
        blobs.unlink()
        os.rename(self.home / "blobs-elsewhere", blobs)
        for name in ("job.sqlite-wal", "lock"):
            (self.folder / name).unlink(missing_ok=True)
            (self.folder / name).symlink_to(self.valuable / "letter.txt")
            with self.assertRaisesRegex(UmbrateError, "a link"):
                Job.open(self.folder)
            (self.folder / name).unlink()
        os.mkfifo(self.folder / "lock")  # must not make anybody wait
        with self.assertRaisesRegex(UmbrateError, "no file"):
            Job.open(self.folder)
        self.assertTrue(self.untouched())

    def test_blobs_are_read_and_written_by_their_names_alone(self):
        secret = self.home / "secret"
        secret.write_text("s")
        for key in ("../../../secret", str(secret), "", None, "a" * 64 + "/../x"):
            with self.assertRaises(UmbrateError):
                self.job.blobs.get_bytes(key)
        for mark in ("../x", "a/b", ""):
            self.job.blobs.remember(mark, "k")
            self.assertEqual(self.job.blobs.recall(mark, LIGHT), (None, None))
        self.assertFalse((self.folder / "x").exists())

    def test_arrays_are_what_they_should_be_or_are_not_read(self):
        job, s = job_with(scratch() / "whole", "photos", "masks", "lens", "poses", "cloud", "surface")
        self.addCleanup(job.close)
        r = {n: job.result(s.id, n) for n in ("poses", "cloud", "surface")}
        photo = job.photos(s.id)[0].id
        kept = (
            (BLOCK, r["poses"].blob("block")), (PAIRS, r["poses"].blob("pairs")), (MATCHES, r["poses"].blob("matches")),
            (FEATURES, r["poses"].blob("features", photo)), (COVARIANCE, r["poses"].blob("covariance")),
            (DEPTH_MAP, r["cloud"].blob("depth", photo)), (CLOUD, job.cloud(s.id).blob),
            (SURFACE, job.surface(s.id).blob),
        )  # fmt: skip
        for kind, key in kept:
            whole = job.blobs.get_arrays(key, kind)
            self.assertEqual(set(whole), set(kind.arrays))  # it knows of all that is written
            for name, of in kind.arrays.items():
                a, wrong = whole[name], []
                wrong.append(a.astype("S8") if a.dtype.kind != "S" else a)
                wrong.append(a[..., None])
                wrong.append(a.astype(a.dtype.newbyteorder()) if a.itemsize > 1 else a.astype(np.int32))
                if a.ndim and len(of.shape) > 1:
                    wrong.append(a[:, :-1])
                if of.below:
                    for value in (of.least - 1, 10**6):
                        wrong.append(a.copy())
                        wrong[-1].flat[a.size // 2] = value
                if of.kind.startswith("f") and not of.open:
                    for value in (np.nan, np.inf, 1e12):
                        wrong.append(a.copy())
                        wrong[-1].flat[a.size // 2] = value if a.dtype != np.float16 else np.nan
                for x in wrong:
                    with self.subTest(name, x=x.dtype, shape=x.shape), self.assertRaisesRegex(UmbrateError, "damaged"):
                        job.blobs.get_arrays(job.blobs.put_arrays(**{**whole, name: x}), kind)
                if not of.optional:
                    less = {k: v for k, v in whole.items() if k != name}
                    with self.assertRaisesRegex(UmbrateError, f"no “{name}”"):
                        job.blobs.get_arrays(job.blobs.put_arrays(**less), kind)
        starts = job.blobs.get_arrays(kept[1][1], PAIRS)
        for change in (lambda x: x[::-1], lambda x: x + 1, lambda x: x[:-1]):
            key = job.blobs.put_arrays(**{**starts, "start": change(starts["start"])})
            with self.assertRaisesRegex(UmbrateError, "fit together"):
                job.blobs.get_arrays(key, PAIRS)

    def test_an_archive_takes_no_more_memory_than_it_has_bytes(self):
        zeros = np.zeros((40_000_000, 3), np.float16)
        packed = io.BytesIO()
        np.savez_compressed(packed, light=zeros[:, None])
        self.assertLess(len(packed.getvalue()), 10**6)
        head = io.BytesIO()
        np.lib.format.write_array_header_1_0(head, {"descr": "<f2", "fortran_order": False, "shape": (2**40, 8, 3)})
        lying = io.BytesIO()
        with zipfile.ZipFile(lying, "w") as z:
            z.writestr("light.npy", head.getvalue() + bytes(100))
        objects = io.BytesIO()
        np.savez(objects, light=np.array([[[print]]], object))
        tracemalloc.start()
        for data in (packed.getvalue(), lying.getvalue(), objects.getvalue()):
            with self.assertRaisesRegex(UmbrateError, "damaged"):
                self.job.blobs.get_arrays(self.job.blobs.put_bytes(data), LIGHT)
        self.assertLess(tracemalloc.get_traced_memory()[1], 20e6)
        tracemalloc.stop()

    def test_nothing_is_unpickled(self):
        names = {"pickle", "cPickle", "dill", "cloudpickle", "shelve", "joblib", "marshal", "jsonpickle", "yaml"}
        # work items of this program's own processes, and nothing of a job
        messages = {ROOT / "src" / "umbrate" / "work" / f for f in ("away.py", "cluster.py")}
        for file in set((ROOT / "src").rglob("*.py")) - messages:
            for node in ast.walk(ast.parse(file.read_text())):
                if isinstance(node, ast.Import):
                    found = {a.name.split(".")[0] for a in node.names}
                elif isinstance(node, ast.ImportFrom):
                    found = {(node.module or "").split(".")[0]}
                elif isinstance(node, ast.Call):
                    called = ast.unparse(node.func)
                    self.assertNotIn(called, ("np.load", "eval", "exec"), file)
                    self.assertNotIn("allow_pickle=True", ast.unparse(node), file)
                    continue
                else:
                    continue
                self.assertFalse(found & names, f"{file.name}:{node.lineno}")

    def test_undo_is_data_that_is_checked_and_never_a_statement(self):
        self.job.set_aside([1], True)
        before = document(self.job)
        self.job.close()
        other = self.home / "made.sqlite"
        wrong = (
            "UPDATE inverse SET tbl = 'meta'", "UPDATE inverse SET tbl = 'photo; DROP TABLE photo'",
            "UPDATE inverse SET act = 'attach'", f"UPDATE inverse SET old = 'ATTACH ''{other}'' AS x'",
            "UPDATE inverse SET old = '1'", "UPDATE inverse SET row = 'x'", "UPDATE inverse SET old = NULL",
            "UPDATE inverse SET old = old || ',1'", "UPDATE inverse SET row = 77", "UPDATE inverse SET old = x'00ff'",
        )  # fmt: skip
        whole = (self.folder / "job.sqlite").read_bytes()
        for statement in wrong:
            (self.folder / "job.sqlite").write_bytes(whole)
            tampered(self.folder, statement)
            with Job.open(self.folder) as job:
                with self.assertRaisesRegex(UmbrateError, "cannot be taken back", msg=statement):
                    job.undo()
                self.assertEqual(document(job), before)
        self.assertFalse(other.exists())
        (self.folder / "job.sqlite").write_bytes(whole)
        with Job.open(self.folder) as job:
            self.assertEqual(job.undo(), "set aside 1 photo")

    def test_literals_are_read_as_sqlite_writes_them(self):
        values = [None, 0, -7, 2**62, 0.1, -1e-300, 1.5e300, 1 / 3, 100.0, "", "it's, 'x'", "a,b,NULL", "ä\n1"]
        with closing(sqlite3.connect(":memory:")) as db:
            marks = " || ',' || ".join(["quote(?)"] * len(values))
            (text,) = db.execute(f"SELECT {marks}", values).fetchone()
        self.assertEqual(literals(text), values)
        for bad in ("", "1,", ",1", "'a", "1 OR 1", "x'00'", "abs(1)", "1;2", "'a''", "nan"):
            with self.assertRaises(ValueError, msg=bad):
                literals(bad)

    def test_a_schema_that_is_not_ours_is_refused_or_read_only(self):
        self.job.close()
        whole = (self.folder / "job.sqlite").read_bytes()
        endless = "WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM c) SELECT x FROM c"
        refused = (
            ("DROP TABLE role", f"CREATE VIEW role AS SELECT x AS number, 'a' AS role FROM ({endless})"),
            ("DROP TABLE meta", f"CREATE VIEW meta AS SELECT 'version' AS key, x AS value FROM ({endless})"),
            ("CREATE TRIGGER more AFTER INSERT ON step BEGIN DELETE FROM photo; END",),
            ("DROP TRIGGER record_photo_update",),
            ("DROP TRIGGER record_photo_update", "CREATE TRIGGER record_photo_update AFTER UPDATE ON photo BEGIN "
             "DELETE FROM sitting; END"),
            ("ALTER TABLE photo ADD COLUMN more",), ("DROP TABLE desk",),
            ("DROP TABLE desk", "CREATE VIRTUAL TABLE desk USING fts5(key, value)"),
        )  # fmt: skip
        for statements in refused:
            (self.folder / "job.sqlite").write_bytes(whole)
            tampered(self.folder, *statements)
            for writable in (True, False):
                with self.assertRaisesRegex(UmbrateError, "is not opened", msg=statements[0]):
                    Job.open(self.folder, writable=writable)
        (self.folder / "job.sqlite").write_bytes(whole)
        tampered(self.folder, "CREATE TABLE notes (x)")
        with Job.open(self.folder) as job:
            self.assertEqual(len(job.photos(self.sitting.id)), 2)
            with self.assertRaisesRegex(UmbrateError, "holds a table “notes”"):
                job.set_aside([1], True)
        (self.folder / "job.sqlite").write_bytes(whole)
        with Job.open(self.folder) as job:  # none of the refusals kept the lock
            for statement in ("ATTACH 'x' AS x", "PRAGMA user_version = 3", "CREATE TABLE t (x)", "DROP TABLE photo"):
                with self.assertRaises(StoreError):
                    job.db.execute(statement)

    def test_names_in_an_older_job_become_identities_and_its_history_is_forgotten(self):
        job, s = self.job, self.sitting
        ids = [job.add_marked_point(s.id, n) for n in ("P1", "Tip")]
        other, _ = job.add_sitting("B", [])
        twin = job.add_marked_point(other.id, "P1")
        row = job.add_joined([s.id, other.id])
        job.close()
        level = json.dumps({"up": {"ends": ["P1", "Tip", "208"]}, "origin": "Tip", "along": ["208", "P1"]})
        figures = json.dumps({"lengths": [{"first": "P1", "second": "208"}], "marks": {"Tip": 0.3}, "known": {}})
        tampered(
            self.folder, "DROP TABLE inverse", "DROP TABLE mending", "DROP TABLE surface", "DROP TABLE target",
            "DROP TABLE section", "DROP TABLE seen", "DROP TABLE earlier",
            "CREATE TABLE inverse (id INTEGER PRIMARY KEY, step_id INTEGER NOT NULL, statement TEXT NOT NULL)",
            "INSERT INTO inverse (step_id, statement) VALUES (1, 'DELETE FROM photo')",
            *(f"DROP TRIGGER record_{t}_{e}" for t in ("length", "level", "measurement", "pick", "mark", "sitting",
                                                       "photo") for e in ("insert", "update", "delete")),
            "INSERT INTO length (sitting_id, first, second, value_mm, sigma_mm, role) VALUES "
            f"({row.id}, 'P1 (B)', 'Tip', 5, 1, 'scale')",
            f"INSERT INTO measurement (sitting_id, name, kind, ends) VALUES ({s.id}, 'M1', 'distance', "
            "'[\"P1\", {\"cloud\": [1, 2, 3]}]')",
            f"INSERT INTO level VALUES ({s.id}, '{level}')",
            f"INSERT INTO pick (sitting_id, name, places) VALUES ({row.id}, 'A', "
            f"'{{\"{s.id}\": {{\"mark\": \"P1\"}}, \"{other.id}\": {{\"mark\": \"P1\"}}}}')",
            "INSERT INTO result (sitting_id, stage, fingerprint, settings, figures, problems, seconds, made) VALUES "
            f"({s.id}, 'scale', 'f', '{{}}', '{figures}', '[]', 1, 'x')",
            "INSERT INTO ledger (moment, sitting, stage, settings, seconds, outcome, figures, message) VALUES "
            "('x', 'A', 'poses', '{}', 1, 'done', '{}', '')",
            "ALTER TABLE ledger DROP COLUMN sitting_id",
            "UPDATE meta SET value = '8' WHERE key = 'version'",
        )  # fmt: skip
        with Job.open(self.folder) as job:
            self.assertTrue(job.writable)
            self.assertIn("no longer be undone", job.note)
            (length,) = job.lengths(row.id)
            self.assertEqual((length.first, length.second), (f"@{twin}", f"@{ids[1]}"))
            self.assertEqual(job.measurements(s.id)[0].ends, (f"@{ids[0]}", {"cloud": [1, 2, 3]}))
            self.assertEqual(job.level(s.id)["up"]["ends"], [f"@{ids[0]}", f"@{ids[1]}", "208"])
            self.assertEqual(job.level(s.id)["origin"], f"@{ids[1]}")
            places = job.picks(row.id)[0].places
            self.assertEqual(places, {s.id: {"mark": f"@{ids[0]}"}, other.id: {"mark": f"@{twin}"}})
            self.assertEqual(job.result(s.id, "scale").figures.marks, {f"@{ids[1]}": 0.3})
            self.assertEqual(job.ledger()[-1].sitting_id, s.id)
            self.assertIsNone(job.undo())
            self.assertEqual(len(job.photos(s.id)), 2)
            job.rename_marked_point(twin, "Foot")
            self.assertEqual(job.end_names(row.id)[length.first], "Foot")
        with Job.open(self.folder) as job:
            self.assertEqual(job.note, "")


class WhateverHappens(unittest.TestCase):
    def setUp(self):
        self.home = scratch()
        self.job = Job.create(self.home / "j")
        self.addCleanup(self.job.close)
        self.sitting, _ = self.job.add_sitting("A", [record("/p/a.jpg")])

    def test_a_folder_that_was_moved_while_open_gets_no_results_and_leaves_no_ghost(self):
        job = self.job
        os.rename(job.folder, self.home / "moved.umbrate")
        for act in (
            lambda: job.set_aside([1], True), lambda: job.blobs.put_bytes(b"x"),
            lambda: job.commit_result(self.sitting.id, "poses", "f", {}, {}, [], {}, 1.0),
        ):  # fmt: skip
            with self.assertRaisesRegex(UmbrateError, "moved, renamed"):
                act()
        job.blobs.remember("mark", "k")
        self.assertFalse(job.folder.exists())
        # another job at the old place is not written to either
        Job.create(job.folder).close()
        with self.assertRaisesRegex(UmbrateError, "moved, renamed"):
            job.set_aside([1], True)
        job.close()
        with Job.open(self.home / "moved") as again:
            self.assertFalse(again.photos(self.sitting.id)[0].aside)
            self.assertIsNone(again.result(self.sitting.id, "poses"))

    def test_errors_of_the_database_are_sentences_with_a_way_on(self):
        job, real = self.job, sqlite3.Cursor.execute
        for code, said in (
            (sqlite3.SQLITE_FULL, "disk is full"), (sqlite3.SQLITE_BUSY, "locked by another program"),
            (sqlite3.SQLITE_READONLY, "cannot be written"), (sqlite3.SQLITE_CORRUPT, "damaged"),
            (sqlite3.SQLITE_IOERR, "could not be read or written"),
        ):  # fmt: skip
            error = sqlite3.OperationalError("told")
            error.sqlite_errorcode = code

            def fail(self, sql, *values, error=error):
                if sql.startswith("UPDATE photo"):
                    raise error
                return real(self, sql, *values)

            from umbrate.job import database

            with mock.patch.object(database.Cursor, "execute", database._said(fail)):
                with self.assertRaisesRegex(UmbrateError, said):
                    job.set_aside([1], True)
            self.assertFalse(job.photos(self.sitting.id)[0].aside)
            self.assertEqual(job.undo_labels(), ("add 1 photos to “A”", None))
        # a real one: somebody else holds the database
        with closing(sqlite3.connect(job.folder / "job.sqlite", isolation_level=None)) as other:
            other.execute("BEGIN IMMEDIATE")
            with mock.patch("umbrate.job.database.WAIT_S", 0.1):
                sqlite3.Connection.set_authorizer(job.db, None)
                sqlite3.Connection.execute(job.db, "PRAGMA busy_timeout = 100")
                job.db.guard()
                with self.assertRaisesRegex(UmbrateError, "locked by another program"):
                    job.set_aside([1], True)
            other.execute("ROLLBACK")
        job.set_aside([1], True)

    def test_the_lock_is_given_back_whatever_goes_wrong(self):
        job = self.job
        (job.folder / "blobs" / "stray").write_text("x")
        (job.folder / "blobs" / "ab").mkdir()
        (job.folder / "blobs" / "ab" / "folder").mkdir()
        with mock.patch.object(job, "tidy", side_effect=RuntimeError("why ever")):
            job.close()
        with Job.open(job.folder) as again:
            again.blobs.put_bytes(b"y")
        self.assertTrue((job.folder / "blobs" / "stray").exists())
        tampered(job.folder, "DROP TABLE seen")
        with self.assertRaisesRegex(UmbrateError, "missing"):
            Job.open(job.folder)
        tampered(job.folder, schema.LATER[2])
        again = Job.open(job.folder)
        with self.assertRaises(JobInUse):
            Job.open(job.folder)
        again.close()

    def test_a_medium_that_cannot_be_written_to_is_read(self):
        job = self.job
        job.close()
        real = os.open

        def denied(path, flags, *more, **named):
            if flags & (os.O_RDWR | os.O_WRONLY | os.O_CREAT) and "umbrate-reading" not in str(path):
                raise OSError(errno.EROFS, "Read-only file system", path)
            return real(path, flags, *more, **named)

        with mock.patch("umbrate.job.folder.os.open", denied), self.assertRaisesRegex(JobReadOnly, "Read-only"):
            Job.open(job.folder)
        from umbrate.job import store

        connect, asked = store.connect, []

        def no_shared_memory(file, **how):
            asked.append(file)
            if file.parent == job.folder:
                raise sqlite3.OperationalError("unable to open database file")
            return connect(file, **how)

        with mock.patch.object(store, "connect", no_shared_memory), Job.open(job.folder, writable=False) as again:
            self.assertEqual([p.name for p in again.photos(self.sitting.id)], ["a.jpg"])
            self.assertFalse(again.writable)
            copy = asked[-1].parent
            self.assertTrue(copy.is_dir())
        self.assertFalse(copy.exists())

        def no_room(file, **how):
            error = sqlite3.OperationalError("disk I/O error")
            error.sqlite_errorcode = sqlite3.SQLITE_IOERR_SHMSIZE
            raise error

        # a job on a full disk is not called damaged
        with mock.patch.object(store, "connect", no_room), self.assertRaisesRegex(JobReadOnly, "disk is full"):
            Job.open(job.folder)

    def test_a_job_that_was_killed_while_it_was_made_can_be_made_again(self):
        code = (
            "import os, sys, signal, sqlite3; from umbrate.job import store\n"
            "store.now = lambda: os.kill(os.getpid(), signal.SIGKILL)\n"
            "store.Job.create(sys.argv[1])"
        )
        place = self.home / "new"
        for _ in range(2):
            subprocess.run([sys.executable, "-c", code, str(place)], check=False)
            self.assertFalse(place.with_suffix(".umbrate").exists())
        Job.create(place).close()
        # as an earlier version left it: a folder with an empty database
        half = self.home / "half.umbrate"
        (half / "blobs").mkdir(parents=True)
        sqlite3.connect(half / "job.sqlite").close()
        (half / "job.sqlite").touch()
        Job.create(half).close()
        for other in ("photo.jpg", "blobs/x"):
            keep = self.home / f"keep-{other[:5]}.umbrate"
            (keep / "blobs").mkdir(parents=True)
            (keep / other).write_text("mine")
            with self.assertRaisesRegex(UmbrateError, "there already"):
                Job.create(keep)
            self.assertEqual((keep / other).read_text(), "mine")

    def test_names_that_no_file_system_or_table_takes_are_refused_with_a_sentence(self):
        job = self.job
        for name in ("x" * 250, "\udce4.umbrate", "a\0b"):
            with self.assertRaises(UmbrateError):
                Job.create(self.home / name)
            with self.assertRaises(UmbrateError):
                Job.open(self.home / name)
        point = job.add_marked_point(self.sitting.id)
        for name in ("x" * 250, "a\udce4", "a\0b", "  ", "\x1b[31m"):
            for act in (
                lambda n: job.add_sitting(n, []), lambda n: job.rename_sitting(self.sitting.id, n),
                lambda n: job.move_photos([1], n), lambda n: job.rename_marked_point(point, n),
                lambda n: job.add_marked_point(self.sitting.id, n),
                lambda n: job.add_measurement(self.sitting.id, "distance", ["1", "2"], n),
                lambda n: job.keep_section(self.sitting.id, (0, 0, 0), (0, 0, 1), n),
            ):  # fmt: skip
                with self.assertRaises(UmbrateError, msg=repr(name)):
                    act(name)
        bad = record("/p/\udce4.jpg")
        with self.assertRaisesRegex(UmbrateError, "no plain text"):
            job.add_sitting("A", [bad])
        self.assertEqual(len(job.photos(self.sitting.id)), 1)

    def test_numbers_that_are_none_are_refused_at_the_door(self):
        job, s = self.job, self.sitting.id
        inf, nan = float("inf"), float("nan")
        point = job.add_marked_point(s, "P1")
        before = document(job)
        for x in (inf, -inf, nan, "ten", 1e300, None):
            for act in (
                lambda v: job.add_length(s, "1", "2", v), lambda v: job.add_length(s, "1", "2", 5.0, v),
                lambda v: job.set_marked_point(point, known=(0, v, 0)),
                lambda v: job.set_marked_point(point, known=(0, 0, 0), known_sigma=(1, 1, v)),
                lambda v: job.set_known_target(s, 5, (v, 0, 0)), lambda v: job.set_sighting(point, 1, v, 0),
                lambda v: job.set_sighting(point, 1, 0, 0, v if v is not None else nan),
                lambda v: job.take_known_points(s, [("Q", (0, 0, v), (1, 1, 1))]),
            ):  # fmt: skip
                with self.assertRaises(UmbrateError, msg=repr(x)):
                    act(x)
        self.assertEqual(document(job), before)
        self.assertIsNotNone(job.undo())
        self.assertIsNotNone(job.redo())


class OneTransaction(unittest.TestCase):
    def test_a_result_and_what_hangs_on_it_appear_together(self):
        for stage, artefacts in (("cloud", {("cloud", None): "c" * 64}), ("join", {})):
            for step in range(1, 12):
                with Job.create(scratch() / "j") as job:
                    a, _ = job.add_sitting("A", [])
                    b, _ = job.add_sitting("B", [])
                    row = job.add_joined([a.id, b.id])
                    labels, real, count = job.undo_labels(), type(job.db).execute, [0]

                    def dying(db, sql, values=(), *, step=step, real=real, count=count):
                        if sql.split()[0] in ("INSERT", "UPDATE", "DELETE", "COMMIT"):
                            count[0] += 1
                            if count[0] == step:
                                raise KeyboardInterrupt
                        return real(db, sql, values)

                    with mock.patch.object(type(job.db), "execute", dying):
                        try:
                            job.commit_result(row.id, stage, "f", {}, {"points": 3}, [], artefacts, 1.0, keeps=stage)
                            whole = True
                        except KeyboardInterrupt:
                            whole = False
                    there = (
                        job.result(row.id, stage) is not None,
                        bool(job.clouds(row.id)) if stage == "cloud" else job.join_found(row.id) is not None,
                        job.undo_labels() != labels, bool(job.ledger()),
                    )  # fmt: skip
                    self.assertEqual(there, (whole,) * 4, (stage, step))


class CommandsAreWhole(unittest.TestCase):
    def test_every_folder_name_leads_where_it_should(self):
        from umbrate.core.names import file_name

        taken = set()
        for text in ("..", ".", "", "a/b", "../../etc", "x" * 300, "ä" * 150, "con\0", "\udce4", "Top", "top"):
            name = file_name(text, taken)
            taken.add(name.lower())
            self.assertEqual(Path("/home") / name, Path("/home", name))
            self.assertEqual((Path("/home") / name).resolve().parent, Path("/home"))
            self.assertLess(len(name.encode()), 200)
        self.assertEqual(len(taken), 11)


if __name__ == "__main__":
    unittest.main()
