"""Mending the chosen surface: a step on trial, and the holes it has. Part of the session."""

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import pyqtSignal

from ...actions.mending import MEND
from ...actions.mends import Context, did_text, try_mend
from ...core.geometry.similarity import scale_of
from ...core.raster.coloring import surface_colors
from ...core.surface.carried import mean_edge
from ...core.surface.distance import signed_distance
from ...core.surface.holes import holes_of
from ...sitting.clouds import to_job
from ...sitting.surfaces import moved
from .. import over as t
from .surfaces import coarse_of
from .trying import Trying

REACH = 60.0  #: mean edges: how far what moved is looked for
STILL = 1e-4  #: of a mean edge: nearer to where it was, a vertex has not moved


@dataclass(frozen=True)
class Made:
    """A surface as a step on trial would make it, in the job's frame.

    Attributes
    ----------
    mesh : dict of arrays
    moving : Coarse
    colors : (n, 3) uint8
        What is new in the accent; else how far it moved, or plain where nothing did.
    span : (low, high) or None
        What the ramp of how far it moved goes from and to.
    closed : bool
    """

    mesh: dict
    moving: object
    colors: np.ndarray
    span: tuple | None
    closed: bool


@dataclass(frozen=True)
class SeenHole:
    """A hole in the job's frame: middle (3,), the widest way across, the area, and its direction (3,)."""

    middle: np.ndarray
    across: float
    area: float
    normal: np.ndarray


def _accent():
    a = t.color(t.ACCENT)
    return np.array([a.red(), a.green(), a.blue()], np.uint8)


class MendWork(Trying):
    """The chosen surface of the chosen sitting, as it would be after a step, and its holes."""

    WORD, UNIT, SERIES, stepwise = "surface", "triangle", "mend", MEND
    hole_wanted = pyqtSignal(object, float, object)  #: a hole to look at: its middle, how wide it is, its direction

    def __init__(self, session):
        super().__init__(session)
        self.made = None  #: Made, where more than taking away is on trial
        self.gone = None  #: (n,) bool, vertices that the step on trial takes away
        self.mark = 0  #: another number for every trial
        self._did = None
        self._holes = self._holes_coming = None
        self._key = None
        session.job_changed.connect(self._other)
        session.document_changed.connect(self._other)
        session.chosen_changed.connect(self._other)

    @property
    def kept(self):
        s = self.session
        return s.job.surface(s.sitting_id) if s.job and s.sitting_id else None

    def key(self):
        kept = self.kept
        return (kept.id, tuple(x.id for x in kept.steps), *self.session.frame_key) if kept else None

    def _other(self):
        key = self.key()
        if key != self._key:
            self._key = key
            self.forget_raw()
            had = self.step is not None
            self.end_trial()
            if had:
                self.changed.emit()

    # ------------------------------------------------------------------ a step on trial
    def context(self, step):
        return Context(self.session.job, self.session.sitting, self.kept, step)

    def attempt(self, arrays, step, context):
        return try_mend(arrays, step, context)

    def examine(self, arrays, answer, context):
        told = answer.did, context.scale, len(arrays["faces"]), len(answer.arrays["faces"])
        if answer.gone is not None:
            return None, answer.gone, told
        m = answer.arrays
        edge = mean_edge(arrays["points"], arrays["faces"])
        d = signed_distance(m["points"], arrays["points"], arrays["faces"], REACH * edge)
        shapes = (
            bool(answer.did.get("filled_holes")) or answer.did["now"]["filled"] > answer.did["filled_before"] + 1e-9
        )
        new = m["filled"] & ~(np.abs(d) < STILL * edge) if shapes else ~np.isfinite(d)
        some = np.abs(d[~new & np.isfinite(d)])
        most = float(np.percentile(some, 99)) if len(some) else 0.0
        still = shapes or most < STILL * edge
        mesh = moved(m, context.now)
        span = None if still else (-most * context.scale, most * context.scale)
        look, values = ("relief", None) if still else ("compared", d * np.float32(context.scale))
        colors = surface_colors(mesh, look, values, span)
        colors[new] = _accent()
        made = Made(mesh, coarse_of(mesh), colors, span, answer.did["now"]["closed"])
        return made, None, told

    def keep_step(self, kept, step, answer):
        # a whole surface is written: that takes longer than the window may wait
        s, job = self.session, self.session.job
        if answer is None:
            self.apply_all([step])
            return
        self.computing = True
        self.changed.emit()

        def keep(row):
            if self.is_as_it_was(kept):
                self.say_kept(step, s.do(lambda: self.stepwise.add(s.job, kept, *row)))

        s.in_background(lambda: self.stepwise.put(job, step, answer), keep, self.failed)

    def see(self, found):
        self.made, self.gone, self._did = found or (None, None, None)
        self.mark += 1

    def list_now(self):
        return self.session.job.surfaces(self.session.sitting_id)

    def marked(self, colors):
        """Colors (n, 3) of the surface with what is on trial to go in the accent."""
        if self.gone is None or len(self.gone) != len(colors) or not self.gone.any():
            return colors
        return np.where(self.gone[:, None], _accent(), colors // 2)

    def legend(self):
        """The range, unit and name of how far a step on trial moves the surface; None where it does not."""
        unit = self.session.frame.unit if self.session.frame else ""
        return (*self.made.span, unit, "Moved by the step") if self.made and self.made.span else None

    def told(self):
        """What the trial would do, in words."""
        if self.computing:
            return "Mending …"
        if self.busy:
            return "Looking …"
        if self.step is None or self._did is None:
            return ""
        did, scale, before, after = self._did
        unit = self.session.frame.unit if self.session.frame else ""
        more = did_text(did, scale, unit)
        what = f"{before:,} triangles would be {after:,}"
        drawn = self.stepwise.book.by_name[self.step["filter"]]
        what = f"{drawn.title}: {what}" if drawn.hidden else what
        return f"{what}; {more}." if more else f"{what}."

    def did(self, step):
        """What a step that was done did, in words."""
        s = self.session
        unit = s.frame.unit if s.frame else ""
        return did_text(step.get("did"), scale_of(to_job(s.job, s.sitting, self.kept)), unit)

    # ------------------------------------------------------------------ places that are clicked
    def pick_piece(self, place):
        """Try taking away the piece of the surface that a place of it belongs to."""
        keep = bool(self.step and self.step["filter"] == "piece" and self.step.get("keep"))
        self.try_on({"filter": "piece", "place": [float(x) for x in place], "keep": keep})

    def holes(self):
        """The SeenHoles of the chosen surface, the widest first; None while they are looked for (`changed` tells)."""
        key, kept, s = self.key(), self.kept, self.session
        if kept is None:
            return []
        if self._holes and self._holes[0] == key:
            return self._holes[1]
        if kept.now["closed"]:
            return []
        if self._holes_coming != key:
            self._holes_coming = key
            job, M = s.job, to_job(s.job, s.sitting, kept)

            def look():
                mesh = moved(self.stepwise.load(job, kept), M)
                return [SeenHole(h.middle, h.across, h.area, h.normal) for h in holes_of(mesh["points"], mesh["faces"])]

            def found(holes):
                if self._holes_coming == key:
                    self._holes, self._holes_coming = (key, holes), None
                    self.changed.emit()

            s.in_background(look, found)
        return None

    def fill(self, hole, how):
        """Try filling one hole."""
        self.try_on({"filter": "hole", "place": [float(x) for x in hole.middle], "how": how})

    def look_at(self, hole):
        """Have the scene look at a hole."""
        self.hole_wanted.emit(hole.middle, max(hole.across, 1e-9), hole.normal)
