"""Sections of a sitting's clouds: planes to cut along, kept in the plain frame so that they stay where they are."""

import json
import math
from dataclasses import dataclass

from ..core.errors import UmbrateError
from ..core.names import first_free, plain_name
from .memo import remembered
from .texts import parsed


@dataclass(frozen=True)
class SectionPlane:
    """A plane to cut along: a place (x, y, z) of it and the direction across it, in the plain frame."""

    id: int
    sitting_id: int
    name: str
    place: tuple
    normal: tuple


class Sections:
    """The part of a Job that holds section planes. Everything here can be undone."""

    @remembered
    def sections(self, sitting_id):
        """All SectionPlanes of a sitting, in the order they were kept."""
        rows = self.db.execute(
            "SELECT id, sitting_id, name, plane FROM section WHERE sitting_id = ? ORDER BY id", (sitting_id,)
        )
        planes = [(r[:3], parsed(r[3], (dict, list))) for r in rows]
        return [SectionPlane(*r, tuple(p["place"]), tuple(p["normal"])) for r, p in planes]

    def section(self, sitting_id, name):
        """The SectionPlane of that name."""
        for x in self.sections(sitting_id):
            if x.name == name:
                return x
        there = ", ".join(f"“{x.name}”" for x in self.sections(sitting_id)) or "none yet"
        raise UmbrateError(f"There is no section “{name}” (there is: {there}).")

    def free_section_name(self, sitting_id):
        """The first of Section 1, Section 2, ... that no plane has."""
        have = {x.name for x in self.sections(sitting_id)}
        return first_free("Section ", have)

    def keep_section(self, sitting_id, place, normal, name=None):
        """Keep a plane under a name; one that is there under that name is moved. Returns its id."""
        place, normal = [float(x) for x in place], [float(x) for x in normal]
        if not all(map(math.isfinite, (*place, *normal))) or not any(normal):
            raise UmbrateError("A section needs a place and a direction across it, in numbers.")
        have = {x.name: x.id for x in self.sections(sitting_id)}
        if name is None:
            name = self.free_section_name(sitting_id)
        name = plain_name(name, "A section")
        plane = json.dumps({"place": place, "normal": normal})
        with self.action(f"keep “{name}”"):
            if name in have:
                self.db.execute("UPDATE section SET plane = ? WHERE id = ?", (plane, have[name]))
                return have[name]
            return self.db.execute(
                "INSERT INTO section (sitting_id, name, plane) VALUES (?, ?, ?)", (sitting_id, name, plane)
            ).lastrowid

    def remove_section(self, section_id):
        """Forget a plane."""
        with self.action("forget a section"):
            self.db.execute("DELETE FROM section WHERE id = ?", (section_id,))
