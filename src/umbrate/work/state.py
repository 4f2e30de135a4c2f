"""The state of every cell of the Board: what there is, what is stale, what could run."""

from dataclasses import dataclass

from ..core.errors import UmbrateError
from ..stages import BY_NAME, STAGES
from ..stages.base import fingerprint, parse_settings

NOTHING, READY, DONE, STALE, LOOK, FAILED = "nothing", "ready", "done", "stale", "look", "failed"
RUNNING, QUEUED = "running", "queued"

WORDS = {
    NOTHING: "nothing yet",
    READY: "ready to run",
    DONE: "done",
    STALE: "stale",
    LOOK: "look here",
    FAILED: "failed",
    RUNNING: "running",
    QUEUED: "waiting",
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
    if settings is None:
        settings = parse_settings(stage, job.settings(sitting.id, stage.name))

    def lookup(name):
        done = job.result(sitting.id, name)
        return done.fingerprint if done else ""

    return fingerprint(stage, job, sitting, settings, lookup)


def is_current(job, sitting, stage):
    """Whether the stage's result, and all it was made from, agrees with what it would be made from now."""
    done = job.result(sitting.id, stage.name)
    if done is None:
        return False
    if not all(is_current(job, sitting, BY_NAME[n]) or job.result(sitting.id, n) is None for n in stage.needs):
        return False
    try:
        return done.fingerprint == current_fingerprint(job, sitting, stage)
    except UmbrateError:
        return False


def why_stale(job, sitting, stage):
    """What has changed since the stage's result was made, in a few words."""
    done = job.result(sitting.id, stage.name)
    for name in stage.needs:
        below = job.result(sitting.id, name)
        if below is None or not is_current(job, sitting, BY_NAME[name]):
            return f"{BY_NAME[name].title} changed"
    try:
        now = parse_settings(stage, job.settings(sitting.id, stage.name)).model_dump(mode="json")
    except UmbrateError:
        return "settings changed"
    if now != done.settings:
        return "settings changed"
    if any(job.result(sitting.id, name).made > done.made for name in stage.needs):
        newest = max(stage.needs, key=lambda n: job.result(sitting.id, n).made)
        return f"{BY_NAME[newest].title} ran again"
    return stage.reads + " changed"


def cell(job, sitting, stage, failures=None):
    """The Cell of a sitting and a stage. failures: the last Failure by (sitting id, stage name)."""
    key = (sitting.id, stage.name)
    done = job.result(sitting.id, stage.name)
    if failures and key in failures:
        return Cell(*key, FAILED, "failed", failures[key].message, failures[key].message)
    if done is None:
        ready = all(job.result(sitting.id, n) for n in stage.needs) and bool(job.photos(sitting.id, aside=False))
        return Cell(*key, READY if ready else NOTHING, "", "", stage.about)
    first, second = stage.headline(done.figures)
    problems = tuple(p["text"] + (" " + p["hint"] if p["hint"] else "") for p in done.problems)
    detail = f"{stage.about}\nMade {done.made.replace('T', ' ')} in {done.seconds:.1f} s."
    if not is_current(job, sitting, stage):
        return Cell(*key, STALE, first, why_stale(job, sitting, stage), detail, problems)
    return Cell(*key, LOOK if problems else DONE, first, second, detail, problems)


def board(job, failures=None):
    """All cells: one list for each sitting, in the order of the stages."""
    return [[cell(job, s, stage, failures) for stage in STAGES] for s in job.sittings()]


def plan(job, sitting, upto, redo=False):
    """The stages to run so that `upto` is current: those it needs that are not, then itself.

    With `redo`, `upto` runs even when its result is current.
    """
    stage = BY_NAME[upto]
    out = []
    for name in stage.needs:
        for s in plan(job, sitting, name):
            if s not in out:
                out.append(s)
    if out or redo or not is_current(job, sitting, stage):
        out.append(upto)
    return out
