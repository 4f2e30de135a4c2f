"""What the worker process does: calls one function after another and says how each went."""

import logging
import multiprocessing
import os
import select
import signal
import threading
import time
import traceback
from contextlib import closing

from ..core.errors import Cancelled, UmbrateError
from ..stages import BY_NAME
from ..stages.base import Report
from ..stages.executor import LocalExecutor
from . import wiring  # noqa: F401
from .logs import NOISY, watch_crashes
from .worker import Event

EVERY_S = 0.2  #: progress is sent no oftener: showing it takes time from the computation


class _PipeReport(Report):
    def __init__(self, pipe, stop):
        super().__init__(LocalExecutor(os.cpu_count() or 1))
        self._pipe, self._stop, self._last = pipe, stop, 0.0

    def check(self):
        if self._stop.is_set():
            raise Cancelled()

    def progress(self, fraction, sentence, **figures):
        self.check()
        now = time.monotonic()
        if now - self._last >= EVERY_S:
            self._last = now
            self._pipe.send(Event("progress", {"fraction": float(fraction), "sentence": sentence, "figures": figures}))

    def live(self, name, data):
        self._pipe.send(Event("live", {"name": name, "data": data}))


def run_stage(name, inputs, settings, cluster, report):
    """The Outcome of a stage, called by its name and with its settings as plain values.

    cluster : address of a scheduler whose workers help, or nothing
    """
    stage = BY_NAME[name]
    if not cluster:
        return stage.run(inputs, stage.Settings(**settings), report)
    from .cluster import executor_for  # it takes a second to import

    with closing(executor_for(cluster, inputs, os.cpu_count() or 1)) as report.executor:
        return stage.run(inputs, stage.Settings(**settings), report)


def run_preview(name, inputs, settings, photo_ids, report):
    """What a run of a stage would make of a few photos (see `Stage.preview`)."""
    stage = BY_NAME[name]
    return stage.preview(inputs, stage.Settings(**settings), photo_ids, report)


class _PipeLog(logging.Handler):
    """Sends the worker's log lines to the process that keeps the log."""

    def __init__(self, pipe):
        super().__init__(logging.INFO)
        self._pipe = pipe

    def emit(self, record):
        try:
            self._pipe.send(Event("log", {"name": record.name, "level": record.levelno, "text": self.format(record)}))
        except (OSError, ValueError):
            pass  # nobody listens any more


def _end_with_parent():
    """Have this process end when the one that started it does, whatever it computes then and however that one ended."""
    parent = multiprocessing.parent_process().pid
    try:
        fd = os.pidfd_open(parent)
    except OSError:
        os._exit(1)  # it is gone already
    if os.getppid() != parent:
        os._exit(1)

    def watch():
        select.select([fd], [], [])
        os._exit(1)

    threading.Thread(target=watch, daemon=True, name="parent").start()


def serve(pipe, stop):
    """Call what comes through the pipe until it is closed; `stop` is set to cancel."""
    _end_with_parent()
    watch_crashes()
    root = logging.getLogger()
    root.addHandler(_PipeLog(pipe))
    root.setLevel(logging.INFO)
    for noisy in NOISY:
        logging.getLogger(noisy).setLevel(logging.WARNING)
    # Ctrl-C in a terminal reaches the whole group: the parent decides what to do
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    while True:
        try:
            task = pipe.recv()
        except (EOFError, OSError):
            return
        if task is None:
            return
        function, arguments = task
        stop.clear()
        try:
            pipe.send(Event("done", {"value": function(*arguments, _PipeReport(pipe, stop))}))
        except Cancelled as e:
            pipe.send(Event("cancelled", {"message": str(e)}))
        except UmbrateError as e:
            pipe.send(Event("failed", {"message": str(e), "remedy": e.remedy}))
        except MemoryError:
            pipe.send(
                Event(
                    "failed",
                    {
                        "message": "The machine's memory was not enough for this step. Choose a smaller photo "
                        "scale or fewer features, or close other programs."
                    },
                )
            )
        except Exception as e:
            pipe.send(
                Event(
                    "failed",
                    {
                        "message": f"Something unexpected went wrong in this step ({type(e).__name__}: {e}). Nothing "
                        "finished before is lost. Please report it with the log.",
                        "traceback": traceback.format_exc(),
                    },
                )
            )
