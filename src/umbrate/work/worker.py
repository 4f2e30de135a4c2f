"""The worker process: where long work runs, so that neither it nor a crash takes the window along.

Started once and kept. It never writes the database: it computes, writes blobs (which are whole or
absent) and sends the outcome back; the process that holds the job's lock commits it. So killing the
worker at any moment loses the running step and nothing older.
"""

import logging
import multiprocessing
import os
import signal
import time
import traceback
from dataclasses import dataclass, field

from ..core.errors import Cancelled, UmbrateError
from ..stages import BY_NAME
from ..stages.base import Report
from ..stages.executor import LocalExecutor
from .logs import NOISY, watch_crashes

log = logging.getLogger(__name__)

#: the linear-algebra library keeps to one thread: photos are computed side by side instead, and sums
#: keep their order
ONE_THREAD = {name: "1" for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS")}
KILL_AFTER_S = 0.8
EVERY_S = 0.2  #: progress is told no oftener: whoever shows it takes time from who computes


@dataclass(frozen=True)
class Event:
    """Something the worker says: progress, live, done, failed, cancelled or crashed."""

    kind: str
    data: dict = field(default_factory=dict)


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


def run_stage(name, inputs, settings, report):
    """The Outcome of a stage, called by its name and with its settings as plain values."""
    stage = BY_NAME[name]
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


def _serve(pipe, stop):
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


class Worker:
    """The parent's side of the worker process."""

    def __init__(self):
        self._process = self._pipe = self._stop = None
        self._cancelled_at = None
        self.busy = False

    def start(self):
        """Start the process where it does not run yet; takes no time, it warms up by itself."""
        if self._process is not None and self._process.is_alive():
            return
        context = multiprocessing.get_context("spawn")
        self._pipe, theirs = context.Pipe()
        self._stop = context.Event()
        before = {k: os.environ.get(k) for k in ONE_THREAD}
        os.environ.update(ONE_THREAD)
        try:
            self._process = context.Process(
                target=_serve, args=(theirs, self._stop), daemon=True, name="umbrate-worker"
            )
            self._process.start()
        finally:
            for k, v in before.items():
                if v is None:
                    os.environ.pop(k, None)
                else:
                    os.environ[k] = v
        theirs.close()

    @property
    def pid(self):
        """Process id, or None."""
        return self._process.pid if self._process else None

    @property
    def ear(self):
        """The file descriptor that can be read when the process says something, or None where it does not run."""
        return self._pipe.fileno() if self._pipe is not None and not self._pipe.closed else None

    def submit(self, function, *arguments):
        """Have the process call ``function(*arguments, report)``. One at a time.

        The function is one of a module, its arguments and its value are picklable; the value comes with
        the event ``done``.
        """
        if self.busy:
            raise RuntimeError("the worker is busy")
        self.start()
        self._cancelled_at = None
        self._stop.clear()
        self.busy = True
        try:
            self._pipe.send((function, arguments))
        except OSError:
            pass  # it died between tasks: poll() will say so

    def cancel(self):
        """Ask the run to stop; `poll` ends the process when it does not within a second."""
        if self.busy and self._cancelled_at is None:
            self._stop.set()
            self._cancelled_at = time.monotonic()

    def poll(self, timeout=0.0):
        """Events since the last call. The last of a run is done, failed, cancelled or crashed."""
        events = []
        if not self.busy:
            return events
        try:
            while self._pipe.poll(timeout if not events else 0):
                e = self._pipe.recv()
                if e.kind == "log":
                    logging.getLogger(e.data["name"]).log(e.data["level"], "worker: %s", e.data["text"])
                    continue
                events.append(e)
                if e.kind in ("done", "failed", "cancelled"):
                    self.busy = False
                    return events
        except (EOFError, OSError):
            self._process.join(1.0)
        if self._cancelled_at is not None and time.monotonic() - self._cancelled_at > KILL_AFTER_S:
            self.kill()
            self.busy = False
            events.append(Event("cancelled", {"message": str(Cancelled())}))
        elif not self._process.is_alive():
            code = self._process.exitcode
            how = f"signal {-code}" if code is not None and code < 0 else f"exit code {code}"
            self.busy = False
            events.append(
                Event(
                    "crashed",
                    {
                        "message": f"The worker process ended unexpectedly ({how}). The running step is "
                        "lost, nothing finished before it. Run it again; if the machine was short of "
                        "memory, choose a smaller photo scale first. Help shows the log.",
                        "remedy": ("run again",),
                    },
                )
            )
        return events

    def kill(self):
        """End the process; the next submit starts a new one.

        It is asked first: what writes a file takes its half back. Nothing else listens, and ends at once.
        """
        if self._process is not None:
            self._process.terminate()
            self._process.join(0.5)
            self._process.kill()
            self._process.join(5)
            self._pipe.close()
            self._process = None

    def close(self):
        """End the process."""
        if self._process is not None and self._process.is_alive() and not self.busy:
            try:
                self._pipe.send(None)
                self._process.join(1.0)
            except OSError:
                pass
        if self._process is not None and self._process.is_alive():
            self.kill()
