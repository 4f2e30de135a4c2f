"""Surfaces in closed form, photographed: what depth and clouds are measured on where not even a mesh may be in the way.

A plane, a sphere or a cylinder, from outside or inside, textured in space and seen by seven cameras within a cone. Its
pole is the origin, which the cameras look at from +z; a pixel there is one unit.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit, prange

from ..core.geometry.pose import look_at
from .noise import fractal

F, SIZE, SAMPLES = 1500.0, 300, 3
CONE_DEG = 13.0
NOISE = 1.0  #: of a gray value of 255
GRAIN = 3.0  #: the texture's coarsest features, in pixels
PHOTOS = 7


@njit(cache=True, nogil=True)
def _hit(ox, oy, oz, dx, dy, dz, radius, round_y, far):
    """Where a ray meets a sphere about (0, 0, -radius), or a cylinder along y; far: its inner side. Negative: nowhere.

    The pole (0, 0, 0) is what the cameras look at; from inside, the shape is mirrored to have its pole there as well.
    """
    cz = radius if far else -radius
    oz = oz - cz
    a = dx * dx + dz * dz + (dy * dy if round_y else 0.0)
    b = ox * dx + oz * dz + (oy * dy if round_y else 0.0)
    c = ox * ox + oz * oz + (oy * oy if round_y else 0.0) - radius * radius
    root = b * b - a * c
    if root < 0:
        return -1.0
    return (-b + np.sqrt(root)) / a if far else (-b - np.sqrt(root)) / a


@njit(cache=True, nogil=True, parallel=True)
def _photograph(E, radius, round_y, far, reach, contrast, gray, mask):
    h, w = gray.shape
    cx, cy = (w - 1) / 2.0, (h - 1) / 2.0
    o = np.empty(3)
    for k in range(3):
        o[k] = -(E[0, k] * E[0, 3] + E[1, k] * E[1, 3] + E[2, k] * E[2, 3])
    for v in prange(h):
        for u in range(w):
            total, hits = 0.0, 0
            for i in range(SAMPLES):
                for j in range(SAMPLES):
                    x = (u + (i + 0.5) / SAMPLES - 0.5 - cx) / F
                    y = (v + (j + 0.5) / SAMPLES - 0.5 - cy) / F
                    dx = E[0, 0] * x + E[1, 0] * y + E[2, 0]
                    dy = E[0, 1] * x + E[1, 1] * y + E[2, 1]
                    dz = E[0, 2] * x + E[1, 2] * y + E[2, 2]
                    if radius > 0:
                        s = _hit(o[0], o[1], o[2], dx, dy, dz, radius, round_y, far)
                    else:
                        s = -o[2] / dz
                    X, Y, Z = o[0] + s * dx, o[1] + s * dy, o[2] + s * dz
                    if s <= 0 or X * X + Y * Y > reach * reach or abs(Z) > reach:
                        total += 30.0
                        continue
                    hits += 1
                    total += 120.0 + contrast * fractal(X / GRAIN, Y / GRAIN, Z / GRAIN, 3, 7)
            gray[v, u] = total / (SAMPLES * SAMPLES)
            mask[v, u] = hits == SAMPLES * SAMPLES


@dataclass(frozen=True)
class Solid:
    """A plane (radius 0), a sphere, or a cylinder along y.

    Attributes
    ----------
    radius : float
        In pixels.
    sphere : bool
    inside : bool
        Whether its inner side is seen.
    contrast : float
        Of the texture, in gray values.
    lean : float
        Degrees by which the middle camera is turned about y, away from looking straight down on the pole.
    """

    radius: float = 0.0
    sphere: bool = True
    inside: bool = False
    contrast: float = 75.0
    lean: float = 0.0

    @property
    def reach(self):
        """Farthest distance from the pole, across and along the view, that is drawn."""
        return 0.42 * SIZE if self.radius <= 0 else min(0.42 * SIZE, (0.7 if self.inside else 0.97) * self.radius)

    def photographs(self):
        """Gray pictures and masks (n, h, w), f, cx, cy (3,) and poses (n, 4, 4): from the front, and from six sides."""
        rng = np.random.default_rng(3)
        grays, masks = np.empty((PHOTOS, SIZE, SIZE), np.float32), np.empty((PHOTOS, SIZE, SIZE), np.bool_)
        poses = []
        c, s = np.cos(np.radians(self.lean)), np.sin(np.radians(self.lean))
        leant = np.array([[c, 0.0, s], [0.0, 1.0, 0.0], [-s, 0.0, c]])
        for k in range(PHOTOS):
            tilt, turn = np.radians(CONE_DEG if k else 0.0), 2 * np.pi * (k - 1) / (PHOTOS - 1)
            eye = F * np.array([np.sin(tilt) * np.cos(turn), np.sin(tilt) * np.sin(turn), np.cos(tilt)])
            poses.append(look_at(leant @ eye, np.zeros(3), (0.0, 1.0, 0.0)))
            _photograph(
                poses[-1], float(self.radius), self.sphere, self.inside, float(self.reach), self.contrast, grays[k],
                masks[k],
            )  # fmt: skip
            noisy = grays[k] + rng.normal(0, NOISE, grays[k].shape)
            grays[k] = np.round(np.clip(noisy, 0, 255))
        return grays, masks, np.array([F, (SIZE - 1) / 2, (SIZE - 1) / 2]), np.array(poses)

    def error(self, X):
        """Signed distance (n,) of places to the surface, positive toward the cameras."""
        if self.radius <= 0:
            return X[:, 2]
        Y = X - [0.0, 0.0, self.radius if self.inside else -self.radius]
        r = np.linalg.norm(Y if self.sphere else Y[:, [0, 2]], axis=1) - self.radius
        return -r if self.inside else r

    def some_points(self, count=300, off=0.3):
        """Places (count, 3) near the surface, as tie points are."""
        rng = np.random.default_rng(1)
        x, y = rng.uniform(-0.6, 0.6, (2, count)) * self.reach
        z = np.zeros(count)
        if self.radius > 0:
            z = np.sqrt(self.radius**2 - x**2 - (y**2 if self.sphere else 0)) - self.radius
            z = -z if self.inside else z
        return np.stack([x, y, z], 1) + rng.normal(0, off, (count, 3))
