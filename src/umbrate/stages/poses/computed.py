"""What solving hands on to the outcome of a run."""

from dataclasses import dataclass, field

from ...core.poses.fold import Fold
from ...core.poses.solution import Solution
from ...core.poses.targets import TargetSightings
from .figures import FIRST, Shared


@dataclass
class Computed:
    """A Solution and what came with it."""

    solution: Solution
    still: list
    still_share: float
    targets: TargetSightings | None
    xy: list
    counts: list
    lenses: list
    guessed: int
    tried: int
    chosen: str
    times: dict
    artefacts: dict
    made_from: dict
    mark_at: dict = field(default_factory=dict)  #: (photo, feature) to the id of a marked point
    told: list = field(default_factory=list)  #: what the sittings' own sightings say of the lenses: Told
    shared: Shared = field(default_factory=Shared)
    look: int = FIRST  #: at which the features were found
    fold: Fold | None = None  #: where the block seems folded
    unfolded: bool = False  #: whether a deeper look unfolded it
    by_order: bool = False  #: whether the order of shooting did
    loose: int = 0  #: rounds that nothing tells then how they lie to the others
    zooms: dict = field(default_factory=dict)  #: photo id to the number of its zoom, where that is not the usual one
    crops: dict = field(default_factory=dict)  #: photo id of one that was cropped to one of its lens that was not
    slip_px: float | None = None  #: by which rows slipped, where the camera moved while photos were read
    first_solved: int | None = None  #: photos that stood after the first look, where a deeper one was taken
