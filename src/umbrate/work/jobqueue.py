"""The queue over several jobs: a file of what waits, which all windows share and a restart keeps; one process runs it.

What waits is a cell of a job, all of a job, or a job by a recipe. It goes off the list when it is done, and is done as
a recipe is followed (`recipes.follower`): each result is saved when it is there.
"""

import contextlib
import fcntl
import json
import logging
import os
import uuid
from dataclasses import asdict, dataclass, replace
from pathlib import Path

import platformdirs

from ..core.errors import UmbrateError
from ..formats.files import Gate, make_folder, written_aside
from ..formats.reading import read_json
from ..job.folder import JobInUse, JobReadOnly
from ..job.store import Job
from ..stages import BY_NAME, LAST, STAGES
from .queue import Queue
from .recipes.follower import Follower
from .recipes.following import Cells, Following
from .recipes.text import recipe_of_text
from .state import plan
from .tasks import Tasks
from .worker import Worker

log = logging.getLogger(__name__)
WAITS, RUNS, FAILED = "waits", "runs", "failed"
STATES = (WAITS, RUNS, FAILED)
MOST = 2000  #: entries that are read


@dataclass(frozen=True)
class Entry:
    """Something that waits.

    Attributes
    ----------
    id, folder : str
        Its own name; the job's folder.
    title : str
        For people.
    sitting_id, stage : int or None, str
        The cell; without a sitting, all that is missing or stale in the job up to the stage.
    redo : bool
        Whether the cell runs even when its result is current.
    recipe : str
        As TOML; then the job is run by it.
    state, why : str
        One of `STATES`; why it failed, or waits on.
    """

    id: str
    folder: str
    title: str
    sitting_id: int | None = None
    stage: str = LAST
    redo: bool = False
    recipe: str = ""
    state: str = WAITS
    why: str = ""


def cell_entry(job, sitting, stage, redo=True):
    """The Entry of a cell of an open job."""
    title = f"{BY_NAME[stage].title}, {sitting.name}"
    return Entry(uuid.uuid4().hex, str(job.folder), title, sitting.id, stage, redo)


def job_entry(folder, recipe=None):
    """The Entry of all that is missing or stale in a job, or of a recipe (name, text) that it is run by."""
    folder = str(Job.folder_of(folder).resolve())
    title = f"by the recipe “{recipe[0]}”" if recipe else "everything that is missing or stale"
    return Entry(uuid.uuid4().hex, folder, title, recipe=recipe[1] if recipe else "")


def _entry(data):
    e = Entry(**{k: data[k] for k in Entry.__dataclass_fields__ if k in data})
    texts = (e.id, e.folder, e.title, e.stage, e.recipe, e.state, e.why)
    if not all(isinstance(x, str) for x in texts) or e.state not in STATES or e.stage not in BY_NAME:
        raise ValueError(e.id)
    if not (e.sitting_id is None or isinstance(e.sitting_id, int)):
        raise ValueError(e.id)
    return e


class Waiting:
    """The file of what waits. Every change reads it, changes it and writes it while no other process may.

    folder : where it lies; the user's own state where not given
    """

    def __init__(self, folder=None):
        self.folder = Path(folder or platformdirs.user_state_dir("umbrate", appauthor=False))
        self.file = self.folder / "queue.json"
        self._seen = None, ([], False)

    def read(self):
        """What waits, a list of Entry in its order, and whether the queue is paused. A damaged file is an empty one."""
        try:
            stat = self.file.stat()
            mark = stat.st_mtime_ns, stat.st_ino, stat.st_size
        except OSError:
            return [], False
        if self._seen[0] != mark:
            try:
                data = read_json(self.file)
                entries = [_entry(x) for x in data["entries"][:MOST]]
                self._seen = mark, (entries, bool(data.get("paused")))
            except (UmbrateError, KeyError, TypeError, ValueError, AttributeError) as e:
                log.warning("the queue cannot be read: %s", e)
                self._seen = mark, ([], True)
        entries, paused = self._seen[1]
        return list(entries), paused

    @contextlib.contextmanager
    def changing(self):
        """A list of entries to change, and a dictionary with ``paused``; written when the block ends well.

        Raises
        ------
        UmbrateError
            Where it cannot be written.
        """
        make_folder(self.folder)
        with open(self.folder / "queue.lock", "a") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            entries, paused = self.read()
            state = {"paused": paused}
            yield entries, state
            with written_aside(self.file, Gate(replace=True)) as part:
                data = {"umbrate": "queue", "version": 1, **state, "entries": [asdict(e) for e in entries]}
                part.write_text(json.dumps(data, indent=1, ensure_ascii=False), encoding="utf-8")

    def add(self, new):
        """Put entries behind the others; what waits already does so once."""
        with self.changing() as (entries, _):
            have = {_what(e) for e in entries if e.state != FAILED}
            entries += [e for e in new if _what(e) not in have]

    def remove(self, ids):
        """Take entries off; one that runs is let to its end by whoever runs it."""
        with self.changing() as (entries, _):
            entries[:] = [e for e in entries if e.id not in ids]

    def order(self, ids):
        """Let entries come in the order of these ids; those that came meanwhile come behind."""
        place = {i: k for k, i in enumerate(ids)}
        with self.changing() as (entries, _):
            entries.sort(key=lambda e: place.get(e.id, len(place)))

    def pause(self, paused):
        """Begin nothing more, or go on."""
        with self.changing() as (_, state):
            state["paused"] = bool(paused)

    def put(self, entry_id, **values):
        """Change an entry where it is still on the list."""
        with self.changing() as (entries, _):
            entries[:] = [replace(e, **values) if e.id == entry_id else e for e in entries]


def _what(e):
    return e.folder, e.sitting_id, e.stage, e.recipe


class _OneGo:
    """Followed like a recipe: what is missing of a cell or of a whole job, once."""

    def __init__(self, job, entry):
        self.job, self.entry, self.notes, self._asked = job, entry, [], False

    def next(self):
        """Cells at first, then nothing."""
        if self._asked:
            return None
        self._asked = True
        sittings = [s for s in self.job.sittings() if self.entry.sitting_id in (None, s.id)]
        if not sittings:
            raise UmbrateError("The sitting is not in the job any more.")
        redo = self.entry.redo and self.entry.sitting_id is not None
        sittings.sort(key=lambda s: bool(s.members))
        cells = [(s, plan(self.job, s, self.entry.stage, redo)) for s in sittings]
        if self.entry.sitting_id is not None and not cells[0][1] and not BY_NAME[self.entry.stage].applies(sittings[0]):
            raise UmbrateError(f"{BY_NAME[self.entry.stage].title} is not made with this sitting.")
        return Cells([c for c in cells if c[1]])


class Runner:
    """Runs what waits, one after another, while no other process does. Call `step` often.

    Attributes
    ----------
    entry : Entry or None
        What runs now.
    ended : list of (Entry, why)
        What came to its end since somebody looked; why is "" of what is done.
    """

    def __init__(self, waiting=None, here=lambda: None, busy=lambda: False):
        """
        here : callable() -> (job, queue, tasks) or None
            The job that is open here, which others poll; what waits for it goes through its queue.
        busy : callable() -> bool
            Whether something else is under way that leaves the queue of the job open here idle for moments.
        """
        self.waiting, self.here, self.busy = waiting or Waiting(), here, busy
        self.entry, self.ended = None, []
        self._follower = self._job = self._queue = self._tasks = self._lock = None
        self._worker = None

    # ------------------------------------------------------------------ what goes on
    @property
    def running(self):
        """The Running of what runs now in a job that is not open here, or None."""
        if self._job is None:
            return None
        return self._queue.running or self._tasks.running

    @property
    def is_here(self):
        """Whether what runs, runs in the job that is open here."""
        return self.entry is not None and self._job is None

    def step(self):
        """Begin, follow or end; returns whether anything moved."""
        if self.entry is None:
            return self._begin()
        moved = False
        if self._job is not None:
            moved = bool([e for e in self._queue.poll() if e.kind != "progress"])
            moved = self._tasks.poll() or moved
        elif not self._is_here():
            self._end(None)  # the job was closed: it waits on
            return True
        moved = bool(self._follower.step()) or moved
        if self._follower.over and self._queue.idle and self._tasks.idle:
            self._end(self._follower.problem)
            return True
        return moved

    def _is_here(self):
        here = self.here()
        return here is not None and here[1] is self._queue

    def _begin(self):
        entries, paused = self.waiting.read()
        if paused or not any(e.state != FAILED for e in entries) or not self._claim():
            return False
        here = self.here()
        if self.busy() or (here is not None and not (here[1].idle and here[2].idle)):
            return False  # one thing at a time: memory is shared
        for e in entries:
            # what is said to run was left by a process that ended: the lock is ours
            if e.state in (WAITS, RUNS) and self._start(e, here):
                return True
        return False

    def _start(self, entry, here):
        """Begin an entry; returns whether anything changed. One whose job is open elsewhere waits on."""
        try:
            if here is not None and Path(here[0].folder).resolve() == Path(entry.folder).resolve():
                job, self._queue, self._tasks = here
                if not job.writable:
                    raise JobReadOnly("It is open for reading only.")
            else:
                job = self._job = Job.open(entry.folder)
                self._worker = self._worker or Worker()
                self._queue, self._tasks = Queue(job, self._worker), Tasks(self._worker)
            if entry.recipe:
                following = Following(job, recipe_of_text(entry.recipe, "the recipe in the queue"))
            else:
                following = _OneGo(job, entry)
            self._follower = Follower(following, self._queue, self._tasks)
        except JobInUse:
            self._let_go()
            return self._say(entry, WAITS, "The job is open in another window; it goes on when that is closed.")
        except UmbrateError as e:
            self._let_go()
            self._say(entry, FAILED, str(e))
            self.ended.append((entry, str(e)))
            return True
        self.entry = replace(entry, state=RUNS, why="")
        self._say(entry, RUNS, "")
        return True

    def _say(self, entry, state, why):
        """Write how an entry stands; returns whether that is new."""
        if (entry.state, entry.why) == (state, why):
            return False
        try:
            self.waiting.put(entry.id, state=state, why=why)
        except (UmbrateError, OSError) as e:
            log.warning("the queue cannot be written: %s", e)
        return True

    def _end(self, why):
        """What runs has ended: done where `why` is "", failed by it, or waits on where it is None."""
        entry, self.entry = self.entry, None
        self._let_go()
        try:
            if why == "":
                self.waiting.remove({entry.id})
            else:
                self.waiting.put(entry.id, state=WAITS if why is None else FAILED, why=why or "")
        except (UmbrateError, OSError) as e:
            log.warning("the queue cannot be written: %s", e)
        if why is not None:
            self.ended.append((entry, why))

    def _let_go(self):
        job, self._job = self._job, None
        self._follower = self._queue = self._tasks = None
        if job is not None:
            job.close()

    def _claim(self):
        """Whether this process is the one that runs the queue."""
        if self._lock is not None:
            return True
        try:
            make_folder(self.waiting.folder)
            lock = open(self.waiting.folder / "queue-runs.lock", "a")
        except (OSError, UmbrateError):
            return False
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            lock.close()
            return False
        os.set_inheritable(lock.fileno(), False)
        self._lock = lock
        return True

    # ------------------------------------------------------------------ ending
    def cancelled(self):
        """What runs in the job that is open here was cancelled there: it waits on, and nothing more is begun."""
        if self.is_here:
            self.waiting.pause(True)
            self._end(None)

    def stop(self):
        """Stop what runs in another job; it waits on, and nothing more is begun until somebody says so."""
        self.waiting.pause(True)
        self._break_off()

    def _break_off(self):
        if self._job is not None:
            self._worker.kill()
            self._worker = None
            self._end(None)

    def close(self):
        """End: what runs in another job is stopped and waits on, for the next window."""
        self._break_off()
        if self.entry is not None:
            self._end(None)
        if self._worker is not None:
            self._worker.close()
        if self._lock is not None:
            self._lock.close()
            self._lock = None


def left_cells(job, queue):
    """Entries of what runs and waits in a job's own queue, to be kept over a restart."""
    sittings = {s.id: s for s in job.sittings()}
    cells = [(queue.running.sitting.id, queue.running.stage)] if queue.running else []
    order = [s.name for s in STAGES]
    cells += [c for c in queue.waiting if c not in cells]
    last = {}
    for sid, name in cells:  # what a stage needs runs with it
        if sid in sittings and (sid not in last or order.index(name) > order.index(last[sid])):
            last[sid] = name
    return [cell_entry(job, sittings[sid], name, redo=False) for sid, name in last.items()]
