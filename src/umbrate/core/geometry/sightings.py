"""Where a place marked in some photos must be seen in the others, and how well its sightings agree.

One sighting says on which ray the place lies, so in another photo it lies on a line (bent a little by the lens). Two
say where it is, and from how sure the photos are and how sure the marker was follows how far from there to look.
"""

from dataclasses import dataclass

import numpy as np

from .lens import _unproject_many, project_one
from .pose import center

STEPS = 160


@dataclass
class PointSightings:
    """One place as it was marked: photo (k,) rows of solved photos, xy (k, 2) pixels, sigma (k,) pixels."""

    photo: np.ndarray
    xy: np.ndarray
    sigma: np.ndarray


def directions(poses, lenses, lens_of, photo, xy):
    """Unit rays (k, 3) in the world of pixels (k, 2), and their starts (k, 3)."""
    out, start = np.empty((len(photo), 3)), np.empty((len(photo), 3))
    for k, i in enumerate(photo):
        u, v = _unproject_many(np.ascontiguousarray(xy[k : k + 1], np.float64), lenses[lens_of[i]])[0]
        d = poses[i, :3, :3].T @ np.array([u, v, 1.0])
        out[k], start[k] = d / np.linalg.norm(d), center(poses[i])
    return out, start


def pixels(poses, lenses, lens_of, photo, X):
    """Where a place (3,) is seen in photos (k,): (k, 2), NaN behind the camera."""
    out = np.full((len(photo), 2), np.nan)
    for k, i in enumerate(photo):
        Y = poses[i, :3, :3] @ X + poses[i, :3, 3]
        if Y[2] > 1e-9:
            out[k] = project_one(Y[0] / Y[2], Y[1] / Y[2], lenses[lens_of[i]])
    return out


def locate(poses, lenses, lens_of, seen):
    """The place (3,) that sightings of two photos or more agree on best, and its residuals (k, 2), seen less predicted.

    Weighted least squares over all sightings: a marked place is not thrown out by itself. None, None where the rays
    are as good as parallel or meet behind the photos.
    """
    if len(seen.photo) < 2:
        return None, None
    d, start = directions(poses, lenses, lens_of, seen.photo, seen.xy)
    A, b = np.zeros((3, 3)), np.zeros(3)
    for k in range(len(d)):
        P = np.eye(3) - np.outer(d[k], d[k])
        A += P
        b += P @ start[k]
    if np.linalg.eigvalsh(A)[0] < 1e-6:
        return None, None
    X = np.linalg.solve(A, b)
    for _ in range(8):
        H, g = np.zeros((3, 3)), np.zeros(3)
        for k, i in enumerate(seen.photo):
            E, lens = poses[i], lenses[lens_of[i]]
            Y = E[:3, :3] @ X + E[:3, 3]
            if Y[2] <= 1e-9:
                return None, None
            u = np.array(project_one(Y[0] / Y[2], Y[1] / Y[2], lens))
            # the lens bends little over a pixel: the pinhole's derivative does for the steps
            J = lens[0] / Y[2] * (np.eye(2, 3) - np.outer(Y[:2] / Y[2], [0, 0, 1.0])) @ E[:3, :3]
            w = 1.0 / seen.sigma[k] ** 2
            H += w * J.T @ J
            g += w * J.T @ (u - seen.xy[k])
        step = np.linalg.solve(H + 1e-12 * np.trace(H) * np.eye(3), g)
        X = X - step
        if np.linalg.norm(step) < 1e-9 * np.linalg.norm(X - start[0]):
            break
    predicted = pixels(poses, lenses, lens_of, seen.photo, X)
    if not np.isfinite(predicted).all():
        return None, None
    return X, seen.xy - predicted


def line_in(poses, lenses, lens_of, seen, other, size, depths):
    """The line (n, 2) in photo `other` on which the place of a single sighting lies, as far as it is in the picture.

    size : (width, height) of the other photo; depths : nearest and farthest distance from the first camera
    """
    d, start = directions(poses, lenses, lens_of, seen.photo[:1], seen.xy[:1])
    # even in the inverse of depth is even in the picture, more or less
    away = 1.0 / np.linspace(1.0 / depths[0], 1.0 / depths[1], STEPS)
    out = np.array([pixels(poses, lenses, lens_of, [other], start[0] + a * d[0])[0] for a in away])
    inside = (out > -20).all(1) & (out < np.asarray(size) + 20).all(1)
    return out[inside]


def ellipse(cov, k=2.45):
    """Half axes (2,) and the angle of the larger one (radians) that hold a spot in 95 of 100 cases (k of two
    dimensions)."""
    value, vector = np.linalg.eigh(cov)
    half = k * np.sqrt(np.maximum(value, 0.0))
    return half[::-1], float(np.arctan2(vector[1, 1], vector[0, 1]))
