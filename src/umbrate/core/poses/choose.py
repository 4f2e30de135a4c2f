"""Which pairs of photos are matched: all of them while that is cheap, else those that promise something.

Matching all features of all pairs grows with the square of the number of photos, and most pairs of a walk round an
object share nothing. Whether two photos share anything shows already in their few largest features, which survive a
change of scale best and cost next to nothing to compare (Wu 2013). Photos taken one after the other mostly overlap,
and the last of a round overlaps the first. And where poses are known, neighbors are those that stand near.
"""

import numpy as np

from ..features.match import match

ALL, LIKENESS, ORDER, NEAR = "all", "likeness", "order", "near"
CHEAP = 60  #: up to so many photos, all pairs are matched
TOP = 200  #: features that likeness looks at
MOVES_PX = 6.0  #: what does not move says nothing of the object (in photos 1600 pixels wide)
CLOSING = 6  #: likest photos that close loops, beside the shooting order


def largest(scale, descriptors, xy, limit=TOP):
    """The features that are found again best: unit descriptors (k, 128) and pixels (k, 2) of the largest."""
    rows = np.argsort(-np.asarray(scale), kind="stable")[:limit]
    d = descriptors[rows].astype(np.float32)
    return d / np.maximum(np.linalg.norm(d, axis=1, keepdims=True), 1e-6), np.asarray(xy)[rows]


def likeness_to(tops, widths, i):
    """How many of its largest features photo i shares with each later photo, (n,) int; work for one photo."""
    out = np.zeros(len(tops), int)
    a, xy = tops[i]
    for j in range(i + 1, len(tops)):
        m = match(a, tops[j][0], 0.85)
        moved = np.linalg.norm(xy[m[:, 0]] - tops[j][1][m[:, 1]], axis=1) > MOVES_PX * widths[i] / 1600.0
        out[j] = int(moved.sum())
    return out


def _best(value, count):
    """Pairs (i, j), i < j, of each photo with the `count` others of the highest value above 0."""
    out = set()
    for i in range(len(value)):
        for j in np.argsort(-value[i], kind="stable")[:count]:
            if value[i, j] > 0 and i != j:
                out.add((min(i, int(j)), max(i, int(j))))
    return out


def _beside(n, reach):
    """Pairs of photos taken within `reach` shots of each other, the last ones taken beside the first."""
    return {tuple(sorted((i, (i + k) % n))) for i in range(n) for k in range(1, reach + 1) if (i + k) % n != i}


def choose_pairs(how, n, neighbors, likeness=None, near=None):
    """The pairs to match.

    Parameters
    ----------
    how : str
        ALL, LIKENESS (each photo with those likest to it, and the two taken before and after), ORDER (those taken
        before and after, and the likest few to close loops), NEAR (those that stand nearest, the likest where nothing
        is known).
    n : int
        Photos, in shooting order.
    neighbors : int
        About so many partners a photo.
    likeness : (n, n), optional
        Shared features, symmetric. Needed unless ALL.
    near : (n, n), optional
        How near two photos stand, higher is nearer, 0 where unknown. Needed for NEAR.

    Returns
    -------
    list of (i, j), sorted, i < j
    """
    if how == ALL:
        return [(i, j) for i in range(n) for j in range(i + 1, n)]
    if how == ORDER:
        chosen = _beside(n, max(1, neighbors // 2)) | _best(likeness, CLOSING)
    elif how == NEAR:
        unknown = ~(near > 0).any(1)
        rest = np.where(unknown[:, None] | unknown[None], likeness, 0)
        chosen = _best(near, neighbors) | _best(rest, neighbors) | _beside(n, 1)
    else:
        chosen = _best(likeness, neighbors) | _beside(n, 2)
    return sorted(chosen)


def nearness(poses):
    """How near photos stand (n, n) by the angle between their optical axes; 0 where a pose (4, 4) is NaN."""
    axes = poses[:, 2, :3]
    known = np.isfinite(axes[:, 0])
    near = np.where(known[:, None] & known[None], 2.0 + np.nan_to_num(axes) @ np.nan_to_num(axes).T, 0.0)
    np.fill_diagonal(near, 0.0)
    return near
