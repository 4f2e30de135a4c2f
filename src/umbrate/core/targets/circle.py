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
