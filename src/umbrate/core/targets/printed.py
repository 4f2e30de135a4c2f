"""Known lengths of our own sheets, recognized by the targets' numbers and by how they lie.

The numbers say which sheet it is, but the same bar is printed in several lengths and the mat on several papers. The
shape decides: along a bar by where the middle target divides it, on the mat by the pattern of the whole ring.
"""

from dataclasses import dataclass

import numpy as np

from ..geometry.similarity import fit_similarity
from . import sheets

FITS = 0.004  #: targets may lie so far from a sheet's pattern, as a share of its size, and still be of that sheet


@dataclass(frozen=True)
class PrintedLength:
    """A length of a printed sheet between two targets: numbers, mm, and the kind of sheet."""

    first: int
    second: int
    length: float
    sheet: str


def _shapes():
    """Sheets that may lie in a picture: kind, places (n, 3) of its targets by number, its known lengths."""
    for length in (100.0, 150.0, 200.0, 250.0):
        s = sheets.bars("A3", 5.0, length)
        for k in range(0, len(s.targets), 3):
            row = s.targets[k : k + 3]
            yield (
                "bar",
                {m.number: (m.x, m.y, 0.0) for m in row},
                [b for b in s.bars if (b.first, b.second) == (row[0].number, row[2].number)],
            )
    for paper in sheets.PAPERS:
        s = sheets.mat(paper)
        yield f"mat {paper}", {m.number: (m.x, m.y, 0.0) for m in s.targets}, s.bars


def printed_lengths(numbers, points):
    """The known lengths among targets.

    Parameters
    ----------
    numbers : (n,) int
    points : (n, 3)
        Their places, in any unit and frame.

    Returns
    -------
    list of PrintedLength
        One for each bar and mat whose targets lie as they are printed.
    """
    at = {int(n): np.asarray(p, float) for n, p in zip(numbers, points, strict=True)}
    best = {}
    for kind, places, lengths in _shapes():
        shared = [n for n in places if n in at]
        usable = [b for b in lengths if b.first in at and b.second in at]
        if len(shared) < 3 or not usable:
            continue
        A, B = np.array([places[n] for n in shared]), np.array([at[n] for n in shared])
        M = fit_similarity(B, A)
        off = np.linalg.norm(B @ M[:3, :3].T + M[:3, 3] - A, axis=1).max() / np.ptp(A, axis=0).max()
        if off > FITS:
            continue
        for b in usable:
            key = (b.first, b.second)
            if key not in best or off < best[key][0]:
                best[key] = off, PrintedLength(b.first, b.second, b.length, kind)
    return [p for _, p in sorted(best.values(), key=lambda x: (x[1].first, x[1].second))]
