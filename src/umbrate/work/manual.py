"""The manual as it is shipped: its pages, their sections, and what is found in them by words."""

import re
from dataclasses import dataclass
from functools import lru_cache

from .shipped import shipped

FIRST = "guide.md"
#: pages in the order one reads them; others come after these
ORDER = (
    FIRST, "photos-and-masks.md", "hard-objects.md", "targets.md", "poses.md", "measuring.md", "joining.md", "cloud.md",
    "surface.md", "texture-and-delivery.md", "cluster.md", "performance.md", "safety.md", "formats.md",
)  # fmt: skip
CODE = re.compile(r"```.*?```", re.S)
MARKS = re.compile(r"[*`|_>#]|\]\([^)]*\)|!?\[")


@dataclass(frozen=True)
class Section:
    """A heading of a page with what stands below it, as plain words."""

    page: str
    title: str
    level: int
    text: str

    @property
    def address(self):
        """Where it is: ``page.md#Title``; of a page's own heading the page alone."""
        return self.page if self.level == 1 else f"{self.page}#{self.title}"


def folder():
    """The manual's folder, or None where it is not shipped."""
    return shipped("docs", FIRST)


@lru_cache(1)
def sections():
    """All Sections of all pages, in reading order."""
    place = folder()
    if place is None:
        return ()
    names = sorted((f.name for f in place.glob("*.md")), key=lambda n: (ORDER.index(n) if n in ORDER else 99, n))
    out = []
    for name in names:
        text = CODE.sub("", (place / name).read_text(encoding="utf-8"))
        parts = re.split(r"^(#{1,3}) +(.+)$", text, flags=re.M)
        for level, title, body in zip(parts[1::3], parts[2::3], parts[3::3], strict=True):
            out.append(Section(name, MARKS.sub("", title).strip(), len(level), MARKS.sub("", body)))
    return tuple(out)


def found(words):
    """Sections that have all words, those with them in their title first."""
    words = [w.lower() for w in words.split()]
    if not words:
        return list(sections())
    out = []
    for k, s in enumerate(sections()):
        title, text = s.title.lower(), s.text.lower()
        if all(w in title or w in text for w in words):
            # in the title; else how often it is written
            rank = -sum(100 * (w in title) + min(text.count(w), 20) for w in words)
            out.append((rank, k, s))
    return [s for _, _, s in sorted(out, key=lambda x: x[:2])]
