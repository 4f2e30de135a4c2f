"""Rotations: the three forms we need and the maps between them.

Poses are solved with small rotation vectors (no constraint to carry along), used as matrices
(cheap to apply) and averaged or drawn as axes. Formulas: Rodrigues (1840); Sola et al. 2018.
"""

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def rotation_matrix(w):
    """Rotation matrix (3, 3) of the rotation vector `w` (3,), radians."""
    t2 = w[0] * w[0] + w[1] * w[1] + w[2] * w[2]
    if t2 < 1e-16:
        a, b = 1.0 - t2 / 6.0, 0.5 - t2 / 24.0
    else:
        t = np.sqrt(t2)
        a, b = np.sin(t) / t, (1.0 - np.cos(t)) / t2
    x, y, z = w[0], w[1], w[2]
    R = np.empty((3, 3))
    R[0, 0] = 1.0 - b * (y * y + z * z)
    R[1, 1] = 1.0 - b * (x * x + z * z)
    R[2, 2] = 1.0 - b * (x * x + y * y)
    R[0, 1] = b * x * y - a * z
    R[1, 0] = b * x * y + a * z
    R[0, 2] = b * x * z + a * y
    R[2, 0] = b * x * z - a * y
    R[1, 2] = b * y * z - a * x
    R[2, 1] = b * y * z + a * x
    return R


def rotation_vector(R):
    """Rotation vector (3,), radians, of a rotation matrix (3, 3)."""
    v = np.array([R[2, 1] - R[1, 2], R[0, 2] - R[2, 0], R[1, 0] - R[0, 1]])
    s, c = np.linalg.norm(v) / 2.0, (np.trace(R) - 1.0) / 2.0
    angle = np.arctan2(s, c)
    if s > 1e-7:
        return v * (angle / (2.0 * s))
    if c > 0:
        return v / 2.0
    # about half a turn: the axis is the eigenvector of R that belongs to 1, its sign what is left of `v`
    A = (R + R.T) / 4.0 + np.eye(3) / 2.0
    k = int(np.argmax(np.diag(A)))
    axis = A[:, k] / np.linalg.norm(A[:, k])
    return angle * axis if axis @ v >= 0 else -angle * axis


def rotation_angle(R):
    """Angle of the rotation `R` in radians, accurate near zero too."""
    return float(2.0 * np.arcsin(min(1.0, np.linalg.norm(R - np.eye(3)) / (2.0 * np.sqrt(2.0)))))


def nearest_rotation(M):
    """The rotation (3, 3) closest to `M` in the Frobenius norm."""
    U, _, Vt = np.linalg.svd(M)
    return U @ np.diag([1.0, 1.0, np.sign(np.linalg.det(U @ Vt))]) @ Vt


def rotation_between(a, b):
    """The smallest rotation (3, 3) that turns direction `a` into direction `b`."""
    a, b = np.asarray(a, float) / np.linalg.norm(a), np.asarray(b, float) / np.linalg.norm(b)
    v, c = np.cross(a, b), float(a @ b)
    if c < -1 + 1e-12:
        axis = np.cross(a, np.eye(3)[int(np.argmin(np.abs(a)))])
        return rotation_matrix(np.pi * axis / np.linalg.norm(axis))
    K = np.array([[0, -v[2], v[1]], [v[2], 0, -v[0]], [-v[1], v[0], 0]])
    return np.eye(3) + K + K @ K / (1.0 + c)
