"""What is drawn over a photo: targets, sightings with their residuals, a calibration's, and the line below."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QImage, QPen, qRgba

from ...core.imaging.facts import exposure_text
from ...core.targets.detect import CODED, PLAIN
from .. import over as t

MASK_LOOKS = ("as tint", "object alone", "silhouette")
FAR_PX = 1.0  #: residuals longer than this stand out
MOST_DRAWN = 8000  #: of features or sightings


def tinted(kinds, look):
    """A mask's kinds of place (h, w) uint8 as an overlay in one of MASK_LOOKS by its number.

    One byte a pixel and a table of three colors, so that large photos stay quick. What turns with the object is blue.
    Returns the QImage and its memory.
    """
    outside = qRgba(0x1E, 0x21, 0x24, 175) if look == 0 else qRgba(0x2B, 0x2B, 0x2B, 255)
    inside = qRgba(0xE8, 0xE8, 0xE8, 255) if look == 2 else qRgba(0, 0, 0, 0)
    along = (qRgba(0x2E, 0x6E, 0x9A, 130), outside, qRgba(0x46, 0x5A, 0x6A, 255))[look]
    h, w = kinds.shape
    memory = kinds
    if w % 4 or not kinds.flags.c_contiguous:  # rows of a QImage begin at whole words
        memory = np.zeros((h, (w + 3) // 4 * 4), np.uint8)
        memory[:, :w] = kinds
    image = QImage(memory.data, w, h, memory.shape[1], QImage.Format.Format_Indexed8)
    image.setColorTable([outside, along, inside])
    return image, memory


def tinted_region(mask):
    """A part of a picture, (h, w) bool, as an overlay in the accent color: the QImage and its memory."""
    h, w = mask.shape
    memory = np.zeros((h, (w + 3) // 4 * 4), np.uint8)
    memory[:, :w] = mask
    image = QImage(memory.data, w, h, memory.shape[1], QImage.Format.Format_Indexed8)
    accent = t.color(t.ACCENT)
    image.setColorTable([qRgba(0, 0, 0, 0), qRgba(accent.red(), accent.green(), accent.blue(), 140)])
    return image, memory


def paint_features(p, view, features):
    """Key points as dots."""
    p.setPen(QPen(t.color(t.CATEGORIES[1], 200), 2.5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
    p.drawPoints([view.map(QPointF(x + 0.5, y + 0.5)) for x, y in features[:MOST_DRAWN].tolist()])


def paint_sightings(p, view, sightings, larger):
    """Sightings (n, 4) as dots with their residuals as lines, so many times as long; those that are far stand out."""
    for x, y, rx, ry in sightings[:MOST_DRAWN].tolist():
        far = rx * rx + ry * ry > FAR_PX**2
        p.setPen(QPen(t.color(t.ACCENT if far else t.CATEGORIES[1], 255 if far else 190), 1.6 if far else 1.0))
        a = view.map(QPointF(x + 0.5, y + 0.5))
        p.drawPoint(a)
        p.drawLine(a, view.map(QPointF(x + 0.5 - larger * rx, y + 0.5 - larger * ry)))


def paint_targets(p, view, targets, faint):
    """Outlines of dots, with the numbers of coded targets beside them where there is room."""
    a = np.linspace(0, 2 * np.pi, 33)
    circle = np.stack([np.cos(a), np.sin(a)])
    p.setFont(t.font(t.SMALL))
    p.setBrush(Qt.BrushStyle.NoBrush)
    for dot, kind, number in zip(targets["dots"], targets["kind"], targets["number"], strict=True):
        if kind == PLAIN:
            continue
        A = np.linalg.inv([[dot[2], dot[3]], [dot[3], dot[4]]])
        ring = (1.25 * A @ circle).T + dot[:2] + 0.5
        color = t.CATEGORIES[1] if kind == CODED else t.STATE_COLORS["failed"]
        style = Qt.PenStyle.SolidLine if kind == CODED else Qt.PenStyle.DashLine
        p.setPen(QPen(t.color(color, 110 if faint else 255), 1.6, style))
        p.drawPolyline([view.map(QPointF(x, y)) for x, y in ring.tolist()])
        middle, edge = view.map(QPointF(dot[0] + 0.5, dot[1] + 0.5)), view.map(QPointF(*ring[0]))
        across = np.hypot(edge.x() - middle.x(), edge.y() - middle.y())
        if across > 12:  # else the numbers would cover their neighbors
            p.drawText(middle + QPointF(across + 2, -across - 1), f"{number}" if kind == CODED else f"{number}?")


def paint_calibrated(p, view, c):
    """Residuals of a calibration, enlarged, and crosses on sightings that are left out by hand."""
    for (x, y), (u, v), used, out in zip(
        c["xy"].tolist(), c["residual"].tolist(), c["used"].tolist(), c["out"].tolist(), strict=True
    ):
        a = view.map(QPointF(x + 0.5, y + 0.5))
        if out:
            p.setPen(QPen(t.color(t.ACCENT), 2))
            p.drawLine(a + QPointF(-6, -6), a + QPointF(6, 6))
            p.drawLine(a + QPointF(-6, 6), a + QPointF(6, -6))
        elif c["larger"] and np.isfinite(u):
            b = view.map(QPointF(x + 0.5 + c["larger"] * u, y + 0.5 + c["larger"] * v))
            for color, width in ((t.GROUND, 3.5), (t.CATEGORIES[3] if used else t.ACCENT, 1.6)):
                p.setPen(QPen(t.color(color), width))
                p.drawLine(a, b)


def paint_spot(p, view, x, y, hidden):
    """A ring round the point that the scene points at, dashed where something nearer hides it in this photo."""
    a = view.map(QPointF(x + 0.5, y + 0.5))
    p.setPen(QPen(t.color(t.GROUND), 4))
    p.drawEllipse(a, 8, 8)
    p.setPen(QPen(t.color(t.ACCENT), 2, Qt.PenStyle.DotLine if hidden else Qt.PenStyle.SolidLine))
    p.drawEllipse(a, 8, 8)


def caption(session, photo, overlays, depth_text):
    """The line below the photo: what it is, or what is looked at on it."""
    c = overlays.calibrated
    if c and c["larger"]:
        rms = np.sqrt((c["residual"][c["used"]] ** 2).mean()) if c["used"].any() else np.nan
        return f"{photo.name}   {c['used'].sum()} sightings, {rms:.3f} px, drawn {c['larger']} times as long"
    if overlays.depth is not None:
        return f"{photo.name}   {depth_text or 'no depth under the pointer'}"
    poses = session.result("poses")
    row = poses.figures.per_photo.get(photo.id) if poses else None
    placed = "not placed" if row and not row.sightings else ""
    if row and row.sightings:
        if len(overlays.sightings):  # then that is what is looked at
            told = f"{row.sightings} sightings, {row.rms_px:.2f} px, lines {overlays.larger} times"
            return f"{photo.name}   {told}, amber over {FAR_PX:g} px"
        placed = f"{row.sightings} sightings, residual {row.rms_px:.2f} px"
    focal = f"{photo.focal_mm:g} mm" if photo.focal_mm else ""
    exposure = exposure_text(photo.exposure_s, photo.f_number, photo.iso)
    tried = "a mask on trial" if session.masks.previewed(photo.id) else ""
    facts = (photo.name, tried, f"{photo.width} x {photo.height}", focal, exposure, placed)
    return "   ".join(f for f in facts if f)


def paint_caption(p, text, width, height):
    """The line below, on a ground of its own."""
    p.setFont(t.font(t.SMALL))
    place = QRectF(8, height - 26, min(width - 16, p.fontMetrics().horizontalAdvance(text) + 12), 20)
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(t.color(t.NEUTRAL, 200))
    p.drawRoundedRect(place, 3, 3)
    p.setPen(t.color(t.QUIET))
    inner = place.adjusted(6, 0, -6, 0)
    text = p.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(inner.width()) + 1)
    p.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, text)
