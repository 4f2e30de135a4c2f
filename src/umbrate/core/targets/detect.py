"""Targets in a picture: dots, and which of them have a ring that names them.

Once a dot is measured, its ellipse says where its ring must lie. The two tracks are sampled all round and
compared sector by sector; where the sectors begin is found by trying, since the right beginning makes all
differences large. The reading is certain where the differences are clear in every sector and the word is at most
two of them away from one of the code; else it is doubtful, and kept apart.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit

from . import dots as d
from .code import BITS, INNER, MENDED, OUTER, nearest_word
from .dots import find_dots

PHASES = 8  #: steps a sector is divided into to find where it begins
LIKE = 0.30  #: the ring of a certain reading differs so much from a perfect one at most (root mean square)
DOUBT = 0.42  #: and that of a doubtful one
CLEAR = 0.12  #: a sector's difference is clear from this share of the contrast on
PLAIN, CODED, DOUBTFUL = 0, 1, 2


@dataclass(frozen=True)
class Targets:
    """What was found in a picture, row by row.

    Attributes
    ----------
    dots : (n, 12)
        See `dots.fit_dots`.
    kind : (n,) int
        `PLAIN` dot, `CODED` or `DOUBTFUL`: a ring whose number is not sure.
    number : (n,) int
        The target's number; -1 for a plain dot.
    errors : (n,) int
        Sectors that were read wrongly and mended.
    unlike : (n,) float
        How much the ring differs from a perfect one: 0 is perfect, see `LIKE`.
    """

    dots: np.ndarray
    kind: np.ndarray
    number: np.ndarray
    errors: np.ndarray
    unlike: np.ndarray

    @property
    def xy(self):
        """Centers (n, 2) of the ellipses, in pixels."""
        return self.dots[:, :2]

    def rows(self, kind):
        """The Targets of one kind."""
        k = self.kind == kind
        return Targets(self.dots[k], self.kind[k], self.number[k], self.errors[k], self.unlike[k])


@njit(cache=True, nogil=True)
def _sample(gray, dot, radii, steps, out):
    """Levels (0 as dark as the dot, 1 as bright as its surroundings) at radii and angles round a dot."""
    h, w = gray.shape
    x0, y0, b11, b12, b22 = dot[0], dot[1], dot[2], dot[3], dot[4]
    det = b11 * b22 - b12 * b12
    a11, a12, a22 = b22 / det, -b12 / det, b11 / det
    low, span = dot[6], dot[7] - dot[6]
    for i in range(steps):
        angle = 2 * np.pi * (i + 0.5) / steps
        c, s = np.cos(angle), np.sin(angle)
        for j in range(radii.shape[0]):
            x = x0 + radii[j] * (a11 * c + a12 * s)
            y = y0 + radii[j] * (a12 * c + a22 * s)
            if x < 0 or y < 0 or x >= w - 1 or y >= h - 1:
                return False
            u, v = int(x), int(y)
            p, q = x - u, y - v
            top = gray[v, u] * (1 - p) + gray[v, u + 1] * p
            low_row = gray[v + 1, u] * (1 - p) + gray[v + 1, u + 1] * p
            out[i, j] = (top * (1 - q) + low_row * q - low) / span
    return True


_RADII = np.array([*np.linspace(INNER[0] + 0.2, INNER[1] - 0.2, 3), *np.linspace(OUTER[0] + 0.2, OUTER[1] - 0.2, 3)])


def read_ring(gray, dot):
    """Read the ring round a dot.

    Returns
    -------
    number, errors : int
    unlike : float
        See `Targets`; infinite where there is no ring.
    """
    levels = np.empty((BITS * PHASES, 6))
    if not _sample(gray, dot, _RADII, BITS * PHASES, levels):
        return -1, BITS, np.inf
    inner, outer = levels[:, :3].mean(1), levels[:, 3:].mean(1)
    difference = outer - inner
    # the middle of each sector for every beginning: its edges are mixed with its neighbors
    best, chosen = -1.0, None
    for phase in range(PHASES):
        turned = np.roll(difference, -phase).reshape(BITS, PHASES)[:, 2:-2].mean(1)
        score = np.abs(turned).sum()
        if score > best:
            best, chosen = score, phase
    sectors = np.roll(difference, -chosen).reshape(BITS, PHASES)[:, 2:-2].mean(1)
    if np.sum(np.abs(sectors) < CLEAR) > MENDED:
        return -1, BITS, np.inf
    number, _, errors = nearest_word(sectors > 0)
    bits = sectors > 0
    # a perfect ring has full differences, and the same brightness in every sector
    both = np.stack([np.roll(x, -chosen).reshape(BITS, PHASES)[:, 2:-2].mean(1) for x in (inner, outer)], 1)
    perfect = np.stack([~bits, bits], 1).astype(float)
    # print and shade may make the ring a little darker or flatter than the dot and its ground
    fit = np.polyfit(perfect.ravel(), both.ravel(), 1)
    if fit[0] < 0.35:
        return -1, BITS, np.inf
    unlike = float(np.sqrt(np.mean((both - np.polyval(fit, perfect)) ** 2)) / fit[0])
    return number, errors, unlike


def find_targets(gray):
    """All dots of a picture and the targets among them.

    Parameters
    ----------
    gray : (h, w) float32
        0 to 255.

    Returns
    -------
    Targets
    """
    gray = np.ascontiguousarray(gray, np.float32)
    dots = find_dots(gray)
    n = len(dots)
    kind, number, errors = np.full(n, PLAIN), np.full(n, -1), np.zeros(n, int)
    unlike = np.full(n, np.inf)
    for k, dot in enumerate(dots):
        found, wrong, u = read_ring(gray, dot)
        if found < 0 or u > DOUBT:
            continue
        certain = wrong <= MENDED and u <= LIKE and not (wrong == MENDED and u > 0.7 * LIKE)
        kind[k], number[k], errors[k], unlike[k] = CODED if certain else DOUBTFUL, found, wrong, u
    # the same number twice in a picture: one of them is wrong, and nothing says which
    for m in np.unique(number[kind == CODED]):
        twice = np.flatnonzero((kind == CODED) & (number == m))
        if len(twice) > 1:
            kind[twice] = DOUBTFUL
    return Targets(dots, kind, number, errors, unlike)


def quality(targets):
    """How well each target can be trusted, 0 to 1: its contrast over noise and how like a perfect ring it is."""
    contrast = targets.dots[:, d.BRIGHT] - targets.dots[:, d.DARK]
    clear = 1.0 / (1.0 + (8.0 * targets.dots[:, d.NOISE] / np.maximum(contrast, 1e-6)) ** 2)
    return np.where(np.isfinite(targets.unlike), clear * np.clip(1 - targets.unlike / DOUBT, 0, 1), clear)
