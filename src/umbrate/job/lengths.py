"""What people state and measure on a sitting: known lengths, how the object stands, measurements.

Their ends are kept as in `job.marks`.
"""

import json
from dataclasses import dataclass

from ..core.errors import UmbrateError
from ..core.names import first_free, plain_name
from .marks import good_number
from .memo import remembered
from .texts import parsed

SCALE, CHECK, OFF = "scale", "check", "off"
ROLES = (SCALE, CHECK, OFF)


@dataclass(frozen=True)
class KnownLength:
    """A length between two ends (see `job.marks`) that is known, in mm, and what it is for: to set the scale, to check
    it, or nothing.
    """

    id: int
    first: str
    second: str
    value_mm: float
    sigma_mm: float
    role: str


@dataclass(frozen=True)
class Measurement:
    """Something to measure: a kind of `core.measure.quantities`, and its ends: texts (see `job.marks`) or spots."""

    id: int
    name: str
    kind: str
    ends: tuple


class Lengths:
    """The part of a Job that holds what was stated and measured. All but the measured values can be undone."""

    # ------------------------------------------------------------------ known lengths
    @remembered
    def lengths(self, sitting_id):
        """All KnownLengths of a sitting; a joined row has those of its members too, each once."""
        rows = "SELECT id, first, second, value_mm, sigma_mm, role FROM length WHERE sitting_id = ? ORDER BY id"
        out, stated = [], set()
        for place in dict.fromkeys((sitting_id, *self.members(sitting_id))):
            for k in (KnownLength(*r) for r in self.db.execute(rows, (place,)).fetchall()):
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
        if not good_number(value_mm, "A length in mm") > 0:
            raise UmbrateError(f"A length must be more than 0 mm, not {value_mm:g}.")
        if not good_number(sigma_mm, "The standard deviation of a length in mm") > 0:
            raise UmbrateError("The standard deviation of a length must be more than 0 mm: no length is exact.")

    def add_length(self, sitting_id, first, second, value_mm, sigma_mm=0.05, role=SCALE):
        """State a known length between two ends: targets' numbers or names of marked points."""
        first, second = self.end_of(sitting_id, first), self.end_of(sitting_id, second)
        self._check_length(first, second, value_mm, sigma_mm, role)
        for k in self.lengths(sitting_id):
            if {k.first, k.second} == {first, second}:
                names = self.end_names(sitting_id)
                a, b = names.get(first, first), names.get(second, second)
                raise UmbrateError(f"The length from {a} to {b} is stated already ({k.value_mm:g} mm).")
        with self.action(f"state a length of {value_mm:g} mm"):
            return self.db.execute(
                "INSERT INTO length (sitting_id, first, second, value_mm, sigma_mm, role) VALUES (?, ?, ?, ?, ?, ?)",
                (sitting_id, first, second, float(value_mm), float(sigma_mm), role),
            ).lastrowid

    def set_length(self, length_id, **values):
        """Change a length's first, second, value_mm, sigma_mm or role."""
        row = self.db.execute(
            "SELECT first, second, value_mm, sigma_mm, role, sitting_id FROM length WHERE id = ?", (length_id,)
        ).fetchone()
        if row is None:
            raise UmbrateError("That length is gone.")
        values = {k: self.end_of(row[5], v) if k in ("first", "second") else v for k, v in values.items()}
        names = ("first", "second", "value_mm", "sigma_mm", "role")
        new = {**dict(zip(names, row[:5], strict=True)), **values}
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
    @remembered
    def level(self, sitting_id):
        """What a sitting's level is made from, as a dictionary (see `sitting.frames`), or None."""
        row = self.db.execute("SELECT level FROM level WHERE sitting_id = ?", (sitting_id,)).fetchone()
        return parsed(row[0], dict) if row else None

    def set_level(self, sitting_id, level, label="set the level"):
        """Say what a sitting's level is made from, its ends as people write them or as kept; None: as it was solved."""
        level = self.level_by_identity(sitting_id, level)
        with self.action(label):
            self._keep_one("level", "sitting_id", sitting_id, "level", json.dumps(level) if level else None)

    def level_by_identity(self, sitting_id, level):
        """A level whose ends are those that are kept."""
        if not level:
            return None
        out = dict(level)
        if "ends" in (out.get("up") or {}):
            out["up"] = {**out["up"], "ends": [self.end_of(sitting_id, e) for e in out["up"]["ends"]]}
        if out.get("along"):
            out["along"] = [self.end_of(sitting_id, e) for e in out["along"]]
        if isinstance(out.get("origin"), str) and out["origin"] != "box":
            out["origin"] = self.end_of(sitting_id, out["origin"])
        return out

    # ------------------------------------------------------------------ measurements
    @remembered
    def measurements(self, sitting_id):
        """All Measurements of a sitting."""
        rows = self.db.execute(
            "SELECT id, name, kind, ends FROM measurement WHERE sitting_id = ? ORDER BY id", (sitting_id,)
        )
        return [Measurement(i, n, k, tuple(parsed(e, list))) for i, n, k, e in rows]

    def add_measurement(self, sitting_id, kind, ends, name=None):
        """Keep a measurement; returns its id."""
        taken = {m.name for m in self.measurements(sitting_id)}
        name = plain_name(first_free("M", taken) if name is None else name, "A measurement")
        if name in taken:
            raise UmbrateError(f"There is a measurement “{name}” already. Choose another name.")
        ends = [e if isinstance(e, dict) else self.end_of(sitting_id, e) for e in ends]
        with self.action(f"measure “{name}”"):
            return self.db.execute(
                "INSERT INTO measurement (sitting_id, name, kind, ends) VALUES (?, ?, ?, ?)",
                (sitting_id, name, kind, json.dumps(list(ends))),
            ).lastrowid

    def rename_measurement(self, measurement_id, name):
        """Give a measurement another name."""
        name = plain_name(name, "A measurement")
        row = self.db.execute("SELECT sitting_id FROM measurement WHERE id = ?", (measurement_id,)).fetchone()
        if row is None:
            raise UmbrateError("That measurement is gone.")
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
        return {i: parsed(v) for i, v in rows}

    def keep_measured(self, sitting, values, changes):
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
                self._write_ledger(sitting.id, sitting.name, "measure", {}, 0.0, "done", figures, told)
