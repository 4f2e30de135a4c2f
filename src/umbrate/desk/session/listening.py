"""Listening to the workers: what they say comes as a signal of their pipes, so that the window sleeps between.

A timer ticks slowly beside it, for what no pipe tells: the time that is left, and a worker that does not stop when it
is asked to.
"""

import time

from PyQt6.QtCore import QObject, QSocketNotifier, QTimer, pyqtSignal

TICK_MS = 500
TOLD_S = 0.2  #: progress is shown no oftener


class Listening(QObject):
    """Polls the queue and the tasks when there is something to hear.

    The session says what became of a stage; `progressed` says that something moved on.
    """

    progressed = pyqtSignal()

    def __init__(self, session):
        super().__init__(session)
        self.session = session
        self._ears, self._told = {}, 0.0
        self._timer = QTimer(self, interval=TICK_MS)
        self._timer.timeout.connect(self._tick)

    def wake(self):
        """Something was queued: see that it starts, and listen until nothing runs and nothing waits."""
        self._timer.start()
        QTimer.singleShot(0, self._hear)

    def stop(self):
        """Listen no more."""
        self._timer.stop()
        self._listen_to(())

    def _tick(self):
        self._hear()
        self.progressed.emit()

    def _hear(self):
        s = self.session
        if s.queue is None:
            return
        moved = False
        for e in s.queue.poll():
            if e.kind != "progress":
                s.on_event(e)
                moved = moved or e.kind != "live"
                if s.queue is None:
                    return  # what was said closed the job
            else:
                s.log.progress(e.data)
                moved = moved or time.monotonic() - self._told > TOLD_S
        moved = s.tasks.poll() or moved
        moved = s.recipes.step() or moved
        if s.queue is None:
            return
        series = [x for x in (s.queue, s.tasks) if not x.idle]
        self._listen_to([x.worker for x in series])
        follows = s.recipes.follower is not None
        if any(x.running is None for x in series) or (follows and not series):
            QTimer.singleShot(0, self._hear)  # the next one can start
        if not series and not follows:
            self._timer.stop()
        if moved or not series:
            self._told = time.monotonic()
            self.progressed.emit()

    def _listen_to(self, workers):
        """Have an ear at the pipe of each worker that is busy, and at no other."""
        wanted = {w.ear: w for w in workers if w.busy and w.ear is not None}
        for fd in self._ears.keys() - wanted.keys():
            ear = self._ears.pop(fd)
            ear.setEnabled(False)
            ear.deleteLater()
        for fd in wanted.keys() - self._ears.keys():
            ear = QSocketNotifier(fd, QSocketNotifier.Type.Read, self)
            ear.activated.connect(self._hear)
            self._ears[fd] = ear
