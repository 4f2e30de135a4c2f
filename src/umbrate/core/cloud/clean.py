"""First cleaning: points that stand alone, and points that the photos' own outlines rule out."""

import numpy as np
from scipy.spatial import cKDTree


def isolated(points, neighbors=10, factor=3.0):
    """Points whose neighbors are far away compared with what is usual in the cloud.

    Parameters
    ----------
    points : (n, 3)
    neighbors : int
        The mean distance to this many is judged.
    factor : float
        Isolated is what exceeds this many times the median.

    Returns
    -------
    (n,) bool
    """
    if len(points) <= neighbors:
        return np.zeros(len(points), bool)
    d, _ = cKDTree(points).query(points, k=neighbors + 1, workers=-1)
    mean = d[:, 1:].mean(1)
    return mean > factor * np.median(mean)


def outside_outlines(points, masks, Ks, poses, margin_px=2):
    """In how many photos a point falls on what the mask says is not the object.

    Parameters
    ----------
    points : (n, 3)
    masks : list of (h, w) bool or None
    Ks : (m, 3), poses : (m, 4, 4)
    margin_px : int
        The outline is widened by this much first.

    Returns
    -------
    (n,) int
    """
    from scipy.ndimage import binary_dilation

    count = np.zeros(len(points), np.int64)
    for mask, K, E in zip(masks, Ks, poses, strict=True):
        if mask is None:
            continue
        wide = binary_dilation(mask, iterations=margin_px)
        h, w = wide.shape
        Y = points @ E[:3, :3].T + E[:3, 3]
        z = np.where(Y[:, 2] > 1e-9, Y[:, 2], np.nan)
        with np.errstate(invalid="ignore"):
            u, v = np.round(K[0] * Y[:, 0] / z + K[1]), np.round(K[0] * Y[:, 1] / z + K[2])
            inside = (u >= 0) & (v >= 0) & (u < w) & (v < h)
        rows = np.flatnonzero(inside)
        count[rows] += ~wide[v[rows].astype(int), u[rows].astype(int)]
    return count
