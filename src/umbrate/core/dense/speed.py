"""What depth costs: how many hypotheses a map takes, and how many this machine tries a second."""

import time
from functools import lru_cache

import numpy as np

from ..cloud.keepbox import KeepBox
from .depth import View, best_of, depth_map

#: bytes held for every pixel of every photo: brightness 4, mask 1, colors 3; depth 4, likeness 1, normal 3, noise 1,
#: colors 3
HELD = 20
#: bytes a pixel of the one photo a thread works on: what it reads, straightens and sweeps
WORKED = 64
#: bytes of points for every pixel that gets a depth: some three of them make one, of 45 bytes, with copies of it
MADE = 40
BASE = 350e6  #: the program itself, its libraries and tie points

PROBE_PX, PROBE_NEIGHBORS = 48, 4


def hypotheses(pixels, neighbors, rounds):
    """Patches compared for a depth map of so many pixels, at the working scale and at half of it.

    What a pixel takes depends on how good it is soon; these are those of a usual one.
    """
    counting = best_of(neighbors)
    fine, coarse = counting * (9 + 4 * rounds), neighbors + counting * 10 * (rounds + 2)
    return pixels * (fine + coarse / 4)


def memory(photos, pixels, threads, full_pixels, used_pixels):
    """Bytes at the peak of a run: what must be in memory, and what may lie on disk meanwhile.

    pixels : of the part of one picture that is held, at the photo scale used; full_pixels : as it was taken
    used_pixels : that get a depth
    """
    return (
        BASE + threads * (pixels * WORKED + full_pixels * 40) + photos * used_pixels * MADE,
        photos * pixels * HELD,
    )


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
