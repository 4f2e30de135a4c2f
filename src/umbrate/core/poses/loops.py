"""Loops: which pairs of photos can be true together.

A repeated pattern or a symmetric object makes pairs that match well and are wrong: two handles look alike, and two
photos that are a quarter turn apart seem to stand beside each other. Such a false bridge passes every test of two
photos. It fails round loops: the turns from photo to photo, multiplied round any closed path, must come back to where
they began (Govindu 2006; Zach, Klopschitz and Pollefeys 2010). A tree of pairs gives a first guess of all turns; where
more speaks against a branch of the tree than for it, the branch is cut and another one found.

Counting heads does not do: on an object that looks alike from four sides, three of four pairs are false, and they agree
among themselves. But photos that truly stand side by side share the handle and the grain around it, while a false pair
shares the handle only: for the angle it claims, it has too few matches (missing correspondences: Zach et al. 2010).
What an angle allows is read off the sitting itself, from its best pairs at each angle, and a pair that falls short
counts for less.
"""

import numpy as np

from ..forest import root

LIMIT_DEG = 15.0  #: turns that disagree by more contradict each other
DRIFT_DEG, MOST_DEG = 1.0, 40.0  #: more is allowed for each step of the path between them, up to a limit
BIN_DEG = 5.0
FALLOFF_DEG = 22.0  #: matches fall by a factor of e as the rays part by so much (measured on simulated objects)
MOST = 0.7  #: share of their features that two photos from one place have in common, at the most
STRICT = 6  #: power by which a pair that falls short counts for less; many weak ones must not outvote few strong ones


def plausibility(angle_deg, share):
    """How near each pair comes to the matches that its angle allows, (m,) in 0..1.

    Parameters
    ----------
    angle_deg : (m,)
        Median angle between the rays of a pair's matches.
    share : (m,)
        Matches as a share of the features of the photo that has fewer.
    """
    angle_deg, share = np.asarray(angle_deg, float), np.asarray(share, float)
    bins = np.minimum(angle_deg // BIN_DEG, 17).astype(int)
    best = np.array([np.percentile(share[bins == b], 90) if (bins == b).any() else 0.0 for b in range(18)])
    # pairs that claim no angle at all are what must be judged: the others show what they should reach
    none, best[0] = best[0], 0.0
    best = np.maximum.accumulate(best[::-1])[::-1]
    best[0] = min(MOST, best[1] * np.exp(1.5 * BIN_DEG / FALLOFF_DEG)) if best[1] > 0 else max(none, 1e-9)
    middle = BIN_DEG * (np.arange(18) + 0.5)
    return np.clip(share / np.maximum(np.interp(angle_deg, np.r_[0.0, middle[1:]], best), 1e-9), 0.0, 1.0)


def _tree(n, pairs, weight, banned):
    """The forest of the strongest pairs: rows of `pairs`, in the order they were taken."""
    parent = np.arange(n)
    taken = []
    for k in np.lexsort((pairs[:, 1], pairs[:, 0], -weight)):
        if banned[k]:
            continue
        i, j = root(parent, pairs[k, 0]), root(parent, pairs[k, 1])
        if i != j:
            parent[max(i, j)] = min(i, j)
            taken.append(k)
    return taken


def _turns(n, pairs, relative, taken):
    """Turns (n, 3, 3) of all photos along the forest, which branches lead to each, (n, n) bool, and its tree (n,)."""
    beside = [[] for _ in range(n)]
    for b, k in enumerate(taken):
        i, j = pairs[k]
        beside[i].append((j, b, relative[k]))
        beside[j].append((i, b, relative[k].T))
    R, path, tree = np.tile(np.eye(3), (n, 1, 1)), np.zeros((n, max(len(taken), 1)), bool), np.full(n, -1)
    for start in range(n):
        if tree[start] >= 0:
            continue
        tree[start], todo = start, [start]
        while todo:
            i = todo.pop()
            for j, b, M in beside[i]:
                if tree[j] < 0:
                    tree[j], R[j] = start, M @ R[i]
                    path[j] = path[i]
                    path[j, b] = True
                    todo.append(j)
    return R, path, tree


def false_bridges(n, pairs, relative, weight):
    """Pairs whose turn contradicts the others round closed paths.

    Parameters
    ----------
    n : int
        Number of photos.
    pairs : (m, 2) int
    relative : (m, 3, 3)
        Turn from the first to the second photo's camera frame.
    weight : (m,)
        How much a pair counts: its verified matches.

    Returns
    -------
    wrong : (m,) bool
    turns : (n, 3, 3)
        World to camera, up to one turn for each connected part.
    """
    pairs, weight = np.asarray(pairs, np.int64).reshape(-1, 2), np.asarray(weight, float)
    relative = np.asarray(relative, float).reshape(-1, 3, 3)
    banned, wrong = np.zeros(len(pairs), bool), np.zeros(len(pairs), bool)
    turns = np.tile(np.eye(3), (n, 1, 1))
    while len(pairs):
        taken = _tree(n, pairs, weight, banned)
        turns, path, tree = _turns(n, pairs, relative, taken)
        i, j = pairs.T
        apart = tree[i] != tree[j]
        # the cosine of a turn is in its trace
        trace = np.einsum("mab,mcb,mac->m", turns[j], turns[i], relative)
        error = np.degrees(np.arccos(np.clip((trace - 1.0) / 2.0, -1.0, 1.0)))
        over = path[i] ^ path[j]
        # a lens that is a little off turns every step a little too far
        limit = np.minimum(LIMIT_DEG + DRIFT_DEG * over.sum(1), MOST_DEG)
        wrong = (error > limit) & ~apart
        over[apart] = False
        against = weight[wrong] @ over[wrong]
        support = weight[~wrong] @ over[~wrong]
        # a branch of the tree that more speaks against than for is the false one
        excess = (against - support)[: len(taken)]
        if not len(taken) or excess.max(initial=0.0) <= 0:
            break
        worst = taken[int(np.argmax(excess))]
        banned[worst] = True
        if banned.all():
            break
    return wrong | banned, turns
