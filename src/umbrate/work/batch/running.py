"""Doing a batch: folder after folder, each made into a job and run by the recipe; one that fails stops no other."""

import logging
import time
from pathlib import Path

from ...core.errors import Cancelled, UmbrateError
from ...job.store import Job
from ...sitting.photos import photo_files
from ...stages import BY_NAME
from ...stages.base import Report
from ..adding import mask_folder_of, photo_folders, read_folder, take_in
from ..queue import Queue
from ..recipes.follower import Follower
from ..recipes.following import Following
from ..tasks import Tasks
from .state import DONE, FAILED, RUNS, WAITING
from .summary import Summary

log = logging.getLogger(__name__)
PLATE_FOLDERS = ("plates", "Plates", "plate")
FEWEST = 2  #: photos that anything can be made of


def nothing(kind, item, text):
    """Tells nobody."""


class _Reading(Report):
    """Tells the batch how far the reading of photos is."""

    def __init__(self, batch, stopped):
        super().__init__()
        self.batch, self.stopped = batch, stopped

    def check(self):
        if self.stopped():
            raise Cancelled()

    def progress(self, fraction, sentence, **figures):
        self.check()
        self.batch.tell(sentence=sentence, fraction=round(fraction, 3))


def sittings_of(folder):
    """The folders of photos that become the sittings of a job, by their names.

    Raises
    ------
    UmbrateError
        Where there are none, they cannot be read, or hold too few photos.
    """
    top = Path(folder)
    try:
        found = photo_folders(top)
        found = [f for f in found if f == top or f.name not in PLATE_FOLDERS]
        names = {(top.name if f == top else f.name): f for f in found}
        for name, f in names.items():
            n = len(photo_files(f))
            if n < FEWEST:
                raise UmbrateError(f"“{name}” has {n} photo: at least {FEWEST} are needed.")
    except OSError as e:
        raise UmbrateError(f"{e.filename or top} cannot be read ({e.strerror}).") from e
    if not names:
        raise UmbrateError(f"There are no photos in {top}, nor in a folder directly below it.")
    return names


def bring_in(job, folder, report):
    """Bring the photos of a batch's folder into its job: those that are not in it yet. Returns sentences to look at."""
    notes = []
    for name, place in sittings_of(folder).items():
        incoming = read_folder(place, mask_folder_of(place), None, report)
        if len(incoming.records) < FEWEST:
            raise UmbrateError(f"Of the photos in “{name}” only {len(incoming.records)} can be read.")
        notes += incoming.refused
        plates = next((place / p for p in PLATE_FOLDERS if (place / p).is_dir()), None)
        if plates:
            incoming.mask_settings["plates"] = str(plates.resolve())
        _, added, _ = take_in(job, name, incoming)
        log.info("%d photos came into %s", added, name)
    return notes


def run_batch(batch, tell=nothing, worker=None, stopped=lambda: False, cluster=""):
    """Do a batch that was begun; returns whether all of its folders are done.

    Parameters
    ----------
    tell : callable(kind, item, text)
        Kinds: begin, step, figures, look, done, failed.
    worker : Worker, optional
    stopped : callable() -> bool
        Whether to stop; what was finished is kept, and the batch can be gone on with.
    """
    summary = Summary(batch)
    for item in batch.items:
        if item.state in (RUNS, FAILED):
            item.state = WAITING  # what failed may have been mended meanwhile
    try:
        for k, item in enumerate(batch.items):
            if stopped():
                break
            if item.state == DONE:
                continue
            start, before = time.monotonic(), item.seconds
            item.state, item.why, item.notes = RUNS, "", []
            batch.now = {"name": item.name, "number": k + 1, "sentence": "begins", "fraction": 0.0}
            batch.write()
            tell("begin", item, f"{item.name} ({k + 1} of {len(batch.items)})")
            try:
                item.state = DONE if _do(batch, item, tell, worker, stopped, cluster) else WAITING
            except Cancelled:
                item.state = WAITING
            except (UmbrateError, OSError, MemoryError) as e:
                item.state, item.why = FAILED, str(e) or type(e).__name__
            except Exception as e:
                log.exception("a folder of a batch failed")
                item.state, item.why = FAILED, f"Something unexpected went wrong ({type(e).__name__}: {e})."
            item.seconds = round(before + time.monotonic() - start, 2)
            if item.state == FAILED:
                tell("failed", item, item.why)
            elif item.state == DONE:
                tell("done", item, f"{item.seconds:.0f} s")
            _kept(batch.write, tell, item)
            _kept(summary.write, tell, item)
    finally:
        try:
            _kept(summary.write, tell, None)
        finally:
            batch.end()
    return all(i.state == DONE for i in batch.items)


def _kept(write, tell, item):
    """Write something that a full disk may forbid: the batch goes on without, and the next one may have room."""
    try:
        write()
    except (UmbrateError, OSError) as e:
        tell("look", item, str(e))


def _open_job(batch, item):
    """The job of an item, made where it is new.

    Raises
    ------
    UmbrateError
        Where something of its name is there that the batch did not make.
    """
    folder, files = batch.job_folder(item), batch.delivered(item)
    if not item.begun:
        for place in (folder, files):
            if place.exists() or place.is_symlink():
                raise UmbrateError(
                    f"{place} is there already, and this batch did not make it. Move it away, or choose another folder "
                    "for the results."
                )
        item.begun = True
        batch.write()
    return Job.open(folder) if (folder / "job.sqlite").exists() else Job.create(folder)


def _do(batch, item, tell, worker, stopped, cluster):
    """Do one item; returns whether it is done, else it was stopped."""
    sittings_of(item.folder)  # says what is wrong before a job is made
    with _open_job(batch, item) as job:
        item.notes += bring_in(job, item.folder, _Reading(batch, stopped))
        queue = Queue(job, worker, cluster=cluster)
        tasks = Tasks(queue.worker)
        following = Following(job, batch.recipe, place={"folder": str(batch.delivered(item)), "replace": True})
        follower = Follower(following, queue, tasks)
        try:
            while not follower.over:
                if stopped():
                    queue.cancel()
                    tasks.cancel()
                    while not (queue.idle and tasks.idle):
                        queue.poll(0.1)
                        tasks.poll(0.1)
                    return False
                for e in queue.poll(0.2):
                    _follow(batch, job, item, e, tell)
                tasks.poll(0.2)
                title = follower.step()
                if title:
                    batch.tell(sentence=title, fraction=0.0)
                    tell("step", item, title)
        finally:
            if worker is None:
                queue.close()
        item.notes += following.notes
        if follower.problem:
            raise UmbrateError(" ".join([follower.problem, *_first_problems(job)]))
        return True


def _first_problems(job):
    """What was wrong with photos and masks first of all: often why nothing came of them later."""
    for s in job.photo_sittings():
        for name in ("photos", "masks"):
            done = job.result(s.id, name)
            if done and done.problems:
                more = f" And {len(done.problems) - 1} more." if len(done.problems) > 1 else ""
                return [f"Of its photos, first: {done.problems[0]['text']}{more}"]
    return []


def _follow(batch, job, item, event, tell):
    """Tell of an event of the queue."""
    if event.kind not in ("started", "progress", "done"):
        return
    stage = BY_NAME[event.data["stage"]]
    sitting = next((s.name for s in job.sittings() if s.id == event.data["sitting"]), "")
    title = f"{sitting}, {stage.title}"
    if event.kind == "progress":
        batch.tell(sentence=f"{title}: {event.data['sentence']}", fraction=round(event.data["fraction"], 3))
    elif event.kind == "started":
        batch.tell(sentence=title, fraction=0.0)
    else:
        figures = ", ".join(x for x in stage.headline(event.data["figures"]) if x)
        tell("figures", item, f"{title}: {figures}")
