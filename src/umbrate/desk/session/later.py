"""What waits in the queue over several jobs, run by this window while no other one does."""

from PyQt6.QtCore import QObject, QSettings, QTimer, pyqtSignal

from ...core.errors import UmbrateError
from ...work.ending import Ending, tell
from ...work.jobqueue import Runner, Waiting, cell_entry, job_entry, left_cells
from ...work.recipes.text import text_of_recipe

LOOK_MS, BUSY_MS = 1500, 200
KEYS = ("notify", "command", "mail")  #: of the end, as the settings call them


class LaterWork(QObject):
    """Does what the window asks of the queue over several jobs.

    Attributes
    ----------
    waiting : Waiting
    runner : Runner
    """

    changed = pyqtSignal()

    def __init__(self, session, folder=None):
        super().__init__(session)
        self.session = session
        self.waiting = Waiting(folder)
        self.runner = Runner(self.waiting, self._here, lambda: session.recipes.follower is not None)
        self._count, self._shown, self._greeted = [0, 0], None, False
        self._timer = QTimer(self, interval=LOOK_MS)
        self._timer.timeout.connect(self._look)
        self._timer.start()

    def _here(self):
        s = self.session
        return None if s.queue is None else (s.job, s.queue, s.tasks)

    # ------------------------------------------------------------------ what goes on
    def _look(self):
        runner, s = self.runner, self.session
        self._greet()
        moved = runner.step()
        if runner.entry is not None and s.queue is not None:
            s.listening.wake()
        for entry, why in runner.ended:
            self._count[bool(why)] += 1
            told = f"The queue: {entry.title} is done." if not why else f"The queue: {entry.title} failed. {why}"
            s.said.emit(told, "bad" if why else "good")
        if runner.ended:
            runner.ended.clear()
            if runner.entry is None and not any(e.state != "failed" for e in self.waiting.read()[0]):
                self._tell_end()
        self._timer.setInterval(BUSY_MS if runner.running is not None or moved else LOOK_MS)
        shown = self.waiting.read(), runner.entry
        if moved or shown != self._shown or runner.running is not None:
            self._shown = shown
            self.changed.emit()

    def _greet(self):
        """Say once that something waits from the last time."""
        if not self._greeted:
            self._greeted = True
            entries, paused = self.waiting.read()
            n = sum(e.state != "failed" for e in entries)
            if n and paused:
                what = "1 entry waits" if n == 1 else f"{n} entries wait"
                self.session.said.emit(f"{what} in the queue, which is paused: Run, Queue over several jobs.", "note")

    def ending(self):
        """The Ending that this user chose."""
        v = QSettings("umbrate", "umbrate")
        notify = str(v.value("end/notify", "true")) == "true"
        return Ending(notify, str(v.value("end/command", "") or ""), str(v.value("end/mail", "") or ""))

    def choose_ending(self, ending):
        """Tell the end of the queue so from now on; raises UmbrateError where that cannot work."""
        ending.check()
        for key in KEYS:
            value = getattr(ending, key)
            QSettings("umbrate", "umbrate").setValue(f"end/{key}", str(value).lower() if key == "notify" else value)

    def _tell_end(self):
        done, failed = self._count
        self._count = [0, 0]
        title = f"Umbrate: the queue is done, {done} done, {failed} failed"
        ending = self.ending()
        lines = [f"{e.title}: {e.why}" for e in self.waiting.read()[0]] or ["All went well."]
        self.session.in_background(lambda: tell(ending, title, "\n".join(lines)), self._told)

    def _told(self, troubles):
        for sentence in troubles:
            self.session.said.emit(sentence, "bad")

    # ------------------------------------------------------------------ changing it
    def do(self, act, told=""):
        """Change the queue by ``act()``; what goes wrong is emitted with `said`."""
        try:
            act()
        except (UmbrateError, OSError) as e:
            self.session.said.emit(str(e), "bad")
            return
        if told:
            self.session.said.emit(told, "note")
        self._shown = None
        self._look()

    def add_cells(self, cells):
        """Queue cells (sitting id, stage name) of the open job behind everything else."""
        s = self.session
        sittings = {x.id: x for x in s.job.sittings()}
        new = [cell_entry(s.job, sittings[i], stage) for i, stage in cells if i in sittings]
        if new and s.may_write():
            self.do(lambda: self.waiting.add(new), f"Queued: {', '.join(e.title for e in new)}")

    def add_job(self, folder, recipe=None):
        """Queue a job: all that is missing or stale in it, or by a Recipe."""
        named = (recipe.name, text_of_recipe(recipe)) if recipe else None
        self.do(lambda: self.waiting.add([job_entry(folder, named)]))

    def cancelled(self):
        """What runs in the open job was cancelled there."""
        if self.runner.is_here:
            self.do(self.runner.cancelled, "The queue is paused; what ran waits on.")

    def keep(self, job, queue):
        """Keep what runs and waits in the open job's own queue, or its recipe, paused, for the next time."""
        follower = self.session.recipes.follower
        if self.runner.is_here:
            left = []  # the queue has it already
        elif follower is not None:
            recipe = follower.following.recipe
            left = [job_entry(job.folder, (recipe.name, text_of_recipe(recipe)))]
        else:
            left = left_cells(job, queue)
        if left:
            self.do(lambda: (self.waiting.add(left), self.waiting.pause(True)))

    def close(self):
        """This window ends."""
        self._timer.stop()
        self.runner.close()
