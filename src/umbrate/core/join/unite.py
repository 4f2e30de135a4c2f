"""Clouds of several sittings as one: where two show the same surface, the better points stay, in one brightness."""

import numpy as np
import scipy

from ..cloud.grid import spacing_of

REACH = 1.5  #: spacings within which two sheets are one surface
FACING = 0.5  #: least cosine between their normals
RANGE = 4  #: spacings that colors are compared over


def unite(clouds):
    """One cloud's arrays from those of several in one frame, and what was done.

    Of two sheets of the same surface a point is left out where one of the other sheet near it is more precise.

    Parameters
    ----------
    clouds : list of dicts of arrays
        With points, normals, colors and precision, as a cloud has them.

    Returns
    -------
    arrays : dict
        Those that all have, and `sitting` (n,) uint8: which cloud each point is from.
    doubled : list of int
        How many points each cloud lost.
    gains : (k, 3)
        What each one's colors were multiplied by.
    """
    gains = np.ones((len(clouds), 3))
    keep = [np.ones(len(c["points"]), bool) for c in clouds]
    trees = [scipy.spatial.cKDTree(c["points"]) for c in clouds]
    spacing = [spacing_of(c["points"]) for c in clouds]
    for i in range(len(clouds)):
        for j in range(i):
            a, b = clouds[i], clouds[j]
            s = max(spacing[i], spacing[j])
            near, partner = trees[j].query(a["points"], distance_upper_bound=RANGE * s, workers=-1)
            on = np.flatnonzero(np.isfinite(near))
            on = on[(a["normals"][on] * b["normals"][partner[on]]).sum(1) > FACING]
            if len(on) >= 100 and (gains[i] == 1).all():
                ratio = (b["colors"][partner[on]] * gains[j] + 4) / (a["colors"][on] + 4.0)
                gains[i] = np.median(ratio, axis=0)
            close = on[near[on] < REACH * s]
            keep[i][close[a["precision"][close] >= b["precision"][partner[close]]]] = False
            near, partner = trees[i].query(b["points"], distance_upper_bound=REACH * s, workers=-1)
            on = np.flatnonzero(np.isfinite(near))
            on = on[(b["normals"][on] * a["normals"][partner[on]]).sum(1) > FACING]
            keep[j][on[b["precision"][on] > a["precision"][partner[on]]]] = False
    colored = [
        {**c, "colors": np.clip(np.round(c["colors"] * g), 0, 255).astype(np.uint8)}
        for c, g in zip(clouds, gains, strict=True)
    ]
    shared = set.intersection(*(set(c) for c in clouds))
    out = {k: np.concatenate([c[k][m] for c, m in zip(colored, keep, strict=True)]) for k in sorted(shared)}
    out["sitting"] = np.repeat(np.arange(len(clouds), dtype=np.uint8), [int(m.sum()) for m in keep])
    return out, [int((~m).sum()) for m in keep], gains
