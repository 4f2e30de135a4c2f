"""Sifting tie points: a property, its histogram, the range of it that is chosen, and what can be done with them."""

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ...core.later import Later
from ...core.poses.sift import BY_NAME, MEASURES
from .. import tokens as t
from ..plain import Label
from ..plots import quiet_plot

pg = Later("pyqtgraph")

BARS = 40
TOP = 99.8  #: percentile where the axis ends: one far point would press the rest into one bar


class SiftPanel(QWidget):
    """Part of the bench of Poses."""

    last = 0  #: the property chosen last, kept while the window lives

    def __init__(self, session):
        super().__init__()
        self.session, self.points = session, session.points
        self.values = np.zeros(0)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(6)
        self.which = QComboBox()
        for m in MEASURES:
            self.which.addItem(m.title, m.name)
            self.which.setItemData(self.which.count() - 1, m.about, Qt.ItemDataRole.ToolTipRole)
        self.which.setCurrentIndex(SiftPanel.last)
        self.which.setToolTip("The property by which tie points are chosen")
        self.which.currentIndexChanged.connect(self._measure)
        box.addWidget(self.which)
        self.plot = quiet_plot("", "points")
        self.plot.setFixedHeight(140)
        self.bars = pg.BarGraphItem(x0=[0], x1=[1], height=[0], brush=t.CATEGORIES[1], pen=pg.mkPen(t.PANEL))
        self.plot.addItem(self.bars)
        self.region = pg.LinearRegionItem(
            brush=t.color(t.ACCENT, 70), hoverBrush=t.color(t.ACCENT, 100), pen=pg.mkPen(t.ACCENT, width=2)
        )
        self.plot.addItem(self.region)
        box.addWidget(self.plot)
        self.color = QCheckBox("Color the points by it")
        self.color.setChecked(self.points.look in BY_NAME)
        self.color.toggled.connect(self._look)
        box.addWidget(self.color)
        self.told = Label(objectName="quiet")
        self.told.setWordWrap(True)
        box.addWidget(self.told)
        row = QHBoxLayout()
        self.remove = QPushButton("Remove", objectName="next")
        self.remove.setToolTip("Take the chosen tie points out of the block; undo brings them back  (Del in the scene)")
        self.remove.clicked.connect(self.points.remove)
        trace = QPushButton("Trace")
        trace.setToolTip("Ring the photos that see the chosen points, in the strip and in the scene")
        trace.clicked.connect(self.points.trace_to_photos)
        clear = QPushButton("None")
        clear.setToolTip("Choose none  (Esc in the scene)")
        clear.clicked.connect(self.points.clear)
        self.trace, self.clear = trace, clear
        for b in (self.remove, trace, clear):
            row.addWidget(b)
        box.addLayout(row)
        self.adjust = QPushButton("Adjust what is left")
        self.adjust.setToolTip("Move photos, lens and tie points together once more, without the removed ones: seconds")
        self.adjust.clicked.connect(lambda: session.run(way="adjust"))
        box.addWidget(self.adjust)
        self.region.sigRegionChanged.connect(self._follow)
        self.region.sigRegionChangeFinished.connect(self._choose)
        self.points.changed.connect(self._tell)
        self._measure()

    @property
    def kind(self):
        """The Measure that is chosen."""
        return MEASURES[self.which.currentIndex()]

    def _measure(self):
        SiftPanel.last = self.which.currentIndex()
        left = self.points.left
        if left is None:
            return
        m = self.kind
        self.every = self.points.measured(m.name)
        self.values = self.every[left]
        if not len(self.values):
            return
        top = float(np.percentile(self.values, TOP))
        low = float(min(self.values.min(), 0.0)) if not m.whole else float(self.values.min()) - 0.5
        top = float(np.ceil(top)) + 0.5 if m.whole else max(top * 1.02, low + 1e-6)
        edges = np.arange(low, top + 1e-9) if m.whole and top - low <= 80 else np.linspace(low, top, BARS + 1)
        counts = np.histogram(np.minimum(self.values, top - 1e-9), edges)[0]
        self.bars.setOpts(x0=edges[:-1], x1=edges[1:], height=counts)
        title = m.title + (f" ({m.unit})" if m.unit else "")
        self.plot.setLabel("bottom", title, color=t.QUIET, **{"font-size": "11px"})
        self.plot.setXRange(low, top, padding=0.01)
        self.plot.setYRange(0, max(float(counts.max()), 1) * 1.05, padding=0)
        self.ends = low, top
        # nothing is chosen to begin with: the range waits at the doubtful end
        span = top - low
        at = (top - 0.02 * span, top) if m.doubtful_high else (low, low + 0.02 * span)
        self.region.blockSignals(True)
        self.region.setBounds((low, top))
        self.region.setRegion(at)
        self.region.blockSignals(False)
        self._look()
        self._tell()

    def _look(self):
        name = self.kind.name if self.color.isChecked() else None
        if name != self.points.look:
            self.points.set_look(name)

    def _picked(self):
        """Points (p,) bool inside the range; its ends at the plot's ends reach as far as there are points."""
        a, b = self.region.getRegion()
        low, top = self.ends
        slack = 1e-6 * (top - low)
        out = np.ones(len(self.every), bool)
        if a > low + slack:
            out &= self.every >= a
        if b < top - slack:
            out &= self.every <= b
        return out & self.points.left

    def _follow(self):
        a, b = self.region.getRegion()
        unit = f" {self.kind.unit}" if self.kind.unit else ""
        self.told.setText(f"{int(self._picked().sum()):,} between {a:.3g} and {b:.3g}{unit}")

    def _choose(self):
        self.points.choose(self._picked())

    def _tell(self):
        count, left = self.points.count(), self.points.left
        total = int(left.sum()) if left is not None else 0
        if count:
            share = 100 * count / max(total, 1)
            self.told.setText(f"{count:,} of {total:,} tie points chosen ({share:.1f} %), in amber in the scene")
        else:
            self.told.setText(f"{total:,} tie points. Drag an edge of the range: what lies in it is chosen.")
        self.remove.setText(f"Remove {count:,}" if count else "Remove")
        for b in (self.remove, self.trace, self.clear):
            b.setEnabled(bool(count))
        removed = bool(self.session.job and self.session.job.removed(self.session.sitting_id))
        self.adjust.setVisible(removed or bool(count))
        self.adjust.setEnabled(removed and self.session.job.writable and self.session.running() is None)
