"""Whole pictures of a surface, as arrays of red, green, blue."""

import numpy as np

from .camera import eye_round
from .solid import draw_triangles, paint_triangles
from .textured import paint_textured

#: sides to look from, as directions from the object to the eye
DIRECTIONS = {
    "front": (0, -1, 0.0), "right": (1, 0, 0.0), "back": (0, 1, 0.0), "left": (-1, 0, 0.0), "top": (0, 0, 1),
    "bottom": (0, 0, -1), "corner": (0.45, -1, 0.55),
}  # fmt: skip
GROUND = (0x2B, 0x2B, 0x2B)


def eye_for(points, direction, width, height, parallel=False):
    """An Eye that sees all but the farthest hundredth of points (n, 3) from a direction."""
    lo, hi = np.percentile(points, 1, axis=0), np.percentile(points, 99, axis=0)
    eye = eye_round((lo + hi) / 2, 0.42 * float(np.linalg.norm(hi - lo)), direction, width, height)
    eye.parallel = parallel
    return eye


def draw_surface(mesh, colors, eye, pixels, *, ground=GROUND, manner=None):
    """A picture (height, width, 3) uint8 of a surface's arrays, `pixels` (width, height) large."""
    solid = draw_triangles(mesh["points"], mesh["faces"], eye, *pixels)
    picture = paint_triangles(solid, mesh, colors, eye, ground, (30, 30, 30), manner)
    return np.ascontiguousarray(picture[:, :, 2::-1])


def draw_textured(model, pages, eye, pixels, *, ground=GROUND):
    """A picture (height, width, 3) uint8 of a textured surface's arrays and Pages, `pixels` (width, height) large."""
    solid = draw_triangles(model["points"], model["faces"], eye, *pixels)
    return np.ascontiguousarray(paint_textured(solid, model, pages, ground)[:, :, 2::-1])
