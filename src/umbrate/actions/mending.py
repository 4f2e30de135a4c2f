"""Mending a surface step by step (see `stepwise`): each step's answer is the whole surface after it."""

from ..job.contents import SURFACE
from ..sitting.surfaces import raw_surface
from .mends import MENDING, Context, try_mend
from .stepwise import Stepwise


class Mending(Stepwise):
    """Steps on surfaces."""

    VERB, book = "mend", MENDING

    def listing(self, job):
        return job.surface_list

    def load(self, job, kept, upto=None):
        return raw_surface(job, kept, upto)

    def after(self, job, arrays, blob):
        return job.blobs.get_arrays(blob, SURFACE)

    def attempt(self, job, sitting, kept, step, arrays):
        return try_mend(arrays, step, Context(job, sitting, kept, step))

    def put(self, job, step, answer):
        removed = answer.before - len(answer.arrays["faces"])
        return {**step, "did": answer.did}, job.blobs.put_arrays(**answer.arrays), removed


MEND = Mending()
