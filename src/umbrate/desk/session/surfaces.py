"""Work on the surfaces of a sitting: which one is shown, and how it looks. Part of the session."""

from typing import NamedTuple

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from ...actions.coverage import covered_by
from ...actions.models import compare_with_form, compare_with_model
from ...actions.solids import SurfaceMeasurer
from ...core.measure.solid import thickness
from ...core.raster.coloring import OF_SURFACES, SURFACE_COLORINGS, surface_colors, usual_range
from ...core.raster.solid import SMOOTH, SOLID, Manner
from ...core.surface.coarse import coarse_copy
from ...core.surface.looks import curvature, slope
from ...sitting.surfaces import compare_surfaces, reach_of, surface_source
from .. import over as t
from .beside import Beside

MOVING = 60_000  #: triangles that are drawn while the view moves


class Coarse(NamedTuple):
    """Points (m, 3), faces (k, 3), the vertex (m,) of the whole surface that stands for each, and its normal (m, 3)."""

    points: np.ndarray
    faces: np.ndarray
    rows: np.ndarray
    normals: np.ndarray


def coarse_of(mesh):
    """The Coarse of a surface's arrays."""
    points, faces, rows = coarse_copy(mesh["points"], mesh["faces"], MOVING)
    return Coarse(points, faces, rows, mesh["normals"][rows])


class SurfaceWork(Beside, QObject):
    """The chosen surface of the chosen sitting, read in the background, and how it is looked at.

    Attributes
    ----------
    what, shading : as `Manner` has them
    """

    changed = pyqtSignal()  #: another surface, or another look

    def __init__(self, session):
        super().__init__()
        self.session = session
        self._mesh = self._moving = self._drawn = None
        self.begin_beside()
        self.look, self.what, self.shading = "relief", SOLID, SMOOTH
        self.ramps = {}
        self.compared = None  #: (key of the surface, distances, figures, name of the other)
        self.measured = None  #: (key of the surface, Values)
        self.found = None  #: Compared, where it is beside a model or a form
        self.measuring = False
        self._slow = {}  #: looks that take long: (key of the surface, values)
        self._key = self._coming = self._colored = self._asked = None
        session.job_changed.connect(self.begin_beside)
        session.job_changed.connect(self._other)
        session.document_changed.connect(self._other)
        session.chosen_changed.connect(self._other)

    @property
    def kept(self):
        """The chosen KeptSurface, or None."""
        return self.session.mending.kept

    def key(self):
        """What the surface that is shown depends on."""
        return self.session.mending.key()

    @property
    def mesh(self):
        """What is drawn: what a step on trial makes of the surface, or the surface."""
        made = self.session.mending.made
        return made.mesh if made and self._mesh is not None else self._mesh

    @property
    def moving(self):
        """A coarse copy of that."""
        made = self.session.mending.made
        return made.moving if made and self._mesh is not None else self._moving

    def list_now(self):
        s = self.session
        return s.job.surfaces(s.sitting_id)

    def source_of(self, kept):
        return surface_source(self.session.job, self.session.sitting, kept)

    def drawn(self):
        """What the scene draws: the arrays, with those of the surfaces shown beside it behind its own, and a Coarse."""
        mesh, others = self.mesh, self.others()
        if not others or mesh is None:
            return mesh, self.moving
        mark = (id(mesh), tuple(self.beside().items()))
        if self._drawn is None or self._drawn[0] != mark:
            every = [mesh, *(m for _, m in others)]
            counts = np.cumsum([0, *(len(m["points"]) for m in every[:-1])])
            both = {k: np.concatenate([m[k] for m in every]) for k in ("points", "normals")}
            both["faces"] = np.concatenate([m["faces"] + np.int32(n) for m, n in zip(every, counts, strict=True)])
            self._drawn = mark, both, coarse_of(both)
        return self._drawn[1:]

    def drawn_colors(self):
        """Colors (n, 3) uint8 of the vertices of `drawn`: those beside the chosen one in a tint each."""
        out = [self.colors()]
        for k, m in self.others():
            tint = t.color(t.CATEGORIES[k % len(t.CATEGORIES)])
            shade = [tint.red(), tint.green(), tint.blue()]
            out.append(np.broadcast_to(np.array(shade, np.uint8), (len(m["points"]), 3)))
        return np.concatenate(out) if len(out) > 1 else out[0]

    @property
    def is_closed(self):
        """Whether what is drawn is closed."""
        if any(not c.now["closed"] for c in self.list_now() if not c.chosen and c.id in self.shown):
            return False
        made = self.session.mending.made
        return made.closed if made else bool(self.kept and self.kept.now["closed"])

    @property
    def coming(self):
        """Whether it is being read."""
        return self._coming is not None

    def _other(self):
        key = self.key()
        if key != self._key and key != self._coming:
            self._key = self._coming = None
            self._colored = self._asked = self.compared = self.measured = self.found = None
            self.look = "relief" if self.look in ("compared", *self._slow) else self.look
            self._slow = {}
            if self._mesh is not None:
                self._mesh = self._moving = None
                self.changed.emit()

    def at_hand(self):
        """The arrays of the chosen surface where they are there; else None, and they are read: `changed` tells."""
        key = self.key()
        if key is None:
            return None
        if self._key == key:
            return self.mesh
        if self._coming != key:
            self._coming = key
            source = surface_source(self.session.job, self.session.sitting, self.kept)

            def read():
                mesh = source.read()
                return mesh, coarse_of(mesh)

            self.session.in_background(read, lambda found: self._came(key, found), lambda e: self._failed(key, e))
        return None

    def _came(self, key, found):
        if key != self._coming:
            return  # another one is wanted by now
        self._coming, self._key = None, key
        self._mesh, self._moving = found
        self.changed.emit()

    def _failed(self, key, sentence):
        if key == self._coming:
            self._coming, self._key, self._mesh = None, key, None
            self.session.said.emit(sentence, "bad")
            self.changed.emit()

    # ------------------------------------------------------------------ how it looks
    @property
    def manner(self):
        """The Manner it is drawn in."""
        return Manner(self.what, self.shading)

    def set_manner(self, what=None, shading=None):
        """Draw it solid or its edges, smooth or flat."""
        self.what, self.shading = what or self.what, shading or self.shading
        self.changed.emit()

    def set_look(self, look):
        """Color it by something; what takes long is computed beside the window first."""
        slow = look == "thickness" or look in OF_SURFACES
        if slow and self._mesh is not None and self._slow.get(look, (None,))[0] != self._key:
            m, key, sitting = self._mesh, self._key, self.session.sitting
            if look == "thickness":
                self._work(
                    lambda: {look: thickness(m["points"], m["faces"], m["normals"])[0].astype(np.float32)},
                    lambda found: self._slow_came(key, found, look),
                )
            else:
                self._work(
                    lambda job: covered_by(job, sitting, m), lambda found: self._slow_came(key, found, look),
                    self.session.in_saved_job,
                )  # fmt: skip
            return
        self.look = look
        self.changed.emit()

    def _slow_came(self, key, found, look):
        self._slow.update({name: (key, values) for name, values in found.items()})
        self.look = look

    def values(self):
        """What it is colored by (n,) float32, for looks with a ramp; None without."""
        if self.session.mending.made:
            return None
        m, look = self.mesh, SURFACE_COLORINGS[self.look]
        if m is None or look.array in ("", "colors", "filled"):
            return None
        if self.look == "compared":
            return self.compared[1] if self.compared and self.compared[0] == self._key else None
        if self.look in self._slow:
            key, values = self._slow[self.look]
            return values if key == self._key else None
        if look.asked:
            mark = (self._key, self.look)
            if self._asked is None or self._asked[0] != mark:
                make = {"curvature": curvature, "slope": slope}[self.look]
                self._asked = mark, make(m["points"], m["faces"], m["normals"])
            return self._asked[1]
        return m[look.array].astype(np.float32)

    def _range(self):
        if self.ramps.get(self.look):
            return self.ramps[self.look]
        values = self.values()
        return None if values is None else usual_range(self.look, values, SURFACE_COLORINGS)

    def legend(self):
        """The range (low, high), unit and name of what it is colored by; None for looks without a ramp."""
        if self.session.mending.made:
            return self.session.mending.legend()
        span = self._range()
        if span is None:
            return None
        look = SURFACE_COLORINGS[self.look]
        unit = self.session.frame.unit if self.session.frame else ""
        unit = {"length": unit, "1/length": f"1/{unit}" if unit else ""}.get(look.unit, look.unit)
        return *span, unit, f"Distance to {self.compared[3]}" if look.name == "compared" else look.title

    @property
    def signed(self):
        """Whether what it is colored by has two sides."""
        return self.session.mending.made is not None or SURFACE_COLORINGS[self.look].signed

    def set_ramp(self, span):
        """What the ramp of the look that is shown runs from and to; None: by the values."""
        self.ramps[self.look] = span
        self.changed.emit()

    def colors(self):
        """Colors (n, 3) uint8 of its vertices as it is looked at."""
        if self.session.mending.made:
            return self.session.mending.made.colors
        span = self._range()
        mark = (self._key, self.look, span)
        if self._colored is None or self._colored[0] != mark:
            self._colored = mark, surface_colors(self.mesh, self.look, self.values(), span)
        return self.session.mending.marked(self._colored[1])

    def compare(self, other_id):
        """Color the surface by its distance to another."""
        s, kept = self.session, self.kept
        other = next((c for c in s.job.surfaces(s.sitting_id) if c.id == other_id), None)
        if kept is None or other is None:
            return
        key, sources = self.key(), [surface_source(s.job, s.sitting, c) for c in (kept, other)]
        reach = reach_of(kept, sources[0])

        def show(found):
            if key == self.key():
                self.compared, self.found = (key, *found, other.name), None
                self.set_look("compared")

        s.in_background(lambda: compare_surfaces(*(c.read() for c in sources), reach), show)

    # ------------------------------------------------------------------ measuring
    def measure(self):
        """Measure area, volume and sizes beside the window; `changed` tells."""
        self._beside(lambda m: m.all(), lambda values: setattr(self, "measured", (self.key(), values)))

    def values_now(self):
        """What was measured of the surface that is chosen now, Values; or None."""
        return self.measured[1] if self.measured and self.measured[0] == self.key() else None

    def compare_form(self, kind):
        """Color the surface by its distance to a form fitted to what is chosen of it, or to all that points hold."""
        gone = self.session.mending.gone
        self.session.mending.try_on(None)
        self._beside(lambda m: compare_with_form(m, kind, gone), self._show_found)

    def compare_model(self, file, placed, picks=()):
        """Color the surface by its distance to a model in a file."""
        mesh = self.mesh
        if mesh is not None:
            self._work(lambda: compare_with_model(mesh, file, placed, picks), self._show_found)

    def _show_found(self, found):
        self.compared, self.found = (self.key(), found.distance, found.figures, found.name), found
        self.look = "compared"

    def _beside(self, ask, then):
        """``ask(SurfaceMeasurer)`` of the chosen surface beside the window, then ``then(answer)``."""
        s, kept, sitting = self.session, self.kept, self.session.sitting
        if kept is not None:
            self._work(lambda job: ask(SurfaceMeasurer(job, sitting, kept)), then, s.in_saved_job)

    def _work(self, work, then, where=None):
        s, key = self.session, self.key()
        self.measuring = True
        self.changed.emit()

        def show(answer):
            self.measuring = False
            if key == self.key():
                then(answer)
            self.changed.emit()

        def fail(sentence):
            self.measuring = False
            s.said.emit(sentence, "bad")
            self.changed.emit()

        (where or s.in_background)(work, show, fail)
