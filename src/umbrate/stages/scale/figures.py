"""What the Scale stage finds out: how the known lengths and points fit."""

from pydantic import ConfigDict, Field

from ...core.measure.quantities import K95
from ...job.figures import Figures, Part, figure
from ...job.lengths import CHECK, SCALE

PLAIN = [[1.0, 0, 0, 0], [0, 1.0, 0, 0], [0, 0, 1.0, 0], [0, 0, 0, 1.0]]


class LengthFigures(Part):
    """A known length and what the block makes of it; lengths in mm."""

    model_config = ConfigDict(extra="ignore", populate_by_name=True)

    first: str
    second: str
    value: float = 0.0
    sigma: float = 0.0
    role: str = ""
    source: str = Field("stated", alias="from")  #: "stated", or "sheet" where it was printed
    length: float = 0.0  #: as measured
    sigma_length: float = 0.0
    error: float | None = None
    sigmas: float | None = None  #: the error in its standard deviations
    residual: float | None = None  #: of one that sets the scale
    part: float | None = None  #: how much of it is checked by the others
    left_out: bool = False
    half95: float | None = None  #: of a check length


class KnownPoint(Part):
    """How far a known point is off, along x, y and z: mm, and standard deviations."""

    residual: list[float] = [0.0, 0.0, 0.0]
    sigmas: list[float] = [0.0, 0.0, 0.0]


class ScaleFigures(Figures):
    """Figures of the Scale stage; ends are targets' numbers or identities of marked points."""

    LINES = (
        "line_of_scale", "line_of_lengths", "line_of_worst", "line_of_targets", "line_of_marks", "rms_px", "bent_px",
    )  # fmt: skip

    scaled: bool = False
    scale_sigma: float | None = figure(
        None, title="Scale known to", meaning="Standard deviation of all lengths, as a share, from the known ones"
    )
    lengths: list[LengthFigures] = []
    contradict: bool = False  #: lengths contradict each other, and nothing tells which is wrong
    unit: float = 1.0  #: standard deviation of unit weight
    targets: int | None = None
    target_sigma: float | None = figure(
        None, title="Targets known to", unit="mm", meaning="Standard deviation of a target's coordinate, where scaled"
    )
    extent: float | None = None  #: of all targets
    target_precision: float | None = figure(
        None, title="Targets, 1 to", meaning="The extent of all targets over the deviation of one", form=",.0f"
    )
    known: dict[str, KnownPoint] = {}
    marks: dict[str, float | None] = {}  #: residuals of marked points in pixels
    rms_px: float = figure(
        0.0, title="Residual", unit="px", meaning="Of all sightings after the adjustment", form=".2f"
    )
    bent_px: float = figure(
        0.0, title="Bent by", unit="px", meaning="By how much known lengths and points changed the shape", form=".3f"
    )
    bent: bool = False
    made_of: str = ""  #: the blob of the block that was adjusted
    from_plain: list[list[float]] = PLAIN
    framed: bool = False  #: known coordinates say where everything is
    offset: tuple[float, float, float] = (0.0, 0.0, 0.0)

    @property
    def used(self):
        """The lengths that set the scale."""
        return [r for r in self.lengths if r.role == SCALE and not r.left_out]

    @property
    def checks(self):
        """The check lengths."""
        return [r for r in self.lengths if r.role == CHECK]

    def line_of_scale(self):
        told = "95 % interval of all lengths, from the known ones"
        return ("Scale", f"± {100 * K95 * self.scale_sigma:.3f} %", told) if self.scaled else None

    def line_of_lengths(self):
        text = f"{len(self.used)} used, {len(self.checks)} to check"
        return "Lengths", text, "Known lengths that set or check the scale"

    def line_of_worst(self):
        if not self.checks:
            return None
        worst = max((r.error for r in self.checks), key=abs)
        return "Worst check", f"{worst:+.3f} mm", "Largest error found of a check length"

    def line_of_targets(self):
        if self.target_precision is None:
            return None
        text = f"± {self.target_sigma:.2g}{' mm' if self.scaled else ''}, 1:{self.target_precision:,.0f}"
        told = "Standard deviation of a target's coordinate, and as a share of the extent of all targets"
        return "Targets", text, told

    def line_of_marks(self):
        rms = [x for x in self.marks.values() if x is not None]
        told = "Points marked by hand, and the worst residual"
        return ("Marked points", f"{len(rms)}, worst {max(rms, default=0):.2f} px", told) if self.marks else None
