"""The lenses that solving starts from."""

from dataclasses import replace

import numpy as np

from ...core.geometry.lens import PARAMETER_NAMES, Lens
from ...sitting.lenses import lens_groups

GUESSED_SIGMA = 0.4  #: of a focal length that no file tells, as a share of itself
FOUND_SIGMA = 0.1  #: of a focal length found from its photos, as a share of itself
CENTER = ("cx", "cy")  #: what stays where the files have it, where the rows of photos slipped


def center_held(block):
    """Whether the centers of a block's lenses stayed where they were."""
    return not {PARAMETER_NAMES.index(x) for x in CENTER} & set(block.free_lens or ())


def put_held(vectors, photos, lens_of, groups):
    """Put what the Lens stage was told to hold into lens vectors (m, 10), in place."""
    group_of = {i: g for g in groups for i in g.photos}
    for p, k in zip(photos, lens_of, strict=True):
        if g := group_of.get(p.id):
            for name, value in g.held.items():
                vectors[k][PARAMETER_NAMES.index(name)] = value


def lenses_of(photos, groups, apart=None, focals=None):
    """Starting lenses of photos, from what the Lens stage found; `apart` as of `lens_groups`.

    focals : dict of photo id to pixels, optional
        Focal lengths found before, to start from in place of what the files say.

    Returns
    -------
    lenses : list of Lens
    lens_of : list of int
    guessed : int
        Lenses without a focal length in the photos' files.
    trusted : list of int
        Those that stay as they are.
    sigma : (m, 10)
        How well they are known; NaN where nobody knows.
    """
    lenses, lens_of, guessed = lens_groups(photos, apart)
    trusted, sigma = [], np.full((len(lenses), len(PARAMETER_NAMES)), np.nan)
    group_of = {i: g for g in groups for i in g.photos}
    for k in range(len(lenses)):
        g = group_of.get(next(p.id for p, m in zip(photos, lens_of, strict=True) if m == k))
        if g is None or g.lens is None:
            if next(p for p, m in zip(photos, lens_of, strict=True) if m == k).focal_px is None:
                sigma[k, 0] = GUESSED_SIGMA * lenses[k].f
            continue
        lenses[k] = Lens.from_dict(g.lens)
        if g.use == "trusted":
            trusted.append(k)
        else:
            # the focus may have moved a little since: three times what the card says
            sigma[k] = [3 * g.sigma.get(n, np.nan) for n in PARAMETER_NAMES]
    for k in range(len(lenses) if focals else 0):
        own = [focals[p.id] for p, m in zip(photos, lens_of, strict=True) if m == k and p.id in focals]
        if own and k not in trusted:
            lenses[k] = replace(lenses[k], f=float(np.median(own)))
            sigma[k, 0] = FOUND_SIGMA * lenses[k].f
    vectors = [x.vector for x in lenses]
    put_held(vectors, photos, lens_of, groups)
    lenses = [Lens.from_vector(x.width, x.height, v) for x, v in zip(lenses, vectors, strict=True)]
    return lenses, lens_of, guessed, trusted, sigma
