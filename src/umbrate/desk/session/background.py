"""Work that takes a moment, in one pool of threads: errors are told, and closing the job ends it.

What is asked for again and again while the pointer or a key moves goes into a *lane*: of one lane only one piece runs
at a time, and of those that wait only the latest is kept.
"""

import logging
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from PyQt6.QtCore import QObject, pyqtSignal

from ...core.errors import UmbrateError
from ...work.logs import sentence_of

log = logging.getLogger(__name__)
THREADS = 2


@dataclass(frozen=True)
class _Task:
    function: object
    then: object
    otherwise: object
    lane: str | None
    era: int


class Background(QObject):
    """Calls functions in threads, and what is to be done with their values in the window's thread.

    Parameters
    ----------
    tell : callable(sentence)
        Called with what went wrong, where nobody else wants to know.
    """

    _ended = pyqtSignal(object, object, object)

    def __init__(self, tell):
        super().__init__()
        self._tell, self._era, self._pool = tell, 0, None
        self._running, self._waiting = set(), {}
        self._ended.connect(self._take)

    def run(self, function, then, otherwise=None, lane=None):
        """Call `function()` in a thread, then ``then(value)`` here; ``otherwise(sentence)`` where it raises.

        What comes back after `close` is dropped.
        """
        task = _Task(function, then, otherwise, lane, self._era)
        if lane is not None and lane in self._running:
            self._waiting[lane] = task
            return
        self._start(task)

    def _start(self, task):
        if task.lane is not None:
            self._running.add(task.lane)
        if self._pool is None:
            self._pool = ThreadPoolExecutor(THREADS, thread_name_prefix="umbrate")
        self._pool.submit(self._work, task)

    def _work(self, task):
        value = error = None
        try:
            if task.era == self._era:
                value = task.function()
        except BaseException as e:  # also what is no Exception must not leave a lane occupied
            error = e
        try:
            self._ended.emit(task, value, error)
        except RuntimeError:
            pass  # the window is gone

    def _take(self, task, value, error):
        if task.era != self._era:
            return
        self._running.discard(task.lane)
        following = self._waiting.pop(task.lane, None)
        if following is not None:
            self._start(following)
        if error is None:
            if following is None:  # else nobody waits for it any more
                task.then(value)
            return
        if isinstance(error, UmbrateError):
            sentence = str(error)
        elif isinstance(error, MemoryError):
            sentence = "The machine's memory was not enough for this. Close other programs, or use smaller photos."
        else:
            log.error("%s", error, exc_info=error)
            sentence = sentence_of(type(error), error)
        (task.otherwise or self._tell)(sentence)

    @property
    def idle(self):
        """Whether no lane is occupied."""
        return not self._running

    def close(self):
        """Forget what waits and what comes back."""
        self._era += 1
        self._running, self._waiting = set(), {}
        if self._pool is not None:
            self._pool.shutdown(wait=False, cancel_futures=True)
            self._pool = None
