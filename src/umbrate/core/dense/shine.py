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

BRIGHTER, BRIGHTER_BY = 1.1, 10.0  #: a highlight is so many times as bright as in most photos, and by so many levels
AROUND = 41  #: pixels across, over which all that is brighter is shading
DARKER_SHARE = 97  #: percent of a photo's pixels that are darker than any highlight: patterns are bright anywhere
FRONT = 0.5  #: of this camera's distance from a surface's plane that another one must have before it
LEAST_SEEN = 3  #: other photos that must see a place
SAMPLE = 20_000  #: pixels by which the brightness of two photos is compared
ROUND = 4  #: pixels round a highlight that go with it: a glaze mirrors the lamp's surroundings as well


@njit(cache=True, nogil=True, error_model="numpy")
def _seen(rows, eyes, cells, plane, cost, out):
    """Brightness (n, h, w) in the other photos of what is seen at a pixel; -1 where they do not see it from the front.

    eyes (n, 3) : where they were taken from, before this camera, times its calibration matrix
    """
    n, h, w = out.shape
    for j in range(n):
        r = rows[j]
        for y in range(h):
            for x in range(w):
                out[j, y, x] = -1
                z = plane[y, x, 0]
                if not (z > 0 and cost[y, x] < HOPEFUL):
                    continue
                gx, gy = plane[y, x, 1], plane[y, x, 2]
                # how far it is before the plane, in parts of how far this camera is
                if 1 - ((z - gx * x - gy * y) * eyes[j, 2] + gx * eyes[j, 0] + gy * eyes[j, 1]) < FRONT:
                    continue
                d = r[6] * x + r[7] * y + r[8] + r[11] * z
                if d <= 0:
                    continue
                u, v = (r[0] * x + r[1] * y + r[2] + r[9] * z) / d, (r[3] * x + r[4] * y + r[5] + r[10] * z) / d
                if u >= 0 and v >= 0 and u < r[12] and v < r[13]:
                    out[j, y, x] = cells[j, int(v + 0.5), int(u + 0.5), 0] / UNIT + MIDDLE


@njit(cache=True, nogil=True, error_model="numpy")
def _middle(gray, seen, gain, out):
    """How many times as bright as the middle one of the others a pixel is; 0 where too few see it."""
    n, h, w = seen.shape
    some = np.empty(n)
    for y in range(h):
        for x in range(w):
            m = 0
            for j in range(n):
                if seen[j, y, x] >= 0:
                    value, k = seen[j, y, x] * gain[j], m
                    while k > 0 and some[k - 1] > value:
                        some[k] = some[k - 1]
                        k -= 1
                    some[k] = value
                    m += 1
            usable = m >= LEAST_SEEN and gray[y, x] < NOTHING
            out[y, x] = max(gray[y, x], 1.0) / max(some[m // 2], 1.0) if usable else 0.0


def highlights(task, planes):
    """Where a photo mirrors a lamp, and a little round it: (h, w) bool.

    task : `sweep.Task`; planes : `sweep.Planes` of its picture, swept
    """
    out, n = np.zeros(task.gray.shape, bool), len(task.rows)
    on = (task.gray < NOTHING) & (planes.plane[:, :, 0] > 0)
    if n < LEAST_SEEN or not on.any():
        return out
    seen, times = np.empty((n, *out.shape), np.float32), np.empty(out.shape, np.float32)
    eyes = np.array([-np.linalg.solve(r[:9].reshape(3, 3), r[9:12]) for r in task.rows])
    _seen(task.rows, eyes, task.cells, planes.plane, planes.cost, seen)
    step = max(1, int(np.sqrt(on.sum() / SAMPLE)))
    gray, gain = task.gray[::step, ::step], np.ones(n)
    for j in range(n):
        there = seen[j, ::step, ::step]
        both = (there > 1) & (gray > 1) & (gray < NOTHING)
        if both.any():
            gain[j] = np.median(gray[both] / there[both])
    _middle(task.gray, seen, gain, times)
    del seen
    known = times > 0
    share = scipy.ndimage.uniform_filter(known.astype(np.float32), AROUND, mode="constant")
    times[known] = np.log(times[known])
    # what turns toward a lamp is brighter as a whole: that is shading
    usual = scipy.ndimage.uniform_filter(times, AROUND, mode="constant") / np.maximum(share, 1e-6)
    usual = np.exp(times - np.maximum(usual, 0))  # times as bright as the place is elsewhere
    least = np.percentile(task.gray[on], DARKER_SHARE)
    out = known & (task.gray > least) & (usual > BRIGHTER) & (task.gray * (1 - 1 / usual) > BRIGHTER_BY)
    return scipy.ndimage.binary_dilation(out, iterations=ROUND)
