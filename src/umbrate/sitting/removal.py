"""Sightings of tie points that were taken out by hand, as the job stores them."""

import numpy as np

from ..core.poses.block import TARGET


def removed_as(block, sightings):
    """What stands for sightings (rows) of a block in the arrays of a removal, besides their photos: (k,) int64.

    The rows of their features; targets are kept by their numbers, as their rows follow whatever features there are.
    """
    point = block.point[sightings]
    return np.where(block.kind[point] == TARGET, -1 - block.label[point], block.feature[sightings])


def removal(block, sightings, made_from):
    """The arrays that are kept of sightings (rows) taken out of a block.

    made_from : what the features of each photo were found from, by photo id
    """
    photo_ids = block.photo_ids[block.photo[sightings]]
    found = np.array([made_from.get(int(i), "") for i in photo_ids], "U16")
    return {"photo_id": photo_ids, "row": removed_as(block, sightings), "mark": found}


def removed_rows(arrays, photo_id, mark, target_numbers, count):
    """Rows of a photo's features, then targets, that were removed; none where its features are others now."""
    mine = (arrays["photo_id"] == photo_id) & ((arrays["mark"] == mark) | (arrays["row"] < 0))
    rows = arrays["row"][mine]
    rows = rows[rows < count]
    of_targets = count + np.flatnonzero(np.isin(target_numbers, -1 - rows[rows < 0]))
    return np.concatenate([rows[rows >= 0], of_targets]).astype(np.int64)
