"""The session: what the window shows, as one object that says when it changes.

Widgets never write a job and never talk to each other: they ask the session, and listen to it.
"""

import logging
import time
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from ...actions.measuring import refresh_all
from ...core.errors import UmbrateError
from ...job.folder import JobInUse, JobReadOnly
from ...job.store import Job
from ...sitting.clouds import cloud_source, load_cloud
from ...sitting.frames import frame_of, keep_box_of, load_block, set_keep_box, turntable_of
from ...stages import BY_NAME, STAGES, stages_of
from ...stages.base import parse_settings
from ...stages.lens.figures import left_out_of
from ...work.queue import Queue
from ...work.sorting import propose_split
from ...work.state import RUNNING, board, is_invited, plan
from ...work.tasks import Tasks
from .background import Background
from .cleaning import CleanWork
from .intake import Arrivals
from .joining import JoinWork
from .listening import Listening
from .marking import MarkWork
from .masking import MaskWork
from .measuring import MeasureWork
from .tiepoints import PointWork

log = logging.getLogger(__name__)
LOG_LINES = 5000
READ_AT_ONCE = 150_000  #: points of a cloud that is read while one waits; it takes 20 ms


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
    cloud_read = pyqtSignal()  #: the cloud that was asked for by `cloud_at_hand` is there
    live = pyqtSignal(str, object)  #: data of a running stage
    said = pyqtSignal(str, str)  #: a sentence and "good", "bad" or "note"
    pointed = pyqtSignal(object)  #: sightings (photo id to x, y) of the point under the pointer, or None
    ray = pyqtSignal(object)  #: a world ray (start, direction) under the photo's pointer, or None
    looked_at = pyqtSignal(float, float)  #: a pixel of the chosen photo that somebody wants to see closely
    silhouettes_wanted = pyqtSignal()  #: the masks of all photos are to be seen in the strip
    turning_wanted = pyqtSignal()  #: the object is to be turned by hand in the scene
    picking = pyqtSignal(bool)  #: whether the next click in the photo picks a color
    unforeseen = pyqtSignal(str)  #: a sentence about an error nobody foresaw, from any thread

    def __init__(self):
        super().__init__()
        self.job = self.queue = None
        self.tasks = Tasks()
        self.arrivals, self.masks = Arrivals(self), MaskWork(self)
        self.fragment = 0
        self.sitting_id = self.photo_id = None
        self.stage = "photos"
        self._cache = {}
        self.cloud_coming = None  #: what identifies the cloud that is being read
        self._board, self._outside = None, 0
        self.points, self.marking, self.measuring = PointWork(self), MarkWork(self), MeasureWork(self)
        self.cleaning, self.joining = CleanWork(self), JoinWork(self)
        self._take_color = None
        self.log = []  #: what was said and done since the window opened, line by line
        self._last_step = None
        self.said.connect(self.write_log)
        logging.getLogger("umbrate").addHandler(_LogLines(self.write_log))
        self.listening = Listening(self)
        self.listening.progressed.connect(self.progressed)
        self.background = Background(lambda sentence: self.said.emit(sentence, "bad"))
        self.unforeseen.connect(self._on_unforeseen)

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
            except (JobInUse, JobReadOnly) as e:
                job = Job.open(folder, writable=False)
                note = f"{e} It is shown for reading only."
        except UmbrateError as e:
            self.said.emit(str(e), "bad")
            return False
        self._take(job)
        note = note or job.note
        if note:
            self.said.emit(note, "note" if job.writable else "bad")
        return True

    def _on_unforeseen(self, sentence):
        self.said.emit(sentence, "bad")

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
        self.arrivals.check_files()

    def close(self):
        """Close the job; what runs is stopped."""
        self.listening.stop()
        if self.job is None:
            return
        self.background.close()
        job, queue = self.job, self.queue
        try:
            job.remember(sitting=self.sitting_id, stage=self.stage, photo=self.photo_id)
        except UmbrateError as e:
            log.warning("where one was is not kept: %s", e)
        finally:
            # whatever goes wrong: nothing runs on, and the lock is given back
            self.job = self.queue = self.masks.preview = None
            self.arrivals.forget()
            self._cache.clear()
            self._board = self.cloud_coming = None
            try:
                queue.close()
                self.tasks.close()
            finally:
                job.close()

    # ------------------------------------------------------------------ choosing
    @property
    def sitting(self):
        """The chosen Sitting, or None."""
        return next((s for s in self.job.sittings() if s.id == self.sitting_id), None) if self.job else None

    def choose(self, sitting_id=None, stage=None, photo_id=None):
        """Choose a sitting, a stage, a photo; what is not named stays."""
        if sitting_id is not None and sitting_id != self.sitting_id:
            self.sitting_id = sitting_id
            self.fragment = 0
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
        key = (kind, self.sitting_id, done.id, self.fragment if kind == "block" else 0, *self.frame_key)
        return self._kept(key, lambda: load(self.job, self.sitting))

    def _kept(self, key, load):
        """What `load()` gives, kept until another of its kind (the first of the key) is wanted."""
        if key not in self._cache:
            for old in [k for k in self._cache if k[0] == key[0]]:
                del self._cache[old]
            try:
                self._cache[key] = load()
            except UmbrateError as e:
                self.said.emit(str(e), "bad")
                self._cache[key] = None
        return self._cache[key]

    @property
    def frame_key(self):
        """What the frame of the chosen sitting depends on."""
        scale, level = self.result("scale"), self.job.level(self.sitting_id)
        first = self.job.members(self.sitting_id)[0]
        if first != self.sitting_id:
            # a joined row has the frame of its first member until it has its own
            level = level or self.job.level(first)
            scale = scale if self.result("poses") else self.job.result(first, "scale")
        return scale.id if scale else 0, str(level), str(self.job.keep_box(self.sitting_id)) if level else ""

    @property
    def frame(self):
        """The Frame of the chosen sitting, or None."""
        if self.sitting and self.sitting.members:
            key = ("frame", self.sitting_id, *self.frame_key, r.id if (r := self.result("poses")) else 0)
            return self._kept(key, lambda: frame_of(self.job, self.sitting))
        return self._cached("frame", "poses", frame_of) if self.job else None

    @property
    def turntable(self):
        """The turntable that the chosen sitting's poses show, in the job's frame, or None."""
        return self._cached("turntable", "poses", turntable_of) if self.job else None

    def shapes(self):
        """Lines and faces of the chosen sitting."""
        return self.job.drawn_shapes(self.sitting_id) if self.job and self.sitting_id else []

    @property
    def block(self):
        """Arrays of the solved block, or of the fragment that is shown, or None."""
        if self.fragment >= len(self.fragment_names()):
            self.fragment = 0
        part = self.fragment
        return self._cached("block", "poses", lambda job, sitting: load_block(job, sitting, part))

    def fragment_names(self):
        """The block and its fragments, for people."""
        done = self.result("poses")
        if done is None:
            return []
        parts = [done.figures.solved, *done.figures.fragments]
        return [f"Block, {parts[0]} photos", *(f"Fragment {k}, {n} photos" for k, n in enumerate(parts[1:], 2))]

    def show_fragment(self, index):
        """Show the block (0) or one of its fragments in the scene."""
        if index != self.fragment:
            self.fragment = index
            self.document_changed.emit()

    @property
    def cloud(self):
        """Arrays of the dense cloud, or None."""
        kept = self.job.cloud(self.sitting_id) if self.job and self.sitting_id else None
        if kept is None:
            return None
        return self._kept(self._cloud_key(kept), lambda: load_cloud(self.job, self.sitting, kept))

    def _cloud_key(self, kept):
        return ("cloud", self.sitting_id, kept.id, len(kept.steps), str(kept.steps[-1:]), *self.frame_key)

    def cloud_at_hand(self):
        """What `cloud` is, where that does not keep the window waiting; else None, and it is read in the background.

        `cloud_read` tells when it is there.
        """
        kept = self.job.cloud(self.sitting_id) if self.job and self.sitting_id else None
        if kept is None:
            return None
        key = self._cloud_key(kept)
        if key in self._cache or kept.left <= READ_AT_ONCE:
            return self.cloud
        if self.cloud_coming != key:
            self.cloud_coming = key
            source = cloud_source(self.job, self.sitting, kept)
            self.in_background(source.read, lambda c: self._cloud_came(key, c), lambda e: self._cloud_came(key, e))
        return None

    def _cloud_came(self, key, answer):
        if self.cloud_coming != key:
            return  # another one is wanted by now
        self.cloud_coming = None
        if isinstance(answer, str):
            self.said.emit(answer, "bad")
            answer = None
        self._kept(key, lambda: answer)
        self.cloud_read.emit()

    @property
    def keep_box(self):
        """The keep box in force as a dictionary, or None."""
        return keep_box_of(self.job, self.sitting) if self.sitting else None

    def board(self):
        """All cells as they are since the job changed, or since one looked outside it (see `look_outside`)."""
        if not self.job:
            return []
        key = (self.job.revision, self._outside, tuple(self.queue.failures.items()))
        if self._board is None or self._board[0] != key:
            self._board = key, board(self.job, self.queue.failures)
        return self._board[1]

    def look_outside(self):
        """Files outside the job may have changed: look at them again where cells depend on them."""
        self._outside += 1
        if self.job:
            self.document_changed.emit()

    def following(self, stage):
        """The stage after one where it is the next thing to do: not run yet and not waiting; else None."""
        names = [s.name for s in stages_of(self.sitting)] if self.sitting else []
        if stage not in names:
            return None
        k = names.index(stage) + 1
        taken = {n for s in STAGES for n in s.takes}
        while k < len(names) and names[k] in taken and not is_invited(self.job, self.sitting, names[k]):
            k += 1
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
    def do(self, action, then=None):
        """Change the job by `action()`; what goes wrong is said, else `then`. Returns the action's value, or None."""
        try:
            value = action()
        except UmbrateError as e:
            self.said.emit(str(e), "bad")
            return None
        self.changed()
        self._follow_measurements()
        if then:
            self.said.emit(then, "good")
        return value

    def _follow_measurements(self):
        """Write into the ledger which measurements moved, of this sitting and of others that hang on it."""
        try:
            if refresh_all(self.job):
                self.document_changed.emit()
        except UmbrateError as e:
            self.said.emit(str(e), "bad")

    def changed(self):
        """The document changed: look again."""
        ids = [s.id for s in self.job.sittings()]
        if self.sitting_id not in ids:
            self.sitting_id = ids[0] if ids else None
        self._valid_photo()
        self.document_changed.emit()
        self.chosen_changed.emit()

    def may_write(self):
        """Whether the job can be changed; says so where it cannot."""
        if self.job and not self.job.writable:
            self.said.emit(f"{self.job.folder.name} is open for reading only.", "bad")
        return self.job is not None and self.job.writable

    # ------------------------------------------------------------------ tasks
    def send(self, title, function, arguments, then):
        """Have a worker call ``function(*arguments, report)`` and `then` be called with the value.

        What goes wrong is said.
        """

        def otherwise(message, kind):
            self.said.emit(f"{title}: {message}", "note" if kind == "cancelled" else "bad")

        self.tasks.send(title, function, arguments, then, otherwise)
        self.listening.wake()
        self.progressed.emit()

    def task(self):
        """The Task that runs now, or None."""
        return self.tasks.running

    def cancel_tasks(self):
        """Stop the task that runs and forget those that wait."""
        self.tasks.cancel()

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
        label = self.do(lambda: self.job.undo())
        if label:
            self.said.emit(f"Undone: {label}", "note")

    def redo(self):
        """Do the last undone action again."""
        label = self.do(lambda: self.job.redo())
        if label:
            self.said.emit(f"Done again: {label}", "note")

    def set_aside(self, photo_ids):
        """Set photos aside, or bring them back where all of them are aside."""
        chosen = [p for p in self.photos() if p.id in photo_ids]
        if chosen:
            aside = not all(p.aside for p in chosen)
            self.do(lambda: self.job.set_aside([p.id for p in chosen], aside))

    def turn_photos(self, photo_ids, quarters):
        """Turn how photos are shown by quarter turns to the right."""
        if photo_ids:
            self.do(lambda: self.job.turn_photos(sorted(photo_ids), quarters))

    def keep_as_plates(self, photo_ids):
        """Keep photos as backdrop plates of their sitting."""
        if photo_ids:
            self.do(lambda: self.job.keep_as_plates(sorted(photo_ids)))

    def move_photos(self, photo_ids, name):
        """Move photos to the sitting of that name, made where it is new."""
        order = [p.id for p in self.photos() if p.id in photo_ids]
        if order:
            self.do(lambda: self.job.move_photos(order, name), f"Moved to “{name}”. Undo brings them back.")

    def split(self, where):
        """Split the chosen sitting at "bare" frames or at "gaps"."""
        parts = propose_split(self.job, self.sitting, where)
        if len(parts) < 2 and not any(plates for _, plates in parts):
            missing = "frames of the bare backdrop" if where == "bare" else "pauses that stand out"
            self.said.emit(f"“{self.sitting.name}” has no {missing}.", "note")
            return
        names = self.do(lambda: self.job.split_sitting(self.sitting_id, parts))
        if names:
            for s in self.job.sittings():
                if s.name in names:
                    self.enqueue(s, plan(self.job, s, "photos"))
            told = f"Split into {', '.join(names)}" if len(names) > 1 else f"Plates kept in {names[0]}"
            self.said.emit(f"{told}. Undo takes it back.", "good")

    def merge_into(self, other_id):
        """Merge the chosen sitting into another."""
        gone, self.sitting_id = self.sitting_id, other_id
        self.do(lambda: self.job.merge_sittings(gone, other_id), "Merged. Undo takes it back.")

    def move_sitting(self, step):
        """Move the chosen sitting up (-1) or down (+1)."""
        self.do(lambda: self.job.move_sitting(self.sitting_id, step))

    def rename_sitting(self, name):
        """Rename the chosen sitting."""
        self.do(lambda: self.job.rename_sitting(self.sitting_id, name))

    def remove_sitting(self):
        """Take the chosen sitting out of the job."""
        self.do(lambda: self.job.remove_sitting(self.sitting_id), "The sitting was removed. Undo brings it back.")

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

        self.do(act)
        if BY_NAME[stage].needs_preview:
            self.masks.settings_changed(values)

    def leave_sighting_out(self, photo_id, number, out=True):
        """Leave the sighting of a target in a photo out of the calibration, or bring it back; takes effect when run."""
        before = self.job.settings(self.sitting_id, "lens").get("leave_out", {})
        chosen = {p.id: left_out_of(before, p) for p in self.photos()}  # photos can share a name
        chosen[photo_id] = chosen[photo_id] | {number} if out else chosen[photo_id] - {number}
        self.set_setting("lens", "leave_out", {f"#{i}": sorted(v) for i, v in chosen.items() if v})

    def begin_calibration(self):
        """Make a sitting for photos of calibration sheets and go to its Lens stage."""
        if not self.may_write():
            return
        names, name = {s.name for s in self.job.sittings()}, "Calibration"
        while name in names:
            head, _, count = name.partition(" ")
            name = f"{head} {int(count or 1) + 1}"
        made = self.do(lambda: self.job.add_sitting(name, [], {"lens": {"source": "targets"}}))
        if made:
            self.choose(made[0].id, "lens")

    def set_keep_box(self, box):
        """Set the keep box by hand, or None to fit it again."""
        self.do(lambda: set_keep_box(self.job, self.sitting, box))

    def enqueue(self, sitting, stages):
        """Queue stages of a sitting, in order."""
        self.queue.add(sitting, stages)
        self.listening.wake()

    def run(self, cells=None, redo=True, mode=""):
        """Queue cells (sitting id, stage name) with all they need; the chosen one where none is given.

        mode : how the stage is run, one of its `modes`; the usual way where not given
        """
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
                self.queue.add(sittings[sid], plan(self.job, sittings[sid], stage, redo), mode)
        if self.queue.idle:
            self.said.emit("Everything chosen is up to date.", "note")
        self.listening.wake()
        self.document_changed.emit()

    def go_on(self, stage):
        """Choose a stage of the chosen sitting and run it, with those that follow it in one go."""
        self.choose(stage=stage)
        then = [n for n in BY_NAME[stage].then_of(self.sitting) if is_invited(self.job, self.sitting, n)]
        self.run([(self.sitting_id, n) for n in (stage, *then)])

    def shows(self, what):
        """Whether the chosen stage is about something that the window can show, one of `stages.base.Shown`."""
        return what in BY_NAME[self.stage].shows

    def run_all(self):
        """Queue whatever is missing or stale in all sittings."""
        rows = [*self.job.photo_sittings(), *self.job.joined_rows()]  # what is joined, after what it is joined from
        self.run([(s.id, STAGES[-1].name) for s in rows], redo=False)

    def cancel(self):
        """Stop the running cell and forget the waiting ones."""
        if self.queue:
            self.queue.cancel()
            self.document_changed.emit()

    def on_event(self, e):
        """What the queue says of a stage besides its progress: started, live, or how it ended."""
        stage = BY_NAME[e.data["stage"]]
        if e.kind == "live":
            if e.data["sitting"] == self.sitting_id:
                self.live.emit(e.data["name"], e.data["data"])
        elif e.kind == "started":
            name = next((s.name for s in self.job.sittings() if s.id == e.data["sitting"]), "")
            self.write_log(f"{stage.title} of “{name}” begins")
            self.document_changed.emit()
        else:
            if e.kind == "done":
                if stage.needs_preview:
                    self.masks.made(e.data["sitting"])
                first, second = stage.headline(e.data["figures"])
                self.said.emit(f"{stage.title} done: {first}{', ' + second if second else ''}", "good")
            else:
                self.said.emit(f"{stage.title}: {e.data['message']}", "note" if e.kind == "cancelled" else "bad")
            self.changed()

    def write_log(self, text, _=""):
        """Add a line to the log."""
        if text:
            self.log.append(f"{time.strftime('%H:%M:%S')}  {text}")
            del self.log[:-LOG_LINES]

    def log_progress(self, data):
        """The steps of a run, once each: of “depth of photo 3 of 24” only the first."""
        step = (
            data["sitting"],
            data["stage"],
            data["sentence"].rstrip("0123456789 ").removesuffix("of").rstrip("0123456789 "),
        )
        if step != self._last_step:
            self._last_step = step
            self.write_log(f"{BY_NAME[data['stage']].title}: {data['sentence']}")

    def in_background(self, function, then, otherwise=None, series=None):
        """Call `function()` in a thread and `then(value)` in the window's thread; for what takes a moment.

        otherwise : callable(sentence), where it fails; else that is said
        series : see `Background`: of one series, the latest wins

        What comes back after the job was closed is dropped.
        """
        self.background.run(function, then, otherwise, series)
