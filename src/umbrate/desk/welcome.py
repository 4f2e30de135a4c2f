"""The welcome page: the three ways to begin."""

from pathlib import Path

from PyQt6.QtCore import QSettings, Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from . import tokens as t

RECENT = 6


def recent_jobs():
    """Folders of jobs opened lately that still exist, newest first."""
    stored = QSettings("umbrate", "umbrate").value("recent", []) or []
    stored = [stored] if isinstance(stored, str) else stored
    return [p for p in stored if (Path(p) / "job.sqlite").exists()]


def remember_job(folder):
    """Put a job first in the list of recent ones."""
    folder = str(Path(folder).resolve())
    QSettings("umbrate", "umbrate").setValue("recent", [folder, *(p for p in recent_jobs() if p != folder)][:RECENT])


class Welcome(QWidget):
    """Open the demo, start a new job, go on with a recent one."""

    demo, new, open = pyqtSignal(), pyqtSignal(), pyqtSignal()
    recent = pyqtSignal(str)

    def __init__(self):
        super().__init__()
        outer = QHBoxLayout(self)
        outer.addStretch(1)
        self.column = QVBoxLayout()
        self.column.setSpacing(8)
        outer.addLayout(self.column, 0)
        outer.addStretch(1)
        self.refresh()

    def refresh(self):
        """Build the page again, with the recent jobs as they are now."""
        while self.column.count():
            item = self.column.takeAt(0)
            if item.widget():
                item.widget().deleteLater()
        self.column.addStretch(2)
        title = QLabel("Umbrate")
        title.setStyleSheet("font-size: 30px; font-weight: 600;")
        self.column.addWidget(title)
        text = QLabel(
            "From photos taken all round an object to a clean, colored dense cloud.\n"
            "Drop a folder of photos anywhere, or begin here."
        )
        text.setStyleSheet(f"color: {t.QUIET}; font-size: 14px;")
        self.column.addWidget(text)
        self.column.addSpacing(16)
        for words, more, signal, name in (
            (
                "Open the demo job",
                "A bird whistle in two sittings of 24 simulated photos: about five minutes to compute",
                self.demo,
                "next",
            ),
            (
                "New job from a folder of photos",
                "Each folder becomes a sitting: one placement of the object",
                self.new,
                "",
            ),
            ("Open a job", "A folder whose name ends in .umbrate", self.open, ""),
        ):
            b = QPushButton(words, objectName=name)
            b.setMinimumSize(440, 40)
            b.clicked.connect(signal.emit)
            self.column.addWidget(b)
            self.column.addWidget(QLabel(more, objectName="quiet"))
            self.column.addSpacing(8)
        jobs = recent_jobs()
        if jobs:
            self.column.addSpacing(12)
            head = QLabel("Recent jobs")
            head.setStyleSheet("font-weight: 600;")
            self.column.addWidget(head)
            for j in jobs:
                b = QPushButton(f"{Path(j).stem}   —   {Path(j).parent}", objectName="link")
                b.setCursor(Qt.CursorShape.PointingHandCursor)
                b.clicked.connect(lambda _, p=j: self.recent.emit(p))
                self.column.addWidget(b)
        self.column.addStretch(3)
