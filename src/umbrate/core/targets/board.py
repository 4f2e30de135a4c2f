"""A plain checkerboard: many people own one, so it serves too.

Where four squares meet the picture is a saddle: bright across one diagonal, dark across the other. Saddles are
found by the determinant of second derivatives, their place by the point that all edges round it run through
(Forstner and Gulch 1987), and the board by walking from one corner to the next along the edges, each step
predicted from the one before. No square has to be whole and no outline seen.
"""

from dataclasses import dataclass

import numpy as np
import scipy

from ..errors import UmbrateError
from ..imaging.filters import halve_by_area

SMALL = 1100  #: corners are looked for in a picture halved until its longer side is no longer than this
STEP_ERROR = 0.3  #: a corner lies where it is predicted, give or take this share of a step
FEWEST = 12
AGREE = 0.25  #: edges have a width, and their halves disagree where the corner does not: so much is the corner's


@dataclass(frozen=True)
class Board:
    """The corners of a checkerboard.

    Attributes
    ----------
    columns, rows : int
        Inner corners of the part that was found.
    xy : (rows, columns, 2)
        Pixels; NaN where a corner was not found.
    sigma : float
        Standard deviation of a corner's coordinate, in pixels, as far as the picture tells.
    """

    columns: int
    rows: int
    xy: np.ndarray
    sigma: float


def _saddles(gray, sigma):
    """Saddle points (n, 2) of a picture and how strong they are (n,), strongest first."""
    xx, yy, xy = (scipy.ndimage.gaussian_filter(gray, sigma, order=o) for o in ((0, 2), (2, 0), (1, 1)))
    strength = np.maximum(xy * xy - xx * yy, 0)
    peak = strength == scipy.ndimage.maximum_filter(strength, size=2 * int(2 * sigma) + 1)
    margin = int(3 * sigma)
    peak[:margin] = peak[-margin:] = False
    peak[:, :margin] = peak[:, -margin:] = False
    v, u = np.nonzero(peak & (strength > 0.02 * np.percentile(strength, 99.9)))
    order = np.argsort(-strength[v, u], kind="stable")[:3000]
    return np.stack([u, v], 1)[order].astype(float), strength[v, u][order]


def _is_corner(gray, at, radius):
    """Whether dark and bright follow each other four times round a point."""
    a = 2 * np.pi * np.arange(32) / 32
    ring = scipy.ndimage.map_coordinates(
        gray, [at[1] + radius * np.sin(a), at[0] + radius * np.cos(a)], order=1, mode="nearest"
    )
    low, high = ring.min(), ring.max()
    if high - low < 12:
        return False
    bright = ring > 0.5 * (low + high)
    if (bright != np.roll(bright, 1)).sum() != 4:
        return False
    # opposite sides are alike
    return float(np.abs(ring - np.roll(ring, 16)).mean()) < 0.35 * (high - low)


def refine_corners(gray, corners, radius, rounds=25):
    """Where the edges round corners meet, to a fraction of a pixel.

    Parameters
    ----------
    gray : (h, w) float32
    corners : (n, 2)
    radius : float or (n,)
        Half the side of the window, in pixels.

    Returns
    -------
    corners : (n, 2)
    sigma : (n,)
        Standard deviation of each coordinate from how well the edges agree; infinite where they do not meet.
    """
    out, sigma = np.array(corners, float), np.full(len(corners), np.inf)
    radius = np.broadcast_to(radius, len(out))
    h, w = gray.shape
    for k in range(len(out)):
        r = int(np.clip(radius[k], 2, 15))
        p = out[k].copy()
        u, v = round(p[0]), round(p[1])
        for _ in range(rounds):
            if max(abs(p[0] - u), abs(p[1] - v)) > 0.8:  # not at every half pixel: two windows could take turns
                u, v = round(p[0]), round(p[1])
            if not (r + 2 <= u < w - r - 2 and r + 2 <= v < h - r - 2):
                break
            part = gray[v - r - 2 : v + r + 3, u - r - 2 : u + r + 3].astype(float)
            part = scipy.ndimage.gaussian_filter(part, 0.7)
            gy, gx = np.gradient(part)
            gx, gy = gx[2:-2, 2:-2], gy[2:-2, 2:-2]
            dy, dx = np.mgrid[-r : r + 1, -r : r + 1].astype(float)
            dx, dy = dx + u - p[0], dy + v - p[1]
            weight = np.exp(-0.5 * (dx * dx + dy * dy) / (0.6 * r) ** 2)
            xx, xy, yy = (weight * gx * gx).sum(), (weight * gx * gy).sum(), (weight * gy * gy).sum()
            e = gx * dx + gy * dy
            bx, by = (weight * gx * e).sum(), (weight * gy * e).sum()
            det = xx * yy - xy * xy
            if det < 1e-6 * (xx + yy) ** 2:
                break
            step = np.array([yy * bx - xy * by, xx * by - xy * bx]) / det
            p = p + step
            if np.abs(p - out[k]).max() > r:
                break
            if np.abs(step).max() < 2e-3:
                rest = gx * (dx - step[0]) + gy * (dy - step[1])
                variance = (weight * rest * rest).sum() / max(weight.sum() - 2, 1)
                sigma[k] = AGREE * np.sqrt(variance * 0.5 * (xx + yy) / det)
                out[k] = p
                break
    return out, sigma


def _directions(gray, at, sigma):
    """The two directions, (2, 2) unit vectors, in which the edges run through a saddle."""
    u, v = round(at[0]), round(at[1])
    r = int(4 * sigma) + 1
    part = gray[max(0, v - r) : v + r + 1, max(0, u - r) : u + r + 1]
    y, x = v - max(0, v - r), u - max(0, u - r)
    xx, yy, xy = (scipy.ndimage.gaussian_filter(part, sigma, order=o)[y, x] for o in ((0, 2), (2, 0), (1, 1)))
    values, vectors = np.linalg.eigh([[xx, xy], [xy, yy]])
    if values[0] >= 0 or values[1] <= 0:
        return None
    # where the second derivative is zero: between the axes of the saddle
    a, b = np.sqrt(values[1]), np.sqrt(-values[0])
    one, two = vectors[:, 0] * a + vectors[:, 1] * b, vectors[:, 0] * a - vectors[:, 1] * b
    return np.stack([one / np.linalg.norm(one), two / np.linalg.norm(two)])


def _first_step(corners, k, way):
    """The nearest corner in a direction, or -1."""
    d = corners - corners[k]
    far = np.linalg.norm(d, axis=1)
    along = d @ way
    good = (along > 0.93 * far) & (far > 4)
    return int(np.argmin(np.where(good, far, np.inf))) if good.any() else -1


def _walk(corners, k, directions):
    """Corners by column and row, found from corner k outwards along its two directions."""
    i, j = _first_step(corners, k, directions[0]), _first_step(corners, k, directions[1])
    if i < 0 or j < 0:
        return {}
    grid, taken = {(0, 0): k, (1, 0): i, (0, 1): j}, {k, i, j}
    tree = [(0, 0), (1, 0), (0, 1)]

    def predicted(c, r):
        """Where (c, r) should be, from two in a line or three of a square, and the length of a step there."""
        for dc, dr in ((1, 0), (-1, 0), (0, 1), (0, -1)):
            a, b = grid.get((c - dc, r - dr)), grid.get((c - 2 * dc, r - 2 * dr))
            if a is not None and b is not None:
                return 2 * corners[a] - corners[b], np.linalg.norm(corners[a] - corners[b])
        for dc, dr in ((1, 1), (1, -1), (-1, 1), (-1, -1)):
            a, b, d = grid.get((c - dc, r)), grid.get((c, r - dr)), grid.get((c - dc, r - dr))
            if a is not None and b is not None and d is not None:
                step = min(np.linalg.norm(corners[a] - corners[d]), np.linalg.norm(corners[b] - corners[d]))
                return corners[a] + corners[b] - corners[d], step
        return None, 0.0

    while tree:
        c, r = tree.pop(0)
        for dc, dr in ((1, 0), (-1, 0), (0, 1), (0, -1)):
            place = (c + dc, r + dr)
            if place in grid:
                continue
            p, step = predicted(*place)
            if p is None:
                continue
            far = np.linalg.norm(corners - p, axis=1)
            n = int(far.argmin())
            if far[n] < STEP_ERROR * step and n not in taken:
                grid[place] = n
                taken.add(n)
                tree.append(place)
    return grid


def _fullest(grid):
    """The largest rectangle of a grid in which no corner is missing: (first column, first row, columns, rows)."""
    cs, rs = [c for c, _ in grid], [r for _, r in grid]
    c0, r0 = min(cs), min(rs)
    have = np.zeros((max(rs) - r0 + 1, max(cs) - c0 + 1), bool)
    for c, r in grid:
        have[r - r0, c - c0] = True
    best = (0, 0, 0, 0)
    for top in range(have.shape[0]):
        whole = np.ones(have.shape[1], bool)
        for bottom in range(top, have.shape[0]):
            whole &= have[bottom]
            start = None
            for c in range(have.shape[1] + 1):
                if c < have.shape[1] and whole[c]:
                    start = c if start is None else start
                elif start is not None:
                    if (c - start) * (bottom - top + 1) > best[2] * best[3]:
                        best = (start + c0, top + r0, c - start, bottom - top + 1)
                    start = None
    return best


def find_board(gray, columns=None, rows=None):
    """Find a checkerboard in a picture.

    Parameters
    ----------
    gray : (h, w) float32
        0 to 255.
    columns, rows : int, optional
        Its inner corners; without them the largest whole rectangle of corners is taken.

    Returns
    -------
    Board or None
        With columns and rows as given (the picture may show it turned), x to the right along the columns.

    Raises
    ------
    UmbrateError
        When the size makes no sense.
    """
    if (columns is None) != (rows is None) or (columns is not None and min(columns, rows) < 3):
        raise UmbrateError("A checkerboard has three inner corners or more to each side: write it like 9x6.")
    small, halvings = np.ascontiguousarray(gray, np.float32), 0
    while max(small.shape) > SMALL:
        small, halvings = halve_by_area(small), halvings + 1
    for sigma in (2.0, 3.5):
        found = _board_at(small, sigma, columns, rows)
        if found is not None:
            break
    else:
        return None
    xy = found
    step = np.nanmedian(np.linalg.norm(np.diff(xy, axis=1), axis=2))
    scale = 2.0**halvings
    flat = xy.reshape(-1, 2) * scale + 0.5 * (scale - 1)
    fine, sigma = refine_corners(np.asarray(gray, np.float32), flat, min(15, max(3, 0.3 * step * scale)))
    if not np.isfinite(sigma).all():
        fine[~np.isfinite(sigma)] = np.nan
    if np.isfinite(sigma).mean() < 0.9:
        return None
    return Board(xy.shape[1], xy.shape[0], fine.reshape(xy.shape), float(np.median(sigma[np.isfinite(sigma)])))


def _board_at(small, sigma, columns, rows):
    corners, _ = _saddles(small, sigma)
    if len(corners) < FEWEST:
        return None
    keep = np.array([_is_corner(small, c, 2.2 * sigma) for c in corners])
    corners = corners[keep]
    if len(corners) < FEWEST:
        return None
    fine, s = refine_corners(small, corners, 2.2 * sigma)
    corners = fine[np.isfinite(s)]
    best, tried = None, set()
    for k in range(len(corners)):
        if k in tried:
            continue
        directions = _directions(small, corners[k], sigma)
        if directions is None:
            continue
        grid = _walk(corners, k, directions)
        tried |= set(grid.values()) if len(grid) >= FEWEST else {k}
        if len(grid) >= FEWEST and (best is None or len(grid) > len(best)):
            best = grid
        if len(tried) > 400:
            break
    if best is None:
        return None
    c0, r0, n, m = _fullest(best)
    if columns is not None and {n, m} != {columns, rows}:
        return None
    xy = np.array([[corners[best[c, r]] for c in range(c0, c0 + n)] for r in range(r0, r0 + m)])
    if columns is None and n * m < FEWEST:
        return None
    if columns is not None and (n, m) != (columns, rows):
        xy = xy.transpose(1, 0, 2)
    # x, then y, turn clockwise in the picture: else the board would be seen from behind
    a, b = xy[0, -1] - xy[0, 0], xy[-1, 0] - xy[0, 0]
    return xy if a[0] * b[1] - a[1] * b[0] > 0 else xy[::-1]
