"""Results that stand side by side in a sitting, as clouds and surfaces do, and the steps that changed each.

One is made once and never changed: what was taken away or changed is kept as steps beside it, each with its answer, so
any step can be taken back and nothing is computed twice. One of them is chosen: it is what is measured on, exported,
and taken for what comes next.
"""

import json
from dataclasses import dataclass
from typing import ClassVar

from ..core.errors import UmbrateError
from ..core.names import first_free, plain_name
from .texts import parsed

PLAIN = [[1.0, 0, 0, 0], [0, 1.0, 0, 0], [0, 0, 1.0, 0], [0, 0, 0, 1.0]]


@dataclass(frozen=True)
class Step:
    """A step on one of them: what was asked (plain values), the blob of its answer, how much of it that took away."""

    id: int
    step: dict
    blob: str
    removed: int


@dataclass(frozen=True)
class Kept:
    """One of them.

    Attributes
    ----------
    blob : str
        Its arrays as they were computed.
    settings, figures : dict
        What it was computed with, and what came of that.
    chosen : bool
        Whether it is the one that is measured on and exported.
    shown : bool
    steps : tuple of Step
    """

    TABLE: ClassVar[str]
    STEPS: ClassVar[str]  #: the table of steps
    WORD: ClassVar[str]
    COUNT: ClassVar[str]  #: the figure that says how many things it is made of
    NAMED_BY: ClassVar[tuple] = ()  #: settings, (stage, setting), that name one

    id: int
    sitting_id: int
    name: str
    blob: str
    settings: dict
    figures: dict
    made: str
    chosen: bool
    shown: bool
    steps: tuple = ()

    @property
    def from_plain(self):
        """The similarity from the plain frame to the one its points are in, rows of numbers."""
        return self.figures.get("from_plain", PLAIN)

    @property
    def left(self):
        """How many of the things it is made of are left."""
        return self.figures[self.COUNT] - sum(s.removed for s in self.steps)


class SideBySide:
    """What there is of one kind in a job, a subclass of Kept. Everything that changes the job can be undone."""

    def __init__(self, job, kind):
        self.job, self.kind = job, kind

    @property
    def _db(self):
        return self.job.db

    def all_of(self, sitting_id):
        """All of a sitting, the oldest first."""
        k, steps = self.kind, {}
        for owner, *row in self._db.execute(
            f"SELECT {k.TABLE}_id, {k.STEPS}.id, step, {k.STEPS}.blob, removed FROM {k.STEPS} "
            f"JOIN {k.TABLE} ON {k.TABLE}.id = {k.TABLE}_id WHERE sitting_id = ? ORDER BY {k.STEPS}.id",
            (sitting_id,),
        ):
            steps.setdefault(owner, []).append(Step(row[0], parsed(row[1], dict), row[2], row[3]))
        rows = self._db.execute(
            f"SELECT id, sitting_id, name, blob, settings, figures, made, chosen, shown FROM {k.TABLE} "
            "WHERE sitting_id = ? ORDER BY id",
            (sitting_id,),
        )
        return [
            k(*r[:4], parsed(r[4], dict), parsed(r[5], dict), r[6], bool(r[7]), bool(r[8]), tuple(steps.get(r[0], ())))
            for r in rows
        ]

    @staticmethod
    def one_of(have, name, word):
        """The chosen one of several, or the one of a name; None where there is none at all."""
        if name is None:
            return next((c for c in have if c.chosen), have[-1] if have else None)
        for c in have:
            if c.name == name:
                return c
        known = ", ".join(f"“{c.name}”" for c in have) or "none yet"
        raise UmbrateError(f"There is no {word} “{name}” (there is: {known}).")

    def add(self, sitting_id, blob, settings, figures, made, name=None):
        """Keep a new one beside the others, and choose it; its number. One that is the same as another is that one."""
        have = self.all_of(sitting_id)
        same = next((c for c in have if c.blob == blob), None)
        if same:
            self.choose(same.id)
            return same.id
        taken, k = {c.name for c in have}, self.kind
        if name is None or name in taken:
            name = first_free(f"{k.WORD.capitalize()} ", taken, len(have) + 1)
        with self.job.action(f"make “{name}”"):
            self._db.execute(f"UPDATE {k.TABLE} SET chosen = 0 WHERE sitting_id = ? AND chosen", (sitting_id,))
            return self._db.execute(
                f"INSERT INTO {k.TABLE} (sitting_id, name, blob, settings, figures, made, chosen, shown) "
                "VALUES (?, ?, ?, ?, ?, ?, 1, 1)",
                (sitting_id, name, blob, json.dumps(settings), json.dumps(figures), made),
            ).lastrowid

    def _row(self, one):
        row = self._db.execute(f"SELECT sitting_id, name FROM {self.kind.TABLE} WHERE id = ?", (one,)).fetchone()
        if row is None:
            raise UmbrateError(f"That {self.kind.WORD} is gone.")
        return row

    def choose(self, one):
        """Let one be what is measured on and exported."""
        sitting_id, name = self._row(one)
        with self.job.action(f"choose “{name}”"):
            self._db.execute(
                f"UPDATE {self.kind.TABLE} SET chosen = (id = ?) WHERE sitting_id = ? AND chosen != (id = ?)",
                (one, sitting_id, one),
            )

    def rename(self, one, name):
        """Give one another name."""
        sitting_id, old = self._row(one)
        name = plain_name(name, f"A {self.kind.WORD}")
        if any(c.name == name and c.id != one for c in self.all_of(sitting_id)):
            raise UmbrateError(f"There is a {self.kind.WORD} “{name}” already. Choose another name.")
        with self.job.action(f"rename “{old}”"):
            self._db.execute(f"UPDATE {self.kind.TABLE} SET name = ? WHERE id = ? AND name != ?", (name, one, name))
            for stage, setting in self.kind.NAMED_BY:
                values = self.job.settings(sitting_id, stage)
                if values.get(setting) == old:
                    self.job.set_settings(sitting_id, stage, {**values, setting: name})

    def remove(self, one):
        """Take one away; where it was the chosen one, the newest of the others is chosen."""
        sitting_id, name = self._row(one)
        with self.job.action(f"remove “{name}”"):
            self._db.execute(f"DELETE FROM {self.kind.TABLE} WHERE id = ?", (one,))
            left = self.all_of(sitting_id)
            if left and not any(c.chosen for c in left):
                self._db.execute(f"UPDATE {self.kind.TABLE} SET chosen = 1 WHERE id = ?", (left[-1].id,))

    def add_step(self, one, step, blob, removed, label):
        """Change one by one more step."""
        self._row(one)
        with self.job.action(label):
            return self._put(one, step, blob, removed)

    def set_steps(self, one, steps, label):
        """Replace all steps of one: (step, blob, removed) in order."""
        self._row(one)
        with self.job.action(label):
            self._db.execute(f"DELETE FROM {self.kind.STEPS} WHERE {self.kind.TABLE}_id = ?", (one,))
            for step, blob, removed in steps:
                self._put(one, step, blob, removed)

    def _put(self, one, step, blob, removed):
        return self._db.execute(
            f"INSERT INTO {self.kind.STEPS} ({self.kind.TABLE}_id, step, blob, removed) VALUES (?, ?, ?, ?)",
            (one, json.dumps(step), blob, int(removed)),
        ).lastrowid
