"""A layout that breaks into further lines, so that no button is ever cut off where there is little room."""

from PyQt6.QtCore import QEvent, QPoint, QRect, QSize, Qt, pyqtSignal
from PyQt6.QtWidgets import QLayout, QWidget


class Flow(QLayout):
    """Items side by side in lines; a vertical one has them under each other in columns.

    Hidden widgets take no room. `gap` keeps a distance before the next widget, where it does not begin a line.
    """

    def __init__(self, parent=None, vertical=False, spacing=4):
        super().__init__(parent)
        self.vertical, self._items, self._gaps = vertical, [], {}
        self.setSpacing(spacing)

    def gap(self, pixels):
        """A distance between the widget that was added last and the next one."""
        self._gaps[len(self._items)] = pixels

    # ------------------------------------------------------------------ what Qt asks for
    def addItem(self, item):
        self._items.append(item)

    def count(self):
        return len(self._items)

    def itemAt(self, k):
        return self._items[k] if 0 <= k < len(self._items) else None

    def takeAt(self, k):
        return self._items.pop(k) if 0 <= k < len(self._items) else None

    def expandingDirections(self):
        return Qt.Orientation(0)

    def hasHeightForWidth(self):
        return not self.vertical

    def heightForWidth(self, width):
        return self._laid(QRect(0, 0, width, 0), False).height()

    def sizeHint(self):
        return self.minimumSize()

    def minimumSize(self):
        size = QSize()
        for item in self._items:
            if not item.isEmpty():
                size = size.expandedTo(item.minimumSize())
        m = self.contentsMargins()
        return size + QSize(m.left() + m.right(), m.top() + m.bottom())

    def setGeometry(self, rect):
        super().setGeometry(rect)
        self._laid(rect, True)

    def extent(self, room):
        """The size (QSize) that the items take within so many pixels of width, or of height where it is vertical."""
        rect = QRect(0, 0, 0, room) if self.vertical else QRect(0, 0, room, 0)
        return self._laid(rect, False)

    def _laid(self, rect, place):
        m = self.contentsMargins()
        x0, y0 = rect.x() + m.left(), rect.y() + m.top()
        room = (rect.height() - m.top() - m.bottom()) if self.vertical else (rect.width() - m.left() - m.right())
        lines, along = [[]], 0  # of each line: (item, where it begins, its size)
        for k, item in enumerate(self._items):
            if item.isEmpty():
                continue
            size = item.sizeHint().expandedTo(item.minimumSize())
            length = size.height() if self.vertical else size.width()
            before = (self.spacing() + self._gaps.get(k, 0)) if lines[-1] else 0
            if lines[-1] and along + before + length > room:
                lines.append([])
                along = before = 0
            lines[-1].append((item, along + before, size))
            along += before + length
        across = thick = longest = 0
        for line in lines:
            across += thick + self.spacing() if thick else 0
            thick = max((s.width() if self.vertical else s.height() for *_, s in line), default=0)
            for item, start, size in line:
                aside = across + (thick - (size.width() if self.vertical else size.height())) // 2
                longest = max(longest, start + (size.height() if self.vertical else size.width()))
                if place:
                    at = QPoint(aside, start) if self.vertical else QPoint(start, aside)
                    item.setGeometry(QRect(QPoint(x0, y0) + at, size))
        size = QSize(across + thick, longest) if self.vertical else QSize(longest, across + thick)
        return size + QSize(m.left() + m.right(), m.top() + m.bottom())


class FlowBar(QWidget):
    """A row of buttons over a view: as many lines as its width asks for. `relaid`: it may have to be placed anew."""

    relaid = pyqtSignal()

    def place(self, top, width):
        """Lie at a height of the view, over its width; returns where it ends."""
        height = self.layout().extent(width).height()
        self.setGeometry(0, top, width, height)
        return top + height

    def event(self, e):
        done = super().event(e)
        if e.type() == QEvent.Type.LayoutRequest:
            self.relaid.emit()
        return done
