"""The eye of the scene: where one looks from, and the projection that goes with it."""

from dataclasses import dataclass, replace

import numpy as np

from ..geometry.pose import center, look_at


@dataclass
class Eye:
    """An eye, perspective or parallel.

    Attributes
    ----------
    pose : (4, 4)
        World to eye: x right, y down, z forward.
    f : float
        Focal length in pixels; the middle of the picture is the principal point.
    pivot : (3,)
        The place that turning keeps in view.
    parallel : bool
        All rays are parallel: sizes are those at the depth of the pivot, wherever a thing lies.
    """

    pose: np.ndarray
    f: float
    pivot: np.ndarray
    parallel: bool = False

    @property
    def depth(self):
        """Depth of the pivot."""
        return float(self.pose[2, :3] @ self.pivot + self.pose[2, 3])

    @property
    def flat(self):
        """What a parallel view divides by instead of each point's depth; 0 of a perspective one."""
        return max(self.depth, 1e-9) if self.parallel else 0.0

    @property
    def matrix(self):
        """World to eye (4, 4) whose third row is what pixels are divided by: a constant of a parallel view."""
        M = self.pose.copy()
        if self.parallel:
            M[2] = 0, 0, 0, self.flat
        return M

    def ray(self, u, v, width, height):
        """Origin and unit direction (3,) of the ray through a pixel."""
        x, y = (u - (width - 1) / 2) / self.f, (v - (height - 1) / 2) / self.f
        R, t = self.pose[:3, :3], self.pose[:3, 3]
        if self.parallel:
            return R.T @ (np.array([x, y, 0.0]) * self.flat - t), R[2].copy()
        d = R.T @ np.array([x, y, 1.0])
        return self.center, d / np.linalg.norm(d)

    @property
    def center(self):
        """Place of the eye (3,)."""
        return center(self.pose)

    def project(self, points, width, height):
        """Pixels and depth (n, 3) of points (n, 3); depth is not positive behind a perspective eye."""
        Y = np.asarray(points, float) @ self.pose[:3, :3].T + self.pose[:3, 3]
        if self.parallel:
            uv = self.f * Y[:, :2] / self.flat + [(width - 1) / 2, (height - 1) / 2]
            return np.column_stack([uv, np.maximum(Y[:, 2], 1e-6)])
        z = np.where(np.abs(Y[:, 2]) < 1e-12, 1e-12, Y[:, 2])
        return np.stack([self.f * Y[:, 0] / z + (width - 1) / 2, self.f * Y[:, 1] / z + (height - 1) / 2, Y[:, 2]], 1)

    def place_at(self, u, v, depth, width, height):
        """The point (3,) seen at pixel u, v at a depth."""
        over = self.flat or depth
        Y = np.array([(u - (width - 1) / 2) / self.f * over, (v - (height - 1) / 2) / self.f * over, depth])
        return self.pose[:3, :3].T @ (Y - self.pose[:3, 3])

    def turned(self, dx, dy):
        """Orbit about the pivot: `dx` radians about the vertical, `dy` up or down, stopping at the poles."""
        d = self.center - self.pivot
        r = np.linalg.norm(d)
        azimuth = np.arctan2(d[1], d[0]) - dx
        elevation = np.clip(np.arcsin(np.clip(d[2] / max(r, 1e-12), -1, 1)) + dy, -1.553, 1.553)
        eye = self.pivot + r * np.array(
            [np.cos(elevation) * np.cos(azimuth), np.cos(elevation) * np.sin(azimuth), np.sin(elevation)]
        )
        # the pivot need not be in the middle of the picture: keep it where it is
        old = self.pose[:3, :3] @ self.pivot + self.pose[:3, 3]
        pose = look_at(eye, self.pivot)
        pose[:3, 3] += old - (pose[:3, :3] @ self.pivot + pose[:3, 3])
        return replace(self, pose=pose)

    def moved(self, du, dv):
        """Shift the view by pixels, at the depth of the pivot."""
        pose = self.pose.copy()
        step = np.array([du, dv, 0.0]) * self.depth / self.f
        pose[:3, 3] += step
        return replace(self, pose=pose, pivot=self.pivot - self.pose[:3, :3].T @ step)

    def zoomed(self, factor, toward):
        """Come closer to the place `toward` (3,) by a factor (over 1: closer); it stays at its pixel."""
        pose = self.pose.copy()
        Y = pose[:3, :3] @ toward + pose[:3, 3]
        step = Y / factor - Y
        if self.parallel:
            step[2] = self.depth / factor - self.depth
        pose[:3, 3] += step
        return replace(self, pose=pose)


def eye_round(middle, radius, direction, width, height, fov_deg=35.0):
    """An eye that sees a ball of `radius` round `middle` from `direction`, filling the picture."""
    half = np.radians(fov_deg) / 2
    f = height / 2 / np.tan(half)
    narrow = min(half, np.arctan(width / 2 / f))
    d = np.asarray(direction, float)
    eye = np.asarray(middle) + d / np.linalg.norm(d) * radius / np.sin(narrow)
    up = (0, 0, 1) if abs(d[2]) < 0.999 * np.linalg.norm(d) else (0, 1, 0)
    return Eye(look_at(eye, middle, up), f, np.asarray(middle, float))
