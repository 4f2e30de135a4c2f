"""What depth costs: how many hypotheses a map takes, and how many this machine tries a second."""

import time
from functools import lru_cache

import numpy as np

from ..cloud.keepbox import KeepBox
from .depth import View, best_of, depth_map
from .fuse import ROOM, SLACK

#: bytes for every pixel: of a photo as taken, while it is straightened; of the part that is kept, while its depth is
#: computed, and more for each neighbor; of every map that is in memory while they are fused
STRAIGHTENED, WORKED, NEIGHBOR, MAPPED = 40, 64, 12, 14
#: bytes on the disk for every pixel of every photo: brightness 4, mask 1, colors 3; depth 4, normal 3, score 1, noise 1
KEPT = 17
MERGED, POINT = 4.5, 117  #: pixels that make a point, and bytes of it: 49, with what thinning sorts
BASE = 350e6  #: the program itself, its libraries and tie points

PROBE_PX, PROBE_NEIGHBORS = 48, 4


def hypotheses(pixels, neighbors, rounds):
    """Patches compared for a depth map of so many pixels, at the working scale and at half of it.

    What a pixel takes depends on how good it is soon; these are those of a usual one.
    """
    counting = best_of(neighbors)
    fine, coarse = counting * (9 + 4 * rounds), neighbors + counting * 10 * (rounds + 2)
    return pixels * (fine + coarse / 4)


def depth_memory(pixels, neighbors):
    """Bytes that a photo's depth takes while it is computed, of so many pixels and neighbors."""
    return pixels * (WORKED + NEIGHBOR * neighbors)


def memory(photos, pixels, neighbors, threads, full_pixels, used_pixels, most):
    """Bytes of memory at the peak of a run, and bytes that it takes on the disk.

    pixels : of the part of one picture that is kept, at the photo scale used; full_pixels : as it was taken
    used_pixels : that get a depth; most : points there may be, 0 for any number
    """
    points = photos * used_pixels / MERGED
    if most:
        points = min(points, SLACK * most)
    straightening = threads * full_pixels * STRAIGHTENED
    depth = threads * depth_memory(pixels, neighbors)
    fusing = max((neighbors + 1) * pixels * MAPPED, min(ROOM, photos * pixels * MAPPED)) + points * POINT
    return BASE + max(straightening, depth, fusing), photos * pixels * KEPT + points * 45


@lru_cache(1)
def machine_speed():
    """Hypotheses a second of one thread of this machine, from a speckled plane seen by a few cameras. Some 0.1 s."""
    rng = np.random.default_rng(0)
    n = PROBE_PX
    gray = np.kron(rng.random((n // 3 + 1, n // 3 + 1)), np.ones((3, 3)))[:n, :n].astype(np.float32) * 200
    K = np.array([n * 1.5, (n - 1) / 2, (n - 1) / 2])

    def view(dx):
        E = np.eye(4)
        E[:3, 3] = [-dx, 0, 5]
        return View(np.roll(gray, -round(dx * K[0] / 5), 1), np.ones((n, n), bool), K, E)

    views = [view(d) for d in (0, *(0.2 * (k + 1) for k in range(PROBE_NEIGHBORS)))]
    box = KeepBox(np.zeros(3), np.eye(3), np.full(3, 2.0))
    points = np.stack([*(rng.random((2, 40)) - 0.5), np.zeros(40)], 1)
    best = np.inf
    for _ in range(2):  # the first may wait for compiled code to be loaded
        start = time.perf_counter()
        depth_map(views[0], views[1:], box, points, rounds=2)
        best = min(best, time.perf_counter() - start)
    return hypotheses(n * n, PROBE_NEIGHBORS, 2) / best
