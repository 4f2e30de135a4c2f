"""The entry in the desktop's menu: a `.desktop` file, the icon, and the file type of a job.

Written after the desktop entry, shared MIME-info and icon theme specifications of freedesktop.org, all below the user's
data folder. A folder has the type `inode/directory` whatever its name is, so Umbrate offers itself for folders without
becoming the program that opens them all, and owns the file `job.sqlite` in each job's folder.
"""

import os
import shutil
import subprocess
import sys
from pathlib import Path

from ..core.errors import UmbrateError
from ..formats.files import Gate, make_folder, written_aside

FOLDER = "inode/directory"
JOB_TYPE = "application/x-umbrate-job"
MIME = f"""<?xml version="1.0" encoding="UTF-8"?>
<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">
  <mime-type type="{JOB_TYPE}">
    <comment>Umbrate job</comment>
    <glob pattern="job.sqlite" weight="80"/>
    <icon name="umbrate"/>
  </mime-type>
</mime-info>
"""
ENTRY = """[Desktop Entry]
Type=Application
Version=1.5
Name=Umbrate
GenericName=Photo scanning
Comment=Reconstruct objects from masked photo sets
Exec={command} open %f
TryExec={program}
Icon=umbrate
Terminal=false
StartupNotify=true
StartupWMClass=umbrate
Categories=Graphics;3DGraphics;Science;
Keywords=scan;photos;point cloud;
MimeType={types};
"""


def menu_files():
    """The files that `install` writes, by what they are: entry, icon and type."""
    data = Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")
    return {
        "entry": data / "applications" / "umbrate.desktop",
        "icon": data / "icons" / "hicolor" / "scalable" / "apps" / "umbrate.svg",
        "type": data / "mime" / "packages" / "umbrate.xml",
    }


def launcher():
    """The program that a menu starts: the checkout's launcher, or the command that came with the package.

    Raises
    ------
    UmbrateError
        When there is neither.
    """
    checkout = Path(__file__).resolve().parents[3] / "umbrate"
    if checkout.is_file() and os.access(checkout, os.X_OK):
        return checkout
    beside = Path(sys.executable).with_name("umbrate")
    found = beside if beside.is_file() else shutil.which("umbrate")
    if not found:
        raise UmbrateError(
            "The command umbrate was not found, so a menu could not start it. Install the package again."
        )
    return Path(found)


def quoted(path):
    """A path as an argument of an `Exec` line: in quotes, its special characters escaped twice over."""
    text = str(path).replace("\\", "\\\\\\\\").replace("%", "%%")
    for c in '"`$':
        text = text.replace(c, "\\\\" + c)
    return f'"{text}"'


def install():
    """Put Umbrate into the menu.

    Returns
    -------
    dict
        The files that were written, by what they are.
    """
    program = launcher()
    if "\n" in str(program):
        raise UmbrateError(f"A menu entry cannot name the program: there is a line break in its path, {program!s}.")
    files = menu_files()
    opens_folders = _default_for(FOLDER)
    icon = Path(__file__).resolve().parents[1] / "desk" / "pictures" / "umbrate.svg"
    entry = ENTRY.format(
        command=quoted(program), program=str(program).replace("\\", "\\\\"), types=f"{JOB_TYPE};{FOLDER}"
    )
    for what, content in (("icon", icon.read_text()), ("type", MIME), ("entry", entry)):
        make_folder(files[what].parent)
        with written_aside(files[what], Gate(replace=True)) as part:
            part.write_text(content)
    _refresh(files)
    # a program that offers itself for folders must not take them from the file manager
    if opens_folders and opens_folders != files["entry"].name:
        _call("xdg-mime", "default", opens_folders, FOLDER)
    return files


def remove():
    """Take Umbrate out of the menu.

    Returns
    -------
    list of Path
        The files that were removed; empty where there were none.
    """
    files = menu_files()
    gone = [f for f in files.values() if f.is_file() or f.is_symlink()]
    for f in gone:
        f.unlink()
    if gone:
        _refresh(files)
    return gone


def _default_for(kind):
    """The desktop entry that opens a type now; empty where nobody knows."""
    return _call("xdg-mime", "query", "default", kind)


def _refresh(files):
    """Have the desktop read what changed; where these helpers are missing it looks by itself, later."""
    _call("update-desktop-database", files["entry"].parent)
    _call("update-mime-database", files["type"].parents[1])
    _call("gtk-update-icon-cache", "--ignore-theme-index", "--quiet", files["icon"].parents[2])


def _call(program, *arguments):
    """What a helper of the desktop prints; empty where it is missing or fails: nothing depends on it."""
    if not shutil.which(program):
        return ""
    try:
        done = subprocess.run([program, *map(str, arguments)], capture_output=True, text=True, timeout=30, check=False)
    except (OSError, subprocess.TimeoutExpired):
        return ""
    return done.stdout.strip() if done.returncode == 0 else ""
