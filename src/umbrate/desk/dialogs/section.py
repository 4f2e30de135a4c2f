"""A section of the cloud or the surface, drawn with its dimensions, and written as SVG, DXF or CSV."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, QTimer
from PyQt6.QtGui import QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QDoubleSpinBox,
    QHBoxLayout,
    QInputDialog,
    QPushButton,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from ...actions.sectioning import keep_plane, plane_in_job, surface_cut
from ...core.errors import UmbrateError
from ...core.measure.section import is_closed, section
from ...formats.drawings import section_texts, write_section
from ...sitting.frames import frame_of
from .. import tokens as t
from ..plain import Label
from .writing import ask_file, beside, through_gate

NORMALS = {"level": (0, 0, 1), "upright, across x": (1, 0, 0), "upright, across y": (0, 1, 0)}
AS_SEEN, FREE = "as the scene is seen", "freely turned"
STEPS = 400
MANY = 200_000  #: points say where a cloud begins and ends
REST_MS = 250  #: a plane that has not moved for so long is cut finely


class SectionDrawing(QWidget):
    """The outline to scale, its width and height, and a bar of a round length."""

    def __init__(self):
        super().__init__()
        self.setMinimumSize(560, 400)
        self.section, self.unit, self.problem = None, "", ""

    def paintEvent(self, _):
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), t.color(t.GROUND))
        p.setFont(t.font())
        if self.section is None:
            p.setPen(t.color(t.QUIET))
            p.drawText(
                self.rect().adjusted(24, 0, -24, 0),
                Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                self.problem,
            )
            return
        lo, hi = self.section.bounds
        room = QRectF(40, 24, self.width() - 130, self.height() - 90)
        k = min(room.width() / max(hi[0] - lo[0], 1e-9), room.height() / max(hi[1] - lo[1], 1e-9))
        w, h = (hi - lo) * k
        left, top = room.left() + (room.width() - w) / 2, room.top() + (room.height() - h) / 2
        at = lambda q: QPointF(left + (q[0] - lo[0]) * k, top + (hi[1] - q[1]) * k)  # noqa: E731
        for line in self.section.lines:
            p.setPen(QPen(t.color(t.TEXT), 1.6))
            points = QPolygonF([at(q) for q in line.tolist()])
            if is_closed(line):
                p.setBrush(t.color(t.RAISED))
                p.drawPolygon(points)
                p.setBrush(Qt.BrushStyle.NoBrush)
            else:
                p.drawPolyline(points)
        p.setPen(QPen(t.color(t.STATE_COLORS["look"]), 2.4, Qt.PenStyle.DashLine))
        for a, b in self.section.bridges:
            p.drawLine(at(a), at(b))
        texts = section_texts(self.section, self.unit)
        p.setPen(QPen(t.color(t.ACCENT), 1.2))
        low, right = top + h + 22, left + w + 22
        p.drawLine(QPointF(left, low), QPointF(left + w, low))
        p.drawLine(QPointF(right, top), QPointF(right, top + h))
        for x in (left, left + w):
            p.drawLine(QPointF(x, low - 5), QPointF(x, low + 5))
        for y in (top, top + h):
            p.drawLine(QPointF(right - 5, y), QPointF(right + 5, y))
        p.drawText(QRectF(left - 60, low + 4, w + 120, 20), Qt.AlignmentFlag.AlignHCenter, texts["width"])
        p.save()
        p.translate(right + 8, top + h / 2)
        p.rotate(90)
        p.drawText(QRectF(-h / 2 - 40, -18, h + 80, 18), Qt.AlignmentFlag.AlignHCenter, texts["height"])
        p.restore()
        p.setPen(t.color(t.QUIET))
        p.setFont(t.font(t.SMALL))
        more = f"outline {texts['outline']}"
        more += f", area {texts['area']}" if "area" in texts else ", open: it encloses nothing"
        more += f"; gaps: {texts['gaps']} (dashed)" if "gaps" in texts else ""
        p.drawText(QRectF(12, self.height() - 24, self.width() - 24, 18), Qt.AlignmentFlag.AlignLeft, more)


class SectionDialog(QDialog):
    """Choose a plane, see the cut; planes can be kept in the job.

    surface : bool
        Whether the surface is cut first, where there is one; else the cloud.
    """

    def __init__(self, session, parent=None, surface=False):
        super().__init__(parent)
        self.session = session
        self.setWindowTitle("Section")
        have = {"the cloud": session.cloud, "the surface": session.surfacing.mesh}
        self.sources = {name: x for name, x in have.items() if x is not None}
        self.points = next(iter(self.sources.values()))["points"]
        some = self.points[:: max(1, len(self.points) // MANY)]
        self.lo, self.hi = np.percentile(some, (0.1, 99.9), axis=0)
        self.middle = (self.lo + self.hi) / 2
        self.corners = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)])
        self.corners = self.lo + self.corners * (self.hi - self.lo)
        self.frame = frame_of(session.job, session.sitting)
        self.unit = self.frame.unit
        self.spacing = None  #: of the cloud where it was cut first
        self._rest = QTimer(self, interval=REST_MS, singleShot=True)
        self._rest.timeout.connect(lambda: self.cut(quick=False))
        column = QVBoxLayout(self)
        row = QHBoxLayout()
        row.addWidget(Label("Cut"))
        self.what = QComboBox()
        self.what.addItems(list(self.sources))
        if surface and "the surface" in self.sources:
            self.what.setCurrentText("the surface")
        self.what.setToolTip("The surface's outlines are closed where it is; the cloud's have its gaps")
        row.addWidget(self.what)
        self.way = QComboBox()
        self.way.addItems([*NORMALS, *([AS_SEEN] if self._eye() is not None else []), FREE])
        self.way.setCurrentIndex(2)
        row.addWidget(self.way)
        self.turn = self._spin(-180, 180, "°", "The plane's direction round the upright axis; 0 is across x")
        self.tilt = self._spin(-90, 90, "°", "How far the plane leans: 0 is upright, 90 level")
        for w, name in ((self.turn, "turned"), (self.tilt, "tilted")):
            row.addWidget(Label(name, objectName="quiet"))
            row.addWidget(w)
        row.addWidget(Label("at"))
        self.slider = QSlider(Qt.Orientation.Horizontal, minimum=0, maximum=STEPS, value=STEPS // 2)
        self.slider.setMinimumWidth(180)
        row.addWidget(self.slider, 1)
        self.offset = self._spin(-1e9, 1e9, f" {self.unit}" if self.unit else "", "Distance from zero across the plane")
        size = float(np.linalg.norm(self.hi - self.lo))
        self.offset.setDecimals(int(np.clip(np.ceil(3.5 - np.log10(max(size, 1e-9))), 2, 8)))
        row.addWidget(self.offset)
        column.addLayout(row)
        self.drawing = SectionDrawing()
        column.addWidget(self.drawing, 1)
        foot = QHBoxLayout()
        self.kept = QComboBox()
        self.kept.setToolTip("Planes that are kept in the job")
        self.kept.activated.connect(self._take)
        foot.addWidget(self.kept)
        self.forget = QPushButton("Forget it", enabled=False)
        keep = QPushButton("Keep the plane…")
        for b, act in ((keep, self._keep), (self.forget, self._forget)):
            b.clicked.connect(lambda _, a=act: a())
            foot.addWidget(b)
        self.kept.currentIndexChanged.connect(lambda k: self.forget.setEnabled(k > 0))
        self.told = Label(objectName="quiet")
        foot.addWidget(self.told, 1)
        save = QPushButton("Write as SVG, DXF or CSV…")
        save.clicked.connect(self._save)
        close = QPushButton("Close")
        close.clicked.connect(self.accept)
        foot.addWidget(save)
        foot.addWidget(close)
        for b in (keep, self.forget, save, close):
            b.setAutoDefault(False)  # Enter ends a number that is typed, and nothing else
        column.addLayout(foot)
        self.what.currentIndexChanged.connect(lambda _: self.cut())
        self.way.currentIndexChanged.connect(lambda _: self._way())
        self.slider.valueChanged.connect(self._slid)
        for w in (self.offset, self.turn, self.tilt):
            w.valueChanged.connect(lambda _: self._typed())
        self._fill_kept()
        self._way()

    @staticmethod
    def _spin(low, high, suffix, tip):
        w = QDoubleSpinBox(minimum=low, maximum=high, decimals=3, suffix=suffix)
        w.setToolTip(tip)
        w.setKeyboardTracking(False)
        w.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        w.setMaximumWidth(124)
        return w

    def _eye(self):
        scene = getattr(self.parent(), "scene", None)
        return scene.eye if scene is not None else None

    # ------------------------------------------------------------------ the plane
    @property
    def normal(self):
        """Across the plane (3,), from the angles that are set."""
        a, b = np.radians(self.turn.value()), np.radians(self.tilt.value())
        return np.array([np.cos(b) * np.cos(a), np.cos(b) * np.sin(a), np.sin(b)])

    @property
    def place(self):
        """A place (3,) of the plane: the one nearest to the middle of the cloud."""
        n = self.normal
        zero = float(n @ np.asarray(self.frame.offset))
        return self.middle + (self.offset.value() - zero - n @ self.middle) * n

    def _range(self):
        """Least and largest distance from zero across the plane that meets the cloud."""
        h = (self.corners + self.frame.offset) @ self.normal
        return float(h.min()), float(h.max())

    def set_plane(self, place, normal):
        """Cut along a plane of the job's frame."""
        n = np.asarray(normal, float) / np.linalg.norm(normal)
        n = n if n[np.argmax(np.abs(n))] > 0 else -n
        at = float(n @ (np.asarray(place, float) + self.frame.offset))
        self._set(np.degrees(np.arctan2(n[1], n[0])), np.degrees(np.arcsin(np.clip(n[2], -1, 1))), at)

    def _set(self, turn, tilt, at=None):
        for w, value in ((self.turn, turn), (self.tilt, tilt)):
            w.blockSignals(True)
            w.setValue(value)
            w.blockSignals(False)
        low, high = self._range()
        self.offset.blockSignals(True)
        self.offset.setValue((low + high) / 2 if at is None else at)
        self.offset.blockSignals(False)
        self._follow()
        self.cut()

    def _follow(self):
        """Put the slider where the distance is."""
        low, high = self._range()
        self.slider.blockSignals(True)
        self.slider.setValue(round(STEPS * (self.offset.value() - low) / max(high - low, 1e-12)))
        self.slider.blockSignals(False)

    def _way(self):
        name = self.way.currentText()
        free = name == FREE
        for w in (self.turn, self.tilt):
            w.setEnabled(free)
        if free:
            self._typed()
            return
        self.kept.setCurrentIndex(0)
        self.set_plane(self.middle, self._eye().pose[2, :3] if name == AS_SEEN else NORMALS[name])

    def _slid(self, value):
        self.kept.setCurrentIndex(0)  # it is not that plane any more
        low, high = self._range()
        self.offset.blockSignals(True)
        self.offset.setValue(low + (high - low) * value / STEPS)
        self.offset.blockSignals(False)
        self.cut()

    def _typed(self):
        self.kept.setCurrentIndex(0)
        self._follow()
        self.cut()

    def cut(self, quick=True):
        """Cut anew, in the background: roughly while the plane moves, finely when it rests.

        Of many planes that a slider passes only the latest is drawn.
        """
        if quick:
            self._rest.start()
        cut, of_cloud = self._cutter(quick), self.what.currentText() == "the cloud"

        def work():
            try:
                return cut(), ""
            except UmbrateError as e:
                return None, str(e)

        def show(found):
            try:
                self.drawing.section, self.drawing.problem = found
                if of_cloud:
                    self.spacing = self.spacing or (found[0] and found[0].spacing)
                self.drawing.unit = self.unit
                self.drawing.update()
            except RuntimeError:
                pass  # the dialog is closed by now

        self.session.in_background(work, show, series="section")

    def _cutter(self, quick):
        """A callable that makes the Section of what is cut, as things stand now."""
        x, place, normal, spacing = self.sources[self.what.currentText()], self.place, self.normal, self.spacing
        offset = self.frame.offset

        def cut():
            if "faces" in x:
                made = surface_cut(x, place, normal)
            else:
                rough = quick and spacing is not None
                made = section(x["points"], x["normals"], place, normal, spacing=spacing, quick=rough)
            made.offset = offset
            return made

        return cut

    # ------------------------------------------------------------------ planes that are kept
    def _fill_kept(self):
        s = self.session
        self.planes = s.job.sections(s.sitting_id)
        self.kept.clear()
        self.kept.addItem(f"Kept planes: {len(self.planes)}" if self.planes else "No plane is kept")
        self.kept.setEnabled(bool(self.planes))
        self.kept.addItems([p.name for p in self.planes])

    def _take(self, k):
        if k > 0:
            place, normal = plane_in_job(self.session.job, self.session.sitting, self.planes[k - 1])
            self.way.setCurrentText(FREE)
            self.set_plane(place, normal)
            self.kept.setCurrentIndex(k)

    def _keep(self):
        s = self.session
        if not s.may_write():
            self.told.setText("The job is open for reading only.")
            return
        free = s.job.free_section_name(s.sitting_id)
        name, ok = QInputDialog.getText(self, "Keep the plane", "Name", text=free)
        before = {p.id for p in self.planes}
        kept = ok and s.do(lambda: keep_plane(s.job, s.sitting, self.place, self.normal, name))
        if kept:
            self._fill_kept()
            self.kept.setCurrentIndex(1 + [p.id for p in self.planes].index(kept))
            self.told.setText("Moved. Undo takes it back." if kept in before else "Kept in the job.")

    def _forget(self):
        s, k = self.session, self.kept.currentIndex()
        if k > 0 and s.may_write():
            plane = self.planes[k - 1]
            s.do(lambda: s.job.remove_section(plane.id), f"“{plane.name}” is forgotten. Undo brings it back.")
            self._fill_kept()

    def _save(self):
        s = self.session
        try:
            # what is drawn may be rough still, or of the plane before this one
            made = self._cutter(quick=False)()
        except UmbrateError as e:
            self.told.setText(str(e))
            return
        place = ask_file(self, "Section", beside(s.job, "-section.svg"))
        if place:
            title = f"{s.job.name}, {s.sitting.name}"
            try:
                done = through_gate(
                    s.job, self, lambda gate: write_section(place, made, self.unit, title, gate) or True
                )  # fmt: skip
                self.told.setText(f"Wrote {place}" if done else "Nothing was written.")
            except UmbrateError as e:
                self.told.setText(str(e))
