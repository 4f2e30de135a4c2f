"""The state of every cell of the Board: what there is, what is stale, what could run."""

from dataclasses import dataclass

from ..core.errors import UmbrateError
from ..sitting.members import members_of
from ..stages import BY_NAME, STAGES
from ..stages.base import fingerprint, parse_settings

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
    if not stage.applies(sitting):
        return all(is_current(job, s, stage) for s in members_of(job, sitting)) if sitting.members else False
    needs = stage.needs_of(sitting)
    if not all(is_current(job, sitting, BY_NAME[n]) or job.result(sitting.id, n) is None for n in needs):
        return False
    if stage.name == "join" and (_unsure_member(job, sitting) or done.figures != job.join_found(sitting.id)):
        return False  # what it was made from changed, or it was undone
    try:
        return done.fingerprint == current_fingerprint(job, sitting, stage)
    except UmbrateError:
        return False


def _unsure_member(job, sitting):
    """The first member of a joined row whose poses are not current, or None."""
    return next((s for s in members_of(job, sitting) if not is_current(job, s, BY_NAME["poses"])), None)


def why_stale(job, sitting, stage):
    """What has changed since the stage's result was made, in a few words."""
    done = job.result(sitting.id, stage.name)
    needs = stage.needs_of(sitting)
    if stage.name == "join":
        member = _unsure_member(job, sitting)
        if member:
            return f"{member.name} changed"
        if done.figures != job.join_found(sitting.id):
            return "it was undone"
    for name in needs:
        below = job.result(sitting.id, name)
        if below is None or not is_current(job, sitting, BY_NAME[name]):
            return f"{BY_NAME[name].title} changed"
    try:
        now = parse_settings(stage, job.settings(sitting.id, stage.name)).model_dump(mode="json")
    except UmbrateError:
        return "settings changed"
    if now != done.settings:
        return "settings changed"
    if any(job.result(sitting.id, name).made > done.made for name in needs):
        newest = max(needs, key=lambda n: job.result(sitting.id, n).made)
        return f"{BY_NAME[newest].title} ran again"
    return stage.reads + " changed"


def cell(job, sitting, stage, failures=None):
    """The Cell of a sitting and a stage. failures: the last Failure by (sitting id, stage name)."""
    key = (sitting.id, stage.name)
    done = job.result(sitting.id, stage.name)
    if not stage.applies(sitting):
        return _elsewhere(job, sitting, stage)
    if failures and key in failures:
        return Cell(*key, FAILED, "failed", failures[key].message, failures[key].message)
    if done is None:
        ready = all(job.result(sitting.id, n) for n in stage.needs_of(sitting)) and bool(
            job.photos(sitting.id, aside=False)
        )
        kept = job.cloud(sitting.id) if stage.name == "cloud" else None
        if kept:  # put together from those of its sittings
            return Cell(*key, READY, f"{kept.left / 1e3:,.0f} k points", "united, not computed", stage.about)
        return Cell(*key, READY if ready else NOTHING, "", "", stage.about)
    first, second = stage.headline(done.figures)
    if stage.name == "masks" and (hand := job.hand_masks(sitting.id)):
        photos = job.photos(sitting.id, aside=False)
        have = {p.id for p in photos} & {*hand, *(i for n, i in done.artefacts if n == "mask")}
        first, second = f"{len(have)}/{len(photos)}", f"{len(hand)} by hand or shape"
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
        return Cell(*key, ELSEWHERE, "with its sittings", "", f"{stage.title} is made with {names}.")
    rows = [s for s in job.joined_rows() if sitting.id in s.members]
    if rows:
        return Cell(*key, ELSEWHERE, f"in {rows[0].name}", "", f"It is part of {', '.join(s.name for s in rows)}.")
    return Cell(*key, NOTHING, "", "", stage.about)


def board(job, failures=None):
    """All cells: one list for each sitting, in the order of the stages."""
    return [[cell(job, s, stage, failures) for stage in STAGES] for s in job.sittings()]


def plan(job, sitting, upto, redo=False):
    """The stages to run so that `upto` is current: those it needs that are not, then itself.

    With `redo`, `upto` runs even when its result is current.
    """
    stage = BY_NAME[upto]
    out = []
    if not stage.applies(sitting):
        return []
    for name in stage.needs_of(sitting):
        for s in plan(job, sitting, name):
            if s not in out:
                out.append(s)
    if out or redo or not is_current(job, sitting, stage):
        out.append(upto)
    return out
