"""Pictures of a Model, with smooth edges."""

from dataclasses import replace

import numpy as np
from PIL import Image

from ...core.raster.coloring import PLAIN
from ...core.raster.pictures import draw_surface, draw_textured
from ...core.raster.textured import pages_of

FINER = 2  #: drawn so many times larger along a side, and made smaller: edges are smooth


class Painter:
    """Draws a Model.

    Attributes
    ----------
    model : Model
    points : (n, 3) float32
    pages : Pages or None
    colors : (n, 3) uint8
        Of the vertices, where there are no pages.
    """

    def __init__(self, model, plain=False):
        self.model, a = model, model.arrays
        self.points = np.ascontiguousarray(a["points"], np.float32)
        self.pages = pages_of(model.pages) if model.pages and not plain else None
        gray = np.tile(np.uint8(PLAIN), (len(self.points), 1))
        self.colors = gray if plain else a.get("colors", gray)

    def draw(self, eye, pixels, ground):
        """A picture (height, width, 3) uint8, `pixels` (width, height) large."""
        large = tuple(FINER * n for n in pixels)
        big = replace(eye, f=eye.f * FINER)
        if self.pages is not None:
            made = draw_textured(self.model.arrays, self.pages, big, large, ground=ground)
        else:
            made = draw_surface(self.model.arrays, self.colors, big, large, ground=ground)
        return np.asarray(Image.fromarray(made).reduce(FINER))
