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


def circle_normals(outline):
    """The two planes in which an ellipse may be a circle, seen from the origin.

    Parameters
    ----------
    outline : (m, 2)
        Five or more places of the ellipse in the picture at focal length 1.

    Returns
    -------
    (2, 3)
        Unit normals that point to the camera; the same one twice where the circle is seen straight on
        (Kanatani and Liu 1993).
    """
    middle, size = outline.mean(0), np.linalg.norm(outline - outline.mean(0), axis=1).mean()
    x, y = ((outline - middle) / size).T
    a, b, c, d, e, f = np.linalg.svd(np.stack([x * x, x * y, y * y, x, y, np.ones_like(x)], 1))[2][-1]
    T = np.array([[1 / size, 0, -middle[0] / size], [0, 1 / size, -middle[1] / size], [0, 0, 1.0]])
    C = T.T @ np.array([[a, b / 2, d / 2], [b / 2, c, e / 2], [d / 2, e / 2, f]]) @ T
    if np.linalg.det(C) > 0:
        C = -C  # two positive eigenvalues and a negative one
    values, axes = np.linalg.eigh(C)
    low, mid, high = values
    s, t = np.sqrt(max(high - mid, 0.0) / (high - low)), np.sqrt(max(mid - low, 0.0) / (high - low))
    out = np.stack([s * axes[:, 2] + t * axes[:, 0], -s * axes[:, 2] + t * axes[:, 0]])
    ray = np.array([*middle, 1.0])
    return out * np.where(out @ ray > 0, -1.0, 1.0)[:, None]


def outline(dot, lens):
    """The edge of a dot (16, 2) and the center of its ellipse (2,), in the picture at focal length 1.

    dot : (12,)
        See `dots.fit_dots`.
    """
    turn = np.linspace(0, 2 * np.pi, 16, endpoint=False)
    edge = (np.linalg.inv([[dot[2], dot[3]], [dot[3], dot[4]]]) @ [np.cos(turn), np.sin(turn)]).T + dot[:2]
    there = lens.unproject(np.vstack([edge, dot[:2]]))
    return there[:-1], there[-1]


def slant_shift(dot, lens, near):
    """By how many pixels (2,) an ellipse's center lies off the picture of its circle's center, from the ellipse alone.

    Of the two planes it may lie in, that nearer to a rough normal is taken. The size need not be known: the picture
    is the same whatever the distance.

    Parameters
    ----------
    dot : (12,)
        See `dots.fit_dots`.
    lens : Lens
    near : (3,)
        A rough normal in the camera's frame, towards the camera.
    """
    edge, at = outline(dot, lens)
    normals = circle_normals(edge)
    normal = normals[(normals @ near).argmax()]
    radius = np.linalg.norm(edge - at, axis=1).max()
    off = center_shift(np.array([[*at, 1.0]]), normal[None], np.array([radius]))[0]
    return lens.project((at + off)[None])[0] - dot[:2]
