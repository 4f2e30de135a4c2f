"""Photos on their way into a job, and what becomes of their files afterwards."""

from pathlib import Path

from ...core.errors import UmbrateError
from ...core.imaging.video import LEAST_CHANGE
from ...job.sittings import search
from ...stages.lens.figures import CALIBRATED
from ...work.adding import is_video, mask_folder_of, photo_folders, read_files, read_folder, read_video, take_in
from ..text import counted


class Arrivals:
    """Brings photos into the session's job, and watches their files on the disk."""

    def __init__(self, session):
        self.session = session
        self._changed = set()  #: ids of photos whose files were written to since

    def forget(self):
        """Another job is open, or none."""
        self._changed = set()

    def add_folders(self, folders):
        """Add each folder or video as a sitting, and look at its photos and masks.

        folders: paths, or pairs of a path and the sitting's name (else the folder's own). Files are
        read by a worker, one folder after the other. A chosen sitting that is still empty, or is for a
        calibration, takes a single folder in.
        """
        if not self.session.may_write():
            return
        here = self.session.sitting
        waits = here and (not self.session.photos() or self.calibrates(here))
        for f in folders:
            folder, name = f if isinstance(f, tuple) else (Path(f), None)
            if is_video(folder):
                self._read_in(name or folder.stem, read_video, (self.session.job.folder, folder), folder.name)
                continue
            try:
                found = [folder] if name else photo_folders(folder)
            except UmbrateError as e:
                self.session.said.emit(str(e), "bad")
                continue
            for one in found:
                into = here.name if waits and len(folders) == len(found) == 1 and not name else name
                self._read_in(into or one.name, read_folder, (one, mask_folder_of(one), None), one.name)

    def calibrates(self, sitting):
        """Whether a sitting's lens comes from its own photos."""
        return self.session.setting("lens", "source", sitting.id) in CALIBRATED

    def add_video(self, video, every_s=0.5, every_frames=None, least_change=LEAST_CHANGE):
        """Add frames of a video as a sitting: the sharpest of every so many seconds, or frames; see `read_video`."""
        if self.session.may_write():
            video = Path(video)
            arguments = (self.session.job.folder, video, every_s, every_frames, least_change)
            self._read_in(video.stem, read_video, arguments, video.name)

    def add_files(self, files, name=None):
        """Add photo files to the sitting of that name, else to the chosen one, else to one named after their folder."""
        if self.session.may_write():
            name = name or (self.session.sitting.name if self.session.sitting else Path(files[0]).parent.name)
            self._read_in(name, read_files, (files, None, None), counted(len(files), "file"))

    def _read_in(self, name, function, arguments, what):
        """Have a worker read photos, then take them into the sitting `name`."""
        self.session.send(f"Reading {what}", function, arguments, lambda incoming: self._take_in(name, incoming))

    def _take_in(self, name, incoming):
        taken = self.session.do(lambda: take_in(self.session.job, name, incoming))
        if not taken:
            return
        sitting, added, there = taken
        # a calibration reports at once what is still missing
        self.session.enqueue(sitting, ["photos", "lens"] if self.calibrates(sitting) else ["photos", "masks"])
        told = f"{counted(added, 'photo')} added to “{sitting.name}”" + (f", {there} were there" if there else "")
        told = f"{told}. {incoming.note.removesuffix('.')}" if incoming.note else told
        left_out = incoming.refused
        for sentence in left_out:
            self.session.log.write(sentence)
        more = f" And {len(left_out) - 3} more: see the log." if len(left_out) > 3 else ""
        self.session.said.emit(" ".join([told + ".", *left_out[:3]]) + more, "bad" if left_out else "good")
        self.check_files()
        self.session.choose(sitting.id)

    # ------------------------------------------------------------------ files on the disk
    def file_state(self, photo):
        """What became of a photo's file: "here", "missing" or "changed" (see `Job.file_state`)."""
        if photo.id in self._changed:
            return "changed"
        return self.session.job.file_state(photo, look_inside=False)

    def check_files(self):
        """Look, in the background, whether photos were written to since they were brought in."""
        job = self.session.job
        if job is None:
            return
        photos = [p for s in job.photo_sittings() for p in job.photos(s.id)]

        def look():
            return {p.id for p in photos if job.file_state(p) == "changed"}

        def show(changed):
            if self.session.job is job and changed != self._changed:
                self._changed = changed
                self.session.document_changed.emit()

        self.session.in_background(look, show, series="files")

    def take_as_they_are(self):
        """Bring the chosen sitting's changed photos in again, as they are now."""
        changed = [
            str(self.session.job.photo_path(p)) for p in self.session.photos() if self.file_state(p) == "changed"
        ]
        if changed:
            self.add_files(changed)

    def find_missing(self, folder):
        """Point photos whose files were moved to their new place."""
        s = self.session
        if s.may_write():
            s.send("Looking for photos", search, (s.job.missing_photos(), folder), self._point_to)

    def _point_to(self, places):
        found = self.session.do(lambda: self.session.job.point_to(places))
        if found is not None:
            left = len(self.session.job.missing_photos())
            self.check_files()
            told = f"Found {found} of the missing photos" + (f", {left} are still missing." if left else ".")
            self.session.said.emit(told, "bad" if left else "good")
