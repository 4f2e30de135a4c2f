"""Plots in the desk's own look."""

import sys

import numpy as np
from PyQt6.QtCore import Qt

from ..core.later import Later
from . import tokens as t
from .text import local

pg = Later("pyqtgraph")
MOST = (1 << 24) - 1  #: what Qt takes for no limit of a size


SPARE = 4  #: plots that are kept for the next panel: making one takes longer than all the rest of a panel

_spare = []


def make_spare():
    """Make a plot before one is needed; returns whether there are enough now."""
    if len(_spare) < SPARE:
        _spare.append(_new())
    return len(_spare) >= SPARE


def give_back(widget):
    """Take the plots out of a widget that goes, for the next one."""
    if "pyqtgraph" not in sys.modules:
        return
    for plot in widget.findChildren(pg.PlotWidget):
        if len(_spare) < SPARE:
            plot.hide()
            plot.setParent(None)
            plot.clear()
            plot.setToolTip("")
            plot.setMinimumSize(0, 0)
            plot.setMaximumSize(MOST, MOST)
            for side in ("left", "bottom"):
                plot.setLabel(side, "")
                plot.showLabel(side, False)
                plot.getAxis(side).setTicks(None)
            plot.enableAutoRange()
            _spare.append(plot)


def quiet_plot(bottom, left=""):
    """An empty plot that stands still, with its axes named."""
    plot = _spare.pop() if _spare else _new()
    plot.setBackground(t.PANEL)  # the theme may be another one by now
    for side in ("left", "bottom"):
        axis = plot.getAxis(side)
        axis.setPen(t.LINE)
        axis.setTextPen(t.QUIET)
    plot.show()
    for side, text in (("bottom", bottom), ("left", left)):
        if text:
            plot.setLabel(side, text, color=t.QUIET, **{"font-size": "11px"})
    return plot


def _told(axis):
    """The numbers of an axis as the user's language writes them, large ones short: 200 k, 1.5 M."""
    plain = axis.tickStrings

    def texts(values, scale, spacing):
        most = max((abs(v * scale) for v in values), default=0.0)
        unit, letter = (1e6, " M") if most >= 1e6 else (1e3, " k") if most >= 1e4 else (1.0, "")
        return [local(x) + letter if x != "0" else x for x in plain(values, scale / unit, spacing)]

    axis.tickStrings = texts


def _new():
    plot = pg.PlotWidget(background=t.PANEL)
    plot.setMouseEnabled(False, False)
    plot.setFocusPolicy(Qt.FocusPolicy.NoFocus)  # there is nothing in it for the keyboard
    plot.hideButtons()
    plot.setMenuEnabled(False)
    for side in ("left", "bottom"):
        axis = plot.getAxis(side)
        axis.setTickFont(t.font(10))
        axis.enableAutoSIPrefix(False)
        _told(axis)
    plot.getAxis("left").setWidth(44)
    return plot


def histogram_plot(histogram, value=None, told=None, changed=None):
    """A widget that draws a stage's Histogram as bars.

    Where it has a setting, a line stands below `value`: what lies left of it is dimmed. ``told(value)`` says what the
    line means, ``changed(value)`` is called when it was dragged to another whole value.
    """
    edges, counts = np.asarray(histogram.edges, float), np.asarray(histogram.counts)
    plot = quiet_plot(histogram.axis)
    plot.setFixedHeight(130)
    kept = t.color(t.CATEGORIES[1])
    bars = pg.BarGraphItem(x0=edges[:-1], x1=edges[1:], height=counts, brush=kept, pen=pg.mkPen(t.PANEL))
    plot.addItem(bars)
    if not histogram.setting:
        return plot
    line = pg.InfiniteLine(
        value - 0.5, movable=True, pen=pg.mkPen(t.ACCENT, width=2), hoverPen=pg.mkPen(t.ACCENT, width=4)
    )
    label = pg.TextItem(color=t.TEXT, anchor=(0, 0))
    label.setFont(t.font(11))
    plot.addItem(label)
    plot.addItem(line)
    plot.line = line
    plot.setXRange(edges[0], edges[-1], padding=0.01)
    plot.setYRange(0, max(float(counts.max(initial=0)), 1) * 1.3, padding=0)

    def show():
        least = int(np.ceil(line.value()))
        label.setText(told(least))
        label.setPos(edges[0], max(float(counts.max(initial=0)), 1) * 1.3)
        gone = t.color(t.LINE)
        bars.setOpts(brushes=[kept if e >= least - 0.6 else gone for e in edges[:-1]])

    def let_go():
        least = int(np.clip(np.ceil(line.value()), 2, edges[-1] + 0.5))
        line.setValue(least - 0.5)
        changed(least)

    line.sigPositionChanged.connect(show)
    line.sigPositionChangeFinished.connect(let_go)
    show()
    return plot
