"""What the Lens stage finds out: targets, and where the lens comes from."""

from ...core.geometry.lens import PARAMETER_NAMES, Lens
from ...job.figures import Figures, Part, figure

NAMES = {"f": "Focal length", "cx": "Principal point x", "cy": "Principal point y"}
CALIBRATED = ("targets", "board")  #: sources of a lens that are the photos themselves
IN_PIXELS = ("f", "cx", "cy", "b1", "b2")


class LensGroup(Part):
    """Photos that share a lens, and what is known of that lens."""

    name: str
    photos: list[int]
    camera: str = ""
    focal_mm: float | None = None
    size: tuple[int, int] = (0, 0)
    lens: dict | None = None
    sigma: dict = {}
    card: str | None = None
    use: str = "solve"  #: "trusted" as it is, "refined" with the poses, or "solve"
    held: dict[str, float] = {}  #: parameters that the poses do not solve, and their values


class Check(Part):
    """One thing that makes a calibration good: whether it is, in words, and what helps."""

    good: bool
    text: str
    advice: str = ""


class Gathering(Part):
    """Photos that are not enough to calibrate from yet."""

    photos: int
    sightings: int
    coverage: list
    checks: list[Check]


class Calibration(Gathering):
    """A lens calibrated from the photos themselves."""

    lens: dict
    sigma: dict  #: standard deviations of the parameters that were solved
    free: list[str]
    rms_px: float
    unit: float
    left_out: int
    by_hand: int = 0  #: left out by hand, of these
    paper: str | None = None
    targets: int = 0
    correlations: list[tuple[str, str, float]] = []
    per_photo: dict[int, float] = {}
    date: str = ""


class LensFigures(Figures):
    """Figures of the Lens stage; dictionaries go by photo id."""

    photos: int = 0
    source: str = "card"
    calibration: Calibration | None = None
    gathering: Gathering | None = None
    groups: list[LensGroup] = []
    targets: dict[int, tuple[int, int, int]] = {}  #: coded, plain and doubtful ones
    numbers: int = figure(0, title="Targets", meaning="Different coded targets that the photos show")
    seen_numbers: list[int] | None = None
    found_in: dict[int, str] = {}  #: what the targets of a photo were found from
    mirrored: list[int] = []

    def rows(self):
        own = _calibration_rows(self.calibration, self.photos) if self.calibration else [*map(_group_row, self.groups)]
        coded, doubt = (sum(x[k] for x in self.targets.values()) for k in (0, 2))
        if self.targets:
            told = "Different coded targets, and how often"
            own.append(("Targets", f"{self.numbers} in {coded:,} sightings", told))
        if doubt:
            own.append(("Doubtful readings", f"{doubt}", "Rings that could not be read for sure: not used"))
        return own


def _group_row(g):
    source = f"{g.card}, {g.use}" if g.card else "solved with the poses"
    if g.held:
        source += f", held: {', '.join(f'{n} {v:g}' for n, v in g.held.items())}"
    told = f"{len(g.photos)} photos of {g.size[0]} x {g.size[1]}, {g.focal_mm or 'unknown'} mm"
    return g.name.rpartition(",")[0], source, told


def _calibration_rows(c, photos):
    """Lines of a Calibration: each parameter with what it depends on, residual, sightings, correlations."""
    out = []
    values = dict(zip(PARAMETER_NAMES, Lens.from_dict(c.lens).vector, strict=True))
    for n in c.free:
        v, sd = values[n], c.sigma[n]
        text = f"{v:.2f} ± {sd:.2f} px" if n in IN_PIXELS else f"{v:.5f} ± {sd:.5f}"
        depends = [(b if a == n else a, r) for a, b, r in c.correlations if n in (a, b)][:3]
        more = ", ".join(f"{x} {r:+.2f}" for x, r in depends)
        told = "Solved value and its standard deviation" + (f"; correlations: {more}" if more else "")
        out.append((NAMES.get(n, n), text, told))
    out += [
        ("Residual", f"{c.rms_px:.3f} px", "Root mean square of a coordinate, of all sightings used"),
        ("Sightings", f"{c.sightings:,}, {c.left_out} left out", "Readings of targets or corners in photos"),
        ("Photos", f"{c.photos} of {photos}", "Photos that took part"),
    ]
    for k, (a, b, r) in enumerate(c.correlations[:3]):
        name = "Strongest correlations" if k == 0 else ""
        out.append((name, f"{a}, {b}: {r:+.2f}", "Near 1 or -1: the two can hardly be told apart"))
    return out


def left_out_of(chosen, photo):
    """Numbers whose sightings in a photo somebody left out: `chosen` has them by # and the photo's id, or by name."""
    return {*chosen.get(f"#{photo.id}", ()), *chosen.get(photo.name, ())}
