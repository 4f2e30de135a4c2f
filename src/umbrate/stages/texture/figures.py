"""What the Texture stage finds out about the texture it made."""

from ...job.figures import Figures, figure
from ...job.sidebyside import PLAIN


class TextureFigures(Figures):
    """Figures of the Texture stage. Lengths are in the plain frame: they hold whatever scale comes later."""

    LINES = (
        "triangles",
        "line_of_pages",
        "line_of_photos",
        "line_of_unseen",
        "line_of_left_out",
        "line_of_detail",
        "line_of_source",
    )

    triangles: int = figure(0, title="Triangles", meaning="Triangles of the textured surface", form=",")
    side: int = 0  #: texels along a page
    pages: int = 0
    covered: float = 0.0  #: share of the pages that charts cover
    charts: int = 0
    texels: float = 0.0  #: for a unit of the plain frame
    pixels: float = 0.0  #: of the photos, for the same, in the median over triangles
    unseen: float = 0.0  #: share of the area that no photo shows
    left_out: float = 0.0
    detail_side: int = 0  #: texels along a page of normals and of openness
    normals: bool = False  #: whether there are pages of normals
    openness: bool = False  #: whether there are pages of openness
    speed: float | None = None  #: how much of the work that the forecast counts was done in a second
    photos: int = 0  #: photos that something is taken from
    of_photos: int = 0
    missing: list[str] = []  #: photos that are not on disk any more
    source: str = ""
    from_plain: list[list[float]] = PLAIN  #: similarity from the plain frame to that of the surface
    seconds: float = 0.0

    def line_of_pages(self):
        told = f"{self.charts:,} charts, which cover {100 * self.covered:.0f} % of them"
        return "Pages", f"{self.pages} x {self.side:,}²", told

    def line_of_photos(self):
        share = self.texels / self.pixels if self.pixels else 0.0
        told = "Texels for a pixel of the photos, along a line: under 1 the photos are sharper than the texture"
        return "Texels a pixel", f"{share:.2f}", told

    def line_of_unseen(self):
        return "Made up", f"{100 * self.unseen:.1f} %", "Share of the area that no photo shows: colors from round it"

    def line_of_left_out(self):
        told = "Share of what photos show that differs from what most of them show there: not taken"
        return "Left out", f"{100 * self.left_out:.1f} %", told

    def line_of_detail(self):
        have = [n for n, on in (("normals", self.normals), ("occlusion", self.openness)) if on]
        if not have:
            return None
        told = "Pages beside the texture: the fine surface's detail, and how open each place lies"
        return "Maps", f"{' and '.join(have)}, {self.detail_side:,}²", told

    def line_of_source(self):
        told = "The surface it is on, and how many photos it is taken from"
        return "From", f"{self.source}, {self.photos} of {self.of_photos} photos", told
