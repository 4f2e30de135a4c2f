"""The job on disk: the only place that writes one.

``NAME.umbrate/job.sqlite`` says what the job is; ``blobs/`` holds its arrays. One process writes at
a time, which holds ``lock``; others may read. A stage's results appear in one transaction or not
at all.
"""

import fcntl
import logging
import os
import sqlite3
import uuid
from contextlib import contextmanager
from pathlib import Path

from ..core.errors import UmbrateError
from . import undo
from .blobs import BlobStore
from .choices import Choices
from .clouds import Clouds
from .joins import Joins
from .marks import Marks
from .results import Results, now
from .sittings import Sittings

log = logging.getLogger(__name__)
SUFFIX = ".umbrate"
VERSION = 8

HANDMASK = """CREATE TABLE handmask (photo_id INTEGER PRIMARY KEY REFERENCES photo(id) ON DELETE CASCADE,
    blob TEXT NOT NULL);"""
REMOVED = """CREATE TABLE removed (sitting_id INTEGER PRIMARY KEY REFERENCES sitting(id) ON DELETE CASCADE,
    blob TEXT NOT NULL);"""
#: what is put on a sitting by hand; what was measured last is computed and outside of undo
MARKS = (
    """CREATE TABLE mark (id INTEGER PRIMARY KEY AUTOINCREMENT,
    sitting_id INTEGER NOT NULL REFERENCES sitting(id) ON DELETE CASCADE, name TEXT NOT NULL,
    used INTEGER NOT NULL DEFAULT 1, known TEXT, held INTEGER NOT NULL DEFAULT 0, UNIQUE (sitting_id, name));""",
    """CREATE TABLE sighting (id INTEGER PRIMARY KEY AUTOINCREMENT,
    mark_id INTEGER NOT NULL REFERENCES mark(id) ON DELETE CASCADE,
    photo_id INTEGER NOT NULL REFERENCES photo(id) ON DELETE CASCADE, x REAL NOT NULL, y REAL NOT NULL,
    sigma_px REAL NOT NULL, used INTEGER NOT NULL DEFAULT 1, UNIQUE (mark_id, photo_id));""",
    """CREATE TABLE shape (id INTEGER PRIMARY KEY AUTOINCREMENT,
    sitting_id INTEGER NOT NULL REFERENCES sitting(id) ON DELETE CASCADE, kind TEXT NOT NULL, name TEXT NOT NULL,
    points TEXT NOT NULL);""",
    """CREATE TABLE length (id INTEGER PRIMARY KEY AUTOINCREMENT,
    sitting_id INTEGER NOT NULL REFERENCES sitting(id) ON DELETE CASCADE, first TEXT NOT NULL, second TEXT NOT NULL,
    value_mm REAL NOT NULL, sigma_mm REAL NOT NULL, role TEXT NOT NULL);""",
    """CREATE TABLE level (sitting_id INTEGER PRIMARY KEY REFERENCES sitting(id) ON DELETE CASCADE,
    level TEXT NOT NULL);""",
    """CREATE TABLE measurement (id INTEGER PRIMARY KEY AUTOINCREMENT,
    sitting_id INTEGER NOT NULL REFERENCES sitting(id) ON DELETE CASCADE, name TEXT NOT NULL, kind TEXT NOT NULL,
    ends TEXT NOT NULL, UNIQUE (sitting_id, name));""",
    """CREATE TABLE measured (measurement_id INTEGER PRIMARY KEY, value TEXT NOT NULL);""",
)
CLOUDS = (
    """CREATE TABLE cloud (id INTEGER PRIMARY KEY AUTOINCREMENT,
    sitting_id INTEGER NOT NULL REFERENCES sitting(id) ON DELETE CASCADE, name TEXT NOT NULL, blob TEXT NOT NULL,
    settings TEXT NOT NULL, figures TEXT NOT NULL, made TEXT NOT NULL, chosen INTEGER NOT NULL DEFAULT 0,
    shown INTEGER NOT NULL DEFAULT 1);""",
    """CREATE TABLE cleaning (id INTEGER PRIMARY KEY AUTOINCREMENT,
    cloud_id INTEGER NOT NULL REFERENCES cloud(id) ON DELETE CASCADE, step TEXT NOT NULL, blob TEXT NOT NULL,
    removed INTEGER NOT NULL);""",
)
JOINS = (
    """CREATE TABLE joined (sitting_id INTEGER PRIMARY KEY REFERENCES sitting(id) ON DELETE CASCADE,
    members TEXT NOT NULL, found TEXT);""",
    """CREATE TABLE role (number INTEGER PRIMARY KEY, role TEXT NOT NULL);""",
    """CREATE TABLE pick (id INTEGER PRIMARY KEY AUTOINCREMENT,
    sitting_id INTEGER NOT NULL REFERENCES sitting(id) ON DELETE CASCADE, name TEXT NOT NULL, places TEXT NOT NULL,
    used INTEGER NOT NULL DEFAULT 1, UNIQUE (sitting_id, name));""",
)
#: the clouds that jobs had before there could be several
FIRST_CLOUDS = (
    "INSERT INTO cloud (sitting_id, name, blob, settings, figures, made, chosen) SELECT sitting_id, 'Cloud 1', blob, "
    "settings, figures, made, 1 FROM result JOIN artefact ON artefact.result_id = result.id "
    "WHERE stage = 'cloud' AND artefact.name = 'cloud'"
)
MARK_TABLES = ("mark", "sighting", "shape", "length", "level", "measurement")
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
    aside INTEGER NOT NULL DEFAULT 0, position INTEGER NOT NULL, exposure_s REAL, f_number REAL, iso REAL,
    modified INTEGER NOT NULL DEFAULT 0, turn INTEGER NOT NULL DEFAULT 0, focus_m REAL);
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
    settings TEXT NOT NULL, seconds REAL NOT NULL, outcome TEXT NOT NULL, figures TEXT NOT NULL, message TEXT NOT NULL,
    program TEXT NOT NULL DEFAULT '');
CREATE TABLE desk (key TEXT PRIMARY KEY, value TEXT NOT NULL);
"""
    + HANDMASK
    + REMOVED
    + "\n".join(MARKS + CLOUDS + JOINS)
    + undo.SCHEMA
)

PHOTO_TRIGGERS = [
    *(f"DROP TRIGGER record_photo_{event}" for event in ("insert", "update", "delete")),
    *undo.triggers("photo"),
]
#: statements that bring a job of version N (the key) to version N + 1
MIGRATIONS = {
    1: [HANDMASK, *undo.triggers("handmask")],
    2: [
        *(
            f"ALTER TABLE photo ADD COLUMN {c}"
            for c in (
                "exposure_s REAL", "f_number REAL", "iso REAL", "modified INTEGER NOT NULL DEFAULT 0",
                "turn INTEGER NOT NULL DEFAULT 0",
            )
        ),
        *PHOTO_TRIGGERS,
    ],
    3: ["ALTER TABLE photo ADD COLUMN focus_m REAL", *PHOTO_TRIGGERS],
    4: [REMOVED, *undo.triggers("removed")],
    5: [
        *MARKS,
        *(x for table in MARK_TABLES for x in undo.triggers(table)),
        "ALTER TABLE ledger ADD COLUMN program TEXT NOT NULL DEFAULT ''",
    ],
    6: [*CLOUDS, FIRST_CLOUDS, *undo.triggers("cloud"), *undo.triggers("cleaning")],
    7: [*JOINS, *(x for table in ("joined", "role", "pick") for x in undo.triggers(table))],
}  # fmt: skip


def job_folder(path):
    """The folder a job of that name has: with its suffix."""
    path = Path(path)
    return path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX)


class JobInUse(UmbrateError):
    """Another process writes the job; it can still be opened for reading."""


class Job(Sittings, Choices, Marks, Clouds, Joins, Results):
    """An open job. Use `Job.create` or `Job.open`, and close it.

    What it holds is told by its six parts: its sittings and photos, what was chosen for them, what was marked on
    them by hand, their clouds, how they are joined, and what came of the rest.
    """

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
                (str(VERSION), uuid.uuid4().hex, now()),
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
        if not (folder / "job.sqlite").exists() and job_folder(folder).exists():
            folder = job_folder(folder)  # the suffix may be left out, even beside a folder of photos of that name
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
        if version < VERSION and not writable:
            db.close()
            try:
                cls.open(folder).close()  # brings it up to date
            except UmbrateError as e:
                raise UmbrateError(
                    f"{folder.name} was made by an older version and has to be brought up to date before it can be "
                    f"read. {e}"
                ) from e
            return cls.open(folder, writable=False)
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
