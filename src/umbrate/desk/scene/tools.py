"""What the pointer does in the scene besides looking round: choosing tie points, and the keep box's handles."""

from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPen, QPolygonF

from ...core.cloud.keepbox import KeepBox
from ...core.geometry.rotation import rotation_matrix
from ...core.raster.pick import inside_polygon, within
from .. import over as t
from ..session.tiepoints import ADD, REPLACE, TAKE

LOOK, LASSO, RECTANGLE, BRUSH, PIECE, BOX, TURN = "look", "lasso", "rectangle", "brush", "piece", "box", "turn"
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

    def outline(self):
        """The corners (m, 2) of what was drawn round; drawing is over."""
        path, self.path = np.array(self.path, float).reshape(-1, 2), []
        if self.kind == RECTANGLE and len(path):
            (x0, y0), (x1, y1) = path[0], path[-1]
            return np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])
        return path

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
        """Where the handles are: (7 + 3, 3), six sides, the middle, the one that turns, and two that tilt."""
        sides = [box.center + s * box.axes[:, k] * box.half[k] for k in range(3) for s in (-1, 1)]
        arm = box.center + box.axes[:, 0] * box.half[0] * 1.25
        tilts = [
            box.center + box.axes[:, 2] * box.half[2] * 1.25 + s * box.axes[:, k] * box.half[k] * 0.35
            for k, s in ((0, 1), (1, 1))
        ]
        return np.array([*sides, box.center, arm, *tilts])

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
        if self._grip in (8, 9):
            # the one beside the first axis tilts that way: about the second, and the other way round
            axis = box.axes[:, 1] if self._grip == 8 else -box.axes[:, 0]
            turn = rotation_matrix(axis * (d[0] + d[1]) * TURN_PER_PX)
            self.box = KeepBox(box.center, turn @ box.axes, box.half)
            return
        if self._grip == 7:
            turn = rotation_matrix(box.axes[:, 2] * d[0] * TURN_PER_PX)
            self.box = KeepBox(box.center, turn @ box.axes, box.half)
            return
        depth = eye.flat or float(eye.pose[2, :3] @ box.center + eye.pose[2, 3])
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
            elif k == 7:
                p.drawPolygon(QPolygonF([QPointF(u, v - 7), QPointF(u + 7, v), QPointF(u, v + 7), QPointF(u - 7, v)]))
            else:
                p.drawPolygon(QPolygonF([QPointF(u, v - 6), QPointF(u + 6, v + 5), QPointF(u - 6, v + 5)]))


class TurnRings:
    """The object turned by hand: three rings round it, each turns it about its axis."""

    STEPS = 72

    def __init__(self):
        self.middle, self.radius = np.zeros(3), 1.0
        self.turn = np.eye(3)  #: as it is being dragged
        self._grip = self._start = None

    def stand(self, middle, radius):
        """Where the rings are."""
        self.middle, self.radius = np.asarray(middle, float), float(radius)

    @property
    def motion(self):
        """The turn about the middle as a motion (4, 4) of the world."""
        M = np.eye(4)
        M[:3, :3] = self.turn
        M[:3, 3] = self.middle - self.turn @ self.middle
        return M

    def seen_from(self, eye):
        """The eye that sees the world as it is turned."""
        M = self.motion
        return replace(eye, pose=eye.pose @ M, pivot=M[:3, :3].T @ (eye.pivot - M[:3, 3]))

    def ring(self, k):
        """Places (n, 3) along a ring."""
        a = 2 * np.pi * np.arange(self.STEPS + 1)[:, None] / self.STEPS
        u, v = np.eye(3)[(k + 1) % 3], np.eye(3)[(k + 2) % 3]
        return self.middle + self.radius * (np.cos(a) * u + np.sin(a) * v)

    def at(self, pos, eye, width, height):
        """The ring under a position, or None."""
        best = (REACH_PX, None)
        for k in range(3):
            uvz = eye.project(self.ring(k), width, height)
            d = np.hypot(uvz[:, 0] - pos.x(), uvz[:, 1] - pos.y())
            d[uvz[:, 2] <= 0] = np.inf
            if d.min() < best[0]:
                best = float(d.min()), k
        return best[1]

    def _angle(self, pos, eye, width, height):
        """Where on the held ring's plane the pointer is, as an angle; by the picture where it is seen edge on."""
        k = self._grip
        axis = np.eye(3)[k]
        away = eye.ray(pos.x(), pos.y(), width, height)[1] if eye.parallel else eye.center - self.middle
        steep = abs(axis @ away) / np.linalg.norm(away)
        uvz = eye.project(self.middle[None], width, height)[0]
        if steep < 0.25:
            along = eye.project(np.array([self.middle, self.middle + 0.01 * self.radius * axis]), width, height)[:, :2]
            d = along[1] - along[0]
            across = np.array([-d[1], d[0]]) / max(float(np.hypot(*d)), 1e-9)
            return float((np.array([pos.x(), pos.y()]) - uvz[:2]) @ across) * TURN_PER_PX
        origin, ray = eye.ray(pos.x(), pos.y(), width, height)
        step = ((self.middle - origin) @ axis) / (ray @ axis)
        X = origin + step * ray - self.middle
        return float(np.arctan2(X[(k + 2) % 3], X[(k + 1) % 3]))

    def begin(self, grip, pos, eye, width, height):
        """A ring is taken."""
        self._grip = grip
        self._start = self._angle(pos, eye, width, height)

    def follow(self, pos, eye, width, height):
        """The pointer moved with the ring."""
        turn = self._angle(pos, eye, width, height) - self._start
        self.turn = rotation_matrix(np.eye(3)[self._grip] * turn)

    def end(self):
        """The ring is let go; the turn (3, 3), or None where it is too small to mean anything."""
        turn, self.turn, self._grip = self.turn, np.eye(3), None
        return turn if np.trace(turn) < 3 - 1e-5 else None

    @property
    def dragging(self):
        """Whether a ring is held."""
        return self._grip is not None

    def paint(self, p, eye, width, height):
        """The rings, the held one bright, and the axis that will be up."""
        for k, color in enumerate((t.CATEGORIES[5], t.CATEGORIES[2], t.CATEGORIES[1])):
            uvz = eye.project(self.ring(k), width, height)
            if (uvz[:, 2] <= 0).any():
                continue
            held = k == self._grip
            p.setPen(QPen(t.color(t.ACCENT if held else color, 255 if held else 190), 3 if held else 2))
            p.drawPolyline(QPolygonF([QPointF(*x) for x in uvz[:, :2].tolist()]))
        up = eye.project(np.array([self.middle, self.middle + [0, 0, 1.3 * self.radius]]), width, height)
        if (up[:, 2] > 0).all():
            p.setPen(QPen(t.color(t.CATEGORIES[1]), 1.6, Qt.PenStyle.DashLine))
            p.drawLine(QPointF(*up[0, :2]), QPointF(*up[1, :2]))
            p.setFont(t.font(t.SMALL))
            p.drawText(QPointF(*up[1, :2]) + QPointF(6, 0), "up")
