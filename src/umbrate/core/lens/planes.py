"""Where a camera stood to a flat sheet: what a calibration starts from.

A homography says how a plane appears; with a focal length it falls apart into a pose. Which focal length is
not known yet, so many are tried and the one that makes all photos of all sheets agree best is kept (after
Zhang 2000, who solves for it; trying is as quick for the few photos there are, and never has no solution).
"""

import numpy as np

from ..geometry.pose import pose
from ..geometry.rotation import nearest_rotation


def homography(plane, image):
    """The homography (3, 3) from plane points (n, 2) to image points (n, 2), n >= 4 (direct linear, normalized)."""

    def normal(p):
        middle = p.mean(0)
        s = np.sqrt(2) / max(float(np.linalg.norm(p - middle, axis=1).mean()), 1e-12)
        return np.array([[s, 0, -s * middle[0]], [0, s, -s * middle[1]], [0, 0, 1.0]])

    A, B = normal(plane), normal(image)
    x, y = (plane * A[0, 0] + A[:2, 2]).T
    u, v = (image * B[0, 0] + B[:2, 2]).T
    zero, one = np.zeros_like(x), np.ones_like(x)
    rows = np.vstack(
        [
            np.stack([x, y, one, zero, zero, zero, -u * x, -u * y, -u], 1),
            np.stack([zero, zero, zero, x, y, one, -v * x, -v * y, -v], 1),
        ]
    )
    H = np.linalg.svd(rows, full_matrices=True)[2][-1].reshape(3, 3)
    return np.linalg.inv(B) @ H @ A


def pose_of_plane(H, f, cx, cy):
    """Plane-to-camera (4, 4) from a homography and a focal length; the plane lies before the camera."""
    G = np.diag([1 / f, 1 / f, 1.0]) @ np.array([[1, 0, -cx], [0, 1, -cy], [0, 0, 1.0]]) @ H
    scale = 2.0 / (np.linalg.norm(G[:, 0]) + np.linalg.norm(G[:, 1]))
    G = G * (scale if G[2, 2] > 0 else -scale)
    R = nearest_rotation(np.stack([G[:, 0], G[:, 1], np.cross(G[:, 0], G[:, 1])], 1))
    return pose(R, G[:, 2])


def _misfit(H, f, cx, cy):
    """How far the columns of a homography are from those of a rotation, 0 where the focal length is right."""
    G = np.diag([1 / f, 1 / f, 1.0]) @ np.array([[1, 0, -cx], [0, 1, -cy], [0, 0, 1.0]]) @ H
    a, b = G[:, 0], G[:, 1]
    la, lb = np.linalg.norm(a), np.linalg.norm(b)
    return (a @ b / (la * lb)) ** 2 + ((la - lb) / (0.5 * (la + lb))) ** 2


def guess_focal(homographies, width, height):
    """A focal length in pixels that suits the homographies of one lens, and how well they determine it.

    Returns
    -------
    f : float
    told : float
        How much worse half and twice the focal length fit: near 1 where the sheets were seen from straight above
        only, which tells nothing.
    """
    cx, cy = (width - 1) / 2, (height - 1) / 2
    trial = max(width, height) * np.geomspace(0.3, 8.0, 120)
    cost = np.array([np.sum([min(_misfit(H, f, cx, cy), 0.5) for H in homographies]) for f in trial])
    best = int(cost.argmin())
    others = np.interp(np.log(trial[best]) + np.log([0.5, 2.0]), np.log(trial), cost)
    return float(trial[best]), float(others.min() / max(float(cost[best]), 1e-12))
