"""Normals of few points that are not a surface yet: tie points."""

import numpy as np
import scipy

NEIGHBORS = 12
ASLANT = 0.3  #: cosine; a plane through the neighbors that is seen at less than this tells nothing


def sparse_normals(points, toward):
    """Unit vectors out of the surface that few points lie on.

    Each is across the plane that fits a point's neighbors best (least squares), on the side that it is seen from; where
    that plane is seen nearly edge-on (few points, or none on its surface beside it), the direction it is seen from.

    Parameters
    ----------
    points : (n, 3)
    toward : (n, 3)
        From each point to where it is seen from, of any length.

    Returns
    -------
    (n, 3) float64
    """
    P = np.asarray(points, np.float64)
    seen = np.asarray(toward, np.float64)
    seen = seen / np.maximum(np.linalg.norm(seen, axis=1, keepdims=True), 1e-12)
    if len(P) <= NEIGHBORS:
        return seen
    near = scipy.spatial.cKDTree(P).query(P, NEIGHBORS + 1)[1]
    d = P[near] - P[near].mean(1, keepdims=True)
    normals = np.linalg.eigh(np.einsum("nki,nkj->nij", d, d))[1][:, :, 0]
    cos = (normals * seen).sum(1)
    normals *= np.where(cos < 0, -1.0, 1.0)[:, None]
    return np.where((np.abs(cos) < ASLANT)[:, None], seen, normals)
