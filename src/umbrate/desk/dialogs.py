"""The ledger as a table, the finder that runs any command by a few letters, and how a video is taken apart."""

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QDoubleSpinBox,
    QGridLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPlainTextEdit,
    QRadioButton,
    QSpinBox,
    QTableWidget,
    QTableWidgetItem,
    QTabWidget,
    QVBoxLayout,
)

from ..stages import BY_NAME
from .text import short_time


def accept_or_cancel(dialog, accept):
    """The foot of a dialog: the button to go on, named for what it does, and Cancel."""
    buttons = QDialogButtonBox()
    buttons.addButton(accept, QDialogButtonBox.ButtonRole.AcceptRole).setObjectName("next")
    buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole)
    buttons.accepted.connect(dialog.accept)
    buttons.rejected.connect(dialog.reject)
    return buttons


class LedgerDialog(QDialog):
    """What ran: when, on what, how long, with which outcome and settings."""

    def __init__(self, job, log=(), parent=None):
        super().__init__(parent)
        self.setWindowTitle("Ledger: what ran in this job")
        self.resize(980, 480)
        entries = list(reversed(job.ledger()))
        heads = ("When", "Sitting", "Stage", "Time", "Outcome", "Settings and message")
        table = QTableWidget(len(entries), len(heads))
        table.setHorizontalHeaderLabels(heads)
        table.verticalHeader().hide()
        table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        for r, e in enumerate(entries):
            stage = BY_NAME.get(e.stage)
            told = e.message or ", ".join(f"{k} {v}" for k, v in e.settings.items())
            cells = (
                e.when.replace("T", " "),
                e.sitting,
                stage.title if stage else e.stage,
                short_time(e.seconds),
                e.outcome,
                told,
            )
            for c, text in enumerate(cells):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                table.setItem(r, c, item)
        table.resizeColumnsToContents()
        table.horizontalHeader().setSectionResizeMode(len(heads) - 1, QHeaderView.ResizeMode.Stretch)
        lines = QPlainTextEdit(readOnly=True)
        lines.setPlainText("\n".join(log) or "Nothing has run since the window was opened.")
        lines.moveCursor(lines.textCursor().MoveOperation.End)
        tabs = QTabWidget()
        tabs.addTab(table, "Ledger")
        tabs.addTab(lines, "Log since the window was opened")
        box = QVBoxLayout(self)
        box.addWidget(tabs)


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


class VideoDialog(QDialog):
    """How many frames of a video are taken."""

    def __init__(self, video, parent=None):
        super().__init__(parent)
        self.setWindowTitle("Frames of a video")
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 16, 16, 16)
        box.setSpacing(8)
        box.addWidget(QLabel(f"Of {Path(video).name} take the sharpest frame"))
        self.by_time, self.by_count = QRadioButton("of every"), QRadioButton("of every")
        self.seconds = QDoubleSpinBox(minimum=0.05, maximum=60, value=0.5, singleStep=0.1, suffix=" s")
        self.frames = QSpinBox(minimum=1, maximum=100_000, value=15, suffix=" frames")
        self.by_time.setChecked(True)
        grid = QGridLayout()
        for k, (choice, value) in enumerate(((self.by_time, self.seconds), (self.by_count, self.frames))):
            grid.addWidget(choice, k, 0)
            grid.addWidget(value, k, 1)
            value.valueChanged.connect(lambda _, c=choice: c.setChecked(True))
        grid.setColumnStretch(2, 1)
        box.addLayout(grid)
        box.addWidget(QLabel("Frames that hardly differ from the one before are left out.", objectName="quiet"))
        box.addWidget(accept_or_cancel(self, "Take the frames"))

    def every(self):
        """Seconds, and frames or None."""
        return self.seconds.value(), self.frames.value() if self.by_count.isChecked() else None
