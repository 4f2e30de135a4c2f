"""Marking points in the photo view: what is drawn, and what the pointer and the keys do."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainterPath, QPen, QPolygonF, QTransform

from ...core.geometry.sightings import ellipse
from .. import over as t
from ..annotations import label
from ..session.marking import SNAP_SCREEN_PX, gray_window

TAKE_PX = 10  #: a mark so near on the screen is taken
GLASS_PX, GLASS_TIMES = 150, 4  #: the magnifier
DRAWN_PX = 40  #: a residual is drawn so many times enlarged, in screen pixels for each photo pixel, at most
RESIDUAL_TIMES = 20


class MarkTools:
    """Used by the photo view; it asks the session's MarkWork for everything."""

    def __init__(self, view):
        self.view, self.work = view, view.session.marking
        self.pointer = None
        self.dragged = None  #: (point, (x, y)) while a mark is dragged
        self._gray = None
        self.work.changed.connect(view.update)

    @property
    def on(self):
        """Whether the pointer marks."""
        return self.work.on and self.view.image is not None

    def gray(self):
        """The shown photo as gray, made once."""
        picture = self.view.picture
        if self._gray is None or self._gray[0] is not picture:
            self._gray = picture, gray_window(picture)
        return self._gray[1]

    def _reach(self):
        return float(np.clip(SNAP_SCREEN_PX / self.view.placement.scale, 2.0, 16.0))

    # ------------------------------------------------------------------ the pointer
    def mark_at(self, pos):
        """The point whose mark is under a widget position, or None."""
        view, best = self.view.placement.to_view(), (TAKE_PX, None)
        for p, s in self.work.in_photo(self.view.shown):
            q = view.map(QPointF(s.x + 0.5, s.y + 0.5))
            d = np.hypot(q.x() - pos.x(), q.y() - pos.y())
            if d < best[0]:
                best = d, p
        return best[1]

    def press(self, pos, modifiers):
        """The button went down: take the mark there, or mark the active point."""
        found = self.mark_at(pos)
        if found is not None:
            self.work.choose(found.id)
            if self.work.chaining:
                self._join(found.id)
                return
            self.dragged = found.id, None
            return
        at = self.view.pixel_at(pos)
        gray = None if modifiers & Qt.KeyboardModifier.AltModifier else self.gray()
        if self.work.chaining:
            self.work.new()
        self.work.place(*at, gray, self._reach())
        if self.work.chaining:
            self._join(self.work.active_id)

    def _join(self, point_id):
        if not self.work.chain or self.work.chain[-1] != point_id:
            self.work.chain.append(point_id)
            self.work.changed.emit()

    def move(self, pos, down):
        """The pointer moved."""
        self.pointer = pos
        if down and self.dragged:
            at = self.view.pixel_at(pos)
            self.dragged = self.dragged[0], at
            self.work.try_at(*at)
        self.view.update()

    def release(self, modifiers):
        """The button went up."""
        if self.dragged and self.dragged[1] is not None:
            at, self.dragged = self.dragged[1], None
            gray = None if modifiers & Qt.KeyboardModifier.AltModifier else self.gray()
            self.work.place(*at, gray, self._reach())
            self.work.dragging.emit(None)
        self.dragged = None

    def drop(self):
        """Forget a mark that is being dragged: its photo is shown no more."""
        if self.dragged:
            self.dragged = None
            self.work.dragging.emit(None)

    def leave(self):
        """The pointer left the view."""
        self.pointer = None
        self.view.update()

    def key(self, key):
        """A key while marking; whether it was meant for this."""
        w = self.work
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            w.confirm(self.gray(), self._reach())
        elif key == Qt.Key.Key_N:
            w.step(1)
        elif key == Qt.Key.Key_P:
            w.step(-1)
        elif key == Qt.Key.Key_Delete:
            w.remove_sighting()
        elif key == Qt.Key.Key_Insert:
            w.new()
        elif key == Qt.Key.Key_Escape:
            w.chaining = False
            w.chain = []
            w.set_on(False)
        else:
            return False
        return True

    # ------------------------------------------------------------------ drawing
    def paint(self, p, view):
        """Marks, the line or spot to look at, and the magnifier."""
        work = self.work
        active = work.active_id
        if self.on:
            self._paint_guide(p, view)
        residual = {s.photo_id: s.residual for s in work.seen()} if self.on and work.active else {}
        p.setFont(t.font(t.SMALL))
        for point, s in work.in_photo(self.view.shown):
            chosen = point.id == active and work.on
            at = self.dragged[1] if chosen and self.dragged and self.dragged[1] else (s.x, s.y)
            q = view.map(QPointF(at[0] + 0.5, at[1] + 0.5))
            color = t.ACCENT if chosen else t.CATEGORIES[6]
            if not (point.used and s.used):
                color = t.QUIET
            self._cross(p, q, color, 9 if chosen else 7)
            label(p, q + QPointF(9, -7), point.name, color)
            r = residual.get(s.photo_id) if chosen and self.dragged is None else None
            if r is not None:
                a = view.map(QPointF(s.x + 0.5 - RESIDUAL_TIMES * r[0], s.y + 0.5 - RESIDUAL_TIMES * r[1]))
                p.setPen(QPen(t.color(t.ACCENT), 1.6))
                p.drawLine(q, a)
        self._paint_chain(p, view)
        if self.on and self.pointer is not None and self.view.underMouse():
            self._paint_glass(p)

    @staticmethod
    def _cross(p, q, color, size):
        for c, w in ((t.GROUND, 3.6), (color, 1.5)):
            p.setPen(QPen(t.color(c), w))
            for d in (QPointF(size, 0), QPointF(0, size)):
                p.drawLine(q - d, q - 0.3 * d)
                p.drawLine(q + 0.3 * d, q + d)

    def _paint_guide(self, p, view):
        g, work = self.work.guide(), self.work
        marked = any(s.photo_id == self.view.shown for s in (work.active.sightings if work.active else ()))
        if g.line is not None:
            p.setPen(QPen(t.color(t.GROUND), 3.2))
            line = QPolygonF([view.map(QPointF(x + 0.5, y + 0.5)) for x, y in g.line.tolist()])
            p.drawPolyline(line)
            p.setPen(QPen(t.color(t.CATEGORIES[1]), 1.4, Qt.PenStyle.DashLine))
            p.drawPolyline(line)
        elif g.spot is not None and not marked:
            (a, b), angle = ellipse(g.covariance)
            q = view.map(QPointF(g.spot[0] + 0.5, g.spot[1] + 0.5))
            turn = np.arctan2(*(np.array([view.m12(), view.m11()])))
            p.save()
            p.setTransform(QTransform.fromTranslate(q.x(), q.y()), True)
            p.rotate(float(np.degrees(angle + turn)))
            p.setBrush(Qt.BrushStyle.NoBrush)
            a, b = max(a * self.view.placement.scale, 7.0), max(b * self.view.placement.scale, 7.0)
            for c, w, style in ((t.GROUND, 3.4, Qt.PenStyle.SolidLine), (t.CATEGORIES[1], 1.5, Qt.PenStyle.DashLine)):
                p.setPen(QPen(t.color(c), w, style))
                p.drawEllipse(QPointF(0, 0), a, b)
            p.restore()
            p.setPen(QPen(t.color(t.CATEGORIES[1]), 1.4))
            p.drawPoint(q)
            p.setFont(t.font(t.SMALL))
            label(p, q + QPointF(a + 6, 4), f"{work.active.name}? Enter takes it", t.CATEGORIES[1])

    def _paint_chain(self, p, view):
        """Lines and faces between marks of this photo, and what is being joined."""
        at = {q.id: view.map(QPointF(s.x + 0.5, s.y + 0.5)) for q, s in self.work.in_photo(self.view.shown)}
        shapes = [(s.kind, s.points) for s in self.view.session.shapes()]
        if self.work.chain:
            shapes.append(("chain", self.work.chain))
        for kind, points in shapes:
            known = [at[i] for i in points if i in at]
            if len(known) < 2:
                continue
            color = t.ACCENT if kind == "chain" else t.CATEGORIES[6]
            p.setPen(QPen(t.color(color, 220), 1.4, Qt.PenStyle.DashLine if kind == "chain" else Qt.PenStyle.SolidLine))
            if kind == "face" and len(known) == len(points):
                p.setBrush(t.color(color, 36))
                p.drawPolygon(QPolygonF(known))
                p.setBrush(Qt.BrushStyle.NoBrush)
            else:
                p.drawPolyline(QPolygonF(known))

    def _paint_glass(self, p):
        """The surroundings of the pointer, enlarged, in the corner that is farther from it."""
        at = self.view.pixel_at(self.pointer)
        if at is None:
            return
        w = self.view
        left = self.pointer.x() > w.width() / 2
        place = QRectF(12 if left else w.width() - GLASS_PX - 12, w.height() - GLASS_PX - 36, GLASS_PX, GLASS_PX)
        zoom = max(GLASS_TIMES, GLASS_TIMES * w.placement.scale)
        p.save()
        clip = QPainterPath()
        clip.addRoundedRect(place, 4, 4)
        p.setClipPath(clip)
        p.fillRect(place, t.color(t.NEUTRAL))
        view = w.placement.upright() * QTransform.fromScale(zoom, zoom)
        middle = view.map(QPointF(at[0] + 0.5, at[1] + 0.5))
        shift = place.center() - middle
        p.setTransform(view * QTransform.fromTranslate(shift.x(), shift.y()))
        p.setRenderHint(p.RenderHint.SmoothPixmapTransform, False)
        p.drawImage(QRectF(0, 0, w.image.width(), w.image.height()), w.image)
        p.resetTransform()
        self._cross(p, place.center(), t.ACCENT, 14)
        p.restore()
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(t.color(t.LINE), 1.4))
        p.drawRoundedRect(place, 4, 4)
        p.setFont(t.font(t.SMALL))
        label(p, place.bottomLeft() + QPointF(6, -6), f"{at[0]:.1f}, {at[1]:.1f}", t.TEXT)
