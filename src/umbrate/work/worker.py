"""The worker process: where long work runs, so that neither it nor a crash takes the window along.

Started once and kept. It never writes the database: it computes, writes blobs (which are whole or
absent) and sends the outcome back; the process that holds the job's lock commits it. So killing the
worker at any moment loses the running step and nothing older.

This module imports next to nothing, so that a command can start the process before it reads anything itself. What the
process runs is in `serve`.
"""

import logging
import multiprocessing
import os
import threading
import time
from dataclasses import dataclass, field

from ..core.errors import Cancelled

log = logging.getLogger(__name__)

#: the linear-algebra library keeps to one thread: photos are computed side by side instead, and sums
#: keep their order
ONE_THREAD = {name: "1" for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS")}
KILL_AFTER_S = 0.8


@dataclass(frozen=True)
class Event:
    """Something the worker says: progress, live, done, failed, cancelled or crashed."""

    kind: str
    data: dict = field(default_factory=dict)


def _begin(pipe, stop):
    """What the process does: the rest is imported there, while whoever started it does something else."""
    from .serve import serve

    serve(pipe, stop)


class Worker:
    """The parent's side of the worker process."""

    def __init__(self):
        self._process = self._pipe = self._stop = None
        self._cancelled_at = None
        self._starting = threading.Lock()
        self.busy = False

    def start(self):
        """Start the process where it does not run yet; it makes itself ready meanwhile. From any thread."""
        with self._starting:
            if self._process is None or not self._process.is_alive():
                self._start()

    def _start(self):
        context = multiprocessing.get_context("spawn")
        self._pipe, theirs = context.Pipe()
        self._stop = context.Event()
        before = {k: os.environ.get(k) for k in ONE_THREAD}
        os.environ.update(ONE_THREAD)
        try:
            self._process = context.Process(
                target=_begin, args=(theirs, self._stop), daemon=True, name="umbrate-worker"
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
        if self._process is not None and self._process.is_alive():
            self.kill()
