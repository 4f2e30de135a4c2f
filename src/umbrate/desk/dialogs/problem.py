"""Report a problem: what would be sent, to be read first, and kept as a zip file."""

from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QListWidget, QPlainTextEdit, QPushButton, QVBoxLayout

from ...work.problemreport import collect, write_report
from ..plain import Label
from .writing import ask_file, write_now


class ProblemDialog(QDialog):
    """The texts of a report, and the button that keeps them."""

    def __init__(self, session, parent=None):
        super().__init__(parent)
        self.setWindowTitle("Report a problem")
        self.resize(900, 600)
        self.session, self.texts = session, collect(session.job)
        told = Label(
            "This helps to understand a problem. It holds no photos, but names of photos and folders: read it before "
            "you send it to anybody. Umbrate sends nothing by itself."
        )
        told.setWordWrap(True)
        self.list, self.view = QListWidget(), QPlainTextEdit(readOnly=True)
        self.list.addItems(self.texts)
        self.list.setFixedWidth(140)
        self.list.setAccessibleName("Files of the report")
        self.view.setAccessibleName("What the file says")
        self.view.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.list.currentTextChanged.connect(lambda name: self.view.setPlainText(self.texts.get(name, "")))
        self.list.setCurrentRow(0)
        middle = QHBoxLayout()
        middle.addWidget(self.list)
        middle.addWidget(self.view, 1)
        save = QPushButton("Save as a zip file…", objectName="next")
        save.clicked.connect(self._save)
        close = QPushButton("Close")
        close.clicked.connect(self.reject)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(close)
        row.addWidget(save)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 16, 16, 16)
        box.setSpacing(12)
        box.addWidget(told)
        box.addLayout(middle, 1)
        box.addLayout(row)
        save.setFocus(Qt.FocusReason.OtherFocusReason)

    def _save(self):
        place = ask_file(self, "Save the report", "umbrate-problem.zip", "Zip files (*.zip)")
        if place:
            told = "Wrote {}: the log, versions and settings, no photos."
            write = partial(write_report, self.texts, place)
            write_now(self.session, self, write, lambda made: told.format(made.name))
            self.accept()
