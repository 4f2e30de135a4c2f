"""What people put on a sitting by hand: points marked in photos, lines and faces, known lengths, level, measurements.

Ends of lengths and measurements are written as text, as people do: ``208`` is the target of that number, anything else
the marked point of that name. A spot on the cloud is kept with its place in the frame of the poses; see
`stages.ends`.
"""

import json
import re
from dataclasses import dataclass, replace

from ..core.errors import UmbrateError

SCALE, CHECK, OFF = "scale", "check", "off"
ROLES = (SCALE, CHECK, OFF)
DEFAULT_SIGMA_PX = 0.5  #: how sure a marker is who says nothing of it


@dataclass(frozen=True)
class Sighting:
    """One photo in which a point was marked: sensor pixels, and how sure the marker is."""

    photo_id: int
    x: float
    y: float
    sigma_px: float = DEFAULT_SIGMA_PX
    used: bool = True


@dataclass(frozen=True)
class MarkedPoint:
    """A point marked by hand.

    Attributes
    ----------
    known : (x, y, z) or None
        Coordinates it is known to have, in mm, and their standard deviations in `known_sigma`.
    held : bool
        Whether the block is put where the coordinates say.
    sightings : tuple of Sighting
    """

    id: int
    name: str
    used: bool
    known: tuple | None
    known_sigma: tuple | None
    held: bool
    sightings: tuple = ()


@dataclass(frozen=True)
class DrawnShape:
    """Marked points joined to a line or a face, by their ids."""

    id: int
    kind: str
    name: str
    points: tuple


@dataclass(frozen=True)
class KnownLength:
    """A length between two ends that is known, in mm, and what it is for: to set the scale, to check it, or nothing."""

    id: int
    first: str
    second: str
    value_mm: float
    sigma_mm: float
    role: str


@dataclass(frozen=True)
class Measurement:
    """Something to measure: a kind of `core.measure.quantities`, and its ends as plain values."""

    id: int
    name: str
    kind: str
    ends: tuple


def _good_name(name):
    name = " ".join(str(name).split())
    if not name:
        raise UmbrateError("A point needs a name.")
    if re.fullmatch(r"\d+", name):
        raise UmbrateError(f"“{name}” is a target's number: give the point a name with a letter in it.")
    return name


class Marks:
    """The part of a Job that holds what was marked and measured. Everything here can be undone."""

    # ------------------------------------------------------------------ points
    def marked_points(self, sitting_id):
        """All MarkedPoints of a sitting, in the order they were made.

        A joined row has those of its members too; a name that is taken says where it came from.
        """
        own = self._own_points(sitting_id)
        taken = {p.name for p in own}
        names = {s.id: s.name for s in self.sittings()}
        for m in self.members(sitting_id):
            if m == sitting_id:
                continue
            for p in self._own_points(m):
                own.append(p if p.name not in taken else replace(p, name=f"{p.name} ({names[m]})"))
                taken.add(own[-1].name)
        return own

    def _own_points(self, sitting_id):
        seen = {}
        for row in self.db.execute(
            "SELECT mark_id, photo_id, x, y, sigma_px, sighting.used FROM sighting JOIN mark ON mark.id = mark_id "
            "WHERE sitting_id = ? ORDER BY sighting.id",
            (sitting_id,),
        ):
            seen.setdefault(row[0], []).append(Sighting(*row[1:5], bool(row[5])))
        out = []
        for i, name, used, known, held in self.db.execute(
            "SELECT id, name, used, known, held FROM mark WHERE sitting_id = ? ORDER BY id", (sitting_id,)
        ):
            k = json.loads(known) if known else None
            out.append(
                MarkedPoint(
                    i, name, bool(used), tuple(k["xyz"]) if k else None, tuple(k["sigma"]) if k else None, bool(held),
                    tuple(seen.get(i, ())),
                )
            )  # fmt: skip
        return out

    def marked_point(self, sitting_id, name):
        """The MarkedPoint of that name."""
        for p in self.marked_points(sitting_id):
            if p.name == name:
                return p
        known = ", ".join(p.name for p in self.marked_points(sitting_id)) or "none yet"
        raise UmbrateError(f"There is no point “{name}” (there is: {known}).")

    def add_marked_point(self, sitting_id, name=None, label=None):
        """Make a new point; without a name, the next free of P1, P2, ... Returns its id."""
        with self.action(label or "make a point"):
            return self._new_mark(sitting_id, name)

    def _new_mark(self, sitting_id, name=None):
        taken = {p.name for p in self.marked_points(sitting_id)}
        if name is None:
            k = 1
            while f"P{k}" in taken:
                k += 1
            name = f"P{k}"
        name = _good_name(name)
        if name in taken:
            raise UmbrateError(f"There is a point “{name}” already: a name stands for one place. Choose another.")
        return self.db.execute("INSERT INTO mark (sitting_id, name) VALUES (?, ?)", (sitting_id, name)).lastrowid

    def _mark(self, mark_id):
        row = self.db.execute("SELECT sitting_id, name FROM mark WHERE id = ?", (mark_id,)).fetchone()
        if row is None:
            raise UmbrateError("That point is gone.")
        return row

    def rename_marked_point(self, mark_id, name):
        """Give a point another name; lengths and measurements follow."""
        sitting_id, old = self._mark(mark_id)
        name = _good_name(name)
        if name == old:
            return
        if any(p.name == name for p in self.marked_points(sitting_id)):
            raise UmbrateError(f"There is a point “{name}” already: two names for one place are as bad as one for two.")
        with self.action(f"rename “{old}”"):
            self.db.execute("UPDATE mark SET name = ? WHERE id = ?", (name, mark_id))
            for column in ("first", "second"):
                self.db.execute(
                    f"UPDATE length SET {column} = ? WHERE sitting_id = ? AND {column} = ?", (name, sitting_id, old)
                )
            for m in self.measurements(sitting_id):
                ends = [name if e == old else e for e in m.ends]
                if ends != list(m.ends):
                    self.db.execute("UPDATE measurement SET ends = ? WHERE id = ?", (json.dumps(ends), m.id))
            level = self.level(sitting_id)
            if level:
                new = _renamed(level, old, name)
                if new != level:
                    self._keep_one("level", "sitting_id", sitting_id, "level", json.dumps(new))

    def set_marked_point(self, mark_id, *, used=None, known=..., known_sigma=None, held=None):
        """Switch a point on or off, or say which coordinates it is known to have (None: none)."""
        name = self._mark(mark_id)[1]
        with self.action(f"change “{name}”"):
            if used is not None:
                self.db.execute("UPDATE mark SET used = ? WHERE id = ?", (int(used), mark_id))
            if known is not ...:
                text = None if known is None else self._known_text(known, known_sigma)
                self.db.execute("UPDATE mark SET known = ? WHERE id = ?", (text, mark_id))
            if held is not None:
                self.db.execute("UPDATE mark SET held = ? WHERE id = ?", (int(held), mark_id))

    @staticmethod
    def _known_text(known, sigma):
        sigma = sigma if sigma is not None else (0.1, 0.1, 0.1)
        if min(sigma) <= 0:
            raise UmbrateError("The standard deviation of a coordinate must be more than 0.")
        return json.dumps({"xyz": [float(x) for x in known], "sigma": [float(x) for x in sigma]})

    def remove_marked_points(self, mark_ids):
        """Remove points with their sightings."""
        with self.action(f"remove {len(mark_ids)} point{'s' * (len(mark_ids) != 1)}"):
            for i in mark_ids:
                self.db.execute("DELETE FROM mark WHERE id = ?", (i,))

    def set_sighting(self, mark_id, photo_id, x, y, sigma_px=None, used=True, label=None):
        """Say where a point is seen in a photo; one place a photo."""
        name = self._mark(mark_id)[1]
        if sigma_px is not None and not sigma_px > 0:
            raise UmbrateError("The standard deviation of a marked place must be more than 0 pixels.")
        before = self.db.execute(
            "SELECT sigma_px FROM sighting WHERE mark_id = ? AND photo_id = ?", (mark_id, photo_id)
        ).fetchone()
        sigma_px = sigma_px or (before[0] if before else DEFAULT_SIGMA_PX)
        with self.action(label or f"mark “{name}”"):
            if before:
                self.db.execute(
                    "UPDATE sighting SET x = ?, y = ?, sigma_px = ?, used = ? WHERE mark_id = ? AND photo_id = ?",
                    (float(x), float(y), float(sigma_px), int(used), mark_id, photo_id),
                )
            else:
                self.db.execute(
                    "INSERT INTO sighting (mark_id, photo_id, x, y, sigma_px, used) VALUES (?, ?, ?, ?, ?, ?)",
                    (mark_id, photo_id, float(x), float(y), float(sigma_px), int(used)),
                )

    def remove_sighting(self, mark_id, photo_id):
        """Take a point's sighting out of a photo."""
        with self.action(f"take “{self._mark(mark_id)[1]}” out of a photo"):
            self.db.execute("DELETE FROM sighting WHERE mark_id = ? AND photo_id = ?", (mark_id, photo_id))

    def take_known_points(self, sitting_id, rows, held=True):
        """Known coordinates from a file: (name, (x, y, z), (sx, sy, sz)); points that are new are made."""
        with self.action(f"take {len(rows)} known points"):
            ids = {p.name: p.id for p in self.marked_points(sitting_id)}
            for name, xyz, sigma in rows:
                i = ids.get(name) or self._new_mark(sitting_id, name)
                self.db.execute(
                    "UPDATE mark SET known = ?, held = ? WHERE id = ?", (self._known_text(xyz, sigma), int(held), i)
                )

    # ------------------------------------------------------------------ lines and faces
    def drawn_shapes(self, sitting_id):
        """All DrawnShapes of a sitting."""
        rows = self.db.execute(
            "SELECT id, kind, name, points FROM shape WHERE sitting_id = ? ORDER BY id", (sitting_id,)
        )
        have = {p.id for p in self.marked_points(sitting_id)}
        shapes = [DrawnShape(i, k, n, tuple(json.loads(p))) for i, k, n, p in rows]
        return [s for s in shapes if set(s.points) <= have]

    def add_shape(self, sitting_id, kind, points, name=None):
        """Join marked points (ids) to a "line" or a "face"."""
        least = 3 if kind == "face" else 2
        if len(points) < least:
            raise UmbrateError(f"A {kind} needs at least {least} points.")
        count = sum(s.kind == kind for s in self.drawn_shapes(sitting_id)) + 1
        with self.action(f"draw a {kind}"):
            return self.db.execute(
                "INSERT INTO shape (sitting_id, kind, name, points) VALUES (?, ?, ?, ?)",
                (sitting_id, kind, name or f"{kind.capitalize()} {count}", json.dumps(list(points))),
            ).lastrowid

    def remove_shape(self, shape_id):
        """Take a line or face away; its points stay."""
        with self.action("remove a line or face"):
            self.db.execute("DELETE FROM shape WHERE id = ?", (shape_id,))

    # ------------------------------------------------------------------ known lengths
    def lengths(self, sitting_id):
        """All KnownLengths of a sitting; a joined row has those of its members too, each once."""
        rows = "SELECT id, first, second, value_mm, sigma_mm, role FROM length WHERE sitting_id = ? ORDER BY id"
        out = [KnownLength(*r) for r in self.db.execute(rows, (sitting_id,))]
        stated = {frozenset((k.first, k.second)) for k in out}
        shown = {p.id: p.name for p in self.marked_points(sitting_id)}
        for m in self.members(sitting_id):
            if m == sitting_id:
                continue
            name = {p.name: shown.get(p.id, p.name) for p in self._own_points(m)}
            for r in self.db.execute(rows, (m,)):
                k = KnownLength(r[0], name.get(r[1], r[1]), name.get(r[2], r[2]), *r[3:])
                if frozenset((k.first, k.second)) not in stated:
                    out.append(k)
                    stated.add(frozenset((k.first, k.second)))
        return out

    @staticmethod
    def _check_length(first, second, value_mm, sigma_mm, role):
        if role not in ROLES:
            raise UmbrateError(f"A length is for: {', '.join(ROLES)}; not “{role}”.")
        if first == second:
            raise UmbrateError("A length needs two different ends.")
        if not value_mm > 0:
            raise UmbrateError(f"A length must be more than 0 mm, not {value_mm:g}.")
        if not sigma_mm > 0:
            raise UmbrateError("The standard deviation of a length must be more than 0 mm: no length is exact.")

    def add_length(self, sitting_id, first, second, value_mm, sigma_mm=0.05, role=SCALE):
        """State a known length between two ends."""
        first, second = str(first).strip(), str(second).strip()
        self._check_length(first, second, value_mm, sigma_mm, role)
        for k in self.lengths(sitting_id):
            if {k.first, k.second} == {first, second}:
                raise UmbrateError(f"The length from {first} to {second} is stated already ({k.value_mm:g} mm).")
        with self.action(f"state a length of {value_mm:g} mm"):
            return self.db.execute(
                "INSERT INTO length (sitting_id, first, second, value_mm, sigma_mm, role) VALUES (?, ?, ?, ?, ?, ?)",
                (sitting_id, first, second, float(value_mm), float(sigma_mm), role),
            ).lastrowid

    def set_length(self, length_id, **values):
        """Change a length's first, second, value_mm, sigma_mm or role."""
        row = self.db.execute(
            "SELECT first, second, value_mm, sigma_mm, role FROM length WHERE id = ?", (length_id,)
        ).fetchone()
        if row is None:
            raise UmbrateError("That length is gone.")
        names = ("first", "second", "value_mm", "sigma_mm", "role")
        new = {**dict(zip(names, row, strict=True)), **values}
        self._check_length(**new)
        with self.action("change a length"):
            self.db.execute(
                "UPDATE length SET first = ?, second = ?, value_mm = ?, sigma_mm = ?, role = ? WHERE id = ?",
                (*(new[n] for n in names), length_id),
            )

    def remove_length(self, length_id):
        """Forget a known length."""
        with self.action("remove a length"):
            self.db.execute("DELETE FROM length WHERE id = ?", (length_id,))

    # ------------------------------------------------------------------ level
    def level(self, sitting_id):
        """What a sitting's level is made from, as a dictionary (see `stages.frames`), or None."""
        row = self.db.execute("SELECT level FROM level WHERE sitting_id = ?", (sitting_id,)).fetchone()
        return json.loads(row[0]) if row else None

    def set_level(self, sitting_id, level, label="set the level"):
        """Say what a sitting's level is made from; None: as it was solved."""
        with self.action(label):
            self._keep_one("level", "sitting_id", sitting_id, "level", json.dumps(level) if level else None)

    # ------------------------------------------------------------------ measurements
    def measurements(self, sitting_id):
        """All Measurements of a sitting."""
        rows = self.db.execute(
            "SELECT id, name, kind, ends FROM measurement WHERE sitting_id = ? ORDER BY id", (sitting_id,)
        )
        return [Measurement(i, n, k, tuple(json.loads(e))) for i, n, k, e in rows]

    def add_measurement(self, sitting_id, kind, ends, name=None):
        """Keep a measurement; returns its id."""
        taken = {m.name for m in self.measurements(sitting_id)}
        if name is None:
            k = 1
            while f"M{k}" in taken:
                k += 1
            name = f"M{k}"
        name = " ".join(str(name).split())
        if not name:
            raise UmbrateError("A measurement needs a name.")
        if name in taken:
            raise UmbrateError(f"There is a measurement “{name}” already. Choose another name.")
        with self.action(f"measure “{name}”"):
            return self.db.execute(
                "INSERT INTO measurement (sitting_id, name, kind, ends) VALUES (?, ?, ?, ?)",
                (sitting_id, name, kind, json.dumps(list(ends))),
            ).lastrowid

    def rename_measurement(self, measurement_id, name):
        """Give a measurement another name."""
        name = " ".join(str(name).split())
        row = self.db.execute("SELECT sitting_id FROM measurement WHERE id = ?", (measurement_id,)).fetchone()
        if row is None or not name:
            raise UmbrateError("That measurement is gone." if row is None else "A measurement needs a name.")
        if any(m.name == name and m.id != measurement_id for m in self.measurements(row[0])):
            raise UmbrateError(f"There is a measurement “{name}” already. Choose another name.")
        with self.action("rename a measurement"):
            self.db.execute("UPDATE measurement SET name = ? WHERE id = ?", (name, measurement_id))

    def remove_measurements(self, measurement_ids):
        """Forget measurements."""
        with self.action(f"remove {len(measurement_ids)} measurement{'s' * (len(measurement_ids) != 1)}"):
            for i in measurement_ids:
                self.db.execute("DELETE FROM measurement WHERE id = ?", (i,))

    def measured(self, sitting_id):
        """The last values of measurements by id: dictionaries. They are computed, so undo does not touch them."""
        rows = self.db.execute(
            "SELECT measurement_id, value FROM measured JOIN measurement ON measurement.id = measurement_id "
            "WHERE sitting_id = ?",
            (sitting_id,),
        )
        return {i: json.loads(v) for i, v in rows}

    def keep_measured(self, sitting_name, values, changes):
        """Keep values by measurement id, and write what changed (name, old text, new text) into the ledger."""
        with self._transaction():
            for i, value in values.items():
                self.db.execute(
                    "INSERT INTO measured VALUES (?, ?) "
                    "ON CONFLICT (measurement_id) DO UPDATE SET value = excluded.value",
                    (i, json.dumps(value)),
                )
            if changes:
                told = "; ".join(f"{name}: {old} → {new}" for name, old, new in changes)
                figures = {name: [old, new] for name, old, new in changes}
                self._write_ledger(sitting_name, "measure", {}, 0.0, "done", figures, told)


def _renamed(value, old, new):
    """A plain value with a name in lists and under keys of names replaced."""
    if isinstance(value, dict):
        return {k: _renamed(v, old, new) for k, v in value.items()}
    if isinstance(value, list):
        return [_renamed(v, old, new) for v in value]
    return new if value == old else value
