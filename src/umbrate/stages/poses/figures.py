"""What the Poses stage finds out: how many photos stand, how well, and why the others do not."""

from pydantic import AliasChoices, Field

from ...job.figures import Figures, Part, figure

LONGEST_NAME = 16  #: of a sitting, in a line of figures
RESIDUAL_TOP_PX = 2.0  #: where the histogram of residuals ends
CHOSEN = {
    "all": "all pairs",
    "likeness": "the likest photos",
    "order": "the order they were taken in",
    "near": "where the photos stand",
    "marks": "marked points",
}


def shortened(name):
    """A name that fits a line of the bench."""
    return name if len(name) <= LONGEST_NAME else name[: LONGEST_NAME - 1] + "…"


FIRST, DEEPER = 1, 2  #: looks: a second, deeper one is taken where photos stay out
SLANTED = 4  #: added to either: features of slanted views count as well


def is_deeper(look):
    """Whether a look is one in which fainter features count, and what turns with the object."""
    return bool(look & DEEPER)


def is_slanted(look):
    """Whether a look is one in which features of slanted views count."""
    return bool(look & SLANTED)


class PhotoFigures(Part):
    """Figures of one photo."""

    sightings: int = 0
    rms_px: float | None = None
    covered: float | None = None  #: share of the picture that has sightings


class WhyLeftOut(Part):
    """Why a photo is not solved: a word for programs, the clause for people, and the photos it concerns."""

    kind: str
    text: str
    partners: list[int] = []


class Ring(Part):
    """Photos at equal steps about one axis."""

    photos: list[int]
    step_deg: float
    radius: float
    height: float
    span_deg: float = 0.0


class Turntable(Part):
    """The axis about which the object was turned, and the rings of photos round it, in the plain frame."""

    point: list[float]
    direction: list[float]
    rings: list[Ring]
    slips: list[tuple[int, str]] = []  #: photos that stand aside of their step, and by how much in words


class SolvedLens(Part):
    """The first lens of the block."""

    width: int = 0
    height: int = 0
    f: float = 0.0
    cx: float = 0.0
    cy: float = 0.0
    k: list[float] = [0.0, 0.0, 0.0]
    p: list[float] = [0.0, 0.0]
    b: list[float] = [0.0, 0.0]
    start_f: float = 0.0  #: what solving started from


class Told(Part):
    """What a sitting's own sightings say of one of its lenses: see `core.poses.lensprior`."""

    lens: int  #: its row
    photos: list[int]
    mean: list[float]
    information: list[list[float]]


class ToldBy(Part):
    """What another sitting told of a lens here."""

    sitting: int
    name: str
    count: int  #: of its photos
    lens: int  #: the row of the lens here
    mean: list[float]
    information: list[list[float]]


class Parted(Part):
    """A sitting of the same lens, as the files say, that contradicts this one, and in what."""

    sitting: int
    name: str
    why: str


class Shared(Part):
    """What was taken of other sittings' knowledge of the lens, and how well photos were known without it."""

    taken: list[ToldBy] = []
    parted: list[Parted] = []
    turn_alone_deg: float | None = None
    center_alone_percent: float | None = None


class PosesFigures(Figures):
    """Figures of the Poses stage; dictionaries go by photo id."""

    LINES = (
        "line_of_placed", "line_of_doubt", "line_of_look", "line_of_order", "rms_px", "slip_px", "line_of_known",
        "line_of_alone", "points", "sightings", "line_of_targets", "line_of_still", "line_of_pairs",
        "line_of_bridges", "line_of_fragments", "line_of_turntable", "line_of_hands", "line_of_shared",
        "line_of_focal", "line_of_middle", "line_of_distortion",
    )  # fmt: skip

    mode: str = Field("", validation_alias=AliasChoices("mode", "way"))  #: "start over", "go on" or "adjust"
    photos: int = 0
    solved: int = figure(0, title="Placed", meaning="Photos with a solved pose")
    rms_px: float = figure(
        0.0, title="Residual", unit="px", form=".2f",
        meaning="Root mean square distance between seen and predicted sightings",
    )  # fmt: skip
    turn_sigma_deg: float | None = figure(
        None, title="Turn known to", unit="°", meaning="Standard deviation of a photo's turn; the median photo"
    )
    center_sigma_percent: float | None = figure(
        None, title="Place known to", unit="%",
        meaning="Standard deviation of a photo's place in % of its distance; the median photo",
    )  # fmt: skip
    points: int = figure(0, title="Tie points", meaning="Points of the sparse cloud", form=",")
    sightings: int = figure(
        0, title="Sightings", meaning="Tie points as seen in photos; more per point is better", form=","
    )
    targets: int = figure(0, title="Targets", meaning="Coded targets among the tie points")
    targets_rms_px: float | None = figure(None, title="Residual of targets", unit="px", meaning="As of all sightings")
    still: int = figure(
        0, title="Still features", meaning="Key points that do not move while others do: left out", form=","
    )
    still_share: float = 0.0  #: of all matches
    pairs: int = figure(0, title="Matched pairs", meaning="Photo pairs that show the same surface", form=",")
    pairs_tried: int = 0
    pairs_chosen: str = "all"
    bridges: list = []  #: false bridges: pairs of photos that match but contradict the others
    fragments: list[int] = []  #: photos of groups that nothing connects to the block
    turntable: Turntable | None = None
    features_median: int = 0
    lens: SolvedLens = SolvedLens()
    lens_sigma: dict[str, float] = {}
    lenses: int = 1
    zooms: dict[int, int] = {}  #: photos that were taken with another zoom than most, and its number
    crops: dict[int, int] = {}  #: photos that were cropped, and one of the same lens that was not
    slip_px: float | None = figure(
        None, title="Slip of rows", unit="px",
        meaning="How far a photo's rows slipped from top to bottom (median): the camera moved while they were read",
    )  # fmt: skip
    told: list[Told] = []
    shared: Shared = Shared()
    unit: float = 1.0  #: standard deviation of unit weight
    keep_box: dict = {}  #: fitted round the object, in the plain frame
    reasons: dict[int, WhyLeftOut] = {}
    made_from: dict[int, str] | None = None  #: what the features of each photo were found from
    look: int = 1  #: at which the features were found: 2 is the deeper one, 4 more that from the side
    first_solved: int | None = None  #: photos that stood after the first look, where a deeper one was taken
    unfolded: bool = False  #: whether that look told sides apart that look alike
    by_order: bool = False  #: whether the order of shooting told sides apart that look alike
    loose: int = 0  #: rounds that nothing tells then how they lie to the others
    doubt: str = ""  #: why the block may be wrong although it fits
    match_key: str = ""  #: what matches depend on besides the features
    per_photo: dict[int, PhotoFigures] = {}
    residual_histogram: list[int] = []
    features_s: float = 0.0
    matching_s: float = 0.0
    solving_s: float = 0.0

    def line_of_placed(self):
        return "Placed", f"{self.solved} of {self.photos}", "Photos with a solved pose"

    def line_of_look(self):
        if self.first_solved is None:
            return None
        if self.unfolded:
            told = "The object looks alike from several sides; what turns with it told them apart"
            return "Deeper look", "told sides apart", told
        found = f"{self.first_solved} before it, {self.solved} after"
        if is_slanted(self.look):
            told = "Photos stayed out, so features were sought as well in each photo squeezed as if seen from the side"
            return "Slanted look", found, told
        told = "Photos stayed out, so fainter features were sought as well, and those on what turns with the object"
        return "Deeper look", found, told

    def line_of_order(self):
        if not self.by_order:
            return None
        told = "The object looks alike from several sides. Photos that were taken one after the other stand side by "
        told += "side, and features on one side only tell how rounds lie to each other"
        return "Order of shooting", "told sides apart", told

    def line_of_doubt(self):
        return ("Doubtful", self.doubt, "The block fits and may be wrong all the same") if self.doubt else None

    def line_of_known(self):
        if self.turn_sigma_deg is None:
            return None
        told = "Standard deviations of a photo's turn, and of its place in % of its distance; the median photo"
        return "Known to", f"{self.turn_sigma_deg:.3f}°, {self.center_sigma_percent:.3f} %", told

    def line_of_targets(self):
        if not self.targets:
            return None
        told = "Coded targets among the tie points, and their residual"
        return "Targets", f"{self.targets}, {self.targets_rms_px:.3f} px", told

    def line_of_still(self):
        return self._line("still") if self.still else None

    def line_of_pairs(self):
        how = CHOSEN.get(self.pairs_chosen, "all pairs")
        told = f"Photo pairs that show the same surface, of those tried: {how}"
        return "Matched pairs", f"{self.pairs:,} of {self.pairs_tried:,}", told

    def told_of_pairs(self):
        """Which pairs were matched, and why these, in a sentence."""
        if not self.pairs_tried:
            return ""
        how = CHOSEN.get(self.pairs_chosen, "all pairs")
        left = len(self.bridges)
        false = f" {left} more matched by mistake and contradict the others: they were left out." if left else ""
        return f"Of {self.pairs_tried:,} pairs that were tried ({how}) {self.pairs:,} show the same surface.{false}"

    def line_of_bridges(self):
        told = "Pairs that match but contradict the others: left out"
        return ("False bridges", f"{len(self.bridges)}", told) if self.bridges else None

    def line_of_fragments(self):
        told = "Photos of groups that nothing connects to the block"
        return ("Fragments", ", ".join(map(str, self.fragments)), told) if self.fragments else None

    def line_of_turntable(self):
        found = self.turntable
        if found is None:
            return None
        steps = ", ".join(f"{len(r.photos)} × {r.step_deg:.1f}°" for r in found.rings)
        slips = f", {len(found.slips)} slipped" if found.slips else ""
        told = "Rings about one axis: photos and the step between them. " + "; ".join(w for _, w in found.slips)
        return "Turntable", steps + slips, told

    def line_of_hands(self):
        told = "Mirrored photos give a mirrored object. Coded targets can be read one way only; without them nothing "
        told += "in the photos tells, but for writing on the object: look whether it can be read"
        return "Left and right", "told by targets" if self.targets else "cannot be told", told

    def line_of_shared(self):
        taken = self.shared.taken
        if not taken:
            return None
        who = f"{len(taken)} sittings" if len(taken) > 1 else shortened(taken[0].name)
        told = "Sittings that were taken with the same lens, and what they know of it counts here: "
        told += ", ".join(f"{t.name} ({t.count} photos)" for t in taken) + ". To part them, switch “Share the lens” off"
        return "Lens shared with", f"{who}, {sum(t.count for t in taken)} photos", told

    def line_of_alone(self):
        s = self.shared
        if not s.taken:
            return None
        told = "What a photo's turn and place would be known to if the lens were not shared"
        return "Known alone to", f"{s.turn_alone_deg:.3f}°, {s.center_alone_percent:.3f} %", told

    def _spread(self, name):
        return f" ± {self.lens_sigma[name]:.1f}" if name in self.lens_sigma else ""

    def line_of_focal(self):
        told = f"Solved; to start from, it was {self.lens.start_f:.0f} px"
        return "Focal length", f"{self.lens.f:.1f}{self._spread('f')} px", told

    def line_of_middle(self):
        text = f"{self.lens.cx:.1f}{self._spread('cx')}, {self.lens.cy:.1f}{self._spread('cy')} px"
        return "Principal point", text, "Where the optical axis meets the picture"

    def line_of_distortion(self):
        return "k1, k2, k3", ", ".join(f"{x:.4f}" for x in self.lens.k), "Radial distortion (Brown-Conrady)"
