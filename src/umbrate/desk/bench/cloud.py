"""The bench of the Cloud stage: the clouds side by side, how they look, and cleaning them."""

import math

import numpy as np
from PyQt6 import sip
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...actions.coverage import LEAST_SEEN
from ...actions.steps import CLEANING, FILTERS, step_text
from ...core.later import Later
from ...core.raster.coloring import COLORINGS, COVERAGE, counts_of, sample_of
from ...core.raster.ramps import RAMP, SIGNED, ramp_colors
from .. import tokens as t
from ..plain import Label
from ..plots import quiet_plot
from .keptlist import KeptList
from .markedpoints import cell, table
from .rampends import RampEnds
from .stepform import STEPS_HEIGHT, StepList, save_steps, value_form, values_in

pg = Later("pyqtgraph")
BARS = 40  #: of a histogram

PROPERTIES = ("photos", "score", "precision", "angle")  #: filters that go by what was measured of each point
WAIT_MS = 250  #: a value that is still being changed is not tried yet


class CloudPanel(QWidget):
    """Part of the bench of Cloud."""

    filter = 0  #: the filter chosen last, kept while the window lives

    def __init__(self, session):
        super().__init__()
        self.session, self.work = session, session.cleaning
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(6)
        column.addWidget(Label("Clouds of this sitting", objectName="plain"))
        self.clouds = KeptList(
            session, "cloud", ("Cloud", "Points", "Scale"), lambda c: (f"{c.left:,}", c.scale_text),
            self.work.is_shown, self.work.show,
        )  # fmt: skip
        column.addWidget(self.clouds)
        row = QHBoxLayout()
        row.setSpacing(4)
        self.look = QComboBox()
        for name, x in COLORINGS.items():
            self.look.addItem(x.title, name)
        self.look.setToolTip("What the cloud's points are colored by")
        self.look.activated.connect(lambda _: self._set_look())
        row.addWidget(self.look, 1)
        more = QToolButton(text="More", popupMode=QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu = QMenu(more)
        self.menu.aboutToShow.connect(self._fill_menu)
        more.setMenu(self.menu)
        row.addWidget(more)
        column.addLayout(row)
        self._make_look(column)
        self._make_cleaning(column)
        self.steps = StepList(self.work, "Cleaned by", self._step_texts)
        column.addWidget(self.steps)
        self._wait = QTimer(self, singleShot=True, interval=WAIT_MS)
        self._wait.timeout.connect(self._again)
        self.editors, self._filling = {}, False
        self._make_form()
        session.document_changed.connect(self.reload)
        self.work.changed.connect(self.reload)
        self.reload()

    def _make_look(self, column):
        """What the cloud is colored by: the ends of its ramp, a histogram, and what coverage found."""
        self.ramp = RampEnds(self.work.set_ramp, "From the lowest to the highest hundredth of the points")
        column.addWidget(self.ramp)
        self.looked = quiet_plot("")
        self.looked.setFixedHeight(90)
        self.looked_bars = pg.BarGraphItem(x0=[0], x1=[1], height=[0], pen=pg.mkPen(None))
        self.looked.addItem(self.looked_bars)
        self._looked_at = None
        column.addWidget(self.looked)
        self.about = Label(objectName="quiet")
        self.about.setWordWrap(True)
        column.addWidget(self.about)
        self.gaps = table(("Too little", "Where to stand"), STEPS_HEIGHT, stretch=1)
        self.gaps.setToolTip("Three photos from there would mend it: a click shows them in the scene")
        self.gaps.itemSelectionChanged.connect(self._to_place)
        column.addWidget(self.gaps)

    def _make_cleaning(self, column):
        """A filter, the histogram of what it goes by, its values, and the buttons that try and apply it."""
        column.addWidget(Label("Clean it", objectName="plain"))
        self.which = QComboBox()
        self.filters = [f for f in FILTERS if not f.hidden]
        for f in self.filters:
            self.which.addItem(f.title, f.name)
            self.which.setItemData(self.which.count() - 1, f.about, Qt.ItemDataRole.ToolTipRole)
        self.which.setCurrentIndex(CloudPanel.filter)
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

    # ------------------------------------------------------------------ contents
    def reload(self):
        """Take clouds and steps anew."""
        if sip.isdeleted(self.plot) or not self.isAncestorOf(self.plot):
            return  # another panel stands in its place, and has its plots by now
        s, w = self.session, self.work
        if s.sitting is None:
            return
        self._filling = True
        self.clouds.reload()
        self.steps.reload()
        gaps = w.places()[0] if w.look in COVERAGE else []
        self.gaps.setVisible(bool(gaps))
        self.gaps.setRowCount(len(gaps))
        for k, texts in enumerate(gaps):
            _, why, where = texts
            for q, text in enumerate((f"{k + 1}: {why}", where)):
                self.gaps.setItem(k, q, cell(text, k, tip=", ".join(texts)))
            if k == w.place:
                self.gaps.selectRow(k)
        self.look.setCurrentIndex(list(COLORINGS).index(w.look))
        legend = w.legend()
        self.ramp.show_ends(legend)
        self._plot_look(legend)
        self.about.setText(self._compared())
        self.about.setVisible(bool(self.about.text()))
        self.told.setText(w.told() or self.filters[self.which.currentIndex()].about)
        on = w.step is not None
        self.apply.setVisible(on)
        self.leave.setVisible(on)
        self.see.setVisible(not on)
        self.apply.setEnabled(not w.busy)
        self._plot_property()
        self._filling = False

    def _plot_look(self, legend):
        """The histogram of what the cloud is colored by, each bar in the color its points have."""
        self.looked.setVisible(legend is not None)
        if legend is None:
            self._looked_at = None
            return
        key = (self.work.key(), self.work.look, *legend[:2])
        if key == self._looked_at:
            return
        self._looked_at = key
        low, high = legend[:2]
        edges = np.linspace(low, high, BARS + 1)
        middle = (edges[1:] + edges[:-1]) / 2
        counts = counts_of(self.work.values(), low, high, BARS, clip=True)
        ramp = SIGNED if COLORINGS[self.work.look].signed else RAMP
        brushes = [pg.mkBrush(*c.tolist()) for c in ramp_colors(middle, low, high, ramp)]
        self.looked_bars.setOpts(x0=edges[:-1], x1=edges[1:], height=counts, brushes=brushes)
        self.looked.setXRange(low, high, padding=0.01)
        self.looked.setYRange(0, max(float(counts.max(initial=0)), 1) * 1.05, padding=0)

    def _compared(self):
        w = self.work
        if w.covering:
            return "Looking what each photo sees …"
        if w.look in COVERAGE and w.covered:
            c = w.covered[1]
            text = f"{100 * c.weak.mean():.1f} % of the points have too little: under {LEAST_SEEN} photos, from nearly "
            text += f"one direction, or unsure depth. At {100 * c.edge.mean():.1f} % the surface ends."
            return text if c.places else text + " No place is large enough to be worth a photo."
        if w.look != "compared" or not w.compared:
            return ""
        _, _, f, name = w.compared
        u = self.session.frame.unit if self.session.frame else ""
        if f["median"] is None:
            return f"{name} has nothing near this cloud."
        return (
            f"To {name}: median {f['median']:+.4f} {u}, 95 % within {f['p95_abs']:.4f} {u}; {f['alone']:,} points have "
            "no counterpart."
        )

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
        if limit is None or key == self._plotted:
            return
        self._plotted = key
        values = self.session.cloud_at_hand()[name]
        some = sample_of(values)
        some = some[np.isfinite(some)]
        low, top = (float(x) for x in np.percentile(some, (0, 99.8))) if len(some) else (0.0, 1.0)
        if name in ("photos", "angle"):  # whole numbers
            edges = np.arange(np.floor(low) - 0.5, np.ceil(top) + 1)
        else:
            edges = np.linspace(low, max(top, low + 1e-9), BARS + 1)
        counts = counts_of(values, edges[0], edges[-1], len(edges) - 1)
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
        CloudPanel.filter = self.which.currentIndex()
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

    def _set_look(self):
        look = self.look.currentData()
        if look in COVERAGE:
            self.work.cover(look)
        elif look == "compared" and not self.work.compared:
            self._compare()
        else:
            self.work.set_look(look)

    def _to_place(self):
        rows = self.gaps.selectionModel().selectedRows()
        if rows and not self._filling and rows[0].row() != self.work.place:
            self.work.choose_place(rows[0].row())

    def _compare(self):
        missing = "There is no other cloud to compare with: run Cloud with other settings."
        if not self.clouds.compare(self.work.compare, missing):
            self.reload()

    def _fill_menu(self):
        self.menu.clear()
        self.menu.addAction("Rename the cloud…", self.clouds.rename)
        self.menu.addAction("Compare with another…", self._compare)
        self.menu.addAction("Remove the cloud", self.clouds.remove)
        self.menu.addSeparator()
        s, kept = self.session, self.work.kept
        for c in s.job.clouds(s.sitting_id):
            if kept is not None and c.id != kept.id and c.steps:
                steps = [x.step for x in c.steps]
                self.menu.addAction(f"Clean it as “{c.name}” was", lambda steps=steps: self.work.apply_all(steps))
        self.menu.addAction("Clean it by steps from a file…", self._read_steps)
        save = self.menu.addAction("Save its cleaning steps…", self._write_steps)
        save.setEnabled(bool(kept and kept.steps))

    def _read_steps(self):
        file, _ = QFileDialog.getOpenFileName(self, "Clean by steps from a file", "", "Cleaning steps (*.json)")
        if file:
            self.work.apply_all(file)

    def _write_steps(self):
        save_steps(self, self.session, CLEANING, self.work.kept, "cleaning")

    def _step_texts(self, step):
        text = step_text(step.step, self.session.frame.unit if self.session.frame else "")
        return text, text
