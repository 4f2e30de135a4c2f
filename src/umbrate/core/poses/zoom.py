"""Zooms that were moved: photos whose files say one focal length, or none, taken with several.

Each photo of a block is given a focal length of its own, and everything is adjusted together once more. Where all
were taken with one, these lie close to each other; where the zoom was moved they fall into groups.
"""

from dataclasses import dataclass

import numpy as np

from .adjust import Held, adjust
from .lensprior import LensPrior
from .reprojection import CAUCHY, Loss, State, observations

MOST_POINTS = 3000  #: so many points, those that most photos see, tell it
OWN_SIGMA = 0.5  #: how loosely a photo's own focal length is held to the common one, as a share of it
GAP = 0.06  #: focal lengths further apart are two, as a share
LEAST_SIGHTINGS = 30  #: a photo with fewer says nothing
ROUNDS = 30


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


def own_focals(block):
    """The focal length (n,) in pixels of each photo of a Block by itself; NaN where it says nothing."""
    on = block.solved
    out = np.full(len(block.poses), np.nan)
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
    seen = observations(
        np.arange(len(lenses)), row[block.photo[rows]], point, block.xy[rows], block.sigma[rows], len(points)
    )
    result = adjust(
        State(block.poses[on], lenses, block.points[points]), seen, [0],
        held=Held(lens_prior=LensPrior.of_sigmas(lenses, sigma)), loss=Loss(CAUCHY, 2.5), max_rounds=ROUNDS,
        tolerance=1e-4,
    )  # fmt: skip
    enough = np.bincount(row[block.photo[rows]], minlength=len(lenses)) >= LEAST_SIGHTINGS
    out[on] = np.where(enough, result.lenses[:, 0], np.nan)
    return out


def group_focals(focal, lens_of):
    """The Zooms among photos of one lens each that has several, or None where every lens has one.

    Parameters
    ----------
    focal : (n,)
        See `own_focals`.
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
