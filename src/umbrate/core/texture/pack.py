"""Charts packed onto square pages: each is let down where it comes to lie lowest, by its outline below and above.

The highest charts come first, and a page is filled from below (Lévy, Petitjean, Ray and Maillot 2002, least squares
conformal maps, section 5). How many texels a length gets is found by trying: as many as just fit.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit

from ..errors import UmbrateError

TRIES, ROUGH = 9, 4  #: of finding the largest scale, and by how much smaller pages are for that
FULL = 0.9  #: share of the pages that charts cover at the very best
STEPS = 256  #: places along a page that are tried at most for a chart, then those round the best of them


@dataclass(frozen=True)
class Packed:
    """Where charts lie.

    Attributes
    ----------
    scale : float
        Texels for a unit of the charts' lengths.
    page : (parts,) int64
    shift : (parts, 2) float64
        Of each chart on its page: texel = scale * place + shift, from the lower left corner of the page.
    covered : float
        Share of the pages that charts cover, without their padding.
    """

    scale: float
    page: np.ndarray
    shift: np.ndarray
    covered: float


@njit(cache=True, nogil=True)
def _outlines(places, corner, part, scale, pad, begin, below, above):
    """The lowest and highest texel of each column of each chart, its padding counted; columns begin at -pad."""
    for t in range(corner.shape[0]):
        p = part[t]
        n = begin[p + 1] - begin[p]
        for k in range(3):
            i, j = corner[t, k], corner[t, (k + 1) % 3]
            ax, ay, bx, by = scale * places[i, 0], scale * places[i, 1], scale * places[j, 0], scale * places[j, 1]
            if ax > bx:
                ax, ay, bx, by = bx, by, ax, ay
            for c in range(max(int(np.floor(ax)), 0), int(np.floor(bx)) + 1):
                # the part of the side within the column
                s = min(max((c - ax) / (bx - ax), 0.0), 1.0) if bx > ax else 0.0
                e = min(max((c + 1 - ax) / (bx - ax), 0.0), 1.0) if bx > ax else 1.0
                y0, y1 = ay + s * (by - ay), ay + e * (by - ay)
                low, high = int(np.floor(min(y0, y1))) - pad, int(np.floor(max(y0, y1))) + 1 + pad
                for x in range(max(c, 0), min(c + 2 * pad + 1, n)):
                    m = begin[p] + x
                    below[m], above[m] = min(below[m], low), max(above[m], high)


@njit(cache=True, nogil=True)
def _let_down(order, begin, below, above, side, pages, page, at):
    """Put charts onto pages, in an order; whether all of them found room. `at` (parts, 2) : column and row of each."""
    horizon = np.zeros((pages, side), np.int64)
    for q in range(order.shape[0]):
        k = order[q]
        w = begin[k + 1] - begin[k]
        if w > side:
            return False
        best, best_x, best_y, where = np.int64(1 << 60), -1, -1, -1
        step = max(1, (side - w) // STEPS)
        for g in range(pages):
            for x in range(0, side - w + 1, step):
                y = np.int64(-(1 << 60))
                for c in range(w):
                    y = max(y, horizon[g, x + c] - below[begin[k] + c])
                top, lost = np.int64(0), np.int64(0)
                for c in range(w):
                    top = max(top, y + above[begin[k] + c])
                    lost += y + below[begin[k] + c] - horizon[g, x + c]
                if top > side:
                    continue
                # what lies low, and leaves little room under it that nothing can use any more
                cost = top + lost // w
                if cost < best:
                    best, best_x, best_y, where = cost, x, y, g
            if where == g:
                break
        if where < 0:
            return False
        page[k], at[k, 0], at[k, 1] = where, best_x, best_y
        for c in range(w):
            horizon[where, best_x + c] = best_y + above[begin[k] + c]
    return True


def _try(charts, scale, pad, side, pages):
    """Pages and places of charts at a scale, or None where they do not fit."""
    wide = np.floor(scale * charts.size[:, 0]).astype(np.int64) + 1 + 2 * pad
    high = scale * charts.size[:, 1] + 2 * pad
    if wide.max(initial=0) > side or high.max(initial=0) > side:
        return None
    begin = np.append(0, np.cumsum(wide))
    below, above = np.full(int(begin[-1]), 1 << 30, np.int64), np.full(int(begin[-1]), -(1 << 30), np.int64)
    _outlines(charts.place, charts.corner, charts.part, scale, pad, begin, below, above)
    order = np.lexsort((np.arange(len(wide)), -wide, -high))
    page, at = np.zeros(len(wide), np.int64), np.zeros((len(wide), 2), np.int64)
    if not _let_down(order, begin, below, above, side, pages, page, at):
        return None
    return page, at


def packed(charts, side, pages=1, padding=4, scale=None):
    """Charts on square pages.

    Parameters
    ----------
    charts : Charts
    side : int
        Texels along a page.
    pages : int
        How many there are at most.
    padding : int
        Texels round each chart that no other one has.
    scale : float, optional
        Texels for a unit; as many as fit where not given.

    Returns
    -------
    Packed

    Raises
    ------
    UmbrateError
        Where they do not fit.
    """
    area = _area(charts)
    if scale is None:
        # on smaller pages first: the same but for the padding
        low, high = 0.0, np.sqrt(FULL * pages * side**2 / max(area, 1e-300))
        for _ in range(TRIES):
            middle = (low + high) / 2 if low else high * 0.8
            if _try(charts, middle / ROUGH, max(1, -(-padding // ROUGH)), side // ROUGH, pages) is not None:
                low = middle
            else:
                high = middle
        scale = low or high
        while (found := _try(charts, scale, padding, side, pages)) is None:
            scale *= 0.97
            if scale * np.sqrt(area) < 1:
                raise UmbrateError(
                    f"{len(charts.size):,} charts do not fit onto {pages} pages of {side} texels. Take larger pages."
                )
    else:
        found = _try(charts, scale, padding, side, pages)
        if found is None:
            raise UmbrateError(
                f"{scale:.3g} texels a unit do not fit onto {pages} pages of {side} texels. Take more pages, or fewer "
                "texels."
            )
    page, at = found
    return Packed(float(scale), page, at + float(padding), area * scale**2 / (int(page.max()) + 1) / side**2)


def _area(charts):
    T = charts.place[charts.corner]
    u, v = T[:, 1] - T[:, 0], T[:, 2] - T[:, 0]
    return float(np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]).sum() / 2)
