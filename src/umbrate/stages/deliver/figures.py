"""What the Deliver stage finds out: what was delivered, from what, and how it was checked."""

from pydantic import BaseModel

from ...job.figures import Figures


class Check(BaseModel):
    """One thing that was looked at: what was found, whether it is as it should be, and what would mend it."""

    text: str
    good: bool = True
    remedy: tuple | None = None


class Made(BaseModel):
    """One delivery."""

    purpose: str
    name: str  #: of its files, as it was asked for
    folder: str
    files: list[tuple[str, int, str]]  #: name below the folder, bytes, SHA-256
    checks: list[Check]
    when: str
    settings: dict  #: those of its purpose
    sources: dict[str, tuple[int | None, str]]  #: what it was made from: see `DeliverStage.sources_of`

    @property
    def bytes(self):
        """Of all files."""
        return sum(n for _, n, _ in self.files)

    @property
    def good(self):
        """Whether all was as it should be."""
        return all(c.good for c in self.checks)


class DeliverFigures(Figures):
    """Figures of the Deliver stage: all deliveries of the sitting that are listed, the newest last."""

    LINES = ("line_of_made", "line_of_size")

    made: list[Made] = []
    seconds: float = 0.0

    def line_of_made(self):
        n = len(self.made)
        return "Deliveries", f"{n}", "Files made for a purpose, listed with their checks"

    def line_of_size(self):
        size = sum(m.bytes for m in self.made)
        return "Size", size_told(size), "Of all their files"


def size_told(size):
    """Bytes in words."""
    for unit in ("bytes", "kB", "MB"):
        if size < 1000 or unit == "MB":
            return f"{size:,.0f} {unit}" if unit == "bytes" else f"{size:,.1f} {unit}"
        size /= 1000
