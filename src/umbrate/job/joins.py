"""What a job holds of its sittings joined: which ones, how they were found to lie, and what the user says of it.

A *joined row* is a sitting of its own whose photos are those of its members. Its members stay as they were.
"""

import json
from dataclasses import dataclass

from ..core.errors import UmbrateError
from ..core.names import plain_name
from .figures import read_figures
from .memo import remembered
from .texts import parsed

ON_OBJECT, ON_SUPPORT = "on the object", "on the support"
TARGET_ROLES = (ON_OBJECT, ON_SUPPORT)


@dataclass(frozen=True)
class Pick:
    """The same place picked in several members of a joined row.

    Attributes
    ----------
    places : dict of sitting id to place
        ``{"cloud": [x, y, z]}`` in that sitting's plain frame, or ``{"mark": end}`` of a marked point (see `marks`).
    used : bool
    """

    id: int
    name: str
    places: dict
    used: bool = True


class Joins:
    """The part of a Job that holds joined rows, roles of targets and picks. Everything here can be undone."""

    def photo_sittings(self):
        """The sittings that are one placement of the object each: all but joined rows."""
        return [s for s in self.sittings() if not s.members]

    def joined_rows(self):
        """The joined rows."""
        return [s for s in self.sittings() if s.members]

    def add_joined(self, member_ids, name=None):
        """Make a joined row of sittings; returns its Sitting.

        Raises
        ------
        UmbrateError
            With fewer than two sittings, or one that is joined itself.
        """
        member_ids = self._good_members(member_ids)
        taken = {s.name for s in self.sittings()}
        if name is None:
            name = next(n for n in ("Joined", *(f"Joined {k}" for k in range(2, 1000))) if n not in taken)
        name = plain_name(name, "A sitting")
        if name in taken:
            raise UmbrateError(f"There is a sitting “{name}” already. Choose another name.")
        with self.action(f"join {len(member_ids)} sittings"):
            n = self.db.execute("SELECT ifnull(max(position), -1) + 1 FROM sitting").fetchone()[0]
            sid = self.db.execute("INSERT INTO sitting (name, position) VALUES (?, ?)", (name, n)).lastrowid
            self.db.execute("INSERT INTO joined (sitting_id, members) VALUES (?, ?)", (sid, json.dumps(member_ids)))
        return next(s for s in self.sittings() if s.id == sid)

    def _good_members(self, member_ids):
        member_ids = list(dict.fromkeys(member_ids))
        by_id = {s.id: s for s in self.sittings()}
        for i in member_ids:
            if i not in by_id:
                raise UmbrateError("A sitting that is to be joined is not there any more.")
            if by_id[i].members:
                raise UmbrateError(f"“{by_id[i].name}” is joined already: join the sittings it is made of instead.")
        if len(member_ids) < 2:
            raise UmbrateError("Joining takes two sittings at least. Bring in the photos of the turned-over object.")
        return member_ids

    def set_members(self, sitting_id, member_ids):
        """Say which sittings a joined row is made of, the one whose frame it has first."""
        member_ids = self._good_members(member_ids)
        with self.action(f"join {len(member_ids)} sittings"):
            self.db.execute("UPDATE joined SET members = ? WHERE sitting_id = ?", (json.dumps(member_ids), sitting_id))

    def _member_gone(self, sitting_id, into_id=None):
        """A sitting leaves, or goes into another: joined rows that held it hold the other, or one less."""
        for s in self.joined_rows():
            if sitting_id not in s.members:
                continue
            left = [into_id if i == sitting_id else i for i in s.members]
            left = [i for i in dict.fromkeys(left) if i is not None]
            if len(left) < 2:
                self._remove(s.id)
            else:
                self.db.execute("UPDATE joined SET members = ? WHERE sitting_id = ?", (json.dumps(left), s.id))

    # ------------------------------------------------------------------ what was found
    @remembered
    def join_found(self, sitting_id):
        """What the last join of a joined row found, as the Join stage's figures; None before there was one."""
        row = self.db.execute("SELECT found FROM joined WHERE sitting_id = ?", (sitting_id,)).fetchone()
        return read_figures("join", parsed(row[0], dict)) if row and row[0] else None

    def _keep_found(self, sitting_id, figures):
        name = next(s.name for s in self.sittings() if s.id == sitting_id)
        with self.action(f"join “{name}”"):
            self.db.execute("UPDATE joined SET found = ? WHERE sitting_id = ?", (json.dumps(figures), sitting_id))

    # ------------------------------------------------------------------ roles of targets
    @remembered
    def target_roles(self):
        """What the user says of targets: "on the object" or "on the support", by number; others are judged."""
        return dict(self.db.execute("SELECT number, role FROM role ORDER BY number"))

    def set_target_roles(self, numbers, role):
        """Say where targets are; None leaves it to be judged from how they move between sittings."""
        if role not in (None, *TARGET_ROLES):
            raise UmbrateError(f"A target is {' or '.join(TARGET_ROLES)}, not “{role}”.")
        told = f"target {numbers[0]}" if len(numbers) == 1 else f"{len(numbers)} targets"
        with self.action(f"say that {told} {'is' if len(numbers) == 1 else 'are'} {role or 'to be judged'}"):
            for n in numbers:
                self._keep_one("role", "number", int(n), "role", role)

    # ------------------------------------------------------------------ picks
    @remembered
    def picks(self, sitting_id):
        """The Picks of a joined row, in the order they were made."""
        rows = self.db.execute(
            "SELECT id, name, places, used FROM pick WHERE sitting_id = ? ORDER BY id", (sitting_id,)
        )
        return [Pick(i, n, {int(k): v for k, v in parsed(p, dict).items()}, bool(u)) for i, n, p, u in rows]

    def add_pick(self, sitting_id, places):
        """Keep a place that was picked in members (see `Pick`; a marked point may be given by its name); named by the
        next free letter. Returns its id.
        """
        places = self._by_identity(places)
        taken = {p.name for p in self.picks(sitting_id)}
        names = [chr(65 + k) for k in range(26)] + [f"{chr(65 + k % 26)}{k // 26}" for k in range(26, 2600)]
        name = next(n for n in names if n not in taken)
        with self.action(f"pick {name}"):
            return self.db.execute(
                "INSERT INTO pick (sitting_id, name, places) VALUES (?, ?, ?)", (sitting_id, name, json.dumps(places))
            ).lastrowid

    def set_pick(self, pick_id, places=None, used=None):
        """Move a pick, or switch it on or off."""
        row = self.db.execute("SELECT name FROM pick WHERE id = ?", (pick_id,)).fetchone()
        if row is None:
            raise UmbrateError("That pick is gone.")
        name = row[0]
        places = None if places is None else self._by_identity(places)
        with self.action(f"move pick {name}" if places is not None else f"switch pick {name}"):
            if places is not None:
                self.db.execute("UPDATE pick SET places = ? WHERE id = ?", (json.dumps(places), pick_id))
            if used is not None:
                self.db.execute("UPDATE pick SET used = ? WHERE id = ?", (int(used), pick_id))

    def _by_identity(self, places):
        return {i: {"mark": self.end_of(i, p["mark"])} if "mark" in p else p for i, p in places.items()}

    def remove_picks(self, pick_ids):
        """Take picks away."""
        with self.action(f"remove {len(pick_ids)} pick{'s' * (len(pick_ids) != 1)}"):
            for i in pick_ids:
                self.db.execute("DELETE FROM pick WHERE id = ?", (i,))
