"""How far two surfaces lie apart where both have surface."""

import numpy as np
import scipy

from ..cloud.grid import spacing_of

BESIDE = 1.5  #: spacings: a nearest point farther to the side than this is the rim of the other surface, not it
FACING = 0.3  #: least cosine between the normals


def surface_distances(points, normals, others, other_normals, reach):
    """Distance (n,) of points to another surface along its normals, with a sign; infinite where it has nothing there.

    Past the rim of the other surface the nearest point lies to the side: that is no distance between surfaces.

    Parameters
    ----------
    points, normals : (n, 3)
    others, other_normals : (m, 3)
    reach : float
        Farther is not looked.
    """
    d, j = scipy.spatial.cKDTree(others).query(points, distance_upper_bound=reach, workers=-1)
    out = np.full(len(points), np.inf, np.float32)
    on = np.flatnonzero(np.isfinite(d))
    n = other_normals[j[on]]
    along = ((points[on] - others[j[on]]) * n).sum(1)
    beside = np.sqrt(np.maximum(d[on] ** 2 - along**2, 0.0))
    good = (beside < BESIDE * spacing_of(others)) & ((normals[on] * n).sum(1) > FACING)
    out[on[good]] = along[good]
    return out
