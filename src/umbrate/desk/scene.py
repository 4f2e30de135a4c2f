"""The scene: photos as frusta, tie points, the dense cloud and the keep box, to be turned by hand.

Points are drawn by core.raster; what lies on top by QPainter. While the view moves, an even sample
of the cloud is drawn, as large as the machine manages in a frame; when it rests, all of it.
"""

import time

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, QTimer
from PyQt6.QtGui import QImage, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QSlider, QToolButton, QWidget

from ..core.cloud.keepbox import BOX_EDGES, KeepBox
from ..core.geometry.lens import project_one
from ..core.geometry.pose import center
from ..core.raster.camera import Eye, eye_round
from ..core.raster.points import draw_points, paint
from . import tokens as t

FRAME_S = 0.028  #: time a frame may take while the view moves
VIEWS = {"Front": (0, -1, 0.0), "Right": (1, 0, 0.0), "Back": (0, 1, 0.0), "Left": (-1, 0, 0.0), "Top": (0, 0, 1)}
FRUSTUM = 0.06  #: length of a photo's frustum; photos stand at distance 1
LIVE_RADIUS = 1.2  #: what is seen of a growing block
GROUND_RGB = (0x2B, 0x2B, 0x2B)


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
        self.points = self.colors = None
        self.is_cloud = False
        self.live = None
        self.ray = None
        self.hovered = None
        self._image = self._buffers = None
        self._moving = False
        self._budget = 400_000
        self._drag = None
        self._rest = QTimer(self, singleShot=True, interval=140)
        self._rest.timeout.connect(self._refine)
        self._make_tools()
        session.document_changed.connect(self.reload)
        session.chosen_changed.connect(self.reload)
        session.job_changed.connect(self._other_job)
        session.live.connect(self._on_live)
        session.ray.connect(self._on_ray)
        self._seen = self._stage_mark = self._looked = None
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
        ):
            b = QToolButton(text=name, checkable=True, checked=True)
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
        sides = QMenu(self)
        for name, key in (("Front", "F5"), ("Right", "F6"), ("Back", "F7"), ("Left", "F8"), ("Top", "F9")):
            sides.addAction(name, key, lambda n=name: self.look_from(n))
            self.addAction(sides.actions()[-1])
        look = QToolButton(text="Side", popupMode=QToolButton.ToolButtonPopupMode.InstantPopup)
        look.setMenu(sides)
        look.setToolTip("Look at everything from one side  (F5 to F9)")
        fit = QToolButton(text="Fit")
        fit.setShortcut("Home")
        fit.setToolTip("See everything  (Home)")
        fit.clicked.connect(lambda: self.look_from("Fit"))
        for b in (look, fit):
            row.addWidget(b)

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
        self.reload()

    def reload(self):
        """Take what the chosen sitting has; what was not there before is looked at whole."""
        s = self.session
        results = tuple((r.id if (r := s.result(n)) else 0) for n in ("poses", "cloud")) if s.job else (0, 0)
        if self._stage_mark != (s.stage, *results):
            self._stage_mark = (s.stage, *results)
            dense = s.stage == "cloud" and results[1] != 0
            self.toggles["Cloud"].setChecked(dense)
            self.toggles["Tie points"].setChecked(not dense)
        run = s.running()
        if self.live is not None and (run is None or (run.sitting.id, run.stage) != (s.sitting_id, "poses")):
            self.live = self._seen = None
        mark = (s.sitting_id, *results, self.toggles["Cloud"].isChecked(), self.toggles["Tie points"].isChecked())
        if mark == self._seen or self.live is not None:
            self.update()
            return
        self._seen = mark
        self.block = s.block if s.job else None
        cloud = s.cloud if s.job else None
        self.points = self.colors = None
        self.is_cloud = cloud is not None and self.toggles["Cloud"].isChecked()
        if self.is_cloud:
            self.points, self.colors = np.ascontiguousarray(cloud["points"], np.float32), cloud["colors"]
        elif self.block is not None and self.toggles["Tie points"].isChecked():
            self.points = np.ascontiguousarray(self.block["points"], np.float32)
            self.colors = self.block["colors"]
        # another sitting, or points of another extent, are looked at whole; the same ones from where one was
        looked = (s.sitting_id, self.is_cloud)
        if self.block is not None and (self.eye is None or looked != self._looked):
            self._looked = looked
            self.look_from("Fit")
        self._redraw()

    def _on_live(self, name, data):
        """A growing block: its photos stand up one after the other."""
        if name != "block" or not len(data["points"]):
            return
        if self.live is None:
            self.eye = eye_round(np.zeros(3), LIVE_RADIUS, (0.45, -1, 0.55), self.width(), self.height())
        self.live, self.is_cloud = data, False
        self.points = np.ascontiguousarray(data["points"], np.float32)
        self.colors = np.full((len(self.points), 3), 200, np.uint8)
        self._redraw()

    def _on_ray(self, ray):
        self.ray = ray
        self.update()

    def _box(self):
        d = self.session.keep_box if self.session.job else None
        return KeepBox.from_dict(d) if d else None

    def look_from(self, name):
        """Look at everything from a named side, or fit it into the view."""
        if self.block is None:
            return
        p = self.points if self.points is not None and len(self.points) else self.block["points"]
        box = self._box()
        pivot = box.center if box else np.median(p, axis=0)
        radius = float(np.linalg.norm(box.half)) if box else float(np.percentile(np.linalg.norm(p - pivot, axis=1), 98))
        middle = pivot
        if self.toggles["Photos"].isChecked() and not self.is_cloud:
            # the dome of photos with the object in it, not round it
            poses = self.block["poses"]
            centers = np.array([center(E) for E in poses if np.isfinite(E[0, 0])])
            lo, hi = np.minimum(centers.min(0), pivot - radius), np.maximum(centers.max(0), pivot + radius)
            middle = (lo + hi) / 2
            radius = float(np.linalg.norm(centers - middle, axis=1).max()) * 0.94
        self.eye = eye_round(middle, radius * 1.02, VIEWS.get(name, (0.45, -1, 0.55)), self.width(), self.height())
        self.eye.pivot = np.asarray(pivot, float)
        self._redraw()

    # ------------------------------------------------------------------ drawing
    def _redraw(self, moving=False):
        self._moving = moving
        self._image = None
        self.update()
        if moving:
            self._rest.start()

    def _refine(self):
        self._redraw(False)

    def resizeEvent(self, _):
        self.tools.setGeometry(0, 0, self.width(), 40)
        self._redraw()

    def _draw_points(self):
        # in the screen's own pixels, so that it is sharp where there are more of them
        ratio = self.devicePixelRatioF()
        w, h = round(self.width() * ratio), round(self.height() * ratio)
        count = min(len(self.points), self._budget) if self._moving else len(self.points)
        size = round(self.size.value() * ratio)
        start = time.perf_counter()
        eye = Eye(self.eye.pose, self.eye.f * ratio, self.eye.pivot)
        self._buffers = draw_points(self.points, eye, w, h, size, count)
        picture = paint(self._buffers, self.colors, GROUND_RGB, 25.0 if self.is_cloud else 0.0)
        took = time.perf_counter() - start
        if self._moving:
            # as many points as fit into a frame, by this machine's own speed
            self._budget = int(np.clip(self._budget * np.clip(FRAME_S / max(took, 1e-4), 0.5, 1.5), 50_000, 20_000_000))
        self._picture = picture
        self._image = QImage(picture.data, w, h, 4 * w, QImage.Format.Format_RGB32)
        self._image.setDevicePixelRatio(ratio)

    def paintEvent(self, _):
        p = QPainter(self)
        p.fillRect(self.rect(), t.color(t.NEUTRAL))
        if self.eye is None or (self.block is None and self.live is None):
            self._paint_empty(p)
            return
        if self.points is not None and len(self.points):
            if self._image is None:
                self._draw_points()
            p.drawImage(0, 0, self._image)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = self._box()
        if box and self.toggles["Keep box"].isChecked() and self.live is None:
            uvz = self.eye.project(box.corners(), self.width(), self.height())
            p.setPen(QPen(t.color(t.CATEGORIES[1], 150), 1))
            for a, b in BOX_EDGES:
                if uvz[a, 2] > 0 and uvz[b, 2] > 0:
                    p.drawLine(QPointF(*uvz[a, :2]), QPointF(*uvz[b, :2]))
        if self.toggles["Photos"].isChecked():
            self._paint_frusta(p)
        if self.ray is not None:
            a, d = self.ray
            uvz = self.eye.project(np.array([a + 0.02 * d, a + 2.2 * d]), self.width(), self.height())
            if (uvz[:, 2] > 0).all():
                p.setPen(QPen(t.color(t.ACCENT), 1.2))
                p.drawLine(QPointF(*uvz[0, :2]), QPointF(*uvz[1, :2]))
        if self.hovered is not None:
            p.setPen(QPen(t.color(t.ACCENT), 1.6))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawEllipse(QPointF(*self.hovered), 6, 6)
        self._paint_caption(p)

    def _paint_empty(self, p):
        mid = self.rect().adjusted(32, 40, -32, 0)
        p.setPen(t.color(t.TEXT))
        p.setFont(t.font(t.HEADING))
        half = mid.height() // 2
        p.drawText(
            mid.adjusted(0, 0, 0, -half),
            Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignBottom,
            "Nothing solved yet",
        )
        p.setFont(t.font())
        p.setPen(t.color(t.QUIET))
        told = "Choose Poses on the Board and press Run: the photos will stand up here."
        p.drawText(mid.adjusted(0, half + 8, 0, 0), Qt.AlignmentFlag.AlignHCenter | Qt.TextFlag.TextWordWrap, told)

    def _frusta(self):
        """(photo id, corners (5, 3)): apex and four corners of each solved photo."""
        b = self.live or self.block
        out = []
        for k, E in enumerate(b["poses"]):
            if np.isfinite(E[0, 0]):
                ax, ay = b["sizes"][k] / 2 / b["lenses"][b["lens_of"][k], 0]
                m = np.hypot(ax, ay)
                c = np.array([[0, 0, 0], [-ax, -ay, m], [ax, -ay, m], [ax, ay, m], [-ax, ay, m]])
                out.append((int(b["photo_ids"][k]), (c * (FRUSTUM / m) - E[:3, 3]) @ E[:3, :3]))
        return out

    def _paint_frusta(self, p):
        for pid, corners in self._frusta():
            uvz = self.eye.project(corners, self.width(), self.height())
            if (uvz[:, 2] <= 0).any():
                continue
            chosen = pid is not None and pid == self.session.photo_id
            p.setPen(QPen(t.color(t.ACCENT if chosen else "#C9CDD1", 255 if chosen else 170), 2 if chosen else 1))
            q = [QPointF(*x[:2]) for x in uvz]
            p.setBrush(t.color(t.ACCENT, 60) if chosen else t.color("#C9CDD1", 26))
            p.drawPolygon(QPolygonF(q[1:]))
            for k in range(1, 5):
                p.drawLine(q[0], q[k])

    def _paint_caption(self, p):
        if self.live is not None:
            text = f"{len(self.live['poses'])} photos stand, {len(self.points):,} tie points"
        elif self.points is not None:
            text = f"{len(self.points):,} {'points' if self.is_cloud else 'tie points'}, unscaled"
            if self._moving and self._budget < len(self.points):
                text += f"  (drawing {self._budget:,} while it moves)"
        else:
            text = ""
        p.setFont(t.font(t.SMALL))
        p.setPen(t.color(t.QUIET))
        p.drawText(QRectF(12, self.height() - 24, self.width() - 24, 18), Qt.AlignmentFlag.AlignLeft, text)

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
        self._drag = (e.position(), e.button(), e.position())
        self.setFocus()

    def mouseMoveEvent(self, e):
        if self.eye is None:
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
        drag, self._drag = self._drag, None
        if drag and (e.position() - drag[2]).manhattanLength() < 4 and self.eye is not None and self.live is None:
            photo = self._frustum_at(e.position())
            if photo is not None:
                self.session.choose(photo_id=photo)
            elif (k := self.point_at(e.position())) >= 0:
                self.eye.pivot = self.points[k].astype(float)

    def _frustum_at(self, pos):
        best, depth = None, np.inf
        if self.block is None or not self.toggles["Photos"].isChecked():
            return None
        for pid, corners in self._frusta():
            uvz = self.eye.project(corners, self.width(), self.height())
            if (uvz[:, 2] > 0).all() and uvz[0, 2] < depth:
                hull = QPolygonF([QPointF(*x[:2]) for x in uvz[1:]])
                if (
                    hull.containsPoint(pos, Qt.FillRule.OddEvenFill)
                    or np.hypot(uvz[0, 0] - pos.x(), uvz[0, 1] - pos.y()) < 6
                ):
                    best, depth = pid, uvz[0, 2]
        return best

    def _hover(self, pos):
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
        rows = np.flatnonzero(b["point"] == k) if not self.is_cloud else []
        measured = {int(b["photo"][r]): b["xy"][r] for r in rows}
        for i, E in enumerate(b["poses"]):
            if not np.isfinite(E[0, 0]) or not (self.is_cloud or i in measured):
                continue
            Y = E[:3, :3] @ X + E[:3, 3]
            if Y[2] > 0:
                predicted = project_one(Y[0] / Y[2], Y[1] / Y[2], b["lenses"][b["lens_of"][i]])
                x, y = measured.get(i, predicted)
                out[int(b["photo_ids"][i])] = (float(x), float(y), float(Y[2]))
        return out

    def leaveEvent(self, _):
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
            depth = float(self.eye.pose[2, :3] @ self.eye.pivot + self.eye.pose[2, 3])
            toward = self.eye.place_at(
                e.position().x(), e.position().y(), max(depth, 1e-3), self.width(), self.height()
            )
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
        elif e.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Minus) and self.eye is not None:
            self.eye = self.eye.zoomed(1.15 if e.key() == Qt.Key.Key_Plus else 1 / 1.15, self.eye.pivot)
            self._redraw(moving=True)
        else:
            super().keyPressEvent(e)
