"""Two photos alone: no third one confirms what they say, so that the check between them has to be the finer one.

Depth of a narrow pair is unsure by far more than a share of the distance; what counts is whether both maps mean the
same pixel. Small pieces of depth that are connected with nothing are mistakes more often than not, and are left out.
"""

import numpy as np
import scipy

from ..geometry.pose import center

BACK_PX = 0.85  #: largest distance of the way to the other photo and back
LEAST_COS = -1.0  #: between their normals: at narrow angles these say little
LEAST_PIECE = 50  #: connected pixels


def inverse_step(K, poses):
    """By how much 1 / depth changes where a point moves by one pixel in the other photo: K (2, 3), poses (2, 4, 4)."""
    base = np.linalg.norm(center(poses[1]) - center(poses[0]))
    return 1.0 / (float(np.mean(K[:, 0])) * max(base, 1e-12))


def pair_tolerance(depth, step):
    """Relative difference of depth that one and a half pixels make at the farthest of it."""
    return 1.5 * step * float(np.percentile(depth[depth > 0], 99)) if (depth > 0).any() else 0.0


def without_specks(depth, step, least=LEAST_PIECE):
    """A depth map (h, w) without pieces of fewer than `least` pixels.

    Neighboring pixels are connected where 1 / depth differs by no more than `step`.
    """
    known = depth > 0
    inverse = np.where(known, 1.0 / np.where(known, depth, 1.0), np.inf)
    index = np.arange(depth.size).reshape(depth.shape)
    rows, columns = [], []
    for a, b in ((np.s_[:, :-1], np.s_[:, 1:]), (np.s_[:-1], np.s_[1:])):
        on = known[a] & known[b]
        on[on] = np.abs(inverse[a][on] - inverse[b][on]) <= step
        rows.append(index[a][on])
        columns.append(index[b][on])
    rows, columns = np.concatenate(rows), np.concatenate(columns)
    links = scipy.sparse.coo_matrix((np.ones(len(rows), np.uint8), (rows, columns)), (depth.size, depth.size))
    piece = scipy.sparse.csgraph.connected_components(links, directed=False)[1]
    small = (np.bincount(piece) < least)[piece].reshape(depth.shape)
    return np.where(small, 0, depth).astype(depth.dtype)
