"""Dark dots on a bright ground: found as blobs, measured as ellipses.

A circle seen at a slant is an ellipse (nearly: `circle` corrects the rest). Blobs darker than their surroundings
whose area and second moments agree like an ellipse's are candidates. Each is then measured by fitting the
*picture* of an ellipse: a level inside, a sloping level outside, and an edge blurred by a Gaussian, which is what
a lens and pixels make of it. All pixels near the edge take part, so noise averages out to a few hundredths of a
pixel, and the residuals say how good the fit is. Least squares by Gauss and Newton with damping.

Pixel centers are at whole numbers, as everywhere.
"""

import itertools
import math

import numpy as np
from numba import njit

from ..forest import root
from ..imaging.filters import halve_by_area
from ..imaging.runs import join_runs

WINDOW = 25  #: a pixel is dark beside the mean of so many pixels to each side
LEVELS = 5  #: the picture is halved so often to find large dots
SMALLEST, LARGEST = 7.0, 32.0  #: larger diameter of a dot, in pixels of the level it is looked for
SLANT = 0.3  #: smaller axis over larger one, at least: a little over 70 degrees

#: columns of what `fit_dots` returns
X, Y, B11, B12, B22, BLUR, DARK, BRIGHT, NOISE, SXX, SXY, SYY = range(12)


@njit(cache=True, nogil=True)
def _darker(gray, window, share, least, out):
    """Pixels darker than the mean of their surroundings by a share of it, and by `least` gray values."""
    h, w = gray.shape
    column = np.zeros(w, np.float64)
    for y in range(min(window, h)):
        for x in range(w):
            column[x] += gray[y, x]
    rows = min(window, h)
    for y in range(h):
        if y + window < h:
            for x in range(w):
                column[x] += gray[y + window, x]
            rows += 1
        if y - window - 1 >= 0:
            for x in range(w):
                column[x] -= gray[y - window - 1, x]
            rows -= 1
        total, n = 0.0, 0
        for x in range(min(window, w)):
            total += column[x]
            n += 1
        for x in range(w):
            if x + window < w:
                total += column[x + window]
                n += 1
            if x - window - 1 >= 0:
                total -= column[x - window - 1]
                n -= 1
            mean = total / (n * rows)
            out[y, x] = gray[y, x] < mean - max(least, share * mean)


@njit(cache=True, nogil=True)
def _blobs(dark, out):
    """Area, first and second moments of the connected pieces (by sides), and whether they touch the edge.

    Pieces are joined from runs of a row; `out` (n, 7) takes one row for each.
    """
    h, w = dark.shape
    room = h * (w // 2 + 1)
    start, end, row = np.empty(room, np.int32), np.empty(room, np.int32), np.empty(room, np.int32)
    first = np.empty(h + 1, np.int64)
    n = 0
    for y in range(h):
        first[y] = n
        x = 0
        while x < w:
            if dark[y, x]:
                start[n], row[n] = x, y
                while x < w and dark[y, x]:
                    x += 1
                end[n] = x
                n += 1
            else:
                x += 1
    first[h] = n
    parent = np.empty(n, np.int64)
    join_runs(first, start[:n], end[:n], parent)
    place = np.full(n, -1, np.int64)
    count = 0
    for k in range(n):
        r = root(parent, k)
        if place[r] < 0:
            if count == out.shape[0]:
                continue
            place[r] = count
            out[count, :] = 0.0
            count += 1
        b = place[r]
        y, a, e = float(row[k]), float(start[k]), float(end[k] - 1)
        m = e - a + 1
        sx = 0.5 * (a + e) * m
        sxx = (e * (e + 1) * (2 * e + 1) - (a - 1) * a * (2 * a - 1)) / 6.0
        out[b, 0] += m
        out[b, 1] += sx
        out[b, 2] += m * y
        out[b, 3] += sxx
        out[b, 4] += sx * y
        out[b, 5] += m * y * y
        if a == 0 or e == w - 1 or y == 0 or y == h - 1:
            out[b, 6] = 1.0
    return count


#: a pale print needs the first threshold; a small dot at a slant is connected with its ring unless the second is used
SHARES = (0.08, 0.4)


def _candidates(gray, least=5.0):
    """Centers and covariances (n, 5) of blobs of a gray picture that may be dots: x, y, xx, xy, yy."""
    found = np.vstack([_shaped_like_dots(gray, share, least) for share in SHARES])
    keep = np.ones(len(found), bool)
    order = np.lexsort((found[:, 0].round(), found[:, 1].round()))
    for a, b in itertools.pairwise(order):  # the same blob by both thresholds: the first, which is the larger
        if np.abs(found[a, :2] - found[b, :2]).max() < 0.5:
            keep[max(a, b)] = False
    return found[keep]


def _shaped_like_dots(gray, share, least):
    dark = np.empty(gray.shape, np.bool_)
    _darker(gray, WINDOW, share, least, dark)
    table = np.empty((max(1000, gray.size // 40), 7))
    table = table[: _blobs(dark, table)]
    table = table[(table[:, 6] == 0) & (table[:, 0] >= 12) & (table[:, 0] <= 0.9 * LARGEST**2)]
    area = table[:, 0]
    x, y = table[:, 1] / area, table[:, 2] / area
    # a pixel has a width: its own variance is a twelfth
    xx, yy = table[:, 3] / area - x * x + 1 / 12, table[:, 5] / area - y * y + 1 / 12
    xy = table[:, 4] / area - x * y
    middle, spread = 0.5 * (xx + yy), np.hypot(0.5 * (xx - yy), xy)
    large, small = 2 * np.sqrt(middle + spread), 2 * np.sqrt(np.maximum(middle - spread, 1e-9))
    full = area / (np.pi * large * small)
    good = (full > 0.82) & (full < 1.15) & (small > SLANT * large) & (small > 1.2)
    good &= (2 * large >= SMALLEST) & (2 * large <= LARGEST)
    return np.stack([x, y, xx, xy, yy], 1)[good]


@njit(cache=True, nogil=True)
def _solve(N, g, n):
    """Solve N s = g by Cholesky, in place; false where N is not positive."""
    for i in range(n):
        for j in range(i + 1):
            s = N[i, j]
            for k in range(j):
                s -= N[i, k] * N[j, k]
            if i == j:
                if s <= 0:
                    return False
                N[i, i] = math.sqrt(s)
            else:
                N[i, j] = s / N[j, j]
    for i in range(n):
        for k in range(i):
            g[i] -= N[i, k] * g[k]
        g[i] /= N[i, i]
    for i in range(n - 1, -1, -1):
        for k in range(i + 1, n):
            g[i] -= N[k, i] * g[k]
        g[i] /= N[i, i]
    return True


PARAMETERS = 10
REACH = 1.42  #: pixels so far out take part, in radii: the ring of a target begins at 1.7
_SQRT2PI = math.sqrt(2 * math.pi)


@njit(cache=True, nogil=True)
def _build(gray, p, box, N, g):
    """Normal equations of one step, the sum of squared residuals and the number of pixels."""
    N[:] = 0
    g[:] = 0
    row = np.empty(PARAMETERS)
    total, count = 0.0, 0
    for y in range(box[1], box[3]):
        for x in range(box[0], box[2]):
            px, py = x - p[0], y - p[1]
            wx, wy = p[2] * px + p[3] * py, p[3] * px + p[4] * py
            q = math.sqrt(wx * wx + wy * wy)
            if q > REACH:
                continue
            inside, slope, d, gx, gy, size = 1.0, 0.0, 0.0, 0.0, 0.0, 1.0
            if q > 0.3:
                gx, gy = (p[2] * wx + p[3] * wy) / q, (p[3] * wx + p[4] * wy) / q
                size = math.sqrt(gx * gx + gy * gy)
                d = (q - 1.0) / size
                z = d / p[5]
                inside = 0.5 * math.erfc(z / 1.4142135623730951)
                slope = -math.exp(-0.5 * z * z) / (_SQRT2PI * p[5])
            outside = p[7] + p[8] * px + p[9] * py
            step = p[6] - outside
            r = gray[y, x] - (outside + step * inside)
            k = step * slope / size
            if q > 0.3:
                row[0], row[1] = -k * gx, -k * gy
                row[2], row[3], row[4] = k * wx * px / q, k * (wx * py + wy * px) / q, k * wy * py / q
                row[5] = -step * slope * d / p[5]
            else:
                row[0:6] = 0.0
            row[0] -= (1.0 - inside) * p[8]
            row[1] -= (1.0 - inside) * p[9]
            row[6] = inside
            row[7] = 1.0 - inside
            row[8] = (1.0 - inside) * px
            row[9] = (1.0 - inside) * py
            for i in range(PARAMETERS):
                g[i] += row[i] * r
                for j in range(i + 1):
                    N[i, j] += row[i] * row[j]
            total += r * r
            count += 1
    for i in range(PARAMETERS):
        for j in range(i):
            N[j, i] = N[i, j]
    return total, count


@njit(cache=True, nogil=True)
def _around(p, h, w, box):
    """The pixels within `REACH` of an ellipse; false where they reach over the edge of the picture or are too many."""
    det = p[2] * p[4] - p[3] * p[3]
    if det <= 0:
        return False
    # half width of the ellipse |B v| = 1 along x and y: rows of the inverse of B
    rx = REACH * math.sqrt(p[4] * p[4] + p[3] * p[3]) / det
    ry = REACH * math.sqrt(p[2] * p[2] + p[3] * p[3]) / det
    box[0], box[1] = math.floor(p[0] - rx), math.floor(p[1] - ry)
    box[2], box[3] = math.ceil(p[0] + rx) + 1, math.ceil(p[1] + ry) + 1
    return box[0] >= 0 and box[1] >= 0 and box[2] <= w and box[3] <= h and rx < 200 and ry < 200


@njit(cache=True, nogil=True)
def _fit(gray, start, out):
    """Fit one dot; `start` is x, y, xx, xy, yy. Returns whether it is one."""
    h, w = gray.shape
    p = np.zeros(PARAMETERS)
    p[0], p[1] = start[0], start[1]
    # the covariance of a full ellipse is a quarter of its shape squared: B is the root of the inverse
    a, b, c = 4 * start[2], 4 * start[3], 4 * start[4]
    s = math.sqrt(max(a * c - b * b, 1e-9))
    t = math.sqrt(a + c + 2 * s)
    ra, rb, rc = (a + s) / t, b / t, (c + s) / t
    det = ra * rc - rb * rb
    if det <= 0:
        return False
    p[2], p[3], p[4] = rc / det, -rb / det, ra / det
    p[5] = 0.8
    box = np.zeros(4, np.int64)
    if not _around(p, h, w, box):
        return False
    low, high, n1, n2 = 0.0, 0.0, 0, 0
    for y in range(box[1], box[3]):
        for x in range(box[0], box[2]):
            px, py = x - p[0], y - p[1]
            wx, wy = p[2] * px + p[3] * py, p[3] * px + p[4] * py
            q = wx * wx + wy * wy
            if q < 0.36:
                low += gray[y, x]
                n1 += 1
            elif 1.5 < q < REACH * REACH:
                high += gray[y, x]
                n2 += 1
    if n1 == 0 or n2 < 8:
        return False
    p[6], p[7] = low / n1, high / n2
    if p[7] - p[6] < 8:
        return False
    # a quick look before the long one: dark inside, bright all round
    level, false = 0.5 * (p[6] + p[7]), 0
    for y in range(box[1], box[3]):
        for x in range(box[0], box[2]):
            px, py = x - p[0], y - p[1]
            wx, wy = p[2] * px + p[3] * py, p[3] * px + p[4] * py
            q = wx * wx + wy * wy
            if (q < 0.36 and gray[y, x] > level) or (1.6 < q < REACH * REACH and gray[y, x] < level):
                false += 1
    if false > 0.12 * (n1 + n2):
        return False
    N, g = np.zeros((PARAMETERS, PARAMETERS)), np.zeros(PARAMETERS)
    M, step = np.zeros((PARAMETERS, PARAMETERS)), np.zeros(PARAMETERS)
    total, count = _build(gray, p, box, N, g)
    damping, new = 1e-3, p.copy()
    for turn in range(12):
        for i in range(PARAMETERS):
            step[i] = g[i]
            for j in range(PARAMETERS):
                M[i, j] = N[i, j]
            M[i, i] += damping * N[i, i] + 1e-12
        if not _solve(M, step, PARAMETERS):
            return False
        for i in range(PARAMETERS):
            new[i] = p[i] + step[i]
        new[5] = min(max(new[5], 0.3), 6.0)
        ok = _around(new, h, w, box) and abs(new[0] - start[0]) < 3 and abs(new[1] - start[1]) < 3
        value, n = 0.0, 0
        if ok:
            value, n = _build(gray, new, box, N, g)
            ok = n >= 16 and value / n <= total / count
        if not ok:
            damping *= 10
            if damping > 1e3 or not _around(p, h, w, box):
                break
            total, count = _build(gray, p, box, N, g)
            continue
        # the steps shrink quadratically: one below a thousandth leaves nothing that could be seen
        done = abs(step[0]) < 1e-3 and abs(step[1]) < 1e-3
        if turn >= 3 and value / n > (0.15 * (new[7] - new[6])) ** 2:
            return False  # no ellipse: a corner, a part of a ring
        for i in range(PARAMETERS):
            p[i] = new[i]
        total, count = value, n
        damping = max(damping * 0.1, 1e-7)
        if done:
            break
    free = count - PARAMETERS
    if free < 6:
        return False
    variance = total / free
    # the covariance of the center: two columns of the inverse
    for column in range(2):
        for i in range(PARAMETERS):
            step[i] = 1.0 if i == column else 0.0
            for j in range(PARAMETERS):
                M[i, j] = N[i, j]
            M[i, i] += 1e-9 * N[i, i] + 1e-12
        if not _solve(M, step, PARAMETERS):
            return False
        out[9 + column] = variance * step[0]
        if column == 1:
            out[10], out[11] = variance * step[0], variance * step[1]
    out[0], out[1], out[2], out[3], out[4], out[5] = p[0], p[1], p[2], p[3], p[4], p[5]
    out[6], out[7], out[8] = p[6], p[7], math.sqrt(variance)
    return True


@njit(cache=True, nogil=True)
def _fit_all(gray, starts, out, good):
    for k in range(starts.shape[0]):
        good[k] = _fit(gray, starts[k], out[k])


def fit_dots(gray, starts):
    """Measure dots.

    Parameters
    ----------
    gray : (h, w) float32
    starts : (n, 5)
        Center and second central moments of each: x, y, xx, xy, yy.

    Returns
    -------
    dots : (n, 12)
        Columns `X`, `Y`; `B11`, `B12`, `B22` of the symmetric B with ``|B (v - center)| = 1`` on the edge; `BLUR`, the
        edge's standard deviation; `DARK` and `BRIGHT`, gray inside and outside; `NOISE`, standard deviation of the
        residuals; `SXX`, `SXY`, `SYY`, the center's covariance in pixels squared.
    good : (n,) bool
        Whether the fit came to an end that is a dot.
    """
    starts = np.ascontiguousarray(starts, np.float64)
    out, good = np.zeros((len(starts), 12)), np.zeros(len(starts), np.bool_)
    out[:, [B11, B22]] = 1.0  # what could not be fitted has a shape too
    _fit_all(np.ascontiguousarray(gray, np.float32), starts, out, good)
    return out, good


def axes(dots):
    """Larger and smaller radius (n, 2) of dots, in pixels."""
    a, b, c = dots[:, B11], dots[:, B12], dots[:, B22]
    middle, spread = 0.5 * (a + c), np.hypot(0.5 * (a - c), b)
    return 1.0 / np.maximum(np.stack([middle - spread, middle + spread], 1), 1e-9)


def _plausible(dots, starts):
    """Which fits are round enough, clear enough and near enough to the blob they began with."""
    radii = axes(dots)
    contrast = dots[:, BRIGHT] - dots[:, DARK]
    start = 2 * np.sqrt(np.sqrt(np.maximum(starts[:, 2] * starts[:, 4] - starts[:, 3] ** 2, 1e-9)))
    mean = np.sqrt(radii[:, 0] * radii[:, 1])
    near = np.abs(mean / start - 1) < 0.4
    shape = (radii[:, 1] > SLANT * radii[:, 0]) & (radii[:, 1] > 1.2) & (dots[:, BLUR] < 0.35 * radii[:, 1] + 1.0)
    return near & shape & (contrast > 12) & (dots[:, NOISE] < 0.12 * contrast)


def find_dots(gray):
    """All dots of a picture, of 8 pixels across and more.

    Parameters
    ----------
    gray : (h, w) float32
        0 to 255.

    Returns
    -------
    (n, 12)
        See `fit_dots`; in order of their place, top to bottom.
    """
    found, level = [], np.ascontiguousarray(gray, np.float32)
    for k in range(LEVELS):
        if min(level.shape) < 24:
            break
        starts = _candidates(level)
        dots, good = fit_dots(level, starts)
        good &= _plausible(dots, starts) if len(dots) else good
        dots = dots[good]
        s = 2.0**k
        dots[:, :2] = dots[:, :2] * s + 0.5 * (s - 1)
        dots[:, B11 : B22 + 1] /= s
        dots[:, BLUR] *= s
        dots[:, SXX:] *= s * s
        found.append(dots)
        level = halve_by_area(level)
    return _once(np.vstack(found)) if found else np.zeros((0, 12))


def _once(dots):
    """Each dot once: of those found at two levels the one that is known better."""
    order = np.argsort(dots[:, SXX] + dots[:, SYY], kind="stable")
    dots, radii = dots[order], axes(dots[order]) if len(dots) else np.zeros((0, 2))
    keep = np.ones(len(dots), bool)
    for k in range(len(dots)):
        if keep[k]:
            near = np.hypot(*(dots[k + 1 :, :2] - dots[k, :2]).T) < radii[k, 1]
            keep[k + 1 :][near] = False
    dots = dots[keep]
    return dots[np.lexsort((dots[:, X], dots[:, Y]))]
