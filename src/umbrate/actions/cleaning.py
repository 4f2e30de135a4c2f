"""Cleaning a cloud step by step: steps are applied, each is taken back at will, and those after it are done again.

A step's answer (which points stay) is kept as a blob beside the cloud, see `job.clouds`. What steps are: `steps`.
"""

from dataclasses import dataclass

import numpy as np

from ..core.errors import UmbrateError
from ..sitting.clouds import after_step, raw_cloud
from .steps import BY_NAME, Context, frozen, try_step


def apply_step(job, sitting, kept, step, answer=None):
    """Clean a cloud by a step; returns how many points it took away.

    answer : what `try_step` gave for this step and this cloud, where it was tried already

    Raises
    ------
    UmbrateError
        Where nothing would be left.
    """
    step = frozen(job, sitting, step)
    if answer is None:
        answer = try_step(raw_cloud(job, kept), step, Context(job, sitting, kept, step))
    blob, removed = _put(job, answer)
    title = BY_NAME[step["filter"]].title.lower()
    job.cloud_list.add_step(kept.id, step, blob, removed, f"clean: {title} ({removed:,})")
    return removed


def _put(job, answer):
    """Keep a step's answer; its blob and how many points it takes away."""
    if answer.ndim == 2:
        return job.blobs.put_arrays(points=answer.astype(np.float32)), 0
    removed = int(answer.sum())
    if removed == len(answer):
        raise UmbrateError("That would take all points away. Choose other values.")
    return job.blobs.put_arrays(keep=np.packbits(~answer)), removed


@dataclass(frozen=True)
class Cleaned:
    """What a cloud's steps would be, computed but not kept yet: see `keep_cleaned`.

    Attributes
    ----------
    steps : list
        Rows for `SideBySide.set_steps`; what they did lies in the job's blobs already.
    label : str
        What is done, for undo.
    gone : int
        Points that the steps which were computed take away.
    """

    steps: list
    label: str
    gone: int


def keep_cleaned(job, kept, cleaned):
    """Have a cloud cleaned by the steps of a Cleaned, as one change; returns how many points they took away."""
    job.cloud_list.set_steps(kept.id, cleaned.steps, cleaned.label)
    return cleaned.gone


def apply_steps(job, sitting, kept, steps):
    """Clean a cloud by several steps, one after the other, as one change; returns how many points they took away.

    Raises
    ------
    UmbrateError
        Where one of them does not work here; nothing is changed then.
    """
    return keep_cleaned(job, kept, with_steps(job, sitting, kept, steps))


def with_steps(job, sitting, kept, steps):
    """The Cleaned of a cloud with several steps more. Raises as `apply_steps`; a job open for reading will do."""
    if not steps:
        raise UmbrateError("There is no step to clean by.")
    for step in steps:
        if step.get("filter") in ("lasso", "brush") and "frame" not in step:
            raise UmbrateError(
                "One of these steps was drawn by an older version, in a frame that is not known any more. Draw it anew."
            )
    done, gone, _ = _done_again(job, sitting, kept, len(kept.steps), [frozen(job, sitting, s) for s in steps])
    return Cleaned(done, f"clean: {len(steps)} steps ({gone:,})", gone)


def _done_again(job, sitting, kept, first, steps, before=None):
    """The first steps of a cloud as they are, then others computed on what those leave.

    before : list of (took (n,) bool, there (n,) bool) or None, optional
        For each of the steps, which points of the cloud as it was computed it took away, and which were there: these
        keep their fate, and only points that come back are judged anew.

    Returns rows for `SideBySide.set_steps`, the points that the others take away, and the cloud after them.
    """
    rows = [(s.step, s.blob, s.removed) for s in kept.steps[:first]]
    cloud, gone = raw_cloud(job, kept, first), 0
    left = _left(job, kept, first)
    for k, step in enumerate(steps):
        try:
            fate = before[k] if before else None
            if fate is not None and "frame" not in step:
                answer = fate[0][left]  # of an older version: in which frame it was drawn is not known
            else:
                answer = try_step(cloud, step, Context(job, sitting, kept, step))
            if fate is not None and answer.ndim == 1:
                answer = np.where(fate[1][left], fate[0][left], answer)
            blob, removed = _put(job, answer)
        except UmbrateError as e:
            raise UmbrateError(f"{BY_NAME[step['filter']].title}: {e}", e.remedy) from None
        rows.append((step, blob, removed))
        cloud, gone = after_step(cloud, job.blobs.get_arrays(blob)), gone + removed
        left = left[~answer] if answer.ndim == 1 else left
    return rows, gone, cloud


def _left(job, kept, upto):
    """Rows of a cloud as it was computed that are left after its first steps."""
    left = np.arange(kept.figures["points"])
    for s in kept.steps[:upto]:
        answer = job.blobs.get_arrays(s.blob)
        if "keep" in answer:
            left = left[np.unpackbits(answer["keep"], count=len(left)).astype(bool)]
    return left


def _fates(job, kept, index):
    """What a step did to each point of a cloud as it was computed, where that is to stay: took (n,), there (n,) bool.

    What people drew means the points they saw. Other filters are computed anew, but for steps of older versions, which
    do not say in which frame their heights and lengths were meant.
    """
    step = kept.steps[index]
    answer = job.blobs.get_arrays(step.blob)
    if "keep" not in answer or ("frame" in step.step and not BY_NAME[step.step["filter"]].hidden):
        return None
    left = _left(job, kept, index)
    took, there = np.zeros(kept.figures["points"], bool), np.zeros(kept.figures["points"], bool)
    there[left] = True
    took[left[~np.unpackbits(answer["keep"], count=len(left)).astype(bool)]] = True
    return took, there


def without_step(job, sitting, kept, index):
    """The Cleaned of a cloud with one step taken back, and those after it done again."""
    after = range(index + 1, len(kept.steps))
    steps, gone, _ = _done_again(
        job, sitting, kept, index, [kept.steps[k].step for k in after], [_fates(job, kept, k) for k in after]
    )  # fmt: skip
    return Cleaned(steps, f"take back: {BY_NAME[kept.steps[index].step['filter']].title.lower()}", gone)


def take_back(job, sitting, kept, index):
    """Take one step back and do those after it again, as one change."""
    keep_cleaned(job, kept, without_step(job, sitting, kept, index))
