"""The state of every cell of the Board: what there is, what is stale, what could run."""

from dataclasses import dataclass
from functools import partial

from ..core.errors import UmbrateError
from ..sitting.members import members_of
from ..stages import BY_NAME, STAGES
from ..stages.base import chosen, fingerprint, settings_of

NOTHING, READY, DONE, STALE, LOOK, FAILED = "nothing", "ready", "done", "stale", "look", "failed"
RUNNING, QUEUED, ELSEWHERE = "running", "queued", "elsewhere"

WORDS = {
    NOTHING: "nothing yet",
    READY: "ready to run",
    DONE: "done",
    STALE: "stale",
    LOOK: "look here",
    FAILED: "failed",
    RUNNING: "running",
    QUEUED: "waiting",
    ELSEWHERE: "made elsewhere",
}


@dataclass(frozen=True)
class Cell:
    """One sitting at one stage, as the Board shows it."""

    sitting_id: int
    stage: str
    state: str
    first: str
    second: str
    detail: str
    problems: tuple = ()


def current_fingerprint(job, sitting, stage, settings=None):
    """The fingerprint a run of the stage would have now."""
    settings = settings or settings_of(job, sitting, stage)

    def lookup(name):
        done = job.result(sitting.id, name)
        return done.fingerprint if done else ""

    return fingerprint(stage, job, sitting, settings, lookup)


def is_current(job, sitting, stage):
    """Whether the stage's result, and all it was made from, agrees with what it would be made from now."""
    with job.glance():
        return job.once_a_glance(("current", sitting.id, stage.name), lambda: _agrees(job, sitting, stage))


def _agrees(job, sitting, stage):
    done = job.result(sitting.id, stage.name)
    if done is None:
        return False
    if not stage.applies(sitting):
        return all(is_current(job, s, stage) for s in members_of(job, sitting)) if sitting.members else False
    needs = stage.needs_in(job, sitting)
    if not all(is_current(job, sitting, BY_NAME[n]) or job.result(sitting.id, n) is None for n in needs):
        return False
    return would_be_the_same(job, sitting, stage)


def would_be_the_same(job, sitting, stage):
    """Whether a run now would make what is there: what it reads is what it was made from, be that stale or not."""
    done = job.result(sitting.id, stage.name)
    if done is None or not stage.applies(sitting):
        return is_current(job, sitting, stage)
    if stage.outdated(job, sitting, done, partial(_is_current, job)):
        return False
    try:
        return done.fingerprint == current_fingerprint(job, sitting, stage)
    except UmbrateError:
        return False


def _is_current(job, sitting, name):
    return is_current(job, sitting, BY_NAME[name])


def is_invited(job, sitting, name):
    """Whether a stage that others profit from has something to do; a damaged file says so when it is run."""
    stage = BY_NAME[name]
    try:
        return stage.invited(job, sitting, settings_of(job, sitting, stage))
    except UmbrateError:
        return False


def why_stale(job, sitting, stage):
    """What has changed since the stage's result was made, in a few words."""
    done = job.result(sitting.id, stage.name)
    needs = stage.needs_in(job, sitting)
    told = stage.outdated(job, sitting, done, partial(_is_current, job))
    if told:
        return told
    for name in needs:
        below = job.result(sitting.id, name)
        if below is None or not is_current(job, sitting, BY_NAME[name]):
            return f"{BY_NAME[name].title} changed"
    try:
        now = settings_of(job, sitting, stage)
    except UmbrateError:
        return "settings changed"
    if chosen(now) != chosen(now, done.settings):
        return "settings changed"
    if any(job.result(sitting.id, name).made > done.made for name in needs):
        newest = max(needs, key=lambda n: job.result(sitting.id, n).made)
        return f"{BY_NAME[newest].title} ran again"
    return stage.reads + " changed"


def cell(job, sitting, stage, failures=None):
    """The Cell of a sitting and a stage. failures: the last Failure by (sitting id, stage name)."""
    with job.glance():
        return _cell(job, sitting, stage, failures)


def _cell(job, sitting, stage, failures):
    key = (sitting.id, stage.name)
    done = job.result(sitting.id, stage.name)
    if not stage.applies(sitting):
        return _elsewhere(job, sitting, stage)
    if failures and key in failures:
        return Cell(*key, FAILED, "failed", failures[key].message, failures[key].message)
    if done is None:
        ready = all(job.result(sitting.id, n) for n in stage.needs_in(job, sitting)) and bool(
            job.photos(sitting.id, aside=False)
        )
        told = stage.without_result(job, sitting)
        if told:
            return Cell(*key, READY, *told, stage.about)
        return Cell(*key, READY if ready else NOTHING, "", "", stage.about)
    first, second = stage.headline_of(job, sitting, done)
    problems = tuple(p["text"] + (" " + p["hint"] if p["hint"] else "") for p in done.problems)
    detail = f"{stage.about}\nMade {done.made.replace('T', ' ')} in {done.seconds:.1f} s."
    if not is_current(job, sitting, stage):
        return Cell(*key, STALE, first, why_stale(job, sitting, stage), detail, problems)
    return Cell(*key, LOOK if problems else DONE, first, second, detail, problems)


def _elsewhere(job, sitting, stage):
    """The Cell of a stage that is not computed with a sitting, but with what it is joined from or into."""
    key = (sitting.id, stage.name)
    if sitting.members:
        names = ", ".join(s.name for s in members_of(job, sitting))
        return Cell(*key, ELSEWHERE, "in sittings", "", f"{stage.title} is made with {names}.")
    rows = [s for s in job.joined_rows() if sitting.id in s.members]
    if rows:
        return Cell(*key, ELSEWHERE, f"in {rows[0].name}", "", f"It is part of {', '.join(s.name for s in rows)}.")
    return Cell(*key, NOTHING, "", "", stage.about)


def board(job, failures=None):
    """All cells: one list for each sitting, in the order of the stages."""
    with job.glance():
        return [[cell(job, s, stage, failures) for stage in STAGES] for s in job.sittings()]


def plan(job, sitting, upto, redo=False):
    """The stages to run so that `upto` is current: those it needs that are not, then itself.

    With `redo`, `upto` runs even when its result is current.
    """
    stage = BY_NAME[upto]
    out = []
    if not stage.applies(sitting):
        return []
    for name in stage.needs_in(job, sitting):
        for s in plan(job, sitting, name):
            if s not in out:
                out.append(s)
    if out or redo or not is_current(job, sitting, stage):
        out.append(upto)
    return out
