"""What is looked at again once a block stands: loops, pairs that were doubted, tracks of one point.

Each takes the Grower and changes it; positions are solved anew by the caller.
"""

import numpy as np

from ..geometry.lens import _unproject_many
from ..geometry.rotation import rotation_angle
from .essential import sampson_squared
from .loops import LIMIT_DEG
from .solution import LOOP, PLANE, Reason
from .tracks import Tracks

MERGE_PX = 2.0  #: two points are one where both are seen so near, in photos 1600 pixels wide
READMIT_PX, READMIT_SHARE = 3.0, 0.7  #: so near their lines, so many matches of a doubted pair must lie to be true


def check_loops(grower):
    """Photos that stand elsewhere than most of their pairs say leave the block; returns whether any did."""
    left = False
    while True:
        excess = np.zeros(grower.n)
        for (i, j), g in grower.pairs.items():
            if grower.solved[i] and grower.solved[j] and g.kind != PLANE:
                turn = grower.poses[j, :3, :3] @ grower.poses[i, :3, :3].T
                wrong = np.degrees(rotation_angle(turn @ g.relative[:3, :3].T)) > LIMIT_DEG
                excess[[i, j]] += len(g.matches) if wrong else -len(g.matches)
        worst = int(np.argmax(np.where(grower.solved, excess, -np.inf)))
        if excess[worst] <= 0 or grower.solved.sum() <= 2:
            return left
        grower.leave(
            worst,
            Reason(LOOP, "where its points would put it contradicts most of its pairs", grower.partners(worst)),
        )
        left = True


def readmit(grower):
    """Take back pairs whose matches fit the block after all; returns how many.

    Two photos through a long lens determine the turn between them badly, even with true matches (the bas-relief
    ambiguity: Belhumeur, Kriegman and Yuille 1999). Once both stand, their poses say where matches must lie.
    """
    back = []
    for (i, j), g in grower.doubted.items():
        if not (grower.solved[i] and grower.solved[j]):
            continue
        relative = grower.poses[j] @ np.linalg.inv(grower.poses[i])
        x, y, z = relative[:3, 3] / max(float(np.linalg.norm(relative[:3, 3])), 1e-12)
        E = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]]) @ relative[:3, :3]
        a, b = (
            _unproject_many(np.ascontiguousarray(grower.every_xy[grower.base[k] + g.matches[:, c]]), grower.lenses[m])
            for c, (k, m) in enumerate(((i, grower.lens_of[i]), (j, grower.lens_of[j])))
        )
        off = np.empty(len(a))
        sampson_squared(E, a, b, off)
        if (off < grower.threshold(READMIT_PX)[i] ** 2).mean() >= READMIT_SHARE:
            back.append((i, j))
    for p in back:
        grower.pairs[p] = grower.doubted.pop(p)
    if back:
        grower.pairs = dict(sorted(grower.pairs.items()))
        grower.take_tracks()
    return len(back)


def merge(grower):
    """Join tracks that turn out to be of one point; returns how many were.

    A match was refused while tracks were built because it would have put two key points of one photo into one
    track, or the two ends met only through false sightings. Now that those are off, both points stand: where each
    is seen where the other is predicted, and no photo sees both, they are one.
    """
    t = grower.tracks
    at = np.full(int(grower.base[-1]), -1)
    at[grower.base[t.photo] + t.feature] = np.arange(len(t.photo))
    ends = [
        np.stack([at[grower.base[i] + m[:, 0]], at[grower.base[j] + m[:, 1]]], 1)
        for (i, j), m in [*((p, g.matches) for p, g in grower.pairs.items()), *grower.ties.same.items()]
    ]
    ends = np.concatenate(ends) if ends else np.zeros((0, 2), int)
    ends = ends[(ends >= 0).all(1)]
    a, b = grower.track_of[ends[:, 0]], grower.track_of[ends[:, 1]]
    ok = (a != b) & grower.placed[a] & grower.placed[b] & grower.on[ends].all(1)
    pairs = np.unique(np.sort(np.stack([a[ok], b[ok]], 1), axis=1), axis=0)
    into = np.arange(len(t))
    for p, q in pairs.tolist():
        if into[p] != p or into[q] != q:
            continue  # one merge a track and round is enough
        rows = [k for x in (p, q) for k in range(t.start[x], t.start[x + 1]) if grower.on[k]]
        photos = t.photo[rows]
        if len(np.unique(photos)) < len(photos):
            continue
        middle = 0.5 * (grower.X[p] + grower.X[q])
        E = grower.poses[photos]
        Y = E[:, :3, :3] @ middle + E[:, :3, 3]
        off = np.linalg.norm(Y[:, :2] / Y[:, 2:] - grower.xn[rows], axis=1) * grower.lenses[grower.lens_of[photos], 0]
        if (off < MERGE_PX * grower.unit[photos]).all():
            into[q] = p
    moved = into != np.arange(len(t))
    if moved.any():
        # sightings that were off in a track that was merged stay out: they are what kept the two apart
        touched = moved.copy()
        touched[into[moved]] = True
        _keep_sightings(grower, grower.on | ~touched[grower.track_of], into[grower.track_of])
    return int(moved.sum())


def _keep_sightings(grower, keep, track):
    """Build the tracks anew from some of the sightings (k,) bool and the track (k,) each belongs to."""
    t = grower.tracks
    rows = np.flatnonzero(keep)
    rows = rows[np.lexsort((t.photo[rows], track[rows]))]
    old, grower.track_of = np.unique(track[rows], return_inverse=True)
    start = np.searchsorted(grower.track_of, np.arange(len(old) + 1))
    grower.tracks = Tracks(start.astype(np.int64), t.photo[rows], t.feature[rows])
    grower.xy, grower.seen_xy, grower.sigma = grower.xy[rows], grower.seen_xy[rows], grower.sigma[rows]
    grower.xn, grower.on, grower.by_hand = grower.xn[rows], grower.on[rows], grower.by_hand[rows]
    grower.X, grower.placed = grower.X[old], grower.placed[old]
