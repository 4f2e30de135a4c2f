"""The finder: runs any command by a few letters of its name."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QDialog,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
)


class Finder(QDialog):
    """Type a few letters of a command, press Enter."""

    def __init__(self, actions, parent=None):
        super().__init__(parent, Qt.WindowType.Popup)
        self.actions_ = [a for a in actions if a.text() and a.isEnabled()]
        self.resize(460, 320)
        self.line = QLineEdit(placeholderText="Type to find a command")
        self.list = QListWidget()
        box = QVBoxLayout(self)
        box.setContentsMargins(8, 8, 8, 8)
        box.addWidget(self.line)
        box.addWidget(self.list)
        self.line.textChanged.connect(self._fill)
        self.line.returnPressed.connect(lambda: self._run(self.list.currentItem()))
        self.list.itemClicked.connect(self._run)
        self._fill("")

    def _fill(self, text):
        self.list.clear()
        words = text.lower().split()
        for a in self.actions_:
            label = a.text().replace("&", "")
            if all(w in label.lower() for w in words):
                keys = a.shortcut().toString()
                item = QListWidgetItem(f"{label}    {keys}" if keys else label)
                item.setData(Qt.ItemDataRole.UserRole, a)
                self.list.addItem(item)
        self.list.setCurrentRow(0)

    def keyPressEvent(self, e):
        if e.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            step = 1 if e.key() == Qt.Key.Key_Down else -1
            self.list.setCurrentRow((self.list.currentRow() + step) % max(1, self.list.count()))
        else:
            super().keyPressEvent(e)

    def _run(self, item):
        if item is not None:
            self.accept()
            item.data(Qt.ItemDataRole.UserRole).trigger()
