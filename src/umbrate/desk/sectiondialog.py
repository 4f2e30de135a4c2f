"""A section of the cloud, drawn with its dimensions, and written as SVG, DXF or CSV."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QDoubleSpinBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from ..core.errors import UmbrateError
from ..core.measure.section import is_closed, section
from ..formats.drawings import section_texts, write_section
from ..stages.frames import frame_of
from . import tokens as t

NORMALS = {"level": (0, 0, 1), "upright, across x": (1, 0, 0), "upright, across y": (0, 1, 0)}
STEPS = 200


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
        more = f"outline {texts['outline']}" + (f", area {texts['area']}" if "area" in texts else ", open")
        p.drawText(QRectF(12, self.height() - 24, self.width() - 24, 18), Qt.AlignmentFlag.AlignLeft, more)


class SectionDialog(QDialog):
    """Choose a plane, see the cut."""

    def __init__(self, session, parent=None):
        super().__init__(parent)
        self.session = session
        self.setWindowTitle("Section of the cloud")
        c = session.cloud
        self.points, self.normals = c["points"], c["normals"]
        self.lo, self.hi = np.percentile(self.points, 0.1, axis=0), np.percentile(self.points, 99.9, axis=0)
        self.unit = frame_of(session.job, session.sitting).unit
        column = QVBoxLayout(self)
        row = QHBoxLayout()
        row.addWidget(QLabel("Cut"))
        self.way = QComboBox()
        self.way.addItems(NORMALS)
        self.way.setCurrentIndex(2)
        row.addWidget(self.way)
        row.addWidget(QLabel("at"))
        self.slider = QSlider(Qt.Orientation.Horizontal, minimum=0, maximum=STEPS, value=STEPS // 2)
        row.addWidget(self.slider, 1)
        self.offset = QDoubleSpinBox(minimum=-1e6, maximum=1e6, decimals=2)
        self.offset.setSuffix(f" {self.unit}" if self.unit else "")
        row.addWidget(self.offset)
        column.addLayout(row)
        self.drawing = SectionDrawing()
        column.addWidget(self.drawing, 1)
        foot = QHBoxLayout()
        self.told = QLabel(objectName="quiet")
        foot.addWidget(self.told, 1)
        save = QPushButton("Write as SVG, DXF or CSV…")
        save.clicked.connect(self._save)
        close = QPushButton("Close")
        close.clicked.connect(self.accept)
        foot.addWidget(save)
        foot.addWidget(close)
        column.addLayout(foot)
        self.way.currentIndexChanged.connect(lambda _: self._way())
        self.slider.valueChanged.connect(self._slid)
        self.offset.valueChanged.connect(lambda _: self.cut())
        self._way()

    def _axis(self):
        return int(np.argmax(NORMALS[self.way.currentText()]))

    def _way(self):
        self.slider.setValue(STEPS // 2)
        self._slid(STEPS // 2)

    def _slid(self, value):
        k = self._axis()
        at = self.lo[k] + (self.hi[k] - self.lo[k]) * value / STEPS
        if abs(self.offset.value() - at) < 0.006:
            self.cut()
        self.offset.setValue(float(at))

    def cut(self):
        """Cut anew."""
        k = self._axis()
        place = (self.lo + self.hi) / 2
        place[k] = self.offset.value()
        try:
            made = section(self.points, self.normals, place, NORMALS[self.way.currentText()])
            self.drawing.section, self.drawing.problem = made, ""
        except UmbrateError as e:
            self.drawing.section, self.drawing.problem = None, str(e)
        self.drawing.unit = self.unit
        self.drawing.update()

    def _save(self):
        s, made = self.session, self.drawing.section
        if made is None:
            return
        place, _ = QFileDialog.getSaveFileName(self, "Section", str(s.job.folder.parent / f"{s.job.name}-section.svg"))
        if place:
            try:
                write_section(place, made, self.unit, f"{s.job.name}, {s.sitting.name}")
                self.told.setText(f"Wrote {place}")
            except UmbrateError as e:
                self.told.setText(str(e))
