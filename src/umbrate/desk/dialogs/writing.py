"""Asking where a file goes, and writing it through the gate: what is there is replaced only where the user says so."""

from functools import partial
from pathlib import Path

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QFileDialog, QMessageBox

from ...core.errors import UmbrateError, WouldReplace
from ...formats.files import Gate
from ...sitting.guarding import gate_of
from ...work.writing import write_from
from ..plain import message
from .asking import FILES, first_time, place_of, remember_place


def ask_file(parent, title, start, kinds=""):
    """Ask for the name of a file; empty where the user thought better of it.

    Whether it may be replaced is asked when it is written, once, and for all files that are written with it.
    """
    return ask_file_and_kind(parent, title, start, [kinds])[0]


def ask_file_and_kind(parent, title, start, kinds):
    """Ask for the name of a file and which of several kinds it shall be: the name, and the kind's number."""
    option = QFileDialog.Option.DontConfirmOverwrite
    start = Path(start)
    if not start.is_absolute():
        start = Path(place_of(FILES)) / start
    place, kind = QFileDialog.getSaveFileName(parent, title, str(start), ";;".join(kinds), options=option)
    if place:
        remember_place(FILES, place)
    return place, kinds.index(kind) if kind in kinds else 0


def beside(job, suffix):
    """Where a file of a job goes unless somebody says otherwise: where files went last, the first time beside it."""
    place = job.folder.parent if first_time(FILES) else Path(place_of(FILES))
    return place / f"{job.name}{suffix}"


def may_replace(parent, error):
    """Ask whether files may be replaced that are there; the safe answer is the default."""
    names = ", ".join(p.name for p in error.paths[:4])
    more = f" and {len(error.paths) - 4} more" if len(error.paths) > 4 else ""
    place = f" in {error.paths[0].parent}" if error.paths else ""
    box = message(parent, f"{names}{more}: there already{place}.")
    box.setInformativeText("Photos, masks and other files that the job reads are never replaced.")
    replace = box.addButton("Replace", QMessageBox.ButtonRole.DestructiveRole)
    box.setDefaultButton(box.addButton("Leave it", QMessageBox.ButtonRole.RejectRole))
    box.exec()
    return box.clickedButton() is replace


def through_gate(job, parent, write):
    """The value of ``write(gate)``, called again with a gate that replaces where the user says so; None where not.

    Raises
    ------
    UmbrateError
        Where it cannot be written.
    """
    gate = gate_of(job) if job else Gate()
    try:
        return write(gate)
    except WouldReplace as e:
        if not may_replace(parent, e):
            return None
    return write(gate_of(job, True) if job else Gate(True))


def write_out(session, parent, write, told):
    """Have a worker write something of the job; say that it is written, or what went wrong.

    Parameters
    ----------
    write : callable(job, gate=Gate) -> value
        A function of a module, or a partial of one: it is called in another process, on the job as it is saved now.
    told : callable(value) -> sentence
    """
    job, parent = session.job, parent.window()  # a part of the bench may be gone when the answer is there

    def send(replace):
        session.send("Writing", write_from, (job.folder, write, replace), take)

    def take(written):
        if session.job is not job:
            return
        if written.question is None:
            session.said.emit(told(written.value), "good")
        else:  # not while the worker's events are handed over
            QTimer.singleShot(0, lambda: _ask(session, parent, written.question, send))

    send(False)


def _ask(session, parent, question, send):
    """Ask whether files may be replaced, and ``send(True)`` where they may."""
    if may_replace(parent, question):
        send(True)
    else:
        session.said.emit("Nothing was written.", "note")


def write_now(session, parent, write, told):
    """Write something small that is at hand, and say so, or what went wrong.

    Parameters
    ----------
    write : callable(Gate) -> value
    told : callable(value) -> sentence
    """
    try:
        value = through_gate(session.job, parent, write)
    except UmbrateError as e:
        session.said.emit(str(e), "bad")
        return
    if value is None:
        session.said.emit("Nothing was written.", "note")
    else:
        session.said.emit(told(value), "good")


def write_beside(session, parent, write, told):
    """Write something that is at hand and takes a moment, in a thread; see `write_now`."""
    job, parent = session.job, parent.window()

    def send(replace):
        gate = gate_of(job, replace)

        def work():
            try:
                return write(gate)
            except WouldReplace as e:
                return e

        session.in_background(work, take)

    def take(value):
        if isinstance(value, WouldReplace):
            _ask(session, parent, value, send)
        else:
            session.said.emit(told(value), "good")

    send(False)


def ask_and_write(session, parent, title, suffix, write, told):
    """Ask for a file beside the job and have it written: ``write(job, path=path, gate=gate)``, see `write_out`."""
    place = ask_file(parent, title, beside(session.job, suffix))
    if place:
        write_out(session, parent, partial(write, path=Path(place)), lambda v: told(v, place))
