"""The tables of a job, how older jobs are brought up to date, and whether a file holds what a job holds.

A job file is data from a stranger: a view, a trigger or a table in it that is not ours would be run or read as if we
had written it. So what is there is held against what should be there before anything else is done with it.
"""

import json

from ..core.errors import UmbrateError
from . import undo

VERSION = 11

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


def _side_by_side(table, steps):
    """The tables of what stands side by side in a sitting, and of the steps that changed each."""
    return (
        f"""CREATE TABLE {table} (id INTEGER PRIMARY KEY AUTOINCREMENT,
    sitting_id INTEGER NOT NULL REFERENCES sitting(id) ON DELETE CASCADE, name TEXT NOT NULL, blob TEXT NOT NULL,
    settings TEXT NOT NULL, figures TEXT NOT NULL, made TEXT NOT NULL, chosen INTEGER NOT NULL DEFAULT 0,
    shown INTEGER NOT NULL DEFAULT 1);""",
        f"""CREATE TABLE {steps} (id INTEGER PRIMARY KEY AUTOINCREMENT,
    {table}_id INTEGER NOT NULL REFERENCES {table}(id) ON DELETE CASCADE, step TEXT NOT NULL, blob TEXT NOT NULL,
    removed INTEGER NOT NULL);""",
    )


CLOUDS, SURFACES = _side_by_side("cloud", "cleaning"), _side_by_side("surface", "mending")
JOINS = (
    """CREATE TABLE joined (sitting_id INTEGER PRIMARY KEY REFERENCES sitting(id) ON DELETE CASCADE,
    members TEXT NOT NULL, found TEXT);""",
    """CREATE TABLE role (number INTEGER PRIMARY KEY, role TEXT NOT NULL);""",
    """CREATE TABLE pick (id INTEGER PRIMARY KEY AUTOINCREMENT,
    sitting_id INTEGER NOT NULL REFERENCES sitting(id) ON DELETE CASCADE, name TEXT NOT NULL, places TEXT NOT NULL,
    used INTEGER NOT NULL DEFAULT 1, UNIQUE (sitting_id, name));""",
)
#: known coordinates of targets, section planes, and what was seen of a file by its content
LATER = (
    """CREATE TABLE target (id INTEGER PRIMARY KEY AUTOINCREMENT,
    sitting_id INTEGER NOT NULL REFERENCES sitting(id) ON DELETE CASCADE, number INTEGER NOT NULL, known TEXT NOT NULL,
    held INTEGER NOT NULL DEFAULT 1, UNIQUE (sitting_id, number));""",
    """CREATE TABLE section (id INTEGER PRIMARY KEY AUTOINCREMENT,
    sitting_id INTEGER NOT NULL REFERENCES sitting(id) ON DELETE CASCADE, name TEXT NOT NULL, plane TEXT NOT NULL,
    UNIQUE (sitting_id, name));""",
    """CREATE TABLE seen (hash TEXT PRIMARY KEY, what TEXT NOT NULL);""",
)
#: what earlier runs left behind, by their lines in the ledger
EARLIER = """CREATE TABLE earlier (entry INTEGER PRIMARY KEY, sitting_id INTEGER NOT NULL, stage TEXT NOT NULL,
    fingerprint TEXT NOT NULL, problems TEXT NOT NULL, made TEXT NOT NULL, artefacts TEXT NOT NULL);"""
#: the clouds that jobs had before there could be several
FIRST_CLOUDS = (
    "INSERT INTO cloud (sitting_id, name, blob, settings, figures, made, chosen) SELECT sitting_id, 'Cloud 1', blob, "
    "settings, figures, made, 1 FROM result JOIN artefact ON artefact.result_id = result.id "
    "WHERE stage = 'cloud' AND artefact.name = 'cloud'"
)
MARK_TABLES = ("mark", "sighting", "shape", "length", "level", "measurement")
TABLES_SQL = (
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
    program TEXT NOT NULL DEFAULT '', sitting_id INTEGER);
CREATE TABLE desk (key TEXT PRIMARY KEY, value TEXT NOT NULL);
"""
    + HANDMASK
    + REMOVED
    + "\n".join((*MARKS, *CLOUDS, *JOINS, *LATER, *SURFACES, EARLIER))
    + undo.SCHEMA
)


def schema_sql():
    """The statements that make an empty job."""
    return TABLES_SQL + undo.trigger_sql()


# ---------------------------------------------------------------------- older jobs
def _names_of(db, sitting_id):
    """Tokens (see `marks`) of the marked points that a sitting had by name, those of its members too."""
    row = db.execute("SELECT members FROM joined WHERE sitting_id = ?", (sitting_id,)).fetchone()
    out = {}
    for place in (sitting_id, *(json.loads(row[0]) if row else ())):
        title = db.execute("SELECT name FROM sitting WHERE id = ?", (place,)).fetchone()
        for i, name in db.execute("SELECT id, name FROM mark WHERE sitting_id = ? ORDER BY id", (place,)).fetchall():
            out[name if name not in out else f"{name} ({title[0] if title else ''})"] = f"@{i}"
    return out


def _by_identity(db):
    """Points are referred to by identity from now on, where they were by name; ledger lines know their sitting."""
    sittings = [i for (i,) in db.execute("SELECT id FROM sitting").fetchall()]
    names = {i: _names_of(db, i) for i in sittings}

    def now(value, renamed):
        if isinstance(value, dict):
            return {k: now(v, renamed) for k, v in value.items()}
        if isinstance(value, list):
            return [now(v, renamed) for v in value]
        return renamed.get(value, value) if isinstance(value, str) else value

    for i, s, a, b in db.execute("SELECT id, sitting_id, first, second FROM length").fetchall():
        renamed = names.get(s, {})
        db.execute("UPDATE length SET first = ?, second = ? WHERE id = ?", (renamed.get(a, a), renamed.get(b, b), i))
    for table, column, key in (("measurement", "ends", "id"), ("level", "level", "sitting_id")):
        for i, s, text in db.execute(f"SELECT {key}, sitting_id, {column} FROM {table}").fetchall():
            new = json.dumps(now(json.loads(text), names.get(s, {})))
            db.execute(f"UPDATE {table} SET {column} = ? WHERE {key} = ?", (new, i))
    for i, text in db.execute("SELECT id, places FROM pick").fetchall():
        places = {s: now(p, names.get(int(s), {})) for s, p in json.loads(text).items()}
        db.execute("UPDATE pick SET places = ? WHERE id = ?", (json.dumps(places), i))
    for i, s, text in db.execute("SELECT id, sitting_id, figures FROM result WHERE stage = 'scale'").fetchall():
        f, renamed = json.loads(text), names.get(s, {})
        for r in f.get("lengths", ()):
            r["first"], r["second"] = renamed.get(r["first"], r["first"]), renamed.get(r["second"], r["second"])
        for part in ("known", "marks"):
            f[part] = {renamed.get(k, k): v for k, v in f.get(part, {}).items()}
        db.execute("UPDATE result SET figures = ? WHERE id = ?", (json.dumps(f), i))
    db.execute("UPDATE ledger SET sitting_id = (SELECT id FROM sitting WHERE sitting.name = ledger.sitting)")


LAST_WITH_STATEMENTS = 8  #: the last version that kept for undo what this one does not run

#: what brings a job of version N (the key) to version N + 1: statements, or functions of the database
MIGRATIONS = {
    1: [HANDMASK],
    2: [
        f"ALTER TABLE photo ADD COLUMN {c}"
        for c in (
            "exposure_s REAL", "f_number REAL", "iso REAL", "modified INTEGER NOT NULL DEFAULT 0",
            "turn INTEGER NOT NULL DEFAULT 0",
        )
    ],
    3: ["ALTER TABLE photo ADD COLUMN focus_m REAL"],
    4: [REMOVED],
    5: [*MARKS, "ALTER TABLE ledger ADD COLUMN program TEXT NOT NULL DEFAULT ''"],
    6: [*CLOUDS, FIRST_CLOUDS],
    7: [*JOINS],
    # what could be undone was kept as statements, which are run no more: that history is forgotten
    8: [
        *LATER, "ALTER TABLE ledger ADD COLUMN sitting_id INTEGER", _by_identity, "DROP TABLE inverse",
        "DELETE FROM step", "DELETE FROM recording",
        undo.SCHEMA[undo.SCHEMA.index("CREATE TABLE inverse") : undo.SCHEMA.index("CREATE TABLE recording")],
    ],
    9: [*SURFACES],
    10: [EARLIER],
}  # fmt: skip


def bring_up_to_date(db, version):
    """Bring a job's database from a version to this one, inside the caller's transaction.

    Triggers and views that the file holds go first: none of them is run.
    """
    for kind, name in db.execute("SELECT type, name FROM sqlite_master WHERE type IN ('trigger', 'view')").fetchall():
        quoted = name.replace('"', '""')
        db.execute(f'DROP {kind.upper()} "{quoted}"')
    while version < VERSION:
        for step in MIGRATIONS[version]:
            if callable(step):
                step(db)
            else:
                db.execute(step)
        version += 1
    for table in undo.TABLES:
        for statement in undo.triggers(table):
            db.execute(statement)
    db.execute("UPDATE meta SET value = ? WHERE key = 'version'", (str(VERSION),))


# ---------------------------------------------------------------------- what a file holds
def _table(db, name, sql):
    """What matters of a table: its columns, its references, and that it is a plain one."""
    if not (sql or "").lstrip().upper().startswith("CREATE TABLE"):
        return ("virtual",)
    columns = {
        str(r[1]): (str(r[2]).upper(), r[3], r[4], r[5], r[6]) for r in db.execute(f'PRAGMA table_xinfo("{name}")')
    }
    refers = {(str(r[2]), str(r[3]), str(r[4]), str(r[6])) for r in db.execute(f'PRAGMA foreign_key_list("{name}")')}
    return "plain", columns, refers


def contents(db):
    """What a database holds: tables by what matters of them, all else by its statement."""
    out = {}
    for kind, name, sql in db.execute("SELECT type, name, sql FROM sqlite_master").fetchall():
        if str(name).startswith("sqlite_"):
            continue
        if kind == "table" and '"' not in str(name):
            out["table", str(name)] = _table(db, name, sql)
        else:
            out[str(kind), str(name)] = " ".join(str(sql).split())
    return out


def differences(db, expected):
    """In what a database differs from an expected one (`contents`): what must not be opened, and what is only more.

    Returns
    -------
    wrong, more : lists of str
    """
    have = contents(db)
    wrong = [
        f"its {kind} “{name}” is {'missing' if (kind, name) not in have else 'not as Umbrate makes it'}"
        for (kind, name), what in expected.items()
        if have.get((kind, name)) != what
    ]
    # a view or a trigger is run when its table is read or written: there is none but ours
    wrong += [f"it holds a {kind} “{name}”" for kind, name in have if (kind, name) not in expected and kind not in MORE]
    more = [f"it holds a {kind} “{name}”" for kind, name in have if (kind, name) not in expected and kind in MORE]
    return wrong, more


MORE = ("table", "index")


def refuse(name, reasons):
    """Raise that a job of some name is not one that this program made, and why."""
    told = "; ".join(reasons[:3]) + (f"; and {len(reasons) - 3} more" if len(reasons) > 3 else "")
    raise UmbrateError(
        f"{name} is not opened: {told}. Another program changed its database, or it is damaged. “umbrate check” "
        f"says all that is wrong with it, and “umbrate check {name} --repair” takes it out; or ask for a plain copy."
    )
