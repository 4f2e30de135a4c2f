"""Points marked by hand, as solving and joining read them: with their sightings, in a block and out of it."""

import numpy as np

from ..core.geometry.sightings import Sightings, locate


def marks_of(job, sitting):
    """Points marked by hand that are switched on, as `Inputs.marks` has them."""
    return tuple(
        (p.id, p.name, tuple((s.photo_id, s.x, s.y, s.sigma_px) for s in p.sightings if s.used))
        for p in job.marked_points(sitting.id)
        if p.used
    )


def without_marks(block):
    """A block's arrays without the points that were marked by hand."""
    mark = block.get("mark")
    if mark is None or not (mark >= 0).any():
        return block
    keep = mark < 0
    index = np.cumsum(keep) - 1
    rows = keep[block["point"]]
    out = {**block, **{k: block[k][keep] for k in ("points", "colors", "number", "mark", "point_sigma")}}
    out.update({k: block[k][rows] for k in ("photo", "feature", "xy", "residual", "sigma")})
    out["point"] = index[block["point"][rows]].astype(block["point"].dtype)
    return out


MARK_COLOR = (208, 138, 60)


def with_marks(block, marks):
    """A block's arrays with marked points in place of those it had, and what could not be placed.

    Returns
    -------
    block : dict
    lost : dict of id to str
        Why a marked point is not in the block.
    """
    b = without_marks(block)
    on = np.isfinite(b["poses"][:, 0, 0])
    row = {int(i): k for k, i in enumerate(b["photo_ids"]) if on[k]}
    lost, points, ids, photo, point, xy, sigma = {}, [], [], [], [], [], []
    at = len(b["points"])
    for mark, _, sightings in marks:
        mine = sorted((row[i], x, y, s) for i, x, y, s in sightings if i in row)
        if len(mine) < 2:
            lost[mark] = "marked in one solved photo only" if mine else "not marked in any solved photo"
            continue
        seen = Sightings(
            np.array([m[0] for m in mine]), np.array([m[1:3] for m in mine]), np.array([m[3] for m in mine])
        )
        X, _ = locate(b["poses"], b["lenses"], b["lens_of"], seen)
        if X is None:
            lost[mark] = "its rays are nearly parallel or meet behind a photo"
            continue
        points.append(X)
        ids.append(mark)
        photo.append(seen.photo)
        xy.append(seen.xy)
        sigma.append(seen.sigma)
        point.append(np.full(len(mine), at + len(points) - 1))
    n = len(points)
    if n:
        count = sum(map(len, photo))
        b = {
            **b,
            "points": np.vstack([b["points"], points]),
            "colors": np.vstack([b["colors"], np.tile(np.uint8(MARK_COLOR), (n, 1))]),
            "number": np.append(b["number"], np.full(n, -1)),
            "mark": np.append(b["mark"], ids),
            "point_sigma": np.append(b["point_sigma"], np.zeros(n, np.float32)),
            "photo": np.append(b["photo"], np.concatenate(photo)).astype(np.int32),
            # no row of a feature: another number for each point, beyond those of targets
            "feature": np.append(b["feature"], [-1000 - i for i, p in zip(ids, photo, strict=True) for _ in p]),
            "point": np.append(b["point"], np.concatenate(point)).astype(np.int32),
            "xy": np.vstack([b["xy"], np.concatenate(xy)]).astype(np.float64),
            "residual": np.vstack([b["residual"], np.zeros((count, 2))]),
            "sigma": np.append(b["sigma"], np.concatenate(sigma)).astype(np.float64),
        }
    return b, lost
