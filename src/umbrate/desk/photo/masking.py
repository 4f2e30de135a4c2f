"""Drawing masks by hand in the photo view: the tools, what the hand does with them, and what comes of it."""

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPen, QPolygonF
from PyQt6.QtWidgets import QButtonGroup, QMenu, QSpinBox, QToolButton

from ...core.masking import strokes
from ...core.masking.clean import tidy
from ...sitting.masks import THING, TURNS
from .. import over as t
from ..flow import Flow, FlowBar

MOVE, RECTANGLE, LASSO, POLYGON, OUTLINE, BRUSH, EDGE_BRUSH, COLOR = (
    "move", "rectangle", "lasso", "polygon", "outline", "brush", "edge brush", "color",
)  # fmt: skip
TOOLS = (
    (MOVE, "cursor-move", "Move and zoom the photo", "V"),
    (RECTANGLE, "rectangle-outline", "Rectangle: drag from corner to corner", "R"),
    (LASSO, "lasso", "Lasso: draw round a place", "L"),
    (POLYGON, "vector-polygon", "Polygon: click corners, double click closes", "P"),
    (OUTLINE, "vector-curve", "Outline: click along an edge, the line snaps to it, double click closes", "O"),
    (BRUSH, "brush", "Brush: paint", "B"),
    (EDGE_BRUSH, "auto-fix", "Edge brush: paint, it stops at edges", "E"),
    (COLOR, "eyedropper", "Color: click on it, drag up or down for more or less tolerance", "C"),
)
BY_POINTS = (POLYGON, OUTLINE)


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
        self._color_tolerance = 24
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
        row.addWidget(self.connected)
        row.addWidget(self.along)
        row.gap(6)
        more = QToolButton(popupMode=QToolButton.ToolButtonPopupMode.InstantPopup)
        more.setIcon(t.icon("dots-horizontal"))
        more.setToolTip("Widen, narrow, invert, clear, copy")
        menu = QMenu(more)
        for text, key, act in (
            ("Widen", "Ctrl+Up", lambda m: tidy(m, False, 0, 0, self.step())),
            ("Narrow", "Ctrl+Down", lambda m: tidy(m, False, 0, 0, -self.step())),
            ("Invert", "Ctrl+Alt+I", lambda m: ~m),
            ("Everything", "Ctrl+Alt+A", np.ones_like),
            ("Nothing", "Ctrl+Alt+N", np.zeros_like),
        ):
            a = menu.addAction(text, key, lambda f=act, n=text: self.change(f, n.lower()))
            self.addAction(a)
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
        self.drop()
        if name != MOVE:
            tip = next(tip for n, _, tip, _ in TOOLS if n == name)
            self.session.said.emit(f"{tip}. Ctrl takes away, Shift starts anew.", "note")
        self.view.setCursor(Qt.CursorShape.ArrowCursor if name == MOVE else Qt.CursorShape.CrossCursor)

    def drop(self):
        """Forget the stroke in the making."""
        self.points, self._line, self._start = [], [], None
        self.view.update()

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
                self._line.append(strokes.edge_path(self.view.picture, self.points[-1], at))
            self.points.append(at)
        else:
            self.points, self._start = [at], at
        self.view.update()

    def move(self, at, dragging):
        """The pointer moves to pixel `at`."""
        if dragging and self.tool not in BY_POINTS and self._start is not None:
            if self.tool in (RECTANGLE, COLOR):
                self.points = [self._start, at]
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
                self._line.append(strokes.edge_path(self.view.picture, self.points[-1], self.points[0]))
            line = np.vstack(self._line) if self._line else self.points
            region = strokes.polygon(self.view.picture.shape[:2], line)
            self.drop()
            self._commit(region, modifiers)

    def key(self, e):
        """Keys of the tools; returns whether it was one."""
        key, shift = e.key(), bool(e.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if key == Qt.Key.Key_Escape and self.points:
            self.drop()
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
            return self._color_tolerance
        drag = (self.points[0][1] - self.points[-1][1]) * self.view.placement.scale
        return int(np.clip(self._color_tolerance + drag / 3, 1, 200))

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
            return strokes.edge_brush(picture, self.points, radius, self._color_tolerance)
        self._color_tolerance = self.tolerance()
        return strokes.similar(picture, self.points[0], self._color_tolerance, self.connected.isChecked())

    def _commit(self, region, modifiers):
        if not region.mask.any():
            return
        mode = strokes.ADD
        if modifiers & Qt.KeyboardModifier.ControlModifier:
            mode = strokes.TAKE
        elif modifiers & Qt.KeyboardModifier.ShiftModifier:
            mode = strokes.REPLACE
        mask = strokes.apply(self.view.mask_or_empty(), region, mode)
        what = ", what turns with it" if self.kind == TURNS else ""
        self.session.masks.edit(mask, f"{mode} with the {self.tool}{what}", self.kind)

    def change(self, function, label):
        """Change the whole mask."""
        if self.view.image is not None:
            self.session.masks.edit(function(self.view.mask_or_empty()), f"mask: {label}", self.kind)

    # ------------------------------------------------------------------ drawing
    def paint(self, painter, to_view):
        """The stroke in the making, on top of the photo."""
        if not self.points:
            return
        half = QPointF(0.5, 0.5)
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
                if self.tool in BY_POINTS:
                    for x, y in self.points:
                        painter.drawEllipse(to_view.map(QPointF(x, y) + half), 3, 3)
