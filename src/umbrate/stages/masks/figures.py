"""What the Masks stage finds out about the masks."""

from ...job.figures import Figures, figure

METHODS = {
    "files": "mask files",
    "alpha": "the photos' alpha channel",
    "plate": "a backdrop plate",
    "still": "what stands still",
    "color": "the backdrop's color",
}


class MasksFigures(Figures):
    """Figures of the Masks stage; dictionaries go by photo id."""

    LINES = ("count", "filled", "around", "made_from")

    photos: int = 0
    masks: int = figure(0, title="Photos with a mask", meaning="The others are used whole")
    share: float | None = figure(
        None, title="Object fills", meaning="Share of the picture inside the mask, median of the photos"
    )
    turning: float = figure(
        0.0,
        title="Turns with it",
        meaning="Share of the picture that turns with the object: used where photos stay out",
    )
    method: str = figure("", title="Made from", meaning="Where the masks come from")
    sharpness: dict[int, float] = {}  #: inside the masks
    soft: list[int] = []
    things: dict[int, str] = {}  #: key of the mask before what turns along was marked in it, where that differs
    soft_edge: int = 0  #: pixels inside and outside the outline that count the less, the nearer to it

    def count(self):
        return "Photos with a mask", f"{self.masks} of {self.photos}", "The others are used whole"

    def filled(self):
        text = "-" if self.share is None else f"{100 * self.share:.1f} %"
        return "Object fills", text, "Share of the picture inside the mask, median of the photos"

    def around(self):
        return None if not self.turning else (
            "Turns with it", f"{100 * self.turning:.1f} %",
            "Share of the picture that turns with the object (disc, mat): used where photos stay out",
        )  # fmt: skip

    def made_from(self):
        text = {**METHODS, "several": "several ways"}.get(self.method, "-")
        return "Made from", text, "Where the masks come from"
