"""The clouds of a sitting, side by side, and how each was cleaned.

A cloud is made once and never changed: what was cleaned away is kept as steps beside it, each with its answer (which of
the points before it stay, or where they moved to), so any step can be taken back and nothing is computed twice.
"""

import json
from dataclasses import dataclass

from ..core.errors import UmbrateError
from ..core.names import first_free, plain_name
from .memo import remembered


@dataclass(frozen=True)
class Step:
    """One step of cleaning: what was asked (plain values), the blob of its answer, how many points it took away."""

    id: int
    step: dict
    blob: str
    removed: int


@dataclass(frozen=True)
class KeptCloud:
    """A cloud of a sitting.

    Attributes
    ----------
    blob : str
        Its points as they were computed.
    settings, figures : dict
        What it was computed with, and what came of that.
    chosen : bool
        Whether it is the one that is measured on and exported.
    shown : bool
    steps : tuple of Step
    """

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
        return self.figures.get("from_plain", [[1.0, 0, 0, 0], [0, 1.0, 0, 0], [0, 0, 1.0, 0], [0, 0, 0, 1.0]])

    @property
    def scale_text(self):
        """The photo scale it was computed at, for people; of one put together from others, that."""
        return "united" if self.figures.get("united") else f"1/{self.settings.get('photo_scale', '?')}"

    @property
    def left(self):
        """How many points are left."""
        return self.figures["points"] - sum(s.removed for s in self.steps)


class Clouds:
    """The part of a Job that holds clouds. Everything here can be undone."""

    @remembered
    def clouds(self, sitting_id):
        """All KeptClouds of a sitting, the oldest first."""
        steps = {}
        for cloud, *row in self.db.execute(
            "SELECT cloud_id, cleaning.id, step, cleaning.blob, removed FROM cleaning "
            "JOIN cloud ON cloud.id = cloud_id WHERE sitting_id = ? ORDER BY cleaning.id",
            (sitting_id,),
        ):
            steps.setdefault(cloud, []).append(Step(row[0], json.loads(row[1]), row[2], row[3]))
        rows = self.db.execute(
            "SELECT id, sitting_id, name, blob, settings, figures, made, chosen, shown FROM cloud WHERE sitting_id = ? "
            "ORDER BY id",
            (sitting_id,),
        )
        return [
            KeptCloud(
                *r[:4], json.loads(r[4]), json.loads(r[5]), r[6], bool(r[7]), bool(r[8]), tuple(steps.get(r[0], ()))
            )
            for r in rows
        ]

    def cloud(self, sitting_id, name=None):
        """The chosen KeptCloud of a sitting, or the one of that name; None where there is no cloud."""
        have = self.clouds(sitting_id)
        if name is None:
            return next((c for c in have if c.chosen), have[-1] if have else None)
        for c in have:
            if c.name == name:
                return c
        known = ", ".join(f"“{c.name}”" for c in have) or "none yet"
        raise UmbrateError(f"There is no cloud “{name}” (there is: {known}).")

    def add_cloud(self, sitting_id, blob, settings, figures, made, name=None):
        """Keep a new cloud beside the others, and choose it. One that is the same as another is that one."""
        have = self.clouds(sitting_id)
        same = next((c for c in have if c.blob == blob), None)
        if same:
            self.choose_cloud(same.id)
            return same.id
        taken = {c.name for c in have}
        if name is None or name in taken:
            name = first_free("Cloud ", taken, len(have) + 1)
        with self.action(f"make “{name}”"):
            self.db.execute("UPDATE cloud SET chosen = 0 WHERE sitting_id = ? AND chosen", (sitting_id,))
            return self.db.execute(
                "INSERT INTO cloud (sitting_id, name, blob, settings, figures, made, chosen, shown) "
                "VALUES (?, ?, ?, ?, ?, ?, 1, 1)",
                (sitting_id, name, blob, json.dumps(settings), json.dumps(figures), made),
            ).lastrowid

    def _cloud_row(self, cloud_id):
        row = self.db.execute("SELECT sitting_id, name FROM cloud WHERE id = ?", (cloud_id,)).fetchone()
        if row is None:
            raise UmbrateError("That cloud is gone.")
        return row

    def choose_cloud(self, cloud_id):
        """Let a cloud be the one that is measured on and exported."""
        sitting_id, name = self._cloud_row(cloud_id)
        with self.action(f"choose “{name}”"):
            self.db.execute(
                "UPDATE cloud SET chosen = (id = ?) WHERE sitting_id = ? AND chosen != (id = ?)",
                (cloud_id, sitting_id, cloud_id),
            )

    def rename_cloud(self, cloud_id, name):
        """Give a cloud another name."""
        sitting_id, old = self._cloud_row(cloud_id)
        name = plain_name(name, "A cloud")
        if any(c.name == name and c.id != cloud_id for c in self.clouds(sitting_id)):
            raise UmbrateError(f"There is a cloud “{name}” already. Choose another name.")
        with self.action(f"rename “{old}”"):
            self.db.execute("UPDATE cloud SET name = ? WHERE id = ? AND name != ?", (name, cloud_id, name))

    def remove_cloud(self, cloud_id):
        """Take a cloud away; where it was the chosen one, the newest of the others is chosen."""
        sitting_id, name = self._cloud_row(cloud_id)
        with self.action(f"remove “{name}”"):
            self.db.execute("DELETE FROM cloud WHERE id = ?", (cloud_id,))
            left = self.clouds(sitting_id)
            if left and not any(c.chosen for c in left):
                self.db.execute("UPDATE cloud SET chosen = 1 WHERE id = ?", (left[-1].id,))

    def add_cleaning(self, cloud_id, step, blob, removed, label):
        """Clean a cloud by one more step."""
        self._cloud_row(cloud_id)
        with self.action(label):
            return self.db.execute(
                "INSERT INTO cleaning (cloud_id, step, blob, removed) VALUES (?, ?, ?, ?)",
                (cloud_id, json.dumps(step), blob, int(removed)),
            ).lastrowid

    def set_cleaning(self, cloud_id, steps, label):
        """Replace all steps of a cloud: (step, blob, removed) in order."""
        self._cloud_row(cloud_id)
        with self.action(label):
            self.db.execute("DELETE FROM cleaning WHERE cloud_id = ?", (cloud_id,))
            for step, blob, removed in steps:
                self.db.execute(
                    "INSERT INTO cleaning (cloud_id, step, blob, removed) VALUES (?, ?, ?, ?)",
                    (cloud_id, json.dumps(step), blob, int(removed)),
                )
