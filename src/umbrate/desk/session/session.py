"""The session: what the window shows, as one object that says when it changes.

Widgets never write a job and never talk to each other: they ask the session, and listen to it.
"""

import logging
from pathlib import Path

from PyQt6.QtCore import pyqtSignal

from ...core.errors import UmbrateError
from ...job.folder import JobInUse, JobReadOnly
from ...job.store import Job
from ...stages import BY_NAME, LAST, STAGES, stages_of
from ...work.queue import Queue
from ...work.state import RUNNING, is_invited, plan
from ...work.tasks import Tasks
from .cleaning import CleanWork
from .cluster import chosen_cluster
from .contents import Contents
from .edits import Edits
from .intake import Arrivals
from .joining import JoinWork
from .later import LaterWork
from .listening import Listening
from .log import SessionLog
from .marking import MarkWork
from .masking import MaskWork
from .measuring import MeasureWork
from .mending import MendWork
from .recipes import RecipeWork
from .shooting import ShootWork
from .surfaces import SurfaceWork
from .texturing import TextureWork
from .tiepoints import PointWork

log = logging.getLogger(__name__)


class Session(Contents):
    """An open job, its queue, what is chosen, and what is done."""

    job_changed = pyqtSignal()  #: another job, or none
    chosen_changed = pyqtSignal()  #: sitting, stage or photo
    progressed = pyqtSignal()  #: the running cell moved on
    live = pyqtSignal(str, object)  #: data of a running stage
    pointed = pyqtSignal(object)  #: sightings (photo id to x, y) of the point under the pointer, or None
    ray = pyqtSignal(object)  #: a world ray (start, direction) under the photo's pointer, or None
    looked_at = pyqtSignal(float, float)  #: a pixel of the chosen photo that somebody wants to see closely
    silhouettes_wanted = pyqtSignal()  #: the masks of all photos are to be seen in the strip
    turning_wanted = pyqtSignal()  #: the object is to be turned by hand in the scene
    picking = pyqtSignal(bool)  #: whether the next click in the photo picks a color
    unforeseen = pyqtSignal(str)  #: a sentence about an error nobody foresaw, from any thread

    def __init__(self):
        super().__init__()
        self.tasks = Tasks()
        self.arrivals, self.masks = Arrivals(self), MaskWork(self)
        self.edits, self.log = Edits(self), SessionLog()
        self.points, self.marking, self.measuring = PointWork(self), MarkWork(self), MeasureWork(self)
        self.cleaning, self.joining = CleanWork(self), JoinWork(self)
        self.mending = MendWork(self)
        self.surfacing = SurfaceWork(self)
        self.texturing = TextureWork(self)
        self.recipes, self.later, self.shooting = RecipeWork(self), LaterWork(self), ShootWork(self)
        self._take_color = None
        self.said.connect(self.log.write)
        self.listening = Listening(self)
        self.listening.progressed.connect(self.progressed)
        self.unforeseen.connect(self._on_unforeseen)

    # ------------------------------------------------------------------ jobs
    def open(self, folder):
        """Open a job and go where the user was; errors are emitted with `said`, not raised. Returns whether it is open.

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
        self.job, self.queue = job, Queue(job, measures=False, cluster=chosen_cluster())
        was = job.desk_state()
        ids = [s.id for s in job.sittings()]
        self.sitting_id = was.get("sitting") if was.get("sitting") in ids else (ids[0] if ids else None)
        self.stage = was.get("stage") if was.get("stage") in BY_NAME else "photos"
        self.photo_id = was.get("photo")
        self._valid_photo()
        self.job_changed.emit()
        self.document_changed.emit()
        self.chosen_changed.emit()
        self.measuring.follow()
        self.arrivals.check_files()

    def close(self):
        """Close the job; what runs is stopped."""
        self.listening.stop()
        self.shooting.stop()
        if self.job is None:
            return
        self.background.close()
        job, queue = self.job, self.queue
        self.later.keep(job, queue)
        self.recipes.stop()
        try:
            job.remember(sitting=self.sitting_id, stage=self.stage, photo=self.photo_id)
        except UmbrateError as e:
            log.warning("where one was is not kept: %s", e)
        finally:
            # whatever goes wrong: nothing runs on, and the lock is given back
            self.job = self.queue = self.masks.preview = None
            self.arrivals.forget()
            self.forget()
            try:
                queue.close()
                self.tasks.close()
            finally:
                job.close()

    # ------------------------------------------------------------------ choosing

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

    def look_at(self, photo_id, x, y):
        """Choose a photo and show the surroundings of a pixel at full size."""
        self.choose(photo_id=photo_id)
        self.looked_at.emit(float(x), float(y))

    # ------------------------------------------------------------------ what there is

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
        """Change the job by `action()`; `said` emits what goes wrong, or else `then`. Returns its value, or None."""
        try:
            value = action()
        except UmbrateError as e:
            self.said.emit(str(e), "bad")
            return None
        self.changed()
        self.measuring.follow()
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

    def may_write(self):
        """Whether the job can be changed; says so where it cannot."""
        if self.job and not self.job.writable:
            self.said.emit(f"{self.job.folder.name} is open for reading only.", "bad")
        return self.job is not None and self.job.writable

    # ------------------------------------------------------------------ tasks
    def send(self, title, function, arguments, then):
        """Have a worker call ``function(*arguments, report)`` and `then` be called with the value.

        What goes wrong is emitted with `said`.
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
        self._asks_no_more()
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
        cells = [(sittings[sid], stage) for sid, stage in cells if sid in sittings]
        self.queue.add_all([(s, plan(self.job, s, stage, redo)) for s, stage in cells], mode)
        if self.queue.idle:
            self.said.emit("Everything chosen is up to date.", "note")
        self.listening.wake()
        self.document_changed.emit()

    def go_on(self, stage):
        """Choose a stage of the chosen sitting and run it, with those that follow it in one go."""
        self.choose(stage=stage)
        if BY_NAME[stage].only_asked:
            return  # what for, and where to, is said first
        then = [n for n in BY_NAME[stage].then_of(self.sitting) if is_invited(self.job, self.sitting, n)]
        self.run([(self.sitting_id, n) for n in (stage, *then)])

    def run_all(self):
        """Queue whatever is missing or stale in all sittings."""
        rows = [*self.job.photo_sittings(), *self.job.joined_rows()]  # what is joined, after what it is joined from
        self.run([(s.id, LAST) for s in rows], redo=False)

    def cancel(self):
        """Stop the running cell and forget the waiting ones, and the recipe that asked for them."""
        self._asks_no_more()
        if self.queue:
            self.queue.cancel()
            self.document_changed.emit()

    def _asks_no_more(self):
        """What is cancelled is not asked for again by the recipe or the queue that asked for it."""
        self.recipes.stop()
        self.later.cancelled()

    def on_event(self, e):
        """What the queue says of a stage besides its progress: started, live, or how it ended."""
        stage = BY_NAME[e.data["stage"]]
        if e.kind == "live":
            if e.data["sitting"] == self.sitting_id:
                self.live.emit(e.data["name"], e.data["data"])
        elif e.kind == "started":
            name = next((s.name for s in self.job.sittings() if s.id == e.data["sitting"]), "")
            self.log.write(f"{stage.title} of “{name}” begins")
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
            self.measuring.follow()
