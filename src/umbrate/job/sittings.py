"""The sittings of a job and their photos: bringing in, setting aside, sorting."""

import hashlib
import os
from functools import lru_cache
from pathlib import Path

from ..core.errors import UmbrateError
from ..core.names import first_free, is_plain, plain_name, printable
from .memo import remembered
from .model import Photo, Sitting
from .texts import parsed

#: what a photo's row says of its file
FILE_COLUMNS = (
    "name", "path", "size", "hash", "width", "height", "orientation", "make", "model", "lens", "focal_mm", "focal_35mm",
    "taken", "exposure_s", "f_number", "iso", "modified", "focus_m",
)  # fmt: skip


#: what the column `aside` of a photo says
IN_USE, ASIDE, PLATE = 0, 1, 2


def _count(photos):
    return f"{len(photos)} photo{'s' * (len(photos) != 1)}"


@lru_cache(maxsize=10_000)
def content_hash(path, modified, size):
    """SHA-256 of a file's content in hex. `modified` and `size` tell that it is still the file that was read."""
    with open(path, "rb") as f:
        return hashlib.file_digest(f, "sha256").hexdigest()


def search(photos, folder, report=None):
    """Look for photos in a folder and below it, by name, size and content.

    Parameters
    ----------
    photos : list of Photo
    folder : path
    report : optional
        Told where it is, and asked whether to go on.

    Returns
    -------
    dict of photo id to Path

    Raises
    ------
    UmbrateError
        Where the folder is none.
    """
    folder = Path(folder)
    if not folder.is_dir():
        raise UmbrateError(f"There is no folder {folder}. Choose the one the photos are in now.")
    wanted, found = {}, {}
    for p in photos:
        wanted.setdefault(p.name, []).append(p)
    for here, folders, names in os.walk(folder):
        folders.sort()
        if report:
            report.progress(len(found) / max(1, len(photos)), f"looking in {printable(Path(here).name)}")
        for name in sorted(wanted.keys() & set(names)):
            file = Path(here) / name
            if not file.is_file():
                continue
            stat = file.stat()
            candidates = [p for p in wanted[name] if p.size == stat.st_size]
            if candidates:
                content = content_hash(file, stat.st_mtime_ns, stat.st_size)
                found.update({p.id: file for p in candidates if p.hash == content})
    return found


class Sittings:
    """The part of a Job that holds sittings and photos. Everything here can be undone."""

    @remembered
    def sittings(self):
        """All sittings in order."""
        rows = self.db.execute(
            "SELECT id, name, position, members FROM sitting LEFT JOIN joined ON sitting_id = id ORDER BY position, id"
        )
        return [Sitting(*r[:3], tuple(parsed(r[3], list)) if r[3] else ()) for r in rows]

    @remembered
    def members(self, sitting_id):
        """Ids of the sittings whose photos a sitting has: its members where it is joined, else itself."""
        row = self.db.execute("SELECT members FROM joined WHERE sitting_id = ?", (sitting_id,)).fetchone()
        return tuple(parsed(row[0], list)) if row else (sitting_id,)

    def sitting(self, name):
        """The sitting of that name."""
        for s in self.sittings():
            if s.name == name:
                return s
        there = ", ".join(f"“{s.name}”" for s in self.sittings()) or "none yet"
        raise UmbrateError(f"There is no sitting “{name}” in {self.name} (there is: {there}).")

    def add_sitting(self, name, records, settings=None):
        """Bring in photos to the sitting `name`, made where it is new, as one action.

        A file that is in the sitting already is left alone; where it has changed since, its facts are
        taken anew.

        Parameters
        ----------
        records : list of dict
            The columns of `Photo` except id, sitting_id, aside and position.
        settings : dict of stage name to dict, optional
            Settings to choose for the sitting in the same action.

        Returns
        -------
        sitting : Sitting
        added : int
        """
        name = self._photos_go_to(name)
        row = self.db.execute("SELECT id FROM sitting WHERE name = ?", (name,)).fetchone()
        added = 0
        with self.action(f"add {len(records)} photos to “{name}”"):
            if row is None:
                n = self.db.execute("SELECT count(*) FROM sitting").fetchone()[0]
                sid = self.db.execute("INSERT INTO sitting (name, position) VALUES (?, ?)", (name, n)).lastrowid
            else:
                sid = row[0]
            have = {
                path: (i, h)
                for i, path, h in self.db.execute("SELECT id, path, hash FROM photo WHERE sitting_id = ?", (sid,))
            }
            for r in records:
                path = self._stored_path(r["path"])
                values = [path if c == "path" else r.get(c, 0 if c == "modified" else None) for c in FILE_COLUMNS]
                if path not in have:
                    self.db.execute(
                        f"INSERT INTO photo (sitting_id, position, {', '.join(FILE_COLUMNS)}) "
                        f"VALUES (?, ?, {', '.join('?' * len(FILE_COLUMNS))})",
                        (sid, len(have), *values),
                    )
                    have[path] = (None, r["hash"])
                    added += 1
                elif have[path][1] != r["hash"]:
                    sets = ", ".join(f"{c} = ?" for c in FILE_COLUMNS)
                    self.db.execute(f"UPDATE photo SET {sets} WHERE id = ?", (*values, have[path][0]))
                    added += 1
            for stage, chosen in (settings or {}).items():
                if chosen:
                    self._choose(sid, stage, {**self.settings(sid, stage), **chosen})
        return next(s for s in self.sittings() if s.id == sid), added

    def _photos_go_to(self, name):
        """The name of a sitting that photos can be put into."""
        name = plain_name(name, "A sitting")
        if any(s.name == name and s.members for s in self.sittings()):
            raise UmbrateError(f"“{name}” is joined from other sittings: its photos are theirs.")
        return name

    def rename_sitting(self, sitting_id, name):
        """Give a sitting another name."""
        name = plain_name(name, "A sitting")
        if any(s.name == name and s.id != sitting_id for s in self.sittings()):
            raise UmbrateError(f"There is a sitting “{name}” already. Choose another name.")
        with self.action(f"rename sitting to “{name}”"):
            self.db.execute("UPDATE sitting SET name = ? WHERE id = ?", (name, sitting_id))

    def remove_sitting(self, sitting_id):
        """Take a sitting and its photos out of the job (never off the disk). Results wait for an undo."""
        name = next(s.name for s in self.sittings() if s.id == sitting_id)
        with self.action(f"remove sitting “{name}”"):
            self._remove(sitting_id)

    def _remove(self, sitting_id):
        self._member_gone(sitting_id)
        # photos first and by name: rows a cascade deletes would be restored in an order nobody chose
        self.db.execute(
            "DELETE FROM handmask WHERE photo_id IN (SELECT id FROM photo WHERE sitting_id = ?)", (sitting_id,)
        )
        for table in ("photo", "choice", "keepbox", "removed", "joined", "pick", "target", "section"):
            self.db.execute(f"DELETE FROM {table} WHERE sitting_id = ?", (sitting_id,))
        self.db.execute("DELETE FROM sitting WHERE id = ?", (sitting_id,))

    @remembered
    def photos(self, sitting_id, aside=True):
        """Photos of a sitting in order, member by member; without those set aside where `aside` is False."""
        members = self.members(sitting_id)
        if members != (sitting_id,):
            return [p for m in members for p in self.photos(m, aside)]
        rows = self.db.execute(
            "SELECT id, sitting_id, name, path, size, hash, width, height, orientation, make, model, lens, focal_mm, "
            "focal_35mm, taken, aside, position, exposure_s, f_number, iso, modified, turn, focus_m FROM photo "
            "WHERE sitting_id = ? ORDER BY position, id",
            (sitting_id,),
        )
        out = [Photo(*r[:15], r[15] != IN_USE, r[15] == PLATE, *r[16:]) for r in rows]
        return out if aside else [p for p in out if not p.aside]

    def set_aside(self, photo_ids, aside=True):
        """Set photos aside (kept, not used) or bring them back."""
        verb = "set aside" if aside else "bring back"
        self._set_use(photo_ids, ASIDE if aside else IN_USE, f"{verb} {_count(photo_ids)}")

    def keep_as_plates(self, photo_ids):
        """Keep photos of the bare backdrop as their sitting's plates: not used, but at hand for its masks."""
        self._set_use(photo_ids, PLATE, f"keep {_count(photo_ids)} as backdrop plates")

    def _set_use(self, photo_ids, use, label):
        with self.action(label):
            for i in photo_ids:
                self.db.execute("UPDATE photo SET aside = ? WHERE id = ? AND aside != ?", (use, i, use))

    def turn_photos(self, photo_ids, quarters):
        """Turn how photos are shown by quarter turns to the right; files and results stay as they are."""
        with self.action(f"turn {_count(photo_ids)}"):
            for i in photo_ids:
                self.db.execute("UPDATE photo SET turn = (turn + ?) & 3 WHERE id = ?", (quarters, i))

    # ------------------------------------------------------------------ sorting photos into sittings
    def move_photos(self, photo_ids, name):
        """Move photos into the sitting `name`, made where it is new; emptied sittings stay."""
        name = self._photos_go_to(name)
        with self.action(f"move {_count(photo_ids)} to “{name}”"):
            self._put(photo_ids, name)

    def _put(self, photo_ids, name):
        row = self.db.execute("SELECT id FROM sitting WHERE name = ?", (name,)).fetchone()
        if row is None:
            n = self.db.execute("SELECT ifnull(max(position), -1) + 1 FROM sitting").fetchone()[0]
            sid = self.db.execute("INSERT INTO sitting (name, position) VALUES (?, ?)", (name, n)).lastrowid
        else:
            sid = row[0]
        start = self.db.execute(
            "SELECT ifnull(max(position), -1) + 1 FROM photo WHERE sitting_id = ?", (sid,)
        ).fetchone()[0]
        for k, i in enumerate(photo_ids):
            self.db.execute(
                "UPDATE photo SET sitting_id = ?, position = ? WHERE id = ? AND sitting_id != ?",
                (sid, start + k, i, sid),
            )
        return sid

    def split_sitting(self, sitting_id, parts):
        """Split a sitting: the first part stays, the others become sittings of their own after it.

        Parameters
        ----------
        parts : list of (list of photo ids, list of plate ids)
            As `work.sorting` proposes them. Plates are kept as such.

        Returns
        -------
        list of str
            Names of the sittings.
        """
        old = next(s for s in self.sittings() if s.id == sitting_id)
        self._photos_go_to(old.name)
        taken = {s.name for s in self.sittings()}
        names = [old.name]
        with self.action(f"split “{old.name}” into {len(parts)} sittings"):
            for k, (photos, plates) in enumerate(parts):
                for i in plates:
                    self.db.execute("UPDATE photo SET aside = ? WHERE id = ? AND aside != ?", (PLATE, i, PLATE))
                if k == 0:
                    continue
                name = first_free(f"{old.name} ", taken, k + 1)
                taken.add(name)
                names.append(name)
                sid = self._put([*photos, *plates], name)
                # masks and lens are made the same way as in the sitting it came from
                for stage, chosen in self.db.execute(
                    "SELECT stage, settings FROM choice WHERE sitting_id = ?", (sitting_id,)
                ).fetchall():
                    self._choose(sid, stage, parsed(chosen, dict))
            order = [s for s in self.sittings() if s.name not in names[1:]]
            at = next(k for k, s in enumerate(order) if s.id == sitting_id) + 1
            order[at:at] = [next(s for s in self.sittings() if s.name == n) for n in names[1:]]
            self._order(order)
        return names

    def merge_sittings(self, sitting_id, into_id):
        """Move all photos of a sitting into another and remove it."""
        names = {s.id: s.name for s in self.sittings()}
        for i in (sitting_id, into_id):
            self._photos_go_to(names[i])
        with self.action(f"merge “{names[sitting_id]}” into “{names[into_id]}”"):
            self._put([p.id for p in self.photos(sitting_id)], names[into_id])
            self._take_marks(sitting_id, into_id, names[sitting_id])
            self._member_gone(sitting_id, into_id)
            self._remove(sitting_id)

    def _take_marks(self, sitting_id, into_id, name):
        """Points marked in photos that moved go with them; one whose name is taken says where it came from."""
        taken = {p.name for p in self.marked_points(into_id)}
        for p in self.marked_points(sitting_id):
            new = p.name if p.name not in taken else f"{p.name} ({name})"
            self.db.execute("UPDATE mark SET sitting_id = ?, name = ? WHERE id = ?", (into_id, new, p.id))
        # lengths and measurements between them, and lines and faces, go along
        for table in ("length", "shape"):
            self.db.execute(f"UPDATE {table} SET sitting_id = ? WHERE sitting_id = ?", (into_id, sitting_id))
        taken = {m.name for m in self.measurements(into_id)}
        for m in self.measurements(sitting_id):
            new = m.name if m.name not in taken else f"{m.name} ({name})"
            self.db.execute("UPDATE measurement SET sitting_id = ?, name = ? WHERE id = ?", (into_id, new, m.id))

    def move_sitting(self, sitting_id, step):
        """Move a sitting up (-1) or down (+1) on the Board."""
        order = self.sittings()
        k = next(k for k, s in enumerate(order) if s.id == sitting_id)
        order.insert(max(0, min(len(order) - 1, k + step)), order.pop(k))
        with self.action(f"move “{next(s.name for s in order if s.id == sitting_id)}”"):
            self._order(order)

    def _order(self, sittings):
        for k, s in enumerate(sittings):
            self.db.execute("UPDATE sitting SET position = ? WHERE id = ? AND position != ?", (k, s.id, k))

    def _stored_path(self, path):
        """Relative to the job where the photo lies beside or below it, so that both can move together."""
        path = Path(path).resolve()
        if not is_plain(str(path)):
            raise UmbrateError(
                f"{printable(path)} has a name that is no plain text (UTF-8). Rename it, then bring it in."
            )
        home = self.folder.resolve().parent
        try:
            return str(Path("..") / path.relative_to(home))
        except ValueError:
            return str(path)

    def photo_path(self, photo):
        """The photo's file."""
        return self._path_of(photo.path)

    @remembered
    def _path_of(self, path):
        p = Path(path)
        return p if p.is_absolute() else Path(os.path.normpath(self.folder.resolve() / p))

    # ------------------------------------------------------------------ files that were moved or changed
    def file_state(self, photo, look_inside=True):
        """What became of a photo's file since it was brought in: "here", "missing" or "changed".

        A file that was written to since is read to see whether its content is another, unless
        `look_inside` is False: then it counts as changed only where its size is another.
        """
        path = self.photo_path(photo)
        try:
            stat = path.stat()
        except OSError:
            return "missing"
        if not path.is_file():
            return "missing"
        if stat.st_size != photo.size:
            return "changed"
        if not look_inside or stat.st_mtime_ns == photo.modified:
            return "here"
        return "here" if content_hash(path, stat.st_mtime_ns, stat.st_size) == photo.hash else "changed"

    def missing_photos(self):
        """Photos of all sittings whose file, as it was brought in, is not where it was."""
        return [p for s in self.photo_sittings() for p in self.photos(s.id) if self.file_state(p) != "here"]

    def find_missing(self, folder):
        """Look for missing photos in a folder and below it (see `search`); returns how many were found."""
        return self.point_to(search(self.missing_photos(), folder))

    def point_to(self, found):
        """Point photos to their files: `found` maps their ids to paths; returns how many there are.

        Nothing computed from them is lost: results go by what is in a file, not by where it is.
        """
        if found:
            with self.action(f"point {_count(found)} to their new place"):
                for i, file in found.items():
                    self.db.execute(
                        "UPDATE photo SET path = ?, modified = ? WHERE id = ?",
                        (self._stored_path(file), file.stat().st_mtime_ns, i),
                    )
        return len(found)
