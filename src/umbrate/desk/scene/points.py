"""The points a scene draws: tie points, or clouds side by side; their colors, and what a section slab leaves."""

from dataclasses import dataclass

import numpy as np

from ...core.cloud.grid import spacing_of
from ...core.raster.ramps import relief
from .. import over as t

LIVE_GRAY = 200


@dataclass(frozen=True)
class Slab:
    """What lies between two parallel planes: points X with ``low <= normal X <= high``."""

    normal: tuple
    low: float
    high: float

    def holds(self, points):
        """Points (n, 3) as (n,) bool."""
        h = points @ np.asarray(self.normal, points.dtype)
        return (h >= self.low) & (h <= self.high)


class ScenePoints:
    """Attributes: drawn `points` (n, 3) float32 with `colors` (n, 3) uint8, or None.

    `is_surface` says whether they are the vertices of a surface, whose triangles are `faces` (t, 3) then; `textured` is
    not None where they are those of a surface with its texture, of which `held` are the triangles that are drawn.
    `is_overlay` says whether they are joined sittings laid over each other, `is_dense` whether those are clouds.
    `rows` (n,) are their rows in the block or in the clouds one after the other, None where all of them are drawn;
    `is_cloud` says which; `block` is what the photos stand in.
    """

    def __init__(self, session):
        self.session = session
        self.points = self.colors = self.rows = self.block = self.slab = None
        self.is_cloud = self.is_overlay = self.is_dense = self.is_surface = False
        self.faces = self.normals = self.moving = self.moving_colors = self._solid = None
        self.textured = self.held = None
        self.sitting_id = None
        self._every = None  #: before the slab, with the rows of what was removed left out
        self._others = []  #: clouds drawn beside the chosen one
        self._left = None
        self._spacing = None

    def take(self, cloud, ties, surface=False):
        """What the session has: the surface where `surface` is set and it is there, the clouds that are shown where
        `cloud` is, else tie points where `ties` is."""
        s = self.session
        self.is_surface, self.faces, self.moving = False, None, None
        self.textured = self.held = None
        self.sitting_id = s.sitting_id
        self._every = self._left = self._spacing = None
        self.is_overlay = s.joining.on
        self.is_dense = self.is_overlay and cloud and s.joining.has_clouds()
        if self.is_overlay:
            self.is_cloud = False
            over = s.joining.overlay(self.is_dense)
            self.block = over.block if over else None
            self._every = s.joining.points(self.is_dense) if over and (cloud or ties) else None
            self._cut()
            return
        self.block = s.block if s.job else None
        self.textured = s.texturing.at_hand() if s.job and surface and s.texturing.drawn else None
        if self.textured is not None:
            self.is_cloud, self._every = False, self.textured.arrays["points"]
            self._cut()
            return
        mesh = s.surfacing.at_hand() if s.job and surface else None
        if mesh is not None:
            self._solid = s.surfacing.drawn()
            self.is_surface, self.is_cloud, self._every = True, False, self._solid[0]["points"]
            self._cut()
            return
        chosen = s.cloud_at_hand() if s.job and cloud else None
        self.is_cloud = chosen is not None and cloud
        if self.is_cloud:
            self._others = s.cleaning.others()
            every = [chosen["points"], *(c["points"] for _, c in self._others)]
            self._every = np.concatenate(every) if self._others else chosen["points"]
        elif self.block is not None and ties:
            self._every = self.block.points
            left = s.points.left
            if left is not None and len(left) == len(self._every) and not left.all():
                self._left = np.flatnonzero(left)
        self._cut()

    def grow(self, block):
        """The points of a block that is growing."""
        self.is_cloud = self.is_overlay = self.is_dense = self.is_surface = False
        self.textured = self.held = None
        self._left = self.faces = self.moving = None
        self._every = block.points
        self._cut(live=True)

    def show_slab(self, slab):
        """Draw only what a Slab holds; None: all."""
        self.slab = slab
        self._cut()

    def recolor(self):
        """Take the colors anew."""
        if self.points is not None and self.textured is None:
            colors = self._colors()
            if len(colors) == len(self._every):
                self.colors = colors if self.rows is None else colors[self.rows]
                if self.is_surface:
                    self.moving_colors = self.colors[self.moving.rows]

    def spacing(self):
        """How far apart the points are."""
        if self._spacing is None:
            self._spacing = spacing_of(self._every) if self._every is not None else 0.0
        return self._spacing

    @property
    def every(self):
        """All of them (n, 3), before the slab, or None."""
        return self._every

    def _cut(self, live=False):
        if self._every is None:
            self.points = self.colors = self.rows = None
            return
        if self.textured is not None:
            self._cut_textured()
            return
        if self.is_surface:
            self._cut_surface()
            return
        rows = self._left
        if self.slab is not None and not live:
            held = self.slab.holds(self._every)
            rows = np.flatnonzero(held) if rows is None else rows[held[rows]]
        self.rows = rows
        points = self._every if rows is None else self._every[rows]
        self.points = np.ascontiguousarray(points, np.float32)
        colors = np.full((len(self._every), 3), LIVE_GRAY, np.uint8) if live else self._colors()
        self.colors = colors if rows is None else colors[rows]

    def _cut_surface(self):
        """The triangles that the slab holds; all vertices stay, so that each keeps its number."""
        work = self.session.surfacing
        mesh, self.moving = self._solid
        self.rows, self.points, self.colors = None, np.ascontiguousarray(self._every, np.float32), work.drawn_colors()
        self.faces, self.normals = mesh["faces"], mesh["normals"]
        if self.slab is not None:
            self.faces = self.faces[self.slab.holds(self.points)[self.faces].all(1)]
            few = self.moving
            self.moving = few._replace(faces=few.faces[self.slab.holds(few.points)[few.faces].all(1)])
        self.moving_colors = self.colors[self.moving.rows]

    def _cut_textured(self):
        """As `_cut_surface`; `held` are the triangles that stay, None: all of them."""
        made = self.textured
        self.rows, self.colors, self.held = None, None, None
        self.points, self.faces = np.ascontiguousarray(self._every, np.float32), made.arrays["faces"]
        self.moving, self.moving_colors = made.moving, made.moving_colors
        if self.slab is not None:
            self.held = np.flatnonzero(self.slab.holds(self.points)[self.faces].all(1))
            self.faces = self.faces[self.held]
            if self.moving is not None:
                few = self.moving
                self.moving = few._replace(faces=few.faces[self.slab.holds(few.points)[few.faces].all(1)])

    def _colors(self):
        """Colors of all of them: the chosen cloud as it is looked at, the others in relief with a tint each."""
        s = self.session
        if self.is_surface:
            return s.surfacing.drawn_colors()
        if self.is_overlay:
            return s.joining.colors(self.is_dense)
        if not self.is_cloud:
            return s.points.colors() if s.block is self.block else self.block.colors
        out = [s.cleaning.colors()]
        for k, c in self._others:
            tint = t.color(t.CATEGORIES[k % len(t.CATEGORIES)])
            shade = relief(c["normals"])[:, :1].astype(np.float32) / 225
            out.append((shade * [tint.red(), tint.green(), tint.blue()]).astype(np.uint8))
        return np.concatenate(out) if len(out) > 1 else out[0]
