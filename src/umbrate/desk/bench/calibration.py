"""What a calibration looks like: where targets fell, what is left over, and how the lens bends."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QComboBox, QStackedWidget, QVBoxLayout, QWidget

from ...core.geometry.lens import Lens
from ...core.later import Later
from ...job.contents import CALIBRATION
from .. import tokens as t
from ..plain import Label
from ..plots import quiet_plot

pg = Later("pyqtgraph")

WIDTH, HEIGHT = 288, 222
LARGER = (2000, 1000, 500, 200, 100, 50, 20, 10)  #: residuals are drawn so many times as long, the most that fits
ARROW_PX = 14.0  #: length on the screen that most residuals stay below


def larger(residuals, width):
    """How many times as long residuals (k, 2) of pictures `width` pixels wide can be drawn and still be told apart."""
    length = np.linalg.norm(residuals, axis=1)
    usual = float(np.percentile(length, 90)) * WIDTH / width if len(length) else 1.0
    return next((k for k in LARGER if usual * k <= ARROW_PX), LARGER[-1])


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
        done = result.figures.calibration
        self.arrays = session.job.blobs.get_arrays(result.blob("calibration"), CALIBRATION)
        self.lens = Lens.from_dict(done.lens) if done else None
        size = result.figures.groups[0].size
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(4)
        self.choice = QComboBox()
        self.choice.addItems(self.NAMES)
        self.stack = QStackedWidget()
        self.stack.setFixedHeight(HEIGHT)
        self.note = Label(objectName="quiet")
        self.note.setWordWrap(True)
        self.stack.addWidget(_Frame(size, self._fell))
        if self.lens:
            profile, self._profile_note = self._profile()
            self._larger = larger(self.arrays["residual"][self.arrays["used"]], self.lens.width)
            for w in (_Frame(size, self._residuals), profile, _Frame(size, self._grid)):
                self.stack.addWidget(w)
        self.choice.setVisible(self.lens is not None)
        for w in (self.choice, self.stack, self.note):
            box.addWidget(w)
        self.choice.currentIndexChanged.connect(self._show)
        self._show(0)

    def _show(self, k):
        self.stack.setCurrentIndex(k)
        used = int(self.arrays["used"].sum())
        texts = [
            f"{used:,} sightings of all photos over the frame. Where there are none, the distortion is a guess.",
        ]
        if self.lens:
            texts += [
                f"Seen minus predicted, {self._larger} times as long; those left out are in amber. They should point "
                "anywhere. The photo view shows those of the chosen photo.",
                self._profile_note,
                "How a straight grid is bent, 5 times as strong as it is.",
            ]
        self.note.setText(texts[k])

    def _fell(self, p, at):
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(t.color(t.CATEGORIES[1], 150))
        for x, y in self.arrays["xy"][self.arrays["used"]].tolist():
            p.drawEllipse(at(x, y), 1.8, 1.8)

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
        plot = quiet_plot("distance from the principal point, px", "px")
        plot.setFixedSize(WIDTH, HEIGHT)
        plot.plot(lens.f * r, bent, pen=pg.mkPen(t.CATEGORIES[1], width=2))
        plot.addLine(y=0, pen=pg.mkPen(t.LINE))
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
