"""A turntable seen in the poses: the axis, the rings, the step between shots, and what slipped.

On a turntable the camera stands still and the object turns; seen from the object, the camera goes round an axis, and
not only its place but its whole frame turns with it. So between two shots of one ring the turn of the camera, as the
object sees it, is about the same axis for all, and place and turn must agree. A shot that does not: the table was
bumped, or the camera. By hand nobody walks that round, and nothing is found.
"""

from dataclasses import dataclass, field

import numpy as np

from ..geometry.pose import center
from ..geometry.rotation import rotation_matrix, rotation_vector

LEAST_RING = 5  #: photos of a ring
SAME_AXIS_DEG = 4.0  #: a turn about an axis further off than this is none of the table's
LEAST_TURN_DEG = 1.0
SHARE = 0.6  #: of the solved photos must stand on rings
ROUND = 0.02  #: how far a center may be off its circle, as a share of the radius: the median
SLIP = 6.0  #: a shot so many times further off than the others has slipped
LEAST_SLIP_DEG = 0.15


@dataclass
class Ring:
    """Shots that the camera took from one place.

    Attributes
    ----------
    photos : (k,) int, in shooting order
    angles_deg : (k,)
        How far the object had turned, from the first shot on.
    off_deg : (k,)
        Angle by which each photo's frame is off the ring's, seen from the axis.
    radius, height : float
        Of the circle, and along the axis.
    step_deg : float
        The median step.
    """

    photos: np.ndarray
    angles_deg: np.ndarray
    off_deg: np.ndarray
    radius: float
    height: float
    step_deg: float


@dataclass
class Turntable:
    """An axis (point, direction, both (3,)), the rings about it, and shots (photo, sentence) that slipped."""

    point: np.ndarray
    direction: np.ndarray
    rings: list
    slips: list = field(default_factory=list)


def _axis(turns):
    """The direction that most turns (k, 3), rotation vectors, share; their sign does not count."""
    v = turns / np.linalg.norm(turns, axis=1, keepdims=True)
    weight = np.ones(len(v))
    for _ in range(20):
        axis = np.linalg.eigh((v * weight[:, None]).T @ v)[1][:, -1]
        off = np.degrees(np.arccos(np.clip(np.abs(v @ axis), 0, 1)))
        weight = 1.0 / (1.0 + (off / SAME_AXIS_DEG) ** 2) ** 2
    return axis if (turns @ axis).sum() >= 0 else -axis


def _middle(centers, axis):
    """Center (3,) of the circle about a direction that points (k, 3) lie on, and its radius; least squares."""
    x = np.linalg.svd(axis[None])[2][1:]  # two directions across
    q = centers @ x.T
    A = np.c_[2 * q, np.ones(len(q))]
    a, b, c = np.linalg.lstsq(A, (q**2).sum(1), rcond=None)[0]
    return a * x[0] + b * x[1] + axis * float(np.mean(centers @ axis)), float(np.sqrt(max(c + a * a + b * b, 0.0)))


def find_turntable(poses):
    """The Turntable that poses (n, 4, 4) in shooting order show, or None. NaN where a photo is not solved."""
    solved = np.flatnonzero(np.isfinite(poses[:, 0, 0]))
    if len(solved) < LEAST_RING + 1:
        return None
    W = poses[solved, :3, :3].transpose(0, 2, 1)
    turns = np.array([rotation_vector(W[k + 1] @ W[k].T) for k in range(len(solved) - 1)])
    angle = np.degrees(np.linalg.norm(turns, axis=1))
    moving = angle > LEAST_TURN_DEG
    if moving.sum() < LEAST_RING:
        return None
    axis = _axis(turns[moving])
    along = np.degrees(np.arccos(np.clip(np.abs(turns @ axis) / np.maximum(np.radians(angle), 1e-12), 0, 1)))
    # a slip tilts two turns; the ring goes on where the turn over both is about the axis again
    parts, run = [], [0]
    for k in range(len(solved) - 1):
        over = rotation_vector(W[k + 1] @ W[run[0]].T)
        length = np.degrees(np.linalg.norm(over))
        off = np.degrees(np.arccos(np.clip(abs(over @ axis) / max(np.radians(length), 1e-12), 0, 1)))
        # near no turn and near half a turn the axis of a turn is poorly determined
        if along[k] < SAME_AXIS_DEG or off < SAME_AXIS_DEG or length < 3 * LEAST_TURN_DEG:
            run.append(k + 1)
        else:
            parts.append(run)
            run = [k + 1]
    parts.append(run)
    centers = np.array([center(E) for E in poses[solved]])
    rings, slips, points, weights = [], [], [], []
    for run in parts:
        if len(run) < LEAST_RING:
            continue
        made = _ring(solved[run], W[run], centers[run], axis)
        if made is None:
            continue
        ring, middle, slipped = made
        rings.append(ring)
        slips += slipped
        points.append(middle)
        weights.append(len(run))
    if sum(weights) < SHARE * len(solved):
        return None
    point = np.average(points, axis=0, weights=weights)
    for ring, middle in zip(rings, points, strict=True):
        ring.height = float((middle - point) @ axis)
    return Turntable(point, axis, rings, slips)


def _ring(photos, W, centers, axis):
    """The Ring of photos, its middle, and its slips; None where the photos stand on no circle."""
    middle, radius = _middle(centers, axis)
    out = centers - middle
    x = out[0] - axis * (out[0] @ axis)
    if np.linalg.norm(x) < 1e-9:
        return None
    x /= np.linalg.norm(x)
    y = np.cross(axis, x)
    angle = np.degrees(np.unwrap(np.arctan2(out @ y, out @ x)))
    away = np.abs(np.linalg.norm(out - np.outer(out @ axis, axis), axis=1) - radius)
    if np.median(away) > ROUND * radius:
        return None
    # the frames, turned back by the angle of their centers, must all be the same one
    back = np.array([rotation_matrix(-np.radians(a) * axis) @ w for a, w in zip(angle, W, strict=True)])
    usual = _mean(back)
    off = np.degrees([np.linalg.norm(rotation_vector(b @ usual.T)) for b in back])
    lift = out @ axis
    shift = np.degrees(np.hypot(away, lift - np.median(lift)) / radius)
    steps = np.diff(angle)
    step = float(np.median(steps)) if len(steps) else 0.0
    slips = []
    for k in range(len(photos)):
        for value, what in ((off, "turned"), (shift, "moved")):
            if value[k] > max(SLIP * np.median(value), LEAST_SLIP_DEG):
                slips.append(
                    (int(photos[k]), f"camera or table {what} by {value[k]:.1f}° against the rest of the ring")
                )
                break
    for k, s in enumerate(steps):
        # over photos that are not placed the table went on
        passed = np.arange(1, photos[k + 1] - photos[k] + 1) * step
        if np.abs(s - passed).min() > 0.35 * abs(step):
            slips.append((int(photos[k + 1]), f"a step of {abs(s):.1f}° where others are {abs(step):.1f}°"))
    return Ring(photos, np.sign(step) * (angle - angle[0]), off, radius, 0.0, abs(step)), middle, slips


def _mean(turns):
    """A robust mean (3, 3) of turns (k, 3, 3)."""
    mean = turns[len(turns) // 2]
    for _ in range(15):
        v = np.array([rotation_vector(t @ mean.T) for t in turns])
        size = np.linalg.norm(v, axis=1)
        weight = 1.0 / np.maximum(size, max(0.3 * float(np.median(size)), 1e-9))
        mean = rotation_matrix((v * weight[:, None]).sum(0) / weight.sum()) @ mean
    return mean
