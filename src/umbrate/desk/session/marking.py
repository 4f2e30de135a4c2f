"""Work on points marked by hand: which one is being marked, where it is, where to look for it next.

Part of the session, as the work on masks is: widgets ask it and listen to it.
"""

from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from ...actions.marking import Guide, Marking
from ...core.errors import UmbrateError
from ...core.imaging.sharpness import gray_of
from ...core.measure.snap import snap
from ...formats.drawings import shape_size
from ...job.marks import DEFAULT_SIGMA_PX, token

SNAP_SCREEN_PX = 14  #: a mark snaps to what is so near on the screen


class MarkWork(QObject):
    """The points of the chosen sitting and the one that is marked now."""

    changed = pyqtSignal()  #: other points, another active one, or marking began or ended
    dragging = pyqtSignal(object)  #: the active point as it would be (MarkedPoint) while a mark is dragged, or None

    def __init__(self, session):
        super().__init__()
        self.session = session
        self.on = False
        self.snapping = True
        self.active_id = None
        self._made = None
        self.chaining = False  #: whether points are being joined
        self.chain = []  #: ids of points that a line or face is being made of; empty where none is
        self._key = self._marking = self._points = self._drawn = None
        session.document_changed.connect(self._forget)
        session.chosen_changed.connect(self._chosen)
        session.job_changed.connect(self._other_job)

    def _other_job(self):
        self.on, self.active_id, self.chain = False, None, []
        self._key = self._marking = self._points = self._drawn = self._made = None
        self.changed.emit()

    def _forget(self):
        self._points = self._drawn = self._key = None
        if self.active_id is not None and self.active is None:
            self.active_id = None
        self.changed.emit()

    def _chosen(self):
        if self._points is not None and self._points[0] != self.session.sitting_id:
            self._points, self._key, self.active_id, self.chain = None, None, None, []
            self.changed.emit()

    # ------------------------------------------------------------------ what there is
    @property
    def marking(self):
        """The Marking of the chosen sitting, or None where there is no sitting."""
        s = self.session
        if s.sitting is None:
            return None
        if self._key is not None and self._key[0] == s.sitting_id:
            return self._marking  # until the document changes
        key = (
            s.sitting_id,
            *(r.id if (r := s.result(n)) else 0 for n in ("poses", "scale")),
            str(s.job.level(s.sitting_id)),
        )
        self._key = key
        if self._made is None or self._made != key:
            self._made, self._marking = key, Marking(s.job, s.sitting)
        return self._marking

    def drawn(self):
        """What the scene draws: points (name, place, id) that lie in the block, lines and faces with their sizes."""
        s = self.session
        if self._drawn is None or self._drawn[0] != s.sitting_id:
            at = {p.id: (p, X) for p in self.points if p.used and (X := self.marking.place(p)) is not None}
            unit = s.frame.unit if s.frame else ""
            shapes = {"line": [], "face": []}
            for shape in s.shapes():
                if all(i in at for i in shape.points):
                    X = np.array([at[i][1] for i in shape.points])
                    shapes[shape.kind].append((f"{shape.name} {self._size(shape, at, X, unit)}", X))
            points = [(p.name, X, i) for i, (p, X) in at.items()]
            self._drawn = s.sitting_id, (points, shapes["line"], shapes["face"])
        return self._drawn[1]

    @property
    def points(self):
        """All MarkedPoints of the chosen sitting."""
        s = self.session
        if s.sitting is None:
            return []
        if self._points is None or self._points[0] != s.sitting_id:
            self._points = s.sitting_id, s.job.marked_points(s.sitting_id)
        return self._points[1]

    @property
    def active(self):
        """The point that is marked now, or None."""
        return next((p for p in self.points if p.id == self.active_id), None)

    def _size(self, shape, at, X, unit):
        """Length or area of a line or face as text, with its interval once its points are in the adjusted block."""
        m = self.session.measuring.measurer
        kind = "area" if shape.kind == "face" else "polyline"
        try:
            if m is not None:
                return m.measure(kind, [token(i) for i in shape.points])["text"]
        except UmbrateError:
            pass  # marked since the last adjustment
        sign = unit + "²" * (shape.kind == "face" and bool(unit))
        return f"{shape_size(shape.kind, X):.2f} {sign}".strip()

    def seen(self):
        """Sightings of the active point with their residuals, the worst first."""
        p = self.active
        return self.marking.seen(p) if p else []

    def guide(self):
        """The Guide to the active point in the chosen photo."""
        p, photo = self.active, self.session.photo
        if p is None or photo is None or not self.on:
            return Guide()
        return self.marking.guide(p, photo.id, (photo.width, photo.height))

    def in_photo(self, photo_id):
        """Points seen in a photo: (MarkedPoint, Sighting)."""
        return [(p, s) for p in self.points for s in p.sightings if s.photo_id == photo_id]

    # ------------------------------------------------------------------ doing
    def set_on(self, on):
        """Begin or end marking in the photo view."""
        if on and not self.session.may_write():
            on = False
        self.on = on
        if on:
            self.session.measuring.begin(None)
        self.changed.emit()
        if on:
            self.session.said.emit(
                "Click in the photo to mark a place; it snaps to dots and corners (Alt: not). Enter takes a predicted "
                "spot, N and P step to photos that should see it, Esc ends marking.",
                "note",
            )

    def choose(self, point_id):
        """Let a point be the one that is marked."""
        if point_id != self.active_id:
            self.active_id = point_id
            self.changed.emit()

    def new(self):
        """Begin a new point with the next click."""
        self.active_id = None
        self.changed.emit()

    def place(self, x, y, gray=None, reach_px=None):
        """Mark the active point (or a new one) in the chosen photo; snaps where `gray` is given."""
        s = self.session
        photo = s.photo
        if photo is None or not s.may_write():
            return
        sigma, told = None, ""
        found = snap(gray, x, y, reach_px) if gray is not None and self.snapping and reach_px else None
        if found:
            x, y, told = found.x, found.y, f", snapped to a {found.what}"
            sigma = max(found.sigma_px, 0.1 if found.what == "dot" else 0.2)
        elif gray is not None:
            sigma = DEFAULT_SIGMA_PX
        if not (-0.5 <= x < photo.width - 0.5 and -0.5 <= y < photo.height - 0.5):
            return
        made = None
        if self.active is None:
            made = s.do(lambda: s.job.add_marked_point(s.sitting_id))
            if made is None:
                return
            self.active_id = made
            self._points = self._drawn = None
        i = self.active_id
        name = self.active.name
        s.do(lambda: s.job.set_sighting(i, photo.id, x, y, sigma))
        self._points = self._drawn = None
        rms = self.marking.rms(self.active)
        count = len(self.active.sightings)
        fit = f", residual {rms:.2f} px" if rms is not None else ""
        s.said.emit(f"{name} marked in {photo.name}{told}; {count} photo{'s' * (count != 1)}{fit}.", "good")
        self.changed.emit()

    def try_at(self, x, y):
        """While a sighting of the active point is dragged: what its sightings would say."""
        p, photo = self.active, self.session.photo
        if p is None or photo is None:
            return
        moved = tuple(replace(q, x=x, y=y) if q.photo_id == photo.id else q for q in p.sightings)
        self.dragging.emit(replace(p, sightings=moved))

    def confirm(self, gray=None, reach_px=None):
        """Take the predicted spot in the chosen photo, and go to the next."""
        g = self.guide()
        if g.spot is None:
            self.session.said.emit("Nothing is predicted here: mark the point in two solved photos first.", "note")
            return
        self.place(*g.spot, gray, reach_px)
        self.step(1)

    def step(self, way):
        """Show the next (or last) photo in which the active point should be seen and is not marked."""
        p, s = self.active, self.session
        if p is None:
            return
        todo = self.marking.photos_to_mark(p)
        if not todo:
            s.said.emit(f"{p.name} is marked in all photos that should see it.", "good")
            return
        order = [x.id for x in s.photos() if x.id in set(todo)]
        here = [x.id for x in s.photos()].index(s.photo_id) if s.photo_id else -1
        places = {x.id: k for k, x in enumerate(s.photos())}
        after = [i for i in order if (places[i] - here) * way > 0]
        chosen = (after[0] if way > 0 else after[-1]) if after else (order[0] if way > 0 else order[-1])
        self._show(chosen)

    def _show(self, photo_id):
        """Choose a photo, at the predicted spot where there is one."""
        s, p = self.session, self.active
        s.choose(photo_id=photo_id)
        photo = s.photo
        g = self.marking.guide(p, photo_id, (photo.width, photo.height))
        if g.spot is not None:
            s.looked_at.emit(*map(float, g.spot))

    def look_at(self, seen):
        """Show a sighting."""
        self.session.look_at(seen.photo_id, *seen.xy)

    def remove_sighting(self, photo_id=None):
        """Take the active point out of a photo, the chosen one where none is named."""
        s, i = self.session, self.active_id
        photo_id = photo_id or s.photo_id
        if i is not None and s.may_write():
            s.do(lambda: s.job.remove_sighting(i, photo_id))

    def remove(self):
        """Remove the active point."""
        s, i = self.session, self.active_id
        if i is not None and s.may_write():
            s.do(lambda: s.job.remove_marked_points([i]), "Point removed. Undo brings it back.")

    def rename(self, point_id, name):
        """Give a point another name."""
        s = self.session
        s.do(lambda: s.job.rename_marked_point(point_id, name))

    # ------------------------------------------------------------------ lines and faces
    def begin_shape(self):
        """The points clicked from now on are joined."""
        self.chain = [self.active_id] if self.active_id else []
        self.set_on(True)
        self.chaining = True
        self.session.said.emit("Click marked points, or mark new ones: they are joined in this order.", "note")

    def sized_shapes(self):
        """Lines and faces: (DrawnShape, its size as text, or "" where a point of it lies nowhere yet)."""
        at = {p.id: (p, X) for p in self.points if p.used and (X := self.marking.place(p)) is not None}
        unit = self.session.frame.unit if self.session.frame else ""
        out = []
        for shape in self.session.shapes():
            there = all(i in at for i in shape.points)
            X = np.array([at[i][1] for i in shape.points]) if there else None
            out.append((shape, self._size(shape, at, X, unit) if there else ""))
        return out

    def end_shape(self, kind):
        """Keep what was joined as a line or a face."""
        s, points = self.session, [i for i in self.chain if i is not None]
        self.chain = []
        if points:
            s.do(lambda: s.job.add_shape(s.sitting_id, kind, points))
        self.changed.emit()


def gray_window(picture):
    """A photo's picture as the gray that snapping works on."""
    return gray_of(picture).astype(np.float32)
