"""The job on disk: nothing half, nothing lost, everything undoable."""

import json
import os
import random
import sqlite3
import subprocess
import sys
import unittest
from contextlib import closing
from pathlib import Path
from unittest import mock

import numpy as np

import umbrate.stages  # noqa: F401  (describes the figures of results)
from tests.scenes import scratch
from umbrate.core.errors import UmbrateError
from umbrate.job import schema, store
from umbrate.job.blobs import LARGE, BlobStore
from umbrate.job.contents import Kind, Of
from umbrate.job.folder import JobInUse
from umbrate.job.store import Job
from umbrate.job.undo import TABLES


def record(path, size=10, **more):
    """What a job stores of a photo file."""
    facts = {
        "name": Path(path).name, "path": str(path), "size": size, "hash": f"h{size}-{path}", "width": 640,
        "height": 480, "orientation": 1, "make": "M", "model": "M 1", "lens": "", "focal_mm": None, "focal_35mm": 50.0,
        "taken": None,
    }  # fmt: skip
    return {**facts, **more}


def document(job):
    """All that undo covers, as plain rows."""
    return {
        t: job.db.execute(f"SELECT rowid, {', '.join(c)} FROM {t} ORDER BY rowid").fetchall() for t, c in TABLES.items()
    }


class OnDisk(unittest.TestCase):
    def setUp(self):
        self.folder = scratch()
        self.job = Job.create(self.folder / "bird")
        self.addCleanup(self.job.close)

    def test_sittings_and_photos_come_back_after_reopening_and_moving(self):
        photos = self.folder / "photos"
        sitting, added = self.job.add_sitting("Upright", [record(photos / "a b [1] ä.jpg"), record("/elsewhere/x.jpg")])
        self.assertEqual(added, 2)
        self.assertEqual(self.job.add_sitting("Upright", [record(photos / "a b [1] ä.jpg")])[1], 0)
        self.job.remember(stage="poses", photo=1)
        self.job.close()
        moved = self.folder / "moved"
        moved.mkdir()
        os.rename(self.folder / "bird.umbrate", moved / "bird.umbrate")
        with Job.open(moved / "bird") as job:
            first, second = job.photos(sitting.id)
            # the folder beside moved along with the job, the one elsewhere did not
            self.assertEqual(job.photo_path(first), moved / "photos" / "a b [1] ä.jpg")
            self.assertEqual(job.photo_path(second), Path("/elsewhere/x.jpg"))
            self.assertEqual(job.desk_state(), {"stage": "poses", "photo": 1})

    def test_a_file_that_changed_replaces_its_own_record(self):
        sitting, _ = self.job.add_sitting("A", [record("/p/a.jpg")])
        before = self.job.photos(sitting.id)[0]
        self.job.add_sitting("A", [record("/p/a.jpg", size=77, width=800)])
        (after,) = self.job.photos(sitting.id)
        self.assertEqual((after.id, after.size, after.width), (before.id, 77, 800))
        self.job.undo()
        self.assertEqual(self.job.photos(sitting.id), [before])

    def test_one_writer_others_read(self):
        code = (
            "import sys; from umbrate.job.store import Job, JobInUse\n"
            "try: Job.open(sys.argv[1])\n"
            "except JobInUse as e: print('in use')\n"
            "j = Job.open(sys.argv[1], writable=False); print(len(j.sittings()))"
        )
        self.job.add_sitting("A", [record("/p/a.jpg")])
        out = subprocess.run(
            [sys.executable, "-c", code, str(self.job.folder)], capture_output=True, text=True, check=True
        )
        self.assertEqual(out.stdout.split("\n")[:2], ["in use", "1"])
        with self.assertRaises(JobInUse):
            Job.open(self.job.folder)
        reader = Job.open(self.job.folder, writable=False)
        with self.assertRaises(UmbrateError):
            reader.add_sitting("B", [])
        reader.close()

    def test_what_is_no_job_is_refused_with_a_sentence(self):
        (self.folder / "plain").mkdir()
        broken = self.folder / "broken.umbrate"
        broken.mkdir()
        (broken / "job.sqlite").write_bytes(b"not a database at all" * 100)
        newer = Job.create(self.folder / "newer")
        newer.db.execute("UPDATE meta SET value = '999' WHERE key = 'version'")
        newer.close()
        for name, said in (
            ("none", "does not exist"),
            ("plain", "not a job"),
            ("broken", "damaged"),
            ("newer", "newer"),
        ):
            with self.assertRaises(UmbrateError) as caught:
                Job.open(self.folder / name)
            self.assertIn(said, str(caught.exception))
        with self.assertRaises(UmbrateError):
            Job.create(self.folder / "bird.umbrate")
        # none of them keeps the lock of a job it refused
        db = sqlite3.connect(self.folder / "newer.umbrate" / "job.sqlite", isolation_level=None)
        db.execute("UPDATE meta SET value = ? WHERE key = 'version'", (str(schema.VERSION),))
        db.close()
        Job.open(self.folder / "newer").close()

    def test_an_old_job_is_brought_up_to_date_or_left_alone(self):
        self.job.add_sitting("A", [record("/p/a.jpg")])
        self.job.close()
        version = schema.VERSION

        def kept():
            with closing(sqlite3.connect(self.job.folder / "job.sqlite")) as db:
                return db.execute("SELECT value FROM meta WHERE key = 'version'").fetchone()[0], [
                    n for (n,) in db.execute("SELECT name FROM sqlite_master ORDER BY name")
                ]

        before = kept()
        steps = {version: ["CREATE TABLE added (x)", "THIS IS NO SQL"]}
        with mock.patch.object(schema, "MIGRATIONS", steps), mock.patch.object(schema, "VERSION", version + 1):
            with self.assertRaisesRegex(UmbrateError, "left as it is"):
                Job.open(self.job.folder)
            self.assertEqual(kept(), before)  # the failed step left nothing behind, and not the lock
            steps[version] = ["CREATE TABLE added (x)"]
            with mock.patch.object(schema, "TABLES_SQL", schema.TABLES_SQL + "CREATE TABLE added (x);"):
                store.expected_contents.cache_clear()
                with Job.open(self.job.folder) as job:
                    self.assertEqual(job.db.execute("SELECT count(*) FROM added").fetchone()[0], 0)
                    self.assertEqual(len(job.sittings()), 1)
        store.expected_contents.cache_clear()

    def test_a_result_appears_whole_or_not_at_all(self):
        sitting, _ = self.job.add_sitting("A", [record("/p/a.jpg")])
        self.job.commit_result(
            sitting.id, "made up", "f1", {}, {"n": 1}, [], {("block", None): "k1", ("features", 1): "k2"}, 1.0
        )
        with self.assertRaises(TypeError):
            self.job.commit_result(sitting.id, "made up", "f2", {}, {"n": object()}, [], {("block", None): "k3"}, 1.0)
        with mock.patch.object(self.job, "_write_ledger", side_effect=sqlite3.OperationalError("disk full")):
            with self.assertRaises(sqlite3.OperationalError):
                self.job.commit_result(sitting.id, "made up", "f3", {}, {"n": 3}, [], {("block", None): "k4"}, 1.0)
        done = self.job.result(sitting.id, "made up")
        self.assertEqual(
            (done.fingerprint, done.figures, done.blob("block"), done.blob("features", 1)), ("f1", {"n": 1}, "k1", "k2")
        )
        self.job.record_failure(sitting.id, "made up", {}, 2.0, "crashed", "why")
        self.assertEqual([e.outcome for e in self.job.ledger()], ["done", "crashed"])
        self.assertEqual(self.job.result(sitting.id, "made up").fingerprint, "f1")

    def test_a_killed_process_leaves_the_last_whole_state(self):
        code = (
            "import os, sys, signal; from umbrate.job.store import Job; from tests.test_job import record\n"
            "job = Job.open(sys.argv[1]); job.add_sitting('kept', [record('/p/a.jpg')])\n"
            "with job.action('half'):\n"
            "    job.db.execute(\"INSERT INTO sitting (name, position) VALUES ('half', 9)\")\n"
            "    os.kill(os.getpid(), signal.SIGKILL)"
        )
        self.job.close()
        root = Path(__file__).resolve().parents[1]
        subprocess.run([sys.executable, "-c", code, str(self.job.folder)], check=False, cwd=root)
        with Job.open(self.job.folder) as job:
            self.assertEqual([s.name for s in job.sittings()], ["kept"])
            self.assertEqual(job.undo(), "add 1 photos to “kept”")


class Undoing(unittest.TestCase):
    def test_any_walk_of_actions_can_be_undone_and_redone_step_by_step(self):
        for seed in range(6):
            rng = random.Random(seed)
            with Job.create(scratch() / "walk") as job:
                states = [document(job)]
                for k in range(28):
                    ids = [s.id for s in job.sittings()]
                    photos = [p.id for i in ids for p in job.photos(i)]
                    choice = rng.randrange(7)
                    if choice == 0 or not ids:
                        names = [record(f"/p{seed}/{rng.randrange(40)}.jpg") for _ in range(rng.randrange(1, 4))]
                        job.add_sitting(f"S{rng.randrange(4)}", names, {"masks": {"folder": f"/m{k}"}})
                    elif choice == 1:
                        job.rename_sitting(rng.choice(ids), f"R{k}")
                    elif choice == 2:
                        job.remove_sitting(rng.choice(ids))
                    elif choice == 3 and photos:
                        job.set_aside(rng.sample(photos, min(2, len(photos))), rng.random() < 0.6)
                    elif choice == 4:
                        job.set_settings(rng.choice(ids), rng.choice(["poses", "cloud"]), {"seed": rng.randrange(9)})
                    elif choice == 5:
                        box = None if rng.random() < 0.3 else {"center": [k, 0, 0]}
                        job.set_keep_box(rng.choice(ids), box)
                    if document(job) != states[-1]:
                        states.append(document(job))
                    if k < 20 and rng.random() < 0.15 and len(states) > 1:  # a detour that a new action overwrites
                        job.undo()
                        states.pop()
                for expected in reversed(states[:-1]):
                    self.assertIsNotNone(job.undo())
                    self.assertEqual(document(job), expected)
                self.assertIsNone(job.undo())
                for expected in states[1:]:
                    self.assertIsNotNone(job.redo())
                    self.assertEqual(document(job), expected)
                self.assertIsNone(job.redo())

    def test_an_action_that_fails_or_does_nothing_leaves_no_step(self):
        with Job.create(scratch() / "j") as job:
            sitting, _ = job.add_sitting("A", [record("/p/a.jpg")])
            with self.assertRaises(UmbrateError):
                job.rename_sitting(sitting.id, "  ")
            with self.assertRaises(UmbrateError):
                job.add_sitting(" ", [])
            job.set_settings(sitting.id, "poses", {})
            job.set_aside([], True)
            self.assertEqual(job.undo_labels(), ("add 1 photos to “A”", None))


class Blobs(unittest.TestCase):
    def test_arrays_return_as_they_were_and_equal_content_is_kept_once(self):
        blobs = BlobStore(scratch())
        rng = np.random.default_rng(1)
        arrays = {
            "a": rng.normal(size=(3, 4)),
            "b": np.arange(5, dtype=np.uint8),
            "empty": np.zeros((0, 3), np.float32),
        }
        key = blobs.put_arrays(**arrays)
        self.assertEqual(blobs.put_arrays(**arrays), key)
        with mock.patch("umbrate.job.blobs.LARGE", 0):  # written without a copy in memory, over what is there or not
            self.assertEqual(blobs.put_arrays(**arrays), key)
            blobs.path(key).unlink()
            self.assertEqual(blobs.put_arrays(**arrays), key)
        self.assertEqual([f.name for f in blobs.folder.rglob("*") if f.is_file()], [key])
        kind = Kind({"a": Of("f8", ("n", 4)), "b": Of("u1", ("m",)), "empty": Of("f4", ("k", 3))})
        read = blobs.get_arrays(key, kind)
        with mock.patch("umbrate.job.blobs.LARGE", 0), mock.patch("umbrate.job.blobs.AT_ONCE", 7):
            by_several = blobs.get_arrays(key, kind)  # threads, a few bytes at a time
        for got in (read, by_several):
            self.assertEqual(set(got), set(arrays))
            for name, value in got.items():
                np.testing.assert_array_equal(value, arrays[name])
                self.assertEqual(value.dtype, arrays[name].dtype)

    def test_a_full_disk_leaves_no_part_and_says_so(self):
        folder = scratch()
        blobs = BlobStore(folder)
        with mock.patch("umbrate.job.blobs.os.fsync", side_effect=OSError(28, "No space left on device")):
            with self.assertRaises(UmbrateError) as caught:
                blobs.put_bytes(b"x" * 1000)
            with mock.patch("umbrate.job.blobs.LARGE", 0), self.assertRaises(UmbrateError):
                blobs.put_arrays(a=np.zeros(1000))
        self.assertIn("No space left", str(caught.exception))
        self.assertEqual([p for p in folder.rglob("*") if p.is_file()], [])

    def test_missing_and_damaged_blobs_are_told_and_mended_by_making_them_again(self):
        blobs, kind = BlobStore(scratch() / "blobs"), Kind({"a": Of("i8", ("n",))})
        key = blobs.put_arrays(a=np.arange(1000))
        blobs.remember("mark", key)
        self.assertEqual(blobs.recall("no mark", kind), (None, None))
        with mock.patch.object(BlobStore, "_read", autospec=True, side_effect=BlobStore._read) as read:
            again, arrays = blobs.recall("mark", kind)
        self.assertEqual((again, read.call_count), (key, 1))
        np.testing.assert_array_equal(arrays["a"], np.arange(1000))
        whole = blobs.path(key).read_bytes()
        for damaged in (whole[:500], whole[:700] + b"?" + whole[701:]):
            blobs.path(key).write_bytes(damaged)
            self.assertEqual(blobs.recall("mark", kind), (None, None))
            for large in (LARGE, 0):
                with mock.patch("umbrate.job.blobs.LARGE", large), self.assertRaises(UmbrateError):
                    blobs.get_arrays(key, kind)
            self.assertEqual(blobs.put_arrays(a=np.arange(1000)), key)
            np.testing.assert_array_equal(blobs.get_arrays(key, kind)["a"], np.arange(1000))
            self.assertEqual(blobs.recall("mark", kind)[0], key)
        with self.assertRaises(UmbrateError):
            blobs.get_bytes("0" * 64)

    def test_closing_deletes_what_no_result_needs_and_nothing_else(self):
        job = Job.create(scratch() / "j")
        sitting, _ = job.add_sitting("A", [record("/p/a.jpg")])
        keys = [job.blobs.put_bytes(bytes([k])) for k in range(3)]
        for k in keys[:2]:
            job.commit_result(sitting.id, "poses", "f", {}, {}, [], {("block", None): k}, 1.0)
        job.remove_sitting(sitting.id)  # an undo would want its result
        job.close()
        there = [job.blobs.path(k).exists() for k in keys]
        self.assertEqual(there, [True, True, False])  # the first can be gone back to
        with Job.open(job.folder) as again:
            again.tidy(thorough=True)
            self.assertEqual([job.blobs.path(k).exists() for k in keys], [False, True, False])
            again.undo()
            self.assertEqual(again.result(sitting.id, "poses").blob("block"), keys[1])


class HandMasks(unittest.TestCase):
    def test_each_stroke_can_be_undone_and_its_blob_waits_for_that(self):
        job = Job.create(scratch() / "j")
        sitting, _ = job.add_sitting("A", [record("/p/a.jpg"), record("/p/b.jpg")])
        first, second = (p.id for p in job.photos(sitting.id))
        keys = [job.blobs.put_bytes(bytes([k])) for k in range(4)]
        for k in keys[:3]:
            job.set_hand_mask(first, k)
        job.set_hand_mask(second, keys[2], "copy")
        self.assertEqual(job.hand_masks(sitting.id), {first: keys[2], second: keys[2]})
        job.undo()
        job.undo()
        self.assertEqual(job.hand_masks(sitting.id), {first: keys[1]})
        job.close()  # tidies up: what undo and redo would bring back must stay
        self.assertEqual([job.blobs.path(k).exists() for k in keys], [True, True, True, False])
        with Job.open(job.folder) as again:
            again.redo()
            self.assertEqual(again.hand_masks(sitting.id), {first: keys[2]})
            again.set_hand_mask(first, None, "back")
            self.assertEqual(again.hand_masks(sitting.id), {})
            again.undo()
            again.remove_sitting(sitting.id)
            again.undo()
            self.assertEqual(again.hand_masks(sitting.id), {first: keys[2]})

    def test_a_job_of_the_first_version_learns_them(self):
        job = Job.create(scratch() / "old")
        sitting, _ = job.add_sitting("A", [record("/p/a.jpg")])
        job.close()
        tables = ("sighting", *(t for t in schema.MARK_TABLES if t != "sighting"), "measured", "handmask", "removed")
        tables = (
            *tables,
            "cleaning",
            "cloud",
            "mending",
            "surface",
            "joined",
            "role",
            "pick",
            "target",
            "section",
            "seen",
            "earlier",
            "inverse",
        )
        with closing(sqlite3.connect(job.folder / "job.sqlite", isolation_level=None)) as db:
            for (name,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'trigger'").fetchall():
                db.execute(f"DROP TRIGGER {name}")
            for t in tables:
                db.execute(f"DROP TABLE {t}")
            for c in ("program", "sitting_id"):
                db.execute(f"ALTER TABLE ledger DROP COLUMN {c}")
            for c in ("exposure_s", "f_number", "iso", "modified", "turn", "focus_m"):
                db.execute(f"ALTER TABLE photo DROP COLUMN {c}")
            db.execute(
                "CREATE TABLE inverse (id INTEGER PRIMARY KEY, step_id INTEGER NOT NULL, statement TEXT NOT NULL)"
            )
            # what an old job brings along is never run, whatever it says
            db.execute("INSERT INTO inverse VALUES (1, 1, 'DELETE FROM photo')")
            db.execute("UPDATE meta SET value = '1' WHERE key = 'version'")
            db.execute("CREATE TRIGGER record_photo_insert AFTER UPDATE ON meta BEGIN DELETE FROM photo; END")
            db.execute("INSERT INTO sitting (name, position) VALUES ('B', 1)")
        before = (job.folder / "job.sqlite").read_bytes()
        with Job.open(job.folder, writable=False) as again:  # a reader leaves it as it is
            self.assertEqual([p.name for p in again.photos(sitting.id)], ["a.jpg"])
        self.assertEqual((job.folder / "job.sqlite").read_bytes(), before)
        with Job.open(job.folder) as again:
            photo = again.photos(sitting.id)[0].id
            again.set_hand_mask(photo, "a" * 64)
            self.assertEqual(again.undo(), "draw on the mask")
            self.assertIsNone(again.undo())
            self.assertEqual(again.hand_masks(sitting.id), {})
            again.turn_photos([photo], -1)
            self.assertEqual(again.photos(sitting.id)[0].turn, 3)
            again.undo()
            self.assertEqual(again.photos(sitting.id)[0].turn, 0)
            mark = again.add_marked_point(sitting.id)
            again.set_sighting(mark, photo, 1.0, 2.0)
            again.undo()
            again.redo()
            self.assertEqual(again.marked_points(sitting.id)[0].sightings[0].x, 1.0)


class Schema(unittest.TestCase):
    def test_undo_covers_every_column_of_its_tables(self):
        with Job.create(scratch() / "j") as job, closing(sqlite3.connect(job.folder / "job.sqlite")) as db:
            for table, columns in TABLES.items():
                real = [r[1] for r in db.execute(f"PRAGMA table_info({table})")]
                self.assertEqual(sorted(real), sorted(columns))
            json.dumps(document(job))


class WhatIsRemembered(unittest.TestCase):
    def test_an_answer_is_kept_for_a_revision_and_nobody_changes_it(self):
        with Job.create(scratch() / "j") as job:
            made = []

            def make():
                made.append(job.revision)
                return len(made)

            self.assertEqual([job.remembered("x", make) for _ in range(3)], [1, 1, 1])
            job.add_sitting("A", [])
            self.assertEqual([job.remembered("x", make) for _ in range(2)], [2, 2])
            job.undo()  # what it says may be that of before, but it is another revision
            self.assertEqual(job.remembered("x", make), 3)
            # within an action nothing is kept: it may never come to be
            with self.assertRaises(ZeroDivisionError), job.action("try"):
                job.remembered("x", make)
                job.remembered("x", make)
                raise ZeroDivisionError
            self.assertEqual(len(made), 5)
            # a list that is handed out is the caller's own
            job.redo()
            names = job.sittings()
            names.clear()
            self.assertEqual([s.name for s in job.sittings()], ["A"])

    def test_what_lies_outside_is_looked_at_once_a_glance(self):
        with Job.create(scratch() / "j") as job:
            looks = []

            def look():
                looks.append(1)
                return len(looks)

            self.assertEqual([job.once_a_glance("f", look) for _ in range(2)], [1, 2])
            with job.glance():
                with job.glance():  # one within another is part of it
                    self.assertEqual(job.once_a_glance("f", look), 3)
                self.assertEqual([job.once_a_glance("f", look) for _ in range(2)], [3, 3])
                job.add_sitting("A", [])
                self.assertEqual(job.once_a_glance("f", look), 4)
            with job.glance():
                self.assertEqual(job.once_a_glance("f", look), 5)

    def test_a_reader_sees_what_the_writer_changed(self):
        with Job.create(scratch() / "j") as job, Job.open(job.folder, writable=False) as reader:
            self.assertEqual(reader.sittings(), [])
            first = reader.revision
            job.add_sitting("A", [])
            self.assertNotEqual(reader.revision, first)
            self.assertEqual([s.name for s in reader.sittings()], ["A"])
