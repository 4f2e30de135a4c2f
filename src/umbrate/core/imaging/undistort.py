"""Pinhole pictures: photos resampled as if the lens were perfect, at the photo scale a step works on.

Dense matching follows straight lines between photos millions of times; bending each of them
through the lens model would cost more than everything else, so the photo is bent straight once.
"""

import numpy as np

from .filters import halve_by_area, halve_mask, remap

ROWS = 128  #: that are worked on at once: coordinates of all pixels would take several times a picture's memory


def _map(lens, target, first, last):
    """Where the pixels of some rows of the target are in the photo: (rows, w, 2)."""
    v, u = np.mgrid[first:last, 0 : target.width].astype(np.float64)
    xy = target.unproject(np.stack([u.ravel(), v.ravel()], 1))
    return lens.project(xy).reshape(last - first, target.width, 2)


def undistort(picture, mask, lens, scale):
    """A photo and its mask as a pinhole camera would have seen them.

    Parameters
    ----------
    picture : (h, w, 3) uint8
    mask : (h, w) bool or None
    lens : Lens
        For the full size (h, w).
    scale : int
        1, 2, 4 or 8: the divisor of the photo's width.

    Returns
    -------
    picture : (h / scale, w / scale, 3) float32
    mask : (h / scale, w / scale) bool
        Also false where the photo does not reach.
    lens : Lens
        The pinhole that goes with them.
    """
    small, source = np.asarray(picture, np.float32), lens
    halvings = scale.bit_length() - 1
    for _ in range(halvings):
        small = halve_by_area(small)
    if scale > 1:
        # halving by area keeps pixel edges, which is what Lens.scaled assumes
        source = lens.scaled(small.shape[1], small.shape[0])
    target = source.without_distortion()
    mask = None if mask is None else halve_mask(mask, halvings)
    out = np.empty((target.height, target.width, 3), np.float32)
    inside = np.empty((target.height, target.width), bool)
    for first in range(0, target.height, ROWS):
        last = min(first + ROWS, target.height)
        x, y = np.moveaxis(_map(source, target, first, last), 2, 0)
        on = (x >= 0) & (y >= 0) & (x <= source.width - 1) & (y <= source.height - 1)
        if mask is not None:
            # masks are looked up, never smoothed: a half-way value has no meaning
            iu = np.clip(np.floor(x + 0.5).astype(int), 0, mask.shape[1] - 1)
            iv = np.clip(np.floor(y + 0.5).astype(int), 0, mask.shape[0] - 1)
            on &= mask[iv, iu]
        inside[first:last], out[first:last] = on, remap(small, x, y)
    return out, inside, target
