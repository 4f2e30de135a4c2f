"""Arrays that are kept on disk while a stage works, where memory would not hold them all.

They are files without a name, mapped into memory: the system writes them out and reads them back by itself, and they
are gone when the run ends, however it ends. Their space is taken when they are made: a full disk is reported then.
"""

import os
import tempfile

import numpy as np

from ...core.errors import CannotKeep


def zeros(shape, dtype, folder=None):
    """An array of zeros: in memory, or in a nameless file of `folder` where one is given."""
    if folder is None:
        return np.zeros(shape, dtype)
    size = int(np.prod(shape)) * np.dtype(dtype).itemsize
    try:
        with tempfile.TemporaryFile(dir=folder) as f:
            os.posix_fallocate(f.fileno(), 0, max(size, 1))
            return np.asarray(np.memmap(f, dtype, "r+", shape=shape))
    except OSError as e:
        raise CannotKeep(
            f"{size / 1e9:.1f} GB could not be kept in {folder} ({e.strerror}). Free some space, or choose a smaller "
            "photo scale."
        ) from e


def kept(array, folder=None):
    """The same array, on disk where a folder is given."""
    if folder is None:
        return array
    out = zeros(array.shape, array.dtype, folder)
    out[:] = array
    return out
