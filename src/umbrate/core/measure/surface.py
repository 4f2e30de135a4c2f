"""A spot on the cloud: the surface round it, and how noisy it is there.

One point of a cloud is as noisy as its depth. The surface through its neighbors is not: noise that differs from point
to point averages out. But neighbors were computed from overlapping patches of the same photos, so their errors go
together over some pixels, and only as many of them count as there are independent ones.
"""

import numpy as np

NEIGHBORS = 60
#: so many neighbors share one error: patches of a depth map overlap, and neighboring maps see the same patch
SHARED = 12.0
#: what neighbors share altogether: patches that are smoothed, photos that are sampled, edges that shine through. In
#: pixels of each photo that sees the spot, as bench/measure.py finds it on simulated photos
COMMON_PX = 0.7


def _nearest(points, spot, count):
    """Rows of the points nearest to a spot, and how far they are: of any number of points, without a tree."""
    away = ((points - np.asarray(spot, points.dtype)) ** 2).sum(1)
    rows = np.argpartition(away, count - 1)[:count]
    rows = rows[np.argsort(away[rows], kind="stable")]
    return np.sqrt(away[rows].astype(float)), rows


def spot_on_ray(points, start, direction, radius):
    """The point of a cloud that a ray meets first, or None.

    points (n, 3); start (3,); direction (3,) unit; radius : how far from the ray a point may lie, as a share of its
    distance from the start
    """
    d = points - np.asarray(start, points.dtype)
    along = d @ np.asarray(direction, points.dtype)
    rows = np.flatnonzero(along > 0)
    off2 = (d[rows] ** 2).sum(1) - along[rows] ** 2
    rows = rows[off2 < (radius * along[rows]) ** 2]
    if not len(rows):
        return None
    first = rows[np.argsort(along[rows], kind="stable")]
    # one speck before the surface is no surface: a spot needs company
    for k in first[:20]:
        if ((points[first] - points[k]) ** 2).sum(1).min(initial=np.inf, where=first != k) < (
            4 * radius * along[k]
        ) ** 2:
            return points[k].astype(float)
    return points[first[0]].astype(float)


def surface_at(points, normals, spot, neighbors=NEIGHBORS):
    """The surface near a spot.

    Parameters
    ----------
    points : (n, 3), normals : (n, 3)
    spot : (3,)

    Returns
    -------
    place : (3,)
        The foot of the spot on the surface.
    normal : (3,)
        Unit, towards the side the points' normals point to.
    sigma : float
        Standard deviation of the surface along its normal there, from its noise.
    spacing : float
        Median distance of its points.
    """
    k = min(neighbors, len(points))
    distance, rows = _nearest(points, spot, k)
    X = points[rows].astype(float)
    side = normals[rows[0]].astype(float)
    # the other side of a thin wall is not this surface
    same = normals[rows] @ side > 0.3
    X = X[same]
    if len(X) < 6:
        near = points[rows[0]].astype(float)
        n = side / max(float(np.linalg.norm(side)), 1e-12)
        return near, n, float(distance[min(3, k - 1)]), float(np.median(distance))
    middle = X.mean(0)
    _, _, Vt = np.linalg.svd(X - middle)
    n = Vt[2] if Vt[2] @ side > 0 else -Vt[2]
    u, v, h = (X - middle) @ Vt[0], (X - middle) @ Vt[1], (X - middle) @ n
    # a quadric, so that curvature does not pass for noise
    A = np.c_[np.ones(len(u)), u, v, u * u, u * v, v * v] if len(X) >= 12 else np.c_[np.ones(len(u)), u, v]
    w = np.ones(len(u))
    for _ in range(3):
        c = np.linalg.lstsq(A * w[:, None], h * w, rcond=None)[0]
        left = h - A @ c
        noise = 1.4826 * float(np.median(np.abs(left))) + 1e-12
        w = 1.0 / np.maximum(1.0, np.abs(left) / (2 * noise))
    p, q = (spot - middle) @ Vt[0], (spot - middle) @ Vt[1]
    at = np.array([1.0, p, q, p * p, p * q, q * q])[: A.shape[1]]
    height = float(at @ c)
    slope = c[1] + (2 * c[3] * p + c[4] * q if len(c) > 3 else 0), c[2] + (2 * c[5] * q + c[4] * p if len(c) > 3 else 0)
    normal = n - slope[0] * Vt[0] - slope[1] * Vt[1]
    normal /= np.linalg.norm(normal)
    place = middle + p * Vt[0] + q * Vt[1] + height * n
    # how well the fit is known at the spot
    leverage = float(at @ np.linalg.solve(A.T @ A + 1e-9 * np.eye(A.shape[1]) * np.trace(A.T @ A), at))
    sigma = noise * np.sqrt(min(1.0, leverage * SHARED))
    return place, normal, float(sigma), float(np.median(distance[1:]))
