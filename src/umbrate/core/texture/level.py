"""Colors leveled where triangles from different photos meet.

Each vertex has one correction for every photo that triangles round it are taken from. Across a seam the corrected
colors shall be the same, within a photo's part corrections shall change little from vertex to vertex: a sum of
squares, solved exactly (after Lempitsky and Ivanov 2007, seamless mosaicing of image-based texture maps). Beside that
the corrected color shall be the mean of what all photos show there: where the light stands still while the object
turns, one photo's shade is not the object's color, and the mean of many is nearer to it. What is sharp comes from one
photo all the same.
"""

from dataclasses import dataclass

import numpy as np
import scipy

#: weight of even corrections, of the common color, and of small corrections, against equal colors at seams
SMOOTH, COMMON, SMALL = 0.5, 0.35, 1e-3


@dataclass
class Sides:
    """Vertices as photos have them: rows of (vertex, photo), and the row (t, 3) of each triangle's corners, -1 of what
    no photo shows."""

    vertex: np.ndarray
    photo: np.ndarray
    corner: np.ndarray


def sides_of(faces, label):
    """The Sides of a surface whose triangles (t, 3) are taken from photos (t,)."""
    rows = np.flatnonzero(label >= 0)
    many = int(label.max()) + 1 if len(rows) else 1
    key = (faces[rows].astype(np.int64) * many + label[rows][:, None]).ravel()
    keys, at = np.unique(key, return_inverse=True)
    corner = np.full(faces.shape, -1, np.int32)
    corner[rows] = at.reshape(-1, 3)
    return Sides(keys // many, keys % many, corner)


def corrections(sides, color, known=None, common=None):
    """What is added to the colors (m, 3) of sides, float64.

    Parameters
    ----------
    sides : Sides
    color : (m, 3)
        As each photo shows the vertex, exposures evened out.
    known : (m,) bool, optional
        Whether it shows it at all.
    common : (m, 3), optional
        The mean of what all photos show there; not a number where it is not known.
    """
    m = len(sides.vertex)
    if not m:
        return np.zeros((0, 3))
    known = np.ones(m, bool) if known is None else known
    c = sides.corner[sides.corner[:, 0] >= 0]
    pairs = np.concatenate([c[:, [0, 1]], c[:, [1, 2]], c[:, [2, 0]]])
    pairs = np.unique(np.sort(pairs, axis=1), axis=0)
    # sides are in the order of their vertices: those of one stand together
    order = np.flatnonzero(sides.vertex[1:] == sides.vertex[:-1])
    seams = np.stack([order, order + 1], 1)
    both = known[seams].all(1)
    seams = seams[both]
    ends = np.concatenate([seams, pairs])
    w = np.concatenate([np.ones(len(seams)), np.full(len(pairs), SMOOTH)])
    n = len(ends)
    A = scipy.sparse.csr_matrix((np.r_[w, -w], (np.r_[np.arange(n), np.arange(n)], ends.T.ravel())), (n, m))
    right = np.zeros((n, 3))
    right[: len(seams)] = color[seams[:, 1]] - color[seams[:, 0]]
    pull, toward = np.full(m, SMALL), np.zeros((m, 3))
    if common is not None:
        on = known & np.isfinite(common).all(1)
        pull[on] = COMMON**2
        toward[on] = COMMON**2 * (common[on] - color[on])
    M = (A.T @ A + scipy.sparse.diags(pull)).tocsc()
    b = A.T @ (w[:, None] * right) + toward
    solve = scipy.sparse.linalg.splu(M)
    return np.stack([solve.solve(b[:, k]) for k in range(3)], 1)
