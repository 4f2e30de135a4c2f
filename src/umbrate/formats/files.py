"""Files written aside and renamed: a full disk leaves no half file."""

import os
import tempfile
from contextlib import contextmanager
from pathlib import Path

from ..core.errors import UmbrateError


@contextmanager
def written_aside(path):
    """A temporary path to write to; it becomes `path` when the block ends well, else it is removed."""
    path = Path(path)
    if not path.parent.is_dir():
        raise UmbrateError(f"The folder {path.parent} does not exist. Make it first, or choose another place.")
    try:
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=".part-", suffix=path.suffix)
        os.close(handle)
        mask = os.umask(0)
        os.umask(mask)
        os.chmod(name, 0o666 & ~mask)
        temporary = Path(name)
        try:
            yield temporary
            with open(temporary, "rb+") as f:
                os.fsync(f.fileno())
            os.replace(temporary, path)
        except BaseException:
            temporary.unlink(missing_ok=True)
            raise
    except OSError as e:
        raise UmbrateError(
            f"{path} could not be written ({e.strerror}). Check the space on the disk and your permissions; "
            "no half file was left."
        ) from e
