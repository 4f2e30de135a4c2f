"""Opening the window from the command line."""

import os
import subprocess
import sys
from pathlib import Path

import click

from ..core.errors import UmbrateError


def has_display():
    """Whether a window can be shown."""
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM"))


def open_window(job=None):
    """Show the window in a process of its own, so that the command line never imports the desk."""
    if not has_display():
        raise UmbrateError("There is no display to open a window on. Set DISPLAY, or use the commands: umbrate --help")
    return subprocess.call([sys.executable, "-m", "umbrate.desk", *([str(job)] if job else [])])


@click.command("open")
@click.argument("job", required=False, type=click.Path(path_type=Path))
def window(job=None):
    """Open the window, on JOB where it is given."""
    sys.exit(open_window(job))
