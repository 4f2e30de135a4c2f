"""What the Join stage finds out: how every two sittings lie to each other, and the whole."""

from pydantic import model_validator

from ...job.figures import Figures, Part

NONE = "none"


class MethodFigures(Part):
    """What a method found: shared places, how many agree, how far they are apart, and how surely."""

    pairs: int = 0
    agreeing: int = 0
    rms: float | None = None
    rms_px: float | None = None
    sigma: list[float] | None = None  #: standard deviations of the turn (degrees) and of the shift, and of the scale


class SurfacesFigures(Part):
    """How two clouds lie to each other where they overlap."""

    overlap: float
    median: float
    p95: float
    worst: list = []  #: places and how far the surfaces are apart there: (x, y, z, distance)


class ShapeFigures(Part):
    """What fitting the surfaces to each other found."""

    overlap: float
    rms: float
    median: float
    held: float  #: how well the shape holds what could slide along itself, 1 is well
    dense: bool  #: fitted to clouds, else to tie points


class Between(Part):
    """How far two methods lie from each other."""

    turn_deg: float
    shift: float


class Evidence(Part):
    """What speaks for a join, by method, and what checks it."""

    methods: dict[str, MethodFigures] = {}
    together: MethodFigures | None = None  #: of what was fitted in the end
    shape: ShapeFigures | None = None
    surfaces: SurfacesFigures | None = None
    between: Between | None = None
    alike: int | None = None  #: places of the surface that look alike where picks say they are one
    outside: float | None = None  #: share of one sitting that would lie outside the other's masks

    def agreeing(self, method):
        """How many shared places of a method agree."""
        return self.methods[method].agreeing if method in self.methods else 0


class PairFigures(Evidence):
    """How two sittings lie to each other; lengths in the second's unit."""

    first: str
    second: str
    ids: list[int]
    verdict: str
    reasons: list[str]
    notes: list[str] = []
    contradiction: float = 0.0
    both_scaled: bool = False
    unit: str = ""
    picks: list[tuple[str, float | None]] = []

    @model_validator(mode="before")
    @classmethod
    def _of_older_versions(cls, values):
        """Results of older versions hold the evidence in one dictionary."""
        if isinstance(values, dict) and "ways" in values:
            every = dict(values["ways"])
            values = {k: v for k, v in values.items() if k != "ways"}
            values["together"] = every.pop("all", None)
            values |= {k: every.pop(k, None) for k in ("shape", "surfaces", "between", "alike", "outside")}
            values["methods"] = every
        return values


class JoinFigures(Figures):
    """Figures of the Join stage."""

    members: list[int] = []
    names: list[str] = []
    moves: list[list[list[float]] | None] = []  #: from each plain frame to the first's
    verdict: str = NONE
    joins: list[PairFigures] = []
    loops: list[tuple[str, str, float, float]] = []
    support: list[int] = []
    on_object: list[int] = []
    ties: str = ""
    unit: str = ""

    def rows(self):
        out, whole = [], f" {self.unit}".rstrip()
        for x in self.joins:
            out += _pair_rows(x)
        told = "How far a join is off from what all say together"
        return out + [(f"Loop {a} - {b}", f"{turn:.3f}°, {shift:.3g}{whole}", told) for a, b, turn, shift in self.loops]


def _pair_rows(x):
    """Lines of two sittings."""
    told, unit = f"{x.first} to {x.second}", f" {x.unit}".rstrip()
    if x.verdict == NONE:
        return [(told, "no join", "; ".join(x.reasons))]
    a = x.together
    by_method = ", ".join(
        f"{w}: {m.agreeing} of {m.pairs}" for w in ("targets", "surface", "picks") if (m := x.methods.get(w))
    )
    out = [
        (told, x.verdict, "; ".join(x.reasons) or "Enough shared places agree; nothing is against it"),
        ("Shared places", f"{a.agreeing:,}", by_method),
        ("Apart", f"{a.rms:.3g}{unit}, {a.rms_px:.2f} px", "Root mean square distance of shared places"),
        ("Known to", f"{a.sigma[0]:.2g}°, {a.sigma[1]:.2g}{unit}",
         "Standard deviations of the turn and of the shift between them"),
    ]  # fmt: skip
    if x.both_scaled:
        out.append(("Scales", f"{100 * x.contradiction:+.3f} %", "By how much the scales of the two contradict"))
    if s := x.surfaces:
        out += [
            ("Overlap", f"{100 * s.overlap:.0f} %", "Share of the first cloud that has the second near it"),
            ("Between them", f"{s.median:.3g}{unit}, 95 % {s.p95:.3g}{unit}",
             "Distance of the two surfaces where they overlap: median, and what 95 % stay under"),
        ]  # fmt: skip
    return out
