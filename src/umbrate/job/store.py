"""The job on disk: the only place that writes one.

``NAME.umbrate/job.sqlite`` says what the job is; ``blobs/`` holds its arrays. One process writes at
a time, which holds ``lock``; others may read. A stage's results appear in one transaction or not
at all.
"""

import logging
import os
import shutil
import sqlite3
import tempfile
import time
import uuid
from contextlib import ExitStack, contextmanager
from functools import lru_cache
from itertools import islice
from pathlib import Path

from ..core.disk import sync_folder
from ..core.errors import UmbrateError
from ..core.names import is_plain, printable
from . import schema, undo
from .blobs import LEFT_S, BlobStore
from .choices import Choices
from .clouds import Clouds
from .database import connect, no_room
from .earlier import Earlier
from .folder import OF_DATABASE, HeldFolder, JobInUse, JobReadOnly
from .joins import Joins
from .lengths import Lengths
from .marks import Marks
from .memo import Memo
from .results import Results, now
from .rows import LATER, RULES, wrong_rows
from .sections import Sections
from .sittings import Sittings
from .surfaces import Surfaces
from .tidying import Tidying

log = logging.getLogger(__name__)
SUFFIX = ".umbrate"
MAKING = ".making-"  #: how jobs that are being made are called
AT_ONCE = [t for t in RULES if t not in LATER]  #: tables whose rows are checked at opening

__all__ = ["SUFFIX", "Job", "JobInUse", "JobReadOnly", "job_folder"]


def job_folder(path):
    """The folder a job of that name has: with its suffix.

    Raises
    ------
    UmbrateError
        Where no folder can have that name.
    """
    path = Path(path)
    folder = path if path.suffix == SUFFIX else path.with_name((path.name or "job") + SUFFIX)
    try:
        why = "" if is_plain(folder.name) else "it is no plain text"
        folder.exists()
    except (OSError, ValueError) as e:
        why = getattr(e, "strerror", None) or "it is no plain text"
    if why:
        raise UmbrateError(f"A job cannot be called “{printable(path.name)[:40]}” ({why}). Choose another name.")
    return folder


@lru_cache(maxsize=1)
def expected_contents():
    """What an empty job holds, see `schema.contents`."""
    db = sqlite3.connect(":memory:")
    db.executescript(schema.schema_sql())
    try:
        return schema.contents(db)
    finally:
        db.close()


def _damaged(name, e):
    return UmbrateError(f"{name} is damaged: its database cannot be read ({e}). Open a backup of it.")


class Job(Sittings, Choices, Marks, Lengths, Clouds, Surfaces, Joins, Sections, Results, Earlier, Tidying, Memo):
    """An open job. Use `Job.create` or `Job.open`, and close it.

    What it holds is described by its parts: its sittings and photos, what was chosen for them, what was marked on them
    by hand, what was stated and measured, their clouds and surfaces, sections, how they are joined, and what came of
    the rest.

    Attributes
    ----------
    folder : Path
    writable : bool
    note : str
        Why it is open for reading only, where the file itself is the reason, or what opening it cost; else empty.
    """

    def __init__(self, home, connection, writable, note="", copy=None):
        self.folder, self.db, self.writable, self.note = home.path, connection, writable, note
        self._home, self._copy = home, copy
        self.blobs = BlobStore(self.folder / "blobs")
        self._undo = undo.Undo(connection)
        self.measured_from = {}  #: by sitting id, what measurements were last computed from (`actions.measuring`)
        self._closed = self._acting = False
        Memo.__init__(self)

    # ------------------------------------------------------------------ open and close
    @classmethod
    def create(cls, folder):
        """Make a new job folder. The suffix ``.umbrate`` is added where it is missing.

        It is made beside its place and moved there when it is whole: killed on the way, it can be made again.
        """
        folder = job_folder(folder)
        try:
            if folder.exists() and not _left_half_made(folder):
                raise UmbrateError(f"{folder.name} is there already. Choose another name, or open it.")
            folder.parent.mkdir(parents=True, exist_ok=True)
            _remove_left(folder.parent)
            with tempfile.TemporaryDirectory(dir=folder.parent, prefix=MAKING, ignore_cleanup_errors=True) as part:
                _make(Path(part))
                if folder.exists():
                    _remove_half_made(folder)
                os.rename(part, folder)
                sync_folder(folder.parent)
                os.chmod(folder, 0o777 & ~_umask())
                os.mkdir(part)  # the temporary folder tidies itself away
        except OSError as e:
            raise UmbrateError(f"{folder} cannot be made ({e.strerror}). Choose a place you may write to.") from e
        except sqlite3.Error as e:
            raise UmbrateError(f"{folder} cannot be made ({e}). Is there space on the disk?") from e
        return cls.open(folder)

    @staticmethod
    def folder_of(folder):
        """The folder of the job that people mean by a path.

        Raises
        ------
        UmbrateError
            Where there is none.
        """
        folder = Path(folder)
        try:
            if folder.name == "job.sqlite" and folder.is_file():
                folder = folder.parent  # a file manager opens the file in the folder
            if not (folder / "job.sqlite").exists() and job_folder(folder).exists():
                folder = job_folder(folder)  # the suffix may be left out, even beside a folder of photos of that name
            if not (folder / "job.sqlite").exists():
                what = "does not exist" if not folder.exists() else "is not a job (it holds no job.sqlite)"
                raise UmbrateError(f"{folder} {what}. A job is a folder whose name ends in {SUFFIX}.")
        except (OSError, ValueError) as e:
            why = getattr(e, "strerror", None) or "its name is no plain text"
            raise UmbrateError(f"{printable(folder)[:60]} cannot be opened ({why}).") from e
        return folder

    @classmethod
    def open(cls, folder, writable=True):
        """Open a job folder.

        Raises
        ------
        JobInUse, JobReadOnly
            Where it cannot be written now, or not at all; `writable` False opens it for reading.
        UmbrateError
            When it is no job, is damaged, was made by a newer version or changed by another program.
        """
        folder = cls.folder_of(folder)
        with ExitStack() as held:
            try:
                home = HeldFolder(folder)
            except OSError as e:
                raise UmbrateError(f"{folder.name} cannot be opened ({e.strerror}). Check its permissions.") from e
            held.callback(home.close)
            if writable:
                home.lock()
            job = cls._opened(home, writable, held)
            held.pop_all()
            return job

    @classmethod
    def _opened(cls, home, writable, held):
        """The Job of a HeldFolder; `held` gives back what was taken where something is wrong."""
        name, file, copy = home.path.name, home.path / "job.sqlite", None
        try:
            db = _connect(file, writable)
            if db is None:
                copy = tempfile.TemporaryDirectory(prefix="umbrate-reading-")
                held.callback(copy.cleanup)
                db = _connect(copied_database(home, Path(copy.name)), True)
            held.callback(db.close)
            _check_kinds(db, name)
            version = _version(db)
        except UmbrateError:
            raise
        except (sqlite3.Error, OSError, TypeError, ValueError) as e:
            if writable and no_room(e):
                raise JobReadOnly(
                    f"{name} cannot be written to ({e}): most likely the disk is full. Free some space, then open it "
                    "again. Nothing is lost."
                ) from e
            raise _damaged(name, e) from e
        if version > schema.VERSION:
            raise UmbrateError(f"{name} was made by a newer version of Umbrate. Update Umbrate to open it.")
        if version < schema.VERSION and not writable and copy is None:
            # an older job is read from a copy that is brought up to date: the job itself stays as it is
            copy = tempfile.TemporaryDirectory(prefix="umbrate-reading-")
            held.callback(copy.cleanup)
            db.close()
            try:
                db = _connect(copied_database(home, Path(copy.name)), True)
            except (sqlite3.Error, OSError) as e:
                raise _damaged(name, e) from e
            held.callback(db.close)
        job = cls(home, db, writable, copy=copy)
        if version < schema.VERSION:
            try:
                if writable and version <= schema.LAST_WITH_STATEMENTS and any(job.undo_labels()):
                    job.note = (
                        "This job was made by an older version: what was done in it before can no longer be undone."
                    )
                with job._changes(check=writable):
                    schema.bring_up_to_date(db, version)
            except (sqlite3.Error, UmbrateError, ValueError, TypeError, KeyError, AttributeError) as e:
                raise UmbrateError(
                    f"{name} was made by an older version and could not be brought up to date ({e}). It was left as "
                    "it is."
                ) from e
        try:
            wrong, more = schema.differences(db, expected_contents())
            if not wrong:
                wrong = list(islice(map(str, wrong_rows(db, AT_ONCE)), 4))
        except (sqlite3.Error, UmbrateError, UnicodeDecodeError) as e:
            raise _damaged(name, e) from e
        if wrong:
            schema.refuse(name, wrong)
        if more:
            job.writable, job.note = False, f"{name} is open for reading only: {more[0]}, which no job needs."
            home.unlock()
        db.guard()
        if job.writable:
            job.remove_parts()
        return job

    def close(self):
        """Tidy up, close the database and give the lock back, whatever goes wrong. Closing twice does no harm."""
        if self._closed:
            return
        self._closed = True
        with ExitStack() as held:
            held.callback(self._home.close)
            if self._copy is not None:
                held.callback(self._copy.cleanup)
            held.callback(self.db.close)
            if self.writable and self._home.is_here():
                try:
                    self.tidy()
                except Exception as e:  # what is not tidied up now is at the next closing
                    log.warning("%s was not tidied up: %s", self.folder.name, e)

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
        """All of it happens or none; it may be part of a larger one."""
        if not self.writable:
            raise UmbrateError(self.note or f"{self.folder.name} is open for reading only.")
        if self.db.in_transaction:
            yield
            return
        with self._changes(check=True):
            yield

    @contextmanager
    def _changes(self, check):
        self.db.execute("BEGIN IMMEDIATE")
        try:
            yield
            if check:
                self._home.check()  # results in a moved job would be without their blobs
            self.db.execute("COMMIT")
        except BaseException:
            if self.db.in_transaction:
                self.db.execute("ROLLBACK")
            raise

    @contextmanager
    def action(self, label):
        """One thing the user does: all of it happens or none, and it can be undone as `label`.

        Inside another action it is part of that one.
        """
        if self.db.in_transaction and self._acting:
            yield
            return
        with self._transaction():
            step = self._undo.begin(label)
            self._acting = True
            try:
                yield
            finally:
                self._acting = False
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

    def undo_steps(self):
        """How many steps can be undone."""
        return self._undo.count()


# ---------------------------------------------------------------------- making and reading files
def _umask():
    mask = os.umask(0)
    os.umask(mask)
    return mask


def _make(folder):
    """Make an empty job in a folder."""
    (folder / "blobs").mkdir()
    db = sqlite3.connect(folder / "job.sqlite", isolation_level=None)
    try:
        db.execute("PRAGMA journal_mode = WAL")
        db.executescript(schema.schema_sql())
        db.execute(
            "INSERT INTO meta VALUES ('version', ?), ('uuid', ?), ('created', ?)",
            (str(schema.VERSION), uuid.uuid4().hex, now()),
        )
    finally:
        db.close()
    with open(folder / "job.sqlite", "rb") as f:
        os.fsync(f.fileno())


def _left_half_made(folder):
    """Whether a folder is a job whose making was killed: nothing in it but an empty database and no blobs."""
    names = {p.name for p in folder.iterdir()}
    if not names or not names <= {*OF_DATABASE, "blobs", "lock"} or any(p.is_symlink() for p in folder.iterdir()):
        return False
    if (folder / "blobs").is_dir() and any((folder / "blobs").iterdir()):
        return False
    try:
        db = sqlite3.connect(f"{(folder / 'job.sqlite').absolute().as_uri()}?mode=ro", uri=True)
    except sqlite3.Error:
        return True
    try:
        return not db.execute("SELECT 1 FROM meta WHERE key = 'version'").fetchone()
    except sqlite3.OperationalError:
        return True
    except sqlite3.Error:
        return False
    finally:
        db.close()


def _remove_left(place):
    """Remove what jobs left whose making was killed."""
    for left in place.glob(f"{MAKING}*"):
        try:
            if time.time() - left.lstat().st_mtime > LEFT_S and left.is_dir() and not left.is_symlink():
                if {p.name for p in left.iterdir()} <= {*OF_DATABASE, "blobs"}:
                    _remove_half_made(left)
        except OSError:
            continue


def _remove_half_made(folder):
    for name in (*OF_DATABASE, "lock"):
        (folder / name).unlink(missing_ok=True)
    if (folder / "blobs").is_dir():
        (folder / "blobs").rmdir()
    folder.rmdir()


def _connect(file, writable):
    """The Database of a file; None where it can be read from a copy only.

    A medium that cannot be written to has no place for the file that readers of a growing log share.
    """
    db = None
    try:
        db = connect(file, readonly=not writable)
        sqlite3.Connection.execute(db, "SELECT count(*) FROM sqlite_master").fetchone()
        return db
    except sqlite3.OperationalError:
        if db is not None:
            db.close()
        if writable:
            raise
        return None
    except sqlite3.Error:
        if db is not None:
            db.close()
        raise


def copied_database(home, folder):
    """The database file of a HeldFolder, with its log, copied into a folder."""
    for name in OF_DATABASE:
        try:
            fd = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=home.fd)
        except FileNotFoundError:
            continue
        if name.endswith("-shm"):
            os.close(fd)
            continue
        with os.fdopen(fd, "rb") as source, open(folder / name, "wb") as target:
            shutil.copyfileobj(source, target)
    return folder / "job.sqlite"


def _check_kinds(db, name):
    """Raise where the tables that are read first are none: a view of such a name would be run by reading it."""
    rows = sqlite3.Connection.execute(db, "SELECT type, sql FROM sqlite_master WHERE name = 'meta'").fetchall()
    if [(t, str(q).lstrip().upper()[:12]) for t, q in rows] != [("table", "CREATE TABLE")]:
        schema.refuse(name, ["it holds no table “meta”"])
    views = sqlite3.Connection.execute(db, "SELECT name FROM sqlite_master WHERE type = 'view'").fetchall()
    if views:
        schema.refuse(name, [f"it holds a view “{printable(v)}”" for (v,) in views])


def _version(db):
    rows = sqlite3.Connection.execute(db, "SELECT value FROM meta WHERE key = 'version'").fetchall()
    return int(rows[0][0])
