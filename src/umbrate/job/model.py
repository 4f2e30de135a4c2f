"""What a job consists of, as plain values."""

from dataclasses import dataclass, field


@dataclass(frozen=True)
class Sitting:
    """One placement of the object; or several of them joined, where it has members (their ids)."""

    id: int
    name: str
    position: int
    members: tuple = ()


@dataclass(frozen=True)
class Photo:
    """One photo: where its file is and what the file says of it."""

    id: int
    sitting_id: int
    name: str
    path: str
    size: int
    hash: str
    width: int
    height: int
    orientation: int
    make: str
    model: str
    lens: str
    focal_mm: float | None
    focal_35mm: float | None
    taken: str | None
    aside: bool  #: kept, not used
    plate: bool  #: aside because it shows the bare backdrop, kept as the sitting's plate
    position: int
    exposure_s: float | None = None
    f_number: float | None = None
    iso: float | None = None
    modified: int = 0  #: when the file was last written, in nanoseconds; 0 where that is not known
    turn: int = 0  #: quarter turns to the right by which it is shown, besides its orientation
    focus_m: float | None = None  #: distance the lens was focused at, where the file says so

    @property
    def camera(self):
        """Make and model in one line."""
        return self.model if self.model.startswith(self.make) else f"{self.make} {self.model}".strip()


@dataclass(frozen=True)
class Result:
    """What a stage left behind for a sitting."""

    id: int
    sitting_id: int
    stage: str
    fingerprint: str
    settings: dict
    figures: object  #: the Figures of the stage
    problems: list
    seconds: float
    made: str
    artefacts: dict = field(default_factory=dict)  #: (name, photo id or None) to blob key

    def blob(self, name, photo_id=None):
        """The blob key of an artefact, or None."""
        return self.artefacts.get((name, photo_id))


@dataclass(frozen=True)
class LedgerEntry:
    """One line of the ledger: what ran, when, how long, with what outcome."""

    id: int
    when: str
    sitting: str
    stage: str
    settings: dict
    seconds: float
    outcome: str
    figures: dict
    message: str
    program: str = ""  #: the version that ran it; empty where that was not kept yet
    sitting_id: int | None = None  #: the sitting, whatever it is called now
