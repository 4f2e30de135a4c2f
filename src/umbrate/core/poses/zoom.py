"""Photos that were not taken with one lens, or not in one moment, though their files say so.

Each photo of a block is given a focal length of its own, and a slant and a stretch of its rows, and everything is
adjusted together once more. Where the zoom was moved, the focal lengths fall into groups. Where the rows of a photo
were read one after the other while the camera moved (a rolling shutter), they slipped against each other: in the first
order a slant where it moved along the rows, a stretch where across them (Meingast, Geyer and Sastry 2005).
"""

from dataclasses import dataclass

import numpy as np

from .adjust import Held, adjust
from .lensprior import LensPrior
from .reprojection import CAUCHY, Loss, State, observations

MOST_POINTS = 3000  #: so many points, those that most photos see, tell it
OWN_SIGMA = 0.5  #: how loosely a photo's own focal length is held to the common one, as a share of it
SLIP_SIGMA = 0.02  #: and a slant and a stretch to none, as a share of the focal length
GAP = 0.06  #: focal lengths further apart are two, as a share
LEAST_SIGHTINGS = 30  #: a photo with fewer says nothing
ROUNDS = 30
LOSS = Loss(CAUCHY, 2.5)


@dataclass(frozen=True)
class Zooms:
    """Photos by the focal length they were taken with.

    Attributes
    ----------
    group : (n,) int
        Of each photo; -1 where nothing is known.
    focal : (g,)
        Of each group, in pixels.
    lens : (g,) int
        The lens that its photos seemed to share; of each lens the largest group comes first.
    """

    group: np.ndarray
    focal: np.ndarray
    lens: np.ndarray


@dataclass(frozen=True)
class OwnLenses:
    """What each photo of a block says of its lens by itself.

    Attributes
    ----------
    focal : (n,)
        Focal length in pixels; NaN where a photo says nothing.
    slip : (n, 2)
        Slant and stretch: by how many pixels a row slips along and across, for each pixel that it is lower; NaN where a
        photo says nothing.
    left : float
        Of the squared residuals, the share that is left.
    """

    focal: np.ndarray
    slip: np.ndarray
    left: float


def own_lenses(block):
    """The OwnLenses of the photos of a Block."""
    on = block.solved
    use = np.argsort(-block.photos_of, kind="stable")[:MOST_POINTS]
    chosen = np.zeros(len(block.points), bool)
    chosen[use] = True
    rows = np.flatnonzero(chosen[block.point] & on[block.photo])
    row = np.full(len(on), -1)
    row[on] = np.arange(int(on.sum()))
    points, point = np.unique(block.point[rows], return_inverse=True)
    lenses = block.lenses[block.lens_of[on]]
    sigma = np.full(lenses.shape, np.inf)
    sigma[:, 0] = OWN_SIGMA * lenses[:, 0]
    sigma[:, 8:] = SLIP_SIGMA * lenses[:, :1]
    seen = observations(
        np.arange(len(lenses)), row[block.photo[rows]], point, block.xy[rows], block.sigma[rows], len(points)
    )
    result = adjust(
        State(block.poses[on], lenses, block.points[points]), seen, [0, 8, 9],
        held=Held(lens_prior=LensPrior.of_sigmas(lenses, sigma)), loss=LOSS, max_rounds=ROUNDS, tolerance=1e-4,
    )  # fmt: skip
    enough = np.bincount(row[block.photo[rows]], minlength=len(lenses)) >= LEAST_SIGHTINGS
    got = np.where(enough[:, None], result.lenses, np.nan)
    out = np.full((len(on), 3), np.nan)
    out[on] = np.stack([got[:, 0] + got[:, 8], got[:, 9] / got[:, 0], -got[:, 8] / got[:, 0]], 1)
    before = block.residual[rows]
    left = _robust_sum(result.residuals, seen.weight) / max(_robust_sum(before, seen.weight), 1e-300)
    return OwnLenses(out[:, 0], out[:, 1:], left)


def _robust_sum(residuals, weight):
    """Sum of the squares of residuals (k, 2) in their standard deviations, as the loss takes them."""
    square = weight**2 * (residuals**2).sum(1)
    return float((LOSS.scale**2 * np.log1p(square / LOSS.scale**2)).sum())


def group_focals(focal, lens_of):
    """The Zooms among photos of one lens each that has several, or None where every lens has one.

    Parameters
    ----------
    focal : (n,)
        Of `own_lenses`.
    lens_of : (n,) int
        Photos that are taken to share a lens.
    """
    group, focals, lenses, several = np.full(len(focal), -1), [], [], False
    for m in np.unique(lens_of):
        mine = np.flatnonzero((lens_of == m) & np.isfinite(focal))
        if not len(mine):
            continue
        order = mine[np.argsort(focal[mine], kind="stable")]
        parts = np.split(order, np.flatnonzero(np.diff(np.log(focal[order])) > np.log1p(GAP)) + 1)
        several |= len(parts) > 1
        for part in sorted(parts, key=len, reverse=True):
            group[part] = len(focals)
            focals.append(float(np.median(focal[part])))
            lenses.append(int(m))
    return Zooms(group, np.array(focals), np.array(lenses)) if several else None


def regrouped(zooms, focal, lens_of):
    """The Zooms with photos moved that are of another group by a block solved with `zooms`; None where none is.

    In a block of one lens focal lengths are told worse than in one with a lens for each group, and some photos stand in
    the latter alone: to begin with these have the lens of the largest group.

    Parameters
    ----------
    focal : (n,)
        Of `own_lenses` of that block.
    lens_of : (n,) int
        As in `group_focals`.
    """
    told, first = np.isfinite(focal), {m: k for k, m in reversed(list(enumerate(zooms.lens.tolist())))}
    group = np.array([g if g >= 0 else first.get(int(m), -1) for g, m in zip(zooms.group, lens_of, strict=True)])
    told &= group >= 0
    before, focals = group.copy(), zooms.focal.copy()
    for g in np.unique(group[told]):
        focals[g] = np.median(focal[told & (group == g)])
    for k in np.flatnonzero(told):
        off = np.where(zooms.lens == zooms.lens[group[k]], np.abs(np.log(focal[k] / focals)), np.inf)
        if off[group[k]] > np.log1p(GAP):
            group[k] = np.argmin(off)
    return None if (group == before).all() else Zooms(group, focals, zooms.lens)
