"""The reprojection error: where a point is predicted less where a photo saw it, and its derivatives.

The kernels take what belongs together as named tuples: `State` is what an adjustment moves, `Observations` what the
photos saw. n photos, m lenses, p points, k sightings.
"""

from typing import NamedTuple

import numpy as np
from numba import njit

from ..geometry.lens import N_PARAMETERS, project_one

SQUARED, HUBER, CAUCHY = 0, 1, 2
NEAREST = 1e-9  #: least depth of a point that a photo can have seen


class State(NamedTuple):
    """What an adjustment moves.

    Attributes
    ----------
    poses : (n, 4, 4) float64
        World to camera.
    lenses : (m, 10) float64
        Lens vectors.
    points : (p, 3) float64
    """

    poses: np.ndarray
    lenses: np.ndarray
    points: np.ndarray


class Observations(NamedTuple):
    """What the photos saw, sorted by point. See `observations`.

    Attributes
    ----------
    lens_of : (n,) int64
        The lens of each photo.
    photo, point : (k,) int64
    xy : (k, 2) float64
        Seen pixels.
    weight : (k,) float64
        One over the standard deviation of each sighting.
    start : (p + 1,) int64
        Where the sightings of each point begin.
    """

    lens_of: np.ndarray
    photo: np.ndarray
    point: np.ndarray
    xy: np.ndarray
    weight: np.ndarray
    start: np.ndarray


class Loss(NamedTuple):
    """How much large residuals count: SQUARED, HUBER or CAUCHY, and the standard deviations where it starts to bend."""

    kind: int = HUBER
    scale: float = 1.0


class Derivatives(NamedTuple):
    """Weighted residuals (k, 2) of the sightings and their derivatives by pose (k, 2, 6), lens (k, 2, 10) and point
    (k, 2, 3)."""

    residual: np.ndarray
    by_pose: np.ndarray
    by_lens: np.ndarray
    by_point: np.ndarray


def observations(lens_of, photo, point, xy, sigma=None, points=None):
    """Observations from plain arrays.

    Parameters
    ----------
    lens_of : (n,) int
    photo, point : (k,) int
        Whose sighting it is; `point` must not decrease.
    xy : (k, 2)
    sigma : (k,), optional
        Standard deviation of each sighting's coordinates in pixels; 1 where not given.
    points : int, optional
        How many points there are; as many as are seen where not given.

    Raises
    ------
    ValueError
        Where the sightings are not sorted by point.
    """
    point = np.ascontiguousarray(point, dtype=np.int64)
    if len(point) and (np.diff(point) < 0).any():
        raise ValueError("sightings must be sorted by point")
    count = (int(point[-1]) + 1 if len(point) else 0) if points is None else points
    return Observations(
        np.ascontiguousarray(lens_of, dtype=np.int64),
        np.ascontiguousarray(photo, dtype=np.int64),
        point,
        np.ascontiguousarray(xy, dtype=np.float64).reshape(-1, 2),
        np.ones(len(point)) if sigma is None else 1.0 / np.ascontiguousarray(sigma, dtype=np.float64),
        np.searchsorted(point, np.arange(count + 1)).astype(np.int64),
    )


def derivatives(k):
    """Room for the Derivatives of k sightings."""
    return Derivatives(np.empty((k, 2)), np.empty((k, 2, 6)), np.empty((k, 2, N_PARAMETERS)), np.empty((k, 2, 3)))


@njit(cache=True, nogil=True, inline="always")
def _robust(kind, scale, e2):
    """What a squared residual adds to the cost, and its robust weight."""
    s2 = scale * scale
    if kind == SQUARED or (kind == HUBER and e2 <= s2):
        return 0.5 * e2, 1.0
    if kind == HUBER:
        e = np.sqrt(e2)
        return scale * e - 0.5 * s2, scale / e
    return 0.5 * s2 * np.log(1.0 + e2 / s2), 1.0 / (1.0 + e2 / s2)


@njit(cache=True, nogil=True, inline="always")
def _behind(scale):
    """What a sighting of a point behind its photo adds to the cost: that of ten times the scale, squared."""
    return 50.0 * scale * scale


@njit(cache=True, nogil=True)
def linearize(state, seen, loss, out):
    """Residuals and derivatives of every sighting, times its weight and the root of its robust weight.

    Parameters
    ----------
    state : State
    seen : Observations
    loss : Loss
    out : Derivatives
        Receives them.

    Returns
    -------
    float
        Half the robust sum of squares.
    """
    poses, lenses, points = state.poses, state.lenses, state.points
    lens_of, photo, point, xy, weight = seen.lens_of, seen.photo, seen.point, seen.xy, seen.weight
    r, Jc, Jl, Jx = out.residual, out.by_pose, out.by_lens, out.by_point
    cost = 0.0
    for k in range(photo.shape[0]):
        i, p = photo[k], point[k]
        E, c, X = poses[i], lenses[lens_of[i]], points[p]
        y0 = E[0, 0] * X[0] + E[0, 1] * X[1] + E[0, 2] * X[2]
        y1 = E[1, 0] * X[0] + E[1, 1] * X[1] + E[1, 2] * X[2]
        y2 = E[2, 0] * X[0] + E[2, 1] * X[1] + E[2, 2] * X[2]
        z = y2 + E[2, 3]
        if z < NEAREST:
            r[k], Jc[k], Jl[k], Jx[k] = 0.0, 0.0, 0.0, 0.0
            cost += _behind(loss.scale)
            continue
        x, y = (y0 + E[0, 3]) / z, (y1 + E[1, 3]) / z
        r2 = x * x + y * y
        g = 1.0 + r2 * (c[3] + r2 * (c[4] + r2 * c[5]))
        h = 2.0 * (c[3] + r2 * (2.0 * c[4] + 3.0 * r2 * c[5]))
        xd = x * g + 2.0 * c[6] * x * y + c[7] * (r2 + 2.0 * x * x)
        yd = y * g + c[6] * (r2 + 2.0 * y * y) + 2.0 * c[7] * x * y
        fx, f, sk = c[0] + c[8], c[0], c[9]
        ru, rv = weight[k] * (fx * xd + sk * yd + c[1] - xy[k, 0]), weight[k] * (f * yd + c[2] - xy[k, 1])
        part, w = _robust(loss.kind, loss.scale, ru * ru + rv * rv)
        cost += part
        w = np.sqrt(w)
        r[k, 0], r[k, 1] = w * ru, w * rv
        w *= weight[k]
        a = g + x * x * h + 2.0 * c[6] * y + 6.0 * c[7] * x
        b = x * y * h + 2.0 * c[6] * x + 2.0 * c[7] * y
        d = g + y * y * h + 6.0 * c[6] * y + 2.0 * c[7] * x
        ux, uy = fx * a + sk * b, fx * b + sk * d
        vx, vy = f * b, f * d
        for q in range(2):
            gx, gy = (ux, uy) if q == 0 else (vx, vy)
            jx, jy = w * gx / z, w * gy / z
            jz = -(jx * x + jy * y)
            Jc[k, q, 0] = jz * y1 - jy * y2
            Jc[k, q, 1] = jx * y2 - jz * y0
            Jc[k, q, 2] = jy * y0 - jx * y1
            Jc[k, q, 3], Jc[k, q, 4], Jc[k, q, 5] = jx, jy, jz
            for m in range(3):
                Jx[k, q, m] = jx * E[0, m] + jy * E[1, m] + jz * E[2, m]
        r4 = r2 * r2
        Jl[k, 0, 0], Jl[k, 1, 0] = w * xd, w * yd
        Jl[k, 0, 1], Jl[k, 1, 1] = w, 0.0
        Jl[k, 0, 2], Jl[k, 1, 2] = 0.0, w
        px, py = w * (fx * x + sk * y), w * f * y
        Jl[k, 0, 3], Jl[k, 1, 3] = px * r2, py * r2
        Jl[k, 0, 4], Jl[k, 1, 4] = px * r4, py * r4
        Jl[k, 0, 5], Jl[k, 1, 5] = px * r4 * r2, py * r4 * r2
        t1, t2, t3 = 2.0 * x * y, r2 + 2.0 * x * x, r2 + 2.0 * y * y
        Jl[k, 0, 6], Jl[k, 1, 6] = w * (fx * t1 + sk * t3), w * f * t3
        Jl[k, 0, 7], Jl[k, 1, 7] = w * (fx * t2 + sk * t1), w * f * t1
        Jl[k, 0, 8], Jl[k, 1, 8] = w * xd, 0.0
        Jl[k, 0, 9], Jl[k, 1, 9] = w * yd, 0.0
    return cost


@njit(cache=True, nogil=True)
def cost_of(state, seen, loss, r):
    """The robust cost alone; `r` (k, 2) receives the plain residuals, predicted minus seen."""
    poses, lenses, points = state.poses, state.lenses, state.points
    lens_of, photo, point, xy, weight = seen.lens_of, seen.photo, seen.point, seen.xy, seen.weight
    cost = 0.0
    for k in range(photo.shape[0]):
        i, p = photo[k], point[k]
        E, X = poses[i], points[p]
        z = E[2, 0] * X[0] + E[2, 1] * X[1] + E[2, 2] * X[2] + E[2, 3]
        if z < NEAREST:
            r[k, 0], r[k, 1] = 1e6, 1e6
            cost += _behind(loss.scale)
            continue
        x = (E[0, 0] * X[0] + E[0, 1] * X[1] + E[0, 2] * X[2] + E[0, 3]) / z
        y = (E[1, 0] * X[0] + E[1, 1] * X[1] + E[1, 2] * X[2] + E[1, 3]) / z
        u, v = project_one(x, y, lenses[lens_of[i]])
        r[k, 0], r[k, 1] = u - xy[k, 0], v - xy[k, 1]
        cost += _robust(loss.kind, loss.scale, weight[k] ** 2 * (r[k, 0] ** 2 + r[k, 1] ** 2))[0]
    return cost
