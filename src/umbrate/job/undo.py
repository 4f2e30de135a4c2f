"""Undo for everything the user does to a job, by the database itself.

Triggers on the document's tables write down, for every change, the row as it was: table, row and values, never a
statement. Nothing that edits a job has to know about undo, so nothing can forget it. Undoing puts those rows back
under the same triggers, which record the way forward again. The log is part of the job and survives closing it; as a
job may come from a stranger, each entry is checked before it is used.
"""

import re

from ..core.errors import UmbrateError

TABLES = {
    "sitting": ("id", "name", "position"),
    "photo": (
        "id",
        "sitting_id",
        "name",
        "path",
        "size",
        "hash",
        "width",
        "height",
        "orientation",
        "make",
        "model",
        "lens",
        "focal_mm",
        "focal_35mm",
        "taken",
        "aside",
        "position",
        "exposure_s",
        "f_number",
        "iso",
        "modified",
        "turn",
        "focus_m",
    ),
    "choice": ("sitting_id", "stage", "settings"),
    "keepbox": ("sitting_id", "box"),
    "handmask": ("photo_id", "blob"),
    "removed": ("sitting_id", "blob"),
    "mark": ("id", "sitting_id", "name", "used", "known", "held"),
    "sighting": ("id", "mark_id", "photo_id", "x", "y", "sigma_px", "used"),
    "shape": ("id", "sitting_id", "kind", "name", "points"),
    "length": ("id", "sitting_id", "first", "second", "value_mm", "sigma_mm", "role"),
    "level": ("sitting_id", "level"),
    "cloud": ("id", "sitting_id", "name", "blob", "settings", "figures", "made", "chosen", "shown"),
    "cleaning": ("id", "cloud_id", "step", "blob", "removed"),
    "surface": ("id", "sitting_id", "name", "blob", "settings", "figures", "made", "chosen", "shown"),
    "mending": ("id", "surface_id", "step", "blob", "removed"),
    "measurement": ("id", "sitting_id", "name", "kind", "ends"),
    "joined": ("sitting_id", "members", "found"),
    "role": ("number", "role"),
    "pick": ("id", "sitting_id", "name", "places", "used"),
    "target": ("id", "sitting_id", "number", "known", "held"),
    "section": ("id", "sitting_id", "name", "plane"),
}

SCHEMA = """
CREATE TABLE step (id INTEGER PRIMARY KEY AUTOINCREMENT, label TEXT NOT NULL, undone INTEGER NOT NULL DEFAULT 0);
CREATE TABLE inverse (id INTEGER PRIMARY KEY AUTOINCREMENT, step_id INTEGER NOT NULL, tbl TEXT NOT NULL,
    act TEXT NOT NULL, row INTEGER NOT NULL, old TEXT);
CREATE TABLE recording (step_id INTEGER);
"""
MOST_STEPS = 300  #: that are kept: what they would bring back takes space
INSERT, UPDATE, DELETE = "insert", "update", "delete"  #: what takes a change back


def triggers(table):
    """The statements that make a table's changes undoable."""
    old = " || ',' || ".join(f"quote(old.{c})" for c in TABLES[table])
    out = []
    for event, act, row, values in (
        (INSERT, DELETE, "new.rowid", "NULL"),
        (UPDATE, UPDATE, "old.rowid", old),
        (DELETE, INSERT, "old.rowid", old),
    ):
        out.append(
            f"CREATE TRIGGER record_{table}_{event} AFTER {event.upper()} ON {table} BEGIN INSERT INTO inverse "
            f"(step_id, tbl, act, row, old) SELECT step_id, '{table}', '{act}', {row}, {values} FROM recording; END;"
        )
    return out


def trigger_sql():
    """The statements that create all triggers."""
    return "\n".join(t for table in TABLES for t in triggers(table))


_LITERAL = re.compile(
    r"(?P<null>NULL)|'(?P<text>(?:[^']|'')*)'|(?P<int>-?\d+)(?![\d.eE])|(?P<real>-?\d+\.?\d*(?:[eE][+-]?\d+)?)"
)


def literals(text):
    """The values that SQLite's ``quote()`` wrote, with commas between: None, numbers and texts.

    Raises
    ------
    ValueError
        Where anything else stands there.
    """
    out, at = [], 0
    while True:
        m = _LITERAL.match(text, at)
        if not m:
            raise ValueError(text)
        kind = m.lastgroup
        value = m.group(kind)
        out.append(
            None
            if kind == "null"
            else value.replace("''", "'")
            if kind == "text"
            else int(value)
            if kind == "int"
            else float(value)
        )
        at = m.end()
        if at == len(text):
            return out
        if text[at] != ",":
            raise ValueError(text)
        at += 1


class Undo:
    """Steps back and forth over the recorded changes of a job's database."""

    def __init__(self, connection):
        self.db = connection

    def begin(self, label):
        """Start recording a user's action; what had been undone can no longer be redone."""
        self.db.execute("DELETE FROM inverse WHERE step_id IN (SELECT id FROM step WHERE undone)")
        self.db.execute("DELETE FROM step WHERE undone")
        forget(self.db, MOST_STEPS - 1)
        step = self.db.execute("INSERT INTO step (label) VALUES (?)", (label,)).lastrowid
        self.db.execute("INSERT INTO recording VALUES (?)", (step,))
        return step

    def count(self):
        """How many steps can be undone."""
        return self.db.execute("SELECT count(*) FROM step WHERE NOT undone").fetchone()[0]

    def end(self, step):
        """Stop recording; an action that changed nothing leaves no step."""
        self.db.execute("DELETE FROM recording")
        if not self.db.execute("SELECT 1 FROM inverse WHERE step_id = ?", (step,)).fetchone():
            self.db.execute("DELETE FROM step WHERE id = ?", (step,))

    def labels(self):
        """What undo and redo would do now: two texts, None where there is nothing."""
        undo = self.db.execute("SELECT label FROM step WHERE NOT undone ORDER BY id DESC LIMIT 1").fetchone()
        redo = self.db.execute("SELECT label FROM step WHERE undone ORDER BY id LIMIT 1").fetchone()
        return (undo and str(undo[0])), (redo and str(redo[0]))

    def move(self, back):
        """Undo (`back`) or redo one step, inside the caller's transaction; returns its label or None.

        Raises
        ------
        UmbrateError
            Where the log holds something that no action of this program wrote; nothing is changed then.
        """
        order = "NOT undone ORDER BY id DESC" if back else "undone ORDER BY id"
        row = self.db.execute(f"SELECT id, label FROM step WHERE {order} LIMIT 1").fetchone()
        if row is None:
            return None
        step, label = row
        rows = self.db.execute(
            "SELECT tbl, act, row, old FROM inverse WHERE step_id = ? ORDER BY id DESC", (step,)
        ).fetchall()
        changes = [checked(*r) for r in rows]
        self.db.execute("DELETE FROM inverse WHERE step_id = ?", (step,))
        self.db.execute("INSERT INTO recording VALUES (?)", (step,))
        # a restored photo may come before its sitting: check references when all is back
        self.db.execute("PRAGMA defer_foreign_keys = ON")
        for statement, values in changes:
            self.db.execute(statement, values)
        self.db.execute("DELETE FROM recording")
        self.db.execute("UPDATE step SET undone = ? WHERE id = ?", (int(back), step))
        return label


def checked(table, act, row, old):
    """The statement and values that take a change back; built from what this module knows, never from the log."""
    try:
        columns = TABLES[table]
        row = int(row)
        if act == DELETE:
            return f"DELETE FROM {table} WHERE rowid = ?", (row,)
        values = literals(old)
        if len(values) != len(columns) or (columns[0] == "id" and values[0] != row):
            raise ValueError(old)
        if act == UPDATE:
            return f"UPDATE {table} SET {', '.join(f'{c} = ?' for c in columns)} WHERE rowid = ?", (*values, row)
        if act == INSERT:
            names = ", ".join(("rowid", *columns))
            return f"INSERT INTO {table} ({names}) VALUES (?{', ?' * len(columns)})", (row, *values)
        raise ValueError(act)
    except (KeyError, TypeError, ValueError, AttributeError):
        raise UmbrateError(
            "This step cannot be taken back: its entry in the job's history is not one that Umbrate wrote. Nothing was "
            "changed."
        ) from None


def forget(db, keep):
    """Forget all but the last `keep` steps, inside the caller's transaction; returns how many went."""
    row = db.execute(
        "SELECT id FROM step WHERE NOT undone ORDER BY id DESC LIMIT 1 OFFSET ?", (max(keep, 0),)
    ).fetchone()
    if row is None:
        return 0
    db.execute("DELETE FROM inverse WHERE step_id <= ?", row)
    return db.execute("DELETE FROM step WHERE id <= ?", row).rowcount
