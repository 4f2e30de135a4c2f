"""The similarity between two sittings that most of their shared places agree on.

Places are paired by what they look like or by their number, and many pairs are wrong. Three pairs give a similarity; it
is right where many others follow it (random sample consensus, Fischler and Bolles 1981). Triples whose sides do not
stand in one ratio are passed over before anything is computed from them, so that one right pair in twenty is enough.
What is found is then fitted to all pairs that follow it, each by its own standard deviation.
"""

from dataclasses import dataclass
from itertools import combinations
from math import comb, log

import numpy as np

from ..geometry.similarity import fit_similarity

LEAST = 3  #: pairs that a similarity needs
TRIPLES, BATCH = 60_000, 4000
FLATTEST = 0.15  #: of a triple: its height over its longest side
ROUNDS = 12
MISSED = log(1e-6)  #: chance that no triple was right, from which on it is not looked any further
HUBER = 2.0


@dataclass(frozen=True)
class Agreement:
    """A similarity and what speaks for it.

    Attributes
    ----------
    M : (4, 4)
        From the first sitting's frame to the second's.
    inside : (k,) bool
        Pairs that follow it.
    off : (k,)
        Distance of every pair after it, in the second's unit.
    rms : float
        Of those that follow it.
    spread : (3,)
        Standard deviations of their places along the three main directions: a line has one, a plane two.
    sigma : (rotation in degrees, shift at their middle, scale as a share)
        Standard deviations to expect.
    """

    M: np.ndarray
    inside: np.ndarray
    off: np.ndarray
    rms: float
    spread: np.ndarray
    sigma: tuple

    @property
    def count(self):
        """Pairs that follow it."""
        return int(self.inside.sum())


def agree(a, b, sigma, tolerance, *, with_scale=True, seed=0):
    """The Agreement that most pairs follow, or None where no three pairs do.

    Parameters
    ----------
    a, b : (k, 3)
        Paired places of two sittings.
    sigma : (k,)
        Standard deviation of the distance of a right pair, in b's unit.
    tolerance : float
        Pairs farther apart than this, and than four times their sigma, do not follow.
    with_scale : bool
        False: both are to the same scale.
    """
    a, b, sigma = (np.asarray(x, float) for x in (a, b, sigma))
    k = len(a)
    if k < LEAST:
        return None
    reach = np.maximum(4.0 * sigma, tolerance)
    best, most = None, LEAST - 1
    for tried, M in _hypotheses(a, b, reach, with_scale, np.random.default_rng(seed)):
        if best is not None and tried > BATCH and tried > MISSED / log(max(1.0 - (best.sum() / k) ** 3, 1e-12)):
            break  # a triple of right pairs of a better one would have been among them
        off2 = ((a @ M[:3, :3].T + M[:3, 3] - b) ** 2).sum(1)
        inside = off2 <= reach**2
        # what follows counts, and counts less the farther off it is
        worth = float((1.0 - off2[inside] / reach[inside] ** 2 * 0.5).sum())
        if inside.sum() >= LEAST and worth > most:
            best, most = inside, worth
    return fitted(a, b, sigma, reach, best, with_scale) if best is not None else None


def fitted(a, b, sigma, reach, inside, with_scale=True):
    """The Agreement fitted to the pairs `inside` and to those that follow then; None where fewer than three do."""
    M = off = None
    for k in range(ROUNDS):
        if inside.sum() < LEAST:
            return None
        weight = 1.0 / np.maximum(sigma[inside], 1e-12) ** 2
        if M is not None:
            z = off[inside] / np.maximum(sigma[inside], 1e-12)
            weight = weight * np.minimum(1.0, HUBER / np.maximum(z, 1e-9))
        M = fit_similarity(a[inside], b[inside], weight, with_scale)
        off = np.linalg.norm(a @ M[:3, :3].T + M[:3, 3] - b, axis=1)
        then = off <= reach
        if (then == inside).all() and k > 2:
            break
        inside = then
    if inside.sum() < LEAST:
        return None
    rms = float(np.sqrt((off[inside] ** 2).mean()))
    spread = np.linalg.svd(b[inside] - b[inside].mean(0), compute_uv=False) / np.sqrt(max(inside.sum(), 1))
    return Agreement(M, inside, off, rms, spread, _sigmas(a[inside], M, off[inside], with_scale))


def _hypotheses(a, b, reach, with_scale, rng):
    """Similarities (4, 4) of triples whose sides stand in one ratio, and how many triples were looked at by then.

    All triples where they are few, else random ones.
    """
    k = len(a)
    every = np.array(list(combinations(range(k), 3))) if comb(k, 3) <= BATCH else None
    for batch in range(TRIPLES // BATCH if every is None else 1):
        t = rng.integers(0, k, (BATCH, 3)) if every is None else every
        t = t[(t[:, 0] != t[:, 1]) & (t[:, 1] != t[:, 2]) & (t[:, 0] != t[:, 2])]
        A, B = a[t], b[t]
        side_a, side_b = (np.linalg.norm(X - np.roll(X, 1, 1), axis=2) for X in (A, B))
        longest = side_b.max(1)
        area = 0.5 * np.linalg.norm(np.cross(B[:, 1] - B[:, 0], B[:, 2] - B[:, 0]), axis=1)
        good = (area > 0.5 * FLATTEST * longest**2) & (side_a.min(1) > 0) & (longest > 4 * reach[t].max(1))
        s = side_b.sum(1) / np.maximum(side_a.sum(1), 1e-300) if with_scale else np.ones(len(t))
        wrong = np.abs(side_b - s[:, None] * side_a) > 1.5 * reach[t].max(1)[:, None]
        for q in np.flatnonzero(good & ~wrong.any(1)):
            yield batch * BATCH + q, fit_similarity(A[q], B[q], None, with_scale)


def _sigmas(a, M, off, with_scale):
    """Standard deviations of rotation (degrees), shift of the middle, and scale (share), from what is left over."""
    b = a @ M[:3, :3].T
    b = b - b.mean(0)
    free = max(3 * len(a) - (7 if with_scale else 6), 1)
    one = np.sqrt((off**2).sum() / free)
    C = b.T @ b
    turn = np.linalg.inv(np.trace(C) * np.eye(3) - C + 1e-12 * np.trace(C) * np.eye(3))
    return (
        float(np.degrees(one * np.sqrt(np.trace(turn)))),
        float(one * np.sqrt(3.0 / len(a))),
        float(one / np.sqrt(max(np.trace(C), 1e-300))) if with_scale else 0.0,
    )


def groups(a, b, sigma, tolerance, *, with_scale=True, least=LEAST, seed=0):
    """All sets of pairs that each follow a similarity of their own, the largest first: a list of Agreement.

    Targets of a mat stand still while the object is turned over: they agree among themselves, not with the object's.
    """
    left, out = np.arange(len(a)), []
    while len(left) >= least:
        found = agree(a[left], b[left], sigma[left], tolerance, with_scale=with_scale, seed=seed + len(out))
        if found is None or found.count < least:
            break
        inside = np.zeros(len(a), bool)
        inside[left[found.inside]] = True
        off = np.linalg.norm(a @ found.M[:3, :3].T + found.M[:3, 3] - b, axis=1)
        out.append(Agreement(found.M, inside, off, found.rms, found.spread, found.sigma))
        left = left[~found.inside]
    return out
