"""The job on disk: the only place that writes one.

``NAME.umbrate/job.sqlite`` says what the job is; ``blobs/`` holds its arrays. One process writes at
a time, which holds ``lock``; others may read. A stage's results appear in one transaction or not
at all.
"""

import fcntl
import json
import logging
import os
import re
import sqlite3
import uuid
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path

from ..core.errors import UmbrateError
from . import undo
from .blobs import BlobStore
from .model import LedgerEntry, Photo, Result, Sitting

log = logging.getLogger(__name__)
SUFFIX = ".umbrate"
VERSION = 2

HANDMASK = """CREATE TABLE handmask (photo_id INTEGER PRIMARY KEY REFERENCES photo(id) ON DELETE CASCADE,
    blob TEXT NOT NULL);"""
SCHEMA = (
    """
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE sitting (id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL UNIQUE, position INTEGER NOT NULL);
CREATE TABLE photo (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    sitting_id INTEGER NOT NULL REFERENCES sitting(id) ON DELETE CASCADE,
    name TEXT NOT NULL, path TEXT NOT NULL, size INTEGER NOT NULL, hash TEXT NOT NULL,
    width INTEGER NOT NULL, height INTEGER NOT NULL, orientation INTEGER NOT NULL,
    make TEXT NOT NULL, model TEXT NOT NULL, lens TEXT NOT NULL, focal_mm REAL, focal_35mm REAL, taken TEXT,
    aside INTEGER NOT NULL DEFAULT 0, position INTEGER NOT NULL);
CREATE INDEX photo_sitting ON photo (sitting_id);
CREATE TABLE choice (sitting_id INTEGER NOT NULL REFERENCES sitting(id) ON DELETE CASCADE, stage TEXT NOT NULL,
    settings TEXT NOT NULL, UNIQUE (sitting_id, stage));
CREATE TABLE keepbox (sitting_id INTEGER PRIMARY KEY REFERENCES sitting(id) ON DELETE CASCADE, box TEXT NOT NULL);
CREATE TABLE result (
    id INTEGER PRIMARY KEY AUTOINCREMENT, sitting_id INTEGER NOT NULL, stage TEXT NOT NULL, fingerprint TEXT NOT NULL,
    settings TEXT NOT NULL, figures TEXT NOT NULL, problems TEXT NOT NULL, seconds REAL NOT NULL, made TEXT NOT NULL,
    UNIQUE (sitting_id, stage));
CREATE TABLE artefact (result_id INTEGER NOT NULL REFERENCES result(id) ON DELETE CASCADE, name TEXT NOT NULL,
    photo_id INTEGER, blob TEXT NOT NULL);
CREATE INDEX artefact_result ON artefact (result_id);
CREATE TABLE ledger (
    id INTEGER PRIMARY KEY AUTOINCREMENT, moment TEXT NOT NULL, sitting TEXT NOT NULL, stage TEXT NOT NULL,
    settings TEXT NOT NULL, seconds REAL NOT NULL, outcome TEXT NOT NULL, figures TEXT NOT NULL, message TEXT NOT NULL);
CREATE TABLE desk (key TEXT PRIMARY KEY, value TEXT NOT NULL);
"""
    + HANDMASK
    + undo.SCHEMA
)

#: statements that bring a job of version N (the key) to version N + 1
MIGRATIONS = {1: [HANDMASK, *undo.triggers("handmask")]}


#: what a photo's row says of its file
FILE_COLUMNS = (
    "name", "path", "size", "hash", "width", "height", "orientation", "make", "model", "lens", "focal_mm", "focal_35mm",
    "taken",
)  # fmt: skip


def job_folder(path):
    """The folder a job of that name has: with its suffix."""
    path = Path(path)
    return path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX)


#: what the column `aside` of a photo says
IN_USE, ASIDE, PLATE = 0, 1, 2


def _count(photos):
    return f"{len(photos)} photo{'s' * (len(photos) != 1)}"


class JobInUse(UmbrateError):
    """Another process writes the job; it can still be opened for reading."""


def _now():
    return datetime.now().isoformat(timespec="seconds")


class Job:
    """An open job. Use `Job.create` or `Job.open`, and close it."""

    def __init__(self, folder, connection, lock, writable):
        self.folder, self.db, self._lock, self.writable = Path(folder), connection, lock, writable
        self.blobs = BlobStore(self.folder / "blobs")
        self._undo = undo.Undo(connection)
        self._closed = False

    # ------------------------------------------------------------------ open and close
    @classmethod
    def create(cls, folder):
        """Make a new job folder. The suffix ``.umbrate`` is added where it is missing."""
        folder = job_folder(folder)
        if folder.exists():
            raise UmbrateError(f"{folder.name} is there already. Choose another name, or open it.")
        try:
            (folder / "blobs").mkdir(parents=True)
        except OSError as e:
            raise UmbrateError(f"{folder} cannot be made ({e.strerror}). Choose a place you may write to.") from e
        try:
            db = sqlite3.connect(folder / "job.sqlite", isolation_level=None)
            db.execute("PRAGMA journal_mode = WAL")
            db.executescript(SCHEMA + undo.trigger_sql())
            db.execute(
                "INSERT INTO meta VALUES ('version', ?), ('uuid', ?), ('created', ?)",
                (str(VERSION), uuid.uuid4().hex, _now()),
            )
            db.close()
        except sqlite3.Error as e:
            raise UmbrateError(f"{folder} cannot be made ({e}). Is there space on the disk?") from e
        return cls.open(folder)

    @classmethod
    def open(cls, folder, writable=True):
        """Open a job folder.

        Raises
        ------
        UmbrateError
            When it is no job, is damaged, was made by a newer version, or another process writes it.
        """
        folder = Path(folder)
        if not folder.exists() and folder.with_name(folder.name + SUFFIX).exists():
            folder = folder.with_name(folder.name + SUFFIX)
        file = folder / "job.sqlite"
        if not file.is_file():
            what = "does not exist" if not folder.exists() else "is not a job (it holds no job.sqlite)"
            raise UmbrateError(f"{folder} {what}. A job is a folder whose name ends in {SUFFIX}.")
        lock = None
        if writable:
            try:
                lock = os.open(folder / "lock", os.O_RDWR | os.O_CREAT, 0o644)
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                os.close(lock)
                raise JobInUse(f"{folder.name} is open in another window or command. Close it there first.") from None
            except OSError as e:
                raise UmbrateError(f"{folder.name} cannot be written to ({e.strerror}).") from e
        try:
            # autocommit: transactions are ours to begin, so that nothing is left open by accident
            db = sqlite3.connect(file, isolation_level=None)
            db.execute("PRAGMA foreign_keys = ON")
            db.execute("PRAGMA synchronous = FULL")
            version = int(db.execute("SELECT value FROM meta WHERE key = 'version'").fetchone()[0])
        except (sqlite3.DatabaseError, TypeError, ValueError) as e:
            if lock is not None:
                os.close(lock)
            raise UmbrateError(f"{folder.name} is damaged: its database cannot be read ({e}).") from e
        if version > VERSION:
            db.close()
            if lock is not None:
                os.close(lock)
            raise UmbrateError(f"{folder.name} was made by a newer version of Umbrate. Update Umbrate to open it.")
        job = cls(folder, db, lock, writable)
        try:
            while writable and version < VERSION:
                with job._transaction():
                    for statement in MIGRATIONS[version]:
                        db.execute(statement)
                    version += 1
                    db.execute("UPDATE meta SET value = ? WHERE key = 'version'", (str(version),))
        except sqlite3.Error as e:
            job.close()
            raise UmbrateError(
                f"{folder.name} was made by an older version and could not be brought up to date ({e}). It was "
                "left as it is."
            ) from e
        return job

    def close(self):
        """Tidy up, close the database and give the lock back. Closing twice does no harm."""
        if self._closed:
            return
        self._closed = True
        if self.writable:
            self.collect_garbage()
        self.db.close()
        if self._lock is not None:
            os.close(self._lock)
            self._lock = None

    def __enter__(self):
        return self

    def __exit__(self, *_):
        self.close()

    @property
    def name(self):
        """The folder's name without its suffix."""
        return self.folder.stem

    # ------------------------------------------------------------------ transactions and undo
    @contextmanager
    def _transaction(self):
        if not self.writable:
            raise UmbrateError(f"{self.folder.name} is open for reading only.")
        self.db.execute("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            self.db.execute("ROLLBACK")
            raise
        self.db.execute("COMMIT")

    @contextmanager
    def action(self, label):
        """One thing the user does: all of it happens or none, and it can be undone as `label`."""
        with self._transaction():
            step = self._undo.begin(label)
            yield
            self._undo.end(step)

    def undo(self):
        """Take the last action back; returns its label or None."""
        with self._transaction():
            return self._undo.move(back=True)

    def redo(self):
        """Do the last undone action again; returns its label or None."""
        with self._transaction():
            return self._undo.move(back=False)

    def undo_labels(self):
        """What undo and redo would do: two texts or None."""
        return self._undo.labels()

    # ------------------------------------------------------------------ sittings and photos
    def sittings(self):
        """All sittings in order."""
        return [Sitting(*r) for r in self.db.execute("SELECT id, name, position FROM sitting ORDER BY position, id")]

    def sitting(self, name):
        """The sitting of that name."""
        for s in self.sittings():
            if s.name == name:
                return s
        known = ", ".join(f"“{s.name}”" for s in self.sittings()) or "none yet"
        raise UmbrateError(f"There is no sitting “{name}” in {self.name} (there is: {known}).")

    def add_sitting(self, name, records, settings=None):
        """Bring in photos to the sitting `name`, made where it is new, as one action.

        A file that is in the sitting already is left alone; where it has changed since, its facts are
        taken anew.

        Parameters
        ----------
        records : list of dict
            The columns of `Photo` except id, sitting_id, aside and position.
        settings : dict of stage name to dict, optional
            Settings to choose for the sitting in the same action.

        Returns
        -------
        sitting : Sitting
        added : int
        """
        name = name.strip()
        if not name:
            raise UmbrateError("A sitting needs a name.")
        row = self.db.execute("SELECT id FROM sitting WHERE name = ?", (name,)).fetchone()
        added = 0
        with self.action(f"add {len(records)} photos to “{name}”"):
            if row is None:
                n = self.db.execute("SELECT count(*) FROM sitting").fetchone()[0]
                sid = self.db.execute("INSERT INTO sitting (name, position) VALUES (?, ?)", (name, n)).lastrowid
            else:
                sid = row[0]
            have = {
                path: (i, h)
                for i, path, h in self.db.execute("SELECT id, path, hash FROM photo WHERE sitting_id = ?", (sid,))
            }
            for r in records:
                path = self._stored_path(r["path"])
                values = [path if c == "path" else r[c] for c in FILE_COLUMNS]
                if path not in have:
                    self.db.execute(
                        f"INSERT INTO photo (sitting_id, position, {', '.join(FILE_COLUMNS)}) "
                        f"VALUES (?, ?, {', '.join('?' * len(FILE_COLUMNS))})",
                        (sid, len(have), *values),
                    )
                    have[path] = (None, r["hash"])
                    added += 1
                elif have[path][1] != r["hash"]:
                    sets = ", ".join(f"{c} = ?" for c in FILE_COLUMNS)
                    self.db.execute(f"UPDATE photo SET {sets} WHERE id = ?", (*values, have[path][0]))
                    added += 1
            for stage, chosen in (settings or {}).items():
                if chosen:
                    self._choose(sid, stage, {**self.settings(sid, stage), **chosen})
        return next(s for s in self.sittings() if s.id == sid), added

    def rename_sitting(self, sitting_id, name):
        """Give a sitting another name."""
        name = name.strip()
        if not name:
            raise UmbrateError("A sitting needs a name.")
        if any(s.name == name and s.id != sitting_id for s in self.sittings()):
            raise UmbrateError(f"There is a sitting “{name}” already. Choose another name.")
        with self.action(f"rename sitting to “{name}”"):
            self.db.execute("UPDATE sitting SET name = ? WHERE id = ?", (name, sitting_id))

    def remove_sitting(self, sitting_id):
        """Take a sitting and its photos out of the job (never off the disk). Results wait for an undo."""
        name = next(s.name for s in self.sittings() if s.id == sitting_id)
        with self.action(f"remove sitting “{name}”"):
            self._remove(sitting_id)

    def _remove(self, sitting_id):
        # photos first and by name: rows a cascade deletes would be restored in an order nobody chose
        self.db.execute(
            "DELETE FROM handmask WHERE photo_id IN (SELECT id FROM photo WHERE sitting_id = ?)", (sitting_id,)
        )
        for table in ("photo", "choice", "keepbox"):
            self.db.execute(f"DELETE FROM {table} WHERE sitting_id = ?", (sitting_id,))
        self.db.execute("DELETE FROM sitting WHERE id = ?", (sitting_id,))

    def photos(self, sitting_id, aside=True):
        """Photos of a sitting in order; without those set aside where `aside` is False."""
        rows = self.db.execute(
            "SELECT id, sitting_id, name, path, size, hash, width, height, orientation, make, model, lens, focal_mm, "
            "focal_35mm, taken, aside, position FROM photo WHERE sitting_id = ? ORDER BY position, id",
            (sitting_id,),
        )
        out = [Photo(*r[:15], r[15] != IN_USE, r[15] == PLATE, r[16]) for r in rows]
        return out if aside else [p for p in out if not p.aside]

    def set_aside(self, photo_ids, aside=True):
        """Set photos aside (kept, not used) or bring them back."""
        verb = "set aside" if aside else "bring back"
        self._set_use(photo_ids, ASIDE if aside else IN_USE, f"{verb} {_count(photo_ids)}")

    def keep_as_plates(self, photo_ids):
        """Keep photos of the bare backdrop as their sitting's plates: not used, but at hand for its masks."""
        self._set_use(photo_ids, PLATE, f"keep {_count(photo_ids)} as backdrop plates")

    def _set_use(self, photo_ids, use, label):
        with self.action(label):
            for i in photo_ids:
                self.db.execute("UPDATE photo SET aside = ? WHERE id = ? AND aside != ?", (use, i, use))

    # ------------------------------------------------------------------ sorting photos into sittings
    def move_photos(self, photo_ids, name):
        """Move photos into the sitting `name`, made where it is new; emptied sittings stay."""
        name = name.strip()
        if not name:
            raise UmbrateError("A sitting needs a name.")
        with self.action(f"move {_count(photo_ids)} to “{name}”"):
            self._put(photo_ids, name)

    def _put(self, photo_ids, name):
        row = self.db.execute("SELECT id FROM sitting WHERE name = ?", (name,)).fetchone()
        if row is None:
            n = self.db.execute("SELECT ifnull(max(position), -1) + 1 FROM sitting").fetchone()[0]
            sid = self.db.execute("INSERT INTO sitting (name, position) VALUES (?, ?)", (name, n)).lastrowid
        else:
            sid = row[0]
        start = self.db.execute(
            "SELECT ifnull(max(position), -1) + 1 FROM photo WHERE sitting_id = ?", (sid,)
        ).fetchone()[0]
        for k, i in enumerate(photo_ids):
            self.db.execute(
                "UPDATE photo SET sitting_id = ?, position = ? WHERE id = ? AND sitting_id != ?",
                (sid, start + k, i, sid),
            )
        return sid

    def split_sitting(self, sitting_id, parts):
        """Split a sitting: the first part stays, the others become sittings of their own after it.

        Parameters
        ----------
        parts : list of (list of photo ids, list of plate ids)
            As `work.sorting` proposes them. Plates are kept as such.

        Returns
        -------
        list of str
            Names of the sittings.
        """
        old = next(s for s in self.sittings() if s.id == sitting_id)
        taken = {s.name for s in self.sittings()}
        names = [old.name]
        with self.action(f"split “{old.name}” into {len(parts)} sittings"):
            for k, (photos, plates) in enumerate(parts):
                for i in plates:
                    self.db.execute("UPDATE photo SET aside = ? WHERE id = ? AND aside != ?", (PLATE, i, PLATE))
                if k == 0:
                    continue
                number = k + 1
                while f"{old.name} {number}" in taken:
                    number += 1
                name = f"{old.name} {number}"
                taken.add(name)
                names.append(name)
                sid = self._put([*photos, *plates], name)
                # masks and lens are made the same way as in the sitting it came from
                for stage, chosen in self.db.execute(
                    "SELECT stage, settings FROM choice WHERE sitting_id = ?", (sitting_id,)
                ).fetchall():
                    self._choose(sid, stage, json.loads(chosen))
            order = [s for s in self.sittings() if s.name not in names[1:]]
            at = next(k for k, s in enumerate(order) if s.id == sitting_id) + 1
            order[at:at] = [next(s for s in self.sittings() if s.name == n) for n in names[1:]]
            self._order(order)
        return names

    def merge_sittings(self, sitting_id, into_id):
        """Move all photos of a sitting into another and remove it."""
        names = {s.id: s.name for s in self.sittings()}
        with self.action(f"merge “{names[sitting_id]}” into “{names[into_id]}”"):
            self._put([p.id for p in self.photos(sitting_id)], names[into_id])
            self._remove(sitting_id)

    def move_sitting(self, sitting_id, step):
        """Move a sitting up (-1) or down (+1) on the Board."""
        order = self.sittings()
        k = next(k for k, s in enumerate(order) if s.id == sitting_id)
        order.insert(max(0, min(len(order) - 1, k + step)), order.pop(k))
        with self.action(f"move “{next(s.name for s in order if s.id == sitting_id)}”"):
            self._order(order)

    def _order(self, sittings):
        for k, s in enumerate(sittings):
            self.db.execute("UPDATE sitting SET position = ? WHERE id = ? AND position != ?", (k, s.id, k))

    def _stored_path(self, path):
        """Relative to the job where the photo lies beside or below it, so that both can move together."""
        path = Path(path).resolve()
        home = self.folder.resolve().parent
        try:
            return str(Path("..") / path.relative_to(home))
        except ValueError:
            return str(path)

    def photo_path(self, photo):
        """The photo's file."""
        p = Path(photo.path)
        return p if p.is_absolute() else Path(os.path.normpath(self.folder.resolve() / p))

    # ------------------------------------------------------------------ settings
    def settings(self, sitting_id, stage):
        """The settings chosen for a stage, as a dictionary (empty: all defaults)."""
        row = self.db.execute(
            "SELECT settings FROM choice WHERE sitting_id = ? AND stage = ?", (sitting_id, stage)
        ).fetchone()
        return json.loads(row[0]) if row else {}

    def set_settings(self, sitting_id, stage, values, label=None):
        """Choose settings for a stage."""
        if self.settings(sitting_id, stage) == values:
            return
        with self.action(label or f"change settings of {stage}"):
            self._choose(sitting_id, stage, values)

    def _choose(self, sitting_id, stage, values):
        self.db.execute(
            "INSERT INTO choice (sitting_id, stage, settings) VALUES (?, ?, ?) "
            "ON CONFLICT (sitting_id, stage) DO UPDATE SET settings = excluded.settings",
            (sitting_id, stage, json.dumps(values, sort_keys=True)),
        )

    def keep_box(self, sitting_id):
        """The keep box set by hand, as a dictionary, or None."""
        row = self.db.execute("SELECT box FROM keepbox WHERE sitting_id = ?", (sitting_id,)).fetchone()
        return json.loads(row[0]) if row else None

    def set_keep_box(self, sitting_id, box):
        """Set the keep box by hand; None goes back to the fitted one."""
        with self.action("change the keep box" if box else "fit the keep box again"):
            if box is None:
                self.db.execute("DELETE FROM keepbox WHERE sitting_id = ?", (sitting_id,))
            else:
                self.db.execute(
                    "INSERT INTO keepbox (sitting_id, box) VALUES (?, ?) "
                    "ON CONFLICT (sitting_id) DO UPDATE SET box = excluded.box",
                    (sitting_id, json.dumps(box)),
                )

    def hand_masks(self, sitting_id):
        """Blob keys of the masks drawn by hand, by photo id."""
        rows = self.db.execute(
            "SELECT photo_id, blob FROM handmask JOIN photo ON photo.id = photo_id WHERE sitting_id = ?", (sitting_id,)
        )
        return dict(rows)

    def set_hand_mask(self, photo_id, blob, label="draw on the mask"):
        """Set a photo's mask by hand (a blob key), or go back to the made one with None."""
        with self.action(label):
            if blob is None:
                self.db.execute("DELETE FROM handmask WHERE photo_id = ?", (photo_id,))
            else:
                self.db.execute(
                    "INSERT INTO handmask (photo_id, blob) VALUES (?, ?) "
                    "ON CONFLICT (photo_id) DO UPDATE SET blob = excluded.blob",
                    (photo_id, blob),
                )

    # ------------------------------------------------------------------ results and the ledger
    def result(self, sitting_id, stage):
        """The Result of a stage, or None."""
        row = self.db.execute(
            "SELECT id, sitting_id, stage, fingerprint, settings, figures, problems, seconds, made FROM result "
            "WHERE sitting_id = ? AND stage = ?",
            (sitting_id, stage),
        ).fetchone()
        if row is None:
            return None
        artefacts = {
            (n, p): b
            for n, p, b in self.db.execute("SELECT name, photo_id, blob FROM artefact WHERE result_id = ?", (row[0],))
        }
        return Result(*row[:4], *(json.loads(x) for x in row[4:7]), row[7], row[8], artefacts)

    def commit_result(self, sitting_id, stage, fingerprint, settings, figures, problems, artefacts, seconds):
        """Replace a stage's result and write the ledger, in one transaction."""
        name = next((s.name for s in self.sittings() if s.id == sitting_id), "")
        with self._transaction():
            self.db.execute("DELETE FROM result WHERE sitting_id = ? AND stage = ?", (sitting_id, stage))
            rid = self.db.execute(
                "INSERT INTO result (sitting_id, stage, fingerprint, settings, figures, problems, seconds, made) "
                "VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                (
                    sitting_id,
                    stage,
                    fingerprint,
                    json.dumps(settings),
                    json.dumps(figures),
                    json.dumps(problems),
                    seconds,
                    _now(),
                ),
            ).lastrowid
            self.db.executemany(
                "INSERT INTO artefact VALUES (?, ?, ?, ?)", [(rid, n, p, b) for (n, p), b in artefacts.items()]
            )
            self._write_ledger(name, stage, settings, seconds, "done", figures, "")

    def record_failure(self, sitting_id, stage, settings, seconds, outcome, message):
        """Write a run that did not finish into the ledger; results stay as they were."""
        name = next((s.name for s in self.sittings() if s.id == sitting_id), "")
        with self._transaction():
            self._write_ledger(name, stage, settings, seconds, outcome, {}, message)

    def _write_ledger(self, sitting, stage, settings, seconds, outcome, figures, message):
        self.db.execute(
            "INSERT INTO ledger (moment, sitting, stage, settings, seconds, outcome, figures, message) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            (_now(), sitting, stage, json.dumps(settings), seconds, outcome, json.dumps(figures), message),
        )

    def ledger(self):
        """All entries, oldest first."""
        rows = self.db.execute(
            "SELECT id, moment, sitting, stage, settings, seconds, outcome, figures, message FROM ledger ORDER BY id"
        )
        return [LedgerEntry(*r[:4], json.loads(r[4]), r[5], r[6], json.loads(r[7]), r[8]) for r in rows]

    # ------------------------------------------------------------------ where the user was
    def desk_state(self):
        """What the window remembered, as a dictionary."""
        return {k: json.loads(v) for k, v in self.db.execute("SELECT key, value FROM desk")}

    def remember(self, **values):
        """Keep where the user was; not part of undo."""
        if not self.writable:
            return
        with self._transaction():
            for k, v in values.items():
                self.db.execute(
                    "INSERT INTO desk VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value",
                    (k, json.dumps(v)),
                )

    def collect_garbage(self):
        """Delete blobs no result refers to; returns how many."""
        used = {r[0] for r in self.db.execute("SELECT blob FROM artefact UNION SELECT blob FROM handmask")}
        # masks drawn by hand that an undo or redo would bring back
        for (statement,) in self.db.execute("SELECT statement FROM inverse WHERE statement LIKE '%handmask%'"):
            used.update(re.findall(r"[0-9a-f]{64}", statement))
        count = 0
        for file in (self.folder / "blobs").glob("*/*"):
            if file.name not in used:
                file.unlink(missing_ok=True)
                count += 1
        return count
