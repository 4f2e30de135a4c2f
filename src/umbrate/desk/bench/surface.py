"""The bench of the Surface stage: the surfaces side by side, and how they look."""

import numpy as np
from PyQt6 import sip
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QMenu, QToolButton, QVBoxLayout, QWidget

from ...actions.mends import MENDING
from ...core.later import Later
from ...core.raster.coloring import SURFACE_COLORINGS, counts_of
from ...core.raster.ramps import RAMP, SIGNED, ramp_colors
from ...core.raster.solid import BOTH, FLAT, SMOOTH, SOLID, WIRES
from ..dialogs.asking import open_file
from ..plain import Label
from ..plots import quiet_plot
from .cloud import BARS
from .keptlist import KeptList
from .rampends import RampEnds
from .stepform import save_steps

pg = Later("pyqtgraph")
DRAWN = ((SOLID, "Solid"), (BOTH, "Solid, edges"), (WIRES, "Edges"))
SHADED = ((SMOOTH, "Smooth"), (FLAT, "Flat"))


class SurfacesPart(QWidget):
    """Part of the bench of Surface."""

    def __init__(self, session):
        super().__init__()
        self.session, self.work = session, session.surfacing
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.surfaces = KeptList(
            session, "surface", ("Surface", "Triangles", "Holes"),
            lambda c: (f"{c.left:,}", f"{100 * c.now['filled']:.1f} % filled" if c.now["closed"] else "open"),
            self.work.is_shown, self.work.show,
        )  # fmt: skip
        column.addWidget(self.surfaces)
        row = QHBoxLayout()
        row.setSpacing(4)
        self.look, self.drawn, self.shaded = QComboBox(), QComboBox(), QComboBox()
        for name, x in SURFACE_COLORINGS.items():
            self.look.addItem(x.title, name)
        for box, choices in ((self.drawn, DRAWN), (self.shaded, SHADED)):
            for value, title in choices:
                box.addItem(title, value)
        for box, tip, do in (
            (self.look, "What the surface is colored by", self._set_look),
            (self.drawn, "Its triangles, their edges, or both", lambda: self.work.set_manner(self.drawn.currentData())),
            (self.shaded, "Light as on a smooth surface, or on each triangle",
             lambda: self.work.set_manner(shading=self.shaded.currentData())),
        ):  # fmt: skip
            box.setToolTip(tip)
            box.activated.connect(lambda _, f=do: f())
        more = QToolButton(text="More", popupMode=QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu = QMenu(more)
        self.menu.aboutToShow.connect(self._fill_menu)
        more.setMenu(self.menu)
        row.addWidget(self.look, 1)
        row.addWidget(more)
        column.addLayout(row)
        row = QHBoxLayout()
        row.setSpacing(4)
        row.addWidget(self.drawn, 1)
        row.addWidget(self.shaded, 1)
        column.addLayout(row)
        self.ramp = RampEnds(self.work.set_ramp, "From the lowest to the highest hundredth of the vertices")
        column.addWidget(self.ramp)
        self.plot = quiet_plot("")
        self.plot.setFixedHeight(90)
        self.bars = pg.BarGraphItem(x0=[0], x1=[1], height=[0], pen=pg.mkPen(None))
        self.plot.addItem(self.bars)
        column.addWidget(self.plot)
        self.about = Label(objectName="quiet")
        self.about.setWordWrap(True)
        column.addWidget(self.about)
        column.addStretch(1)
        self._plotted = None
        session.mending.changed.connect(self.reload)
        session.document_changed.connect(self.reload)
        self.work.changed.connect(self.reload)
        self.reload()

    def reload(self):
        """Take the list and the look anew."""
        if sip.isdeleted(self.plot) or not self.isAncestorOf(self.plot) or self.session.sitting is None:
            return  # another panel stands in its place
        w = self.work
        self.surfaces.reload()
        self.look.setCurrentIndex(list(SURFACE_COLORINGS).index(w.look))
        self.drawn.setCurrentIndex([x for x, _ in DRAWN].index(w.what))
        self.shaded.setCurrentIndex([x for x, _ in SHADED].index(w.shading))
        trial = self.session.mending.made is not None  # the scene says what a step does, the plot what there is
        legend = w.legend() if w.mesh is not None and not trial else None
        self.ramp.show_ends(legend)
        self._plot(legend)
        self.about.setText(self._told())
        self.about.setVisible(bool(self.about.text()))

    def _plot(self, legend):
        """The histogram of what it is colored by, each bar in the color its vertices have."""
        self.plot.setVisible(legend is not None)
        key = legend and (self.work.key(), self.work.look, *legend[:2])
        if key == self._plotted:
            return
        self._plotted = key
        if legend is None:
            return
        low, high = legend[:2]
        edges = np.linspace(low, high, BARS + 1)
        counts = counts_of(self.work.values(), low, high, BARS, clip=True)
        ramp = SIGNED if self.work.signed else RAMP
        brushes = [pg.mkBrush(*c.tolist()) for c in ramp_colors((edges[1:] + edges[:-1]) / 2, low, high, ramp)]
        self.bars.setOpts(x0=edges[:-1], x1=edges[1:], height=counts, brushes=brushes)
        self.plot.setXRange(low, high, padding=0.01)
        self.plot.setYRange(0, max(float(counts.max(initial=0)), 1) * 1.05, padding=0)

    def _told(self):
        w = self.work
        unit = self.session.frame.unit if self.session.frame else ""
        if w.look == "filled" and w.mesh is not None:
            some = float(w.mesh["filled"].mean())
            return (
                f"Orange: no points hold it, {100 * some:.1f} % of the vertices." if some else "Points hold all of it."
            )
        if w.look == "compared" and w.compared:
            _, _, f, name = w.compared
            if f["median"] is None:
                return f"{name} has nothing near this surface."
            return (
                f"To {name}: median {f['median']:+.4f} {unit}, 95 % within {f['p95_abs']:.4f} {unit}; {f['alone']:,} "
                "vertices have no counterpart. Orange: outside of it, blue: inside."
            )
        if w.look == "deviation":
            return "How far the mean of the cloud's points lies over the surface: orange outside, blue inside."
        return ""

    def _set_look(self):
        look = self.look.currentData()
        if look == "compared" and not self.work.compared:
            if not self._compare():
                self.reload()
        else:
            self.work.set_look(look)

    def _compare(self):
        missing = "There is no other surface to compare with: run Surface with other settings."
        return self.surfaces.compare(self.work.compare, missing)

    def _fill_menu(self):
        m, s, work = self.menu, self.session, self.session.mending
        m.clear()
        m.addAction("Rename the surface…", self.surfaces.rename)
        m.addAction("Compare with another…", self._compare)
        m.addAction("Remove the surface", self.surfaces.remove)
        m.addSeparator()
        kept = work.kept
        for c in s.job.surfaces(s.sitting_id):
            if kept is not None and c.id != kept.id and c.steps:
                steps = [x.step for x in c.steps]
                m.addAction(f"Mend it as “{c.name}” was", lambda steps=steps: work.apply_all(steps))
        m.addAction("Mend it by steps from a file…", self._read_steps)
        save = m.addAction("Save its mending steps…", self._write_steps)
        save.setEnabled(bool(kept and kept.steps))

    def _read_steps(self):
        file = open_file(self, "Mend by steps from a file", "Mending steps (*.json)")
        if file:
            self.session.mending.apply_all(file)

    def _write_steps(self):
        save_steps(self, self.session, MENDING, self.session.mending.kept, "mending")
