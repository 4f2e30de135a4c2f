"""A rough surface of tie points, and where photos see it too little: what there is to look at while somebody shoots."""

from dataclasses import dataclass, replace

import numpy as np

from ..core.errors import Cancelled, UmbrateError
from ..core.surface.build import Wanted, cell_for, make_surface
from ..core.surface.mesh import areas
from .coverage import compute_coverage

TRIANGLES = 4000  #: so many are drawn over a moving scene at ease
RADIUS = 4.0  #: spacings that tie points count: they lie in clusters
REACH = 8.0  #: spacings to the nearest tie point: farther off there is no surface
LEAST_PIECE = 0.03


@dataclass(frozen=True)
class QuickSurface:
    """A rough surface.

    Attributes
    ----------
    points : (v, 3) float32, faces : (t, 3) int32
        In the job's frame.
    lacking : (t,) bool
        Triangles that photos see too little of, as `Covered.weak` tells it of points.
    """

    points: np.ndarray
    faces: np.ndarray
    lacking: np.ndarray

    @property
    def seen(self):
        """Share of its area that lacks nothing."""
        area = areas(self.points, self.faces)
        return float(area[~self.lacking].sum() / max(area.sum(), 1e-30))


def quick_surface(work, check=lambda: None):
    """The QuickSurface of a coverage's Work; None where its points do not make one.

    check : callable
        Raises where somebody wants this to stop.
    """
    count = len(work.cloud["points"])
    cell = max(cell_for(count, TRIANGLES), 1.0)
    wanted = Wanted(cell, max(RADIUS, cell), False, REACH, False, LEAST_PIECE)
    try:
        made = make_surface(work.cloud, wanted, check=lambda _: check())
        if not len(made.faces):
            return None
        cloud = {"points": made.points, "normals": made.normals}
        seen = compute_coverage(replace(work, cloud=cloud), lambda *_: check())
    except Cancelled:
        raise
    except UmbrateError:
        return None  # too few points, or they lie in a plane: there is the coverage of the points
    return QuickSurface(made.points, made.faces, seen.weak[made.faces].mean(1) > 0.5)
