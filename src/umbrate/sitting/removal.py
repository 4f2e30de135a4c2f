"""Sightings of tie points that were taken out by hand, as the job stores them."""

import numpy as np


def removal(photo_ids, marks, rows, numbers):
    """Arrays of a removal blob: sightings by photo, the mark of its features, and the row there.

    photo_ids (k,); marks: dict of photo id to mark; rows (k,) of features; numbers (k,) of targets, -1 for features.
    Targets are kept by their number, as their rows follow whatever features there are.
    """
    row = np.where(np.asarray(numbers) >= 0, -1 - np.asarray(numbers), rows)
    mark = np.array([marks.get(int(i), "") for i in photo_ids], "U16")
    return {"photo_id": np.asarray(photo_ids, np.int64), "row": row.astype(np.int64), "mark": mark}


def removed_rows(arrays, photo_id, mark, target_numbers, count):
    """Rows of a photo's features, then targets, that were removed; none where its features are others now."""
    mine = (arrays["photo_id"] == photo_id) & ((arrays["mark"] == mark) | (arrays["row"] < 0))
    rows = arrays["row"][mine]
    of_targets = count + np.flatnonzero(np.isin(target_numbers, -1 - rows[rows < 0]))
    return np.concatenate([rows[rows >= 0], of_targets]).astype(np.int64)
