"""The center of a circle is not where its ellipse has its center.

Seen at a slant, the far half of a circle is smaller than the near half, so the middle of the ellipse lies nearer
to the camera's side than the picture of the circle's center: by some hundredths of a pixel for small dots, by half
a pixel for large ones. The ellipse is the projection of the circle's conic, in closed form (Heikkila 2000).
"""

import numpy as np


def center_shift(centers, normals, radii):
    """How far ellipse centers lie from the projected circle centers, in the picture at focal length 1.

    Parameters
    ----------
    centers, normals : (n, 3)
        Of circles in the camera's frame.
    radii : (n,)

    Returns
    -------
    (n, 2)
        Ellipse center minus projected center, x/z and y/z.
    """
    normals = normals / np.linalg.norm(normals, axis=1, keepdims=True)
    # any two directions in the plane
    other = np.where(np.abs(normals[:, :1]) < 0.9, [[1.0, 0, 0]], [[0, 1.0, 0]])
    u = np.cross(normals, other)
    u /= np.linalg.norm(u, axis=1, keepdims=True)
    v = np.cross(normals, u)
    H = np.stack([u * radii[:, None], v * radii[:, None], centers], axis=2)
    D = H @ np.diag([1.0, 1.0, -1.0]) @ H.transpose(0, 2, 1)  # the dual conic
    return D[:, :2, 2] / D[:, 2:, 2] - centers[:, :2] / centers[:, 2:]


def circle_normals(outlines):
    """The two planes in which each ellipse may be a circle, seen from the origin.

    Parameters
    ----------
    outlines : (n, m, 2)
        Five or more places of each ellipse in the picture at focal length 1.

    Returns
    -------
    (n, 2, 3)
        Unit normals that point to the camera; the same one twice where the circle is seen straight on
        (Kanatani and Liu 1993).
    """
    n, middle = len(outlines), outlines.mean(1)
    size = np.linalg.norm(outlines - middle[:, None], axis=2).mean(1)
    x, y = np.moveaxis((outlines - middle[:, None]) / size[:, None, None], 2, 0)
    a, b, c, d, e, f = np.linalg.svd(np.stack([x * x, x * y, y * y, x, y, np.ones_like(x)], 2))[2][:, -1].T
    T = np.zeros((n, 3, 3))
    T[:, 0, 0] = T[:, 1, 1] = 1 / size
    T[:, :2, 2], T[:, 2, 2] = -middle / size[:, None], 1.0
    C = np.stack([a, b / 2, d / 2, b / 2, c, e / 2, d / 2, e / 2, f], 1).reshape(n, 3, 3)
    C = T.transpose(0, 2, 1) @ C @ T
    C = np.where(np.linalg.det(C) > 0, -1.0, 1.0)[:, None, None] * C  # two positive eigenvalues and a negative one
    values, axes = np.linalg.eigh(C)
    low, mid, high = values.T
    s, t = np.sqrt(np.maximum(high - mid, 0.0) / (high - low)), np.sqrt(np.maximum(mid - low, 0.0) / (high - low))
    far, near = s[:, None] * axes[:, :, 2], t[:, None] * axes[:, :, 0]
    out = np.stack([near + far, near - far], 1)
    ray = np.c_[middle, np.ones(n)]
    return out * np.where(np.einsum("nkj,nj->nk", out, ray) > 0, -1.0, 1.0)[:, :, None]


def outlines_of(dots, lens):
    """The edges of dots (n, 16, 2) and the centers of their ellipses (n, 2), in the picture at focal length 1.

    dots : (n, 12)
        See `dots.fit_dots`.
    """
    turn = np.linspace(0, 2 * np.pi, 16, endpoint=False)
    shape = np.linalg.inv(dots[:, [2, 3, 3, 4]].reshape(-1, 2, 2))
    edges = (shape @ np.array([np.cos(turn), np.sin(turn)])).transpose(0, 2, 1) + dots[:, None, :2]
    return lens.unproject(edges.reshape(-1, 2)).reshape(edges.shape), lens.unproject(dots[:, :2])


def slant_shifts(dots, lens, near):
    """By how many pixels (n, 2) ellipses' centers lie off the pictures of their circles' centers, from the ellipses.

    Of the two planes each may lie in, that nearer to a rough normal is taken. The size need not be known: the picture
    is the same whatever the distance.

    Parameters
    ----------
    dots : (n, 12)
        See `dots.fit_dots`.
    lens : Lens
    near : (n, 3)
        Rough normals in the camera's frame, towards the camera.
    """
    edges, at = outlines_of(dots, lens)
    normals = circle_normals(edges)
    normals = normals[np.arange(len(dots)), np.einsum("nkj,nj->nk", normals, near).argmax(1)]
    radii = np.linalg.norm(edges - at[:, None], axis=2).max(1)
    off = center_shift(np.c_[at, np.ones(len(at))], normals, radii)
    return lens.project(at + off) - dots[:, :2]
