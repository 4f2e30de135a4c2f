"""What the Surface stage finds out about the surface it made."""

from ...job.figures import Figures, figure
from ...job.sidebyside import PLAIN


class SurfaceFigures(Figures):
    """Figures of the Surface stage. Lengths are in spacings of the cloud: they hold whatever scale comes later."""

    LINES = ("triangles", "cell", "deviation", "line_of_filled", "line_of_mended", "line_of_source")

    triangles: int = figure(0, title="Triangles", meaning="Triangles of the surface", form=",")
    vertices: int = 0
    cell: float = figure(
        0.0, title="Cell", unit="spacings", meaning="Width of the cells it was cut out of, in distances of the cloud's "
        "points from each other", form=".2f",
    )  # fmt: skip
    deviation: float = figure(
        0.0, title="Off the cloud", unit="spacings", meaning="Half of the surface lies no farther from the mean of the "
        "cloud's points than this", form=".3f",
    )  # fmt: skip
    closed: bool = True
    filled: float = 0.0  #: share of the area without support
    handles: int = 0
    dropped: int = 0
    holes: int = 0  #: rims of an open surface
    source: str = ""  #: name of the cloud
    points: int = 0
    spacing: float = 0.0  #: of the cloud's points, in the frame of the surface
    from_plain: list[list[float]] = PLAIN  #: similarity from the plain frame to that of the surface
    seconds: float = 0.0
    speed: float | None = None  #: how much of the work that `cost` counts was done in a second, where there was enough

    def line_of_filled(self):
        if not self.closed:
            return "Rims", f"{self.holes:,}", "Places where the open surface ends: its outer rim, and holes"
        return "Filled", f"{100 * self.filled:.1f} %", "Share of the area that no points hold: closed by the function"

    def line_of_mended(self):
        told = (
            "Handles and tunnels that noise had made, cut and closed; and pieces too small to be the object, left out"
        )
        return "Left out", f"{self.handles} handles, {self.dropped} pieces", told

    def line_of_source(self):
        return (
            "From",
            f"{self.source}, {self.points:,} points",
            "The cloud it was made from, as it was cleaned then, or depth maps",
        )
