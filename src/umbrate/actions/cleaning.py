"""Cleaning a cloud step by step (see `stepwise`): an answer says which points stay, or where they move to."""

import numpy as np

from ..core.errors import UmbrateError
from ..job.contents import CLEANED
from ..sitting.clouds import after_step, raw_cloud
from .steps import CLEANING, Context, try_step
from .stepwise import Stepwise


def _bits(answer, count):
    return np.unpackbits(answer["keep"], count=count).astype(bool)


class Cleaning(Stepwise):
    """Steps on clouds."""

    VERB, book = "clean", CLEANING

    def listing(self, job):
        return job.cloud_list

    def load(self, job, kept, upto=None):
        return raw_cloud(job, kept, upto)

    def after(self, job, arrays, blob):
        return after_step(arrays, job.blobs.get_arrays(blob, CLEANED))

    def attempt(self, job, sitting, kept, step, arrays):
        return try_step(arrays, step, Context(job, sitting, kept, step))

    def put(self, job, step, answer):
        if answer.ndim == 2:
            return step, job.blobs.put_arrays(points=answer.astype(np.float32)), 0
        removed = int(answer.sum())
        if removed == len(answer):
            raise UmbrateError("That would take all points away. Choose other values.")
        return step, job.blobs.put_arrays(keep=np.packbits(~answer)), removed

    def begin(self, job, kept, first):
        """Rows of the cloud as it was computed that are left after its first steps."""
        left = np.arange(kept.figures["points"])
        for s in kept.steps[:first]:
            answer = job.blobs.get_arrays(s.blob, CLEANED)
            if "keep" in answer:
                left = left[_bits(answer, len(left))]
        return left

    def go_on(self, rest, answer):
        return rest[~answer] if answer.ndim == 1 else rest

    def answer_again(self, job, sitting, kept, step, arrays, fate, rest):
        """As `fate` has it for points that were there before: only points that come back are judged anew."""
        if fate is not None and "frame" not in step:
            answer = fate[0][rest]  # of an older version: in which frame it was drawn is not known
        else:
            answer = self.attempt(job, sitting, kept, step, arrays)
        if fate is not None and answer.ndim == 1:
            answer = np.where(fate[1][rest], fate[0][rest], answer)
        return answer

    def fates(self, job, kept, index):
        """What a step did to each point of a cloud as it was computed, where that stays: took (n,), there (n,) bool.

        What people drew means the points they saw. Other filters are computed anew, but for steps of older versions,
        which do not say in which frame their heights and lengths were meant.
        """
        step = kept.steps[index]
        answer = job.blobs.get_arrays(step.blob, CLEANED)
        if "keep" not in answer or ("frame" in step.step and not self.book.by_name[step.step["filter"]].hidden):
            return None
        left = self.begin(job, kept, index)
        took, there = np.zeros(kept.figures["points"], bool), np.zeros(kept.figures["points"], bool)
        there[left] = True
        took[left[~_bits(answer, len(left))]] = True
        return took, there


CLEAN = Cleaning()
apply_step, apply_steps, take_back = CLEAN.apply_step, CLEAN.apply_steps, CLEAN.take_back
