"""The log file, and what becomes of errors nobody foresaw: they are written down, told, and work goes on."""

import faulthandler
import logging
import logging.handlers
import sys
import threading
from pathlib import Path

import platformdirs

from .. import __version__

FORM = "%(asctime)s %(levelname)s %(process)d %(name)s: %(message)s"
LARGEST, KEPT = 2_000_000, 4  #: bytes of a log file, and how many older ones stay
NOISY = ("numba", "PIL", "matplotlib", "pyqtgraph")
log = logging.getLogger(__name__)
_crash = None  #: the open file that a dying interpreter writes to; it must stay open
_told = None


def log_folder():
    """The folder of the log files."""
    return Path(platformdirs.user_log_dir("umbrate", appauthor=False))


def log_file():
    """The file that is written to now."""
    return log_folder() / "umbrate.log"


def begin_log(terminal_level=logging.CRITICAL, tell=None):
    """Write the log into a file that is begun anew when it is large, with traces of all errors nobody foresaw.

    Parameters
    ----------
    terminal_level : int
        From which level on lines show on the terminal too.
    tell : callable(text), optional
        Called, in whatever thread it happened, with a sentence about an error nobody foresaw.
    """
    global _told
    _told = tell
    root = logging.getLogger()
    root.setLevel(logging.DEBUG if terminal_level <= logging.DEBUG else logging.INFO)
    for noisy in NOISY:
        logging.getLogger(noisy).setLevel(logging.WARNING)
    for handler in [h for h in root.handlers if getattr(h, "of_umbrate", False)]:
        root.removeHandler(handler)
        handler.close()
    handlers = [logging.StreamHandler()]
    handlers[0].setLevel(terminal_level)
    try:
        log_folder().mkdir(parents=True, exist_ok=True)
        file = logging.handlers.RotatingFileHandler(
            log_file(), maxBytes=LARGEST, backupCount=KEPT, encoding="utf-8", errors="backslashreplace", delay=True
        )
        handlers.append(file)
    except OSError:
        pass  # without a log the program works as well
    logging.raiseExceptions = False  # a line that a full disk did not take is no trace on the terminal
    for handler in handlers:
        handler.of_umbrate = True
        handler.setFormatter(logging.Formatter(FORM))
        root.addHandler(handler)
    watch_crashes()
    sys.excepthook = _unforeseen
    threading.excepthook = lambda a: _unforeseen(a.exc_type, a.exc_value, a.exc_traceback)
    sys.unraisablehook = lambda a: log.error("%s", a.err_msg, exc_info=(a.exc_type, a.exc_value, a.exc_traceback))
    log.info("Umbrate %s begins", __version__)


def watch_crashes():
    """Have a dying interpreter, here or in a worker, write where it was beside the log."""
    global _crash
    try:
        log_folder().mkdir(parents=True, exist_ok=True)
        path = log_folder() / "crashes.log"
        if path.exists() and path.stat().st_size > LARGEST:
            path.replace(path.with_suffix(".old.log"))
        file = open(path, "a", encoding="utf-8")
        faulthandler.enable(file, all_threads=True)
    except (OSError, RuntimeError):
        return
    if _crash is not None:
        _crash.close()
    _crash = file


def sentence_of(kind, error):
    """The sentence for an error nobody foresaw."""
    return (
        f"Something unexpected went wrong ({kind.__name__}: {error}). The job is whole; go on. "
        f"The log says more: {log_file()}"
    )


def _unforeseen(kind, error, trace):
    if issubclass(kind, KeyboardInterrupt):
        sys.__excepthook__(kind, error, trace)
        return
    log.error("%s", error, exc_info=(kind, error, trace))
    if _told is not None:
        try:
            _told(sentence_of(kind, error))
        except Exception:  # the window may be gone; the log has it
            log.exception("an error could not be told")
