"""What the rows of a job's tables hold: checked when a job is opened, so that nothing later stumbles over it.

The tables' shapes are compared by `schema`; but SQLite keeps any value in any column, and a disk may lie.
"""

import json
import math
import re
from typing import NamedTuple

from .blobs import KEY

MOST_TEXT = 10_000  #: characters of a name or a path
MOST_JSON = 20_000_000  #: characters of a value that is kept as text
DEEPEST = 12  #: of values in values
TALLEST = 200_000  #: pixels along a photo


class Wrong(NamedTuple):
    """A value that no row of a table has: where it stands, and what it is in a few words."""

    table: str
    row: int
    column: str
    value: str

    def __str__(self):
        return f"row {self.row} of its table “{self.table}” holds {self.value} as {self.column}"


def _text(value):
    return isinstance(value, str) and len(value) <= MOST_TEXT and "\0" not in value


def _key(value):
    return isinstance(value, str) and KEY.fullmatch(value) is not None


def _whole(low, high):
    return lambda value: type(value) is int and low <= value <= high


def _number(value):
    return type(value) in (int, float) and math.isfinite(value)


def _or_none(rule):
    return lambda value: value is None or rule(value)


def _plain(value, depth=0):
    """Whether a value of JSON holds numbers that are finite only, and is not endlessly deep."""
    if depth > DEEPEST:
        return False
    if isinstance(value, float):
        return math.isfinite(value)
    if isinstance(value, int):
        return abs(value) < 1 << 62
    if isinstance(value, dict):
        return all(_plain(v, depth + 1) for v in value.values())
    if isinstance(value, list):
        return all(_plain(v, depth + 1) for v in value)
    return True


def _json(*kinds, finite=True):
    def rule(value):
        if not isinstance(value, str) or len(value) > MOST_JSON:
            return False
        try:
            found = json.loads(value)
        except (ValueError, RecursionError):
            return False
        return isinstance(found, kinds) and (not finite or _plain(found))

    return rule


def _box(value):
    if not _json(dict)(value):
        return False
    box = json.loads(value)
    shapes = {"center": (3,), "half": (3,), "axes": (3, 3)}

    def fits(x, shape):
        if not shape:
            return _number(x)
        return isinstance(x, list) and len(x) == shape[0] and all(fits(y, shape[1:]) for y in x)

    return set(box) == set(shapes) and all(fits(box[k], s) for k, s in shapes.items()) and min(box["half"]) > 0


ANY, FLAG, ID = _whole(-(1 << 62), 1 << 62), _whole(0, 1), _whole(0, 1 << 62)
SIDE = _whole(1, TALLEST)
RULES = {
    "sitting": {"name": _text, "position": ANY},
    "photo": {
        "sitting_id": ID, "name": _text, "path": _text, "size": ID, "hash": _text, "width": SIDE, "height": SIDE,
        "orientation": _whole(1, 8), "make": _text, "model": _text, "lens": _text, "focal_mm": _or_none(_number),
        "focal_35mm": _or_none(_number), "taken": _or_none(_text), "aside": _whole(0, 2), "position": ANY,
        "exposure_s": _or_none(_number), "f_number": _or_none(_number), "iso": _or_none(_number), "modified": ANY,
        "turn": _whole(0, 3), "focus_m": _or_none(_number),
    },
    "choice": {"sitting_id": ID, "stage": _text, "settings": _json(dict, finite=False)},
    "keepbox": {"sitting_id": ID, "box": _box},
    "handmask": {"photo_id": ID, "blob": _key},
    "removed": {"sitting_id": ID, "blob": _key},
    "mark": {
        "sitting_id": ID, "name": _text, "used": FLAG, "known": _or_none(_json(dict, list)), "held": FLAG,
    },
    "sighting": {"mark_id": ID, "photo_id": ID, "x": _number, "y": _number, "sigma_px": _number, "used": FLAG},
    "shape": {"sitting_id": ID, "kind": _text, "name": _text, "points": _json(list)},
    "length": {
        "sitting_id": ID, "first": _text, "second": _text, "value_mm": _number, "sigma_mm": _number, "role": _text,
    },
    "level": {"sitting_id": ID, "level": _json(dict)},
    "cloud": {
        "sitting_id": ID, "name": _text, "blob": _key, "settings": _json(dict, finite=False),
        "figures": _json(dict, finite=False), "made": _text, "chosen": FLAG, "shown": FLAG,
    },
    "cleaning": {"cloud_id": ID, "step": _json(dict), "blob": _key, "removed": ANY},
    "surface": {
        "sitting_id": ID, "name": _text, "blob": _key, "settings": _json(dict, finite=False),
        "figures": _json(dict, finite=False), "made": _text, "chosen": FLAG, "shown": FLAG,
    },
    "mending": {"surface_id": ID, "step": _json(dict), "blob": _key, "removed": ANY},
    "measurement": {"sitting_id": ID, "name": _text, "kind": _text, "ends": _json(list)},
    "measured": {"value": _json(dict, list, int, float, type(None), finite=False)},
    "joined": {"sitting_id": ID, "members": _json(list), "found": _or_none(_json(dict, finite=False))},
    "role": {"role": _text},
    "pick": {"sitting_id": ID, "name": _text, "places": _json(dict), "used": FLAG},
    "target": {"sitting_id": ID, "number": ANY, "known": _json(dict, list), "held": FLAG},
    "section": {"sitting_id": ID, "name": _text, "plane": _json(dict)},
    "result": {
        "sitting_id": ID, "stage": _text, "fingerprint": _text, "settings": _json(dict, finite=False),
        "figures": _json(dict, finite=False), "problems": _json(list, finite=False), "seconds": _number,
        "made": _text,
    },
    "artefact": {"result_id": ID, "name": _text, "photo_id": _or_none(ID), "blob": _key},
    "ledger": {
        "moment": _text, "sitting": _text, "stage": _text, "settings": _json(dict, finite=False),
        "seconds": _number,
        "outcome": _text, "figures": _json(dict, finite=False), "message": lambda v: isinstance(v, str),
        "program": _text, "sitting_id": _or_none(ID),
    },
    "earlier": {
        "sitting_id": ID, "stage": _text, "fingerprint": _text, "problems": _json(list, finite=False), "made": _text,
        "artefacts": _json(list),
    },
    "seen": {"hash": _text, "what": _json(dict, list, str, int, float, finite=False)},
    "desk": {"key": _text, "value": _json(dict, list, str, int, float, bool, type(None), finite=False)},
}  # fmt: skip
LATER = ("ledger", "earlier", "seen", "desk")  #: large, and read one by one: a wrong row there stops nothing at opening


def wrong_rows(db, tables=None):
    """Yield a Wrong for each value that its column cannot hold.

    Raises
    ------
    sqlite3.Error
        Where the file cannot be read.
    """
    for table in tables or RULES:
        rules = RULES[table]
        for row, *values in db.execute(f"SELECT rowid, {', '.join(rules)} FROM {table}"):
            for (column, good), value in zip(rules.items(), values, strict=True):
                if not good(value):
                    yield Wrong(table, row, column, _told(value))


def _told(value):
    kinds = {bytes: "bytes", type(None): "nothing"}
    return kinds.get(type(value)) or f"“{re.sub(r'[^ -~]', '?', str(value))[:30]}”"
