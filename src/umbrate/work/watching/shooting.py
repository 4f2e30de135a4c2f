"""Shooting into a job: photos are taken in as they come, placed by what stands, and the next places are named."""

from dataclasses import dataclass

import numpy as np

from ...actions.coverage import UNDER, compute_coverage, gather_tie_points
from ...actions.quicksurface import QuickSurface, quick_surface
from ...actions.standing import move_text, next_turn, turn_to_close
from ...core.errors import Cancelled, UmbrateError
from ...core.names import plain_name
from ...core.targets.detect import CODED
from ...core.targets.turned import turns
from ...job.contents import TARGETS
from ...job.store import Job
from ...sitting.frames import frame_of, load_block
from ...stages.poses.inputs import GO_ON
from ..adding import mask_folder_of
from ..state import plan
from .arrivals import LEFT, PHOTO, REPLACED, Arrivals, Judge
from .placing import first_place

FEWEST = 4  #: photos with which poses are begun
PLACES = 3  #: that are named
STEPS = ("photos", "masks", "lens", "poses")
AT_ONCE = 3  #: photos that get a first place; of more at once those that came last


@dataclass(frozen=True)
class Next:
    """Where to stand next.

    Attributes
    ----------
    texts : list of str
        The most useful places first, from where the last photo was taken.
    poses : list of (4, 4)
        One for each, world to camera, in the job's frame.
    points : list of int
        Weak points that photos from there would see.
    turn : str
        How far to turn the turntable; "" where there is none or the round is closed.
    share : float
        Of the quick surface, or of the tie points without one, that enough photos see well; None before there are any.
    rows : tuple of int
        Which of the places that coverage finds they are.
    surface : QuickSurface or None
    """

    texts: list
    poses: list
    points: list
    turn: str = ""
    share: float | None = None
    rows: tuple = ()
    surface: QuickSurface | None = None


def next_places(folder, sitting_id, report):
    """Work for another process: the Next of a sitting of the job in `folder`, or a sentence why there is none."""
    report.progress(0.1, "looking where photos are missing")
    with Job.open(folder, writable=False) as job:
        sitting = next(s for s in job.sittings() if s.id == sitting_id)
        block = load_block(job, sitting)
        if block is None:  # too few photos yet; a mat tells the next turn from the second on
            return Next([], [], [], _turn_by_mat(job, sitting))
        order = [p.id for p in job.photos(sitting_id, aside=False) if block and p.id in block.solved_rows]
        try:
            work = gather_tie_points(job, sitting)
            covered = compute_coverage(work, lambda *_: report.check())
        except Cancelled:
            raise
        except UmbrateError as e:
            return str(e)
        poses = [block.poses[block.solved_rows[i]] for i in order]
        figures = job.result(sitting_id, "poses").figures
        middle = np.median(work.cloud["points"], axis=0)
        rows = [k for k, p in enumerate(covered.places) if p.normal[2] >= UNDER][:PLACES]
        best = [covered.places[k] for k in rows]
        wanted = [p.poses[len(p.poses) // 2] for p in best]
        texts = [move_text(poses[-1], E, middle, bool(figures.turntable)) for E in wanted] if poses else []
        if not best and covered.places:
            texts = ["turn it over for its underside: that is another sitting"]
        turn = _turn(job, sitting, figures, poses)
        surface = quick_surface(work, report.check)
        good = surface.seen if surface else float((~covered.weak).mean())
        return Next(texts, wanted, [p.points for p in best], turn, good, tuple(rows), surface)


def _turn(job, sitting, figures, poses):
    """How far to turn the disc, in words; "" where the photos show no turntable or the round is closed."""
    if not figures.turntable or len(poses) < 3:
        return _turn_by_mat(job, sitting)
    M = frame_of(job, sitting).matrix
    axis, foot = np.array(figures.turntable.direction), np.array(figures.turntable.point)
    axis = M[:3, :3] @ axis
    if axis[2] < 0:  # which end of it is up, the turns do not say
        axis = -axis
    return _turn_told(*next_turn(poses, axis, M[:3, :3] @ foot + M[:3, 3]))


def _turn_by_mat(job, sitting):
    """The same from the targets of a mat alone, before photos are placed and where no turntable was found."""
    done = job.result(sitting.id, "lens")
    keys = [done.blob("targets", p.id) for p in job.photos(sitting.id, aside=False)] if done else []
    seen = []
    for a in (job.blobs.get_arrays(key, TARGETS) for key in keys if key):
        coded = a["kind"] == CODED
        seen.append(dict(zip(a["number"][coded].tolist(), a["dots"][coded, :2], strict=True)))
    at = turns(seen)
    return _turn_told(*turn_to_close(at)) if len(at) > 1 else ""


def _turn_told(degrees, left):
    if not left:
        return ""
    way = "clockwise" if degrees > 0 else "counterclockwise"
    return f"Turn it {5 * round(abs(degrees) / 5):.0f}° {way}; {left} to go in this round."


class Shooting:
    """Takes what comes into a folder into a sitting of a job, and has it run. Call `look` and `step` often.

    Parameters
    ----------
    name : str
        Of the sitting, made where it is new.
    queue, tasks : Queue, Tasks
        Of the job, each with a worker of its own; somebody polls them.
    tell : callable(kind, text)
        Kinds: good, bad, left, folder, first, placed, next, trouble.

    Attributes
    ----------
    first : dict of file hash to FirstPlace
        Photos that stand by resection and that no run has placed yet.
    """

    def __init__(self, job, name, folder, queue, tasks, tell):
        self.job, self.queue, self.tasks, self.tell = job, queue, tasks, tell
        self.name, self._sitting_id, self._stuck = plain_name(name, "A sitting"), None, False
        sitting = self.sitting
        if sitting and sitting.members:
            raise UmbrateError(
                f"“{self.name}” is joined from other sittings: photos come into one of those, or a new one."
            )
        known = [(str(job.photo_path(p)), p.hash) for p in job.photos(sitting.id)] if sitting else []
        self.arrivals, self.judge = Arrivals(folder, known), Judge()
        self.next, self._waiting, self._asked, self._placed = None, [], None, set()
        self.first, self._unplaced, self._naming = {}, [], False
        tasks.worker.start()  # so that the first photo need not wait for it

    @property
    def sitting(self):
        """The sitting, or None before its first photo; it may have another name since."""
        every = self.job.sittings()
        known = next((s for s in every if s.id == self._sitting_id), None)
        return known or next((s for s in every if s.name == self.name), None)

    def look(self):
        """What is new in the folder, with what a look at each photo tells; no job is touched. May take a moment."""
        out = []
        for news in self.arrivals.look():
            judged = None
            if news.kind == PHOTO:
                try:
                    judged = self.judge.judge(news.file)
                except UmbrateError:
                    judged = None  # the stage that reads it says so
            out.append((news, judged))
        return out

    def take(self, news):
        """Take in what `look` brought, and tell of it."""
        self._stuck = self._stuck and not news
        for n, judged in news:
            if n.kind == PHOTO:
                name = n.record["name"]
                bad = judged.complaints if judged else ()
                self.tell("bad" if bad else "good", f"{name}: {' '.join(bad)}" if bad else f"{name} came in.")
                self._waiting.append(n.record)
                self._unplaced.append(n.record)
            elif n.kind == REPLACED:
                self.tell("left", n.why)
                self._waiting.append(n.record)
            else:
                self.tell("left" if n.kind == LEFT else "folder", n.why)

    def step(self):
        """Go on where nothing runs: place what came, bring it in, name what is next; whether anything began."""
        sitting = self.sitting
        if self._place_first(sitting):
            return True
        if not (self.queue.idle and self.tasks.idle):
            return False
        if self._waiting and not self._stuck:
            masks = mask_folder_of(self.arrivals.folder)
            chosen = {"masks": {"folder": str(masks.resolve())}} if masks else {}
            if sitting and self.job.settings(sitting.id, "masks"):
                chosen = {}
            try:
                sitting, _ = self.job.add_sitting(sitting.name if sitting else self.name, self._waiting, chosen)
            except UmbrateError as e:  # a full disk, say: they wait on, until something else comes
                self._stuck = True
                self.tell("trouble", f"{e} {len(self._waiting)} photos wait until the next one comes.")
                return False
            self._waiting, self._sitting_id = [], sitting.id
            self._run(sitting)
            return True
        if sitting is None:
            return False
        return self._after(sitting)

    def _place_first(self, sitting):
        """Have a photo that came placed by what stands, beside whatever runs; whether that began."""
        if not self._unplaced:
            return False
        if sitting is None or self.job.result(sitting.id, "poses") is None:
            self._unplaced.clear()
            return False
        self._unplaced = self._unplaced[-AT_ONCE:]
        if self.tasks.idle:
            record = self._unplaced.pop(0)
            arguments = str(self.job.folder), sitting.id, record
            self.tasks.send("first place", first_place, arguments, self._told_first, self._failed)
            return True
        if self._naming and not self.tasks.waiting:
            self.tasks.cancel()  # the next places will be others with this photo
        return False

    def _told_first(self, found):
        if found is not None:
            self.first[found.hash] = found
            self.tell("first", f"{found.name} has a first place: {found.agree} tie points agree.")

    def _run(self, sitting):
        count = len(self.job.photos(sitting.id, aside=False))
        if count < FEWEST:
            self.queue.add(sitting, plan(self.job, sitting, "lens"))
            return
        done = self.job.result(sitting.id, "poses")
        mode = GO_ON if done and done.figures.solved >= 2 else ""
        self.queue.add(sitting, plan(self.job, sitting, "poses", redo=True), mode)

    def _after(self, sitting):
        """Tell what came of the last run, once, and ask for the next places."""
        failures = (self.queue.failures.get((sitting.id, s)) for s in STEPS)
        failure = next((f for f in failures if f), None)
        done = self.job.result(sitting.id, "poses")
        last = done or self.job.result(sitting.id, "lens")
        mark = (last.id if last else None), failure.message if failure else ""
        if mark == self._asked or mark == (None, ""):
            return False
        self._asked = mark
        if failure:
            self.tell("trouble", f"{failure.message} Go on shooting: it is tried again with the next photo.")
            if done or not last:
                return False
        if done:
            self._tell_placed(sitting, done.figures)
        self._naming = True
        self.tasks.send("next places", next_places, (str(self.job.folder), sitting.id), self._told_next, self._failed)
        return True

    def _tell_placed(self, sitting, figures):
        """Tell which photos have a place now, and why others have none."""
        photos = self.job.photos(sitting.id, aside=False)
        names = {p.id: p.name for p in photos}
        run = {p.hash for p in photos}
        self.first = {h: x for h, x in self.first.items() if h not in run}
        self._unplaced = [r for r in self._unplaced if r["hash"] not in run]
        out = [i for i in names if i in figures.reasons or i in figures.fragments]
        solved = set(names) - set(out)
        new = [names[i] for i in names if i in solved - self._placed]
        self._placed = solved
        told = f"{', '.join(new[-3:])} placed; " if new else ""
        why = f": {figures.reasons[out[0]].text}" if out and out[0] in figures.reasons else ""
        more = f", and {len(out) - 1} more" if len(out) > 1 else ""
        left = f" Not placed: {names[out[0]]}{why}{more}." if out else ""
        self.tell("placed", f"{told}{figures.solved} of {len(names)} photos stand.{left}")

    def _told_next(self, found):
        self._naming = False
        self.next = None if isinstance(found, str) else found
        if isinstance(found, str):
            self.tell("trouble", found)
            return
        if found.share is None:
            if found.turn:
                self.tell("next", found.turn)
            return
        lines = [f"{k}. {text}" for k, text in enumerate(found.texts, 1)]
        more = f" {found.turn}" if found.turn else ""
        told = "Next: " + "; ".join(lines) + "." if lines else "All that these photos show is seen well enough."
        self.tell("next", f"{100 * found.share:.0f} % of what is known of it is seen well. {told}{more}")

    def _failed(self, message, kind):
        self._naming = False
        if kind != "cancelled":
            self.tell("trouble", message)
