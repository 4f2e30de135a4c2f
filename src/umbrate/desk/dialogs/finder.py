"""The finder: goes to anything, and does it, by a few letters."""

from PyQt6.QtCore import QEvent, QRect, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import (
    QApplication,
    QFrame,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QStyledItemDelegate,
    QVBoxLayout,
)

from .. import tokens as t
from ..finding import every_entry, found, remember

WIDTH, HEIGHT, ROW = 620, 420, 26
ENTRY = Qt.ItemDataRole.UserRole


class _Rows(QStyledItemDelegate):
    """A row: the title, what it is in quiet letters, its keys at the right."""

    def paint(self, p, option, index):
        e, r = index.data(ENTRY), option.rect
        p.save()
        if option.state & option.state.State_Selected:
            p.fillRect(r, t.color(t.ACCENT_DARK))
        r = r.adjusted(8, 0, -8, 0)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setFont(t.font(t.SMALL))
        right = p.fontMetrics().horizontalAdvance(e.keys) + 8 if e.keys else 0
        p.setPen(t.color(t.TEXT if option.state & option.state.State_Selected else t.QUIET))
        p.drawText(r, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, e.keys)
        kind = QRect(r.left(), r.top(), 130, r.height())
        middle = Qt.AlignmentFlag.AlignVCenter
        p.drawText(kind, middle, p.fontMetrics().elidedText(e.kind, Qt.TextElideMode.ElideRight, 126))
        p.setFont(t.font())
        p.setPen(t.color(t.TEXT))
        room = r.width() - 138 - right
        text = p.fontMetrics().elidedText(e.title, Qt.TextElideMode.ElideRight, room)
        p.drawText(QRect(r.left() + 138, r.top(), room, r.height()), middle, text)
        p.restore()

    def sizeHint(self, option, index):
        size = super().sizeHint(option, index)
        size.setHeight(ROW)
        return size


class Finder(QFrame):
    """Lies over the window, so that it has the keyboard at once under any window manager. Enter does it, Esc leaves."""

    def __init__(self, window):
        super().__init__(window)
        self.setObjectName("finder")
        self.entries = every_entry(window)
        self.line = QLineEdit(placeholderText="What do you want to do, or look for?")
        self.line.setAccessibleName("Find")
        self.list = QListWidget()
        self.list.setAccessibleName("What was found")
        self.list.setItemDelegate(_Rows(self.list))
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.setUniformItemSizes(True)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        box = QVBoxLayout(self)
        box.setContentsMargins(8, 8, 8, 8)
        box.addWidget(self.line)
        box.addWidget(self.list)
        self.line.textChanged.connect(self._fill)
        self.line.installEventFilter(self)
        self.list.itemClicked.connect(self._run)
        self._before = QApplication.focusWidget()
        self._fill("")
        self.resize(min(WIDTH, window.width() - 40), min(HEIGHT, window.height() - 100))
        self.move((window.width() - self.width()) // 2, 60)
        self.show()
        self.raise_()
        window.activateWindow()
        self.line.setFocus()

    def _fill(self, text):
        self.list.clear()
        for e in found(self.entries, text):
            item = QListWidgetItem(e.title)
            item.setData(ENTRY, e)
            item.setToolTip(e.id)
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def eventFilter(self, _, e):
        if e.type() == QEvent.Type.ShortcutOverride and e.key() in (Qt.Key.Key_Escape, Qt.Key.Key_Home, Qt.Key.Key_End):
            e.accept()  # they are meant for the line
            return True
        if e.type() == QEvent.Type.FocusOut and e.reason() != Qt.FocusReason.ActiveWindowFocusReason:
            self.leave()
        if e.type() != QEvent.Type.KeyPress:
            return False
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1, Qt.Key.Key_PageUp: -12, Qt.Key.Key_PageDown: 12}.get(e.key())
        if step and self.list.count():
            row = self.list.currentRow() + step
            last = self.list.count() - 1
            self.list.setCurrentRow(row % (last + 1) if abs(step) == 1 else min(max(row, 0), last))
        elif e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._run(self.list.currentItem())
        elif e.key() == Qt.Key.Key_Escape:
            self.leave()
        else:
            return False
        return True

    def leave(self):
        """Go, and give the keyboard back to who had it."""
        if self.isVisible():
            self.hide()
            if self._before is not None and self.line.hasFocus():
                self._before.setFocus()
            self.deleteLater()

    def _run(self, item):
        if item is None:
            return
        e = item.data(ENTRY)
        self.leave()
        remember(e)
        e.act()
