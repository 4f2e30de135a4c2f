"""Checking a job and tidying it up: what is damaged, what mends it, and what nobody needs any more."""

import threading

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import (
    QCheckBox,
    QDialog,
    QHBoxLayout,
    QPlainTextEdit,
    QProgressBar,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
)

from ...core.errors import UmbrateError
from ...job.checking import check_job
from ...job.tidying import Tidied
from ..plain import Label
from ..text import counted

POLL_MS = 100


def size_text(size):
    """Bytes in words."""
    return f"{size / 1e9:.1f} GB" if size >= 1e9 else f"{size / 1e6:.1f} MB"


class UpkeepDialog(QDialog):
    """Two parts, one below the other: every row and file is looked at; what nobody needs goes."""

    def __init__(self, session, parent=None):
        super().__init__(parent)
        self.session, self.folder = session, session.job.folder
        self.setWindowTitle("Check and tidy up")
        self.setMinimumWidth(560)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 16, 16, 16)
        box.setSpacing(8)
        box.addWidget(Label("Is the job whole?", objectName="heading"))
        box.addWidget(
            self._wrapped("Looks at every row and every data file, and compares each with what it was written as.")
        )
        row = QHBoxLayout()
        self.check_button = QPushButton("Check every file", objectName="next")
        self.check_button.clicked.connect(lambda: self.check(False))
        self.mend_button = QPushButton("Mend it")
        self.mend_button.setToolTip("Takes out what is damaged, so that it is computed again; says what is lost")
        self.mend_button.clicked.connect(lambda: self.check(True))
        self.mend_button.hide()
        self.bar = QProgressBar(maximum=1000)
        self.bar.hide()
        for w in (self.check_button, self.mend_button):
            row.addWidget(w)
        row.addWidget(self.bar, 1)
        row.addStretch(0)
        box.addLayout(row)
        self.told = self._wrapped("")
        self.told.setObjectName("plain")
        self.told.hide()
        box.addWidget(self.told)
        self.faults = QPlainTextEdit(readOnly=True)
        self.faults.hide()
        box.addWidget(self.faults, 1)
        box.addSpacing(12)
        box.addWidget(Label("What nobody needs any more", objectName="heading"))
        row = QHBoxLayout()
        row.addWidget(Label("Keep"))
        count = session.job.undo_steps()
        self.steps = QSpinBox(minimum=0, maximum=count, value=count)
        self.steps.setToolTip("Steps of undo that are kept; what only those before would bring back goes")
        row.addWidget(self.steps)
        self.of_steps = Label(f"of {counted(count, 'step')} of undo")
        row.addWidget(self.of_steps)
        row.addStretch(1)
        box.addLayout(row)
        self.thorough = QCheckBox("Also what only makes runs with other settings faster (depth maps)")
        box.addWidget(self.thorough)
        self.would = self._wrapped("")
        box.addWidget(self.would)
        row = QHBoxLayout()
        self.tidy_button = QPushButton("Tidy up")
        self.tidy_button.clicked.connect(self.tidy)
        row.addWidget(self.tidy_button)
        row.addStretch(1)
        close = QPushButton("Close")
        close.clicked.connect(self.accept)
        row.addWidget(close)
        box.addLayout(row)
        box.addStretch(0)
        self.steps.valueChanged.connect(self._look)
        self.thorough.toggled.connect(self._look)
        self.check_button.setFocus()
        self._work = None
        self._timer = QTimer(self)
        self._timer.timeout.connect(self._poll)
        self._look()

    @staticmethod
    def _wrapped(text):
        label = Label(text, objectName="quiet")
        label.setWordWrap(True)
        return label

    @property
    def _busy(self):
        """Whether something runs that writes data files which no row names yet."""
        s = self.session
        return s.job is not None and not (s.queue.idle and s.tasks.idle)

    # ------------------------------------------------------------------ checking
    def check(self, mend):
        """Check the job in a thread; to mend it, it is closed meanwhile and opened again."""
        if self._work is not None:
            return
        if mend:
            if self._busy:
                self._tell("Something is running. Mend it when that is done.")
                return
            self.session.close()
        self._work = {"share": 0.0, "mend": mend}
        work = self._work

        def progress(share, _):
            work["share"] = share

        def run():
            try:
                work["found"] = check_job(self.folder, mend, progress)
            except (UmbrateError, OSError) as e:
                work["failed"] = str(e)

        self._thread = threading.Thread(target=run, daemon=True, name="check")
        self._thread.start()
        self.check_button.setEnabled(False)
        self.mend_button.setEnabled(False)
        self.tidy_button.setEnabled(False)
        self.bar.show()
        self._timer.start(POLL_MS)

    def _poll(self):
        self.bar.setValue(int(1000 * self._work["share"]))
        if self._thread.is_alive():
            return
        self._timer.stop()
        work, self._work = self._work, None
        self.bar.hide()
        self.check_button.setEnabled(True)
        self.mend_button.setEnabled(True)
        if work["mend"]:
            self.session.open(self.folder)
        if "failed" in work:
            self._tell(work["failed"])
        else:
            self._show(work["found"])
        self._look()

    def _show(self, found):
        looked = f"{counted(found.files, 'data file')}, {size_text(found.bytes)}, looked at"
        if not found.faults:
            self._tell(f"Everything is whole: {looked}.")
        elif found.mended:
            self._tell(f"Mended: {counted(len(found.faults), 'thing')} taken out. Run what is missing now.")
        else:
            lost = sum(f.then == "is lost" for f in found.faults)
            more = f", {lost} of them lost" if lost else ", all of them can be computed again or written anew"
            self._tell(f"{counted(len(found.faults), 'thing')} damaged{more}; {looked}.")
        self.faults.setPlainText("\n".join(f"{f}." for f in found.faults))
        self.faults.setVisible(bool(found.faults))
        self.adjustSize()
        mends = bool(found.faults) and not found.mended
        self.mend_button.setVisible(mends)
        for button, is_next in ((self.check_button, not mends), (self.mend_button, mends)):  # what comes next is amber
            button.setObjectName("next" if is_next else "")
            button.style().polish(button)

    def _tell(self, text):
        self.told.setText(text)
        self.told.show()

    # ------------------------------------------------------------------ tidying
    def _look(self):
        job = self.session.job
        can = job is not None and job.writable and not self._busy
        self.tidy_button.setEnabled(can)
        if not can:
            self.would.setText(
                "The job is open for reading only." if job is not None and not job.writable else
                "Something is running: what it writes is not named yet. Tidy up when it is done."
            )  # fmt: skip
            return
        would = job.would_tidy(*self._wanted())
        self.tidy_button.setEnabled(would != Tidied())
        told = f"Would free {self._told(would)}." if would != Tidied() else "There is nothing to remove."
        self.would.setText(told)

    def _wanted(self):
        return self.steps.value(), self.thorough.isChecked()

    @staticmethod
    def _told(done):
        parts = [
            f"{counted(done.blobs.count, 'data file')}" if done.blobs.count else "",
            f"{counted(done.frames.count, 'frame')} of videos" if done.frames.count else "",
            f"{counted(done.results, 'result')} of removed sittings" if done.results else "",
            f"{counted(done.steps, 'step')} of undo" if done.steps else "",
        ]
        return f"{size_text(done.bytes)} ({', '.join(x for x in parts if x) or 'nothing'})"

    def tidy(self):
        """Remove what nobody needs."""
        s = self.session
        if self._busy or s.job is None:
            self._look()
            return
        s.masks.drop_preview()  # what was only tried is named by no row
        done = s.do(lambda: s.job.tidy(*self._wanted()))
        if done is not None:
            s.document_changed.emit()
            count = s.job.undo_steps()
            self.steps.setMaximum(count)
            self.of_steps.setText(f"of {counted(count, 'step')} of undo")
            self._look()
            self.would.setText(f"Freed {self._told(done)}.")

    def done(self, code):
        """Close, once what runs has ended: a job that is being mended is opened again first."""
        if self._work is None:
            super().done(code)
