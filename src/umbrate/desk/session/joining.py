"""Work on a joined row: its sittings laid over each other, what tells them apart, and what the user picks or says.

Part of the session: the bench asks, the scene draws.
"""

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from ...actions.overlay import distances, overlay_of
from ...actions.uniting import keep_united, unite_elsewhere
from ...core.raster.coloring import cloud_colors
from ...core.raster.ramps import relief
from ...sitting.members import members_of
from ...stages.base import Shown
from .. import over as t

TINTS, COLORS, DISTANCE = "tints", "colors", "distance"
RAMP_TO = 98  #: percent of the distances that the ramp covers


class JoinWork(QObject):
    """The joined row that is chosen, at its Join stage."""

    changed = pyqtSignal()  #: another look, another part shown, distances are there
    place_wanted = pyqtSignal(object, float)  #: a place (3,) to look at, and how large it is

    def __init__(self, session):
        super().__init__()
        self.session = session
        self.look = TINTS
        self.hidden = frozenset()  #: ids of members that are not drawn
        self.busy = False
        self._far = None
        self._overlays, self._coming = {}, {}  #: by whether they are of clouds: keys with Overlays, and keys alone
        session.job_changed.connect(self._other_job)

    def _other_job(self):
        self._overlays, self._coming, self._far, self.busy = {}, {}, None, False

    # ------------------------------------------------------------------ what there is
    @property
    def on(self):
        """Whether the scene shows sittings laid over each other."""
        s = self.session
        return bool(
            s.job and s.shows(Shown.OVERLAY) and s.sitting and s.sitting.members and s.job.join_found(s.sitting_id)
        )

    def key(self, dense=True):
        """What the overlay depends on."""
        s = self.session
        if not self.on:
            return None
        each = []
        for m in s.sitting.members:
            kept = s.job.cloud(m)
            results = [r.id if (r := s.job.result(m, n)) else 0 for n in ("poses", "scale")]
            each.append((m, *results, str(s.job.level(m)), (kept.id, len(kept.steps)) if kept else None))
        return s.sitting_id, dense, str(s.job.join_found(s.sitting_id).moves), tuple(each), *s.frame_key

    def overlay(self, dense=True):
        """The Overlay to draw, or None. It is made beside the window: the one before stays until it is there."""
        key = self.key(dense)
        if key is None:
            return None
        if self.laid(dense) != key:
            self._lay_over(key, dense)
        return self._overlays[dense][1] if self.laid(dense) else None

    def laid(self, dense=True):
        """The key of the overlay of the chosen row that there is, which may not be the one in force yet; or None."""
        key = self._overlays.get(dense, (None,))[0]
        return key if key is not None and key[0] == self.session.sitting_id else None

    @property
    def coming(self):
        """Whether an overlay of the chosen row is being made."""
        return any(key[0] == self.session.sitting_id for key in self._coming.values())

    def _lay_over(self, key, dense):
        if self._coming.get(dense) == key:
            return
        self._coming[dense] = key

        def show(over):
            if self._coming.get(dense) == key:
                del self._coming[dense]
            self._overlays = {d: x for d, x in self._overlays.items() if x[0][0] == key[0]}
            self._overlays[dense] = key, over
            self.look = TINTS if self.look == DISTANCE else self.look
            self.changed.emit()

        def fail(sentence):
            self.session.said.emit(sentence, "bad")
            show(None)

        row = self.session.sitting
        self.session.in_saved_job(lambda job: overlay_of(job, row, dense), show, fail, series=f"overlay {dense}")

    def has_clouds(self):
        """Whether every member has a cloud."""
        s = self.session
        return bool(s.sitting and s.sitting.members and all(s.job.cloud(i) for i in s.sitting.members))

    def shown(self, dense=True):
        """The parts that are drawn."""
        over = self.overlay(dense)
        return [p for p in over.parts if p.id not in self.hidden] if over else []

    def tint(self, sitting_id):
        """The color that tells a member apart."""
        return t.CATEGORIES[list(self.session.sitting.members).index(sitting_id) % len(t.CATEGORIES)]

    # ------------------------------------------------------------------ how it looks
    def points(self, dense):
        """All points that are drawn (n, 3)."""
        parts = self.shown(dense)
        return np.concatenate([p.points for p in parts]) if parts else np.zeros((0, 3), np.float32)

    def colors(self, dense):
        """Their colors (n, 3) uint8."""
        out = []
        far = dict(self._far[1]) if self.look == DISTANCE and self._far and self._far[0] == self.key(dense) else {}
        for p in self.shown(dense):
            if p.id in far:
                out.append(
                    cloud_colors({"points": p.points, "colors": p.colors}, "compared", far[p.id], self.ramp_range())
                )
            elif self.look == COLORS or self.look == DISTANCE:
                out.append(p.colors)
            else:
                c = t.color(self.tint(p.id))
                tint = np.array([c.red(), c.green(), c.blue()], np.float32)
                shade = relief(p.normals)[:, :1] / 225.0 if p.normals is not None else np.ones((len(p.points), 1))
                out.append((shade * tint).astype(np.uint8))
        return np.concatenate(out) if out else np.zeros((0, 3), np.uint8)

    def ramp_range(self):
        """What the ramp of distances runs from and to, or None."""
        if not self._far:
            return None
        some = np.abs(np.concatenate([d for _, d in self._far[1]]))
        some = some[np.isfinite(some)]
        # rims of holes and edges, where one sitting's surface ends, must not bleach what matters
        high = float(np.percentile(some, RAMP_TO)) if len(some) else 0.0
        return (-high, high) if high else None

    def legend(self):
        """The range, unit and name of the distances where they are drawn, else None."""
        span = self.ramp_range() if self.on and self.look == DISTANCE else None
        unit = self.session.frame.unit if self.session.frame else ""
        return (*span, unit, "Distance to the other sitting") if span else None

    def set_look(self, look):
        """Tint the sittings, show their own colors, or how far they are apart."""
        self.look = look
        if look == DISTANCE and (not self._far or self._far[0] != self.key()):
            self._measure()
        self.changed.emit()

    def _measure(self):
        key = self.key()
        if key is None:
            return
        self.busy = True
        row, laid = self.session.sitting, self.overlay() if self.laid() == key else None

        def work(job):
            over = laid or overlay_of(job, row, True)
            return [p.id for p in over.parts], distances(over.parts)

        def show(answer):
            self.busy = False
            if key == self.key():
                ids, (each, figures) = answer
                self._far = key, list(zip(ids, each, strict=True)), figures
            self.changed.emit()

        def fail(sentence):
            self.busy = False
            self.session.said.emit(sentence, "bad")
            self.changed.emit()

        self.session.in_saved_job(work, show, fail)

    def figures(self):
        """Overlap and distances of the whole overlay, once they are measured."""
        return self._far[2] if self._far and self._far[0] == self.key() else None

    def hide(self, sitting_id, hidden):
        """Draw a member, or not."""
        self.hidden = self.hidden | {sitting_id} if hidden else self.hidden - {sitting_id}
        self.changed.emit()

    def look_at(self, place):
        """Look closely at a place, in the plain frame of the row."""
        s = self.session
        X = s.frame.matrix[:3, :3] @ np.asarray(place[:3], float) + s.frame.matrix[:3, 3]
        over = self.overlay()
        if over is not None:
            size = float(np.percentile(np.linalg.norm(over.parts[0].points - X.astype(np.float32), axis=1), 60))
            self.place_wanted.emit(X, 0.25 * size)

    # ------------------------------------------------------------------ doing
    def join(self, member_ids):
        """Make a joined row of sittings, or go to the one there is, and run it."""
        s = self.session
        if not s.may_write():
            return
        row = next((r for r in s.job.joined_rows() if set(r.members) == set(member_ids)), None)
        if row is None:
            row = s.do(lambda: s.job.add_joined(member_ids))
        elif row.members != tuple(member_ids):
            s.do(lambda: s.job.set_members(row.id, member_ids))
        if row is not None:
            s.choose(row.id, "join")
            s.run()

    def merge(self):
        """Adjust all photos together, and scale them where lengths are known."""
        self.session.go_on("poses")

    def unite(self):
        """Put the members' clouds together as one."""
        s = self.session
        if not s.may_write():
            return
        sitting = s.sitting

        def keep(answer):
            if s.do(lambda: keep_united(s.job, sitting, *answer)) is None:
                return
            f = answer[1]
            s.choose(sitting.id, "cloud")
            told = f"{f['points']:,} points, {sum(f['doubled']):,} doubled ones left out"
            s.said.emit(f"United: {told}. Undo takes it away.", "good")

        s.send("Clouds together", unite_elsewhere, (str(s.job.folder), sitting.id), keep)

    def members(self):
        """The Sittings of the row that is chosen."""
        return members_of(self.session.job, self.session.sitting)
