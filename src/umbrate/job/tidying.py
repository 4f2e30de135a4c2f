"""What a job holds that nobody needs any more: found and removed when it is closed, or when somebody asks.

Needed is what rows refer to, and what an undo or a redo would bring back.
"""

import os
import re
import shutil
import sqlite3
import stat
import time
from contextlib import closing
from dataclasses import dataclass, field

from .blobs import LEFT_S
from .folder import Freed, open_folder
from .scratch import FOLDER as SCRATCH
from .undo import forget

#: rows of results and what hangs on them whose sitting is gone, and comes back by no undo or redo
GONE = (
    "sitting_id NOT IN (SELECT id FROM sitting) AND NOT EXISTS "
    "(SELECT 1 FROM inverse WHERE tbl = 'sitting' AND act = 'insert' AND row = sitting_id)"
)
#: what was seen of files that no photo has, and no undo brings back
UNSEEN = (
    "hash NOT IN (SELECT hash FROM photo) AND NOT EXISTS "
    "(SELECT 1 FROM inverse WHERE tbl = 'photo' AND instr(old, seen.hash))"
)
UNMEASURED = (
    "measurement_id NOT IN (SELECT id FROM measurement) AND NOT EXISTS "
    "(SELECT 1 FROM inverse WHERE tbl = 'measurement' AND act = 'insert' AND row = measurement_id)"
)
OF_BLOBS = (
    "SELECT blob FROM artefact UNION SELECT blob FROM handmask UNION SELECT blob FROM removed UNION "
    "SELECT blob FROM cloud UNION SELECT blob FROM cleaning UNION SELECT blob FROM surface UNION "
    "SELECT blob FROM mending"
)
#: texts that name blobs; of the history, what an undo or redo would bring back
NAMING_BLOBS = (
    "SELECT found FROM joined WHERE found IS NOT NULL UNION ALL SELECT what FROM seen UNION ALL "
    "SELECT old FROM inverse WHERE old IS NOT NULL AND tbl IN "
    "('handmask', 'removed', 'cloud', 'cleaning', 'surface', 'mending', 'joined')"
)


@dataclass
class Tidied:
    """What was removed, or would be.

    Attributes
    ----------
    steps : int
        Of undo that were forgotten.
    results : int
        Of sittings that are gone.
    blobs, frames : Freed
        Data files, and frames of videos that no photo of the job is.
    database : int
        Bytes by which the database became smaller; only where it was made smaller.
    """

    steps: int = 0
    results: int = 0
    blobs: Freed = field(default_factory=Freed)
    frames: Freed = field(default_factory=Freed)
    database: int = 0

    @property
    def bytes(self):
        """All that was freed."""
        return self.blobs.bytes + self.frames.bytes + self.database


class Tidying:
    """The part of a Job that removes what nobody needs."""

    def used_blobs(self, thorough=False, really=True, db=None):
        """Keys of all blobs that are needed, and of the newest that are remembered by what they were made from.

        thorough : those are forgotten, too; `really` False only leaves them out
        db : connection, optional
            A copy of the job's database.
        """
        db = db or self.db
        used = {r[0] for r in db.execute(OF_BLOBS)}
        for (text,) in db.execute(NAMING_BLOBS):
            used.update(re.findall(r"[0-9a-f]{64}", text))
        if not thorough:
            used |= self.earlier_blobs(db)
        return used | self.blobs.cached(*((0, 0) if thorough else ()), forget=really)

    def tidy(self, keep_steps=None, thorough=False):
        """Remove what nobody needs, and say what that was (Tidied).

        keep_steps : int, optional
            Steps of undo to keep; the others are forgotten, and what only they needed goes.
        thorough : bool
            Also what is kept only so that runs with other settings are faster, such as depth maps.
        """
        with self._transaction():
            out = _tidied(self.db, keep_steps)
        out.blobs = self.blobs.remove_unused(self.used_blobs(thorough))
        out.frames = self._remove_frames(self.db)
        return out

    def would_tidy(self, keep_steps=None, thorough=False):
        """What `tidy` would remove (Tidied); nothing is changed, so a reader may ask, too."""
        with closing(sqlite3.connect(":memory:")) as db:
            self.db.backup(db)
            db.execute("PRAGMA foreign_keys = ON")  # what hangs on a row goes with it
            out = _tidied(db, keep_steps)
            out.blobs = self.blobs.remove_unused(self.used_blobs(thorough, False, db), really=False)
            out.frames = self._remove_frames(db, really=False)
        return out

    def remove_parts(self):
        """Remove what processes that died left half written; for whoever holds the lock and runs nothing yet."""
        self.blobs.remove_unused(None)
        for folder, start in (("frames", "."), (SCRATCH, "")):
            try:
                with open_folder(self.folder / folder) as top:
                    for name in [e.name for e in os.scandir(top) if e.name.startswith(start)]:
                        _remove_folder(name, top)
            except OSError:
                pass

    def _remove_frames(self, db, really=True):
        """Remove frames of videos that no photo in a database is, and no undo brings back; returns what that Freed."""
        out = Freed()
        try:
            with open_folder(self.folder / "frames") as top:
                for e in list(os.scandir(top)):
                    if not e.is_dir(follow_symlinks=False) or _needs_frames(db, e.name):
                        continue
                    if time.time() - e.stat(follow_symlinks=False).st_mtime < LEFT_S:
                        continue  # somebody may be bringing them in
                    out += _size(e.name, top)
                    if really:
                        _remove_folder(e.name, top)
        except OSError:
            pass
        return out


def _tidied(db, keep_steps):
    """Rows that nobody needs go from a database; the Tidied of that."""
    steps = 0 if keep_steps is None else forget(db, keep_steps)
    results = db.execute(f"DELETE FROM result WHERE {GONE}").rowcount
    db.execute(f"DELETE FROM earlier WHERE {GONE}")
    db.execute(f"DELETE FROM measured WHERE {UNMEASURED}")
    db.execute(f"DELETE FROM seen WHERE {UNSEEN}")
    return Tidied(steps, results)


def _needs_frames(db, name):
    part = f"/{name}/"
    return bool(
        db.execute("SELECT 1 FROM photo WHERE instr(path, ?) LIMIT 1", (part,)).fetchone()
        or db.execute(
            "SELECT 1 FROM inverse WHERE tbl = 'photo' AND instr(old, ?) LIMIT 1", (part.replace("'", "''"),)
        ).fetchone()
    )


def _size(name, dir_fd):
    out = Freed()
    with open_folder(name, dir_fd) as fd, os.scandir(fd) as entries:
        for e in entries:
            if e.is_file(follow_symlinks=False):
                out += Freed(1, e.stat(follow_symlinks=False).st_size)
    return out


def _remove_folder(name, dir_fd):
    """Remove a folder with what is in it, by its own descriptor; a link is left alone."""
    if stat.S_ISDIR(os.lstat(name, dir_fd=dir_fd).st_mode):
        shutil.rmtree(name, dir_fd=dir_fd, ignore_errors=True)
