"""Standing the object up: which way is up, which way is x, and where zero is.

People give each by things that they can point to: targets or marked points that lie level, the axis of the turntable,
two points along an edge. A level is kept as what it was made from, not as a matrix: when the poses change, it follows.
"""

import numpy as np

from ..errors import UmbrateError
from ..geometry.rotation import rotation_between

FLAT = 0.05  #: frame points whose spread across their line is less than this share of that along it do not hold a plane


def up_of_points(points, towards):
    """Unit normal (3,) of the plane through points (n, 3), on the side of `towards` (3,), and a point (3,) of it.

    Raises
    ------
    UmbrateError
        Where there are fewer than three or they lie nearly on a line.
    """
    points = np.asarray(points, float)
    if len(points) < 3:
        raise UmbrateError(f"A level needs three points or more that are not in line; here are {len(points)}.")
    _, s, Vt = np.linalg.svd(points - points.mean(0))
    if s[1] < FLAT * s[0]:
        raise UmbrateError(
            f"These {len(points)} points lie nearly on one line ({100 * s[1] / s[0]:.1f} % aside of it): the level "
            "could turn about it. Take one that lies aside."
        )
    middle, up = points.mean(0), Vt[2]
    return (up if up @ (np.asarray(towards) - middle) >= 0 else -up), middle


def frame(up, along=None, origin=None):
    """The rigid motion (4, 4) after which `up` is z, `along` lies in the half plane of x and z, `origin` is zero.

    up : (3,); along : (3,), optional, a direction that becomes x as far as it is level; origin : (3,), optional
    """
    M = np.eye(4)
    R = rotation_between(up, [0, 0, 1])
    if along is not None:
        a = R @ np.asarray(along, float)
        if not np.hypot(a[0], a[1]) > 1e-6 * np.linalg.norm(a):
            raise UmbrateError(
                "The two points along x are the same or lie one above the other: they say no direction. Take others."
            )
        turn = -np.arctan2(a[1], a[0])
        R = np.array([[np.cos(turn), -np.sin(turn), 0], [np.sin(turn), np.cos(turn), 0], [0, 0, 1]]) @ R
    M[:3, :3] = R
    if origin is not None:
        M[:3, 3] = -R @ np.asarray(origin, float)
    return M
