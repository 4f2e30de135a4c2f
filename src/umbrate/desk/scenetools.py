"""What the pointer does in the scene besides looking round: choosing tie points, and the keep box's handles."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPen, QPolygonF

from ..core.cloud.keepbox import KeepBox
from ..core.geometry.rotation import rotation_matrix
from ..core.raster.pick import inside_polygon, within
from . import tokens as t
from .pointwork import ADD, REPLACE, TAKE

LOOK, LASSO, RECTANGLE, BRUSH, BOX = "look", "lasso", "rectangle", "brush", "box"
REACH_PX = 9  #: a handle is taken within this distance
TURN_PER_PX = np.radians(0.5)


def how_of(modifiers):
    """What a choice does to the one before: Shift adds, Ctrl takes away."""
    if modifiers & Qt.KeyboardModifier.ControlModifier:
        return TAKE
    return ADD if modifiers & Qt.KeyboardModifier.ShiftModifier else REPLACE


class PointPicker:
    """Lasso, rectangle and brush over the drawn points."""

    def __init__(self):
        self.path, self.how, self.kind = [], REPLACE, LASSO
        self.brush_px = 18

    def begin(self, kind, pos, modifiers):
        """The button went down."""
        self.kind, self.path, self.how = kind, [(pos.x(), pos.y())], how_of(modifiers)

    def follow(self, pos):
        """The pointer moved with the button down."""
        if self.path:
            self.path.append((pos.x(), pos.y()))

    def end(self, points, eye, width, height):
        """The points (n,) bool that were drawn round or over; drawing is over."""
        path, self.path = np.array(self.path, float).reshape(-1, 2), []
        uvz = eye.project(points, width, height)
        if self.kind == BRUSH:
            hit = within(uvz[:, :2], path, self.brush_px)
        elif self.kind == RECTANGLE:
            lo, hi = path.min(0), path.max(0)
            hit = ((uvz[:, :2] >= lo) & (uvz[:, :2] <= hi)).all(1)
        else:
            hit = inside_polygon(uvz[:, :2], path)
        return hit & (uvz[:, 2] > 0)

    def paint(self, p, pointer):
        """What is being drawn, and the brush under the pointer."""
        p.setPen(QPen(t.color(t.ACCENT), 1.4, Qt.PenStyle.DashLine if self.how == TAKE else Qt.PenStyle.SolidLine))
        p.setBrush(t.color(t.ACCENT, 30))
        points = [QPointF(*x) for x in self.path]
        if self.kind == BRUSH:
            for q in [*points, *([pointer] if pointer else [])]:
                p.drawEllipse(q, self.brush_px, self.brush_px)
        elif self.kind == RECTANGLE and points:
            p.drawRect(QRectF(points[0], points[-1]).normalized())
        elif points:
            p.drawPolygon(QPolygonF(points))


class BoxHandles:
    """The keep box by hand: a handle on each side sizes it, the middle one moves it, the outer one turns it."""

    def __init__(self):
        self.box = None  #: as it is being dragged
        self._start = self._grip = None

    @staticmethod
    def places(box):
        """Where the handles are: (7 + 1, 3), six sides, the middle, and the one that turns."""
        sides = [box.center + s * box.axes[:, k] * box.half[k] for k in range(3) for s in (-1, 1)]
        arm = box.center + box.axes[:, 0] * box.half[0] * 1.25
        return np.array([*sides, box.center, arm])

    def at(self, box, pos, eye, width, height):
        """The handle under a position, or None."""
        uvz = eye.project(self.places(box), width, height)
        d = np.hypot(uvz[:, 0] - pos.x(), uvz[:, 1] - pos.y())
        d[uvz[:, 2] <= 0] = np.inf
        k = int(np.argmin(d))
        return k if d[k] <= REACH_PX else None

    def begin(self, box, grip, pos):
        """A handle is taken."""
        self.box, self._start, self._grip = box, (box, pos), grip

    def follow(self, pos, eye, width, height):
        """The pointer moved with the handle."""
        box, start = self._start
        d = np.array([pos.x() - start.x(), pos.y() - start.y()])
        if self._grip == 7:
            turn = rotation_matrix(box.axes[:, 2] * d[0] * TURN_PER_PX)
            self.box = KeepBox(box.center, turn @ box.axes, box.half)
            return
        depth = float(eye.pose[2, :3] @ box.center + eye.pose[2, 3])
        if self._grip == 6:
            shift = eye.pose[:3, :3].T @ np.array([d[0], d[1], 0.0]) * depth / eye.f
            self.box = KeepBox(box.center + shift, box.axes, box.half)
            return
        k, sign = divmod(self._grip, 2)
        sign = 2 * sign - 1
        place = self.places(box)[self._grip]
        along = sign * box.axes[:, k]
        step = 0.01 * float(np.linalg.norm(box.half))
        uv = eye.project(np.array([place, place + step * along]), width, height)[:, :2]
        per = (uv[1] - uv[0]) / step  # pixels for each unit along the side's normal
        move = float(d @ per) / max(float(per @ per), 1e-9)
        half = box.half.copy()
        half[k] = max(half[k] + move / 2, 0.01 * float(box.half.max()))
        self.box = KeepBox(box.center + along * (half[k] - box.half[k]), box.axes, half)

    def end(self):
        """The handle is let go; the box, or None where it was not moved."""
        box, start = self.box, self._start
        self.box = self._start = self._grip = None
        return box if start is not None and box is not start[0] else None

    @property
    def dragging(self):
        """Whether a handle is held."""
        return self._grip is not None

    def paint(self, p, box, eye, width, height):
        """The handles of the box that is shown."""
        places = self.places(box)
        uvz = eye.project(places, width, height)
        p.setPen(QPen(t.color(t.CATEGORIES[1]), 1.4))
        if uvz[7, 2] > 0 and uvz[1, 2] > 0:
            p.drawLine(QPointF(*uvz[1, :2]), QPointF(*uvz[7, :2]))
        for k, (u, v, z) in enumerate(uvz):
            if z <= 0:
                continue
            held = k == self._grip
            p.setBrush(t.color(t.ACCENT if held else t.CATEGORIES[1], 255 if held else 190))
            p.setPen(QPen(t.color(t.GROUND), 1))
            if k < 6:
                p.drawRect(QRectF(u - 5, v - 5, 10, 10))
            elif k == 6:
                p.drawEllipse(QPointF(u, v), 6, 6)
            else:
                p.drawPolygon(QPolygonF([QPointF(u, v - 7), QPointF(u + 7, v), QPointF(u, v + 7), QPointF(u - 7, v)]))
