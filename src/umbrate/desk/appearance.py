"""How the desk looks to this user on this machine: its theme, and how large everything is.

The theme changes at once. Sizes are those of Qt's own scale, which counts from the start of a program: another one
holds from the next start.
"""

import os

from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QApplication

from . import tokens

SIZES = (90, 100, 110, 125, 150, 175, 200)  #: percent
SCALE = "QT_SCALE_FACTOR"


def _settings():
    return QSettings("umbrate", "umbrate")


def theme():
    """The name of the theme that was chosen."""
    name = _settings().value("look/theme", "dark")
    return name if name in tokens.THEMES else "dark"


def size():
    """The interface size that was chosen, in percent."""
    try:
        value = int(_settings().value("look/size", 100))
    except (TypeError, ValueError):
        return 100
    return value if value in SIZES else 100


def before_start():
    """Before there is a QApplication: the size; the environment's own goes first."""
    if size() != 100:
        os.environ.setdefault(SCALE, str(size() / 100))


def put_on(app):
    """Give an application the chosen theme."""
    tokens.use(theme())
    app.setPalette(tokens.palette())
    app.setStyleSheet(tokens.style())


def choose_theme(name):
    """Choose a theme and put it on; windows draw themselves anew."""
    _settings().setValue("look/theme", name)
    put_on(QApplication.instance())


def choose_size(percent):
    """Choose the interface size from the next start on."""
    _settings().setValue("look/size", percent)
    if os.environ.get(SCALE) == str(shown() / 100):
        os.environ.pop(SCALE, None)  # a process started from here takes the new one


def shown():
    """The interface size of this process, in percent."""
    try:
        return round(100 * float(os.environ.get(SCALE, 1)))
    except ValueError:
        return 100
