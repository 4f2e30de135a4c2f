"""The lens: how a direction in front of the camera becomes a pixel, and back.

Every step that compares a photo with the world needs this mapping, and needs the same one,
so it lives here once: as a small value object for people and as kernels on a flat parameter
vector for the numeric code.

The model is Brown-Conrady (Brown 1966, 1971) with optional affinity and skew::

    x = X / Z,  y = Y / Z,  r2 = x² + y²,  g = 1 + k1 r2 + k2 r2² + k3 r2³
    xd = x g + 2 p1 x y + p2 (r2 + 2 x²)
    yd = y g + p1 (r2 + 2 y²) + 2 p2 x y
    u = (f + b1) xd + b2 yd + cx,   v = f yd + cy

Pixel (0, 0) is the centre of the top left pixel. The flat vector is
``[f, cx, cy, k1, k2, k3, p1, p2, b1, b2]``.
"""

from dataclasses import dataclass, replace

import numpy as np
from numba import njit

PARAMETER_NAMES = ("f", "cx", "cy", "k1", "k2", "k3", "p1", "p2", "b1", "b2")
N_PARAMETERS = len(PARAMETER_NAMES)


@njit(cache=True, nogil=True, inline="always")
def _distort_one(x, y, c):
    r2 = x * x + y * y
    g = 1.0 + r2 * (c[3] + r2 * (c[4] + r2 * c[5]))
    xd = x * g + 2.0 * c[6] * x * y + c[7] * (r2 + 2.0 * x * x)
    yd = y * g + c[6] * (r2 + 2.0 * y * y) + 2.0 * c[7] * x * y
    return xd, yd


@njit(cache=True, nogil=True)
def project_one(x, y, c):
    """Pixel (u, v) of the direction (x, y, 1) through the lens vector `c`."""
    xd, yd = _distort_one(x, y, c)
    return (c[0] + c[8]) * xd + c[9] * yd + c[1], c[0] * yd + c[2]


@njit(cache=True, nogil=True)
def unproject_one(u, v, c):
    """Direction (x, y) with (x, y, 1) seen at pixel (u, v): Newton's method to machine precision."""
    yd = (v - c[2]) / c[0]
    xd = (u - c[1] - c[9] * yd) / (c[0] + c[8])
    x, y = xd, yd
    for _ in range(20):
        r2 = x * x + y * y
        g = 1.0 + r2 * (c[3] + r2 * (c[4] + r2 * c[5]))
        dg = 2.0 * (c[3] + r2 * (2.0 * c[4] + 3.0 * r2 * c[5]))
        ex = x * g + 2.0 * c[6] * x * y + c[7] * (r2 + 2.0 * x * x) - xd
        ey = y * g + c[6] * (r2 + 2.0 * y * y) + 2.0 * c[7] * x * y - yd
        a = g + x * x * dg + 2.0 * c[6] * y + 6.0 * c[7] * x
        b = x * y * dg + 2.0 * c[6] * x + 2.0 * c[7] * y
        d = g + y * y * dg + 6.0 * c[6] * y + 2.0 * c[7] * x
        det = a * d - b * b
        if abs(det) < 1e-12:
            break
        sx = (d * ex - b * ey) / det
        sy = (a * ey - b * ex) / det
        x -= sx
        y -= sy
        if abs(sx) + abs(sy) < 1e-14:
            break
    return x, y


@njit(cache=True, nogil=True)
def _project_many(xy, c):
    out = np.empty((xy.shape[0], 2))
    for i in range(xy.shape[0]):
        out[i, 0], out[i, 1] = project_one(xy[i, 0], xy[i, 1], c)
    return out


@njit(cache=True, nogil=True)
def _unproject_many(uv, c):
    out = np.empty((uv.shape[0], 2))
    for i in range(uv.shape[0]):
        out[i, 0], out[i, 1] = unproject_one(uv[i, 0], uv[i, 1], c)
    return out


@dataclass(frozen=True)
class Lens:
    """One lens at one focus setting, in pixels of the full-size picture.

    Attributes
    ----------
    width, height : int
        Picture size in pixels, sensor orientation.
    f, cx, cy : float
        Focal length and principal point in pixels.
    k : tuple of 3 floats
        Radial distortion.
    p : tuple of 2 floats
        Decentering distortion.
    b : tuple of 2 floats
        Affinity and skew, in pixels.
    """

    width: int
    height: int
    f: float
    cx: float
    cy: float
    k: tuple = (0.0, 0.0, 0.0)
    p: tuple = (0.0, 0.0)
    b: tuple = (0.0, 0.0)

    @classmethod
    def guess(cls, width, height, f):
        """A lens without distortion whose principal point is the middle of the picture."""
        return cls(int(width), int(height), float(f), (width - 1) / 2.0, (height - 1) / 2.0)

    @classmethod
    def from_vector(cls, width, height, vector):
        """The lens of a flat parameter vector, shape (10,)."""
        c = [float(x) for x in vector]
        return cls(int(width), int(height), c[0], c[1], c[2], tuple(c[3:6]), tuple(c[6:8]), tuple(c[8:10]))

    @property
    def vector(self):
        """The flat parameter vector, float64, shape (10,)."""
        return np.array([self.f, self.cx, self.cy, *self.k, *self.p, *self.b], dtype=np.float64)

    def with_values(self, values):
        """The same lens with some of its parameters, by name, at other values."""
        c = self.vector
        for name, value in values.items():
            c[PARAMETER_NAMES.index(name)] = value
        return Lens.from_vector(self.width, self.height, c)

    def project(self, xy):
        """Pixels (n, 2) of directions (n, 2) given as x/z, y/z."""
        return _project_many(np.ascontiguousarray(xy, dtype=np.float64).reshape(-1, 2), self.vector)

    def unproject(self, uv):
        """Directions (n, 2) as x/z, y/z of pixels (n, 2). The exact inverse of `project`."""
        return _unproject_many(np.ascontiguousarray(uv, dtype=np.float64).reshape(-1, 2), self.vector)

    def scaled(self, width, height):
        """The same lens on a picture resampled to another size."""
        sx, sy = width / self.width, height / self.height
        return replace(
            self,
            width=int(width),
            height=int(height),
            f=self.f * sy,
            cx=(self.cx + 0.5) * sx - 0.5,
            cy=(self.cy + 0.5) * sy - 0.5,
            b=((self.f + self.b[0]) * sx - self.f * sy, self.b[1] * sx),
        )

    def without_distortion(self):
        """The pinhole of the same focal length and principal point."""
        return Lens(self.width, self.height, self.f, self.cx, self.cy)

    def as_dict(self):
        """A plain dictionary, as the cameras file writes it."""
        return {
            "width": self.width,
            "height": self.height,
            "f": self.f,
            "cx": self.cx,
            "cy": self.cy,
            "k": list(self.k),
            "p": list(self.p),
            "b": list(self.b),
        }

    @classmethod
    def from_dict(cls, d):
        """The inverse of `as_dict`."""
        return cls(
            int(d["width"]),
            int(d["height"]),
            float(d["f"]),
            float(d["cx"]),
            float(d["cy"]),
            tuple(map(float, d["k"])),
            tuple(map(float, d["p"])),
            tuple(map(float, d["b"])),
        )
