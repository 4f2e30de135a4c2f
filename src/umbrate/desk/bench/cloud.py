"""The bench of the Cloud stage: the clouds side by side, how they look, and where they have too little."""

import numpy as np
from PyQt6 import sip
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QMenu,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...actions.coverage import LEAST_SEEN
from ...actions.steps import CLEANING
from ...core.later import Later
from ...core.raster.coloring import COLORINGS, COVERAGE, counts_of
from ...core.raster.ramps import RAMP, SIGNED, ramp_colors
from ..dialogs.asking import open_file
from ..flow import Flow
from ..plain import Label
from ..plots import quiet_plot
from .keptlist import KeptList
from .markedpoints import cell, table
from .rampends import RampEnds
from .stepform import save_steps

pg = Later("pyqtgraph")
BARS = 40  #: of a histogram

PROPERTIES = ("photos", "score", "precision", "angle")  #: filters that go by what was measured of each point
WAIT_MS = 250  #: a value that is still being changed is not tried yet


class CloudsPart(QWidget):
    """The clouds of a sitting, what the chosen one is colored by, and how that is distributed."""

    def __init__(self, session):
        super().__init__()
        self.session, self.work = session, session.cleaning
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
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
        self.ramp = RampEnds(self.work.set_ramp, "From the lowest to the highest hundredth of the points")
        column.addWidget(self.ramp)
        self.looked = quiet_plot("")
        self.looked.setFixedHeight(110)
        self.looked_bars = pg.BarGraphItem(x0=[0], x1=[1], height=[0], pen=pg.mkPen(None))
        self.looked.addItem(self.looked_bars)
        self._looked_at = None
        column.addWidget(self.looked)
        self.about = Label(objectName="quiet")
        self.about.setWordWrap(True)
        column.addWidget(self.about)
        column.addStretch(1)
        session.document_changed.connect(self.reload)
        self.work.changed.connect(self.reload)
        self.reload()

    def reload(self):
        """Take clouds and looks anew."""
        if sip.isdeleted(self.looked) or not self.isAncestorOf(self.looked):
            return  # another panel stands in its place, and has its plots by now
        w = self.work
        if self.session.sitting is None:
            return
        self.clouds.reload()
        self.look.setCurrentIndex(list(COLORINGS).index(w.look))
        legend = w.legend()
        self.ramp.show_ends(legend)
        self._plot_look(legend)
        self.about.setText(self._compared())
        self.about.setVisible(bool(self.about.text()))

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
        if w.covering or w.look in COVERAGE:
            return told_of_coverage(w)
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

    # ------------------------------------------------------------------ doing
    def _set_look(self):
        look = self.look.currentData()
        if look in COVERAGE:
            self.work.cover(look)
        elif look == "compared" and not self.work.compared:
            self._compare()
        else:
            self.work.set_look(look)

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
        file = open_file(self, "Clean by steps from a file", "Cleaning steps (*.json)")
        if file:
            self.work.apply_all(file)

    def _write_steps(self):
        save_steps(self, self.session, CLEANING, self.work.kept, "cleaning")


def told_of_coverage(work):
    """What coverage found, in words."""
    if work.covering:
        return "Looking what each photo sees …"
    if not work.covered:
        return ""
    c = work.covered[1]
    text = f"{100 * c.weak.mean():.1f} % of the points have too little: under {LEAST_SEEN} photos, from nearly "
    text += f"one direction, or unsure depth. At {100 * c.edge.mean():.1f} % the surface ends."
    return text if c.places else text + " No place is large enough to be worth a photo."


class CoveragePart(QWidget):
    """Where a cloud, or tie points, have too little, and where to stand for photos that mend it.

    work : CleanWork or PointWork; that on clouds where it is not given
    """

    def __init__(self, session, work=None):
        super().__init__()
        self.session, self.work, self._filling = session, work or session.cleaning, False
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.about = Label(objectName="quiet")
        self.about.setWordWrap(True)
        column.addWidget(self.about)
        flow = Flow()
        self.looks = {}
        for name in COVERAGE:
            title = COLORINGS[name].title.removeprefix("Coverage: ").capitalize()
            b = self.looks[name] = QToolButton(text=title, checkable=True)
            b.setToolTip("Colors the points by it, and lists places with too little")
            b.clicked.connect(lambda on, n=name: self.work.cover(n) if on else self.work.set_look(self.work.PLAIN))
            flow.addWidget(b)
        column.addLayout(flow)
        self.gaps = table(("Too little", "Where to stand"), stretch=1)
        self.gaps.setToolTip("Three photos from there would mend it: a click shows them in the scene")
        self.gaps.itemSelectionChanged.connect(self._to_place)
        column.addWidget(self.gaps, 1)
        column.addStretch(1)
        session.document_changed.connect(self.reload)
        self.work.changed.connect(self.reload)
        self.reload()

    def reload(self):
        """Take what was found anew."""
        w = self.work
        if sip.isdeleted(self.gaps) or self.session.sitting is None:
            return
        self._filling = True
        known = bool(w.covering or w.covered)
        self.about.setText(
            told_of_coverage(w) if known else "Which places too few photos see well, and from where photos would help."
        )
        for name, b in self.looks.items():
            b.setChecked(w.look == name)
            b.setEnabled(not w.covering)
        gaps = w.places()[0] if w.covered else []
        self.gaps.setVisible(bool(gaps))
        self.gaps.setRowCount(len(gaps))
        for k, texts in enumerate(gaps):
            _, why, where = texts
            for q, text in enumerate((f"{k + 1}: {why}", where)):
                self.gaps.setItem(k, q, cell(text, k, tip=", ".join(texts)))
            if k == w.place:
                self.gaps.selectRow(k)
        self._filling = False

    def _to_place(self):
        rows = self.gaps.selectionModel().selectedRows()
        if rows and not self._filling and rows[0].row() != self.work.place:
            self.work.choose_place(rows[0].row())
