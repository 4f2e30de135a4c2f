"""The welcome page: the ways to begin, and the jobs one worked on lately."""

from pathlib import Path

from PyQt6.QtCore import QSettings, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QPixmap
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ..core.errors import UmbrateError
from ..core.imaging.decode import read_thumbnail
from ..sitting.photos import photo_files
from ..work.demo import demo_data
from . import tokens as t
from .plain import Label, button_text
from .text import short_path

RECENT = 6
WIDTH = 640
SHOWN = 5  #: demo photos in the row of pictures


def recent_jobs():
    """Folders of jobs opened lately that still exist, newest first."""
    stored = QSettings("umbrate", "umbrate").value("recent", []) or []
    stored = [stored] if isinstance(stored, str) else stored
    return [p for p in stored if (Path(p) / "job.sqlite").exists()]


def remember_job(folder):
    """Put a job first in the list of recent ones."""
    folder = str(Path(folder).resolve())
    jobs = [folder, *(p for p in recent_jobs() if p != folder)][:RECENT]
    QSettings("umbrate", "umbrate").setValue("recent", jobs)


def _demo_pictures():
    """A few demo photos, small; none where the demo data are not there."""
    try:
        files = photo_files(demo_data() / "upright")
        pictures = [read_thumbnail(f, 248) for f in files[:: max(1, len(files) // SHOWN)][:SHOWN]]
    except UmbrateError:
        return []
    out = []
    for a in pictures:
        # the middle of it, at the shape of the row's cells
        h, w = a.shape[:2]
        width, height = min(w, round(h * 1.25)), min(h, round(w / 1.25))
        top, left = (h - height) // 2, (w - width) // 2
        a = a[top : top + height, left : left + width].copy()
        image = QImage(a.data, width, height, 3 * width, QImage.Format.Format_RGB888)
        out.append(QPixmap.fromImage(image.copy()))
    return out


class Welcome(QWidget):
    """Open the demo, start a new job, go on with a recent one."""

    demo, new, open = pyqtSignal(), pyqtSignal(), pyqtSignal()
    recent = pyqtSignal(str)

    def __init__(self):
        super().__init__()
        outer = QHBoxLayout(self)
        outer.addStretch(1)
        self.body = QWidget()
        self.body.setFixedWidth(WIDTH)
        self.column = QVBoxLayout(self.body)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(8)
        outer.addWidget(self.body)
        outer.addStretch(1)
        self._pictures = _demo_pictures()
        self.refresh()

    def refresh(self):
        """Build the page again, with the recent jobs as they are now."""
        while self.column.count():
            item = self.column.takeAt(0)
            if item.widget():
                item.widget().deleteLater()
        self.column.addStretch(2)
        title = Label("Umbrate", objectName="title")
        text = Label("From photos taken all round an object to a clean, colored dense cloud.", objectName="about")
        self.column.addWidget(title)
        self.column.addWidget(text)
        self.column.addSpacing(12)
        if self._pictures:
            self.column.addWidget(self._picture_row())
            self.column.addSpacing(12)
        for words, more, symbol, signal, name in (
            (
                "Open the demo job",
                "A clay bird whistle in two sittings of 24 simulated photos, about four minutes to compute",
                "bird",
                self.demo,
                "next",
            ),
            (
                "New job from folders of photos",
                "Each folder becomes a sitting. You can also drop folders anywhere",
                "folder-plus-outline",
                self.new,
                "",
            ),
            ("Open a job", "A folder whose name ends in .umbrate", "folder-open-outline", self.open, ""),
        ):
            row = QWidget()
            line = QHBoxLayout(row)
            line.setContentsMargins(0, 0, 0, 0)
            line.setSpacing(16)
            b = QPushButton(f"  {words}", objectName=name)
            b.setIcon(t.icon(symbol, "ON_ACCENT" if name else "TEXT"))
            b.setIconSize(QSize(18, 18))
            b.setFixedSize(250, 38)
            b.clicked.connect(signal.emit)
            told = Label(more, objectName="quiet")
            told.setWordWrap(True)
            line.addWidget(b)
            line.addWidget(told, 1)
            self.column.addWidget(row)
        jobs = recent_jobs()
        if jobs:
            self.column.addSpacing(16)
            head = Label("Recent jobs", objectName="strong")
            self.column.addWidget(head)
            for j in jobs:
                b = QPushButton(button_text(f"{Path(j).stem}     {short_path(Path(j).parent)}"), objectName="link")
                b.setCursor(Qt.CursorShape.PointingHandCursor)
                b.setToolTip(j)
                b.clicked.connect(lambda _, p=j: self.recent.emit(p))
                self.column.addWidget(b)
        self.column.addStretch(3)

    def _picture_row(self):
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(4)
        side = (WIDTH - 4 * (len(self._pictures) - 1)) // len(self._pictures)
        for p in self._pictures:
            label = Label()
            ratio = self.devicePixelRatioF()
            small = p.scaledToWidth(int(side * ratio), Qt.TransformationMode.SmoothTransformation)
            small.setDevicePixelRatio(ratio)
            label.setPixmap(small)
            line.addWidget(label)
        line.addStretch(1)
        return row
