"""What a run of the Poses stage works on."""

from dataclasses import dataclass, field, fields

ELSEWHERE = 100_000  #: added to the numbers of another member's support targets, once for each member


FEATURES, MARKED = "features", "marked points"


START_OVER, GO_ON, ADJUST = "start over", "go on", "adjust"


@dataclass(frozen=True)
class Unchanged:
    """Figures of matching that an adjustment leaves as they are; see `PosesFigures`."""

    pairs: int = 0
    pairs_tried: int = 0
    pairs_chosen: str = "all"
    still: int = 0
    still_share: float = 0.0
    reasons: dict = field(default_factory=dict)
    bridges: list = field(default_factory=list)
    fragments: list = field(default_factory=list)
    first_solved: int | None = None
    unfolded: bool = False
    by_order: bool = False
    loose: int = 0

    @classmethod
    def of(cls, figures):
        """Those of a PosesFigures."""
        return cls(**{f.name: getattr(figures, f.name) for f in fields(cls)})


@dataclass(frozen=True)
class Before:
    """What the last run left that this one may use: blob keys and marks of what they were made from."""

    block: str
    features: dict  #: photo id to blob key
    made_from: dict  #: photo id to mark
    matches: str | None
    match_key: str
    carried: dict  #: artefacts that an adjustment leaves as they are
    settings: dict
    figures: Unchanged
    look: int = 1  #: at which the features were found
    zooms: dict = field(default_factory=dict)  #: photo id to the number of its zoom
    slip_px: float | None = None  #: by which rows slipped
    crops: dict = field(default_factory=dict)  #: photo id of one that was cropped to one that was not


@dataclass(frozen=True)
class Inputs:
    """Photos and what is known of them."""

    blobs: str
    photos: list
    masks: dict
    groups: list  #: photos with one lens, as the Lens stage found them
    targets: dict  #: blob keys of the targets found, by photo id
    mode: str = START_OVER
    before: Before | None = None
    removed: str | None = None  #: blob key of the sightings taken out by hand
    marks: tuple = ()  #: points marked by hand: (id, name, ((photo id, x, y, sigma in pixels), ...))
    joined: bool = False  #: whether features are taken from the members of a joined row as they are
    foreign: dict = field(default_factory=dict)  #: photo id to the position of its member, but for those of the first
    heard: tuple = ()  #: what other sittings know of the lenses: Heard
    apart: dict = field(default_factory=dict)  #: photo id to the sitting whose photos have a lens of their own
    soft: dict = field(default_factory=dict)  #: sharpness, and that of most others, of photos that are soft, by id
    things: dict = field(default_factory=dict)  #: photo id to what the object's outline is known by: `thing_blobs`
    support: tuple = ()  #: targets that stand on the support: another place in every member
