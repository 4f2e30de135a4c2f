"""Depth maps over the photo: depth, direction of the surface, likeness, as pictures, and the value under the pointer.

A depth map belongs to the straightened photo; here it is bent back, so that it lies on the photo as it was taken.
"""

import numpy as np

from ...core.geometry.lens import Lens
from ...core.raster.ramps import RAMP

DEPTH_LAYERS = ("no depth", "depth", "surface direction", "likeness")


class DepthLook:
    """One photo's depth map, looked up at the pixels of the photo.

    Parameters
    ----------
    arrays : dict
        ``depth`` (h, w), ``normal`` (h, w, 3) int8, ``score`` (h, w) uint8, ``lens`` (3,): a depth blob, and ``whole``
        (2,), the shape of the straightened photo of which it is a part, where it is one.
    lens : (10,)
        Of the photo as it was taken.
    size : (width, height) of the photo
    unit : float
        What depths are multiplied by to be in the job's unit.
    """

    def __init__(self, arrays, lens, size, unit):
        self.arrays, self.size, self.unit = arrays, size, unit
        depth = arrays["depth"]
        rows, columns = depth.shape
        h, w = (int(n) for n in arrays.get("whole", depth.shape))
        f, cx, cy = arrays["lens"]
        step = size[0] / w, size[1] / h
        x, y = np.meshgrid((np.arange(w) + 0.5) * step[0] - 0.5, (np.arange(h) + 0.5) * step[1] - 0.5)
        straight = Lens.from_vector(*size, lens).unproject(np.stack([x.ravel(), y.ravel()], 1)) * f + [cx, cy]
        u, v = np.round(straight).astype(int).T
        inside = (u >= 0) & (v >= 0) & (u < columns) & (v < rows)
        at = np.where(inside, v * columns + u, 0)
        self.depth = np.where(inside, depth.ravel()[at], 0).reshape(h, w)
        self._at = at.reshape(h, w)
        known = self.depth[self.depth > 0]
        self.range = tuple(float(z) for z in np.percentile(known, (1, 99))) if len(known) else (0.0, 1.0)

    def picture(self, look):
        """One of DEPTH_LAYERS as colors (h, w, 4) uint8, as large as the depth map; clear where nothing is known."""
        h, w = self.depth.shape
        out = np.zeros((h, w, 4), np.uint8)
        if look == "surface direction":
            n = self.arrays["normal"].reshape(-1, 3)[self._at].astype(int)
            out[:, :, :3] = np.clip(n * [1, -1, -1] + 128, 0, 255)
        elif look == "likeness":
            out[:, :, :3] = RAMP[self.arrays["score"].ravel()[self._at]]
        else:
            low, high = self.range
            x = np.clip((high - self.depth) / max(high - low, 1e-12), 0, 1)  # near is light
            out[:, :, :3] = RAMP[(255 * x).astype(np.uint8)]
        out[:, :, 3] = np.where(self.depth > 0, 255, 0)
        return out

    def told(self, x, y, unit):
        """What is known at a pixel of the photo, in words; empty where nothing is."""
        h, w = self.depth.shape
        u, v = int((x + 0.5) * w / self.size[0]), int((y + 0.5) * h / self.size[1])
        if not (0 <= u < w and 0 <= v < h) or self.depth[v, u] <= 0:
            return ""
        score = self.arrays["score"].ravel()[self._at[v, u]] / 255
        return f"depth {self.depth[v, u] * self.unit:.4g} {unit}, likeness {score:.2f}".replace(" ,", ",")
