"""The job's database connection: its errors are sentences, and it does nothing that a job does not need.

SQL is written by this program alone, but a file may hold triggers; what the file is checked for at opening is held
here a second time: nothing can attach other files, change settings or change the schema.
"""

import sqlite3

from ..core.errors import UmbrateError

DENIED = {
    getattr(sqlite3, f"SQLITE_{name}")
    for name in (
        "ATTACH", "DETACH", "ALTER_TABLE", "ANALYZE", "REINDEX", "CREATE_INDEX", "CREATE_TABLE", "CREATE_TEMP_INDEX",
        "CREATE_TEMP_TABLE", "CREATE_TEMP_TRIGGER", "CREATE_TEMP_VIEW", "CREATE_TRIGGER", "CREATE_VIEW", "DROP_INDEX",
        "DROP_TABLE", "DROP_TEMP_INDEX", "DROP_TEMP_TABLE", "DROP_TEMP_TRIGGER", "DROP_TEMP_VIEW", "DROP_TRIGGER",
        "DROP_VIEW", "CREATE_VTABLE", "DROP_VTABLE",
    )
}  # fmt: skip
PRAGMAS = ("defer_foreign_keys", "wal_checkpoint", "data_version")
WAIT_S = 5.0  #: for a lock that another process holds for a moment


def _allowed(action, first, second, _database, _source):
    if action in DENIED or (action == sqlite3.SQLITE_PRAGMA and first not in PRAGMAS):
        return sqlite3.SQLITE_DENY
    if action == sqlite3.SQLITE_FUNCTION and str(second).lower() in ("load_extension", "fts3_tokenizer"):
        return sqlite3.SQLITE_DENY
    return sqlite3.SQLITE_OK


class StoreError(UmbrateError):
    """The job's database could not be read or written; what was there before is as it was."""


DAMAGED = "The job's database is damaged. Copy the job's folder before anything else; then open a backup of it."
KEPT = "Nothing that was finished before is lost."


def sentence(error):
    """What a database error means, and the way on."""
    code = getattr(error, "sqlite_errorcode", None)
    code = code & 0xFF if code is not None else None
    if code in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
        return f"The job is locked by another program. Close it there, then try again. {KEPT}"
    if code == sqlite3.SQLITE_FULL:
        return f"The disk is full: the change could not be saved. Free some space, then do it again. {KEPT}"
    if code == sqlite3.SQLITE_READONLY:
        return f"The job lies where it cannot be written to. Copy it to a place you may write to. {KEPT}"
    if code in (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB):
        return DAMAGED
    if code in (sqlite3.SQLITE_IOERR, sqlite3.SQLITE_CANTOPEN):
        return (
            f"The disk could not be read or written ({error}). Is it full, or was it taken out? The change was not "
            f"saved. {KEPT}"
        )
    if code == sqlite3.SQLITE_AUTH:
        return "The job's file asked for something that no job needs, which was refused. Do not use this job file."
    return f"The change could not be saved ({error}). {KEPT}"


def no_room(error):
    """Whether a database error tells that a disk is full or cannot be written to, and not that the file is damaged.

    The log's shared file, which is made at opening, is an I/O error where it does not fit.
    """
    code = getattr(error, "sqlite_errorcode", None)
    return code is not None and code & 0xFF in (sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR, sqlite3.SQLITE_CANTOPEN)


def _said(call):
    """A method whose database errors are StoreErrors."""

    def method(self, *arguments):
        try:
            return call(self, *arguments)
        except sqlite3.Error as e:
            raise StoreError(sentence(e)) from e
        except UnicodeDecodeError as e:  # a name in a damaged file, in the message of an error
            raise StoreError(DAMAGED) from e

    return method


class Cursor(sqlite3.Cursor):
    """A cursor whose errors are sentences."""

    execute = _said(sqlite3.Cursor.execute)
    executemany = _said(sqlite3.Cursor.executemany)
    fetchone = _said(sqlite3.Cursor.fetchone)
    fetchall = _said(sqlite3.Cursor.fetchall)
    __next__ = _said(sqlite3.Cursor.__next__)


class Database(sqlite3.Connection):
    """A connection whose errors are sentences."""

    def cursor(self, factory=Cursor):
        """A Cursor."""
        return super().cursor(factory)

    def execute(self, sql, values=()):
        """Run one statement."""
        return self.cursor().execute(sql, values)

    def executemany(self, sql, rows):
        """Run one statement for many rows."""
        return self.cursor().executemany(sql, rows)

    def guard(self):
        """From now on nothing changes the schema or the settings, and no other file is touched."""
        self.set_authorizer(_allowed)


def connect(file, *, readonly=False, immutable=False):
    """Open a database file in autocommit: transactions are ours to begin, so that nothing is left open by accident.

    Raises
    ------
    sqlite3.Error
    """
    mode = "ro" if readonly else "rwc"
    more = "&immutable=1" if immutable else ""
    db = sqlite3.connect(
        f"{file.absolute().as_uri()}?mode={mode}{more}", uri=True, isolation_level=None, factory=Database,
        timeout=WAIT_S,
    )  # fmt: skip
    try:
        for pragma in ("foreign_keys = ON", "synchronous = FULL", "trusted_schema = OFF", "cell_size_check = ON"):
            sqlite3.Connection.execute(db, f"PRAGMA {pragma}")
    except sqlite3.Error:
        db.close()
        raise
    return db
