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


@njit(cache=True, nogil=True)
def _describe(gauss, points, angles, out):
    _, h, w = gauss.shape
    hist = np.zeros((GRID + 2, GRID + 2, BINS))
    for i in range(points.shape[0]):
        x, y = points[i, 0], points[i, 1]
        level = int(points[i, 2])
        cell = MAGNIFICATION * points[i, 3]
        c, s = np.cos(angles[i]) / cell, np.sin(angles[i]) / cell
        r = min(int(np.ceil(cell * (GRID + 1) * 0.7071)), int(np.hypot(h, w)))
        hist[:] = 0.0
        ix, iy = int(np.round(x)), int(np.round(y))
        for v in range(max(1, iy - r), min(h - 1, iy + r + 1)):
            for u in range(max(1, ix - r), min(w - 1, ix + r + 1)):
                dx, dy = u - x, v - y
                a = c * dx + s * dy
                b = -s * dx + c * dy
                ga, gb = a + GRID / 2 - 0.5, b + GRID / 2 - 0.5
                if ga <= -1.0 or gb <= -1.0 or ga >= GRID or gb >= GRID:
                    continue
                gx = gauss[level, v, u + 1] - gauss[level, v, u - 1]
                gy = gauss[level, v + 1, u] - gauss[level, v - 1, u]
                m = np.sqrt(gx * gx + gy * gy)
                if m < 1e-9:
                    continue
                m *= np.exp(-(a * a + b * b) / (0.5 * GRID * GRID))
                o = (np.arctan2(gy, gx) - angles[i]) * (BINS / (2 * np.pi))
                o -= np.floor(o / BINS) * BINS
                ia, ib, io = int(np.floor(ga)), int(np.floor(gb)), int(o)
                fa, fb, fo = ga - ia, gb - ib, o - io
                io0, io1 = io % BINS, (io + 1) % BINS
                m00, m01 = m * (1 - fb) * (1 - fa), m * (1 - fb) * fa
                m10, m11 = m * fb * (1 - fa), m * fb * fa
                hist[ib + 1, ia + 1, io0] += m00 * (1 - fo)
                hist[ib + 1, ia + 1, io1] += m00 * fo
                hist[ib + 1, ia + 2, io0] += m01 * (1 - fo)
                hist[ib + 1, ia + 2, io1] += m01 * fo
                hist[ib + 2, ia + 1, io0] += m10 * (1 - fo)
                hist[ib + 2, ia + 1, io1] += m10 * fo
                hist[ib + 2, ia + 2, io0] += m11 * (1 - fo)
                hist[ib + 2, ia + 2, io1] += m11 * fo
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
    _describe(gauss, points, np.ascontiguousarray(angles, dtype=np.float64), out)
    return out
