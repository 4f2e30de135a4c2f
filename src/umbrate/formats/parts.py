"""Files and folders that are being written: noted, so that what a killed process leaves goes at the next start.

Imports next to nothing: every command asks for it at its start.
"""

import os
import shutil
import stat
import uuid
from pathlib import Path

import platformdirs

PART = ".part-"  #: how files that are being written are called
DELIVERY = ".umbrate-delivery-"  #: folders in which deliveries are made


def _notes():
    return Path(platformdirs.user_state_dir("umbrate", appauthor=False)) / "parts"


def _moment_of(pid):
    """When a process was started, in ticks since the machine was: its number alone may be another's by now."""
    return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[19]


def note_part(part):
    """Note a part that is being written, so that it is removed if this process is killed; the note's file, or None."""
    try:
        _notes().mkdir(parents=True, exist_ok=True)
        note = _notes() / f"{os.getpid()}-{_moment_of(os.getpid())}-{uuid.uuid4().hex}"
        note.write_text(str(Path(part).absolute()))
        return note
    except (OSError, ValueError, IndexError):
        return None  # without a note it is left behind at worst


def remove_left_parts():
    """Remove files and folders that processes were writing when they were killed."""
    try:
        notes = list(_notes().iterdir())
    except OSError:
        return
    for note in notes:
        try:
            pid, moment, _ = note.name.split("-")
            if _runs(pid, moment):
                continue
            part = Path(note.read_text())
            kind = part.lstat().st_mode if part.is_absolute() else 0
            if part.name.startswith(PART) and stat.S_ISREG(kind):
                part.unlink()
            elif part.name.startswith(DELIVERY) and stat.S_ISDIR(kind):
                shutil.rmtree(part)
        except FileNotFoundError:
            pass
        except (OSError, ValueError):
            continue
        note.unlink(missing_ok=True)


def _runs(pid, moment):
    try:
        return _moment_of(int(pid)) == moment
    except (OSError, ValueError, IndexError):
        return False
