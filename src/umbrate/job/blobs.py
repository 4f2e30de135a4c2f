"""Blobs: arrays and pictures of a job, as files named by what is in them.

A file is written beside its final name, flushed to the disk and renamed: it is there whole or not
at all, and what is there never changes. So any process may write blobs at any time; only the
database, which says what they mean, needs the lock. No link is followed: a job may come from a stranger.
"""

import hashlib
import io
import os
import re
import struct
import time
import uuid
import zipfile
import zlib
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path

import numpy as np

from ..core.errors import CannotKeep, UmbrateError
from . import elsewhere
from .folder import Freed, is_link, open_folder, open_regular, remove_files

KEY = re.compile(r"[0-9a-f]{64}")
FINGERPRINT = re.compile(r"[\w-]{1,80}")
SMALL = "small-"  #: begins fingerprints of what takes hardly any room
PART = ".part-"
LARGE = 1 << 25  #: bytes of arrays from which on they are written without a copy in memory, and read by several threads
HEAD = 1 << 14  #: bytes that the head of an array has at most
AT_ONCE = 1 << 22  #: bytes of an array that are read, and checked, at a time
READERS = 2  #: threads that read a large blob
LOCAL_HEAD = struct.Struct("<4s22xHH")  #: before a file in an archive: its mark, and how long name and extras are
LEFT_S = 3600.0  #: a part that nobody has written to for so long is of a process that died


class BlobStore:
    """The folder ``blobs/`` of a job."""

    def __init__(self, folder):
        self.home = folder  #: as the process says it that works beside the job
        self.folder = Path(elsewhere.here.blobs(folder) if elsewhere.here else folder)

    @classmethod
    def here(cls, folder):
        """A store that is on this machine, whatever job its blobs are of."""
        out = cls.__new__(cls)
        out.home, out.folder = None, Path(folder)
        return out

    def path(self, key):
        """The file of a blob; raises UmbrateError where the key is none."""
        if not KEY.fullmatch(key or ""):
            raise UmbrateError("The job names a data file by what is no name of one. Do not use this job file.")
        return self.folder / key[:2] / key

    # ------------------------------------------------------------------ files
    @contextmanager
    def _folder(self, name, make=False):
        """The descriptor of a folder in ``blobs/``."""
        if make:
            try:
                os.mkdir(self.folder)  # not its parents: a job that was moved away must not come back as a ghost
            except FileExistsError:
                pass
        with open_folder(self.folder) as top:
            if make:
                try:
                    os.mkdir(name, dir_fd=top)
                    os.fsync(top)
                except FileExistsError:
                    pass
            with open_folder(name, top) as fd:
                yield fd

    def _read(self, key, ask=True):
        """The bytes of a blob; OSError where it is not there. `ask`: also whoever works beside the job."""
        with self._open(key, ask) as f:
            return f.read()

    def _open(self, key, ask=True):
        """The open file of a blob, as `_read` reads it."""
        if not KEY.fullmatch(key or ""):
            raise FileNotFoundError(2, "no blob", key)
        if self._is_away:
            elsewhere.here.look_over(self.home, key)
        try:
            with self._folder(key[:2]) as fd:
                return os.fdopen(open_regular(key, os.O_RDONLY, fd), "rb")
        except FileNotFoundError:
            data = elsewhere.here.missing(self.home, key) if self._is_away and ask else None
            if data is None:
                raise
            return io.BytesIO(data)

    @staticmethod
    @contextmanager
    def _part(fd):
        """A new file in an open folder to write and read, and its name; where that fails, nothing is left of it."""
        part = f"{PART}{uuid.uuid4().hex}"
        try:
            with os.fdopen(open_regular(part, os.O_RDWR | os.O_CREAT | os.O_EXCL, fd), "w+b") as f:
                yield f, part
        except BaseException:
            try:
                os.unlink(part, dir_fd=fd)
            except OSError:
                pass
            raise

    @staticmethod
    def _name(f, part, fd, name, end):
        """Give a part its name in an open folder: its content is on the disk before that, the name after."""
        f.flush()
        os.fsync(f.fileno())
        os.replace(part, name, src_dir_fd=fd, dst_dir_fd=end)
        os.fsync(end)

    def _write(self, fd, name, data):
        """Write a file into an open folder: whole, or not at all."""
        with self._part(fd) as (f, part):
            f.write(data)
            self._name(f, part, fd, name, fd)

    def put_bytes(self, data):
        """Store bytes; returns their key."""
        key = self._put(data)
        if self._is_away:
            elsewhere.here.made(self.home, key, data)
        return key

    @property
    def _is_away(self):
        return elsewhere.here is not None and self.home is not None

    def _put(self, data):
        key = hashlib.sha256(data).hexdigest()
        try:
            if self._read(key, ask=False) == data:
                return key
        except OSError:
            pass  # not there, or a damaged disk: written anew, which mends a damaged file too
        try:
            with self._folder(key[:2], make=True) as fd:
                self._write(fd, key, data)
        except OSError as e:
            raise _cannot_write(e) from e
        return key

    # ------------------------------------------------------------------ what comes of what
    def _cache(self):
        return self.folder.parent / "known"

    def remember(self, fingerprint, key):
        """Keep that a blob is what comes of a fingerprint (a hash of everything it was made from): see `recall`."""
        if self._is_away:
            elsewhere.here.remembered(self.home, fingerprint, key)
            return
        try:
            try:
                os.mkdir(self._cache())
            except FileExistsError:
                pass
            with open_folder(self._cache()) as fd:
                self._write(fd, _good_fingerprint(fingerprint), key.encode())
        except OSError:
            pass  # it will be made again, no more

    def recall(self, fingerprint, kind):
        """The key and the arrays of a blob that was made from a fingerprint before, whether a result came of it or not.

        kind : Kind of the blob

        Its file is read once. Two times None without one, and where it is damaged, so that it is made again.
        """
        try:
            with open_folder(self._cache()) as fd:
                with os.fdopen(open_regular(_good_fingerprint(fingerprint), os.O_RDONLY, fd), "rb") as f:
                    key = f.read(80).decode("ascii", "replace")
            data = self._read(key)
            if hashlib.sha256(data).hexdigest() == key:
                return key, kind.checked(_arrays(io.BytesIO(data), kind))
        except _UNREADABLE:
            pass
        return None, None

    def cached(self, most=400, most_small=4000, forget=True):
        """Keys of the blobs that are remembered, the newest; older ones are forgotten, where `forget` allows it."""
        try:
            with open_folder(self._cache()) as fd:
                with os.scandir(fd) as entries:
                    files = [e for e in entries if e.is_file(follow_symlinks=False) and FINGERPRINT.fullmatch(e.name)]
                    files = sorted(files, key=lambda e: e.stat(follow_symlinks=False).st_mtime_ns, reverse=True)
                small, large = ([e for e in files if e.name.startswith(SMALL) is which] for which in (True, False))
                old = {e.name for e in large[most:] + small[most_small:]}
                remove_files(fd, lambda e: e.name in old or _is_left(e), forget)
                out = set()
                for e in large[:most] + small[:most_small]:
                    with os.fdopen(open_regular(e.name, os.O_RDONLY, fd), "rb") as f:
                        out.add(f.read(80).decode("ascii", "replace"))
                return out
        except OSError:
            return set()

    def remove_unused(self, used, really=True):
        """Remove blobs whose keys are not in `used`, and parts that a process left when it died; returns what it Freed.

        Only regular files with the name of a blob or a part are removed, only in this folder, and through no link.

        used : set of str, or None to remove parts alone, however new
        really : False only counts them
        """
        out = Freed()

        def is_unused(e):
            if used is None:
                return e.name.startswith(PART)
            return (bool(KEY.fullmatch(e.name)) and e.name not in used) or _is_left(e)

        try:
            with open_folder(self.folder) as top:
                with os.scandir(top) as entries:
                    names = [e.name for e in entries if re.fullmatch("[0-9a-f]{2}", e.name)]
                for name in names:
                    try:
                        with open_folder(name, top) as fd:
                            out += remove_files(fd, is_unused, really)
                    except OSError:
                        continue  # a link, or a file: none of ours
        except OSError:
            pass
        return out

    # ------------------------------------------------------------------ arrays
    def put_arrays(self, **arrays):
        """Store named arrays together; returns their key."""
        if sum(np.asarray(a).nbytes for a in arrays.values()) > LARGE and not self._is_away:
            return self._put_large(arrays)
        buffer = io.BytesIO()
        np.savez(buffer, **arrays)
        return self.put_bytes(buffer.getvalue())

    def _put_large(self, arrays):
        """Store arrays without a copy of them in memory: their key is known once they are written."""
        try:
            with self._folder("00", make=True) as fd, self._part(fd) as (f, part):
                np.savez(f, **arrays)
                f.seek(0)
                key = hashlib.file_digest(f, "sha256").hexdigest()
                with self._folder(key[:2], make=True) as end:
                    self._name(f, part, fd, key, end)
        except OSError as e:
            raise _cannot_write(e) from e
        return key

    def has(self, *keys):
        """Whether the files of all these blobs are there."""
        return all(KEY.fullmatch(k or "") and self.path(k).is_file() for k in keys)

    def size_of(self, keys):
        """Bytes that the files of some blobs take, which are there."""
        return sum(self.path(k).stat().st_size for k in keys)

    def get_bytes(self, key):
        """The bytes of a blob."""
        try:
            return self._read(key)
        except OSError as e:
            raise _missing(key) from e

    def get_arrays(self, key, kind):
        """The named arrays of a blob, as a dictionary, checked to be of a Kind (see `contents`)."""
        try:
            with self._open(key) as f:
                return kind.checked(_arrays(f, kind))
        except FileNotFoundError as e:
            raise _missing(key) from e
        except _UNREADABLE as e:
            raise UmbrateError(
                f"A data file of the job is damaged ({key[:12]}: {e}). Run the stage that made it again."
            ) from e


def _missing(key):
    return UmbrateError(f"A data file of the job is missing ({str(key)[:12]}). Run the stage that made it again.")


#: what is raised of a file that is not what it should be
_UNREADABLE = (ValueError, TypeError, OSError, KeyError, EOFError, NotImplementedError, SyntaxError, MemoryError,
               RuntimeError, struct.error, zlib.error, zipfile.BadZipFile)  # fmt: skip


def _arrays(file, kind):
    """The arrays that a Kind has, of an archive; none takes more memory than its bytes in the archive.

    They are read straight to where they stay: a cloud of twenty million points is most of a gigabyte.

    Raises
    ------
    One of _UNREADABLE
        Where it is no such archive, or compressed: this program writes none that is, and one can be a thousand times
        larger than it looks.
    """
    found, size = {}, file.seek(0, os.SEEK_END)
    with zipfile.ZipFile(file) as archive:
        for info in archive.infolist():
            name = info.filename.removesuffix(".npy")
            if name not in kind.arrays:
                continue
            if info.compress_type != zipfile.ZIP_STORED or info.file_size > size or name in found:
                raise ValueError("it is not as this program writes it")
            file.seek(info.header_offset)
            head = file.read(LOCAL_HEAD.size)
            mark, name_length, more_length = LOCAL_HEAD.unpack(head)
            if mark != b"PK\x03\x04":
                raise ValueError("an array does not begin where it should")
            found[name] = file.tell() + name_length + more_length, info.file_size, info.CRC
    with ThreadPoolExecutor(READERS) as threads:
        # two read a large one in half the time; a small one is there before a second thread would be
        each = threads.map if size >= LARGE else map
        return dict(zip(found, each(lambda x: _array(_bytes_at(file, *x)), found.values()), strict=True))


def _bytes_at(file, at, size, crc):
    """Bytes (size,) of a file from a place on, checked as they come: so much stays in the processor's own memory."""
    raw, found = np.empty(size, np.uint8), 0
    for first in range(0, size, AT_ONCE):
        part = raw[first : first + AT_ONCE]
        if isinstance(file, io.BytesIO):
            part[:] = np.frombuffer(file.getbuffer()[at + first :][: len(part)], np.uint8)
        elif os.preadv(file.fileno(), [part], at + first) != len(part):
            raise ValueError("an array is not what was written")
        found = zlib.crc32(part, found)
    if found != crc:
        raise ValueError("an array is not what was written")
    return raw


def _array(raw):
    """The array of a file's bytes (n,) uint8, which must be exactly as long as its head says; it uses their memory."""
    f = io.BytesIO(raw[:HEAD].tobytes())
    version = np.lib.format.read_magic(f)
    read = {(1, 0): np.lib.format.read_array_header_1_0, (2, 0): np.lib.format.read_array_header_2_0}[version]
    shape, by_columns, dtype = read(f)
    count = 1
    for n in shape:
        count *= int(n)
    start = f.tell()
    if dtype.hasobject or any(n < 0 for n in shape) or count * dtype.itemsize != len(raw) - start or start % 16:
        raise ValueError("an array is not as long as it says")
    return raw[start:].view(dtype).reshape(shape, order="F" if by_columns else "C")


def _good_fingerprint(fingerprint):
    if not FINGERPRINT.fullmatch(fingerprint):
        raise FileNotFoundError(2, "no fingerprint", fingerprint)
    return fingerprint


def _is_left(entry):
    """Whether a file is a part that nobody writes to any more."""
    return entry.name.startswith(PART) and time.time() - entry.stat(follow_symlinks=False).st_mtime > LEFT_S


def _cannot_write(e):
    if is_link(e):
        return CannotKeep(
            "The job's folder holds a link where its own data should be. Nothing was written through it. Open a plain "
            "copy of the job."
        )
    if isinstance(e, FileNotFoundError):
        return CannotKeep(
            "The job's folder is not where it was: it was moved, renamed or removed while it was open. Nothing was "
            "written. Close the job and open it where it is now."
        )
    return CannotKeep(
        f"The job's folder cannot be written ({e.strerror}). Free some space or check the "
        "permissions, then run the step again; everything finished before is kept."
    )
