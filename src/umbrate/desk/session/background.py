"""Work that takes a moment, in one pool of threads: errors are reported, and closing the job ends it.

Calls that come again and again while the pointer or a key moves belong to a *series*: only one of a series runs at a
time, and only the latest of those that wait is kept.
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
    series: str | None
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
        self._begun = 0  #: tasks that are not over
        self._ended.connect(self._take)

    def run(self, function, then, otherwise=None, series=None):
        """Call `function()` in a thread, then ``then(value)`` here; ``otherwise(sentence)`` where it raises.

        What comes back after `close` is dropped.
        """
        task = _Task(function, then, otherwise, series, self._era)
        if series is not None and series in self._running:
            self._waiting[series] = task
            return
        self._start(task)

    def _start(self, task):
        self._begun += 1
        if task.series is not None:
            self._running.add(task.series)
        if self._pool is None:
            self._pool = ThreadPoolExecutor(THREADS, thread_name_prefix="umbrate")
        self._pool.submit(self._work, task)

    def _work(self, task):
        value = error = None
        try:
            if task.era == self._era:
                value = task.function()
        except BaseException as e:  # also what is no Exception must not leave a series occupied
            error = e
        try:
            self._ended.emit(task, value, error)
        except RuntimeError:
            pass  # the window is gone

    def _take(self, task, value, error):
        if task.era != self._era:
            return
        self._begun -= 1
        self._running.discard(task.series)
        following = self._waiting.pop(task.series, None)
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
        """Whether nothing runs or waits."""
        return not self._begun

    def close(self):
        """Forget what waits and what comes back."""
        self._era += 1
        self._running, self._waiting, self._begun = set(), {}, 0
        if self._pool is not None:
            self._pool.shutdown(wait=False, cancel_futures=True)
            self._pool = None
