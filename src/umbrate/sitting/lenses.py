"""Which photos share a lens, and the lens to start from."""

import numpy as np

from ..core.geometry.lens import Lens

NO_EXIF_35MM = 50.0  #: focal length that is assumed where the file is silent


def lens_groups(photos):
    """Photos that share a lens: same camera, size and focal length.

    Returns
    -------
    lenses : list of Lens
        A first guess for each group.
    lens_of : list of int
        The group of each photo.
    guessed : int
        How many groups have no focal length in their files.
    """
    keys = [
        (p.camera, p.width, p.height, None if p.focal_px is None else round(p.focal_px, 1), p.focal_mm) for p in photos
    ]
    groups = sorted(set(keys), key=keys.index)
    lenses, guessed = [], 0
    for _, w, h, focal, _ in groups:
        if focal is None:
            guessed += 1
            focal = NO_EXIF_35MM * float(np.hypot(w, h)) / float(np.hypot(36.0, 24.0))
        lenses.append(Lens.guess(w, h, focal))
    return lenses, [groups.index(k) for k in keys], guessed


def group_name(photo):
    """What photos of one lens and zoom are called."""
    focal = f"{photo.focal_mm:g} mm" if photo.focal_mm else "focal length unknown"
    return f"{photo.camera or 'camera unknown'}, {focal}, {photo.width} x {photo.height}"
