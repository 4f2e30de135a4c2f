"""What the Cloud stage finds out about the cloud it made."""

from ...job.figures import Figures, figure

PLAIN = [[1.0, 0, 0, 0], [0, 1.0, 0, 0], [0, 0, 1.0, 0], [0, 0, 0, 1.0]]


class CloudFigures(Figures):
    """Figures of the Cloud stage."""

    LINES = ("points", "photos_per_point", "score", "pixel_size", "line_of_removed", "line_of_thinned")

    points: int = figure(0, title="Points", meaning="Points of the dense cloud", form=",")
    photos_per_point: float = figure(
        0.0, title="Photos a point", meaning="Mean number of photos that agree on a point", form=".1f"
    )
    score: float = figure(0.0, title="Likeness", meaning="Median correlation of the patches, 1 is the same", form=".2f")
    pixel_size: float = figure(
        0.0,
        title="Pixel on the object",
        unit="of the distance",
        meaning="Size of one pixel at the photo scale used, as a share of the photos' distance",
        form=".2g",
    )
    fused: int = 0
    thinned: float = 0.0  #: distance to which too many points were thinned, in the frame of the cloud; or 0
    removed_isolated: int = 0
    removed_outline: int = 0
    spacing: float = 0.0  #: of the points, in the frame of the cloud
    photos: int = 0
    reused: int = 0  #: depth maps that were computed before
    photo_scale: int = 1
    from_plain: list[list[float]] = PLAIN  #: similarity from the plain frame to that of the cloud
    agreeing: list[int] = []  #: points by the number of photos that agree
    sure: list[int] = []
    photos_histogram: list[int] = []
    prepare_s: float = 0.0
    depth_s: float = 0.0
    fuse_s: float = 0.0
    speed: float | None = None  #: hypotheses a second of one thread, where enough was computed to tell

    def line_of_thinned(self):
        if not self.thinned:
            return None
        told = "More than Points at most allows: thinned to an even distance while they were made"
        return "Points before thinning", f"{self.fused:,}", told

    def line_of_removed(self):
        told = f"Isolated: {self.removed_isolated:,}; outside the masks' outlines: {self.removed_outline:,}"
        return "Removed", f"{self.removed_isolated + self.removed_outline:,}", told
