"""Poses: where a photo was taken, always as a 4x4 world-to-camera matrix."""

import numpy as np


def pose(R, t):
    """World-to-camera matrix (4, 4) from rotation (3, 3) and translation (3,)."""
    E = np.eye(4)
    E[:3, :3] = R
    E[:3, 3] = t
    return E


def inverse(E):
    """The inverse of a rigid 4x4 matrix."""
    return pose(E[:3, :3].T, -E[:3, :3].T @ E[:3, 3])


def center(E):
    """Camera center (3,) in world coordinates."""
    return -E[:3, :3].T @ E[:3, 3]


def look_at(eye, target, up=(0.0, 0.0, 1.0)):
    """World-to-camera (4, 4) of a camera at `eye` that looks at `target` with `up` upwards in the picture."""
    eye, target = np.asarray(eye, float), np.asarray(target, float)
    z = target - eye
    z = z / np.linalg.norm(z)
    x = np.cross(z, np.asarray(up, float))
    if np.linalg.norm(x) < 1e-9:
        x = np.cross(z, [0.0, 1.0, 0.0])
    x = x / np.linalg.norm(x)
    R = np.stack([x, np.cross(z, x), z])
    return pose(R, -R @ eye)


def transform(M, points):
    """Points (n, 3) moved by a 4x4 matrix (rigid or similarity)."""
    return points @ M[:3, :3].T + M[:3, 3]
