"""The same places picked in two sittings, side by side: in their clouds, or in their photos."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QPainter, QPen
from PyQt6.QtWidgets import QComboBox, QDialog, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from ...actions.overlay import picks_told, predicted
from ...actions.picturing import DIRECTIONS, EDGES, GROUND
from ...core.errors import UmbrateError
from ...core.geometry.pose import center
from ...core.raster.camera import eye_round
from ...core.raster.pick import drawn_at
from ...core.raster.points import draw_points, paint
from ...job.marks import mark_of, token
from ...sitting.clouds import load_cloud
from ...sitting.endpoints import seen_from
from ...sitting.frames import frame_of, load_block
from ...sitting.members import members_of
from ...sitting.photos import located, photo_picture
from ...sitting.picks import marked_places, pick_places
from .. import tokens as t
from ..bench.markedpoints import cell, table
from ..strip.strip import QUARTERS

NEAR_PX = 10  #: a marked point so near is taken for what was clicked on
HIT_PX = 6  #: of a photo's pixels: points so near to where was clicked are asked for


class PickView(QWidget):
    """One sitting to pick in: its cloud to turn, or one of its photos to zoom. Says where was clicked."""

    picked = pyqtSignal(object, object)  #: the place in the job's frame (3,), and what is kept of it

    def __init__(self, job, sitting):
        super().__init__()
        self.setMinimumSize(360, 340)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(f"Pick in {sitting.name}")
        self.job, self.sitting = job, sitting
        self.block, self.frame = load_block(job, sitting), frame_of(job, sitting)
        cloud = load_cloud(job, sitting) or {"points": self.block.points, "colors": self.block.colors}
        self.points = np.ascontiguousarray(cloud["points"], np.float32)
        self.colors = cloud["colors"]
        self.marks = marked_places(job, sitting, self.frame.matrix)
        self.names = {p.id: p.name for p in job.marked_points(sitting.id)}
        self.shown = []  #: (name, place, whether it is the chosen one)
        self.guess = None  #: where a pick should be
        self.eye = None
        self.photo = None  #: row of the photo that is looked at
        self._image = self._memory = self._buffers = self._drag = self._picture = self._uv = None
        self._zoom, self._at = 1.0, QPointF(0.5, 0.5)

    # ------------------------------------------------------------------ what is shown
    def show_photo(self, row):
        """Show the photo of a row of the block, None: the cloud."""
        self.photo = row
        self._zoom, self._at = 1.0, QPointF(0.5, 0.5)
        self._picture = self._uv = None
        if row is not None:
            photo = next(p for p in self.job.photos(self.sitting.id) if p.id == int(self.block.photo_ids[row]))
            try:
                a = photo_picture(located(self.job, photo))
            except UmbrateError:
                self.photo = None
            else:
                self._quarters, self._sensor = (QUARTERS.get(photo.orientation, 0) + photo.turn) % 4, a.shape[:2]
                a = self._memory = np.ascontiguousarray(np.rot90(a, -self._quarters))
                self._picture = QImage(a.data, a.shape[1], a.shape[0], 3 * a.shape[1], QImage.Format.Format_RGB888)
                self._uv = self.in_photo(self.points)
        self._image = None
        self.update()

    def in_photo(self, X):
        """Pixels and depth (n, 3) of places in the photo as it is shown, turned upright; NaN behind it."""
        E = self.block.poses[self.photo]
        Y = np.asarray(X, float) @ E[:3, :3].T + E[:3, 3]
        z = np.where(Y[:, 2] > 0, Y[:, 2], np.nan)
        x, y = self.block.lens(self.photo).project(Y[:, :2] / z[:, None]).T
        h, w = self._sensor
        x, y = ((x, y), (h - 1 - y, x), (w - 1 - x, h - 1 - y), (y, w - 1 - x))[self._quarters]
        return np.column_stack([x, y, z])

    def fit(self):
        """See all of it."""
        p = self.points
        middle = np.median(p, axis=0).astype(float)
        radius = float(np.percentile(np.linalg.norm(p - middle, axis=1), 98))
        self.eye = eye_round(middle, 1.05 * radius, DIRECTIONS["corner"], self.width(), self.height())
        self._image = None

    def on_screen(self, X):
        """Where places (n, 3) are in the widget (n, 2), NaN where they are not."""
        X = np.asarray(X, float).reshape(-1, 3)
        if self.photo is not None:
            r = self._rect()
            uv = self.in_photo(X)[:, :2] + 0.5
            return uv * (r.width() / self._picture.width()) + [r.left(), r.top()]
        uvz = self.eye.project(X, self.width(), self.height())
        return np.where(uvz[:, 2:] > 0, uvz[:, :2], np.nan)

    def _rect(self):
        """Where the photo lies in the widget."""
        w, h = self._picture.width(), self._picture.height()
        k = min(self.width() / w, self.height() / h) * self._zoom
        return QRectF(self.width() / 2 - self._at.x() * w * k, self.height() / 2 - self._at.y() * h * k, w * k, h * k)

    def paintEvent(self, _):
        p = QPainter(self)
        p.fillRect(self.rect(), t.color(t.NEUTRAL))
        if self.eye is None:
            self.fit()
        if self.photo is not None:
            p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            p.drawImage(self._rect(), self._picture)
        else:
            if self._image is None:
                b = self._buffers = draw_points(self.points, self.eye, self.width(), self.height(), 2)
                self._memory = paint(b, self.colors, GROUND, EDGES)
                w, h = self.width(), self.height()
                self._image = QImage(self._memory.data, w, h, 4 * w, QImage.Format.Format_RGB32)
            p.drawImage(0, 0, self._image)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setFont(t.font(t.SMALL, bold=True))
        for i, X in self.marks.items():
            if self._is_seen(i):
                self._cross(p, X, t.CATEGORIES[1], self.names.get(i, ""), 3)
        for name, X, chosen in self.shown:
            self._cross(p, X, t.ACCENT if chosen else t.TEXT, name, 7)
        if self.guess is not None:
            ((x, y),) = self.on_screen(self.guess)
            if np.isfinite(x):
                p.setPen(QPen(t.color(t.ACCENT), 1.5, Qt.PenStyle.DashLine))
                p.drawEllipse(QPointF(x, y), 14, 14)

    def _cross(self, p, X, tint, name, size):
        ((x, y),) = self.on_screen(X)
        if not np.isfinite(x):
            return
        for color, width in ((t.GROUND, 3.5), (tint, 1.6)):
            p.setPen(QPen(t.color(color), width))
            p.drawLine(QPointF(x - size, y), QPointF(x + size, y))
            p.drawLine(QPointF(x, y - size), QPointF(x, y + size))
        for color, shift in ((t.GROUND, 1), (tint, 0)):
            p.setPen(t.color(color))
            p.drawText(QPointF(x + size + 2 + shift, y - 3 + shift), name)

    # ------------------------------------------------------------------ the hand
    def mousePressEvent(self, e):
        self._drag = e.position(), e.position()

    def mouseMoveEvent(self, e):
        if self._drag is None:
            return
        last, start = self._drag
        d = e.position() - last
        self._drag = e.position(), start
        if self.photo is not None:
            r = self._rect()
            self._at -= QPointF(d.x() / r.width(), d.y() / r.height())
        elif e.buttons() & Qt.MouseButton.LeftButton and not e.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.eye = self.eye.turned(d.x() * 0.008, d.y() * 0.008)
        else:
            self.eye = self.eye.moved(d.x(), d.y())
        self._image = None
        self.update()

    def mouseReleaseEvent(self, e):
        drag, self._drag = self._drag, None
        if drag and (e.position() - drag[1]).manhattanLength() < 4 and e.button() == Qt.MouseButton.LeftButton:
            self._pick(e.position())

    def wheelEvent(self, e):
        factor = 1.0015 ** e.angleDelta().y()
        if self.photo is not None:
            r = self._rect()
            x, y = (e.position().x() - r.left()) / r.width(), (e.position().y() - r.top()) / r.height()
            zoom = float(np.clip(self._zoom * factor, 1.0, 40.0))
            k = 1 - self._zoom / zoom
            self._at += QPointF((x - self._at.x()) * k, (y - self._at.y()) * k)
            self._zoom = zoom
        else:
            self.eye = self.eye.zoomed(factor, self.eye.pivot)
        self._image = None
        self.update()

    def resizeEvent(self, _):
        self.eye = self._image = None

    def _is_seen(self, mark):
        """Whether a marked point is on the side that is looked at: what is hidden is neither shown nor snapped to."""
        row = self.block.marks.get(mark)
        eye = self.block.poses[self.photo] if self.photo is not None else self.eye.pose
        return row is None or bool(seen_from(self.block, [row], center(eye))[0])

    def _pick(self, pos):
        for i, X in self.marks.items():
            ((x, y),) = self.on_screen(X)
            if np.hypot(x - pos.x(), y - pos.y()) < NEAR_PX and self._is_seen(i):
                self.picked.emit(X, {"mark": token(i)})
                return
        X = self._under(pos)
        if X is not None:
            plain = np.linalg.inv(self.frame.matrix) @ np.append(X, 1.0)
            self.picked.emit(X, {"cloud": plain[:3].tolist()})

    def _under(self, pos):
        """The place on the surface under a position, or None."""
        if self.photo is not None:
            r = self._rect()
            k = self._picture.width() / r.width()
            x, y = (pos.x() - r.left()) * k - 0.5, (pos.y() - r.top()) * k - 0.5
            off = np.hypot(self._uv[:, 0] - x, self._uv[:, 1] - y)
            near = np.flatnonzero(off < HIT_PX)
            if not len(near):
                return None
            front = near[self._uv[near, 2] < 1.01 * self._uv[near, 2].min()]  # what lies behind is not seen
            return self.points[front[np.argmin(off[front])]].astype(float)
        at, eye, drawn = (int(pos.x()), int(pos.y())), self.eye, self._buffers
        k = drawn_at(drawn.depth, drawn.index, at, 3, eye.f, eye.flat)
        return self.points[k].astype(float) if k >= 0 else None


class PicksDialog(QDialog):
    """Two sittings of a joined row side by side, and the picks that both have with their residuals."""

    def __init__(self, session, parent=None):
        super().__init__(parent)
        self.setWindowTitle("The same places in both sittings")
        self.session, self.row = session, session.sitting
        self.changed = False
        self.members = members_of(session.job, self.row)
        self.active = None  #: id of the pick that the next click moves
        self.open = None  #: a new pick's place: (member position, place, what is kept)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 12, 16, 12)
        box.setSpacing(8)
        self.hint = QLabel(objectName="plain")
        box.addWidget(self.hint)
        sides = QHBoxLayout()
        sides.setSpacing(8)
        self.views, self.which, self.place = [None, None], [], []
        for k in range(2):
            column = QVBoxLayout()
            head = QHBoxLayout()
            who = QComboBox()
            for s in self.members:
                who.addItem(s.name, s.id)
            who.setCurrentIndex(k)
            who.activated.connect(lambda _, i=k: self._show_member(i))
            what = QComboBox()
            what.activated.connect(lambda _, i=k: self._show_what(i))
            head.addWidget(who)
            head.addWidget(what, 1)
            column.addLayout(head)
            holder = QVBoxLayout()
            column.addLayout(holder, 1)
            self.which.append((who, what))
            self.place.append(holder)
            sides.addLayout(column, 1)
        box.addLayout(sides, 1)
        low = QHBoxLayout()
        self.list = table(("Pick", "Left", "Right", "Off"), 132, stretch=2)
        self.list.itemSelectionChanged.connect(self._choose)
        low.addWidget(self.list, 1)
        buttons = QVBoxLayout()
        for text, tip, act in (
            ("Switch on or off", "A pick that is off is not used", self._switch),
            ("Remove", "Take the chosen pick away  (Del)", self._remove),
            ("Done", "Join again with these picks", self.accept),
        ):
            b = QPushButton(text)
            b.setToolTip(tip)
            b.setAutoDefault(False)
            b.clicked.connect(lambda _, a=act: a())
            buttons.addWidget(b)
        b.setObjectName("next")
        buttons.addStretch(1)
        low.addLayout(buttons)
        box.addLayout(low)
        self.resize(1120, 720)
        for k in range(2):
            self._show_member(k)
        self._fill()

    def join(self):
        """Show it, and join again where picks were changed."""
        self.exec()
        if self.changed:
            self.session.changed()
            self.session.run([(self.row.id, "join")])

    # ------------------------------------------------------------------ the two sides
    def _show_member(self, k):
        who, what = self.which[k]
        sitting = self.members[who.currentIndex()]
        view = PickView(self.session.job, sitting)
        view.picked.connect(lambda X, kept, i=k: self._picked(i, X, kept))
        if self.views[k] is not None:
            self.place[k].removeWidget(self.views[k])
            self.views[k].deleteLater()
        self.views[k] = view
        self.place[k].addWidget(view, 1)
        what.clear()
        dense = self.session.job.cloud(sitting.id) is not None
        what.addItem("Its cloud" if dense else "Its tie points", None)
        names = {p.id: p.name for p in self.session.job.photos(sitting.id)}
        for pid, row in view.block.solved_rows.items():
            if pid in names:
                what.addItem(f"Photo {names[pid]}", row)
        self.open = None
        if self.views[1] is not None:
            self._fill()

    def _show_what(self, k):
        self.views[k].show_photo(self.which[k][1].currentData())

    def _ids(self):
        return [self.members[who.currentIndex()].id for who, _ in self.which]

    # ------------------------------------------------------------------ picks
    def _both(self):
        """Picks that both sides have: (id, name, left, right, used)."""
        a, b = self._ids()
        places = dict(pick_places(self.session.job, self.row))
        out = []
        for p in self.session.job.picks(self.row.id):
            if a in p.places and b in p.places:
                x = places.get(p.name, {})
                out.append((p, x.get(a), x.get(b)))
        return out

    def _used(self):
        return [(p.name, x, y) for p, x, y in self._both() if p.used and x is not None and y is not None]

    def _free(self):
        return not all(v.frame.scaled for v in self.views)

    def _picked(self, k, X, kept):
        s = self.session
        if not s.may_write():
            return
        a, b = self._ids()
        if a == b:
            self.hint.setText("Both sides show the same sitting: choose another one on one of them.")
            return
        mine = (a, b)[k]
        if self.active is not None:
            pick = next(p for p in s.job.picks(self.row.id) if p.id == self.active)
            places = {**pick.places, mine: kept}
            s.job.set_pick(self.active, places)
        elif self.open is None or self.open[0] == k:
            self.open = (k, X, kept)
            self._fill()
            return
        else:
            other = (a, b)[self.open[0]]
            s.job.add_pick(self.row.id, {other: self.open[2], mine: kept})
            self.open = None
        self.changed = True
        self._fill()

    def _point(self, side, end):
        return f"point {self.views[side].names.get(mark_of(end), 'that was removed')}"

    def _fill(self):
        """The table, the crosses, and what is to be done next."""
        both, used = self._both(), self._used()
        off, told = picks_told(used, self._free())
        far = {name: d for (name, _, _), d in zip(used, off, strict=True)}
        unit = self.views[1].frame.unit
        self.list.blockSignals(True)
        self.list.setRowCount(len(both))
        for r, (p, _, _) in enumerate(both):
            d = far.get(p.name)
            known = p.used and d is not None and np.isfinite(d)
            text = f"{d:.3f} {unit}".strip() if known else "–" if p.used else "off"
            self.list.setItem(r, 0, cell(p.name, p.id))
            for c, i in enumerate(self._ids(), 1):
                where = p.places[i]
                self.list.setItem(
                    r, c, cell(self._point(c - 1, where["mark"]) if "mark" in where else "on the surface")
                )
            self.list.setItem(r, 3, cell(text, right=True))
            if p.id == self.active:
                self.list.selectRow(r)
        if self.active is None:
            self.list.clearSelection()
        self.list.blockSignals(False)
        for k, view in enumerate(self.views):
            view.shown = [(p.name, x[k], p.id == self.active) for p, *x in both if x[k] is not None]
            view.guess = None
            if self.open is not None and self.open[0] == k:
                view.shown.append(("?", self.open[1], True))
            elif self.open is not None:
                pairs = used if self.open[0] == 0 else [(n, y, x) for n, x, y in used]
                view.guess = predicted(pairs, np.asarray(self.open[1], float), self._free())
            view.update()
        if self.active is not None:
            self.hint.setText("Click where the chosen pick belongs, on either side. Esc lets it go.")
        elif self.open is not None:
            where = "right" if self.open[0] == 0 else "left"
            near = ", near the dashed circle" if self.views[1 - self.open[0]].guess is not None else ""
            self.hint.setText(f"Now the same place on the {where}{near}.")
        else:
            self.hint.setText(told or "Click a place on the left, then the same on the right.")

    def _choose(self):
        row = self.list.currentRow()
        self.active = self.list.item(row, 0).data(Qt.ItemDataRole.UserRole) if row >= 0 else None
        self.open = None
        self._fill()

    def _switch(self):
        pick = next((p for p in self.session.job.picks(self.row.id) if p.id == self.active), None)
        if pick and self.session.may_write():
            self.session.job.set_pick(pick.id, used=not pick.used)
            self.changed = True
            self._fill()

    def _remove(self):
        if self.active is not None and self.session.may_write():
            self.session.job.remove_picks([self.active])
            self.active, self.changed = None, True
            self._fill()

    def keyPressEvent(self, e):
        if e.key() == Qt.Key.Key_Escape and (self.active is not None or self.open is not None):
            self.active = self.open = None
            self._fill()
        elif e.key() == Qt.Key.Key_Delete:
            self._remove()
        else:
            super().keyPressEvent(e)
