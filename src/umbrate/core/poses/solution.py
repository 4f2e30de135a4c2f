"""What solving works on and leaves besides the block: pairs of photos that share a scene, and why photos failed."""

from dataclasses import dataclass, field

import numpy as np

from .block import Block

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
