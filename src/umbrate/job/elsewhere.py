"""The seam to a job that is on another machine: what a process there asks for that it has not got.

`here` is None in every process that works beside the job. A worker of a cluster puts an object there that knows where
it keeps what it was sent, and how to ask for more; nothing else needs to know on which machine it runs.
"""

from typing import Protocol


class Elsewhere(Protocol):
    """What a worker puts into `here`."""

    def blobs(self, folder):
        """The folder ``blobs/`` to use for that of a job."""

    def look_over(self, folder, key):
        """Remove a blob of its own that is damaged: it is asked for anew."""

    def missing(self, folder, key):
        """The bytes of a blob that is not in the folder, or None."""

    def made(self, folder, key, data):
        """Hand on a blob that was made here."""

    def remembered(self, folder, fingerprint, key):
        """Hand on what came of a fingerprint."""

    def photo(self, photo):
        """The photo with the path of its file here."""

    def scratch(self, folder):
        """The folder to use for a run's scratch folder."""


here: Elsewhere | None = None
