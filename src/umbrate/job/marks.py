"""What people mark on a sitting by hand: points in photos, lines and faces, and what coordinates are known.

Ends of lengths and measurements are kept by identity, so that they mean the same after any renaming: ``208`` is the
target of that number, ``@12`` the marked point of that id, whatever it is called. People write names; `Marks.end_of`
and `Marks.end_names` go from one to the other. A spot on the cloud is kept with its place in the frame of the poses;
see `sitting.endpoints`.
"""

import json
import math
import re
from dataclasses import dataclass, replace

from ..core.errors import UmbrateError
from ..core.names import first_free, plain_name
from .memo import remembered
from .texts import parsed

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
class KnownTarget:
    """A target with known coordinates in mm, their standard deviations, and whether the block is put there."""

    number: int
    known: tuple
    known_sigma: tuple
    held: bool


LARGEST = 1e9  #: mm: nothing that is photographed is larger, and no coordinate of a map


def _good_name(name):
    name = plain_name(name, "A point")
    if re.fullmatch(r"\d+", name):
        raise UmbrateError(f"“{name}” is a target's number: give the point a name with a letter in it.")
    if name.startswith("@"):
        raise UmbrateError(f"The name of a point cannot begin with @: “{name}”.")
    return name


def token(mark_id):
    """A marked point as an end that is kept."""
    return f"@{mark_id}"


def mark_of(end):
    """Id of the marked point that a kept end stands for, or None."""
    return int(end[1:]) if isinstance(end, str) and re.fullmatch(r"@\d{1,18}", end) else None


def good_number(value, what, low=-LARGEST, high=LARGEST):
    """A finite number between two limits, as float.

    Raises
    ------
    UmbrateError
        Where it is none.
    """
    try:
        x = float(value)
    except (TypeError, ValueError):
        raise UmbrateError(f"{what}: “{value}” is no number.") from None
    if not math.isfinite(x) or not low <= x <= high:
        raise UmbrateError(f"{what} must be a number from {low:g} to {high:g}, not {x:g}.")
    return x


class Marks:
    """The part of a Job that holds what was marked. Everything here can be undone."""

    # ------------------------------------------------------------------ points
    @remembered
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
            k = parsed(known) if known else None
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
        there = ", ".join(p.name for p in self.marked_points(sitting_id)) or "none yet"
        raise UmbrateError(f"There is no point “{name}” (there is: {there}).")

    def end_names(self, sitting_id):
        """Names of a sitting's marked points by the end that stands for each."""
        return {token(p.id): p.name for p in self.marked_points(sitting_id)}

    def end_of(self, sitting_id, text):
        """The end (see above) that people mean by a text: a target's number or the name of a marked point.

        Raises
        ------
        UmbrateError
            Where there is no point of that name.
        """
        text = " ".join(str(text).split())
        if re.fullmatch(r"\d{1,9}", text):
            return str(int(text))
        names = self.end_names(sitting_id)
        if text in names:
            return text
        for end, name in names.items():
            if name == text:
                return end
        if mark_of(text) is not None:
            raise UmbrateError("A marked point that is used here was removed. Choose another end.")
        there = ", ".join(names.values()) or "none yet"
        raise UmbrateError(
            f"There is no point “{text}” (there is: {there}). An end is a target's number or a marked point's name."
        )

    def add_marked_point(self, sitting_id, name=None, label=None):
        """Make a new point; without a name, the next free of P1, P2, ... Returns its id."""
        with self.action(label or "make a point"):
            return self._new_mark(sitting_id, name)

    def _new_mark(self, sitting_id, name=None):
        taken = {p.name for p in self.marked_points(sitting_id)}
        name = _good_name(first_free("P", taken) if name is None else name)
        if name in taken:
            raise UmbrateError(f"There is a point “{name}” already: a name stands for one place. Choose another.")
        return self.db.execute("INSERT INTO mark (sitting_id, name) VALUES (?, ?)", (sitting_id, name)).lastrowid

    def _mark(self, mark_id):
        row = self.db.execute("SELECT sitting_id, name FROM mark WHERE id = ?", (mark_id,)).fetchone()
        if row is None:
            raise UmbrateError("That point is gone.")
        return row

    def rename_marked_point(self, mark_id, name):
        """Give a point another name; what refers to it does so by identity."""
        sitting_id, old = self._mark(mark_id)
        name = _good_name(name)
        if name == old:
            return
        if any(p.name == name for p in self.marked_points(sitting_id)):
            raise UmbrateError(f"There is a point “{name}” already: two names for one place are as bad as one for two.")
        with self.action(f"rename “{old}”"):
            self.db.execute("UPDATE mark SET name = ? WHERE id = ?", (name, mark_id))

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
        return json.dumps(
            {
                "xyz": [good_number(x, "A known coordinate") for x in known],
                "sigma": [good_number(x, "The standard deviation of a coordinate", 1e-9) for x in sigma],
            }
        )

    # ------------------------------------------------------------------ targets with known coordinates
    @remembered
    def known_targets(self, sitting_id):
        """KnownTargets of a sitting by number; a joined row has those of its first member too, whose support it has."""
        out = {}
        for place in dict.fromkeys((self.members(sitting_id)[0], sitting_id)):
            for number, known, held in self.db.execute(
                "SELECT number, known, held FROM target WHERE sitting_id = ? ORDER BY number", (place,)
            ):
                k = parsed(known)
                out[number] = KnownTarget(number, tuple(k["xyz"]), tuple(k["sigma"]), bool(held))
        return out

    def set_known_target(self, sitting_id, number, known, sigma=None, held=True):
        """Say which coordinates a target is known to have, in mm; None: none."""
        with self.action(f"known coordinates of target {number}"):
            self._know_target(sitting_id, number, known, sigma, held)

    def _know_target(self, sitting_id, number, known, sigma, held):
        if known is None:
            self.db.execute("DELETE FROM target WHERE sitting_id = ? AND number = ?", (sitting_id, int(number)))
            return
        self.db.execute(
            "INSERT INTO target (sitting_id, number, known, held) VALUES (?, ?, ?, ?) "
            "ON CONFLICT (sitting_id, number) DO UPDATE SET known = excluded.known, held = excluded.held",
            (sitting_id, int(number), self._known_text(known, sigma), int(held)),
        )

    def remove_marked_points(self, mark_ids):
        """Remove points with their sightings."""
        with self.action(f"remove {len(mark_ids)} point{'s' * (len(mark_ids) != 1)}"):
            for i in mark_ids:
                self.db.execute("DELETE FROM mark WHERE id = ?", (i,))

    def set_sighting(self, mark_id, photo_id, x, y, sigma_px=None, used=True, label=None):
        """Say where a point is seen in a photo; one place a photo."""
        name = self._mark(mark_id)[1]
        x, y = (good_number(v, "A pixel", -1e6, 1e6) for v in (x, y))
        if sigma_px is not None:
            sigma_px = good_number(sigma_px, "The standard deviation of a marked place, in pixels,", 1e-6, 1e6)
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
        """Known coordinates: (name, (x, y, z), (sx, sy, sz)); a number is a target, points that are new are made."""
        with self.action(f"take {len(rows)} known points"):
            ids = {p.name: p.id for p in self.marked_points(sitting_id)}
            for name, xyz, sigma in rows:
                if re.fullmatch(r"\d{1,9}", name):
                    self._know_target(sitting_id, int(name), xyz, sigma, held)
                    continue
                i = ids.get(name) or self._new_mark(sitting_id, name)
                self.db.execute(
                    "UPDATE mark SET known = ?, held = ? WHERE id = ?", (self._known_text(xyz, sigma), int(held), i)
                )

    # ------------------------------------------------------------------ lines and faces
    @remembered
    def drawn_shapes(self, sitting_id):
        """All DrawnShapes of a sitting."""
        rows = self.db.execute(
            "SELECT id, kind, name, points FROM shape WHERE sitting_id = ? ORDER BY id", (sitting_id,)
        )
        have = {p.id for p in self.marked_points(sitting_id)}
        shapes = [DrawnShape(i, k, n, tuple(parsed(p, list))) for i, k, n, p in rows]
        return [s for s in shapes if set(s.points) <= have]

    def add_shape(self, sitting_id, kind, points, name=None):
        """Join marked points (ids) to a "line" or a "face"."""
        least = 3 if kind == "face" else 2
        if len(points) < least:
            raise UmbrateError(f"A {kind} needs at least {least} points.")
        there = {s.name for s in self.drawn_shapes(sitting_id)}
        count = next(k for k in range(1, len(there) + 2) if f"{kind.capitalize()} {k}" not in there)
        with self.action(f"draw a {kind}"):
            return self.db.execute(
                "INSERT INTO shape (sitting_id, kind, name, points) VALUES (?, ?, ?, ?)",
                (sitting_id, kind, name or f"{kind.capitalize()} {count}", json.dumps(list(points))),
            ).lastrowid

    def rename_shape(self, shape_id, name):
        """Give a line or face another name."""
        row = self.db.execute("SELECT sitting_id, name FROM shape WHERE id = ?", (shape_id,)).fetchone()
        if row is None:
            raise UmbrateError("That line or face is gone.")
        name = _good_name(name)
        if name == row[1]:
            return
        if any(s.name == name for s in self.drawn_shapes(row[0])):
            raise UmbrateError(f"There is a line or face “{name}” already.")
        with self.action(f"rename “{row[1]}”"):
            self.db.execute("UPDATE shape SET name = ? WHERE id = ?", (name, shape_id))

    def shape(self, sitting_id, name):
        """The line or face of that name."""
        for s in self.drawn_shapes(sitting_id):
            if s.name == name:
                return s
        have = ", ".join(s.name for s in self.drawn_shapes(sitting_id)) or "none"
        raise UmbrateError(f"There is no line or face “{name}”. There is: {have}.")

    def remove_shape(self, shape_id):
        """Take a line or face away; its points stay."""
        with self.action("remove a line or face"):
            self.db.execute("DELETE FROM shape WHERE id = ?", (shape_id,))
