"""Running stages from the terminal: the same queue as the window's, with a progress bar."""

import sys
from itertools import groupby

from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

from ..core.errors import Cancelled, UmbrateError
from ..core.imaging.video import LEAST_CHANGE
from ..core.names import plain_name, printable
from ..stages import BY_NAME, STAGES, stages_of
from ..stages.base import Report, parse_settings, value_of_text
from ..stages.photos.records import record_of
from ..work.adding import is_video, read_files, read_folder, read_video, take_in
from ..work.queue import Queue
from ..work.recipes.follower import Follower
from ..work.recipes.following import Following
from ..work.sorting import propose_split
from ..work.state import plan
from ..work.tasks import Tasks
from .console import complain, out, say


class Shown(Report):
    """Shows how far the reading of photos is, in one line."""

    def __init__(self, status):
        super().__init__()
        self._status = status

    def progress(self, fraction, sentence, **figures):
        self._status.update(f"{printable(sentence)} ({100 * fraction:.0f} %)")


def read_in(job, place, masks=None, pattern=None, every_s=0.5, every_frames=None, least_change=LEAST_CHANGE):
    """Read a folder or a video, showing how far it is; an Incoming."""
    with out.status(f"Reading {printable(place)}") as status:
        report = Shown(status)
        if is_video(place):
            return read_video(job.folder, place, every_s, every_frames, least_change, report)
        return read_folder(place, masks, pattern, report)


def bring_in(job, places, sitting_name, masks=None, pattern=None, every=(0.5, None), quiet=False, worker=None):
    """Add folders, photos and videos to a sitting and look at every photo and mask; whether all went well.

    What cannot be read is listed and left out; the rest comes in.

    every : of a video, the sharpest frame of so many seconds is taken, or of so many frames where they are given
    """
    refused, read = [], []
    plain_name(sitting_name, "A sitting")

    def is_folder(p):
        try:
            return p.is_dir()
        except (OSError, ValueError):
            return False

    # in the order they were given; files that follow each other are read together
    for single, some in groupby(places, lambda p: not is_folder(p) and not is_video(p)):
        for group in [list(some)] if single else [[p] for p in some]:
            try:
                if single:
                    with out.status(f"Reading {len(group)} files") as status:
                        read.append(read_files(group, masks, pattern, Shown(status)))
                else:
                    read.append(read_in(job, group[0], masks, pattern, *every))
            except Cancelled:
                raise
            except UmbrateError as e:
                refused += [x for x in map(record_of, group) if isinstance(x, str)] if single else [str(e)]
    if not read:
        raise UmbrateError(f"Nothing came in. {' '.join(refused[:3])}")
    for incoming in read:
        sitting, added, there = take_in(job, sitting_name, incoming)
        refused += incoming.refused
        if not quiet:
            again = f" ({there} were there already)" if there else ""
            say(f"Added {added} photos to “{sitting.name}”{again}. {incoming.note}".strip())
    for sentence in refused:
        complain("Left out", sentence)
    good = run_cells(job, [sitting], "masks", quiet=quiet, worker=worker)
    problems = [
        p for name in ("photos", "masks") if job.result(sitting.id, name) for p in job.result(sitting.id, name).problems
    ]
    return good and not refused and not problems


def split_sitting(job, sitting, where, pause=None, dry_run=False):
    """Split a sitting at bare frames or at pauses, and say into what; returns whether there was something to split."""
    if where == "bare" and not run_cells(job, [sitting], "photos", quiet=True):
        return False
    parts = propose_split(job, sitting, where, pause)
    names = {p.id: p.name for p in job.photos(sitting.id)}
    for photos, plates in parts:
        told = f"{names[photos[0]]} to {names[photos[-1]]}, {len(photos)} photos" if photos else "no photos"
        more = f", plates {', '.join(names[i] for i in plates)}" if plates else ""
        say(f"  {told}{more}")
    if len(parts) < 2 and not any(plates for _, plates in parts):
        say("Nothing separates these photos.")
        return False
    if not dry_run:
        made = job.split_sitting(sitting.id, parts)
        say(f"Sittings now: {', '.join(f'“{n}”' for n in made)}")
    return True


def parse_assignments(assignments):
    """``stage.setting=value`` texts as plain values by stage and setting."""
    changes = {}
    for text in assignments:
        left, equals, value = text.partition("=")
        stage_name, dot, field = left.partition(".")
        if not equals or not dot or stage_name not in BY_NAME:
            stages = ", ".join(s.name for s in STAGES)
            raise UmbrateError(
                f"“{text}” is not understood. Write STAGE.SETTING=VALUE with a stage of: {stages}; for "
                "example cloud.photo_scale=1/4"
            )
        changes.setdefault(stage_name, {})[field] = value_of_text(BY_NAME[stage_name], field, value)
    return changes


def apply_assignments(job, sittings, assignments):
    """Apply ``stage.setting=value`` texts to sittings; nothing is changed when one of them is wrong."""
    todo = []
    for stage_name, values in parse_assignments(assignments).items():
        for s in sittings:
            merged = {**job.settings(s.id, stage_name), **values}
            clean = parse_settings(BY_NAME[stage_name], merged).model_dump(mode="json")
            todo.append((s.id, stage_name, {k: clean[k] for k in merged}))
    for chosen in todo:
        job.set_settings(*chosen)


def run_cells(job, sittings, upto, redo=False, redo_all=False, quiet=False, mode="", worker=None, cluster=""):
    """Run what is missing or stale up to a stage; returns whether everything went well.

    mode : how the last stage is run, one of its `modes`
    worker : the Worker that runs them; another one where not given
    cluster : address of a scheduler whose workers help
    """
    if upto not in BY_NAME:
        raise UmbrateError(f"There is no stage “{upto}”. There is: {', '.join(s.name for s in STAGES)}.")
    queue = Queue(job, worker, cluster=cluster)
    cells = []
    for s in sorted(sittings, key=lambda s: bool(s.members)):  # what is joined, after what it is joined from
        names = [x.name for x in stages_of(s)]
        names = names[: names.index(upto) + 1] if upto in names else []
        if not redo_all:
            names = plan(job, s, upto, redo)
        cells.append((s, names))
    queue.add_all(cells, mode)
    if queue.idle:
        if not quiet:
            say("Everything is up to date. Use --redo to run it again.")
        return True
    try:
        return work_through(job, queue, quiet)
    finally:
        queue.close()


def work_through(job, queue, quiet=False):
    """Run all that waits in a Queue, with a progress bar; returns whether everything went well."""
    with Telling(job, quiet) as telling:
        try:
            while not queue.idle:
                for e in queue.poll(0.2):
                    telling.tell(e)
        except KeyboardInterrupt:
            telling.stopped(queue)
    return telling.good


class Telling:
    """Tells of a queue's events by line, with a progress bar where somebody looks on; `good` while all is well."""

    def __init__(self, job, quiet=False):
        self.job, self.quiet, self.good, self._task = job, quiet, True, None
        self._live = sys.stdout.isatty() and not quiet
        self._bar = Progress(
            TextColumn("{task.description}", markup=False),
            BarColumn(),
            TimeRemainingColumn(),
            TextColumn("{task.fields[sentence]}", markup=False),
            console=out,
            disable=not self._live,
            transient=True,
        )

    def __enter__(self):
        self._bar.__enter__()
        return self

    def __exit__(self, *what):
        self._bar.__exit__(*what)

    def tell(self, e):
        """Tell of one event."""
        names = {s.id: s.name for s in self.job.sittings()}  # a run may bring others along
        stage = BY_NAME[e.data["stage"]]
        title = f"{names[e.data['sitting']]}, {stage.title}"
        if e.kind == "started":
            self._task = self._bar.add_task(title, total=1.0, sentence="")
            if not self._live and not self.quiet:
                say(f"{title} ...")
        elif e.kind == "progress":
            self._bar.update(self._task, completed=e.data["fraction"], sentence=e.data["sentence"])
        elif e.kind == "done":
            self._bar.remove_task(self._task)
            done = self.job.result(e.data["sitting"], stage.name)
            if not self.quiet:
                figures = ", ".join(x for x in stage.headline(e.data["figures"]) if x)
                say(f"{title}: {figures}", f"  {done.seconds:.1f} s")
                for p in done.problems:
                    say(f"  {p['text']} {p['hint']}")
        elif e.kind != "live":
            self.good = False
            complain(title, e.data["message"])

    def stopped(self, queue):
        """Stop a queue, as the user said."""
        queue.cancel()
        while not queue.idle:
            queue.poll(0.2)
        complain("Stopped", "what was finished before is saved.")
        self.good = False


def follow_recipe(job, recipe, sittings=None, worker=None, cluster="", quiet=False, place=None):
    """Run a job by a Recipe; returns whether all of it was done."""
    queue = Queue(job, worker, cluster=cluster)
    tasks = Tasks(queue.worker)
    follower = Follower(Following(job, recipe, sittings, place), queue, tasks)
    try:
        with Telling(job, quiet) as telling:
            try:
                while not follower.over:
                    for e in queue.poll(0.2):
                        telling.tell(e)
                    tasks.poll(0.2)
                    title = follower.step()
                    if title and not quiet:
                        say(f"{title[0].upper()}{title[1:]}")
            except KeyboardInterrupt:
                follower.stop()
                telling.stopped(queue)
                return False
        for note in follower.following.notes:
            say(f"  {note}")
        if follower.problem and telling.good:
            complain("The recipe stopped", follower.problem)
        elif not follower.problem and not quiet:
            say(f"“{recipe.name}” is done.")
        return not follower.problem
    finally:
        queue.close()
