"""A plain frame for a block that has none: tie points round the origin, z up, photos at distance 1.

Photos alone say nothing of place, direction and size. People still want to see the object standing,
and numbers of a handy size; the level and the scale proper are set in a later stage.
"""

import numpy as np

from ..geometry.pose import center
from ..geometry.rotation import rotation_between
from ..geometry.similarity import move_pose

#: which way is up in the camera frame, for each EXIF orientation: portrait shots count with their true upward side
_UPWARD = {
    1: (0, -1, 0), 2: (0, -1, 0), 3: (0, 1, 0), 4: (0, 1, 0), 5: (-1, 0, 0), 6: (-1, 0, 0), 7: (1, 0, 0), 8: (1, 0, 0),
}  # fmt: skip


def upright_frame(poses, points, orientations=None):
    """The similarity (4, 4) that brings a block into a plain frame.

    The cameras' mean upward direction is taken as up, which holds for rings and for people who hold a
    camera straight.

    Parameters
    ----------
    poses : (n, 4, 4)
        Solved photos only, at least one.
    points : (p, 3)
        Tie points, at least one.
    orientations : (n,) int, optional
        EXIF orientations.
    """
    orientations = np.ones(len(poses), int) if orientations is None else orientations
    up = sum(
        E[:3, :3].T @ np.array(_UPWARD.get(int(o), (0, -1, 0)), float) for E, o in zip(poses, orientations, strict=True)
    )
    R = rotation_between(up, [0, 0, 1]) if np.linalg.norm(up) > 1e-6 else np.eye(3)
    middle = np.median(points, axis=0)
    away = np.median([np.linalg.norm(center(E) - middle) for E in poses])
    s = 1.0 / max(float(away), 1e-12)
    M = np.eye(4)
    M[:3, :3] = s * R
    M[:3, 3] = -s * R @ middle
    return M


def move_block(poses, points, M):
    """Poses (n, 4, 4), NaN where unsolved, and points (p, 3) after the world was moved by a similarity."""
    moved = np.array([move_pose(E, M) if np.isfinite(E[0, 0]) else E for E in poses]).reshape(-1, 4, 4)
    return moved, points @ M[:3, :3].T + M[:3, 3]
