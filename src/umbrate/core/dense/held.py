"""Depth maps while they are fused: read photo by photo, and no more of them in memory than there is room for."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from ..imaging.sharpness import CELL

STEPS, LEAST_NOISE = 16, 1e-6  #: see `noise_codes`


class PhotoMap(NamedTuple):
    """The depth map of a photo.

    Attributes
    ----------
    depth : (h, w) float32
        Negative outside the keep box: no point is begun there.
    normal : (h, w, 3) float32, or int8 that counts 127 as 1
        In the camera frame.
    score : (h, w) float32, or uint8 that counts 255 as 1
    noise : (h, w) uint8
        Standard deviation of the depth, see `noise_codes`.
    rgb : (h, w, 3) uint8
    quality : (ceil(h / CELL), ceil(w / CELL)) float32
        What a photo's colors count, 0 to 1, by cells of so many pixels.
    """

    depth: np.ndarray
    normal: np.ndarray
    score: np.ndarray
    noise: np.ndarray
    rgb: np.ndarray
    quality: np.ndarray


@dataclass(frozen=True)
class Maps:
    """The depth maps of n photos, which are read when they are needed, and where they were taken from.

    Attributes
    ----------
    K : (n, 3) float64
        f, cx, cy.
    poses : (n, 4, 4) float64
    gain : (n,) float64
        Factors on the brightness of the photos that make their colors comparable.
    read : callable(photo) -> PhotoMap
        Of one type for all photos, in sizes of their own.
    shape : (2,) int
        Rows and columns that hold every map.
    keep : callable(photo, used) -> None
        Is given in which pixels of a photo points were made, of the size `shape`, whenever it makes room for another,
        and at the end.
    take : callable(photo) -> (h, w) bool, or None where nothing was kept
    """

    K: np.ndarray
    poses: np.ndarray
    gain: np.ndarray
    read: Callable
    shape: tuple
    keep: Callable
    take: Callable

    def __len__(self):
        return len(self.K)


class Held(NamedTuple):
    """The maps that are in memory, as the kernels take them: arrays of `PhotoMap` with a first axis of places."""

    depth: np.ndarray
    normal: np.ndarray
    score: np.ndarray
    noise: np.ndarray
    rgb: np.ndarray
    K: np.ndarray
    poses: np.ndarray
    gain: np.ndarray
    quality: np.ndarray
    one_normal: float
    one_score: float


class Places:
    """Room for the maps of some photos: those that are looked at, and as many more as there is room for."""

    def __init__(self, maps, least, room):
        """least : places there must be; room : bytes that more of them may take."""
        self.maps, first = maps, maps.read(0)
        h, w = maps.shape
        shapes = [(h, w, *a.shape[2:]) for a in first[:-1]] + [(-(-h // CELL), -(-w // CELL))]
        each = sum(np.prod(s) * a.dtype.itemsize for s, a in zip(shapes, first, strict=True)) + h * w
        n = self.count = int(min(len(maps), max(least, room // each)))
        arrays = [np.zeros((n, *s), a.dtype) for s, a in zip(shapes, first, strict=True)]
        one = 1.0 / 127 if first.normal.dtype == np.int8 else 1.0, 1.0 / 255 if first.score.dtype == np.uint8 else 1.0
        K, poses, gain = np.zeros((n, 3)), np.zeros((n, 4, 4)), np.zeros(n)
        self.held = Held(*arrays[:-1], K, poses, gain, arrays[-1], *one)
        self.used = np.zeros((n, h, w), np.bool_)
        self.place, self.since = {}, {}  #: of photos, and when they were looked at last

    def of(self, photos, now):
        """The places (k,) of some photos, which are brought in where they are not there."""
        for k in photos:
            self.since[k] = now
        for k in photos:
            if k not in self.place:
                self.place[k] = len(self.place) if len(self.place) < self.count else self._vacate()
                self._bring(k, self.place[k])
        return np.array([self.place[k] for k in photos], np.int64)

    def _vacate(self):
        """The place of the photo that was not looked at for the longest time, which leaves it."""
        k = min(self.place, key=lambda k: (self.since[k], k))
        at = self.place.pop(k)
        self.maps.keep(k, self.used[at])
        return at

    def _bring(self, k, at):
        new, h = self.maps.read(k), self.held
        arrays = h.depth, h.normal, h.score, h.noise, h.rgb, h.quality
        for into, a in zip(arrays, new, strict=True):
            into[at] = 0
            into[at, : a.shape[0], : a.shape[1]] = a
        h.K[at], h.poses[at], h.gain[at] = self.maps.K[k], self.maps.poses[k], self.maps.gain[k]
        self.used[at] = False
        kept = self.maps.take(k)
        if kept is not None:
            self.used[at] = kept

    def close(self):
        """Hand on what is known of the photos that are still here."""
        for k, at in self.place.items():
            self.maps.keep(k, self.used[at])


def noise_codes(noise):
    """Relative standard deviations of depth as uint8: a step is a sixteenth of a doubling, 0 a millionth or less."""
    with np.errstate(divide="ignore"):
        steps = STEPS * np.log2(np.maximum(noise, 1e-30) / LEAST_NOISE)
    return np.clip(np.round(steps), 0, 255).astype(np.uint8)


def maps_of(depth, normal, score, rgb, K, poses, gain=None, quality=None, noise=None):
    """Maps from arrays with a first axis of photos: all alike without gain or quality, and all pixels without noise.

    quality : as in PhotoMap, or (n,) for photos as a whole
    """
    n, *shape = depth.shape
    noise = np.full(depth.shape, noise_codes(1e-4)) if noise is None else noise
    quality = np.ones(n) if quality is None else np.asarray(quality)
    if quality.ndim == 1:
        quality = np.broadcast_to(quality[:, None, None], (n, *(-(-k // CELL) for k in shape)))
    quality, used = quality.astype(np.float32), {}
    return Maps(
        np.asarray(K, float), np.asarray(poses, float), np.ones(n) if gain is None else np.asarray(gain, float),
        lambda k: PhotoMap(depth[k], normal[k], score[k], noise[k], rgb[k], quality[k]), tuple(shape),
        lambda k, mine: used.update({k: mine.copy()}), used.get,
    )  # fmt: skip
