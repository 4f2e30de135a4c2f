"""An object that looks alike from several sides, by the order its photos were taken in and the few places that differ.

Where every side looks like every other, a pair of photos that match may be true or a quarter turn off, and as many of
the false ones agree among themselves as of the true. But photos that were taken one after the other stand beside each
other: chained, they tell the turns of a whole round, and a pair that contradicts the chain is false. Between two rounds
the step is another one, which the chain does not tell. There the few features decide that are on one side only: those
that photos beside each other share, and that are missing in photos which seem to show the same place and, by the chain,
do not (missing correspondences: Zach, Klopschitz and Pollefeys 2010). Each way to lay two rounds against each other is
voted for by what such features it brings together; where none has clearly more, nothing in the photos tells.
"""

from dataclasses import dataclass

import numpy as np

from ..geometry.rotation import rotation_vector
from .loops import false_bridges
from .solution import PLANE

LEAST_PHOTOS = 6  #: in fewer no order shows
MOST_DEG = 50.0  #: that the camera or the object usually turns from photo to photo, where they were taken in order
EVEN = 0.7  #: a turn that differs from those beside it by a larger share of the usual one may lead to another round
MOSTLY = 0.7  #: share of the turns that do not
NEXT, NEXT_BUT_ONE = 1e6, 1e3  #: how many times more the chain's pairs count than others
SAME_DEG = 25.0  #: pairs that lay two rounds against each other within so much are one way to do it
LEAST_VOTES, CLEARLY = 6, 3.0  #: of features on one side only for a way that is taken, and times those of any other


@dataclass(frozen=True)
class InOrder:
    """Which pairs of photos agree with the order they were taken in.

    Attributes
    ----------
    pairs : frozenset of (i, j)
    rounds : list of (n,) int
        The photos of each round, in their order.
    loose : tuple of int
        The rounds that nothing tells how to lay against the others: no pair of these leads there.
    """

    pairs: frozenset
    rounds: list
    loose: tuple


def _degrees(R):
    """The angle of turns (..., 3, 3)."""
    return np.degrees(np.arccos(np.clip((np.trace(R, axis1=-2, axis2=-1) - 1) / 2, -1, 1)))


def _even(steps):
    """Which turns (k, 3), as rotation vectors, are like the one before or after; none where most of them are leaps."""
    size = np.linalg.norm(steps, axis=1)
    usual = np.median(size)
    if not usual < np.radians(MOST_DEG):
        return np.zeros(len(steps), bool)
    known = np.where(np.isfinite(size)[:, None], steps, 1e9 * np.arange(1, len(steps) + 1)[:, None])
    alike = np.linalg.norm(np.diff(known, axis=0), axis=1) < EVEN * usual
    return np.r_[alike, False] | np.r_[False, alike]


def in_order(counts, pairs):
    """The InOrder of pairs, or None where photos do not follow each other in even steps.

    Parameters
    ----------
    counts : list of int
        Features of each photo, in the order they were taken in.
    pairs : dict of (i, j) to PairGeometry
    """
    n = len(counts)
    if n < LEAST_PHOTOS:
        return None
    sure = [p for p, g in pairs.items() if g.kind != PLANE]
    relative = {p: pairs[p].relative[:3, :3] for p in sure}
    steps = np.full((n - 1, 3), np.inf)  # in the camera's own frame they are alike all the way round a turntable
    for i in range(n - 1):
        if (i, i + 1) in relative:
            steps[i] = rotation_vector(relative[i, i + 1])
    even = _even(steps)
    if even.mean() < MOSTLY:
        return None
    ends = np.flatnonzero(~even)
    of = np.searchsorted(ends, np.arange(n))
    rounds = [np.flatnonzero(of == k) for k in range(len(ends) + 1)]
    turns, inside, false = np.tile(np.eye(3), (n, 1, 1)), set(), set()
    for mine in rounds:
        own = [p for p in sure if of[p[0]] == of[p[1]] == of[mine[0]]]
        if not own:
            continue
        weight = [len(pairs[p].matches) * {1: NEXT, 2: NEXT_BUT_ONE}.get(p[1] - p[0], 1.0) for p in own]
        wrong, R = false_bridges(n, own, [relative[p] for p in own], weight)
        turns[mine] = R[mine]
        inside |= {p for p, w in zip(own, wrong, strict=True) if not w}
        false |= {p for p, w in zip(own, wrong, strict=True) if w}
    single = _on_one_side(counts, pairs, inside, false)
    kept, standing = set(inside), {int(np.argmax([len(r) for r in rounds]))}
    # one round after the other, each laid against all that stand, the clearest first
    while len(standing) < len(rounds):
        ways = {}
        for k in set(range(len(rounds))) - standing:
            between = [p for p in sure if {of[p[0]], of[p[1]]} & standing and k in (of[p[0]], of[p[1]])]
            ways[k] = _ways(between, relative, turns, of, k, pairs, single)
        k = max(ways, key=lambda k: _margin(ways[k]))
        if _margin(ways[k]) <= 0:
            break
        best = max(ways[k], key=lambda w: w.votes)
        kept |= set(best.pairs)
        turns[rounds[k]] = turns[rounds[k]] @ best.turn
        standing.add(k)
    loose = sorted(set(range(len(rounds))) - standing)
    return InOrder(frozenset(kept), rounds, tuple(loose))


def _on_one_side(counts, pairs, inside, false):
    """Of each photo, which features it shares with photos beside it and with none that only seems so: bool arrays."""
    shared, doubled = ([np.zeros(c, bool) for c in counts] for _ in range(2))
    for marks, which in ((shared, inside), (doubled, false)):
        for i, j in which:
            m = pairs[i, j].matches
            marks[i][m[:, 0]] = True
            marks[j][m[:, 1]] = True
    return [s & ~d for s, d in zip(shared, doubled, strict=True)]


@dataclass(frozen=True)
class _Way:
    """A way to lay a round against those that stand."""

    turn: np.ndarray  #: from the frame of the latter to that of the round
    pairs: list
    votes: int
    matches: int


def _ways(between, relative, turns, of, k, pairs, single):
    """The ways in which pairs lay round k, those of most matches first."""
    told = []
    for i, j in between:
        a, b, R = (i, j, relative[i, j]) if of[j] == k else (j, i, relative[i, j].T)
        told.append(turns[b].T @ R @ turns[a])
    told = np.array(told).reshape(-1, 3, 3)
    weight = np.array([len(pairs[p].matches) for p in between], float)
    left, out = np.ones(len(between), bool), []
    near = _degrees(np.einsum("aij,bkj->abik", told, told)) < SAME_DEG
    while left.any():
        k_best = int(np.argmax(np.where(left, (near & left) @ weight, -1)))
        mine = near[k_best] & left
        left &= ~mine
        chosen = [between[x] for x in np.flatnonzero(mine)]
        votes = sum(
            int((single[i][pairs[i, j].matches[:, 0]] & single[j][pairs[i, j].matches[:, 1]]).sum()) for i, j in chosen
        )
        u, _, vt = np.linalg.svd(np.einsum("m,mij->ij", weight[mine], told[mine]))
        turn = u @ np.diag([1, 1, np.linalg.det(u @ vt)]) @ vt
        out.append(_Way(turn, chosen, votes, int(weight[mine].sum())))
    return out


def _margin(ways):
    """By how many votes the best way wins clearly; 0 where it does not."""
    votes = sorted((w.votes for w in ways), reverse=True) or [0]
    second = votes[1] if len(votes) > 1 else 0
    return votes[0] - second if votes[0] >= max(LEAST_VOTES, CLEARLY * second) else 0
