"""Undo for everything the user does to a job, by the database itself.

Triggers on the document's tables write down, for every change, the statement that takes it back.
Nothing that edits a job has to know about undo, so nothing can forget it. Undoing runs those
statements under the same triggers, which record the way forward again. The log is part of the job
and survives closing it.
"""

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
    "measurement": ("id", "sitting_id", "name", "kind", "ends"),
    "joined": ("sitting_id", "members", "found"),
    "role": ("number", "role"),
    "pick": ("id", "sitting_id", "name", "places", "used"),
}

SCHEMA = """
CREATE TABLE step (id INTEGER PRIMARY KEY AUTOINCREMENT, label TEXT NOT NULL, undone INTEGER NOT NULL DEFAULT 0);
CREATE TABLE inverse (id INTEGER PRIMARY KEY AUTOINCREMENT, step_id INTEGER NOT NULL, statement TEXT NOT NULL);
CREATE TABLE recording (step_id INTEGER);
"""


def triggers(table):
    """The statements that make a table's changes undoable."""
    columns = TABLES[table]
    names = ", ".join(columns)
    values = " || ',' || ".join(f"quote(old.{c})" for c in columns)
    sets = " || ', ".join(f"{c} = ' || quote(old.{c})" for c in columns)
    record = "INSERT INTO inverse (step_id, statement) SELECT step_id, {} FROM recording;"
    events = (
        ("INSERT", f"'DELETE FROM {table} WHERE rowid = ' || new.rowid"),
        ("UPDATE", f"'UPDATE {table} SET {sets} || ' WHERE rowid = ' || old.rowid"),
        ("DELETE", f"'INSERT INTO {table} (rowid, {names}) VALUES (' || old.rowid || ',' || {values} || ')'"),
    )
    return [
        f"CREATE TRIGGER record_{table}_{event.lower()} AFTER {event} ON {table} BEGIN {record.format(text)} END;"
        for event, text in events
    ]


def trigger_sql():
    """The statements that create all triggers."""
    return "\n".join(t for table in TABLES for t in triggers(table))


class Undo:
    """Steps back and forth over the recorded changes of a job's database."""

    def __init__(self, connection):
        self.db = connection

    def begin(self, label):
        """Start recording a user's action; what had been undone can no longer be redone."""
        self.db.execute("DELETE FROM inverse WHERE step_id IN (SELECT id FROM step WHERE undone)")
        self.db.execute("DELETE FROM step WHERE undone")
        step = self.db.execute("INSERT INTO step (label) VALUES (?)", (label,)).lastrowid
        self.db.execute("INSERT INTO recording VALUES (?)", (step,))
        return step

    def end(self, step):
        """Stop recording; an action that changed nothing leaves no step."""
        self.db.execute("DELETE FROM recording")
        if not self.db.execute("SELECT 1 FROM inverse WHERE step_id = ?", (step,)).fetchone():
            self.db.execute("DELETE FROM step WHERE id = ?", (step,))

    def labels(self):
        """What undo and redo would do now: two texts, None where there is nothing."""
        undo = self.db.execute("SELECT label FROM step WHERE NOT undone ORDER BY id DESC LIMIT 1").fetchone()
        redo = self.db.execute("SELECT label FROM step WHERE undone ORDER BY id LIMIT 1").fetchone()
        return (undo and undo[0]), (redo and redo[0])

    def move(self, back):
        """Undo (`back`) or redo one step, inside the caller's transaction; returns its label or None."""
        order = "NOT undone ORDER BY id DESC" if back else "undone ORDER BY id"
        row = self.db.execute(f"SELECT id, label FROM step WHERE {order} LIMIT 1").fetchone()
        if row is None:
            return None
        step, label = row
        statements = [
            r[0] for r in self.db.execute("SELECT statement FROM inverse WHERE step_id = ? ORDER BY id DESC", (step,))
        ]
        self.db.execute("DELETE FROM inverse WHERE step_id = ?", (step,))
        self.db.execute("INSERT INTO recording VALUES (?)", (step,))
        # a restored photo may come before its sitting: check references when all is back
        self.db.execute("PRAGMA defer_foreign_keys = ON")
        for s in statements:
            self.db.execute(s)
        self.db.execute("DELETE FROM recording")
        self.db.execute("UPDATE step SET undone = ? WHERE id = ?", (int(back), step))
        return label
