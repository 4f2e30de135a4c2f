"""The session: what the window shows, as one object that says when it changes.

Widgets never write a job and never talk to each other: they ask the session, and listen to it.
"""

import logging
import threading
import time
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ..core.errors import UmbrateError
from ..job.store import Job, JobInUse
from ..stages import BY_NAME, STAGES
from ..stages.base import parse_settings
from ..stages.cloud import keep_box_of
from ..stages.deliver import load_block, load_cloud
from ..stages.mask_files import decode_mask, encode_mask
from ..work.adding import is_video, mask_folder_of, read_files, read_folder, read_video, take_in
from ..work.queue import Queue
from ..work.sorting import propose_split
from ..work.state import RUNNING, board, plan

POLL_MS = 40
LOG_LINES = 5000


class _LogLines(logging.Handler):
    """Warnings and errors of the program, with their traces, for the log."""

    def __init__(self, write):
        super().__init__(logging.WARNING)
        self._write = write

    def emit(self, record):
        self._write(self.format(record))


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
    picking = pyqtSignal(bool)  #: whether the next click in the photo picks a color
    _background = pyqtSignal(object, object)

    def __init__(self):
        super().__init__()
        self.job = self.queue = None
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

    def close(self):
        """Close the job; what runs is stopped."""
        self._timer.stop()
        if self.job is None:
            return
        self.job.remember(sitting=self.sitting_id, stage=self.stage, photo=self.photo_id)
        self.queue.close()
        self.job.close()
        self.job = self.queue = None
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
        read in the background, one folder after the other.
        """
        job = self.job
        todo = [
            f if isinstance(f, tuple) else (Path(f), Path(f).stem if is_video(f) else Path(f).name) for f in folders
        ]
        if not job or not todo:
            return
        folder, name = todo[0]
        self.said.emit(f"Reading {Path(folder).name} …", "note")
        place = job.folder

        def read():
            try:
                if is_video(folder):
                    return read_video(place, folder), None
                return read_folder(folder, mask_folder_of(folder)), None
            except UmbrateError as e:
                return None, str(e)

        def take(answer):
            incoming, trouble = answer
            if self.job is not job:
                return
            if trouble:
                self.said.emit(trouble, "bad")
            else:
                taken = self._do(lambda: take_in(job, name, incoming))
                if taken:
                    sitting, added, there = taken
                    self.queue.add(sitting, ["photos", "masks"])
                    text = f"{added} photos added as “{sitting.name}”" + (f", {there} were there" if there else "")
                    told = " ".join([text + ".", *incoming.refused[:3]])
                    self.said.emit(told, "bad" if incoming.refused else "good")
                    self._timer.start()
                    self.choose(sitting.id)
            self.add_folders(todo[1:])

        self.in_background(read, take)

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

    def add_files(self, files):
        """Add photo files to the chosen sitting, or to a new one named after their folder."""
        name = self.sitting.name if self.sitting else Path(files[0]).parent.name
        incoming = self._do(lambda: read_files(files))
        taken = incoming and self._do(lambda: take_in(self.job, name, incoming))
        if taken:
            sitting, added, there = taken
            told = f"{added} photos added to “{name}”" + (f", {there} were there" if there else "")
            self.said.emit(" ".join([told + ".", *incoming.refused[:3]]), "bad" if incoming.refused else "good")
            self.queue.add(sitting, plan(self.job, sitting, "photos"))
            self._timer.start()

    def mask_key(self, photo_id=None):
        """Blob key of a photo's mask in force (the chosen photo where none is named), or None."""
        photo_id = photo_id or self.photo_id
        if not self.job or not self.sitting_id:
            return None
        by_hand = self.job.hand_masks(self.sitting_id).get(photo_id)
        made = self.result("masks")
        return by_hand or (made.blob("mask", photo_id) if made else None)

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
            told = f"Found {found} of the missing photos" + (f", {left} are still missing." if left else ".")
            self.said.emit(told, "bad" if left else "good")

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
                    first, second = BY_NAME[e.data["stage"]].headline(e.data["figures"])
                    self.said.emit(f"{title} done: {first}{', ' + second if second else ''}", "good")
                else:
                    self.said.emit(f"{title}: {e.data['message']}", "note" if e.kind == "cancelled" else "bad")
                self.changed()
        if self.queue.idle:
            self._timer.stop()
        else:
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
        """Call `function()` in a thread and `then(value)` in the window's thread."""
        threading.Thread(target=lambda: self._background.emit(then, function()), daemon=True).start()
