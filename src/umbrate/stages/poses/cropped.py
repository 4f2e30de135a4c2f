"""Photos that were cropped: the lens does not look at their middle.

A photo that somebody cropped has fewer pixels than others of its camera, and their focal length in pixels, while one
that was made smaller has a shorter one. Its lens is theirs but for the center, which can be anywhere.
"""

import numpy as np

from ...core.geometry.lens import PARAMETER_NAMES, Lens

LEAST_USUAL = 3  #: photos that are not cropped, to know their lens by
LIKE, UNLIKE = 0.05, 0.1  #: focal lengths are one up to such a share of them, and another from such a share on
ASPECT = 0.005  #: shapes of pictures are one up to such a share
CENTER_SHARE = 0.3  #: of the longer side: how far off the middle the lens may look, as a standard deviation
#: how far the rest may differ from the others' lens, as standard deviations; the focal length as a share of itself
HELD = {"f": 0.002, "k1": 0.002, "k2": 0.02, "k3": 0.1, "p1": 1e-4, "p2": 1e-4, "b1": 0.5, "b2": 0.5}


def _long(photo):
    return max(photo.width, photo.height)


def _diagonal(photo):
    return float(np.hypot(photo.width, photo.height))


def _shape(photo):
    return _long(photo) / min(photo.width, photo.height)


def _as_files_say(photo, usual):
    """Whether a photo is a part of pictures like another, as their files say: one lens, and another shape."""
    if not photo.camera or photo.camera != usual.camera or photo.focal_mm != usual.focal_mm:
        return False
    if photo.focal_px is None or usual.focal_px is None:
        return False
    wide, usually = photo.focal_px / _diagonal(photo), usual.focal_px / _diagonal(usual)
    return abs(wide / usually - 1) < 1e-3 and abs(_shape(photo) / _shape(usual) - 1) > ASPECT


def _usual(photos):
    """Rows of one photo of each size that several have, those of most photos first."""
    sizes = {}
    for k, p in enumerate(photos):
        sizes.setdefault((p.camera, *sorted((p.width, p.height))), []).append(k)
    return [rows[0] for rows in sorted(sizes.values(), key=len, reverse=True) if len(rows) >= LEAST_USUAL]


def _smaller(photo, usual):
    return _long(photo) <= _long(usual) and _diagonal(photo) < _diagonal(usual)


def focals_of_cropped(photos):
    """Focal lengths in pixels, by photo id, to start from where files tell that photos were cropped.

    The files still say what the whole picture showed.
    """
    out = {}
    for u in (photos[k] for k in _usual(photos)):
        out |= {p.id: u.focal_px for p in photos if p.id not in out and _smaller(p, u) and _as_files_say(p, u)}
    return out


def cropped(photos, focal, trusted=()):
    """Which photos were cropped, by their files or by the focal lengths (n,) in pixels that were found for them.

    trusted : rows of photos whose lens is known, which were not; others may be parts of pictures like them

    Returns
    -------
    dict of int to int
        Photo id to that of a photo that was not.
    """
    out = {}
    for u in _usual(photos):
        usual = photos[u]
        for k, (p, f) in enumerate(zip(photos, focal, strict=True)):
            known = np.isfinite(f) and np.isfinite(focal[u]) and k not in trusted
            if p.id in out or not known or p.camera != usual.camera or not _smaller(p, usual):
                continue
            like, smaller = np.log(f / focal[u]), np.log(_diagonal(p) / _diagonal(usual))
            found = abs(like) < LIKE and abs(like - smaller) > UNLIKE
            if found or (_as_files_say(p, usual) and abs(like) < LIKE):
                out[p.id] = usual.id
    return {i: u for i, u in out.items() if u not in out}


def with_open_centers(making, known):
    """Give the cropped photos of a Making lenses to start from whose centers are open.

    known : dict of photo id to (10,)
        The lens vectors of photos that were not cropped, of which theirs are parts.
    """
    for row, p in enumerate(making.photos):
        if p.id not in known:
            continue
        k, usual = making.lens_of[row], np.array(known[p.id])
        usual[1:3] = (p.width - 1) / 2.0, (p.height - 1) / 2.0
        making.lenses[k] = Lens.from_vector(p.width, p.height, usual)
        sigma = [CENTER_SHARE * _long(p) if n in ("cx", "cy") else HELD[n] for n in PARAMETER_NAMES]
        making.lens_sigma[k] = [sigma[0] * usual[0], *sigma[1:]]
