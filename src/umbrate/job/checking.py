"""Whether a job is whole: every row, every data file; what can be computed again, what is lost, and mending it.

Mending takes out what is damaged: a result whose data are damaged goes, so that its cell is to be run again; a row of
what people said or drew that holds nothing a job can hold goes, and is told as lost. A database that cannot be read
whole, or has another shape than Umbrate makes, is written anew from the rows that can be read; the old file is kept.
"""

import hashlib
import os
import re
import shutil
import sqlite3
import tempfile
from contextlib import ExitStack, closing
from dataclasses import dataclass, field
from pathlib import Path

from ..core.disk import sync_folder
from ..core.errors import UmbrateError
from ..core.imaging.decode import stored_image
from . import schema, undo
from .blobs import BlobStore
from .contents import CLEANED, CLOUD, PICTURE, REMOVED, SURFACE, kind_of
from .database import connect
from .folder import Freed, HeldFolder
from .rows import RULES, wrong_rows
from .store import Job, copied_database, expected_contents

AGAIN, LOST, MENDED = "can be computed again", "is lost", "can be written anew"
KEPT_AS = "job.sqlite.damaged"  #: the database as it was before it was written anew
#: tables of what is computed: a wrong row there costs time, no work of people
COMPUTED = {"result", "artefact", "seen", "measured"}
#: what a sitting gets in the place of a value that is none
OF_SITTING = {
    "name": ("UPDATE sitting SET name = 'Sitting ' || id || ' (mended)' WHERE rowid = ?",),
    "position": ("UPDATE sitting SET position = id WHERE rowid = ?",),
}
SIDE_BY_SIDE = (("cloud", "cleaning", CLOUD, CLEANED), ("surface", "mending", SURFACE, SURFACE))


@dataclass(frozen=True)
class Fault:
    """Something that is damaged.

    Attributes
    ----------
    what : str
        A clause that says what.
    then : str
        AGAIN, LOST or MENDED.
    mend : tuple of (statement, values)
        What takes it out.
    """

    what: str
    then: str
    mend: tuple = ()

    def __str__(self):
        return f"{self.what}: {self.then}"


@dataclass
class Checked:
    """What a check found.

    Attributes
    ----------
    name : str
    faults : list of Fault
    files, bytes : int
        Data files that were read.
    unused : Freed
        Data files that nothing needs; removed where it was mended.
    mended : bool
    """

    name: str
    faults: list = field(default_factory=list)
    files: int = 0
    bytes: int = 0
    unused: Freed = field(default_factory=Freed)
    mended: bool = False


def check_job(folder, repair=False, progress=lambda share, sentence: None):
    """Check a job, and mend it where `repair` says so (Checked).

    progress : callable(share done, sentence); may raise to stop

    Raises
    ------
    UmbrateError
        Where the folder is no job, is open elsewhere (for mending), or was made by a newer version.
    """
    folder = Job.folder_of(folder)
    out = Checked(folder.stem)
    with ExitStack() as held:
        home = HeldFolder(folder)
        held.callback(home.close)
        if repair:
            home.lock()
        place = folder / "job.sqlite"
        if not repair:
            copy = held.enter_context(tempfile.TemporaryDirectory(prefix="umbrate-checking-"))
            place = copied_database(home, Path(copy))
        progress(0.0, "reading the database")
        out.faults += _of_database(place)
        if out.faults and repair:
            _write_anew(folder)
        if not out.faults or repair:
            try:
                with closing(connect(place)) as db:
                    _bring_up_to_date(db, folder.name)
                    _check_rest(db, folder, out, repair, progress)
            except (sqlite3.Error, UnicodeDecodeError) as e:
                raise UmbrateError(f"{folder.name} could not be read further ({e}). It was left as it is.") from e
    if repair:
        with Job.open(folder) as job:
            out.unused = job.tidy().blobs
        out.mended = True
    return out


def _bring_up_to_date(db, name):
    version = int(db.execute("SELECT value FROM meta WHERE key = 'version'").fetchone()[0])
    if version > schema.VERSION:
        raise UmbrateError(f"{name} was made by a newer version of Umbrate. Update Umbrate to check it.")
    if version < schema.VERSION:
        try:
            db.execute("BEGIN IMMEDIATE")
            schema.bring_up_to_date(db, version)
            db.execute("COMMIT")
        except (sqlite3.Error, UmbrateError, ValueError, TypeError, KeyError, AttributeError) as e:
            raise UmbrateError(f"{name} was made by an older version and could not be brought up to date ({e}).") from e


def _of_database(file):
    """Faults of the database as a file."""
    try:
        with closing(connect(file)) as db:
            told = [str(r[0]) for r in db.execute("PRAGMA integrity_check(20)").fetchall()]
            if told == ["ok"]:
                version = int(db.execute("SELECT value FROM meta WHERE key = 'version'").fetchone()[0])
                if version != schema.VERSION:
                    return []  # compared when it is up to date
                wrong, more = schema.differences(db, expected_contents())
                return [Fault(f"The database: {x}", MENDED) for x in (*wrong, *more)]
    except (sqlite3.Error, UmbrateError, TypeError, ValueError) as e:
        told = [str(e)]
    return [Fault(f"The database is damaged ({'; '.join(told[:3])})", MENDED)]


def _check_rest(db, folder, out, repair, progress):
    """Rows, references, the history and the data files, of a database that can be read."""
    faults = []
    for w in wrong_rows(db):
        mend = [(f"DELETE FROM {w.table} WHERE rowid = ?", (w.row,))]
        if w.table == "sitting":  # its photos and all that hangs on them would go with it
            faults.append(Fault(f"{str(w)[0].upper()}{str(w)[1:]}", MENDED, (OF_SITTING[w.column] + ((w.row,),),)))
            continue
        if w.table == "artefact":
            mend.insert(0, ("DELETE FROM result WHERE id = (SELECT result_id FROM artefact WHERE rowid = ?)", (w.row,)))
        faults.append(Fault(f"{str(w)[0].upper()}{str(w)[1:]}", AGAIN if w.table in COMPUTED else LOST, tuple(mend)))
    for table, row, parent, _ in db.execute("PRAGMA foreign_key_check").fetchall():
        told = f"Row {row} of the table “{table}” belongs to a row of “{parent}” that is not there"
        faults.append(Fault(told, LOST, ((f"DELETE FROM {table} WHERE rowid = ?", (row,)),)))
    faults += _of_history(db)
    if repair:
        _mend(db, faults)  # first, so that the files of rows that stay are looked at
    out.faults += faults
    store = _Files(folder / "blobs", out, progress)
    found = list(_of_results(db, store)) + list(_of_kept(db, store)) + list(_of_seen(db, store))
    if repair:
        _mend(db, found)
        store.remove_damaged()
    out.faults += found
    out.unused = store.unused()


def _mend(db, faults):
    db.execute("BEGIN IMMEDIATE")
    try:
        db.execute("PRAGMA defer_foreign_keys = ON")
        for f in faults:
            for statement, values in f.mend:
                db.execute(statement, values)
        db.execute("COMMIT")
    except BaseException:
        db.execute("ROLLBACK")
        raise


def _of_history(db):
    """Faults of what an undo would bring back."""
    for row in db.execute("SELECT tbl, act, row, old FROM inverse"):
        try:
            undo.checked(*row)
        except UmbrateError:
            everything = (("DELETE FROM inverse", ()), ("DELETE FROM step", ()), ("DELETE FROM recording", ()))
            return [Fault("The history of undo holds what Umbrate did not write", LOST, everything)]
    return []


class _Files:
    """The data files of a job, each read once."""

    def __init__(self, folder, out, progress):
        self.folder, self.out, self.progress = folder, out, progress
        self.told, self.needed = {}, set()
        self.count = max(1, sum(len(files) for _, _, files in os.walk(folder)))

    def fault(self, key, kind):
        """What is wrong with a blob, in a few words, or ""."""
        self.needed.add(key)
        if (key, kind) not in self.told:
            self.told[key, kind] = self._look(key, kind)
        return self.told[key, kind]

    def _look(self, key, kind):
        store = BlobStore(self.folder)
        self.progress(min(self.out.files / self.count, 1.0), f"{self.out.files:,} data files read")
        try:
            data = store.get_bytes(key)
        except UmbrateError:
            return "is missing"
        self.out.files += 1
        self.out.bytes += len(data)
        if hashlib.sha256(data).hexdigest() != key:
            return "is not as it was written"
        try:
            if kind == PICTURE:
                stored_image(data)
            elif kind is not None:
                store.get_arrays(key, kind)
        except UmbrateError as e:
            return f"holds something else ({e})"
        return ""

    def remove_damaged(self):
        """Remove files that are not what their names say, so that they are written again."""
        for (key, _), told in self.told.items():
            if told.startswith("is not"):
                (self.folder / key[:2] / key).unlink(missing_ok=True)

    def unused(self):
        """Data files that no row and no step of undo needs, as Freed; but not what is remembered for later runs."""
        store = BlobStore(self.folder)
        return store.remove_unused(self.needed | store.cached(forget=False), really=False)


def _of_results(db, store):
    """Faults of results' data: one for each result, whose first damaged file is named."""
    names = dict(db.execute("SELECT id, name FROM sitting").fetchall())
    broken = {}
    for result, sitting, stage, name, key in db.execute(
        "SELECT result.id, sitting_id, stage, name, blob FROM artefact JOIN result ON result.id = result_id"
    ):
        if told := store.fault(key, kind_of(name)):
            first = (names.get(sitting, "a sitting that is gone"), stage, name, told, [])
            broken.setdefault(result, first)[4].append(key)
    for result, (sitting, stage, name, told, keys) in broken.items():
        more = f", and {len(keys) - 1} more" if len(keys) > 1 else ""
        what = f"{stage.capitalize()} of “{sitting}”: its data file {keys[0][:12]} ({name}) {told}{more}"
        yield Fault(what, AGAIN, (("DELETE FROM result WHERE id = ?", (result,)),))


def _of_kept(db, store):
    """Faults of clouds and surfaces that stand side by side, of masks drawn by hand and of removed tie points."""
    for table, steps, kind, step_kind in SIDE_BY_SIDE:
        for i, name, key in db.execute(f"SELECT id, name, blob FROM {table}").fetchall():
            if told := store.fault(key, kind):
                out = ((f"DELETE FROM {table} WHERE id = ?", (i,)),)
                yield Fault(f"“{name}”: its data file {key[:12]} {told}", AGAIN, out)
                continue
            for step, step_key in db.execute(
                f"SELECT id, blob FROM {steps} WHERE {table}_id = ? ORDER BY id", (i,)
            ).fetchall():
                if told := store.fault(step_key, step_kind):
                    out = ((f"DELETE FROM {steps} WHERE {table}_id = ? AND id >= ?", (i, step)),)
                    yield Fault(f"“{name}”: a step of {steps} and those after it, whose data file {told},", LOST, out)
                    break
    for table, owner, kind, what in (
        ("handmask", "photo_id", PICTURE, "A mask drawn by hand"),
        ("removed", "sitting_id", REMOVED, "Which tie points were removed"),
    ):
        for i, key in db.execute(f"SELECT {owner}, blob FROM {table}").fetchall():
            if told := store.fault(key, kind):
                yield Fault(f"{what}: its data file {told}", LOST, ((f"DELETE FROM {table} WHERE {owner} = ?", (i,)),))


def _of_seen(db, store):
    """Faults of what was seen of photos, and of how sittings were found to lie; and what the history needs."""
    for h, text in db.execute("SELECT hash, what FROM seen").fetchall():
        for key in re.findall(r"[0-9a-f]{64}", str(text)):
            if told := store.fault(key, None):
                yield Fault(f"What was seen of a photo: {told}", AGAIN, (("DELETE FROM seen WHERE hash = ?", (h,)),))
                break
    for i, text in db.execute("SELECT sitting_id, found FROM joined WHERE found IS NOT NULL").fetchall():
        for key in re.findall(r"[0-9a-f]{64}", str(text)):
            if told := store.fault(key, None):
                out = (("UPDATE joined SET found = NULL WHERE sitting_id = ?", (i,)),)
                yield Fault(f"How joined sittings lie: a data file {told}", AGAIN, out)
                break
    for (text,) in db.execute("SELECT old FROM inverse WHERE old IS NOT NULL"):
        store.needed.update(re.findall(r"[0-9a-f]{64}", str(text)))


# ---------------------------------------------------------------------- a database that cannot be read whole
def _write_anew(folder):
    """Write a job's database anew from the rows that can be read; the old one is kept beside it."""
    file, new = folder / "job.sqlite", folder / "job.sqlite.new"
    have = dict(_rows_of(file, "meta", ("key", "value")))
    if str(have.get("version")) != str(schema.VERSION):
        raise UmbrateError(
            f"{folder.name} is damaged, and what version it is of cannot be read, or it is of another one. It was "
            "left as it is. Open a backup of it."
        )
    new.unlink(missing_ok=True)
    with closing(sqlite3.connect(new, isolation_level=None)) as db:
        db.execute("PRAGMA journal_mode = WAL")
        db.executescript(schema.schema_sql())
        db.execute("BEGIN")
        for key, value in have.items():
            db.execute("INSERT OR IGNORE INTO meta VALUES (?, ?)", (str(key), str(value)))
        tables = {name: None for name in ("sitting", "photo", *RULES, "step", "inverse")}
        for table in tables:
            columns = [r[1] for r in db.execute(f"PRAGMA table_info({table})").fetchall()]
            marks = ", ".join("?" * (1 + len(columns)))
            for row in _rows_of(file, table, ("rowid", *columns)):
                try:
                    db.execute(f"INSERT OR IGNORE INTO {table} (rowid, {', '.join(columns)}) VALUES ({marks})", row)
                except sqlite3.Error:
                    continue  # it breaks a rule of its table
        db.execute("COMMIT")
        db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    # copied, and only then replaced: killed at any moment there is a database, and all of the old one somewhere
    kept = next(k for k in (KEPT_AS, *(f"{KEPT_AS}.{n}" for n in range(2, 10**6))) if not (folder / k).exists())
    for end in ("-wal", ""):
        if (folder / f"job.sqlite{end}").exists():
            shutil.copyfile(folder / f"job.sqlite{end}", folder / f"{kept}{end}")
    for end in ("-wal", "-shm"):  # the old log must not be read into the new file
        (folder / f"job.sqlite{end}").unlink(missing_ok=True)
    os.replace(new, file)
    sync_folder(folder)
    for end in ("-wal", "-shm"):
        (folder / f"job.sqlite.new{end}").unlink(missing_ok=True)


def _rows_of(file, table, columns):
    """All rows of a table that can be read: from the first one on, and from the last one back to where it breaks."""
    seen = set()
    key = "rowid" if columns[0] == "rowid" else columns[0]
    for order in ("ASC", "DESC"):
        try:
            with closing(sqlite3.connect(f"{file.absolute().as_uri()}?mode=ro", uri=True)) as db:
                db.text_factory = lambda b: b.decode("utf-8", "replace")
                for row in db.execute(f"SELECT {', '.join(columns)} FROM {table} ORDER BY {key} {order}"):
                    if row[0] not in seen:
                        seen.add(row[0])
                        yield row
                return  # to its end
        except (sqlite3.Error, UnicodeDecodeError):  # the second where even the message of the error is damaged
            continue
