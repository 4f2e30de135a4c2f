"""Similarities: scale, rotation and shift that bring one frame onto another.

A block solved from photos alone has no scale and no preferred frame, so every comparison of two
blocks, or of a block with the truth, starts here. Closed form by Umeyama (1991).
"""

import numpy as np

from .pose import center, pose
from .rotation import rotation_angle


def fit_similarity(source, target, weights=None, with_scale=True):
    """Least-squares similarity from points to points.

    Parameters
    ----------
    source, target : (n, 3) arrays, n >= 3
    weights : (n,) array, optional
    with_scale : bool
        False keeps the scale at 1.

    Returns
    -------
    M : (4, 4) array
        ``target ~ M[:3, :3] @ source + M[:3, 3]`` where ``M[:3, :3] = s R``.
    """
    w = np.ones(len(source)) if weights is None else np.asarray(weights, float)
    w = w / w.sum()
    ma, mb = w @ source, w @ target
    X, Y = source - ma, target - mb
    U, D, Vt = np.linalg.svd((Y * w[:, None]).T @ X)
    S = np.array([1.0, 1.0, np.sign(np.linalg.det(U @ Vt)) or 1.0])
    R = (U * S) @ Vt
    s = float((D * S).sum() / max((w @ (X**2)).sum(), 1e-300)) if with_scale else 1.0
    return pose(s * R, mb - s * R @ ma)


def scale_of(M):
    """The scale factor of a similarity matrix (4, 4)."""
    return float(np.cbrt(np.linalg.det(M[:3, :3])))


def move_pose(E, M):
    """The pose `E` (world to camera) after the world was moved by the similarity `M` (rigid again)."""
    s = scale_of(M)
    R = E[:3, :3] @ (M[:3, :3] / s).T
    c = M[:3, :3] @ center(E) + M[:3, 3]
    return pose(R, -R @ c)


def compare_poses(estimated, truth):
    """Errors of poses against the truth after a similarity fit of the camera centers.

    Parameters
    ----------
    estimated, truth : sequences of (4, 4) world-to-camera matrices, at least 3, in the same order

    Returns
    -------
    M : (4, 4) similarity from the estimated to the true frame
    rotation_deg, center : (n,) arrays
        Angle between orientations, distance between centers in true units.
    """
    M = fit_similarity(np.array([center(E) for E in estimated]), np.array([center(E) for E in truth]))
    moved = [move_pose(E, M) for E in estimated]
    rot = np.array([np.degrees(rotation_angle(A[:3, :3] @ B[:3, :3].T)) for A, B in zip(moved, truth, strict=True)])
    cen = np.array([np.linalg.norm(center(A) - center(B)) for A, B in zip(moved, truth, strict=True)])
    return M, rot, cen


def difference(M, N, middle):
    """How two similarities differ: rotation in degrees, shift of a place of the first frame, scale as a share."""
    D = N @ np.linalg.inv(M)
    s = scale_of(D)
    cos = np.clip((np.trace(D[:3, :3] / s) - 1) / 2, -1, 1)
    p, q = (X[:3, :3] @ middle + X[:3, 3] for X in (M, N))
    return float(np.degrees(np.arccos(cos))), float(np.linalg.norm(p - q)), s - 1.0
