"""Which photos share a lens, and the lens to start from."""

from datetime import datetime

import numpy as np

from ..core.geometry.lens import Lens

NO_EXIF_35MM = 50.0  #: focal length that is assumed where the file is silent
SAME_FOCUS = 0.02  #: distances that the lens was focused at are the same within this share
SAME_DAY_H = 24.0  #: photos taken longer apart were not taken with the camera left as it was


def lens_groups(photos, apart=None):
    """Photos that share a lens: same camera, size and focal length.

    apart : dict of photo id to anything, optional
        Photos with another value have another lens, whatever their files say.

    Returns
    -------
    lenses : list of Lens
        A first guess for each group.
    lens_of : list of int
        The group of each photo.
    guessed : int
        How many groups have no focal length in their files.
    """
    apart = apart or {}
    keys = [(*_kind(p), apart.get(p.id)) for p in photos]
    groups = sorted(set(keys), key=keys.index)
    lenses, guessed = [], 0
    for _, w, h, focal, *_ in groups:
        if focal is None:
            guessed += 1
            focal = NO_EXIF_35MM * float(np.hypot(w, h)) / float(np.hypot(36.0, 24.0))
        lenses.append(Lens.guess(w, h, focal))
    return lenses, [groups.index(k) for k in keys], guessed


def _kind(photo):
    """What photos of one camera and zoom have in common."""
    focal = None if photo.focal_px is None else round(photo.focal_px, 1)
    return photo.camera, photo.width, photo.height, focal, photo.focal_mm


def same_lens(some, others):
    """Whether two groups of photos, of one lens each, were taken with the same lens set alike, as far as files tell.

    They have to tell of camera and focal length; where they tell of the lens, its focus and the time, that has to agree
    too.
    """
    a, b = some[0], others[0]
    if not a.camera or a.focal_px is None or _kind(a) != _kind(b) or (a.lens and b.lens and a.lens != b.lens):
        return False
    focus = [np.median([p.focus_m for p in group if p.focus_m] or [np.nan]) for group in (some, others)]
    if np.isfinite(focus).all() and abs(focus[0] / focus[1] - 1) > SAME_FOCUS:
        return False
    times = [[datetime.fromisoformat(p.taken).timestamp() for p in group if p.taken] for group in (some, others)]
    if not all(times):
        return True
    gap = max(min(times[0]) - max(times[1]), min(times[1]) - max(times[0]))
    return gap <= 3600 * SAME_DAY_H


def group_name(photo):
    """What photos of one lens and zoom are called."""
    focal = f"{photo.focal_mm:g} mm" if photo.focal_mm else "focal length unknown"
    return f"{photo.camera or 'camera unknown'}, {focal}, {photo.width} x {photo.height}"
