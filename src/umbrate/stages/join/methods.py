"""The methods by which sittings are joined, and what a join of two is."""

from dataclasses import dataclass, field

import numpy as np

from ...core.errors import UmbrateError
from .figures import Evidence

TARGETS, SURFACE, PICKS, SHAPE = "targets", "surface", "picks", "shape"
METHODS = (TARGETS, SURFACE, PICKS, SHAPE)
GOOD, DOUBTFUL, NONE = "good", "doubtful", "none"


@dataclass
class Join:
    """How one sitting lies to another.

    Attributes
    ----------
    M : (4, 4) or None
        From the first's job frame to the second's.
    verdict : str
        "good", "doubtful" or "none".
    reasons : list of str
        Why it is not good.
    evidence : Evidence
    support, on_object : list of int
        Targets that stand on the support, and those that were used.
    contradiction : float
        By how much the scales of two scaled sittings differ, as a share; 0 where one has none.
    rows : (k, 2)
        Points of the blocks that are one place.
    notes : list of str
        What is good to know and no doubt.
    picks : list of (name, distance)
        How far off each pick is, None where there is no join.
    """

    M: np.ndarray | None
    verdict: str
    reasons: list
    evidence: Evidence
    support: list
    contradiction: float = 0.0
    on_object: list = field(default_factory=list)
    rows: np.ndarray = field(default_factory=lambda: np.zeros((0, 2), np.int64))
    notes: list = field(default_factory=list)
    picks: list = field(default_factory=list)


@dataclass(frozen=True)
class Pairs:
    """Places of two sittings that a method pairs: (k, 3) and (k, 3), deviations (k,), and rows (k, 2), -1 for picks."""

    a: np.ndarray
    b: np.ndarray
    sigma: np.ndarray
    rows: np.ndarray

    def some(self, which):
        """Those of a mask or of rows."""
        return Pairs(self.a[which], self.b[which], self.sigma[which], self.rows[which])


def together(parts):
    """Pairs of several methods as one."""
    return Pairs(*(np.concatenate([getattr(p, n) for p in parts]) for n in ("a", "b", "sigma", "rows")))


def check_methods(methods):
    """Raise where methods cannot give a join a start."""
    if not set(methods) & {TARGETS, SURFACE, PICKS}:
        raise UmbrateError("Shape refines a join; say targets, surface or picks as well, which give it a start.")
