"""The open folder of a job, held by descriptor: what is in it is reached from there and never through a link.

A path may come to mean another folder while a job is open (it was renamed, or replaced by another); a descriptor
cannot. And a job may come from a stranger: a link in it must not lead writing, tidying up or reading elsewhere.
"""

import errno
import fcntl
import os
import stat
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from ..core.errors import UmbrateError

FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
FILE = os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK  #: a pipe in place of a file must not make us wait
OF_DATABASE = ("job.sqlite", "job.sqlite-wal", "job.sqlite-shm", "job.sqlite-journal")
FOLDERS = ("blobs", "known", "frames", "scratch")


class JobInUse(UmbrateError):
    """Another process writes the job; it can still be opened for reading."""


class JobReadOnly(UmbrateError):
    """The job lies where it cannot be written to; it can still be opened for reading."""


def is_link(error):
    """Whether opening failed because there is a link, or something else than was asked for."""
    return error.errno in (errno.ELOOP, errno.ENOTDIR, errno.EMLINK)


@contextmanager
def open_folder(path, dir_fd=None):
    """The descriptor of a folder that is no link, while the block runs."""
    fd = os.open(path, FOLDER, dir_fd=dir_fd)
    try:
        yield fd
    finally:
        os.close(fd)


def open_regular(name, flags, dir_fd, mode=0o644):
    """The descriptor of a regular file in a folder; OSError where there is a link, a pipe or the like."""
    fd = os.open(name, flags | FILE, mode, dir_fd=dir_fd)
    if not stat.S_ISREG(os.fstat(fd).st_mode):
        os.close(fd)
        raise OSError(errno.ELOOP, "not a regular file", str(name))
    return fd


class Freed(NamedTuple):
    """Files that were removed, or would be: how many, and their bytes."""

    count: int = 0
    bytes: int = 0

    def __add__(self, other):
        return Freed(self.count + other.count, self.bytes + other.bytes)


def remove_files(dir_fd, wanted, really=True):
    """Remove regular files of an open folder by name; returns what that Freed.

    wanted : callable(os.DirEntry) -> bool
    really : False only counts them
    """
    out = Freed()
    with os.scandir(dir_fd) as entries:
        for e in list(entries):
            try:
                if e.is_file(follow_symlinks=False) and wanted(e):
                    size = e.stat(follow_symlinks=False).st_size
                    if really:
                        os.unlink(e.name, dir_fd=dir_fd)
                    out += Freed(1, size)
            except OSError:
                pass  # it stays: no harm but the space it takes
    return out


class HeldFolder:
    """Where an open job is.

    Attributes
    ----------
    path : Path
    fd : int
        Of the folder.
    """

    def __init__(self, path):
        self.path = Path(path)
        self.fd = self._lock = None
        self.fd = os.open(self.path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            self._check_kinds()
            self._database = self._identity("job.sqlite")
        except BaseException:
            self.close()
            raise

    def _check_kinds(self):
        """Raise where something in the folder is a link, or no file or folder where there should be one."""
        for name in (*OF_DATABASE, "lock", *FOLDERS):
            try:
                kind = os.lstat(name, dir_fd=self.fd).st_mode
            except FileNotFoundError:
                continue
            if name in FOLDERS:
                good, told = stat.S_ISDIR(kind), "leads elsewhere or is no folder"
            else:
                good, told = stat.S_ISREG(kind), "is a link" if stat.S_ISLNK(kind) else "is no file"
            if not good:
                raise UmbrateError(
                    f"{self.path.name} is not opened: {name} in it {told}. A job holds its own files. Ask whoever made "
                    "it for a plain copy."
                )

    def _identity(self, name):
        s = os.lstat(name, dir_fd=self.fd)
        return s.st_dev, s.st_ino

    def lock(self):
        """Take the lock of the one who writes.

        Raises
        ------
        JobInUse, JobReadOnly
        """
        try:
            self._lock = open_regular("lock", os.O_RDWR | os.O_CREAT, self.fd)
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            self.unlock()
            raise JobInUse(f"{self.path.name} is open in another window or command. Close it there first.") from None
        except OSError as e:
            self.unlock()
            raise JobReadOnly(
                f"{self.path.name} cannot be written to ({e.strerror}). Copy it to a place you may write to."
            ) from e

    def unlock(self):
        """Give the lock back."""
        if self._lock is not None:
            os.close(self._lock)
            self._lock = None

    def is_here(self):
        """Whether the folder is still where it was opened, with the database that was opened."""
        try:
            now, mine = os.stat(self.path), os.fstat(self.fd)
            here = (now.st_dev, now.st_ino) == (mine.st_dev, mine.st_ino)
            return here and self._identity("job.sqlite") == self._database
        except OSError:
            return False

    def check(self):
        """Raise where the folder was moved, renamed or replaced since it was opened."""
        if not self.is_here():
            raise UmbrateError(
                f"The folder of this job is not at {self.path} any more: it was moved, renamed or replaced while it "
                "was open. Nothing was written. Close the job and open it where it is now."
            )

    def close(self):
        """Give lock and descriptor back; closing twice does no harm."""
        self.unlock()
        if self.fd is not None:
            os.close(self.fd)
            self.fd = None
