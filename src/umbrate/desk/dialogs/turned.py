"""A view of something in space that is turned by hand: dragging turns, with Shift or another button shifts, the wheel
zooms, and a click without dragging picks."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QWidget

CLICK_PX = 4  #: a hand that moved farther than this has dragged
TURN = 0.008  #: radians for a pixel
ZOOM = 1.0015  #: for an eighth of a degree of the wheel


class TurnedView(QWidget):
    """Base of such views: `eye` is an Eye once it is known, `_image` what is drawn, None where it is not."""

    def __init__(self):
        super().__init__()
        self.setMinimumSize(360, 340)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.eye = self._image = self._drag = None

    @property
    def ready(self):
        """Whether what is shown is there."""
        return self.eye is not None

    def _clicked(self, pos):
        """Something was clicked on."""

    def _dragged(self, step, turning):
        self.eye = self.eye.turned(step.x() * TURN, step.y() * TURN) if turning else self.eye.moved(step.x(), step.y())

    def _zoomed(self, factor, pos):
        self.eye = self.eye.zoomed(factor, self.eye.pivot)

    def _anew(self):
        self._image = None
        self.update()

    def mousePressEvent(self, e):
        if self.ready:
            self._drag = e.position(), e.position()

    def mouseMoveEvent(self, e):
        if self._drag is None:
            return
        last, start = self._drag
        self._drag = e.position(), start
        turning = (
            bool(e.buttons() & Qt.MouseButton.LeftButton) and not e.modifiers() & Qt.KeyboardModifier.ShiftModifier
        )
        self._dragged(e.position() - last, turning)
        self._anew()

    def mouseReleaseEvent(self, e):
        drag, self._drag = self._drag, None
        if drag is None:
            return
        if (e.position() - drag[1]).manhattanLength() < CLICK_PX and e.button() == Qt.MouseButton.LeftButton:
            self._clicked(e.position())
        self._anew()

    def wheelEvent(self, e):
        if self.ready:
            self._zoomed(ZOOM ** e.angleDelta().y(), e.position())
            self._anew()

    def resizeEvent(self, _):
        self.eye = self._image = None
