"""Snapping a marked place to what is there: the center of a dot, or a corner, to a fraction of a pixel."""

from dataclasses import dataclass

import numpy as np
import scipy

from ..targets.board import refine_corners
from ..targets.dots import SXX, SYY, find_dots

REACH_PX = 12.0  #: how far a snap moves a mark at most, in photo pixels
LEAST_SIGMA_PX = 0.05  #: no edge in a real photo is known better


@dataclass(frozen=True)
class Snapped:
    """Where a mark came to lie, what it found there ("dot" or "corner"), and how sure it is, in pixels."""

    x: float
    y: float
    what: str
    sigma_px: float


def _dot(gray, at, reach):
    best = None
    for picture in (gray, 255.0 - gray):
        for d in find_dots(picture):
            off = float(np.hypot(d[0] - at[0], d[1] - at[1]))
            if off <= reach and (best is None or off < best[0]):
                sigma = float(np.sqrt(0.5 * (d[SXX] + d[SYY])))
                best = off, Snapped(float(d[0]), float(d[1]), "dot", max(sigma, LEAST_SIGMA_PX))
    return best


def _corner(gray, at, reach):
    smooth = scipy.ndimage.gaussian_filter(gray, 1.0)
    gy, gx = np.gradient(smooth)
    xx, yy, xy = (scipy.ndimage.gaussian_filter(a, 2.0) for a in (gx * gx, gy * gy, gx * gy))
    trace = xx + yy
    # the smaller eigenvalue: edges in two directions (Forstner and Gulch 1987)
    strength = 0.5 * (trace - np.sqrt(np.maximum((xx - yy) ** 2 + 4 * xy * xy, 0)))
    v, u = np.mgrid[: gray.shape[0], : gray.shape[1]]
    inside = np.hypot(u - at[0], v - at[1]) <= reach
    inside[:6] = inside[-6:] = False
    inside[:, :6] = inside[:, -6:] = False
    value = np.where(inside, strength, 0.0)
    k = int(np.argmax(value))
    roundness = 4 * value.flat[k] * (trace.flat[k] - value.flat[k]) / max(float(trace.flat[k]) ** 2, 1e-9)
    if value.flat[k] < 4.0 or roundness < 0.25:  # noise, or a straight edge
        return None
    start = np.array([[k % gray.shape[1], k // gray.shape[1]]], float)
    xy, sigma = refine_corners(gray, start, 5.0)
    xy, sigma = xy[0], float(np.ravel(sigma)[0])
    if not np.isfinite(xy).all() or np.hypot(*(xy - start[0])) > 4.0:
        return None
    off = float(np.hypot(*(xy - at)))
    return off, Snapped(float(xy[0]), float(xy[1]), "corner", max(sigma, 2 * LEAST_SIGMA_PX))


def snap(gray, x, y, reach_px=REACH_PX):
    """What a mark at (x, y) snaps to, a Snapped, or None where there is nothing clear within reach.

    gray : (h, w) float32, 0 to 255
    """
    half = round(reach_px * 3 + 16)
    x0, y0 = max(0, round(x) - half), max(0, round(y) - half)
    window = np.ascontiguousarray(gray[y0 : round(y) + half + 1, x0 : round(x) + half + 1], np.float32)
    if min(window.shape) < 24:
        return None
    at = np.array([x - x0, y - y0])
    found = [f for f in (_dot(window, at, reach_px), _corner(window, at, reach_px)) if f]
    if not found:
        return None
    # a dot is surer than a corner of what is printed round it
    found.sort(key=lambda f: (f[1].what != "dot", f[0]))
    s = found[0][1]
    return Snapped(s.x + x0, s.y + y0, s.what, s.sigma_px)
