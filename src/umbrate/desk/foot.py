"""The foot of the window: what the pointer does here, what was said last, what runs and for how long."""

from PyQt6.QtCore import QEvent, QSettings, Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QProgressBar, QPushButton, QToolButton, QWidget

from . import tokens as t
from .nextstep import next_step
from .plain import CutLabel, Label, set_tone
from .text import short_time

SHOWN_MS = 8000


class Foot(QWidget):
    """One line. Bad news stays until it is dismissed or something new is begun; good news passes. While nothing runs it
    says what to do next.
    """

    photos_wanted = pyqtSignal()

    def __init__(self, session):
        super().__init__(objectName="panel")
        self.session = session
        self._hints = {}
        self._hint = self.said = self.kind = ""
        self._passing = QTimer(self, singleShot=True, interval=SHOWN_MS)
        self._passing.timeout.connect(self.clear)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 4, 12, 4)
        row.setSpacing(8)
        self.line = CutLabel()  # hovering shows a long sentence whole
        self.dismiss = QToolButton(objectName="bare")
        self.dismiss.setIcon(t.icon("close", "QUIET"))
        self.dismiss.setToolTip("Dismiss  (Esc)")
        self.dismiss.setShortcut("Esc")
        self.dismiss.clicked.connect(self.clear)
        self.next = QPushButton(objectName="link")
        self.next.setCursor(Qt.CursorShape.PointingHandCursor)
        self.next.clicked.connect(self._do_next)
        self.doing = Label()
        self.bar = QProgressBar(maximum=1000, textVisible=False)
        self.bar.setFixedWidth(180)
        self.cancel = QPushButton("Cancel")
        self.cancel.clicked.connect(self.stop)
        row.addWidget(self.line, 1)
        for w in (self.dismiss, self.next, self.doing, self.bar, self.cancel):
            row.addWidget(w)
            w.hide()
        self.tells_next = str(QSettings("umbrate", "umbrate").value("help/next", "true")) == "true"
        self._step = None
        self.setFixedHeight(36)
        session.said.connect(self.say)
        session.progressed.connect(self.follow)
        session.later.changed.connect(self.follow)
        session.document_changed.connect(self.follow)
        session.chosen_changed.connect(self.follow)
        self.clear()

    def watch(self, widget, hint):
        """Show `hint` while the pointer is over a widget."""
        self._hints[widget] = hint
        widget.installEventFilter(self)
        self._hint = self._hint or hint
        self._show()

    def eventFilter(self, widget, event):
        if event.type() == QEvent.Type.Enter and widget in self._hints:
            self._hint = self._hints[widget]
            self._show()
        return False

    def say(self, text, kind):
        """Say a sentence of kind good, note or bad; an empty one of kind bad takes bad news back."""
        if not text:
            self.clear()
        elif self.kind != "bad" or kind == "bad":
            self.said, self.kind = text, kind
            self._passing.stop()
            if kind != "bad":
                self._passing.start()
            self._show()

    def clear(self):
        """Go back to what the pointer does."""
        self.said = self.kind = ""
        self._passing.stop()
        self._show()

    def _show(self):
        self.line.setText(self.said or self._hint)
        self.line.setToolTip(self.said or self._hint)
        set_tone(self.line, self.kind if self.kind in ("good", "bad") else "quiet", "" if self.said else "quiet")
        self.dismiss.setVisible(self.kind == "bad")

    def stop(self):
        """Cancel what is shown as running."""
        later = self.session.later
        if self.session.task():
            self.session.cancel_tasks()
        elif later.runner.running is not None and self.session.running() is None:
            later.do(later.runner.stop, "The queue is paused; what ran waits on.")
        else:
            self.session.cancel()

    def tell_next(self):
        """Say what to do next, or not any more; remembered for this user."""
        self.tells_next = not self.tells_next
        QSettings("umbrate", "umbrate").setValue("help/next", "true" if self.tells_next else "false")
        self.follow()

    def _do_next(self):
        if self._step is not None:
            stage, run = self._step
            if stage is None:
                self.photos_wanted.emit()
            else:
                self.session.choose(stage=stage)
                if run:
                    self.session.run()

    def _show_next(self, busy):
        self._step, told = None, None
        if self.tells_next and not busy and self.session.job is not None:
            self._step, told = next_step(self.session)
        self.next.setVisible(told is not None)
        if told:
            self.next.setText(f"Next: {told}")
            self.next.setToolTip("A click does it. Help, Say what to do next switches this line off")

    def follow(self):
        """Show what runs now: a task, for which somebody waits here, before a stage, which the Board shows too."""
        task = self.session.task()
        run = task or self.session.running() or self.session.later.runner.running
        for w in (self.doing, self.bar, self.cancel):
            w.setVisible(run is not None)
        self._show_next(run is not None)
        if run:
            left = run.seconds_left
            queue = self.session.queue
            waiting = len(self.session.tasks.waiting if task else queue.waiting if queue else ())
            parts = [f"{run.title}: {run.sentence}"]
            if left is not None:
                parts.append(f"{short_time(left)} left")
            if waiting:
                parts.append(f"{waiting} waiting")
            self.doing.setText("   ".join(parts))
            self.bar.setValue(int(1000 * run.fraction))
