"""Points marked by hand, as solving and joining read them: with their sightings, in a block and out of it."""

from dataclasses import replace

import numpy as np

from ..core.geometry.sightings import PointSightings, locate
from ..core.poses.block import MARK


def marks_of(job, sitting):
    """Points marked by hand that are switched on, as `Inputs.marks` has them."""
    return tuple(
        (p.id, p.name, tuple((s.photo_id, s.x, s.y, s.sigma_px) for s in p.sightings if s.used))
        for p in job.marked_points(sitting.id)
        if p.used
    )


def seen_in(block, sightings):
    """The Sightings in solved photos of a block, sorted by photo; sightings : (photo id, x, y, sigma in pixels)."""
    mine = sorted((k, x, y, s) for i, x, y, s in sightings if (k := block.solved_row(i)) is not None)
    a = np.array(mine, float).reshape(-1, 4)
    return PointSightings(a[:, 0].astype(np.int64), a[:, 1:3], a[:, 3])


def without_marks(block):
    """A block without the points that were marked by hand."""
    return block.keeping(block.kind != MARK) if block.marks else block


MARK_COLOR = (208, 138, 60)


def with_marks(block, marks):
    """A block with marked points in place of those it had, and what could not be placed.

    marks : as `marks_of` gives them

    Returns
    -------
    block : Block
    lost : dict of id to str
        Why a marked point is not in the block.
    """
    b = without_marks(block)
    lost, points, ids, seen_by = {}, [], [], []
    for mark, _, sightings in marks:
        seen = seen_in(b, sightings)
        if len(seen.photo) < 2:
            lost[mark] = "marked in one solved photo only" if len(seen.photo) else "not marked in any solved photo"
            continue
        X, _ = locate(b.poses, b.lenses, b.lens_of, seen)
        if X is None:
            lost[mark] = "its rays are nearly parallel or meet behind a photo"
            continue
        points.append(X)
        ids.append(mark)
        seen_by.append(seen)
    return _with_points(b, np.array(points), ids, seen_by) if ids else b, lost


def _with_points(b, points, ids, seen_by):
    """A block with more points (q, 3), marked ones of some identities, and their Sightings."""
    n, per = len(ids), [len(s.photo) for s in seen_by]
    return replace(
        b,
        points=np.vstack([b.points, points]),
        colors=np.vstack([b.colors, np.tile(np.uint8(MARK_COLOR), (n, 1))]),
        kind=np.append(b.kind, np.full(n, MARK)),
        label=np.append(b.label, ids),
        point_sigma=np.append(b.point_sigma, np.zeros(n)),
        photo=np.append(b.photo, np.concatenate([s.photo for s in seen_by])),
        feature=np.append(b.feature, np.repeat(ids, per)),
        point=np.append(b.point, np.repeat(len(b.points) + np.arange(n), per)),
        xy=np.vstack([b.xy, np.concatenate([s.xy for s in seen_by])]),
        residual=np.vstack([b.residual, np.zeros((sum(per), 2))]),
        sigma=np.append(b.sigma, np.concatenate([s.sigma for s in seen_by])),
    )
