"""Tie points taken out by hand: which are gone, and how more are removed. Joins core/poses/sift to the job.

What is removed is kept as sightings (photo and feature), not as points: points are numbered anew by every solve, the
features of a photo stay as long as its file, its mask and the settings do. The block itself is not touched: it is
stale until Poses goes on without them, and undo brings them back.
"""

import numpy as np

from ..core.errors import UmbrateError
from ..core.poses.block import MARK
from ..core.poses.sift import BY_NAME, measure
from ..job.contents import REMOVED
from ..job.marks import good_number
from ..sitting.frames import keep_box_of, load_block
from ..sitting.removal import removal, removed_as


def _keys(photo_id, row):
    """One number for each sighting."""
    return photo_id.astype(np.int64) << 32 | (row.astype(np.int64) & 0xFFFFFFFF)


def _sightings(block):
    """The key of each sighting of a block: by its number for targets, by its feature's row else."""
    row = removed_as(block, np.arange(len(block.point)))
    return _keys(block.photo_ids[block.photo], row)


def points_left(job, sitting, block):
    """Which tie points (p,) bool of a sitting's block have not been removed: two sightings at least are left."""
    key = job.removed(sitting.id)
    if not key:
        return np.ones(len(block.points), bool)
    gone = job.blobs.get_arrays(key, REMOVED)
    out = np.isin(_sightings(block), _keys(gone["photo_id"], gone["row"]))
    return np.bincount(block.point[~out], minlength=len(block.points)) >= 2


def remove_points(job, sitting, block, chosen, label="remove tie points"):
    """Take tie points out of a sitting's block, (p,) bool; returns how many. One step of undo.

    Raises
    ------
    UmbrateError
        Where fewer than 20 would be left: there would be nothing to adjust.
    """
    chosen = chosen & points_left(job, sitting, block) & (block.kind != MARK)  # those are removed by name
    count = int(chosen.sum())
    if not count:
        return 0
    if int(points_left(job, sitting, block).sum()) - count < 20:
        raise UmbrateError("That would leave fewer than 20 tie points, too few to hold the photos. Choose fewer.")
    result = job.result(sitting.id, "poses")
    more = removal(block, np.flatnonzero(chosen[block.point]), result.figures.made_from or {})
    key = job.removed(sitting.id)
    if key:
        before = job.blobs.get_arrays(key, REMOVED)
        more = {k: np.concatenate([before[k], more[k]]) for k in more}
    job.set_removed(sitting.id, job.blobs.put_arrays(**more), f"{label} ({count:,})")
    return count


def sift(job, sitting, name, above=None, below=None):
    """Which tie points of a sitting a measure picks, (p,) bool: from `above` on, and up to `below`.

    Raises
    ------
    UmbrateError
        Where the sitting has no block, the measure has no such name, or no limit is given.
    """
    if name not in BY_NAME:
        raise UmbrateError(f"There is no measure “{name}”. There are: {', '.join(BY_NAME)}.")
    if above is None and below is None:
        raise UmbrateError("Say which end is doubtful: a value above which, or below which, tie points are chosen.")
    for limit in (above, below):
        if limit is not None:
            good_number(limit, "A limit")
    if job.result(sitting.id, "poses") is None:
        raise UmbrateError(f"“{sitting.name}” has no tie points yet. Run Poses first.", ("go to", "poses"))
    block = load_block(job, sitting)
    value = measure(name, block, keep_box_of(job, sitting))
    chosen = np.ones(len(value), bool)
    if above is not None:
        chosen &= value > above
    if below is not None:
        chosen &= value < below
    return chosen & points_left(job, sitting, block)
