"""Pinhole pictures: photos resampled as if the lens were perfect, at the photo scale a step works on.

Dense matching follows straight lines between photos millions of times; bending each of them
through the lens model would cost more than everything else, so the photo is bent straight once.
"""

import numpy as np

from .filters import halve_by_area, halve_mask, remap


def _maps(lens, target):
    v, u = np.mgrid[0 : target.height, 0 : target.width].astype(np.float64)
    xy = target.unproject(np.stack([u.ravel(), v.ravel()], 1))
    return lens.project(xy).reshape(target.height, target.width, 2)


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
    m = _maps(source, target)
    inside = (m[..., 0] >= 0) & (m[..., 1] >= 0) & (m[..., 0] <= source.width - 1) & (m[..., 1] <= source.height - 1)
    if mask is not None:
        # masks are looked up, never smoothed: a half-way value has no meaning
        mask = halve_mask(mask, halvings)
        iu = np.clip(np.floor(m[..., 0] + 0.5).astype(int), 0, mask.shape[1] - 1)
        iv = np.clip(np.floor(m[..., 1] + 0.5).astype(int), 0, mask.shape[0] - 1)
        inside &= mask[iv, iu]
    return remap(small, m[..., 0], m[..., 1]), inside, target
