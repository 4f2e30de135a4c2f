"""Drawing masks by hand in the photo view: the tools, what the hand does with them, and what comes of it."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, QTimer
from PyQt6.QtGui import QPen, QPolygonF
from PyQt6.QtWidgets import QButtonGroup, QMenu, QSpinBox, QToolButton

from ...core.masking import strokes
from ...core.masking.clean import tidy
from ...sitting.masks import THING, TURNS
from .. import over as t
from ..flow import Flow, FlowBar
from .paint import tinted_region

MOVE, RECTANGLE, LASSO, POLYGON, OUTLINE, BRUSH, EDGE_BRUSH, COLOR = (
    "move", "rectangle", "lasso", "polygon", "outline", "brush", "edge brush", "color",
)  # fmt: skip
TOOLS = (
    (MOVE, "cursor-move", "Move and zoom the photo", "V"),
    (RECTANGLE, "rectangle-outline", "Rectangle: drag from corner to corner", "R"),
    (LASSO, "lasso", "Lasso: draw round a place", "L"),
    (POLYGON, "vector-polygon", "Polygon: click corners, double click closes, Backspace takes the last back", "P"),
    (
        OUTLINE,
        "vector-curve",
        "Outline: click along an edge, double click closes, Backspace takes the last back",
        "O",
    ),
    (BRUSH, "brush", "Brush: paint", "B"),
    (EDGE_BRUSH, "auto-fix", "Edge brush: paint, it stops at edges", "E"),
    (COLOR, "eyedropper", "Color: click on it, drag up or down for more or less tolerance", "C"),
)
BY_POINTS = (POLYGON, OUTLINE)
LIVE_MS = 60  #: the pointer rests so long before what it would give is looked for
FARTHEST = 1500  #: pixels along a side to which an outline's line is looked for while the pointer moves


class MaskTools(FlowBar):
    """The row of tools, and the stroke that is being made. Coordinates are the photo's own pixels.

    The photo view hands on what the mouse does; a finished stroke goes to the session as a new mask.
    """

    def __init__(self, view):
        super().__init__(view)
        self.view, self.session = view, view.session
        self.tool = MOVE
        self.points = []  #: of the stroke in the making
        self._line = []  #: the snapped line of an outline, point lists between clicks
        self._start = None
        self.tolerances = {COLOR: 24, EDGE_BRUSH: 24}  #: how far colors may be off, for each tool by itself
        self.pointer = None  #: pixel under it
        self._closing = None  #: (from, to, line) of the outline's way from its last click to its first
        self._snap = None  #: (from, to, line) of the outline's way to the pointer
        self._live = None  #: the color tool's region of now, as a picture, and where it lies
        self._wait = QTimer(self, singleShot=True, interval=LIVE_MS)
        self._wait.timeout.connect(self._look_ahead)
        row = Flow(self, spacing=2)
        row.setContentsMargins(8, 0, 8, 0)
        group = QButtonGroup(self)
        self.buttons = {}
        for name, symbol, tip, key in TOOLS:
            b = QToolButton(objectName="bare", checkable=True, checked=name == MOVE)
            b.setIcon(t.icon(symbol))
            b.setToolTip(f"{tip}  ({key})\nadds; Ctrl takes away, Shift starts anew")
            b.setShortcut(key)
            b.setAccessibleName(name)
            b.clicked.connect(lambda _, n=name: self.choose(n))
            group.addButton(b)
            self.buttons[name] = b
            row.addWidget(b)
        row.gap(6)
        self.size = QSpinBox(minimum=1, maximum=500, value=20, suffix=" px")
        self.size.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        self.size.setToolTip("Radius of the brushes  (Shift+Up and Shift+Down)")
        self.size.setFixedWidth(62)
        self.near = QSpinBox(minimum=1, maximum=200)
        self.near.setPrefix("±")
        self.near.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        self.near.setFixedWidth(52)
        self.near.setToolTip("How far colors may be off: of the color tool, of the edge brush")
        self.near.valueChanged.connect(self._near_changed)
        self.connected = QToolButton(objectName="bare", checkable=True, checked=True)
        self.connected.setIcon(t.icon("link-variant"))
        self.connected.setToolTip("Color: only what is connected with the place you click")
        self.along = QToolButton(objectName="bare", checkable=True)
        self.along.setIcon(t.icon("rotate-3d-variant"))
        self.along.setToolTip(
            "Draw what turns with the object (disc, mat, foam), shown in blue: it helps to place photos and is never "
            "part of the object  (W)\noff: draw the object"
        )
        self.along.setShortcut("W")
        self.along.setAccessibleName("what turns with it")
        self.along.toggled.connect(self._layer_chosen)
        row.addWidget(self.size)
        row.addWidget(self.near)
        row.addWidget(self.connected)
        row.addWidget(self.along)
        row.gap(6)
        more = QToolButton(popupMode=QToolButton.ToolButtonPopupMode.InstantPopup)
        more.setIcon(t.icon("dots-horizontal"))
        more.setToolTip("Widen, narrow, invert, clear, copy")
        menu, self.whole = QMenu(more), []
        for text, key, act in (
            ("Widen", "Ctrl+Up", lambda m: tidy(m, False, 0, 0, self.step())),
            ("Narrow", "Ctrl+Down", lambda m: tidy(m, False, 0, 0, -self.step())),
            ("Invert", "Ctrl+Alt+I", lambda m: ~m),
            ("Everything", "Ctrl+Alt+A", np.ones_like),
            ("Nothing", "Ctrl+Alt+N", np.zeros_like),
        ):
            a = menu.addAction(text, key, lambda f=act, n=text: self.change(f, n.lower()))
            self.addAction(a)
            self.whole.append(a)
        menu.addSeparator()
        for text, key, act in (
            ("Copy to the next photo", "Ctrl+Shift+Right", self.session.masks.copy_on),
            ("Back to the made mask", "Ctrl+Alt+Z", lambda: self.session.masks.edit(None, "go back to the made mask")),
        ):
            a = menu.addAction(text, key, act)
            self.addAction(a)
        more.setMenu(menu)
        row.addWidget(more)

    def step(self):
        """How far widening and narrowing goes, in pixels: seen at any photo size."""
        return max(1, round(max(self.view.image.width(), self.view.image.height()) / 1000))

    def choose(self, name):
        """Take up a tool."""
        self.tool = name
        self.buttons[name].setChecked(True)
        self.size.setVisible(name in (BRUSH, EDGE_BRUSH))
        self.connected.setVisible(name == COLOR)
        self.near.setVisible(name in self.tolerances)
        if name in self.tolerances:
            self.near.setValue(self.tolerances[name])
        self.drop()
        if name != MOVE:
            tip = next(tip for n, _, tip, _ in TOOLS if n == name)
            self.session.said.emit(f"{tip}. Ctrl takes away, Shift starts anew.", "note")
        self.view.setCursor(Qt.CursorShape.ArrowCursor if name == MOVE else Qt.CursorShape.CrossCursor)

    def drop(self):
        """Forget the stroke in the making."""
        self.points, self._line, self._start = [], [], None
        self._snap = self._live = self._closing = None
        self._wait.stop()
        self.view.update()

    def _near_changed(self, value):
        if self.tool in self.tolerances:
            self.tolerances[self.tool] = value

    @property
    def kind(self):
        """What is drawn: the object, or what turns with it."""
        return TURNS if self.along.isChecked() else THING

    def _layer_chosen(self, along):
        self.drop()
        what = "what turns with the object, shown in blue" if along else "the object"
        self.session.said.emit(f"The tools draw {what} now.", "note")

    @property
    def active(self):
        """Whether the mouse draws, rather than moves the photo."""
        return self.isVisible() and self.tool != MOVE and self.view.image is not None

    # ------------------------------------------------------------------ what the mouse does
    def press(self, at, modifiers):
        """The button goes down at pixel `at`."""
        if self.tool in BY_POINTS:
            if self.tool == OUTLINE and self.points:
                self._line.append(self._way(self.points[-1], at))
            self.points.append(at)
            if self.tool == OUTLINE and len(self.points) >= 3:
                self._look_to_close()
        else:
            self.points, self._start = [at], at
        self.view.update()

    def _way(self, a, b):
        """The outline's line between two pixels, that which is drawn to the pointer where it is the same."""
        if self._snap is not None and self._snap[:2] == (a, b):
            return self._snap[2]
        return strokes.edge_path(self.view.picture, a, b)

    def _look_to_close(self):
        """Look for the way back to the first click beside the window: a double click may ask for it in a moment."""
        picture, a, b = self.view.picture, self.points[-1], self.points[0]

        def take(line):
            if self.points and (self.points[-1], self.points[0]) == (a, b) and self.view.picture is picture:
                self._closing = a, b, line

        self.session.in_background(lambda: strokes.edge_path(picture, a, b), take, series="outline to close")

    def _look_ahead(self):
        """The pointer rests for a moment: what it would give is looked for beside the window, and drawn."""
        picture, points, tool, pointer = self.view.picture, list(self.points), self.tool, self.pointer
        if not points or picture is None or pointer is None:
            return
        if tool == OUTLINE:
            a, b = points[-1], pointer
            if max(abs(a[0] - b[0]), abs(a[1] - b[1])) > FARTHEST:
                return

            def look():
                return a, b, strokes.edge_path(picture, a, b)

        else:
            tolerance, connected = self.tolerance(), self.connected.isChecked()
            step = max(1, int(1 / max(self.view.placement.scale, 1e-3) / 2))

            def look():
                region = strokes.similar(picture, points[0], tolerance, connected)
                return region.left, region.top, step, np.ascontiguousarray(region.mask[::step, ::step])

        def take(found):
            if self.tool != tool or not self.points or self.points[0] != points[0]:
                return
            if tool == OUTLINE:
                self._snap = found
            else:
                left, top, step, some = found
                image, memory = tinted_region(some)
                self._live = left, top, step, image, memory
            self.view.update()

        self.session.in_background(look, take, series="mask tool")

    def move(self, at, dragging):
        """The pointer moves to pixel `at`."""
        self.pointer = at
        if self.tool in BY_POINTS and self.points:
            self._wait.start() if self.tool == OUTLINE else None
            self.view.update()
        elif self.tool in (BRUSH, EDGE_BRUSH):
            self.view.update()
        if dragging and self.tool not in BY_POINTS and self._start is not None:
            if self.tool in (RECTANGLE, COLOR):
                self.points = [self._start, at]
                if self.tool == COLOR and not self._wait.isActive():
                    self._wait.start()
            else:
                self.points.append(at)
            self.view.update()

    def release(self, modifiers):
        """The button goes up."""
        if self.tool not in BY_POINTS and self._start is not None:
            region = self._region()
            self.drop()
            self._commit(region, modifiers)

    def double_click(self, modifiers):
        """Closes a polygon or an outline."""
        if self.tool in BY_POINTS and len(self.points) >= 3:
            if self.tool == OUTLINE:
                a, b = self.points[-1], self.points[0]
                known = self._closing is not None and self._closing[:2] == (a, b)
                self._line.append(self._closing[2] if known else strokes.edge_path(self.view.picture, a, b))
            line = np.vstack(self._line) if self._line else self.points
            region = strokes.polygon(self.view.picture.shape[:2], line)
            self.drop()
            self._commit(region, modifiers)

    def key(self, e):
        """Keys of the tools; returns whether it was one."""
        key, shift = e.key(), bool(e.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if key == Qt.Key.Key_Escape and self.points:
            self.drop()
        elif key == Qt.Key.Key_Backspace and self.tool in BY_POINTS and self.points:
            self.points.pop()
            del self._line[max(len(self.points) - 1, 0) :]
            self._snap = None
            self.view.update()
        elif shift and key == Qt.Key.Key_Down:
            self.size.setValue(max(1, int(self.size.value() * 0.8)))
        elif shift and key == Qt.Key.Key_Up:
            self.size.setValue(int(self.size.value() * 1.25) + 1)
        else:
            return False
        return True

    # ------------------------------------------------------------------ what comes of it
    def tolerance(self):
        """Of the color tool: dragging up takes more, down less."""
        if len(self.points) < 2:
            return self.tolerances[COLOR]
        drag = (self.points[0][1] - self.points[-1][1]) * self.view.placement.scale
        return int(np.clip(self.tolerances[COLOR] + drag / 3, 1, 200))

    def _region(self):
        picture = self.view.picture
        shape, radius = picture.shape[:2], self.size.value()
        if self.tool == RECTANGLE:
            return strokes.rectangle(shape, self.points[0], self.points[-1])
        if self.tool == LASSO:
            return strokes.polygon(shape, self.points)
        if self.tool == BRUSH:
            return strokes.brush(shape, self.points, radius)
        if self.tool == EDGE_BRUSH:
            return strokes.edge_brush(picture, self.points, radius, self.tolerances[EDGE_BRUSH])
        self.near.setValue(self.tolerance())
        return strokes.similar(picture, self.points[0], self.tolerances[COLOR], self.connected.isChecked())

    def _commit(self, region, modifiers):
        if not region.mask.any():
            return
        mode = strokes.ADD
        if modifiers & Qt.KeyboardModifier.ControlModifier:
            mode = strokes.TAKE
        elif modifiers & Qt.KeyboardModifier.ShiftModifier:
            mode = strokes.REPLACE
        mask = strokes.apply(self.view.mask_or_empty(), region, mode, itself=True)
        what = ", what turns with it" if self.kind == TURNS else ""
        self.session.masks.edit(mask, f"{mode} with the {self.tool}{what}", self.kind)

    def change(self, function, label):
        """Change the whole mask."""
        if self.view.image is not None:
            self.session.masks.edit(function(self.view.mask_or_empty()), f"mask: {label}", self.kind)

    # ------------------------------------------------------------------ drawing
    def paint(self, painter, to_view):
        """The stroke in the making, on top of the photo, and the brush under the pointer."""
        half = QPointF(0.5, 0.5)
        if self.tool in (BRUSH, EDGE_BRUSH) and self.pointer is not None and self.view.underMouse():
            radius = self.size.value() * self.view.placement.scale
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for width, color in ((3, t.GROUND), (1.4, t.ACCENT)):
                painter.setPen(QPen(t.color(color), width))
                painter.drawEllipse(to_view.map(QPointF(*self.pointer) + half), radius, radius)
        if not self.points:
            return
        if self._live is not None:
            left, top, step, image, _ = self._live
            painter.save()
            painter.setTransform(to_view, True)
            painter.drawImage(QRectF(left, top, image.width() * step, image.height() * step), image)
            painter.restore()
        line = np.vstack(self._line) if self._line else np.array(self.points, float)
        shown = [to_view.map(QPointF(x, y) + half) for x, y in line.tolist()]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if self.tool in (BRUSH, EDGE_BRUSH):
            width = 2 * self.size.value() * self.view.placement.scale
            pen = QPen(
                t.color(t.ACCENT, 110), width, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin
            )
            painter.setPen(pen)
            painter.drawPolyline(QPolygonF(shown if len(shown) > 1 else shown * 2))
            return
        for width, color in ((3, t.GROUND), (1.4, t.ACCENT)):
            painter.setPen(QPen(t.color(color), width))
            if self.tool == RECTANGLE and len(shown) > 1:
                a, b = shown[0], shown[-1]
                painter.drawPolygon(QPolygonF([a, QPointF(b.x(), a.y()), b, QPointF(a.x(), b.y())]))
            elif self.tool == COLOR:
                painter.drawText(shown[0] + QPointF(12, -8), f"tolerance {self.tolerance()}")
                painter.drawEllipse(shown[0], 5, 5)
            else:
                painter.drawPolyline(QPolygonF(shown))
                if self.tool in BY_POINTS and self.pointer is not None:
                    way = [self.points[-1], self.pointer]
                    if self._snap is not None and self._snap[:2] == tuple(way):
                        way = self._snap[2].tolist()
                    painter.setPen(QPen(t.color(color), width, Qt.PenStyle.DashLine))
                    painter.drawPolyline(QPolygonF([to_view.map(QPointF(*x) + half) for x in way]))
                    painter.setPen(QPen(t.color(color), width))
                if self.tool in BY_POINTS:
                    for x, y in self.points:
                        painter.drawEllipse(to_view.map(QPointF(x, y) + half), 3, 3)
