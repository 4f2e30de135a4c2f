"""Measurements, marked points, lines and faces drawn over the scene or a photo."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainterPath, QPen, QPolygonF

from ..core.measure.quantities import fit_circle
from ..core.raster.ramps import RAMP, SIGNED
from ..job.lengths import OFF, SCALE
from . import over as t
from .text import local


def label(p, at, text, color):
    """Text that can be read on any ground: on a plate with an edge in the color of what it names."""
    text = local(text)
    box = plate(p, at, text)
    p.setPen(QPen(t.color(color), 1))
    p.setBrush(t.color(t.GROUND, 215))
    p.drawRoundedRect(box, 3, 3)
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.setPen(t.color(t.TEXT))
    p.drawText(at, text)


def plate(p, at, text):
    """The rectangle that `label` takes."""
    p.setFont(t.font(t.SMALL + 1))
    return QRectF(p.fontMetrics().boundingRect(local(text))).translated(at).adjusted(-5, -2, 5, 2)


def _dots(p, uv, color, size=3.2):
    p.setPen(QPen(t.color(t.GROUND), 1))
    p.setBrush(t.color(color))
    for q in uv:
        p.drawEllipse(q, size, size)
    p.setBrush(Qt.BrushStyle.NoBrush)


def _lines(p, uv, color, style=Qt.PenStyle.SolidLine):
    for c, w in ((t.GROUND, 3.4), (color, 1.6)):
        p.setPen(QPen(t.color(c, 235), w, style))
        p.drawPolyline(QPolygonF(uv))


def paint_measures(p, shown, project):
    """Draw measurements.

    shown : list of (kind, places (n, 3), text, chosen)
    project : callable((n, 3)) -> (n, 2), NaN where a place is not in the view
    """
    for kind, X, text, chosen in shown:
        uv = project(X)
        if not np.isfinite(uv).all():
            continue
        q = [QPointF(*x) for x in uv.tolist()]
        color = t.ACCENT if chosen else t.CATEGORIES[3]
        at = q[-1]
        if kind in ("distance", "polyline", "angle") and len(q) > 1:
            _lines(p, q, color)
            at = q[1] if kind == "angle" else (q[0] + q[-1]) / 2
        elif kind == "area" and len(q) > 2:
            p.setBrush(t.color(color, 40))
            p.setPen(QPen(t.color(color), 1.6))
            p.drawPolygon(QPolygonF(q))
            p.setBrush(Qt.BrushStyle.NoBrush)
            at = sum(q, QPointF()) / len(q)
        elif kind in ("circle", "sphere") and len(X) >= 3:
            try:
                c, r, n = fit_circle(X)
            except Exception:
                continue
            u = X[0] - c
            u = u - (u @ n) * n
            u /= max(np.linalg.norm(u), 1e-12)
            a = np.linspace(0, 2 * np.pi, 61)[:, None]
            ring = project(c + r * (np.cos(a) * u + np.sin(a) * np.cross(n, u)))
            if np.isfinite(ring).all():
                _lines(p, [QPointF(*x) for x in ring.tolist()], color)
        elif kind == "plane" and len(X) >= 4:
            _lines(p, [*q[:-1], q[0]], color, Qt.PenStyle.DashLine)
            middle = X[:-1].mean(0)
            n = np.linalg.svd(X[:-1] - middle)[2][2]
            foot = project((X[-1] - ((X[-1] - middle) @ n) * n)[None])
            if np.isfinite(foot).all():
                _lines(p, [QPointF(*foot[0]), q[-1]], color)
        elif kind == "height":
            foot = project(X[-1:] * [1.0, 1.0, 0.0])
            if np.isfinite(foot).all():
                _lines(p, [QPointF(*foot[0]), q[-1]], color)
        _dots(p, q, color)
        if text:
            label(p, at + QPointF(8, -6), text, color)


def paint_lengths(p, lengths, project):
    """Draw known lengths (see `MeasureWork.lengths`): those that set the scale solid, others dashed, with their value.

    project : as in `paint_measures`
    """
    taken = []
    for _, _, value, role, X in lengths:
        uv = project(X)
        if not np.isfinite(uv).all():
            continue
        q = [QPointF(*x) for x in uv.tolist()]
        color = t.QUIET if role == OFF else t.CATEGORIES[1]
        _lines(p, q, color, Qt.PenStyle.SolidLine if role == SCALE else Qt.PenStyle.DashLine)
        _dots(p, q, color)
        # where another one has its value already, a bit along the line; nowhere rather than over it
        for share in (0.5, 0.25, 0.75, 0.1, 0.9):
            at, text = (1 - share) * q[0] + share * q[1] + QPointF(8, -6), f"{value:g} mm"
            box = plate(p, at, text)
            if not any(box.intersects(x) for x in taken):
                taken.append(box)
                label(p, at, text, color)
                break


def paint_marks(p, marks, lines, faces, project):
    """Draw marked points with their names, and lines and faces with their sizes.

    marks : list of (name, (3,), chosen); lines, faces : lists of (text, (n, 3))
    """
    for shapes, closed in ((lines, False), (faces, True)):
        for text, X in shapes:
            uv = project(X)
            if not np.isfinite(uv).all():
                continue
            q = [QPointF(*x) for x in uv.tolist()]
            if closed:
                p.setBrush(t.color(t.CATEGORIES[6], 40))
                p.setPen(QPen(t.color(t.CATEGORIES[6]), 1.4))
                p.drawPolygon(QPolygonF(q))
                p.setBrush(Qt.BrushStyle.NoBrush)
            else:
                _lines(p, q, t.CATEGORIES[6])
            middle = sum(q, QPointF()) / len(q)
            label(p, middle, text, t.CATEGORIES[6])
    for name, X, chosen in marks:
        uv = project(X[None])
        if np.isfinite(uv).all():
            at = QPointF(*uv[0].tolist())
            _dots(p, [at], t.ACCENT if chosen else t.CATEGORIES[6], 3.6)
            label(p, at + QPointF(7, -5), name, t.ACCENT if chosen else t.CATEGORIES[6])


def _frustum(p, E, lens, length, project, pen):
    """Draw a photo's place; returns where it is in the widget, None behind the eye."""
    x, y = lens.width / 2 / lens.f, lens.height / 2 / lens.f
    corners = length * np.array([[0, 0, 0], [-x, -y, 1], [x, -y, 1], [x, y, 1], [-x, y, 1]])
    uv = project((corners - E[:3, 3]) @ E[:3, :3])
    if not np.isfinite(uv).all():
        return None
    q = [QPointF(*c) for c in uv.tolist()]
    p.setPen(pen)
    p.drawPolygon(QPolygonF(q[1:]))
    for c in q[1:]:
        p.drawLine(q[0], c)
    return q[0]


def paint_shell(p, points, faces, lacking, eye, width, height):
    """Draw a rough surface so that what lies behind shows through, triangles (t,) that lack something in amber."""
    uvz = eye.project(points, width, height)
    a, b, c = (uvz[faces[:, k]] for k in range(3))
    area = (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])
    front = (area < 0) & (np.minimum(np.minimum(a[:, 2], b[:, 2]), c[:, 2]) > 0)
    corners = np.stack([a, b, c], 1)[front, :, :2]
    ways = t.color(t.CATEGORIES[1], 60), t.color(t.CATEGORIES[0], 130)
    p.setPen(Qt.PenStyle.NoPen)
    for some, color in zip((~lacking[front], lacking[front]), ways, strict=True):
        path = QPainterPath()
        path.setFillRule(Qt.FillRule.WindingFill)
        for triangle in corners[some].tolist():
            path.addPolygon(QPolygonF([QPointF(*q) for q in triangle]))
        p.setBrush(color)
        p.drawPath(path)
    p.setBrush(Qt.BrushStyle.NoBrush)


def paint_first(p, places, length, project):
    """Draw photos that have just come, where a first look has them: frusta of dashes, with names.

    places : list of `work.watching.placing.FirstPlace`; length : of a frustum
    """
    p.setBrush(Qt.BrushStyle.NoBrush)
    for place in places:
        pen = QPen(t.color(t.ACCENT), 1.6, Qt.PenStyle.DashLine)
        at = _frustum(p, place.pose, place.lens, length, project, pen)
        if at is not None:
            beside = at + QPointF(8, -6)
            cut = plate(p, beside, place.name).right() - p.viewport().width()
            label(p, beside - QPointF(max(0.0, cut + 4), 0), place.name, t.ACCENT)


def paint_places(p, places, chosen, length, lens, project):
    """Draw the photos that would mend places with too little, as frusta with a line to the place.

    places : list of `core.cloud.coverage.CoverageGap`; chosen : index or None; length : of a frustum; lens : its Lens
    """
    for k, place in enumerate(places):
        color = t.color(t.ACCENT if k == chosen else t.CATEGORIES[3], 255 if k == chosen else 190)
        for E in place.poses:
            _frustum(p, E, lens, length, project, QPen(color, 1.4))
        line = project(np.array([-place.poses[1][:3, :3].T @ place.poses[1][:3, 3], place.center]))
        if np.isfinite(line).all():
            p.setPen(QPen(color, 1, Qt.PenStyle.DashLine))
            p.drawLine(QPointF(*line[0]), QPointF(*line[1]))
            label(p, QPointF(*line[0]) + QPointF(8, -6), f"{k + 1}", t.ACCENT if k == chosen else t.CATEGORIES[3])


def paint_legend(p, low, high, unit, name, signed, width, height):
    """A ramp with its ends and what it stands for, at the lower right of the scene."""
    long, thick = min(220, width - 140), 10
    left, top = width - long - 16, height - 40
    ramp = SIGNED if signed else RAMP
    for k in range(long):
        r, g, b = ramp[int(255 * k / max(long - 1, 1))].tolist()
        p.fillRect(QRectF(left + k, top, 1.2, thick), QColor(r, g, b))
    p.setFont(t.font(t.SMALL))
    p.setPen(t.color(t.QUIET))
    digits = max(0, min(4, int(np.ceil(2 - np.log10(max(high - low, 1e-9))))))
    if low == round(low) and high == round(high):
        digits = 0  # of what is counted
    ends = QRectF(left - 40, top + thick + 2, long + 80, 16)
    low_text, high_text = local(f"{low:.{digits}f}"), local(f"{high:.{digits}f} {unit}".strip())
    p.drawText(ends.adjusted(40, 0, 0, 0), Qt.AlignmentFlag.AlignLeft, low_text)
    p.drawText(ends.adjusted(0, 0, -40, 0), Qt.AlignmentFlag.AlignRight, high_text)
    p.setPen(t.color(t.TEXT))
    p.drawText(QRectF(left, top - 18, long, 16), Qt.AlignmentFlag.AlignLeft, name)
