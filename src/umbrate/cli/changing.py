"""Opening a job for a command: what it changes is one step of undo, and a command that is refused changes nothing."""

import importlib
from contextlib import contextmanager

from ..core.later import Later

store = Later("umbrate.job.store")


def open_job(folder, writable=True):
    """The Job of a folder; what its results' figures mean is known from then on."""
    importlib.import_module("umbrate.stages")
    return store.Job.open(folder, writable)


@contextmanager
def changing(folder, change, label):
    """The open Job of a command.

    Parameters
    ----------
    folder : path
    change : anything
        Whether the command changes something; else the job is opened for reading.
    label : str
        What the step is called in undo.
    """
    with open_job(folder, writable=bool(change)) as job:
        if not change:
            yield job
            return
        with job.action(label):
            yield job
