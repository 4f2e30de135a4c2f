"""Blobs: arrays and pictures of a job, as files named by what is in them.

A file is written beside its final name, flushed to the disk and renamed: it is there whole or not
at all, and what is there never changes. So any process may write blobs at any time; only the
database, which says what they mean, needs the lock.
"""

import hashlib
import io
import os
import tempfile
import zipfile
from pathlib import Path

import numpy as np

from ..core.errors import UmbrateError


class BlobStore:
    """The folder ``blobs/`` of a job."""

    def __init__(self, folder):
        self.folder = Path(folder)

    def path(self, key):
        """The file of a blob."""
        return self.folder / key[:2] / key

    def put_bytes(self, data):
        """Store bytes; returns their key."""
        key = hashlib.sha256(data).hexdigest()
        target = self.path(key)
        try:
            if target.read_bytes() == data:
                return key
        except OSError:
            pass  # not there, or a damaged disk: written anew, which mends a damaged file too
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
            handle, temporary = tempfile.mkstemp(dir=target.parent, prefix=".part-")
            try:
                with os.fdopen(handle, "wb") as f:
                    f.write(data)
                    f.flush()
                    os.fsync(f.fileno())
                os.replace(temporary, target)
            except BaseException:
                Path(temporary).unlink(missing_ok=True)
                raise
        except OSError as e:
            raise UmbrateError(
                f"The job's folder cannot be written ({e.strerror}). Free some space or check the "
                "permissions, then run the step again; everything finished before is kept."
            ) from e
        return key

    def _mark_file(self, mark):
        return self.folder.parent / "known" / mark

    def remember(self, mark, key):
        """Keep that a blob is what comes of a mark (a hash of everything it was made from): see `recall`."""
        file = self._mark_file(mark)
        try:
            file.parent.mkdir(exist_ok=True)
            part = file.with_name(f".{mark}.{os.getpid()}")
            part.write_text(key)
            os.replace(part, file)
        except OSError:
            pass  # it will be made again, no more

    def recall(self, mark):
        """The key of a blob that was made from a mark before, though no result may have come of it; or None.

        None as well where the blob's file is damaged, so that it is made again.
        """
        try:
            key = self._mark_file(mark).read_text()
            return key if hashlib.sha256(self.path(key).read_bytes()).hexdigest() == key else None
        except OSError:
            return None

    def known(self, most=400):
        """Keys of the blobs that are remembered, the newest; older ones are forgotten."""
        files = sorted((self.folder.parent / "known").glob("*"), key=lambda f: f.stat().st_mtime_ns, reverse=True)
        for f in files[most:]:
            f.unlink(missing_ok=True)
        return {f.read_text() for f in files[:most] if not f.name.startswith(".")}

    def put_arrays(self, **arrays):
        """Store named arrays together; returns their key."""
        buffer = io.BytesIO()
        np.savez(buffer, **arrays)
        return self.put_bytes(buffer.getvalue())

    def get_bytes(self, key):
        """The bytes of a blob."""
        try:
            return self.path(key).read_bytes()
        except OSError as e:
            raise UmbrateError(
                f"A data file of the job is missing ({key[:12]}). Run the stage that made it again."
            ) from e

    def get_arrays(self, key):
        """The named arrays of a blob, as a dictionary."""
        try:
            with np.load(io.BytesIO(self.get_bytes(key)), allow_pickle=False) as z:
                return {name: z[name] for name in z.files}
        except (ValueError, OSError, KeyError, EOFError, zipfile.BadZipFile) as e:
            raise UmbrateError(
                f"A data file of the job is damaged ({key[:12]}). Run the stage that made it again."
            ) from e
