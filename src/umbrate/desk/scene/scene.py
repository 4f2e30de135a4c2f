"""The scene: photos as frusta, tie points, the dense cloud and the keep box, to be turned by hand.

Points are drawn by core.raster (`canvas`); what lies on top by QPainter (`paint`). What the pointer does is in
`pointer`.
"""

from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, Qt, QTimer
from PyQt6.QtGui import QAction, QPainter, QPen
from PyQt6.QtWidgets import QComboBox, QSlider, QToolButton, QWidget

from ...core.cloud.keepbox import KeepBox
from ...core.geometry.pose import center
from ...core.raster.camera import eye_round
from ...stages.base import Shown
from .. import over as t
from ..flow import Flow, FlowBar
from . import looking
from .canvas import Canvas
from .frusta import Frusta
from .paint import paint_empty, paint_over
from .pointer import Pointer, press_key
from .points import ScenePoints
from .through import Through
from .toolcolumn import SceneSide
from .tools import BOX, BRUSH, LASSO, LOOK, RECTANGLE, TURN, BoxHandles, PointPicker, TurnRings
from .viewmenu import SlabBar, ViewMenu

LIVE_RADIUS = 1.2  #: what is seen of a growing block

ALONE = ("Tie points", "Cloud", "Surface")  #: one of these is drawn at a time


class Scene(QWidget):
    """The 3D view."""

    def __init__(self, session):
        super().__init__()
        self.session = session
        self.setMinimumSize(240, 200)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Scene")
        self.eye = None
        self.drawn, self.canvas, self.pointer = ScenePoints(session), Canvas(self), Pointer(self)
        self.live = None
        self.ray = None
        self._point_look = None
        self._place = None  #: the place with too little that was looked at last
        self.frusta, self.picker, self.handles = Frusta(session), PointPicker(), BoxHandles()
        self.rings = TurnRings()
        session.turning_wanted.connect(lambda: self.set_mode(TURN))
        session.measuring.changed.connect(self.update)
        session.marking.changed.connect(self.update)
        session.cleaning.changed.connect(self._cloud_changed)
        session.joining.changed.connect(self._overlay_changed)
        session.joining.place_wanted.connect(self._look_closely)
        self._photos_shown = None  #: whether photos were drawn before an overlay hid them
        self.through = Through(session, self)
        self._rest = QTimer(self, singleShot=True, interval=140)
        self._rest.timeout.connect(lambda: self.redraw())
        self._make_tools()
        self._make_side()
        session.surfacing.changed.connect(self._surface_changed)
        session.mending.changed.connect(self._surface_changed)
        session.texturing.changed.connect(self._surface_changed)
        session.mending.hole_wanted.connect(self._look_into)
        session.points.changed.connect(self._points_changed)
        session.shooting.placed.connect(self.update)
        session.shooting.stood.connect(lambda: self.look_from("Fit", ring=True))  # where next is asked, more than what
        session.document_changed.connect(self.reload)
        session.cloud_read.connect(self.reload)
        session.chosen_changed.connect(self.reload)
        session.job_changed.connect(self._other_job)
        session.live.connect(self._on_live)
        session.ray.connect(self._on_ray)
        self._seen = self._stage_mark = self._looked = self._shown_beside = None
        self._at_ring = False
        self._whole, self._from = None, "Fit"  #: the Eye that the last look at all of it gave, and from where
        self.reload()

    def _make_tools(self):
        self.tools = FlowBar(self)
        row = Flow(self.tools, spacing=3)
        row.setContentsMargins(8, 8, 8, 0)
        self.toggles = {}
        for name, tip, key in (
            ("Photos", "Show the photos as small frusta", "Alt+P"),
            ("Tie points", "Show the sparse cloud", "Alt+T"),
            ("Cloud", "Show the dense cloud", "Alt+C"),
            ("Surface", "Show the surface", "Alt+S"),
            ("Keep box", "Show the box that says what is kept", "Alt+B"),
            ("Marks", "Show marked points, lines, faces and measurements", "Alt+M"),
        ):
            b = QToolButton(
                text={"Tie points": "Points", "Keep box": "Box"}.get(name, name), checkable=True, checked=True
            )
            b.setToolTip(f"{tip}  ({key})")
            b.setShortcut(key)
            b.clicked.connect(lambda on, n=name: self._toggled(n, on))
            self.toggles[name] = b
            row.addWidget(b)
        row.gap(4)
        self.point_size = QSlider(Qt.Orientation.Horizontal, minimum=1, maximum=5, value=2)
        self.point_size.setFixedWidth(56)
        self.point_size.setToolTip("Point size in pixels")
        self.point_size.valueChanged.connect(lambda _: self.redraw())
        row.addWidget(self.point_size)
        self.view = ViewMenu(self)
        self.slab = SlabBar(self)
        self.slab.changed.connect(self._cut)
        look = QToolButton(text="View", popupMode=QToolButton.ToolButtonPopupMode.InstantPopup)
        look.setMenu(self.view)
        look.setToolTip("Sides, parallel rays, section slab, views to keep, pictures")
        self.tools.relaid.connect(self._place_side)
        fit = QToolButton(text="Fit")
        fit.setShortcut("Home")
        fit.setToolTip("See everything  (Home)")
        fit.clicked.connect(lambda: self.look_from("Fit"))
        ring = QAction("From the object to the ring of photos and back", self, shortcut="End")
        ring.triggered.connect(self.look_at_ring)
        self.addAction(ring)
        self.ring = ring
        for b in (look, fit):
            row.addWidget(b)

    def _make_side(self):
        self.side = SceneSide(self)
        self.side.mode_chosen.connect(self.set_mode)
        self.side.switched.connect(self._switch)
        self.side.through_wanted.connect(lambda on: self.look_through(self.session.photo_id if on else None))
        self.part = QComboBox(self)
        self.part.setToolTip("The block, or a fragment that nothing connects to it")
        self.part.activated.connect(self.session.show_fragment)
        self.part.hide()
        self.mode = LOOK

    def _switch(self, name, value):
        setattr(self.frusta, name, value)
        self.update()

    def set_mode(self, mode):
        """What the left button does: LOOK, LASSO, RECTANGLE, BRUSH or BOX."""
        self.mode = self.picker.kind = mode
        self.side.show_mode(mode)
        self.setCursor(Qt.CursorShape.ArrowCursor if mode in (LOOK, BOX, TURN) else Qt.CursorShape.CrossCursor)
        if mode == TURN and self.points is not None and len(self.points):
            self.place_rings()
            if not self._all_seen(np.concatenate([self.rings.ring(k) for k in range(3)]), 60):
                side = center(self.eye.pose) - self.rings.middle
                self.eye = looking.closely(self, self.rings.middle, 1.4 * self.rings.radius, side)
                self.redraw()
            self.session.said.emit("Drag a ring to turn the object about that axis. Esc ends it.", "note")
        if mode == BOX:
            self.toggles["Keep box"].setChecked(True)
        self.update()

    def _toggled(self, name, on):
        if on and name in ALONE:  # one would hide the other
            for other in ALONE:
                self.toggles[other].setChecked(other == name)
        self._seen = None
        self.reload()

    # ------------------------------------------------------------------ what is shown
    def _other_job(self):
        self.eye = self._seen = self._stage_mark = self.live = None
        self.through.end()
        self.reload()

    def reload(self):
        """Take what the chosen sitting has; what was not there before is looked at whole."""
        s = self.session
        results = tuple((r.id if (r := s.result(n)) else 0) for n in ("poses", "cloud")) if s.job else (0, 0)
        united = s.shows(Shown.CLOUDS) and results[1] == 0 and s.cleaning.kept is not None
        surface = s.surfacing.kept.id if s.job and s.surfacing.kept else 0
        results = (*results, s.sitting_id if s.shows(Shown.OVERLAY) else 0, united, surface)
        anew = self._stage_mark != (s.stage, *results)
        if anew:
            self._stage_mark = (s.stage, *results)
            self._hide_photos(s.joining.on and s.joining.has_clouds())
            dense = (s.shows(Shown.CLOUDS) and s.cleaning.kept is not None) or (
                s.shows(Shown.OVERLAY) and s.joining.has_clouds()
            )
            solid = bool(s.shows(Shown.SURFACES) and surface)
            dense = not solid and (dense or (s.shows(Shown.SURFACES) and s.cleaning.kept is not None))
            for name, on in (("Surface", solid), ("Cloud", dense), ("Tie points", not solid and not dense)):
                self.toggles[name].setChecked(on)
            self.toggles["Surface"].setVisible(bool(surface))
        self.point_size.setVisible(not self.toggles["Surface"].isChecked())
        run = s.running()
        if self.live is not None and (run is None or (run.sitting.id, run.stage) != (s.sitting_id, "poses")):
            self.live = self._seen = None
        parts = s.fragment_names() if s.job else []
        self.part.setVisible(len(parts) > 1)
        if len(parts) > 1 and [self.part.itemText(k) for k in range(self.part.count())] != parts:
            self.part.clear()
            self.part.addItems(parts)
            self.part.setCurrentIndex(s.fragment)
        self._place_side()
        wanted = s.job is not None and self.toggles["Cloud"].isChecked() and s.cleaning.kept is not None
        coming = wanted and not s.joining.on and s.cloud_at_hand() is None and s.cloud_coming is not None
        if coming and self.is_cloud and self.drawn.sitting_id == s.sitting_id:
            self.update()  # the cloud that is drawn stays until this one is there: no other picture comes between
            return
        removed = s.job.removed(s.sitting_id) if s.job and s.sitting_id else None
        beside = s.cleaning.beside()
        mark = (
            s.sitting_id, *results, *(self.toggles[n].isChecked() for n in ALONE), s.surfacing.key(),
            s.surfacing.mesh is not None, s.mending.mark, s.surfacing.beside(), s.texturing.drawn, s.texturing.key(),
            s.texturing.look, s.texturing.is_read,
            s.fragment, removed, s.cleaning.key(), beside, coming,
            s.joining.key(), s.joining.laid(True), s.joining.laid(False), s.joining.hidden,
            len(lengths := [X for *_, X in s.measuring.lengths()]), s.frame_key if s.job and s.sitting_id else None,
        )  # fmt: skip
        if mark == self._seen or self.live is not None:
            self.update()
            return
        self._seen, self._shown_beside = mark, beside
        self.drawn.take(*(self.toggles[n].isChecked() for n in ("Cloud", "Tie points", "Surface")))
        # another sitting, or points of another extent, are looked at whole; the same ones from where one was
        looked = (s.sitting_id, self.is_cloud or self.is_solid, self.drawn.is_overlay, s.fragment, mark[-1])
        if self.block is not None and (self.eye is None or looked != self._looked):
            self._looked = looked
            self.look_from("Fit")
        elif anew and self._look_again():
            pass  # what this stage is about may need more room, or less
        elif lengths and self.eye is not None and not self._all_seen(np.concatenate(lengths)):
            self.look_from("Fit")
        self.redraw()

    points = property(lambda self: self.drawn.points)
    colors = property(lambda self: self.drawn.colors)
    rows = property(lambda self: self.drawn.rows)
    is_cloud = property(lambda self: self.drawn.is_cloud)
    is_surface = property(lambda self: self.drawn.is_surface)
    #: whether triangles are drawn: a surface, or one with its texture
    is_solid = property(lambda self: self.drawn.is_surface or self.drawn.textured is not None)
    is_overlay = property(lambda self: self.drawn.is_overlay)
    block = property(lambda self: self.drawn.block)

    def _points_changed(self):
        """Other tie points are chosen, or they are colored in another way."""
        if self.is_overlay or self.is_solid:
            return
        look = self.session.points.look
        if look != self._point_look and not self.is_cloud and self.block is not None and self.live is None:
            self._point_look = look
            self.drawn.recolor()
        if not self.is_cloud:
            self._to_gap(self.session.points)
        self.redraw()

    def _to_gap(self, work):
        """Look at the place that was chosen among those that coverage found."""
        if work.place is not None and work.place != self._place and work.covered:
            self.eye = looking.at_gap(self, work.covered[1].places[work.place])
        self._place = work.place

    def _cloud_changed(self):
        """The cloud is looked at in another way, something is tried on it, or others are shown beside it."""
        work = self.session.cleaning
        if not self.is_cloud or self.session.cloud_at_hand() is None:
            return
        if self._seen is not None and work.beside() != self._shown_beside:
            self.reload()
            return
        self.drawn.recolor()
        self._to_gap(work)
        self.redraw()

    def _surface_changed(self):
        """The surface was read, or it is looked at in another way."""
        if not self.toggles["Surface"].isChecked():
            return
        if self.is_surface and self.session.surfacing.mesh is not None:
            self.drawn.recolor()
            self.redraw()
        self.reload()

    def _overlay_changed(self):
        """Joined sittings are looked at in another way, or others of them are drawn."""
        if self.session.joining.on:
            self.reload()
            self.drawn.recolor()
            self.redraw()

    def _hide_photos(self, hide):
        """Photos stand in the way of sittings laid over each other; back from there they are shown as before."""
        photos = self.toggles["Photos"]
        if hide and self._photos_shown is None:
            self._photos_shown = photos.isChecked()
            photos.setChecked(False)
        elif not hide and self._photos_shown is not None:
            photos.setChecked(self._photos_shown)
            self._photos_shown = None

    def _look_into(self, place, size, normal):
        """Look at a hole from outside, so that it fills half of the view."""
        if self.eye is not None:
            self.eye = looking.closely(self, place, size, normal)
            self.redraw()

    def _look_closely(self, place, size):
        """Look at a place from where one is, so near that something of this size fills the view."""
        if self.eye is not None:
            self.eye = looking.closely(self, place, size, center(self.eye.pose) - np.asarray(place, float))
            self.redraw()

    def _on_live(self, name, data):
        """A growing block: its photos stand up one after the other."""
        if name != "block" or not len(data.points):
            return
        if self.live is None:
            self.eye = eye_round(np.zeros(3), LIVE_RADIUS, (0.45, -1, 0.55), self.width(), self.height())
        self.live = data
        self.drawn.grow(data)
        self.redraw()

    def _on_ray(self, ray):
        self.ray = ray
        self.update()

    def keep_box(self):
        d = self.session.keep_box if self.session.job else None
        return KeepBox.from_dict(d) if d else None

    def _all_seen(self, X, rim=0):
        """Whether all places (n, 3) are in the view, so many pixels from its edge."""
        uv = self.on_screen(X)
        return bool((np.isfinite(uv) & (uv >= rim) & (uv <= (self.width() - rim, self.height() - rim))).all())

    def look_at_ring(self):
        """From the object to all photos round it, and back."""
        self.look_from("Fit", not self._at_ring)

    def look_from(self, name, ring=False):
        """Look at the object, and at the known lengths where these are shown, from a named side, or fit it into the
        view; `ring`: at all photos round it.
        """
        if self.block is None:
            return
        self._end_through()
        self.eye, self._at_ring = looking.whole(self, name, ring), ring
        self._whole, self._from = self.eye, name
        self.redraw()

    def _look_again(self):
        """Look at all of it anew where nobody has turned or moved it since; whether that is so."""
        untouched = self.eye is not None and self.eye is self._whole
        if untouched:
            self.look_from(self._from, self._at_ring)
        return untouched

    def look(self, eye):
        """Look with another Eye."""
        self._end_through()
        self.eye = eye
        self.view.parallel.setChecked(eye.parallel)
        self.redraw()

    def set_parallel(self, on):
        """Parallel rays or perspective; what lies at the depth of the pivot keeps its size."""
        if self.eye is not None:
            if self.through.photo_id is not None:
                self._end_through()
            self.eye = replace(self.eye, parallel=on)
            self.redraw()

    def show_slab(self, on):
        """Draw only what lies between two planes; the bar says which."""
        self.slab.setVisible(on)
        self._place_side()
        if on:
            self.slab.tell()
        else:
            self._cut(None)

    def _cut(self, slab):
        self.drawn.show_slab(slab if self.slab.isVisible() else None)
        self.redraw()

    # ------------------------------------------------------------------ drawing
    def redraw(self, *_, moving=False):
        """Draw anew: something of how it is drawn was changed. `moving`: the view does, and a sample will do."""
        self.canvas.moving, self.canvas.image = moving, None
        if moving and self.through.photo_id is not None:
            self._end_through()
        self.update()
        if moving:
            self._rest.start()

    def paintEvent(self, _):
        p = QPainter(self)
        p.fillRect(self.rect(), t.color(t.NEUTRAL))
        if self.eye is None or (self.block is None and self.live is None):
            paint_empty(p, self.rect(), self.session)
            return
        if self.points is not None and len(self.points):
            self.canvas.paint(p)
        paint_over(p, self)
        if self.pointer.hovered is not None:
            p.setPen(QPen(t.color(t.ACCENT), 1.6))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawEllipse(QPointF(*self.pointer.hovered), 6, 6)
        if self.mode in (LASSO, RECTANGLE, BRUSH):
            self.picker.paint(p, self.pointer.place if self.underMouse() else None)

    def snapshot(self, width):
        """What draws the scene as it is now, as a QImage of another width: see `Canvas.snapshot`."""
        return self.canvas.snapshot(width)

    def resizeEvent(self, e):
        # what filled the view fills it still
        if not self._look_again() and self.eye is not None and e.oldSize().height() > 0:
            self.eye = replace(self.eye, f=self.eye.f * self.height() / e.oldSize().height())
        self._place_side()
        if self.through.photo_id is not None:
            self.look_through(self.through.photo_id)
        self.redraw()

    def _place_side(self):
        top = self.tools.place(0, self.width()) + 4
        side = self.side.column.extent(self.height() - top)
        self.side.setGeometry(0, top, side.width(), min(side.height(), max(self.height() - top, 0)))
        left = side.width() + 8
        self.slab.setGeometry(left, top, max(self.width() - left - 12, 200), 30)
        self.part.adjustSize()
        self.part.move(self.width() - self.part.width() - 10, top + (34 if self.slab.isVisibleTo(self) else 0))
        self.through.blend.move(self.width() - self.through.blend.width() - 12, self.height() - 30)

    def look_through(self, photo_id):
        """Look from a photo's place, with the picture over the points; None ends it."""
        eye = self.through.begin(photo_id, self.block, self.width(), self.height()) if photo_id is not None else None
        if eye is None:
            self._end_through()
            return
        self.eye = eye
        self.side.show_through(True)
        self.redraw()

    def _end_through(self):
        self.through.end()
        self.side.show_through(False)
        self.update()

    def on_screen(self, X):
        """Where places (n, 3) are in the widget (n, 2), NaN behind the eye."""
        uvz = self.eye.project(np.asarray(X, float).reshape(-1, 3), self.width(), self.height())
        return np.where(uvz[:, 2:] > 0, uvz[:, :2], np.nan)

    # ------------------------------------------------------------------ the pointer
    def point_at(self, pos, reach=3):
        """Index of the point that is drawn at a position, or else nearest to it within `reach` pixels; -1 without."""
        return self.canvas.point_at(pos, reach)

    def place_rings(self):
        """Put the rings that turn the object round its points."""
        p = self.points
        middle = np.median(p, axis=0).astype(float)
        self.rings.stand(middle, 1.15 * float(np.percentile(np.linalg.norm(p - middle, axis=1), 95)))

    def mousePressEvent(self, e):
        self.setFocus()
        self.pointer.press(e)

    def mouseMoveEvent(self, e):
        self.pointer.move(e)

    def mouseReleaseEvent(self, e):
        self.pointer.release(e)

    def leaveEvent(self, _):
        self.pointer.leave()

    def wheelEvent(self, e):
        if self.eye is None:
            return
        k = self.point_at(e.position(), 6)
        if k >= 0:
            toward = self.points[k].astype(float)
        else:
            at = e.position().x(), e.position().y()
            toward = self.eye.place_at(*at, max(self.eye.depth, 1e-3), self.width(), self.height())
        self.eye = self.eye.zoomed(1.0015 ** e.angleDelta().y(), toward)
        self.redraw(moving=True)

    def keyPressEvent(self, e):
        if not press_key(self, e):
            super().keyPressEvent(e)
