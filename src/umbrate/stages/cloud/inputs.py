"""What a cloud is computed from."""

from dataclasses import dataclass

import numpy as np

from ...sitting.frames import scale_result


@dataclass(frozen=True)
class Inputs:
    """Solved photos, their masks, the block and the keep box."""

    blobs: str
    photos: list
    masks: dict
    block: str
    keep_box: dict
    from_plain: list  #: the similarity from the plain frame to that of the block
    length: float  #: of the job's unit in the block's frame
    folder: str | None = None  #: where maps are kept that memory does not hold
    member: dict | None = None  #: photo id to the position of its sitting, in a joined row


def block_for_depth(job, sitting):
    """The blob of the block that depth is computed in, and the similarity from the plain frame to it.

    A block that known lengths only made larger serves as it was solved: its cloud is moved when it is read. Where they
    or marked points bent it, depth follows that.
    """
    scale = scale_result(job, sitting)
    if scale and scale.figures.bent:
        return scale.blob("block"), np.array(scale.figures.from_plain)
    return job.result(sitting.id, "poses").blob("block"), np.eye(4)
