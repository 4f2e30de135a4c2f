"""What can be measured on a tie point, so that doubtful ones can be sifted out.

Each measure is a number for every point, in units people know.
"""

from dataclasses import dataclass

import numpy as np
import scipy
from numba import njit

from ..cloud.keepbox import KeepBox

NEIGHBORS = 6  #: distance to neighbors is the mean over so many


@dataclass(frozen=True)
class Measure:
    """A property to sift by: how it is called, its unit, what it means, and the end that is doubtful."""

    name: str
    title: str
    unit: str
    about: str
    doubtful_high: bool = True
    whole: bool = False


MEASURES = (
    Measure("residual", "Residual", "px", "Root mean square distance between seen and predicted"),
    Measure("sightings", "Sightings", "", "Photos that see the point; two hold it badly", False, True),
    Measure("angle", "Largest ray angle", "°", "Where rays meet at a small angle, depth is unsure", False),
    Measure("uncertainty", "Uncertainty", "% of size", "Standard deviation of the place, in % of the object"),
    Measure("pixel", "Pixel size", "% of size", "A pixel's size there in the nearest photo that sees it"),
    Measure("distance", "Distance to neighbors", "% of size", "Mean distance to the 6 nearest, in % of the object"),
    Measure("outside", "Outside the keep box", "% of size", "How far outside the box, 0 inside, in % of the object"),
)  # fmt: skip
BY_NAME = {m.name: m for m in MEASURES}


@njit(cache=True, nogil=True)
def _widest(start, photo, centers, points, out):
    """Largest angle (radians) between any two rays of each point."""
    for p in range(points.shape[0]):
        least = 1.0
        for a in range(start[p], start[p + 1]):
            u = centers[photo[a]] - points[p]
            ax, ay, az = u[0], u[1], u[2]
            la = np.sqrt(ax * ax + ay * ay + az * az)
            for b in range(a + 1, start[p + 1]):
                v = centers[photo[b]] - points[p]
                bx, by, bz = v[0], v[1], v[2]
                lb = np.sqrt(bx * bx + by * by + bz * bz)
                least = min(least, (ax * bx + ay * by + az * bz) / max(la * lb, 1e-300))
        out[p] = np.arccos(max(-1.0, min(1.0, least)))


def ray_angles(block):
    """Largest angle between two rays of each point, degrees (p,)."""
    out = np.zeros(len(block.points))
    _widest(block.start, block.photo, block.eyes, block.points, out)
    return np.degrees(out)


def pixel_sizes(block):
    """Size of a pixel at each point in the nearest of the photos that see it (p,), in the unit of the block."""
    f = block.lenses[block.lens_of, 0]
    away = np.linalg.norm(block.points[block.point] - block.eyes[block.photo], axis=1) / f[block.photo]
    out = np.full(len(block.points), np.inf)
    np.minimum.at(out, block.point, away)
    return out


def size_of(points):
    """The object's size: the diagonal of the box of the middle 96 % of the points."""
    lo, hi = np.percentile(points, [2, 98], axis=0)
    return max(float(np.linalg.norm(hi - lo)), 1e-12)


def measure(name, block, keep_box=None):
    """A measure (p,) of all tie points of a block.

    Parameters
    ----------
    name : str
        Of one of MEASURES.
    block : Block
    keep_box : KeepBox or dict, optional
        Needed for ``outside``.
    """
    points, count = block.points, len(block.points)
    if name == "residual":
        square = np.bincount(block.point, weights=(block.residual**2).sum(1), minlength=count)
        return np.sqrt(square / np.maximum(block.photos_of, 1))
    if name == "sightings":
        return block.photos_of.astype(float)
    if name == "angle":
        return ray_angles(block)
    if name == "uncertainty":
        return 100.0 * block.point_sigma / size_of(points)
    if name == "pixel":
        return 100.0 * pixel_sizes(block) / size_of(points)
    if name == "distance":
        near, _ = scipy.spatial.cKDTree(points).query(points, k=min(NEIGHBORS + 1, count), workers=1)
        return 100.0 * near[:, 1:].mean(1) / size_of(points) if count > 1 else np.zeros(count)
    if name == "outside":
        if keep_box is None:
            return np.zeros(count)
        box = KeepBox.from_dict(keep_box) if isinstance(keep_box, dict) else keep_box
        beyond = np.maximum(np.abs((points - box.center) @ box.axes) - box.half, 0.0)
        return 100.0 * np.linalg.norm(beyond, axis=1) / size_of(points)
    raise KeyError(name)


def shared_points(photo, point, n):
    """How many tie points each two photos share, (n, n) int, 0 on the diagonal."""
    M = scipy.sparse.csr_matrix(
        (np.ones(len(photo), np.int32), (photo, point)), shape=(n, int(point.max(initial=-1)) + 1)
    )
    out = (M @ M.T).toarray()
    np.fill_diagonal(out, 0)
    return out
