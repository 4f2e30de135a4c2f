"""The one gate through which everything goes that is written outside a job.

A photo cannot be taken again. So nothing that was there before is written over: a file that a job reads never, another
one only where the user said so. And a file is written aside and renamed: a full disk leaves no half file.
"""

import os
import tempfile
from contextlib import contextmanager
from pathlib import Path

from ..core.disk import sync_folder
from ..core.errors import UmbrateError, WouldReplace
from ..core.imaging.decode import PHOTO_SUFFIXES, is_raw, read_facts
from .parts import PART, note_part


def _identities(path):
    """What tells that a path leads to a file, whatever the path is called: of the file, and of a link to it."""
    out = set()
    for look in (os.stat, os.lstat):
        try:
            s = look(path)
        except (OSError, ValueError):
            continue
        out.add((s.st_dev, s.st_ino))
    return out


class Gate:
    """What may be written over.

    Parameters
    ----------
    replace : bool
        Whether the user said that files may be replaced which were there before.
    reads : iterable of paths
        Files that a job reads: photos, masks, plates. They are never replaced.
    home : path, optional
        A job's own folder, which nothing is written into.
    """

    def __init__(self, replace=False, reads=(), home=None):
        self.replace = replace
        self._reads, self._known, self._home = list(reads), None, home

    def _is_read(self, path):
        if self._known is None:
            self._known = set().union(*map(_identities, self._reads)) if self._reads else set()
        return bool(_identities(path) & self._known)

    def check(self, *paths):
        """Raise where one of these files must not be written; nothing was written then.

        Raises
        ------
        WouldReplace
            Where files are there that may be replaced if the user says so.
        UmbrateError
            Where one is a photo or another file that a job reads, or lies in the job's own folder.
        """
        there, names = [], {}
        for path in map(Path, paths):
            self._check_one(path, there)
            key = str(path).lower()
            if key in names:
                raise UmbrateError(f"Two files would be called {path.name} in {path.parent}. Nothing was written.")
            names[key] = path
        if there and not self.replace:
            more = f" and {len(there) - 1} more" if len(there) > 1 else ""
            verb = "are" if len(there) > 1 else "is"
            folder = there[0].absolute().parent
            raise WouldReplace(
                f"{there[0].name}{more} {verb} there already in {folder}. Nothing was written.", paths=there
            )

    def _check_one(self, path, there):
        try:
            exists = os.path.lexists(path)
            inside = self._home is not None and Path(self._home).resolve() in path.resolve().parents
        except (OSError, ValueError) as e:
            raise UmbrateError(f"A file cannot be called that ({getattr(e, 'strerror', None) or e}).") from None
        if inside:
            raise UmbrateError(f"{path} lies in the job's own folder. Choose a place outside of it.")
        if not exists:
            return
        if path.is_dir():
            raise UmbrateError(f"{path} is a folder. Give the name of a file.")
        if self._is_read(path):
            raise UmbrateError(
                f"{path.name} in {path.parent} is a file that the job reads, such as a photo or a mask. It is never "
                "written over, and nothing was written. Choose another folder."
            )
        if taken_by_camera(path):
            raise UmbrateError(
                f"{path.name} in {path.parent} is a photo that a camera took. It is never written over, and nothing "
                "was written. Choose another folder."
            )
        there.append(path)


CLOSED = Gate()  #: replaces nothing


def taken_by_camera(path):
    """Whether a file is a photo as a camera wrote it: its file names the camera or the moment."""
    if Path(path).suffix.lower() not in PHOTO_SUFFIXES:
        return False
    if is_raw(path):
        return True
    try:
        facts = read_facts(path)
    except UmbrateError:
        return False
    return bool(facts.make or facts.model or facts.taken)


def make_folder(path):
    """Make a folder for what is written, with those above it."""
    try:
        Path(path).mkdir(parents=True, exist_ok=True)
    except (OSError, ValueError) as e:
        why = getattr(e, "strerror", None) or e
        raise UmbrateError(f"{path} cannot be written to ({why}). Choose another place.") from e


@contextmanager
def written_aside(path, gate=CLOSED):
    """A temporary path to write to; it becomes `path` when the block ends well, else it is removed.

    Raises
    ------
    UmbrateError
        Where the gate does not let it through, or it cannot be written, whatever the reason; no half file is left.
    """
    path = Path(path)
    gate.check(path)
    try:
        if not path.parent.is_dir():
            raise UmbrateError(f"The folder {path.parent} does not exist. Make it first, or choose another place.")
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=PART, suffix=path.suffix)
        os.close(handle)
        mask = os.umask(0)
        os.umask(mask)
        os.chmod(name, 0o666 & ~mask)
        temporary, note = Path(name), note_part(name)
        try:
            yield temporary
            with open(temporary, "rb+") as f:
                os.fsync(f.fileno())
            if gate.replace:
                gate.check(path)
                os.replace(temporary, path)
            else:
                put_new(temporary, path)
            sync_folder(path.parent)
        except BaseException:
            temporary.unlink(missing_ok=True)
            raise
        finally:
            if note:
                note.unlink(missing_ok=True)
    except UmbrateError:
        raise
    except OSError as e:
        raise UmbrateError(
            f"{path} could not be written ({e.strerror or e}). Check the space on the disk and your permissions; "
            "no half file was left."
        ) from e
    except Exception as e:  # of a library that has errors of its own
        why = next(iter(str(e).splitlines()), type(e).__name__)  # some tell where in their code it happened, too
        raise UmbrateError(f"{path} could not be written ({why}). No half file was left.") from e


def put_new(temporary, path):
    """Give a file its name where nothing has it: also where it came to be while the file was written."""
    try:
        os.link(temporary, path)
    except FileExistsError:
        raise WouldReplace(
            f"{path.name} is there already in {path.parent}. Nothing was written.", paths=[path]
        ) from None
    except OSError:  # a file system without links
        CLOSED.check(path)
        os.replace(temporary, path)
        return
    temporary.unlink()


def as_written(files):
    """Which files several photos of one name became, as a sentence; empty where their names say it.

    files : list of (photo name, relative path as text)
    """
    other = [(n, f) for n, f in files if Path(f).name.rpartition(".")[0] != Path(n).stem or "/" in f]
    if not other:
        return ""
    told = ", ".join(f"{n} is {f}" for n, f in other[:4]) + (f" and {len(other) - 4} more" if len(other) > 4 else "")
    return f"Photos of one name have files of their own: {told}."


def files_below(folder):
    """The files in a folder and in the folders directly below it, in order."""
    places = [Path(folder), *sorted(d for d in Path(folder).iterdir() if d.is_dir())]
    return [f for d in places for f in sorted(d.iterdir()) if f.is_file()]
