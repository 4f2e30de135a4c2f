"""Opening a job for a command: what it changes is one step of undo, and a command that is refused changes nothing."""

from contextlib import contextmanager

from ..job.store import Job


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
    with Job.open(folder, writable=bool(change)) as job:
        if not change:
            yield job
            return
        with job.action(label):
            yield job
