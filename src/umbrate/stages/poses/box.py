"""The keep box that a block proposes: round the object, whatever else has tie points."""

import numpy as np

from ...core.cloud.keepbox import box_of_outlines, box_of_sides, covering, fit_keep_box, hull_box
from ...job.blobs import BlobStore
from ...sitting.masks import decode_mask

MOST_LOOKED_AT = 48  #: so many masks are looked at, evenly among the photos
LEAST_OUTLINES, MOST_OUTLINES = 5, 24  #: photos with masks that say how far the object reaches
LEAST_ON_OBJECT = 60  #: tie points on the object from which its keep box is that of these


def box_of(block, half_view, inputs):
    """The KeepBox of a block: that of the tie points on the object, out to its outlines where these reach further.

    half_view (n,) : tangent of half the narrower field of view of each photo
    """
    solved, poses = block.solved, block.poses[block.solved]
    masked = np.array([int(pid) in inputs.masks for pid in block.photo_ids])
    able = np.flatnonzero(solved & masked)
    if len(able) < LEAST_OUTLINES:
        return fit_keep_box(block.points, block.photos_of, poses, half_view[solved])
    rows, middles, reach, sides = [], [], [], []
    looked_at, on = (np.zeros(len(block.points)) for _ in range(2))
    unmasked = ~masked[block.photo]  # the whole picture is the object there
    for x in (looked_at, on):
        np.add.at(x, block.point[unmasked], 1)
    for i in able[:: -(-len(able) // MOST_LOOKED_AT)]:
        mask, mine = _mask_of(block, i, inputs), np.flatnonzero(block.photo == i)
        u, v = np.clip(np.round(block.xy[mine]).astype(int), 0, np.array(mask.shape)[::-1] - 1).T
        np.add.at(looked_at, block.point[mine], 1)
        np.add.at(on, block.point[mine], mask[v, u])
        ys, xs = np.flatnonzero(mask.any(1)), np.flatnonzero(mask.any(0))
        if not len(ys):
            continue
        x, y = 0.5 * (xs[0] + xs[-1]), 0.5 * (ys[0] + ys[-1])
        lens = block.lens(i)
        corners = lens.unproject(np.array([[a, b] for a in (xs[0], xs[-1]) for b in (ys[0], ys[-1])], float))
        rows.append(i)
        middles.append(corners.mean(0))
        reach.append(np.linalg.norm(corners - corners.mean(0), axis=1).max())
        sides.append(lens.unproject(np.array([[xs[0], y], [xs[-1], y], [x, ys[0]], [x, ys[-1]]], float)))
    mine = on > 0.5 * looked_at
    if mine.sum() >= LEAST_ON_OBJECT or not rows:
        mine = mine if mine.any() else np.ones(len(mine), bool)
        box = fit_keep_box(block.points[mine], block.photos_of[mine], poses, half_view[solved])
        return covering(box, box_of_sides(box.center, block.poses[rows], np.array(sides))) if rows else box
    wide = box_of_outlines(block.poses[rows], np.array(middles), np.array(reach))
    few = rows[:: -(-len(rows) // MOST_OUTLINES)]
    masks = (_mask_of(block, i, inputs) for i in few)  # one after the other: they are large
    return hull_box(wide, block.poses[few], [block.lens(i) for i in few], masks) or wide


def _mask_of(block, i, inputs):
    """Where photo i of a block shows the object, (h, w) bool."""
    return decode_mask(BlobStore(inputs.blobs).get_bytes(inputs.masks[int(block.photo_ids[i])]), block.lens(i))
