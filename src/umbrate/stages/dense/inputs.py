"""What depth is computed from."""

from dataclasses import dataclass, field

import numpy as np

from ...core.errors import UmbrateError
from ...core.geometry.similarity import scale_of
from ...sitting.frames import frame_of, move_box, plain_keep_box, scale_result
from ...sitting.masks import mask_blobs, soft_edges
from ...sitting.photos import photo_refs
from .forecast import check_room, costs


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
    member: dict | None = None  #: photo id to the position of its sitting, in a joined row
    soft: dict = field(default_factory=dict)  #: pixels of the masks' soft edges by photo id


def block_for_depth(job, sitting):
    """The blob of the block that depth is computed in, and the similarity from the plain frame to it.

    A block that known lengths only made larger serves as it was solved: its cloud is moved when it is read. Where they
    or marked points bent it, depth follows that.
    """
    scale = scale_result(job, sitting)
    if scale and scale.figures.bent:
        return scale.blob("block"), np.array(scale.figures.from_plain)
    return job.result(sitting.id, "poses").blob("block"), np.eye(4)


def gather_dense(job, sitting, settings):
    """The Inputs of a sitting for depth with some settings.

    Raises
    ------
    UmbrateError
        Without poses, or where memory and disk do not hold it.
    """
    if job.result(sitting.id, "poses") is None:
        raise UmbrateError(f"“{sitting.name}” has no poses yet. Run Poses first.", ("go to", "poses"))
    block, M = block_for_depth(job, sitting)
    box = move_box(plain_keep_box(job, sitting), M)
    found = costs(job, sitting, block, M, box, settings)
    if found:
        check_room(found, settings, str(job.blobs.folder))
    photos, masks = photo_refs(job, sitting), mask_blobs(job, sitting)
    length = scale_of(M) / scale_of(frame_of(job, sitting).matrix)
    member = {p.id: k for k, i in enumerate(job.members(sitting.id)) for p in job.photos(i)}
    return Inputs(
        str(job.blobs.folder), photos, masks, block, box, M.tolist(), length, member, soft_edges(job, sitting)
    )
