"""The session: what the window shows, as one object that says when it changes.

Widgets never write a job and never talk to each other: they ask the session, and listen to it.
"""

import logging
import threading
import time
from dataclasses import dataclass, field
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ..core.errors import UmbrateError
from ..job.store import Job, JobInUse
from ..stages import BY_NAME, STAGES
from ..stages.base import parse_settings
from ..stages.cloud import keep_box_of
from ..stages.deliver import load_block, load_cloud
from ..stages.mask_files import decode_mask, encode_mask
from ..work.adding import is_video, mask_folder_of, photo_folders, read_files, read_folder, read_video, take_in
from ..work.errands import Errands
from ..work.queue import Queue
from ..work.sorting import propose_split
from ..work.state import RUNNING, board, plan
from ..work.worker import run_preview
from .text import counted

POLL_MS = 40
LOG_LINES = 5000
PREVIEWED = 4  #: photos on which masks are tried where nobody says which


class _LogLines(logging.Handler):
    """Warnings and errors of the program, with their traces, for the log."""

    def __init__(self, write):
        super().__init__(logging.WARNING)
        self._write = write

    def emit(self, record):
        self._write(self.format(record))


@dataclass
class Preview:
    """Masks tried on a few photos of a sitting; they are shown and kept nowhere.

    Attributes
    ----------
    photo_ids : list of int
        The photos they are tried on.
    made : dict of photo id to Made
        What came of them; empty while they are made.
    """

    sitting_id: int
    photo_ids: list
    made: dict = field(default_factory=dict)


class Session(QObject):
    """An open job, its queue, and what is chosen."""

    job_changed = pyqtSignal()  #: another job, or none
    document_changed = pyqtSignal()  #: sittings, photos, settings or results
    chosen_changed = pyqtSignal()  #: sitting, stage or photo
    progressed = pyqtSignal()  #: the running cell moved on
    live = pyqtSignal(str, object)  #: data of a running stage
    said = pyqtSignal(str, str)  #: a sentence and "good", "bad" or "note"
    pointed = pyqtSignal(object)  #: sightings (photo id to x, y) of the point under the pointer, or None
    ray = pyqtSignal(object)  #: a world ray (start, direction) under the photo's pointer, or None
    looked_at = pyqtSignal(float, float)  #: a pixel of the chosen photo that somebody wants to see closely
    picking = pyqtSignal(bool)  #: whether the next click in the photo picks a color
    _background = pyqtSignal(object, object)

    def __init__(self):
        super().__init__()
        self.job = self.queue = None
        self.errands = Errands()
        self._changed_files = set()
        self.preview = None  #: the Preview that is shown, or None
        self.sitting_id = self.photo_id = None
        self.stage = "photos"
        self._cache = {}
        self._take_color = None
        self._mask = (None, None)  #: the mask looked at last, by its key
        self.log = []  #: what was said and done since the window opened, line by line
        self._last_step = None
        self.said.connect(self._write_log)
        logging.getLogger("umbrate").addHandler(_LogLines(self._write_log))
        self._timer = QTimer(self, interval=POLL_MS)
        self._timer.timeout.connect(self._poll)
        self._background.connect(lambda call, value: call(value))

    # ------------------------------------------------------------------ jobs
    def open(self, folder):
        """Open a job and go where one was; errors are said, not raised. Returns whether it is open.

        A job that another process writes is opened for reading.
        """
        if self.job and Path(folder).resolve() == self.job.folder.resolve():
            return True  # it is the one that is open
        note = ""
        try:
            try:
                job = Job.open(folder)
            except JobInUse as e:
                job = Job.open(folder, writable=False)
                note = f"{e} Until then it is shown for reading only."
        except UmbrateError as e:
            self.said.emit(str(e), "bad")
            return False
        self._take(job)
        if note:
            self.said.emit(note, "bad")
        return True

    def create(self, folder):
        """Make a new job and open it."""
        try:
            job = Job.create(folder)
        except UmbrateError as e:
            self.said.emit(str(e), "bad")
            return False
        self._take(job)
        return True

    def _take(self, job):
        self.close()
        self.job, self.queue = job, Queue(job)
        was = job.desk_state()
        ids = [s.id for s in job.sittings()]
        self.sitting_id = was.get("sitting") if was.get("sitting") in ids else (ids[0] if ids else None)
        self.stage = was.get("stage") if was.get("stage") in BY_NAME else "photos"
        self.photo_id = was.get("photo")
        self._valid_photo()
        self.job_changed.emit()
        self.document_changed.emit()
        self.chosen_changed.emit()
        self.check_files()

    def close(self):
        """Close the job; what runs is stopped."""
        self._timer.stop()
        if self.job is None:
            return
        self.job.remember(sitting=self.sitting_id, stage=self.stage, photo=self.photo_id)
        self.queue.close()
        self.errands.close()
        self.job.close()
        self.job = self.queue = self.preview = None
        self._changed_files = set()
        self._cache.clear()

    # ------------------------------------------------------------------ choosing
    @property
    def sitting(self):
        """The chosen Sitting, or None."""
        return next((s for s in self.job.sittings() if s.id == self.sitting_id), None) if self.job else None

    def choose(self, sitting_id=None, stage=None, photo_id=None):
        """Choose a sitting, a stage, a photo; what is not named stays."""
        if sitting_id is not None and sitting_id != self.sitting_id:
            self.sitting_id = sitting_id
        self.stage = stage or self.stage
        if photo_id is not None:
            self.photo_id = photo_id
        self._valid_photo()
        self.chosen_changed.emit()

    def _valid_photo(self):
        photos = self.photos()
        if self.photo_id not in {p.id for p in photos}:
            self.photo_id = photos[0].id if photos else None

    def photos(self):
        """Photos of the chosen sitting."""
        return self.job.photos(self.sitting_id) if self.job and self.sitting_id else []

    @property
    def photo(self):
        """The chosen Photo, or None."""
        return next((p for p in self.photos() if p.id == self.photo_id), None)

    def look_at(self, photo_id, x, y):
        """Choose a photo and show the surroundings of a pixel at full size."""
        self.choose(photo_id=photo_id)
        self.looked_at.emit(float(x), float(y))

    # ------------------------------------------------------------------ what there is
    def result(self, stage):
        """The chosen sitting's Result of a stage, or None."""
        return self.job.result(self.sitting_id, stage) if self.job and self.sitting_id else None

    def _cached(self, kind, stage, load):
        done = self.result(stage)
        if done is None:
            return None
        key = (kind, self.sitting_id, done.id)
        if key not in self._cache:
            for old in [k for k in self._cache if k[0] == kind]:
                del self._cache[old]
            try:
                self._cache[key] = load(self.job, self.sitting)
            except UmbrateError as e:
                self.said.emit(str(e), "bad")
                self._cache[key] = None
        return self._cache[key]

    @property
    def block(self):
        """Arrays of the solved block, or None."""
        return self._cached("block", "poses", load_block)

    @property
    def cloud(self):
        """Arrays of the dense cloud, or None."""
        return self._cached("cloud", "cloud", load_cloud)

    @property
    def keep_box(self):
        """The keep box in force as a dictionary, or None."""
        return keep_box_of(self.job, self.sitting) if self.sitting else None

    def board(self):
        """All cells, with what runs and waits."""
        return board(self.job, self.queue.failures) if self.job else []

    def following(self, stage):
        """The stage after one where it is the next thing to do: not run yet and not waiting; else None."""
        names = [s.name for s in STAGES]
        k = names.index(stage) + 1
        if k == len(names) or not self.job or self.result(names[k]) is not None:
            return None
        run, here = self.running(), (self.sitting_id, names[k])
        going = (
            (run and (run.sitting.id, run.stage) == here) or here in self.queue.waiting or here in self.queue.failures
        )
        return None if going else names[k]

    def remedy(self):
        """What would mend the chosen cell's last failure (see `UmbrateError`), or None."""
        failure = self.queue.failures.get((self.sitting_id, self.stage)) if self.queue else None
        return failure.remedy if failure else None

    def running(self):
        """The queue's Running, or None."""
        return self.queue.running if self.queue else None

    def state_of(self, cell):
        """A cell's state, counting what runs and waits now."""
        run = self.running()
        if run and (run.sitting.id, run.stage) == (cell.sitting_id, cell.stage):
            return RUNNING
        return "queued" if self.queue and (cell.sitting_id, cell.stage) in self.queue.waiting else cell.state

    # ------------------------------------------------------------------ doing
    def _do(self, action, then=None):
        try:
            value = action()
        except UmbrateError as e:
            self.said.emit(str(e), "bad")
            return None
        self.changed()
        if then:
            self.said.emit(then, "good")
        return value

    def changed(self):
        """The document changed: look again."""
        ids = [s.id for s in self.job.sittings()]
        if self.sitting_id not in ids:
            self.sitting_id = ids[0] if ids else None
        self._valid_photo()
        self.document_changed.emit()
        self.chosen_changed.emit()

    def add_folders(self, folders):
        """Add each folder or video as a sitting, and look at its photos and masks.

        folders: paths, or pairs of a path and the sitting's name (else the folder's own). Files are
        read by a worker, one folder after the other.
        """
        if not self._may_write():
            return
        for f in folders:
            folder, name = f if isinstance(f, tuple) else (Path(f), None)
            if is_video(folder):
                self._read_in(name or folder.stem, read_video, (self.job.folder, folder), folder.name)
                continue
            try:
                found = [folder] if name else photo_folders(folder)
            except UmbrateError as e:
                self.said.emit(str(e), "bad")
                continue
            for one in found:
                self._read_in(name or one.name, read_folder, (one, mask_folder_of(one), None), one.name)

    def add_video(self, video, every_s=0.5, every_frames=None):
        """Add frames of a video as a sitting: the sharpest of every so many seconds, or frames."""
        if self._may_write():
            video = Path(video)
            self._read_in(video.stem, read_video, (self.job.folder, video, every_s, every_frames), video.name)

    def add_files(self, files, name=None):
        """Add photo files to the sitting of that name, else to the chosen one, else to one named after their folder."""
        if self._may_write():
            name = name or (self.sitting.name if self.sitting else Path(files[0]).parent.name)
            self._read_in(name, read_files, (files,), counted(len(files), "file"))

    def _may_write(self):
        if self.job and not self.job.writable:
            self.said.emit(f"{self.job.folder.name} is open for reading only.", "bad")
        return self.job is not None and self.job.writable

    def _read_in(self, name, function, arguments, what):
        """Have a worker read photos, then take them into the sitting `name`."""
        self.send(f"Reading {what}", function, arguments, lambda incoming: self._take_in(name, incoming))

    def _take_in(self, name, incoming):
        taken = self._do(lambda: take_in(self.job, name, incoming))
        if not taken:
            return
        sitting, added, there = taken
        self.queue.add(sitting, ["photos", "masks"])
        self._timer.start()
        told = f"{counted(added, 'photo')} added to “{sitting.name}”" + (f", {there} were there" if there else "")
        left_out = incoming.refused
        for sentence in left_out:
            self._write_log(sentence)
        more = f" And {len(left_out) - 3} more: see the log." if len(left_out) > 3 else ""
        self.said.emit(" ".join([told + ".", *left_out[:3]]) + more, "bad" if left_out else "good")
        self.check_files()
        self.choose(sitting.id)

    # ------------------------------------------------------------------ errands
    def send(self, title, function, arguments, then):
        """Have a worker call ``function(*arguments, report)`` and `then` be called with the value.

        What goes wrong is said.
        """

        def otherwise(message, kind):
            self.said.emit(f"{title}: {message}", "note" if kind == "cancelled" else "bad")

        self.errands.send(title, function, arguments, then, otherwise)
        self._timer.start()
        self.progressed.emit()

    def errand(self):
        """The Errand that runs now, or None."""
        return self.errands.running

    def cancel_errands(self):
        """Stop the errand that runs and forget those that wait."""
        self.errands.cancel()

    # ------------------------------------------------------------------ files on the disk
    def file_state(self, photo):
        """What became of a photo's file: "here", "missing" or "changed" (see `Job.file_state`)."""
        if photo.id in self._changed_files:
            return "changed"
        return self.job.file_state(photo, look_inside=False)

    def check_files(self):
        """Look, in the background, whether photos were written to since they were brought in."""
        job = self.job
        if job is None:
            return
        photos = [p for s in job.sittings() for p in job.photos(s.id)]

        def look():
            return {p.id for p in photos if job.file_state(p) == "changed"}

        def show(changed):
            if self.job is job and changed != self._changed_files:
                self._changed_files = changed
                self.document_changed.emit()

        self.in_background(look, show)

    def take_as_they_are(self):
        """Bring the chosen sitting's changed photos in again, as they are now."""
        changed = [str(self.job.photo_path(p)) for p in self.photos() if self.file_state(p) == "changed"]
        if changed:
            self.add_files(changed)

    def pick_color(self, then):
        """Let the user pick a color in the photo; `then` is called with it, written #RRGGBB."""
        self._take_color = then
        self.said.emit("Click on the color in the photo. Esc leaves it as it is.", "note")
        self.picking.emit(True)

    def picked(self, color=None):
        """The photo view's answer: a color, or None where the user thought better of it."""
        then, self._take_color = self._take_color, None
        self.picking.emit(False)
        if then and color:
            then(color)

    def undo(self):
        """Take the last action back."""
        label = self._do(lambda: self.job.undo())
        if label:
            self.said.emit(f"Undone: {label}", "note")

    def redo(self):
        """Do the last undone action again."""
        label = self._do(lambda: self.job.redo())
        if label:
            self.said.emit(f"Done again: {label}", "note")

    def set_aside(self, photo_ids):
        """Set photos aside, or bring them back where all of them are aside."""
        chosen = [p for p in self.photos() if p.id in photo_ids]
        if chosen:
            aside = not all(p.aside for p in chosen)
            self._do(lambda: self.job.set_aside([p.id for p in chosen], aside))

    def mask_key(self, photo_id=None):
        """Blob key of a photo's mask in force (the chosen photo where none is named), or None."""
        photo_id = photo_id or self.photo_id
        if not self.job or not self.sitting_id:
            return None
        by_hand = self.job.hand_masks(self.sitting_id).get(photo_id)
        if not by_hand and self.previewed(photo_id):
            return self.preview.made[photo_id].mask
        made = self.result("masks")
        return by_hand or (made.blob("mask", photo_id) if made else None)

    # ------------------------------------------------------------------ masks tried on a few photos
    def preview_of_sitting(self):
        """The Preview of the chosen sitting's masks, or None."""
        return self.preview if self.preview and self.preview.sitting_id == self.sitting_id else None

    def previewed(self, photo_id):
        """Whether a photo shows a mask that was only tried."""
        preview = self.preview_of_sitting()
        return bool(preview and photo_id in preview.made)

    def preview_masks(self, photo_ids=()):
        """Try the settings of the chosen sitting's masks on these photos, else on a few from all around it."""
        sitting, stage = self.sitting, BY_NAME["masks"]
        if not sitting or not self._may_write():
            return
        by_hand = self.job.hand_masks(sitting.id)
        free = [p.id for p in self.photos() if not p.aside and p.id not in by_hand]
        chosen = [i for i in free if i in photo_ids] or free[:: max(1, -(-len(free) // PREVIEWED))]
        if not chosen:
            self.said.emit("There are no photos to try it on: all are set aside or masked by hand.", "note")
            return
        try:
            settings = parse_settings(stage, self.job.settings(sitting.id, "masks"))
            inputs = stage.gather(self.job, sitting)
        except UmbrateError as e:
            self.said.emit(str(e), "bad")
            return
        self.preview = preview = Preview(sitting.id, chosen)

        def show(made):
            if self.preview is not preview:
                return
            preview.made = made
            self.document_changed.emit()
            trouble = next((m.trouble["text"] for m in made.values() if m.trouble), "")
            if trouble:
                self.said.emit(trouble, "note")
            elif self.photo_id not in made:
                self.choose(photo_id=chosen[0])

        arguments = ("masks", inputs, settings.model_dump(), set(chosen))
        self.send(f"Trying masks on {counted(len(chosen), 'photo')}", run_preview, arguments, show)

    def drop_preview(self):
        """Show the masks in force again."""
        if self.preview:
            self.preview = None
            self.document_changed.emit()

    def mask(self, photo_id=None):
        """The mask (h, w) bool in force of a photo, or None; not to be written to."""
        key = self.mask_key(photo_id)
        if key and key != self._mask[0]:
            self._mask = (key, decode_mask(self.job.blobs.get_bytes(key)))
        return self._mask[1] if key else None

    def edit_mask(self, mask, label):
        """Set the chosen photo's mask (h, w) bool by hand, as one step of undo; None goes back to the made one."""

        def act():
            key = None if mask is None else self.job.blobs.put_bytes(encode_mask(mask))
            self._mask = (key, mask)
            self.job.set_hand_mask(self.photo_id, key, label)

        if self.photo_id:
            self._do(act)

    def copy_mask_on(self):
        """Copy the chosen photo's mask to the next photo of its size, and go there."""
        photos, key = self.photos(), self.mask_key()
        at = next((k for k, p in enumerate(photos) if p.id == self.photo_id), None)
        if at is None or key is None or at + 1 == len(photos):
            self.said.emit("There is no mask to copy, or no next photo.", "note")
            return
        here, following = photos[at], photos[at + 1]
        if (here.width, here.height) != (following.width, following.height):
            self.said.emit(f"{following.name} has another size; its mask cannot be copied from {here.name}.", "bad")
            return
        self._do(lambda: self.job.set_hand_mask(following.id, key, f"copy the mask to {following.name}"))
        self.choose(photo_id=following.id)

    def find_missing(self, folder):
        """Point photos whose files were moved to their new place."""
        found = self._do(lambda: self.job.find_missing(folder))
        if found is not None:
            left = len(self.job.missing_photos())
            self.check_files()
            told = f"Found {found} of the missing photos" + (f", {left} are still missing." if left else ".")
            self.said.emit(told, "bad" if left else "good")

    def turn_photos(self, photo_ids, quarters):
        """Turn how photos are shown by quarter turns to the right."""
        if photo_ids:
            self._do(lambda: self.job.turn_photos(sorted(photo_ids), quarters))

    def keep_as_plates(self, photo_ids):
        """Keep photos as backdrop plates of their sitting."""
        if photo_ids:
            self._do(lambda: self.job.keep_as_plates(sorted(photo_ids)))

    def move_photos(self, photo_ids, name):
        """Move photos to the sitting of that name, made where it is new."""
        order = [p.id for p in self.photos() if p.id in photo_ids]
        if order:
            self._do(lambda: self.job.move_photos(order, name), f"Moved to “{name}”. Undo brings them back.")

    def split(self, where):
        """Split the chosen sitting at "bare" frames or at "gaps"."""
        parts = propose_split(self.job, self.sitting, where)
        if len(parts) < 2 and not any(plates for _, plates in parts):
            missing = "frames of the bare backdrop" if where == "bare" else "pauses that stand out"
            self.said.emit(f"“{self.sitting.name}” has no {missing}.", "note")
            return
        names = self._do(lambda: self.job.split_sitting(self.sitting_id, parts))
        if names:
            for s in self.job.sittings():
                if s.name in names:
                    self.queue.add(s, plan(self.job, s, "photos"))
            self._timer.start()
            told = f"Split into {', '.join(names)}" if len(names) > 1 else f"Plates kept in {names[0]}"
            self.said.emit(f"{told}. Undo takes it back.", "good")

    def merge_into(self, other_id):
        """Merge the chosen sitting into another."""
        gone, self.sitting_id = self.sitting_id, other_id
        self._do(lambda: self.job.merge_sittings(gone, other_id), "Merged. Undo takes it back.")

    def move_sitting(self, step):
        """Move the chosen sitting up (-1) or down (+1)."""
        self._do(lambda: self.job.move_sitting(self.sitting_id, step))

    def rename_sitting(self, name):
        """Rename the chosen sitting."""
        self._do(lambda: self.job.rename_sitting(self.sitting_id, name))

    def remove_sitting(self):
        """Take the chosen sitting out of the job."""
        self._do(lambda: self.job.remove_sitting(self.sitting_id), "The sitting was removed. Undo brings it back.")

    def set_setting(self, stage, field, value):
        """Choose one setting of the chosen sitting."""
        if not self.sitting_id:
            return
        values = {**self.job.settings(self.sitting_id, stage), field: value}

        def act():
            parse_settings(BY_NAME[stage], values)
            self.job.set_settings(
                self.sitting_id, stage, values, f"change {BY_NAME[stage].Settings.model_fields[field].title}"
            )

        self._do(act)
        if stage == "masks" and self.preview_of_sitting():
            if values.get("method") in BY_NAME[stage].needs_preview:
                self.preview_masks(self.preview.photo_ids)
            else:
                self.drop_preview()

    def set_keep_box(self, box):
        """Set the keep box by hand, or None to fit it again."""
        self._do(lambda: self.job.set_keep_box(self.sitting_id, box))

    def run(self, cells=None, redo=True):
        """Queue cells (sitting id, stage name) with all they need; the chosen one where none is given."""
        if not self.job:
            return
        if not self.job.writable:
            self.said.emit(f"{self.job.folder.name} is open for reading only: nothing can be run.", "bad")
            return
        self.said.emit("", "bad")
        cells = cells or [(self.sitting_id, self.stage)]
        sittings = {s.id: s for s in self.job.sittings()}
        for sid, stage in cells:
            if sid in sittings:
                self.queue.add(sittings[sid], plan(self.job, sittings[sid], stage, redo))
        if self.queue.idle:
            self.said.emit("Everything chosen is up to date.", "note")
        self._timer.start()
        self.document_changed.emit()

    def run_all(self):
        """Queue whatever is missing or stale in all sittings."""
        self.run([(s.id, STAGES[-1].name) for s in self.job.sittings()], redo=False)

    def cancel(self):
        """Stop the running cell and forget the waiting ones."""
        if self.queue:
            self.queue.cancel()
            self.document_changed.emit()

    def _poll(self):
        for e in self.queue.poll():
            if e.kind == "progress":
                self._log_progress(e.data)
                self.progressed.emit()
            elif e.kind == "live":
                if e.data["sitting"] == self.sitting_id:
                    self.live.emit(e.data["name"], e.data["data"])
            elif e.kind == "started":
                name = next((s.name for s in self.job.sittings() if s.id == e.data["sitting"]), "")
                self._write_log(f"{BY_NAME[e.data['stage']].title} of “{name}” begins")
                self.document_changed.emit()
            else:
                title = BY_NAME[e.data["stage"]].title
                if e.kind == "done":
                    if e.data["stage"] == "masks" and self.preview and self.preview.sitting_id == e.data["sitting"]:
                        self.preview = None
                    first, second = BY_NAME[e.data["stage"]].headline(e.data["figures"])
                    self.said.emit(f"{title} done: {first}{', ' + second if second else ''}", "good")
                else:
                    self.said.emit(f"{title}: {e.data['message']}", "note" if e.kind == "cancelled" else "bad")
                self.changed()
        self.errands.poll()
        if self.queue.idle and self.errands.idle:
            self._timer.stop()
        self.progressed.emit()

    def _write_log(self, text, _=""):
        if text:
            self.log.append(f"{time.strftime('%H:%M:%S')}  {text}")
            del self.log[:-LOG_LINES]

    def _log_progress(self, data):
        """The steps of a run, once each: of “depth of photo 3 of 24” only the first."""
        step = (
            data["sitting"],
            data["stage"],
            data["sentence"].rstrip("0123456789 ").removesuffix("of").rstrip("0123456789 "),
        )
        if step != self._last_step:
            self._last_step = step
            self._write_log(f"{BY_NAME[data['stage']].title}: {data['sentence']}")

    def in_background(self, function, then):
        """Call `function()` in a thread and `then(value)` in the window's thread; for what takes a moment."""
        threading.Thread(target=lambda: self._background.emit(then, function()), daemon=True).start()
