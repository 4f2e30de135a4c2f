"""What a run needs again and no job keeps: arrays in files of a folder that goes when the run ends.

They are read by mapping, so that no process holds more of them than it works on, and the system keeps in memory what
there is room for. Whoever opens the job next removes what a run that died left.
"""

import contextlib
import os
import shutil
import tempfile
import uuid
from pathlib import Path

import numpy as np

from ..core.errors import CannotKeep
from . import elsewhere

FOLDER = "scratch"  #: of a job


class Scratch:
    """A folder of arrays. It is picklable: other processes read and write the same files."""

    def __init__(self, folder):
        self.folder = Path(folder)

    def __reduce__(self):
        return _arrived, (str(self.folder),)

    @classmethod
    @contextlib.contextmanager
    def of_job(cls, blobs):
        """A new one beside the ``blobs/`` of a job, which is removed at the end.

        Raises
        ------
        CannotKeep
            Where there is no room, or nothing may be written.
        """
        home = Path(blobs).resolve().parent / FOLDER  # other processes stand elsewhere
        try:
            home.mkdir(exist_ok=True)
            folder = Path(tempfile.mkdtemp(dir=home))
        except OSError as e:
            raise _no_room(home, e) from e
        try:
            yield cls(folder)
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    def put(self, name, *arrays):
        """Keep some arrays together under a name; those that it had are replaced.

        Raises
        ------
        CannotKeep
        """
        part = self.folder / f"part-{uuid.uuid4().hex}"
        try:
            with open(part, "wb") as f:
                for a in arrays:
                    np.lib.format.write_array(f, np.ascontiguousarray(a), allow_pickle=False)
            os.replace(part, self.folder / name)  # there whole or not at all, whoever else makes the same
        except OSError as e:
            with contextlib.suppress(OSError):
                part.unlink()
            raise _no_room(self.folder, e, sum(a.nbytes for a in map(np.asarray, arrays))) from e

    def get(self, name):
        """The arrays of a name, mapped: what is written into them is not kept. None where there are none."""
        out = []
        try:
            with open(self.folder / name, "rb") as f:
                end = os.fstat(f.fileno()).st_size
                while f.tell() < end:
                    np.lib.format.read_magic(f)
                    shape, _, dtype = np.lib.format.read_array_header_1_0(f)
                    at, count = f.tell(), int(np.prod(shape))
                    # as copies on writing, though nothing writes: kernels are compiled for arrays that can be
                    a = np.memmap(f, dtype, "c", at, shape) if count else np.empty(shape, dtype)
                    out.append(np.asarray(a))
                    f.seek(at + count * dtype.itemsize)
        except OSError:
            return None
        return out

    def zeros(self, shape, dtype):
        """An array of zeros in a nameless file. Its space is taken at once: a full disk is reported here.

        Raises
        ------
        CannotKeep
        """
        size = int(np.prod(shape)) * np.dtype(dtype).itemsize
        try:
            with tempfile.TemporaryFile(dir=self.folder) as f:
                os.posix_fallocate(f.fileno(), 0, max(size, 1))
                return np.memmap(f, dtype, "r+", shape=shape)
        except OSError as e:
            raise _no_room(self.folder, e, size) from e


def _arrived(folder):
    """The Scratch of a folder in the process it was sent to; on another machine, a folder of that."""
    return Scratch(elsewhere.here.scratch(folder) if elsewhere.here else folder)


def _no_room(folder, e, size=0):
    what = f"{size / 1e9:.1f} GB" if size else "What a run needs meanwhile"
    return CannotKeep(
        f"{what} could not be kept in {folder} ({e.strerror}). Free some space, or choose a smaller photo scale."
    )
