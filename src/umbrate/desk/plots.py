"""Plots in the desk's own look."""

import numpy as np
import pyqtgraph as pg

from . import tokens as t


def quiet_plot(bottom, left=""):
    """An empty plot that stands still, with its axes named."""
    plot = pg.PlotWidget(background=t.PANEL)
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
    for side, text in (("bottom", bottom), ("left", left)):
        if text:
            plot.setLabel(side, text, color=t.QUIET, **{"font-size": "11px"})
    return plot


def histogram_plot(histogram):
    """A widget that draws a stage's Histogram as bars."""
    edges = np.asarray(histogram.edges, float)
    plot = quiet_plot(histogram.axis)
    plot.setFixedHeight(130)
    bars = pg.BarGraphItem(
        x0=edges[:-1], x1=edges[1:], height=histogram.counts, brush=t.CATEGORIES[1], pen=pg.mkPen(t.PANEL)
    )
    plot.addItem(bars)
    return plot
