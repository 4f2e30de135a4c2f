"""Descriptors: what a key point's surroundings look like, in a form that survives a change of view.

Gradient histograms on a 4x4 grid turned to the point's direction (Lowe 2004), stored as square
roots of the normalized histogram (Arandjelovic and Zisserman 2012): comparing those by angle
compares the histograms by a measure that does not let one strong edge decide.
"""

import numpy as np
from numba import njit

GRID, BINS = 4, 8
SIZE = GRID * GRID * BINS
MAGNIFICATION = 3.0  #: width of a grid cell in units of the key point's sigma


FALL = np.exp(-np.arange(0.0, 2 * 2.6**2, 1 / 64) / (0.5 * GRID * GRID)).astype(np.float32)
"""The Gaussian that lets the middle count most, by the squared distance in cells, in steps of 1/64."""


@njit(cache=True, nogil=True, inline="always")
def turn_of(y, x):
    """The direction of (x, y) as a share of a whole turn, 0 to 1, to some 1e-5 (a polynomial of the smaller share)."""
    ax, ay = abs(x), abs(y)
    t = min(ax, ay) / max(max(ax, ay), np.float32(1e-30))
    t2 = t * t
    p = np.float32(-0.0851330) + t2 * np.float32(0.0208351)
    p = np.float32(0.9998660) + t2 * (np.float32(-0.3302995) + t2 * (np.float32(0.1801410) + t2 * p))
    p *= t * np.float32(0.15915494)
    if ay > ax:
        p = np.float32(0.25) - p
    if x < 0:
        p = np.float32(0.5) - p
    return np.float32(1.0) - p if y < 0 else p


@njit(cache=True, nogil=True, inline="always")
def _span(lo, hi, slope, at):
    """The part of lo..hi in which slope u + at is between -2.5 and 2.5, and not by rounding only."""
    if abs(slope) < 1e-9:
        return (lo, hi) if abs(at) < 2.499 else (lo, lo - 1)
    p, q = (-2.499 - at) / slope, (2.499 - at) / slope
    if p > q:
        p, q = q, p
    return max(lo, int(np.floor(p)) + 1), min(hi, int(np.ceil(q)) - 1)


@njit(cache=True, nogil=True, error_model="numpy")
def _describe(gauss, points, angles, fall, out):
    _, h, w = gauss.shape
    hist = np.zeros((GRID + 2, GRID + 2, BINS), np.float32)
    one, eight = np.float32(1.0), np.float32(BINS)
    for i in range(points.shape[0]):
        x, y = points[i, 0], points[i, 1]
        picture = gauss[int(points[i, 2])]
        cell = MAGNIFICATION * points[i, 3]
        c, s = np.cos(angles[i]) / cell, np.sin(angles[i]) / cell
        r = min(int(np.ceil(cell * (GRID + 1) * 0.7071)), int(np.hypot(h, w)))
        away = np.float32(angles[i] / (2 * np.pi) % 1.0)
        hist[:] = 0.0
        ix, iy = int(np.round(x)), int(np.round(y))
        for v in range(max(1, iy - r), min(h - 1, iy + r + 1)):
            dy = v - y
            # only the pixels of this row inside the turned square
            a0, b0 = np.float32(s * dy - c * (x - ix)), np.float32(c * dy + s * (x - ix))
            first, last = _span(max(1 - ix, -r), min(w - 2 - ix, r), c, a0)
            first, last = _span(first, last, -s, b0)
            cf, sf = np.float32(c), np.float32(s)
            for du in range(first, last + 1):
                a, b = a0 + cf * np.float32(du), b0 - sf * np.float32(du)
                u = ix + du
                gx = picture[v, u + 1] - picture[v, u - 1]
                gy = picture[v + 1, u] - picture[v - 1, u]
                m = np.sqrt(gx * gx + gy * gy)
                m *= fall[int((a * a + b * b) * np.float32(64.0))]
                o = turn_of(gy, gx) - away
                o = eight * (o + one if o < 0 else o)
                # one cell beyond the grid on each side takes what does not count
                ga, gb = a + np.float32(GRID / 2 + 0.5), b + np.float32(GRID / 2 + 0.5)
                ia, ib, io = int(ga), int(gb), int(o)
                fa, fb, fo = ga - np.float32(ia), gb - np.float32(ib), o - np.float32(io)
                io0, io1 = io & 7, (io + 1) & 7
                m1 = m * fb
                m0 = m - m1
                m01, m11 = m0 * fa, m1 * fa
                m00, m10 = m0 - m01, m1 - m11
                t = m00 * fo
                hist[ib, ia, io1] += t
                hist[ib, ia, io0] += m00 - t
                t = m01 * fo
                hist[ib, ia + 1, io1] += t
                hist[ib, ia + 1, io0] += m01 - t
                t = m10 * fo
                hist[ib + 1, ia, io1] += t
                hist[ib + 1, ia, io0] += m10 - t
                t = m11 * fo
                hist[ib + 1, ia + 1, io1] += t
                hist[ib + 1, ia + 1, io0] += m11 - t
        total = 0.0
        for p in range(GRID):
            for q in range(GRID):
                for k in range(BINS):
                    total += hist[p + 1, q + 1, k] ** 2
        # large gradients are capped so that a change of light does not outweigh shape
        cap = 0.2 * np.sqrt(total)
        total = 0.0
        for p in range(GRID):
            for q in range(GRID):
                for k in range(BINS):
                    hist[p + 1, q + 1, k] = min(hist[p + 1, q + 1, k], cap)
                    total += hist[p + 1, q + 1, k]
        n = 0
        for p in range(GRID):
            for q in range(GRID):
                for k in range(BINS):
                    out[i, n] = min(255, int(np.round(512.0 * np.sqrt(hist[p + 1, q + 1, k] / max(total, 1e-12)))))
                    n += 1


def describe(gauss, points, angles):
    """Descriptors (n, 128) uint8 of points in one octave.

    Parameters
    ----------
    gauss : (levels, h, w) float32
        The octave's Gaussian pictures.
    points : (n, 4) float64
        x, y, level, sigma in octave pixels.
    angles : (n,) float64
        Direction in radians.
    """
    out = np.empty((len(points), SIZE), np.uint8)
    _describe(gauss, points, np.ascontiguousarray(angles, dtype=np.float64), FALL, out)
    return out
