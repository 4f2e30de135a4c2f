"""The scene: photos as frusta, tie points, the dense cloud and the keep box, to be turned by hand.

Points are drawn by core.raster; what lies on top by QPainter. While the view moves, an even sample
of the cloud is drawn, as large as the machine manages in a frame; when it rests, all of it.
"""

import time
from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, Qt, QTimer
from PyQt6.QtGui import QImage, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QSlider, QToolButton, QWidget

from ...actions.leveling import level_by_turn
from ...actions.picturing import DIRECTIONS, EDGES, GROUND
from ...core.cloud.keepbox import KeepBox
from ...core.geometry.lens import project_one
from ...core.geometry.pose import center
from ...core.poses.block import FEATURE
from ...core.raster.camera import eye_round
from ...core.raster.points import draw_points, paint
from ...sitting.endpoints import end_of_row, seen_from
from ...stages.base import Shown
from .. import tokens as t
from .frusta import Frusta
from .paint import paint_empty, paint_over
from .points import ScenePoints
from .through import Through
from .toolcolumn import SceneSide
from .tools import BOX, BRUSH, LASSO, LOOK, RECTANGLE, TURN, BoxHandles, PointPicker, TurnRings
from .viewmenu import SlabBar, ViewMenu

FRAME_S = 0.028  #: time a frame may take while the view moves
DWELL_MS = 450  #: a photo under the pointer for so long opens beside
SNAP_PX = 11  #: an end of a measurement snaps to a target or mark so near
LIVE_RADIUS = 1.2  #: what is seen of a growing block


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
        self.drawn = ScenePoints(session)
        self.live = None
        self.ray = None
        self.hovered = None
        self._image = self._buffers = None
        self._moving = False
        self._budget = 400_000
        self._drag = None
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
        self.over_photo = self._pointer = None
        self._photos_shown = None  #: whether photos were drawn before an overlay hid them
        self.through = Through(session, self)
        self._dwell = QTimer(self, singleShot=True, interval=DWELL_MS)
        self._dwell.timeout.connect(self._open_beside)
        self._rest = QTimer(self, singleShot=True, interval=140)
        self._rest.timeout.connect(self._refine)
        self._make_tools()
        self._make_side()
        session.points.changed.connect(self._points_changed)
        session.document_changed.connect(self.reload)
        session.cloud_read.connect(self.reload)
        session.chosen_changed.connect(self.reload)
        session.job_changed.connect(self._other_job)
        session.live.connect(self._on_live)
        session.ray.connect(self._on_ray)
        self._seen = self._stage_mark = self._looked = self._shown_beside = None
        self.reload()

    def _make_tools(self):
        self.tools = QWidget(self)
        row = QHBoxLayout(self.tools)
        row.setContentsMargins(8, 8, 8, 0)
        row.setSpacing(4)
        self.toggles = {}
        for name, tip, key in (
            ("Photos", "Show the photos as small frusta", "1"),
            ("Tie points", "Show the sparse cloud", "2"),
            ("Cloud", "Show the dense cloud", "3"),
            ("Keep box", "Show the box that says what is kept", "4"),
            ("Marks", "Show marked points, lines, faces and measurements", "0"),
        ):
            b = QToolButton(
                text={"Tie points": "Points", "Keep box": "Box"}.get(name, name), checkable=True, checked=True
            )
            b.setToolTip(f"{tip}  ({key})")
            b.setShortcut(key)
            b.clicked.connect(lambda on, n=name: self._toggled(n, on))
            self.toggles[name] = b
            row.addWidget(b)
        row.addStretch(1)
        self.size = QSlider(Qt.Orientation.Horizontal, minimum=1, maximum=5, value=2)
        self.size.setFixedWidth(56)
        self.size.setToolTip("Point size in pixels")
        self.size.valueChanged.connect(lambda _: self._redraw())
        row.addWidget(self.size)
        self.view = ViewMenu(self)
        self.slab = SlabBar(self)
        self.slab.changed.connect(self._cut)
        look = QToolButton(text="View", popupMode=QToolButton.ToolButtonPopupMode.InstantPopup)
        look.setMenu(self.view)
        look.setToolTip("Sides, parallel rays, section slab, views to keep, pictures")
        fit = QToolButton(text="Fit")
        fit.setShortcut("Home")
        fit.setToolTip("See everything  (Home)")
        fit.clicked.connect(lambda: self.look_from("Fit"))
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
            self._set_rings()
            self.session.said.emit("Drag a ring to turn the object about that axis. Esc ends it.", "note")
        if mode == BOX:
            self.toggles["Keep box"].setChecked(True)
        self.update()

    def _toggled(self, name, on):
        # both clouds at once would hide each other
        other = {"Tie points": "Cloud", "Cloud": "Tie points"}.get(name)
        if on and other:
            self.toggles[other].setChecked(False)
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
        results = (*results, s.sitting_id if s.shows(Shown.OVERLAY) else 0, united)
        if self._stage_mark != (s.stage, *results):
            self._stage_mark = (s.stage, *results)
            self._hide_photos(s.joining.on and s.joining.has_clouds())
            dense = (s.shows(Shown.CLOUDS) and s.cleaning.kept is not None) or (
                s.shows(Shown.OVERLAY) and s.joining.has_clouds()
            )
            self.toggles["Cloud"].setChecked(dense)
            self.toggles["Tie points"].setChecked(not dense)
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
        mark = (
            s.sitting_id, *results, self.toggles["Cloud"].isChecked(), self.toggles["Tie points"].isChecked(),
            s.fragment, removed, s.cleaning.key(), s.cleaning.shown, coming,
            s.joining.key(), s.joining.hidden, s.frame_key if s.job and s.sitting_id else None,
        )  # fmt: skip
        if mark == self._seen or self.live is not None:
            self.update()
            return
        self._seen, self._shown_beside = mark, s.cleaning.shown
        self.drawn.take(self.toggles["Cloud"].isChecked(), self.toggles["Tie points"].isChecked())
        # another sitting, or points of another extent, are looked at whole; the same ones from where one was
        looked = (s.sitting_id, self.is_cloud, self.drawn.is_overlay, s.fragment, mark[-1])
        if self.block is not None and (self.eye is None or looked != self._looked):
            self._looked = looked
            self.look_from("Fit")
        self._redraw()

    points = property(lambda self: self.drawn.points)
    colors = property(lambda self: self.drawn.colors)
    rows = property(lambda self: self.drawn.rows)
    is_cloud = property(lambda self: self.drawn.is_cloud)
    is_overlay = property(lambda self: self.drawn.is_overlay)
    block = property(lambda self: self.drawn.block)

    def _points_changed(self):
        """Other tie points are chosen, or they are colored in another way."""
        if self.is_overlay:
            return
        look = self.session.points.look
        if look != self._point_look and not self.is_cloud and self.block is not None and self.live is None:
            self._point_look = look
            self.drawn.recolor()
        self._redraw()

    def _cloud_changed(self):
        """The cloud is looked at in another way, something is tried on it, or others are shown beside it."""
        work = self.session.cleaning
        if not self.is_cloud or self.session.cloud_at_hand() is None:
            return
        if self._seen is not None and work.shown != self._shown_beside:
            self.reload()
            return
        self.drawn.recolor()
        if work.place is not None and work.place != self._place and work.covered:
            self._look_at_place(work.covered[1].places[work.place])
        self._place = work.place
        self._redraw()

    def _overlay_changed(self):
        """Joined sittings are looked at in another way, or others of them are drawn."""
        if self.session.joining.on:
            self.reload()
            self.drawn.recolor()
            self._redraw()

    def _hide_photos(self, hide):
        """Photos stand in the way of sittings laid over each other; back from there they are shown as before."""
        photos = self.toggles["Photos"]
        if hide and self._photos_shown is None:
            self._photos_shown = photos.isChecked()
            photos.setChecked(False)
        elif not hide and self._photos_shown is not None:
            photos.setChecked(self._photos_shown)
            self._photos_shown = None

    def _look_closely(self, place, size):
        """Look at a place from where one is, so near that something of this size fills the view."""
        if self.eye is None:
            return
        away = center(self.eye.pose) - np.asarray(place, float)
        self.eye = eye_round(np.asarray(place, float), size, away, self.width(), self.height())
        self.eye.pivot = np.asarray(place, float)
        self._redraw()

    def _look_at_place(self, place):
        """Look from the side at a place with too little and at the photos that would mend it."""
        eye = center(place.poses[1])
        away = np.linalg.norm(eye - place.center)
        side = np.cross(place.normal, (0, 0, 1.0))
        side = side + 0.35 * place.normal if np.linalg.norm(side) > 0.1 else np.array([0.3, -1.0, 0.2])
        self.eye = eye_round((eye + place.center) / 2, 0.62 * away, side, self.width(), self.height())
        self.eye.pivot = np.asarray(place.center, float)

    def _on_live(self, name, data):
        """A growing block: its photos stand up one after the other."""
        if name != "block" or not len(data.points):
            return
        if self.live is None:
            self.eye = eye_round(np.zeros(3), LIVE_RADIUS, (0.45, -1, 0.55), self.width(), self.height())
        self.live = data
        self.drawn.grow(data)
        self._redraw()

    def _on_ray(self, ray):
        self.ray = ray
        self.update()

    def keep_box(self):
        d = self.session.keep_box if self.session.job else None
        return KeepBox.from_dict(d) if d else None

    def look_from(self, name):
        """Look at everything from a named side, or fit it into the view."""
        if self.block is None:
            return
        self._end_through()
        p = self.points if self.points is not None and len(self.points) else self.block.points
        box = self.keep_box()
        pivot = box.center if box else np.median(p, axis=0)
        radius = float(np.linalg.norm(box.half)) if box else float(np.percentile(np.linalg.norm(p - pivot, axis=1), 98))
        middle = pivot
        if self.toggles["Photos"].isChecked() and not self.is_cloud and not self.drawn.is_dense:
            # the dome of photos with the object in it, not round it
            centers = self.block.eyes[self.block.solved]
            lo, hi = np.minimum(centers.min(0), pivot - radius), np.maximum(centers.max(0), pivot + radius)
            middle = (lo + hi) / 2
            radius = float(np.linalg.norm(centers - middle, axis=1).max()) * 0.94
        self.eye = eye_round(
            middle, radius * 1.02, DIRECTIONS.get(name.lower(), DIRECTIONS["corner"]), self.width(), self.height()
        )
        self.eye.pivot = np.asarray(pivot, float)
        self.eye.parallel = self.view.parallel.isChecked()
        self._redraw()

    def look(self, eye):
        """Look with another Eye."""
        self._end_through()
        self.eye = eye
        self.view.parallel.setChecked(eye.parallel)
        self._redraw()

    def set_parallel(self, on):
        """Parallel rays or perspective; what lies at the depth of the pivot keeps its size."""
        if self.eye is not None:
            if self.through.photo_id is not None:
                self._end_through()
            self.eye = replace(self.eye, parallel=on)
            self._redraw()

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
        self._redraw()

    def redraw(self, *_):
        """Draw anew: something of how it is drawn was changed."""
        self._redraw()

    # ------------------------------------------------------------------ drawing
    def _redraw(self, moving=False):
        self._moving = moving
        self._image = None
        if moving and self.through.photo_id is not None:
            self._end_through()
        self.update()
        if moving:
            self._rest.start()

    def _refine(self):
        self._redraw(False)

    def resizeEvent(self, e):
        # what filled the view fills it still
        if self.eye is not None and e.oldSize().height() > 0:
            self.eye = replace(self.eye, f=self.eye.f * self.height() / e.oldSize().height())
        self.tools.setGeometry(0, 0, self.width(), 40)
        self._place_side()
        if self.through.photo_id is not None:
            self.look_through(self.through.photo_id)
        self._redraw()

    def _place_side(self):
        self.side.adjustSize()
        self.side.move(0, 44)
        self.slab.setGeometry(48, 42, max(self.width() - 60, 200), 30)
        self.part.adjustSize()
        self.part.move(self.width() - self.part.width() - 10, 44)
        self.through.blend.move(self.width() - self.through.blend.width() - 12, self.height() - 30)

    def look_through(self, photo_id):
        """Look from a photo's place, with the picture over the points; None ends it."""
        eye = self.through.begin(photo_id, self.block, self.width(), self.height()) if photo_id is not None else None
        if eye is None:
            self._end_through()
            return
        self.eye = eye
        self.side.show_through(True)
        self._redraw()

    def _end_through(self):
        self.through.end()
        self.side.show_through(False)
        self.update()

    def _draw_points(self):
        # in the screen's own pixels, so that it is sharp where there are more of them
        start = time.perf_counter()
        self._image, self._picture, self._buffers = self._render(self.devicePixelRatioF(), self._moving)
        took = time.perf_counter() - start
        if self._moving:
            # as many points as fit into a frame, by this machine's own speed
            self._budget = int(np.clip(self._budget * np.clip(FRAME_S / max(took, 1e-4), 0.5, 1.5), 50_000, 20_000_000))

    def _render(self, ratio, moving=False):
        """The points as a QImage with so many pixels to one of the widget, its memory, and the Buffers."""
        w, h = round(self.width() * ratio), round(self.height() * ratio)
        count = min(len(self.points), self._budget) if moving else len(self.points)
        size = round(self.size.value() * ratio)
        spacing = self.drawn.spacing() if self.view.spacing.isChecked() else 0.0
        eye = self.rings.seen_from(replace(self.eye, f=self.eye.f * ratio))
        buffers = draw_points(self.points, eye, w, h, size, count, spacing)
        colors = self.colors
        whole = self.is_cloud or self.is_overlay or self.live is not None
        chosen = None if whole else self.session.points.chosen
        if chosen is not None and self.rows is not None:
            chosen = chosen[self.rows]
        if chosen is not None and len(chosen) == len(colors) and chosen.any():
            c = t.color(t.ACCENT)
            colors = np.where(chosen[:, None], np.array([c.red(), c.green(), c.blue()], np.uint8), colors // 2)
        edges = EDGES if (self.is_cloud or self.drawn.is_dense) and self.view.edges.isChecked() else 0.0
        picture = paint(buffers, colors, GROUND, edges)
        image = QImage(picture.data, w, h, 4 * w, QImage.Format.Format_RGB32)
        image.setDevicePixelRatio(ratio)
        return image, picture, buffers

    def picture(self, width):
        """What the scene shows as a QImage of another width, drawn anew: more pixels show more, not larger ones."""
        ratio = width / self.width()
        out = QImage(width, round(self.height() * ratio), QImage.Format.Format_RGB32)
        out.fill(t.color(t.NEUTRAL))
        out.setDevicePixelRatio(ratio)
        p = QPainter(out)
        if self.points is not None and len(self.points):
            image, memory, _ = self._render(ratio)
            p.drawImage(0, 0, image)
            del memory  # which the image only borrows
        paint_over(p, self)
        p.end()
        out.setDevicePixelRatio(1.0)
        return out

    def paintEvent(self, _):
        p = QPainter(self)
        p.fillRect(self.rect(), t.color(t.NEUTRAL))
        if self.eye is None or (self.block is None and self.live is None):
            paint_empty(p, self.rect(), self.session)
            return
        if self.points is not None and len(self.points):
            if self._image is None:
                self._draw_points()
            p.drawImage(0, 0, self._image)
        paint_over(p, self)
        if self.hovered is not None:
            p.setPen(QPen(t.color(t.ACCENT), 1.6))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawEllipse(QPointF(*self.hovered), 6, 6)
        if self.mode in (LASSO, RECTANGLE, BRUSH):
            self.picker.paint(p, self._pointer if self.underMouse() else None)

    def on_screen(self, X):
        """Where places (n, 3) are in the widget (n, 2), NaN behind the eye."""
        uvz = self.eye.project(np.asarray(X, float).reshape(-1, 3), self.width(), self.height())
        return np.where(uvz[:, 2:] > 0, uvz[:, :2], np.nan)

    def is_hidden(self, block, rows):
        """Which points (n,) bool of a block cannot be seen from here: behind the cloud, or on the far side."""
        out = ~seen_from(block, rows, center(self.eye.pose))
        if self.is_cloud and self._buffers is not None:
            ratio = self.devicePixelRatioF()
            depth = np.where(self._buffers.index >= 0, self._buffers.depth, np.nan)
            uvz = self.eye.project(block.points[rows], self.width(), self.height())
            for k, (u, v, z) in enumerate(uvz.tolist()):
                x, y = (int(c * ratio) for c in (u, v))
                around = depth[max(0, y - 3) : y + 4, max(0, x - 3) : x + 4]
                # a target lies on the surface: only what is clearly nearer hides it
                out[k] |= bool(np.isfinite(around).any() and z > 1.02 * np.nanmedian(around))
        return out

    def _pick_end(self, pos):
        """Hand the end of a measurement under a position to the session: a target, a mark, or a spot of the cloud."""
        s, b = self.session, self.block
        rows = np.flatnonzero(b.kind != FEATURE)
        if len(rows) and s.fragment == 0:
            uv = self.on_screen(b.points[rows])
            d = np.hypot(uv[:, 0] - pos.x(), uv[:, 1] - pos.y())
            near = np.flatnonzero(d < SNAP_PX)
            near = near[~self.is_hidden(b, rows[near])]
            if len(near):
                r = rows[near[int(np.argmin(d[near]))]]
                s.measuring.pick(end_of_row(b, r))
                return
        k = self.point_at(pos, 4)
        if k >= 0 and self.is_cloud:
            s.measuring.pick(self.points[k].astype(float))
        else:
            more = " Show the cloud to measure on it  (3)." if not self.is_cloud and s.cleaning.kept is not None else ""
            s.said.emit(f"There is no target and no marked point here.{more}", "note")

    # ------------------------------------------------------------------ the pointer
    def point_at(self, pos, reach=3):
        """Index of the drawn point nearest to the eye within `reach` pixels of a position, or -1."""
        if self._buffers is None or self.points is None:
            return -1
        ratio = self.devicePixelRatioF()
        x, y, reach = int(pos.x() * ratio), int(pos.y() * ratio), round(reach * ratio)
        d = self._buffers.depth[max(0, y - reach) : y + reach + 1, max(0, x - reach) : x + reach + 1]
        i = self._buffers.index[max(0, y - reach) : y + reach + 1, max(0, x - reach) : x + reach + 1]
        if not d.size or i.max() < 0:
            return -1
        return int(i.ravel()[int(np.argmin(d))])

    def mousePressEvent(self, e):
        self.setFocus()
        left = e.button() == Qt.MouseButton.LeftButton
        if left and self.eye is not None and self.slab.take(e.position()):
            return
        if left and self.mode in (LASSO, RECTANGLE, BRUSH) and self._may_pick():
            self.picker.begin(self.mode, e.position(), e.modifiers())
            return
        if left and self.mode == BOX and self.eye is not None and (box := self.keep_box()):
            grip = self.handles.at(box, e.position(), self.eye, self.width(), self.height())
            if grip is not None:
                self.handles.begin(box, grip, e.position())
                return
        if left and self.mode == TURN and self.eye is not None and self.points is not None:
            grip = self.rings.at(e.position(), self.eye, self.width(), self.height())
            if grip is not None:
                self.rings.begin(grip, e.position(), self.eye, self.width(), self.height())
                return
        self._drag = (e.position(), e.button(), e.position())

    def _set_rings(self):
        p = self.points
        middle = np.median(p, axis=0).astype(float)
        self.rings.stand(middle, 1.15 * float(np.percentile(np.linalg.norm(p - middle, axis=1), 95)))

    def _may_pick(self):
        return self.eye is not None and self.points is not None and self.live is None and not self.is_overlay

    def mouseMoveEvent(self, e):
        self._pointer = e.position()
        if self.eye is None:
            return
        if self.picker.path:
            self.picker.follow(e.position())
            self.update()
            return
        if self.slab.held:
            self.slab.follow(e.position())
            return
        if self.rings.dragging:
            self.rings.follow(e.position(), self.eye, self.width(), self.height())
            self._redraw(moving=True)
            return
        if self.handles.dragging:
            self.handles.follow(e.position(), self.eye, self.width(), self.height())
            self.update()
            return
        if self._drag is None:
            self._hover(e.position())
            return
        last, button, start = self._drag
        d = e.position() - last
        self._drag = (e.position(), button, start)
        if button == Qt.MouseButton.LeftButton and not e.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.eye = self.eye.turned(d.x() * 0.008, d.y() * 0.008)
        else:
            self.eye = self.eye.moved(d.x(), d.y())
        self._redraw(moving=True)

    def mouseReleaseEvent(self, e):
        if self.slab.held:
            self.slab.let_go()
            self.update()
            return
        if self.picker.path:
            if self.is_cloud and self.mode == BRUSH:
                path, self.picker.path = self.picker.path, []
                self.session.cleaning.paint(self.eye, path, self.picker.brush_px, self.width(), self.height())
                self.update()
                return
            if self.is_cloud:
                drawn = self.picker.outline()
                if len(drawn) >= 3:
                    self.session.cleaning.draw(self.eye, drawn, self.width(), self.height())
                self.update()
                return
            hit = self.picker.end(self.points.astype(float), self.eye, self.width(), self.height())
            if self.rows is not None:
                every = np.zeros(len(self.block.points), bool)
                every[self.rows[hit]] = True
                hit = every
            self.session.points.choose(hit, self.picker.how)
            self.update()
            return
        if self.handles.dragging:
            box = self.handles.end()
            if box is not None and self.session.may_write():
                self.session.set_keep_box(box.as_dict())
            self.update()
            return
        if self.rings.dragging:
            turn = self.rings.end()
            s = self.session
            if turn is not None and s.may_write():
                s.do(
                    lambda: level_by_turn(s.job, s.sitting, turn),
                    "Turned. Undo turns it back.",
                )
                self._set_rings()
            self._redraw()
            return
        drag, self._drag = self._drag, None
        if drag and (e.position() - drag[2]).manhattanLength() < 4 and self.eye is not None and self.live is None:
            if self.session.measuring.picking and drag[1] == Qt.MouseButton.LeftButton and self.block is not None:
                self._pick_end(e.position())
                return
            photo = self._frustum_at(e.position())
            if photo is not None:
                self.session.choose(photo_id=photo)
            elif (k := self.point_at(e.position())) >= 0:
                self.eye.pivot = self.points[k].astype(float)

    def _frustum_at(self, pos):
        best, depth = None, np.inf
        if self.block is None or not self.toggles["Photos"].isChecked():
            return None
        for pid, corners in self.frusta.corners(self.block):
            uvz = self.eye.project(corners, self.width(), self.height())
            if (uvz[:, 2] > 0).all() and uvz[0, 2] < depth:
                hull = QPolygonF([QPointF(*x[:2]) for x in uvz[1:]])
                if (
                    hull.containsPoint(pos, Qt.FillRule.OddEvenFill)
                    or np.hypot(uvz[0, 0] - pos.x(), uvz[0, 1] - pos.y()) < 6
                ):
                    best, depth = pid, uvz[0, 2]
        return best

    def _open_beside(self):
        if self.over_photo is not None and self.over_photo != self.session.photo_id:
            self.session.choose(photo_id=self.over_photo)

    def _hover(self, pos):
        over = self._frustum_at(pos) if self.live is None and self.through.photo_id is None else None
        if over != self.over_photo:
            self.over_photo = over
            self._dwell.start() if over is not None else self._dwell.stop()
            self.update()
        if self.mode == BRUSH:
            self.update()
        k = self.point_at(pos, 2)
        if k < 0 or self.block is None or self.live is not None:
            if self.hovered is not None:
                self.hovered = None
                self.session.pointed.emit(None)
                self.update()
            return
        X = self.points[k].astype(float)
        uvz = self.eye.project(X[None], self.width(), self.height())[0]
        self.hovered = (uvz[0], uvz[1])
        self.session.pointed.emit(self._sightings(k, X))
        self.update()

    def _sightings(self, k, X):
        """Where a point falls in each solved photo: (x, y, depth), measured for tie points, else predicted."""
        b = self.block
        out = {}
        everywhere = self.is_cloud or self.is_overlay  # a place that no photo was asked about
        k = self.rows[k] if self.rows is not None and not everywhere else k
        seen = b.of_point(k) if not everywhere else slice(0)
        measured = dict(zip(b.photo[seen].tolist(), b.xy[seen], strict=True))
        for pid, i in b.solved_rows.items():
            if not (everywhere or i in measured):
                continue
            E = b.poses[i]
            Y = E[:3, :3] @ X + E[:3, 3]
            if Y[2] > 0:
                predicted = project_one(Y[0] / Y[2], Y[1] / Y[2], b.lens_vector(i))
                x, y = measured.get(i, predicted)
                out[pid] = (float(x), float(y), float(Y[2]))
        return out

    def leaveEvent(self, _):
        self._dwell.stop()
        self.over_photo = None
        if self.hovered is not None:
            self.hovered = None
            self.session.pointed.emit(None)
            self.update()

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
        self._redraw(moving=True)

    def keyPressEvent(self, e):
        step = {
            Qt.Key.Key_Left: (-0.1, 0),
            Qt.Key.Key_Right: (0.1, 0),
            Qt.Key.Key_Up: (0, 0.1),
            Qt.Key.Key_Down: (0, -0.1),
        }.get(e.key())
        if step and self.eye is not None:
            self.eye = self.eye.turned(*step)
            self._redraw(moving=True)
        elif e.key() == Qt.Key.Key_Delete and self.is_cloud:
            self.session.cleaning.apply()
        elif e.key() == Qt.Key.Key_Delete:
            self.session.points.remove()
        elif e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.session.measuring.kind:
            self.session.measuring.finish()
        elif e.key() == Qt.Key.Key_Escape and self.session.measuring.picking:
            self.session.measuring.cancel()
        elif e.key() == Qt.Key.Key_Escape:
            self.look_through(None)
            self.session.points.clear()
            self.session.cleaning.try_on(None)
            self.set_mode(LOOK)
        elif e.key() in (Qt.Key.Key_BracketLeft, Qt.Key.Key_BracketRight) and self.mode == BRUSH:
            factor = 1.25 if e.key() == Qt.Key.Key_BracketRight else 0.8
            self.picker.brush_px = float(np.clip(self.picker.brush_px * factor, 4, 200))
            self.update()
        elif e.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Minus) and self.eye is not None:
            self.eye = self.eye.zoomed(1.15 if e.key() == Qt.Key.Key_Plus else 1 / 1.15, self.eye.pivot)
            self._redraw(moving=True)
        else:
            super().keyPressEvent(e)
