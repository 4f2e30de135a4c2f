"""What a calibration looks like: where targets fell, what is left over, and how the lens bends."""

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QComboBox, QLabel, QStackedWidget, QVBoxLayout, QWidget

from ..core.geometry.lens import Lens
from . import tokens as t

WIDTH, HEIGHT = 288, 222
LARGER = (2000, 1000, 500, 200, 100, 50, 20, 10)  #: residuals are drawn so many times as long, the most that fits
ARROW_PX = 14.0  #: length on the screen that most residuals stay below


class _Frame(QWidget):
    """A picture's frame, drawn into by `draw(painter, to_screen)`."""

    def __init__(self, size, draw):
        super().__init__()
        self.size_px, self.draw = size, draw
        self.setFixedSize(WIDTH, HEIGHT)

    def paintEvent(self, _):
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        w, h = self.size_px
        k = min((self.width() - 4) / w, (self.height() - 4) / h)
        x0, y0 = (self.width() - k * w) / 2, (self.height() - k * h) / 2
        p.setPen(QPen(t.color(t.LINE), 1))
        p.setBrush(t.color(t.NEUTRAL))
        p.drawRect(QRectF(x0, y0, k * w, k * h))
        p.setClipRect(QRectF(x0, y0, k * w, k * h))
        self.draw(p, lambda x, y: QPointF(x0 + k * (x + 0.5), y0 + k * (y + 0.5)))


class CalibrationPictures(QWidget):
    """One of four pictures of a calibration, chosen by a list."""

    NAMES = ("Where targets fell", "Residuals", "Distortion over radius", "Distortion grid")

    def __init__(self, session, result):
        super().__init__()
        c = result.figures["calibration"]
        self.arrays = session.job.blobs.get_arrays(result.blob("calibration"))
        self.lens = Lens.from_dict(c["lens"])
        size = (self.lens.width, self.lens.height)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(4)
        self.choice = QComboBox()
        self.choice.addItems(self.NAMES)
        self.stack = QStackedWidget()
        self.stack.setFixedHeight(HEIGHT)
        self.note = QLabel(objectName="quiet")
        self.note.setWordWrap(True)
        profile, self._profile_note = self._profile()
        self._larger = self._scale()
        for w in (_Frame(size, self._fell), _Frame(size, self._residuals), profile, _Frame(size, self._grid)):
            self.stack.addWidget(w)
        for w in (self.choice, self.stack, self.note):
            box.addWidget(w)
        self.choice.currentIndexChanged.connect(self._show)
        self._show(0)

    def _show(self, k):
        self.stack.setCurrentIndex(k)
        used = self.arrays["used"]
        self.note.setText(
            (
                f"{int(used.sum()):,} sightings of all photos over the frame. Where there are none, the distortion is "
                "a guess.",
                f"Seen minus predicted, {self._larger} times as long; those left out are in amber. They should point "
                "anywhere.",
                self._profile_note,
                "How a straight grid is bent, 5 times as strong as it is.",
            )[k]
        )

    def _fell(self, p, at):
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(t.color(t.CATEGORIES[1], 150))
        for x, y in self.arrays["xy"][self.arrays["used"]].tolist():
            p.drawEllipse(at(x, y), 1.8, 1.8)

    def _scale(self):
        length = np.linalg.norm(self.arrays["residual"][self.arrays["used"]], axis=1)
        usual = float(np.percentile(length, 90)) * WIDTH / self.lens.width if len(length) else 1.0
        return next((k for k in LARGER if usual * k <= ARROW_PX), LARGER[-1])

    def _residuals(self, p, at):
        k = self._larger
        for used, color in ((True, t.CATEGORIES[1]), (False, t.ACCENT)):
            p.setPen(QPen(t.color(color, 200), 1))
            rows = (self.arrays["used"] == used) & np.isfinite(self.arrays["residual"][:, 0])
            for (x, y), (u, v) in zip(
                self.arrays["xy"][rows].tolist(), self.arrays["residual"][rows].tolist(), strict=True
            ):
                p.drawLine(at(x, y), at(x + k * u, y + k * v))

    def _profile(self):
        """Radial distortion in pixels over the distance from the principal point."""
        lens = self.lens
        reach = np.hypot(max(lens.cx, lens.width - lens.cx), max(lens.cy, lens.height - lens.cy))
        r = np.linspace(0, reach / lens.f, 120)
        k1, k2, k3 = lens.k
        bent = lens.f * r * (k1 * r**2 + k2 * r**4 + k3 * r**6)
        plot = pg.PlotWidget(background=t.PANEL)
        plot.setFixedSize(WIDTH, HEIGHT)
        plot.plot(lens.f * r, bent, pen=pg.mkPen(t.CATEGORIES[1], width=2))
        plot.addLine(y=0, pen=pg.mkPen(t.LINE))
        plot.setMouseEnabled(False, False)
        plot.hideButtons()
        plot.setMenuEnabled(False)
        for side in ("left", "bottom"):
            axis = plot.getAxis(side)
            axis.setPen(t.LINE)
            axis.setTextPen(t.QUIET)
            axis.setTickFont(t.font(10))
            axis.enableAutoSIPrefix(False)
        plot.getAxis("left").setWidth(44)
        plot.setLabel("bottom", "distance from the principal point, px", color=t.QUIET, **{"font-size": "11px"})
        plot.setLabel("left", "px", color=t.QUIET, **{"font-size": "11px"})
        d = np.linalg.norm(self.arrays["xy"][self.arrays["used"]] - [lens.cx, lens.cy], axis=1)
        far = float(d.max()) if len(d) else 0.0
        band = pg.LinearRegionItem(
            (far, lens.f * r[-1]), movable=False, brush=t.color(t.ACCENT, 40), pen=pg.mkPen(None)
        )
        plot.addItem(band)
        return plot, f"At the corner {bent[-1]:+.1f} px. Shaded: farther out than any target was seen."

    def _grid(self, p, at):
        lens, straight = self.lens, self.lens.without_distortion()
        p.setPen(QPen(t.color(t.CATEGORIES[1]), 1))

        def bent(x, y):
            d = straight.unproject(np.stack([x, y], 1))
            there = lens.project(d)
            return np.stack([x, y], 1) + 5 * (there - np.stack([x, y], 1))

        for k in range(13):
            s = np.linspace(0, 1, 50)
            for x, y in (
                (np.full(50, k / 12 * (lens.width - 1)), s * (lens.height - 1)),
                (s * (lens.width - 1), np.full(50, k / 12 * (lens.height - 1))),
            ):
                q = bent(x, y).tolist()
                p.drawPolyline([at(a, b) for a, b in q])
