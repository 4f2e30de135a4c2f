"""What solving works on and leaves besides the block: pairs of photos that share a scene, and why photos failed."""

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from .block import Block
from .lensprior import LensPrior

#: what the matches of a pair show: a scene with depth, one plane, or a camera that only turned (or nothing that moved)
SCENE, PLANE, TURN = "scene", "plane", "turn"


#: why a photo is not solved, in a word that a program can act on
NO_OVERLAP, TOO_FEW, DISAGREES, LOOP, TURNED, NO_START = "overlap", "few", "disagrees", "loop", "turned", "start"
FRAGMENT = "fragment"


@dataclass(frozen=True)
class PhotoSet:
    """The photos to solve, n of them with m lenses: what was found in them, and what is known of their lenses.

    Attributes
    ----------
    xy : list of (n_i, 2) arrays
        Pixels of what was found in each photo: features, targets, marked points.
    lenses : (m, 10)
        Starting lens vectors.
    lens_of : (n,) int
    widths : (n,) int
        Longer side of each photo, pixels: thresholds adapt to it.
    trusted : sequence of int
        Lenses that stay as they are.
    lens_sigma : (m, 10), optional
        How well the starting lenses are known; NaN where nobody knows.
    prior : LensPrior, optional
        What the lenses are held by, in place of that.
    free : sequence of int
        Lens parameters that are solved besides those that the number of photos allows.
    sigma : list of (n_i,) arrays, optional
        Standard deviations in pixels; those of key points where not given.
    """

    xy: list
    lenses: np.ndarray
    lens_of: np.ndarray
    widths: list
    trusted: tuple = ()
    lens_sigma: np.ndarray | None = None
    sigma: list | None = None
    prior: LensPrior | None = None
    free: tuple = ()


@dataclass(frozen=True)
class HandTies:
    """Matches that were not found by likeness.

    Attributes
    ----------
    links : dict of (i, j) to (k, 2) int
        Matches that need no verification: points marked by hand.
    same : dict of (i, j) to (k, 2) int
        Matches that are taken where both points stand in one place: targets of one number.
    marked : sequence of (photo, feature)
        Sightings of points marked by hand: four of them stand a photo up that has too few others.
    """

    links: dict = field(default_factory=dict)
    same: dict = field(default_factory=dict)
    marked: tuple = ()


@dataclass(frozen=True)
class GrowSettings:
    """How a block grows.

    Attributes
    ----------
    min_sightings : int
        A photo with fewer does not stand.
    min_angle_deg : float
        Between the rays of a point; narrower ones give it no place.
    solve_lens : bool
    significant : bool
        Distortion parameters whose change is not significant go back to where they started.
    held : tuple of str
        Lens parameters that stay as they were, by their names.
    correct : callable(photo, feature, point, poses, lenses, lens_of) -> (k, 2), optional
        What is to be taken off the pixels of sightings once the block stands.
    seed : int
    report : callable(solved, total, sentence, grower), optional
    stop : callable() -> None, optional
        May raise to cancel.
    """

    min_sightings: int = 18
    min_angle_deg: float = 2.0
    solve_lens: bool = True
    significant: bool = False
    held: tuple = ()
    correct: Callable | None = None
    seed: int = 0
    report: Callable | None = None
    stop: Callable | None = None


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
class Grown:
    """A block, why the photos outside it are not solved, and the pairs that contradict it.

    Attributes
    ----------
    block : Block
    reasons : dict of int to Reason
        By the row of the photo.
    bridges : list of (int, int)
        Pairs that match and contradict the others: false bridges.
    """

    block: Block
    reasons: dict = field(default_factory=dict)
    bridges: list = field(default_factory=list)


@dataclass
class Solution(Grown):
    """What solving a sitting leaves: the block, its fragments, and the lenses whose files were wrong.

    Attributes
    ----------
    fragments : list of Block
        Of all photos, as the block; solved where the fragment's photos are.
    wrong_focal : dict of int to float
        Lens to the focal length in pixels that its photos' files say.
    pairs : dict of (i, j) to PairGeometry
        As related with the lens that was believed in the end.
    """

    fragments: list = field(default_factory=list)
    wrong_focal: dict = field(default_factory=dict)
    pairs: dict = field(default_factory=dict)
