"""What solving works on and leaves behind: pairs of photos that share a scene, and photos solved together."""

from dataclasses import dataclass, field

import numpy as np

from .covariance import covariance

#: what the matches of a pair show: a scene with depth, one plane, or a camera that only turned (or nothing that moved)
SCENE, PLANE, TURN = "scene", "plane", "turn"


#: why a photo is not solved, in a word that a program can act on
NO_OVERLAP, TOO_FEW, DISAGREES, LOOP, TURNED, NO_START = "overlap", "few", "disagrees", "loop", "turned", "start"
FRAGMENT = "fragment"


@dataclass(frozen=True)
class Reason:
    """Why a photo is not solved: one of the words above, the clause that says it, and the photos it concerns."""

    kind: str
    text: str
    partners: tuple = ()


@dataclass
class PairGeometry:
    """Two photos that share a scene: verified matches (k, 2) and the relative pose i to j (unit base)."""

    matches: np.ndarray
    relative: np.ndarray
    angle_deg: float  #: median angle between the rays of the matches
    kind: str = SCENE


@dataclass
class Block:
    """Photos solved together.

    Attributes
    ----------
    poses : (n, 4, 4) float64
        World to camera; NaN for photos that are not solved.
    lenses : (m, 10), lens_of : (n,)
    points : (p, 3), photos_of : (p,) int
        Tie points and the number of photos that see each.
    photo, feature, point : (k,) int64, xy : (k, 2), residual : (k, 2)
        Sightings, sorted by point; seen pixels and seen minus predicted.
    sigma : (k,)
        Standard deviations they were adjusted with.
    order : (n,) int
        Which photo was solved when, from 0; -1 where not.
    reasons : dict of int to Reason
        Why a photo is not solved.
    bridges : list of (int, int)
        Pairs that match and contradict the others: false bridges.
    """

    poses: np.ndarray
    lenses: np.ndarray
    lens_of: np.ndarray
    points: np.ndarray
    photo: np.ndarray
    feature: np.ndarray
    point: np.ndarray
    xy: np.ndarray
    residual: np.ndarray
    sigma: np.ndarray
    reasons: dict = field(default_factory=dict)
    free_lens: tuple = ()  #: the lens parameters that were solved
    bridges: list = field(default_factory=list)
    order: np.ndarray | None = None
    prior: tuple = ()  #: what the lenses were held by: means and sigmas (m, 10)

    def covariance(self, trusted=()):
        """The Covariance of the solved photos' poses, in their order, of the lenses and the tie points."""
        who = np.flatnonzero(self.solved)
        row = np.full(len(self.poses), -1)
        row[who] = np.arange(len(who))
        return covariance(
            self.poses[who], self.lenses, self.lens_of[who], self.points, row[self.photo], self.point, self.xy,
            sigma=self.sigma, free_lens=self.free_lens, fixed_lenses=trusted, prior=self.prior or None,
        )  # fmt: skip

    @property
    def solved(self):
        """(n,) bool."""
        return np.isfinite(self.poses[:, 0, 0])

    @property
    def photos_of(self):
        """How many photos see each tie point, (p,)."""
        return np.bincount(self.point, minlength=len(self.points))

    @property
    def rms_px(self):
        """Root mean square length of the residuals in pixels."""
        return float(np.sqrt((self.residual**2).sum(1).mean())) if len(self.residual) else 0.0
