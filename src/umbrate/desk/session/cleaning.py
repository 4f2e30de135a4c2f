"""Work on the clouds of a sitting: what is shown of them, what a filter would take away, and applying it.

Part of the session: the bench asks, the scene draws.
"""

import numpy as np

from ...actions.cleaning import CLEAN
from ...actions.coverage import gather_coverage
from ...actions.steps import Context, try_step
from ...core.raster.coloring import COLORINGS, COVERAGE, MEASURED, cloud_colors, usual_range
from ...sitting.clouds import cloud_source, compare_clouds
from .. import over as t
from .beside import Beside
from .covering import Covering
from .trying import Trying


class CleanWork(Beside, Covering, Trying):
    """The chosen cloud of the chosen sitting: a step on trial, and how the cloud is colored."""

    PLAIN = "color"  #: the look of its own colors
    WORD, UNIT, SERIES, stepwise = "cloud", "point", "clean", CLEAN

    def __init__(self, session):
        super().__init__(session)
        self.drop = None  #: (n,) bool, what it would take away
        self.moves = None  #: (n,) how far it would move points along their normals, in the job's unit
        self.look = "color"
        self.ramps = {}  #: from where to where ramps run, where somebody chose that
        self.compared = None  #: (key of the cloud, distances, figures, name of the other)
        self.begin_covering()
        self.begin_beside()
        self._mark = self._colored = self._usual = None
        session.job_changed.connect(self._other_job)
        session.document_changed.connect(self._forget)
        session.chosen_changed.connect(self._forget)
        session.cloud_read.connect(self.changed)

    def key(self):
        """What the cloud that is shown depends on."""
        s = self.session
        kept = s.job.cloud(s.sitting_id) if s.job and s.sitting_id else None
        return (kept.id, tuple(x.id for x in kept.steps)) if kept else None

    def _other_job(self):
        # what was computed or read for the one before does not come back
        self.computing = False
        self.begin_covering()
        self.begin_beside()

    def _forget(self):
        key = self.key()
        if key != self._mark:
            self._mark, self._colored, self._usual = key, None, None
            self.forget_raw()
            had = self.drop is not None
            self.end_trial()
            if self.forget_covered():
                self.look = "color" if self.look in COVERAGE else self.look
            if self.compared and self.compared[0] != key:
                self.compared = None
                self.look = "color" if self.look == "compared" else self.look
            if had:
                self.changed.emit()

    @property
    def kept(self):
        """The chosen KeptCloud, or None."""
        s = self.session
        return s.job.cloud(s.sitting_id) if s.job and s.sitting_id else None

    # ------------------------------------------------------------------ a step on trial
    def context(self, step):
        return Context(self.session.job, self.session.sitting, self.kept, step)

    def attempt(self, arrays, step, context):
        return try_step(arrays, step, context)

    def examine(self, arrays, answer, context):
        if answer.ndim == 1:
            return answer, None
        moves = ((answer - arrays["points"]) * arrays["normals"]).sum(1) * np.float32(context.scale)
        return np.zeros(len(answer), bool), moves

    def see(self, found):
        self.drop, self.moves = found or (None, None)

    def list_now(self):
        return self.session.job.clouds(self.session.sitting_id)

    def source_of(self, kept):
        return cloud_source(self.session.job, self.session.sitting, kept)

    def told(self):
        """What the trial would do, in words."""
        if self.computing:
            return "Cleaning …"
        if self.busy:
            return "Looking …"
        if self.step is None or self.drop is None:
            return ""
        if self.moves is not None:
            some, unit = np.abs(self.moves), self.session.frame.unit if self.session.frame else ""
            middle, most = (f"{x:.2g} {unit}".strip() for x in (np.median(some), some.max()))
            return f"Points would move {middle} in the median, {most} at most: blue inward, orange outward."
        n = len(self.drop)
        return f"{int(self.drop.sum()):,} of {n:,} points would go ({100 * self.drop.mean():.2f} %)."

    # ------------------------------------------------------------------ how it looks
    def set_look(self, look):
        """Color the cloud by something."""
        self.look, self._colored = look, None
        self.changed.emit()

    def compare(self, other_id):
        """Color the cloud by its distance to another."""
        s, kept = self.session, self.kept
        other = next((c for c in s.job.clouds(s.sitting_id) if c.id == other_id), None)
        if kept is None or other is None:
            return
        key, sources = self.key(), [cloud_source(s.job, s.sitting, c) for c in (kept, other)]

        def show(found):
            if key == self.key():
                self.compared = (key, *found, other.name)
                self.set_look("compared")

        s.in_background(lambda: compare_clouds(*(c.read() for c in sources)), show)

    def gatherer(self):
        sitting, cloud = self.session.sitting, self.session.cloud_at_hand()
        return lambda job: gather_coverage(job, sitting, cloud=cloud)

    def legend(self):
        """The range (low, high), unit and name of what the cloud is colored by; None for looks without a ramp."""
        span = self._range()
        if span is None:
            return None
        look = COLORINGS[self.look]
        unit = (self.session.frame.unit if self.session.frame else "") if look.unit == "length" else look.unit
        return *span, unit, f"Distance to {self.compared[3]}" if look.name == "compared" else look.title

    def _range(self):
        """The lowest and the highest value of the ramp, or None: kept, as every repaint asks."""
        if self.ramps.get(self.look):
            return self.ramps[self.look]
        values = self.values()
        if values is None:
            return None
        key = (self.key(), self.look, self.session.frame_key, id(self.compared), id(self.covered))
        if self._usual is None or self._usual[0] != key:
            self._usual = key, usual_range(self.look, values)
        return self._usual[1]

    def set_ramp(self, span):
        """What the ramp of the look that is shown runs from and to; None: by the values."""
        self.ramps[self.look] = span
        self._colored = None
        self.changed.emit()

    def values(self):
        """What the cloud is colored by (n,) float32, for looks with a ramp; None without."""
        c, look = self.session.cloud_at_hand(), COLORINGS[self.look]
        if c is None or self.look not in MEASURED:
            return None
        if self.look == "compared":
            return self.compared[1] if self.compared and self.compared[0] == self.key() else None
        if look.asked:
            return getattr(self.covered[1].coverage, look.array).astype(np.float32) if self.covered else None
        return c[look.array].astype(np.float32) if look.array in c else None

    def colors(self):
        """Colors (n, 3) uint8 of the cloud as it is looked at, with what is on trial in the accent."""
        c = self.session.cloud_at_hand()
        if self.moves is not None and len(self.moves) == len(c["points"]):
            return cloud_colors(c, "compared", self.moves)
        key = (self.key(), self.look, self.session.frame_key, self._range())
        if self._colored is None or self._colored[0] != key:
            self._colored = key, cloud_colors(c, self.look, self.values(), self._range())
        colors = self._colored[1]
        if self.drop is not None and len(self.drop) == len(colors) and self.drop.any():
            a = t.color(t.ACCENT)
            colors = np.where(self.drop[:, None], np.array([a.red(), a.green(), a.blue()], np.uint8), colors // 2)
        return colors
