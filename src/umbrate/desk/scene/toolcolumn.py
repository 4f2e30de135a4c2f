"""The column of tools at the scene's left: what the pointer does, and what is drawn of the photos."""

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtWidgets import QButtonGroup, QSlider, QToolButton, QWidget

from .. import tokens as t
from ..flow import Flow
from .tools import BOX, BRUSH, LASSO, LOOK, PIECE, RECTANGLE, TURN

FRUSTUM_PERCENT = 6


class SceneSide(QWidget):
    """Buttons, each with its key; it says what is wanted and does nothing itself."""

    mode_chosen = pyqtSignal(str)
    switched = pyqtSignal(str, object)  #: what is drawn of the photos: links, order, pictures, size
    through_wanted = pyqtSignal(bool)

    def __init__(self, parent):
        super().__init__(parent)
        column = self.column = Flow(self, vertical=True, spacing=3)
        column.setContentsMargins(8, 0, 0, 8)
        self.modes = QButtonGroup(self)
        for mode, icon, tip, key in (
            (LOOK, "rotate-orbit", "Turn and move the view", "Shift+V"),
            (LASSO, "lasso", "Choose points inside a line drawn round them; Shift adds, Ctrl takes away", "Shift+L"),
            (RECTANGLE, "select-drag", "Choose points in a rectangle; Shift adds, Ctrl takes away", "Shift+R"),
            (
                BRUSH,
                "brush",
                "Choose points under a brush; Shift adds, Ctrl takes away, Shift+Up, Shift+Down: size",
                "Shift+B",
            ),
            (PIECE, "puzzle-outline", "Choose the piece of a surface that is clicked", "Shift+C"),
            (BOX, "cube-outline", "Size, move and turn the keep box by its handles", "Shift+K"),
            (TURN, "axis-arrow", "Turn the object by rings: how it stands", "Shift+U"),
        ):
            b = self._button(icon, tip, key)
            b.setProperty("mode", mode)
            b.clicked.connect(lambda _, m=mode: self.mode_chosen.emit(m))
            self.modes.addButton(b)
            column.addWidget(b)
        self.modes.buttons()[0].setChecked(True)
        column.gap(8)
        self.switches = {}
        for name, icon, tip, key in (
            (
                "links",
                "vector-polyline",
                "Lines between photos that share tie points: the thicker, the more",
                "Shift+N",
            ),
            ("order", "numeric", "Numbers: the order in which the photos were solved", "Shift+O"),
            ("pictures", "image-outline", "The photos' pictures in their frusta", "Shift+P"),
        ):
            b = self._button(icon, tip, key)
            b.toggled.connect(lambda on, n=name: self.switched.emit(n, on))
            self.switches[name] = b
            column.addWidget(b)
        self.through = self._button("eye-outline", "Look through the chosen photo, blended over the points", "Shift+E")
        self.through.clicked.connect(self.through_wanted.emit)
        column.addWidget(self.through)
        size = QSlider(Qt.Orientation.Vertical, minimum=2, maximum=20, value=FRUSTUM_PERCENT)
        size.setFixedHeight(56)
        size.setToolTip("Size of the photos' frusta")
        size.valueChanged.connect(lambda v: self.switched.emit("size", v / 100.0))
        size.setFixedWidth(30)
        column.addWidget(size)

    @staticmethod
    def _button(icon, tip, key):
        b = QToolButton(checkable=True)
        b.setIcon(t.icon(icon))
        b.setIconSize(QSize(20, 20))
        b.setToolTip(f"{tip}  ({key})")
        b.setAccessibleName(tip)
        b.setShortcut(key)
        b.setFixedSize(30, 27)
        return b

    def show_mode(self, mode):
        """Mark what the pointer does now."""
        for b in self.modes.buttons():
            b.setChecked(b.property("mode") == mode)

    def show_through(self, on):
        """Mark whether a photo is looked through."""
        self.through.setChecked(on)
