"""Asking for folders and files: each kind opens where one was last, the first time in the user's pictures folder."""

from pathlib import Path

from PyQt6.QtCore import QSettings, QStandardPaths
from PyQt6.QtWidgets import QFileDialog

PHOTOS, JOBS, FILES = "photos", "jobs", "files"  #: kinds that have places of their own


def _settings():
    return QSettings("umbrate", "umbrate")


def place_of(kind):
    """The folder where something of a kind was chosen last, as text."""
    if not first_time(kind):
        return str(_settings().value(f"places/{kind}"))
    pictures = QStandardPaths.writableLocation(QStandardPaths.StandardLocation.PicturesLocation)
    return pictures if Path(pictures).is_dir() else str(Path.home())


def first_time(kind):
    """Whether nothing of a kind was chosen yet, or its folder is gone."""
    last = str(_settings().value(f"places/{kind}", "") or "")
    return not last or not Path(last).is_dir()


def remember_place(kind, path):
    """Something of a kind was chosen in the folder of this path."""
    _settings().setValue(f"places/{kind}", str(Path(path).parent))


def ask_folder(parent, title, kind=PHOTOS, start=""):
    """Ask for a folder; empty where the user thought better of it."""
    folder = QFileDialog.getExistingDirectory(parent, title, start or place_of(kind))
    if folder:
        remember_place(kind, folder)
    return folder


def open_file(parent, title, kinds, kind=FILES):
    """Ask for a file that is there; empty where the user thought better of it."""
    file, _ = QFileDialog.getOpenFileName(parent, title, place_of(kind), kinds)
    if file:
        remember_place(kind, file)
    return file
