"""Cleaning a cloud on the bench: a filter, what it goes by, trying it, and the steps that were done."""

import math

import numpy as np
from PyQt6 import sip
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from ...actions.steps import FILTERS, step_text
from ...core.later import Later
from ...core.raster.coloring import COLORINGS, counts_of, sample_of
from .. import tokens as t
from ..plain import Label
from ..plots import quiet_plot
from .stepform import StepList, value_form, values_in

pg = Later("pyqtgraph")
BARS = 40  #: of a histogram
TAIL = 4.0  #: how far it goes, in times what 95 % of the values span

PROPERTIES = ("photos", "score", "precision", "angle")  #: filters that go by what was measured of each point
WAIT_MS = 250  #: a value that is still being changed is not tried yet


class CleanPart(QWidget):
    """A filter with its values, and the steps that were done."""

    filter = 0  #: the filter chosen last, kept while the window lives

    def __init__(self, session):
        super().__init__()
        self.session, self.work = session, session.cleaning
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self._make_cleaning(column)
        self.steps = StepList(self.work, "Cleaned by", self._step_texts)
        column.addWidget(self.steps)
        column.addStretch(1)
        self._wait = QTimer(self, singleShot=True, interval=WAIT_MS)
        self._wait.timeout.connect(self._again)
        self.editors, self._filling = {}, False
        self._make_form()
        session.document_changed.connect(self.reload)
        self.work.changed.connect(self.reload)
        self.reload()

    def _make_cleaning(self, column):
        """A filter, the histogram of what it goes by, its values, and the buttons that try and apply it."""
        self.which = QComboBox()
        self.which.setAccessibleName("Filter")
        self.filters = [f for f in FILTERS if not f.hidden]
        for f in self.filters:
            self.which.addItem(f.title, f.name)
            self.which.setItemData(self.which.count() - 1, f.about, Qt.ItemDataRole.ToolTipRole)
        self.which.setCurrentIndex(CleanPart.filter)
        self.which.activated.connect(lambda _: self._filter_chosen())
        column.addWidget(self.which)
        self.plot = quiet_plot("")
        self.plot.setFixedHeight(110)
        self.bars = pg.BarGraphItem(x0=[0], x1=[1], height=[0], brush=t.CATEGORIES[1], pen=pg.mkPen(t.PANEL))
        self.line = pg.InfiniteLine(movable=True, pen=pg.mkPen(t.ACCENT, width=2), hoverPen=pg.mkPen(t.ACCENT, width=4))
        self.line.sigPositionChanged.connect(self._line_moved)
        self.plot.addItem(self.bars)
        self.plot.addItem(self.line)
        self._plotted = None
        column.addWidget(self.plot)
        self.form_place = QVBoxLayout()
        column.addLayout(self.form_place)
        self.keep = QCheckBox("Keep what it chooses")
        self.keep.toggled.connect(lambda _: self._wait.start())
        column.addWidget(self.keep)
        self.told = Label(objectName="quiet")
        self.told.setWordWrap(True)
        column.addWidget(self.told)
        row = QHBoxLayout()
        self.see = QPushButton("Try")
        self.see.setToolTip("Show in the scene what it would take away")
        self.see.clicked.connect(self._try)
        self.apply = QPushButton("Apply", objectName="next")
        self.apply.clicked.connect(self.work.apply)
        self.leave = QPushButton("Leave")
        self.leave.clicked.connect(lambda: self.work.try_on(None))
        for b in (self.see, self.apply, self.leave):
            row.addWidget(b)
        column.addLayout(row)

    def choose(self, name):
        """Choose a filter by its name."""
        self.which.setCurrentIndex(self.which.findData(name))
        self._filter_chosen()
        self.which.setFocus()

    # ------------------------------------------------------------------ contents
    def reload(self):
        """Take what is on trial and the steps anew."""
        if sip.isdeleted(self.plot) or not self.isAncestorOf(self.plot):
            return  # another panel stands in its place, and has its plots by now
        w = self.work
        if self.session.sitting is None:
            return
        self._filling = True
        self.steps.reload()
        self.told.setText(w.told() or self.filters[self.which.currentIndex()].about)
        on = w.step is not None
        self.apply.setVisible(on)
        self.leave.setVisible(on)
        self.see.setVisible(not on)
        self.apply.setEnabled(not w.busy)
        self._plot_property()
        self._filling = False

    def _make_form(self):
        while self.form_place.count():
            old = self.form_place.takeAt(0).widget()
            old.hide()
            old.deleteLater()
        unit = self.session.frame.unit if self.session.frame else ""
        body, self.editors = value_form(
            self.filters[self.which.currentIndex()], unit, self._wait_start, self._pick_color
        )
        self.form_place.addWidget(body)
        if self._property() == "precision":  # what is unsure depends on the object: the worst fiftieth to begin with
            worst = float(np.percentile(sample_of(self.session.cloud_at_hand()["precision"]), 98))
            editor = self.editors["most"]
            editor.setDecimals(max(3, 2 - math.floor(math.log10(max(worst, 1e-9)))))  # three digits that say something
            editor.setSingleStep(worst / 10)
            editor.setValue(worst)
            self._wait.stop()
        self._plot_property()

    def _wait_start(self, *_):
        limit = self._limit()
        if limit is not None and not self._filling:
            self.line.blockSignals(True)
            self.line.setValue(limit.value())
            self.line.blockSignals(False)
        self._wait.start()

    def _limit(self):
        """The editor of the value that a filter by a measured property draws its line at, or None."""
        return self.editors.get("least") or self.editors.get("most") if self._property() else None

    def _property(self):
        """The array of the cloud that the chosen filter goes by, or None."""
        name, cloud = self.filters[self.which.currentIndex()].name, self.session.cloud_at_hand()
        return name if cloud is not None and name in PROPERTIES and name in cloud else None

    def _line_moved(self):
        limit = self._limit()
        if limit is not None and not self._filling:
            limit.setValue(self.line.value())  # what is on trial follows
            if self.work.step is None:
                self._try()

    def _plot_property(self):
        """The histogram of what the chosen filter goes by, with a line at its value."""
        name, limit = self._property(), self._limit()
        self.plot.setVisible(limit is not None)
        key = (self.work.key(), name)
        seen = self._plotted is not None and self._plotted[0] == key and limit is not None
        if limit is None or (seen and limit.value() <= self._plotted[1]):
            return
        values = self.session.cloud_at_hand()[name]
        some = sample_of(values)
        some = some[np.isfinite(some)]
        low, most, top = (float(x) for x in np.percentile(some, (0, 95, 99.8))) if len(some) else (0.0, 1.0, 1.0)
        # a few that are far off would leave no room for all others; they stand in the last bar
        top = max(min(top, low + TAIL * (most - low)), 1.1 * limit.value())
        if name in ("photos", "angle"):  # whole numbers
            edges = np.arange(np.floor(low) - 0.5, np.ceil(top) + 1)
        else:
            edges = np.linspace(low, max(top, low + 1e-9), BARS + 1)
        counts = counts_of(values, edges[0], edges[-1], len(edges) - 1, clip=True)
        self._plotted = key, top
        self.bars.setOpts(x0=edges[:-1], x1=edges[1:], height=counts)
        self.plot.setXRange(edges[0], edges[-1], padding=0.01)
        self.plot.setYRange(0, max(float(counts.max(initial=0)), 1) * 1.05, padding=0)
        title, unit = COLORINGS[name].title, COLORINGS[name].unit
        unit = (self.session.frame.unit if self.session.frame else "") if unit == "length" else unit
        self.plot.setLabel("bottom", f"{title} ({unit})" if unit else title, color=t.QUIET, **{"font-size": "11px"})
        self.line.blockSignals(True)
        self.line.setValue(limit.value())
        self.line.blockSignals(False)

    def _step(self):
        name = self.filters[self.which.currentIndex()].name
        return {"filter": name, "keep": self.keep.isChecked(), **values_in(self.editors)}

    # ------------------------------------------------------------------ doing
    def _filter_chosen(self):
        CleanPart.filter = self.which.currentIndex()
        self._make_form()
        self.work.try_on(None)

    def _try(self):
        self._wait.stop()  # this is the value it waits for
        self.work.try_on(self._step())

    def _again(self):
        """A value changed: what is on trial follows."""
        step = self.work.step
        if step is None:
            return
        if step["filter"] in ("lasso", "brush", "slab"):
            self.work.try_on({**step, "keep": self.keep.isChecked()})
        else:
            self._try()

    def _pick_color(self, editor):
        def take(color):
            editor.setText(color)
            self._try()

        self.session.pick_color(take)

    def _step_texts(self, step):
        text = step_text(step.step, self.session.frame.unit if self.session.frame else "")
        return text, text
