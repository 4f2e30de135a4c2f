"""Highlights: where a photo is brighter than the others are that see the same place.

A lamp mirrored in glaze moves over the surface from photo to photo, or stands still while the object turns. Patches
that hold one match each other at the depth of the lamp's image, behind the surface or before it.
"""

import numpy as np
import scipy
from numba import njit

from ..lanes import MIDDLE, UNIT
from .patch import NOTHING
from .sweep import HOPEFUL

BRIGHTER, BY_LEVELS = 1.1, 6.0  #: a highlight is so many times as bright as the place is in most photos, and by levels
DARKER_SHARE = 97  #: percent of a photo's pixels that are darker than any highlight: patterns are bright anywhere
LEAST_SEEN = 3  #: other photos that must see a place
SAMPLE = 20_000  #: pixels by which the brightness of two photos is compared
ROUND = 4  #: pixels round a highlight that go with it: a glaze mirrors the lamp's surroundings as well


@njit(cache=True, nogil=True, error_model="numpy")
def _seen(rows, cells, plane, cost, out):
    """Brightness (n, h, w) in the other photos of what is seen at a pixel; -1 where they do not see it."""
    n, h, w = out.shape
    for j in range(n):
        r = rows[j]
        for y in range(h):
            for x in range(w):
                out[j, y, x] = -1
                z = plane[y, x, 0]
                if not (z > 0 and cost[y, x] < HOPEFUL):
                    continue
                d = r[6] * x + r[7] * y + r[8] + r[11] * z
                if d <= 0:
                    continue
                u, v = (r[0] * x + r[1] * y + r[2] + r[9] * z) / d, (r[3] * x + r[4] * y + r[5] + r[10] * z) / d
                if u >= 0 and v >= 0 and u < r[12] and v < r[13]:
                    out[j, y, x] = cells[j, int(v + 0.5), int(u + 0.5), 0] / UNIT + MIDDLE


@njit(cache=True, nogil=True, error_model="numpy")
def _brighter(gray, seen, gain, least, out):
    """Where a picture is at least so bright, and brighter than the middle one of the others."""
    n, h, w = seen.shape
    some = np.empty(n)
    for y in range(h):
        for x in range(w):
            out[y, x] = False
            if not least < gray[y, x] < NOTHING:
                continue
            m = 0
            for j in range(n):
                if seen[j, y, x] >= 0:
                    value, k = seen[j, y, x] * gain[j], m
                    while k > 0 and some[k - 1] > value:
                        some[k] = some[k - 1]
                        k -= 1
                    some[k] = value
                    m += 1
            out[y, x] = m >= LEAST_SEEN and gray[y, x] > BRIGHTER * some[m // 2] + BY_LEVELS


def highlights(task, planes):
    """Where a photo mirrors a lamp, and a little round it: (h, w) bool.

    task : `sweep.Task`; planes : `sweep.Planes` of its picture, swept
    """
    out, n = np.zeros(task.gray.shape, bool), len(task.rows)
    on = (task.gray < NOTHING) & (planes.plane[:, :, 0] > 0)
    if n < LEAST_SEEN or not on.any():
        return out
    seen = np.empty((n, *out.shape), np.float32)
    _seen(task.rows, task.cells, planes.plane, planes.cost, seen)
    step = max(1, int(np.sqrt(on.sum() / SAMPLE)))
    gray, gain = task.gray[::step, ::step], np.ones(n)
    for j in range(n):
        there = seen[j, ::step, ::step]
        both = (there > 1) & (gray > 1) & (gray < NOTHING)
        if both.any():
            gain[j] = np.median(gray[both] / there[both])
    _brighter(task.gray, seen, gain, np.percentile(task.gray[on], DARKER_SHARE), out)
    return scipy.ndimage.binary_dilation(out, iterations=ROUND)
