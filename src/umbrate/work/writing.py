"""Writing files from a job in a worker process, so that the window does not wait for it."""

import signal
from contextlib import contextmanager
from dataclasses import dataclass

from .. import stages  # noqa: F401 (their models read the results)
from ..core.errors import Cancelled, WouldReplace
from ..job.store import Job
from ..sitting.guarding import gate_of


@dataclass(frozen=True)
class Written:
    """What came of writing: the value of the function, or the question whether files may be replaced."""

    value: object = None
    question: WouldReplace | None = None


def write_from(folder, write, replace, report):
    """Task: ``write(job, gate=gate)`` with the job in a folder, as it is saved now.

    Parameters
    ----------
    folder : path
        Of the job; it is opened for reading only.
    write : callable
        Of a module, or a partial of one.
    replace : bool
        Whether the user said that files which are there may be replaced.

    Returns
    -------
    Written
    """
    report.progress(0.0, "writing")
    with Job.open(folder, writable=False) as job, _ended_politely():
        try:
            return Written(write(job, gate=gate_of(job, replace)))
        except WouldReplace as e:
            return Written(question=e)


@contextmanager
def _ended_politely():
    """What is written aside is removed when the process is asked to end; see `Worker.kill`."""

    def end(number, frame):
        raise Cancelled()

    before = signal.signal(signal.SIGTERM, end)
    try:
        yield
    finally:
        signal.signal(signal.SIGTERM, before)
