"""The drawn points of the scene: a picture, and which point each of its pixels shows.

While the view moves, an even sample is drawn, as many points as this machine manages in a frame; when it rests, all.
"""

import time
from dataclasses import replace

import numpy as np
from PyQt6.QtGui import QImage, QPainter, QPicture

from ...actions.picturing import EDGES, GROUND
from ...core.geometry.pose import center
from ...core.raster.pick import drawn_at
from ...core.raster.points import draw_points, paint
from ...core.raster.solid import WIRES, Manner, draw_triangles, paint_quickly, paint_triangles
from ...core.raster.textured import paint_textured
from ...sitting.endpoints import seen_from
from .. import over as t
from .paint import paint_over

FRAME_S = 0.024  #: time that drawing may take while the view moves; a frame has some more to do
SHRINK = 3.0  #: a texture that moves has so many pixels fewer at most, along a side
SCANT, ROOMY = 0.3e6, 1.1e6  #: pixels that a moving view of points or triangles draws, as this machine manages
LEAST, MOST = 50_000, 20_000_000  #: points that a moving view draws


class Canvas:
    """What was drawn last, in the screen's own pixels, so that it is sharp where there are more of them.

    Attributes
    ----------
    image : QImage or None
        None where it is to be drawn anew.
    buffers : Buffers or None
    moving : bool
        Whether only a sample of the points is drawn.
    budget : int
        How many points a moving view draws.
    """

    def __init__(self, scene):
        self.scene = scene
        self.image = self.buffers = self._memory = None
        self.moving, self.budget, self._coarse = False, 400_000, False
        self.shrink = 1.0  #: pixels to one that is drawn, along a side, of a texture that moves
        self.room = ROOMY  #: pixels that a moving view of points or triangles draws
        self._ratio = 1.0  #: of the picture's pixels to the widget's

    def paint(self, p):
        """Paint the points, drawn anew where something changed."""
        if self.image is None:
            self.draw()
        p.drawImage(0, 0, self.image)

    def draw(self):
        """Draw the points, and take from the time how many a moving view can have."""
        start = time.perf_counter()
        self.image, self._memory, self.buffers = self._renderer(self.scene.devicePixelRatioF(), self.moving)()
        self._coarse = self.moving and self.scene.is_solid and self.scene.drawn.moving is not None
        took = time.perf_counter() - start
        textured = self.scene.drawn.textured is not None
        less = (self.shrink if textured else self._coarser()) if self.moving else 1.0
        self._ratio = self.scene.devicePixelRatioF() / less
        if self.moving and textured:
            self.shrink = float(np.clip(self.shrink * np.clip(np.sqrt(took / FRAME_S), 0.8, 1.25), 1.0, SHRINK))
        if self.moving and not textured:
            self.room = float(np.clip(self.room * np.clip(FRAME_S / max(took, 1e-4), 0.8, 1.25), SCANT, ROOMY))
        if self.moving and not self.scene.is_solid:
            self.budget = int(np.clip(self.budget * np.clip(FRAME_S / max(took, 1e-4), 0.5, 1.5), LEAST, MOST))

    def _coarser(self):
        """Pixels to one that is drawn, along a side, while a large view moves: it is sharp again at rest."""
        s, ratio = self.scene, self.scene.devicePixelRatioF()
        return max(1.0, float(np.sqrt(s.width() * s.height() * ratio**2 / self.room)))

    def _renderer(self, ratio, moving=False):
        """What draws the points as they are now with so many pixels to one of the widget, in any thread.

        It gives a QImage, the memory that this borrows, and the Buffers.
        """
        s = self.scene
        w, h = round(s.width() * ratio), round(s.height() * ratio)
        if s.drawn.textured is not None:
            return self._textured_renderer(ratio, moving, w, h)
        if moving:
            ratio /= self._coarser()
            w, h = round(s.width() * ratio), round(s.height() * ratio)
        if s.is_surface:
            return self._solid_renderer(ratio, moving, w, h)
        count = min(len(s.points), self.budget) if moving else len(s.points)
        spacing = s.drawn.spacing() if s.view.spacing.isChecked() else 0.0
        eye = s.rings.seen_from(replace(s.eye, f=s.eye.f * ratio))
        edges = EDGES if (s.is_cloud or s.drawn.is_dense) and s.view.edges.isChecked() else 0.0
        points, colors, size = s.points, self._colors(), max(round(s.point_size.value() * ratio), 1)

        def render():
            buffers = draw_points(points, eye, w, h, size, count, spacing)
            picture = paint(buffers, colors, GROUND, edges)
            image = QImage(picture.data, w, h, 4 * w, QImage.Format.Format_RGB32)
            image.setDevicePixelRatio(ratio)
            return image, picture, buffers

        return render

    def _solid_renderer(self, ratio, moving, w, h):
        """As `_renderer`, of a surface: its coarse copy while the view moves."""
        s, work = self.scene, self.scene.session.surfacing
        eye = s.rings.seen_from(replace(s.eye, f=s.eye.f * ratio))
        coarse, colors = (s.drawn.moving, s.drawn.moving_colors) if moving else (None, s.colors)
        points, faces = (coarse.points, coarse.faces) if moving else (s.points, s.drawn.faces)
        normals, manner = coarse.normals if moving else s.drawn.normals, work.manner
        mesh = {"points": points, "faces": faces, "normals": normals}
        outer = work.is_closed and s.drawn.slab is None
        line = t.color(t.TEXT if manner.what == WIRES else t.GROUND)
        line = line.red(), line.green(), line.blue()

        def render():
            solid = draw_triangles(points, faces, eye, w, h, outer)
            if moving and manner == Manner():
                picture = paint_quickly(solid, mesh, colors, eye, GROUND)
            else:
                picture = paint_triangles(solid, mesh, colors, eye, GROUND, line, manner, ratio)
            image = QImage(picture.data, w, h, 4 * w, QImage.Format.Format_RGB32)
            image.setDevicePixelRatio(ratio)
            return image, picture, solid.buffers

        return render

    def _textured_renderer(self, ratio, moving, w, h):
        """As `_renderer`, of a surface with its texture; of a large one a coarse copy while the view moves."""
        s, made, held = self.scene, self.scene.drawn.textured, self.scene.drawn.held
        if moving:
            ratio /= self.shrink
            w, h = round(s.width() * ratio), round(s.height() * ratio)
        eye = s.rings.seen_from(replace(s.eye, f=s.eye.f * ratio))
        outer, coarse = made.closed and s.drawn.slab is None, s.drawn.moving if moving else None
        points, faces, colors = s.points, s.drawn.faces, s.drawn.moving_colors
        mesh, tint = made.arrays, s.session.texturing.tint()
        if held is not None:
            mesh = {**mesh, "faces": faces, **{k: mesh[k][held] for k in ("corner", "page")}}
            tint = None if tint is None else tint[held]

        def render():
            if coarse is not None:
                solid = draw_triangles(coarse.points, coarse.faces, eye, w, h, outer)
                few = {"points": coarse.points, "faces": coarse.faces, "normals": coarse.normals}
                picture = paint_triangles(solid, few, colors, eye, GROUND, GROUND, Manner(matte=False), ratio)
            else:
                solid = draw_triangles(points, faces, eye, w, h, outer)
                picture = paint_textured(solid, mesh, made.pages, GROUND, tint, outer=outer, quick=moving)
            image = QImage(picture.data, w, h, 4 * w, QImage.Format.Format_RGB32)
            image.setDevicePixelRatio(ratio)
            return image, picture, solid.buffers

        return render

    def _colors(self):
        """The colors of the drawn points; where some are chosen, those in the accent and the others darker."""
        s = self.scene
        colors = s.colors
        chosen = None if s.is_cloud or s.is_solid or s.is_overlay or s.live is not None else s.session.points.chosen
        if chosen is not None and s.rows is not None:
            chosen = chosen[s.rows]
        if chosen is None or len(chosen) != len(colors) or not chosen.any():
            return colors
        c = t.color(t.ACCENT)
        return np.where(chosen[:, None], np.array([c.red(), c.green(), c.blue()], np.uint8), colors // 2)

    def snapshot(self, width):
        """What draws the scene as it is now as a QImage of another width: more pixels show more, not larger ones.

        It may be called in any thread, and takes seconds where there are many.
        """
        s = self.scene
        ratio, height = width / s.width(), s.height()
        render = self._renderer(ratio) if s.points is not None and len(s.points) else None
        over = QPicture()  # lines and texts, recorded
        p = QPainter(over)
        paint_over(p, s)
        p.end()

        def draw():
            out = QImage(width, round(height * ratio), QImage.Format.Format_RGB32)
            out.fill(t.color(t.NEUTRAL))
            out.setDevicePixelRatio(ratio)
            p = QPainter(out)
            if render is not None:
                image, memory, _ = render()
                p.drawImage(0, 0, image)
                del memory  # which the image only borrows
            over.play(p)
            p.end()
            out.setDevicePixelRatio(1.0)
            return out

        return draw

    def point_at(self, pos, reach=3):
        """Index of the point that is drawn at a position, or else nearest to it within `reach` pixels; -1 without."""
        if self.buffers is None or self.scene.points is None:
            return -1
        k = self._drawn_at(pos, reach)
        return self._vertex_of(k, pos) if self.scene.is_solid and k >= 0 else k

    def _drawn_at(self, pos, reach):
        ratio, eye = self._ratio, self.scene.eye
        at, f = (int(pos.x() * ratio), int(pos.y() * ratio)), eye.f * ratio
        return drawn_at(self.buffers.depth, self.buffers.index, at, round(reach * ratio), f, eye.flat)

    def triangle_at(self, pos):
        """The triangle of the textured surface at a position, and the place (3,) on it; None without."""
        s = self.scene
        if self.buffers is None or s.drawn.textured is None or self._coarse:
            return None
        k = self._drawn_at(pos, 1)
        if k < 0:
            return None
        corners = s.points[s.drawn.faces[k]].astype(float)
        normal = np.cross(corners[1] - corners[0], corners[2] - corners[0])
        near, far = (s.eye.place_at(pos.x(), pos.y(), z, s.width(), s.height()) for z in (1.0, 2.0))
        slant = normal @ (far - near)
        place = near + (far - near) * ((corners[0] - near) @ normal / slant) if slant else corners.mean(0)
        return int(k if s.drawn.held is None else s.drawn.held[k]), place

    def _vertex_of(self, triangle, pos):
        """The vertex of a drawn triangle that is nearest to a position."""
        s = self.scene
        drawn = s.drawn.moving if self._coarse else s.drawn
        corners = drawn.faces[triangle]
        uvz = s.eye.project(drawn.points[corners], s.width(), s.height())
        k = int(corners[np.hypot(uvz[:, 0] - pos.x(), uvz[:, 1] - pos.y()).argmin()])
        return int(drawn.rows[k]) if self._coarse else k

    def is_hidden(self, block, rows):
        """Which points (n,) bool of a block cannot be seen from here: behind the cloud, or on the far side."""
        s = self.scene
        out = ~seen_from(block, rows, center(s.eye.pose))
        if (s.is_cloud or s.is_solid) and self.buffers is not None:
            ratio = self._ratio
            depth = np.where(self.buffers.index >= 0, self.buffers.depth, np.nan)
            uvz = s.eye.project(block.points[rows], s.width(), s.height())
            for k, (u, v, z) in enumerate(uvz.tolist()):
                x, y = (int(c * ratio) for c in (u, v))
                around = depth[max(0, y - 3) : y + 4, max(0, x - 3) : x + 4]
                # a target lies on the surface: only what is clearly nearer hides it
                out[k] |= bool(np.isfinite(around).any() and z > 1.02 * np.nanmedian(around))
        return out
