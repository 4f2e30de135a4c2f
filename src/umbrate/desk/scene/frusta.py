"""What lies on top of the scene's points: photos as frusta, links between them, the rings of a turntable.

Each painter takes the scene; what is dear to compute is kept with the block it was computed from.
"""

from itertools import pairwise

import numpy as np
from PyQt6.QtCore import QLineF, QPointF, Qt
from PyQt6.QtGui import QPainterPath, QPen, QPolygonF, QTransform

from ...core.geometry.similarity import scale_of
from ...core.poses.sift import shared_points
from .. import over as t
from ..strip.thumbs import kept_picture

LEAST_SHARED = 20  #: photos that share fewer tie points are not linked
LINKS_EACH = 5  #: so many of its strongest links are drawn for each photo
PLAIN = "#C9CDD1"

#: of a frustum: from its place to the corners of its picture, and round them
EDGES = ((0, 1), (0, 2), (0, 3), (0, 4), (1, 2), (2, 3), (3, 4), (4, 1))


class Frusta:
    """The photos of a block in the scene."""

    def __init__(self, session):
        self.session = session
        self.size = 0.06  #: length of a frustum as a share of the photos' usual distance
        self.pictures = self.links = self.order = False
        self._shared = self._of = self._corners = self._projected = self._plain = None
        self._thumbs = {}

    def length(self):
        """How long a frustum is in the frame that is shown: in the plain one, photos stand at distance 1."""
        s = self.session
        return self.size * (scale_of(s.frame.matrix) if s.frame and s.fragment == 0 else 1.0)

    def corners(self, block):
        """(photo id, corners (5, 3)) of each solved photo: its place, and the four corners of its picture."""
        length = self.length()
        if self._corners is None or self._corners[0] is not block or self._corners[1] != length:
            self._corners = block, length, self._made_corners(block, length)
        return self._corners[2]

    @staticmethod
    def _made_corners(block, length):
        out = []
        for pid, k in block.solved_rows.items():
            E = block.poses[k]
            ax, ay = block.sizes[k] / 2 / block.lens_vector(k)[0]
            m = np.hypot(ax, ay)
            c = np.array([[0, 0, 0], [-ax, -ay, m], [ax, -ay, m], [ax, ay, m], [-ax, ay, m]])
            out.append((pid, (c * (length / m) - E[:3, 3]) @ E[:3, :3]))
        return out

    def shared(self, block):
        """How many tie points each two photos share (n, n), computed once a block."""
        if self._of is not block:
            self._of, self._shared = block, shared_points(block.photo, block.point, len(block.photo_ids))
        return self._shared

    def paint(self, p, block, eye, width, height, hovered=None, slipped=()):
        """Draw them; what is chosen, traced, under the pointer or has slipped stands out."""
        s = self.session
        if self.links:
            self._paint_links(p, block, eye, width, height)
        traced = s.points.photos
        strong = {s.photo_id, hovered, *traced, *slipped} & block.solved_rows.keys()
        plain = Qt.BrushStyle.NoBrush if self.pictures else t.color(PLAIN, 26)
        at = self._on_screen(block, eye, width, height)
        if self.pictures:
            for pid, q in at.items():
                self._paint_picture(p, pid, q[1:])
        fill, lines = self._together(at, strong)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(plain)
        p.drawPath(fill)
        p.setPen(QPen(t.color(PLAIN, 170), 1))
        p.drawLines(lines)
        for pid in strong & at.keys():
            q, chosen = at[pid], pid == s.photo_id
            accent = chosen or pid in traced
            tint = t.ACCENT if accent else t.STATE_COLORS["failed"] if pid in slipped else PLAIN
            p.setPen(QPen(t.color(tint, 255), 2 if accent or pid == hovered else 1))
            p.setBrush(plain if self.pictures else t.color(tint, 60 if chosen else 26))
            p.drawPolygon(QPolygonF(q[1:]))
            p.drawLines([QLineF(q[0], x) for x in q[1:]])
        if self.order and block.order:
            p.setFont(t.font(t.SMALL, bold=True))
            for n, (u, v, z) in enumerate(eye.project(block.eyes[list(block.order)], width, height), 1):
                if z > 0:
                    p.setPen(t.color(t.GROUND))
                    p.drawText(QPointF(u + 5, v - 3), str(n))
                    p.setPen(t.color(t.TEXT))
                    p.drawText(QPointF(u + 4, v - 4), str(n))

    def _on_screen(self, block, eye, width, height):
        """Five points in the widget of each photo before the eye, by its id, kept while nothing moves."""
        seen_as = (
            block,
            self.length(),
            eye.pose.tobytes(),
            eye.f,
            eye.parallel,
            np.asarray(eye.pivot).tobytes(),
            width,
            height,
        )
        if self._projected is None or self._projected[0][0] is not block or self._projected[0][1:] != seen_as[1:]:
            every, out = self.corners(block), {}
            if every:
                at = eye.project(np.concatenate([c for _, c in every]), width, height).reshape(-1, 5, 3)
                front = (at[:, :, 2] > 0).all(1)
                seen = zip(every, at, front, strict=True)
                out = {pid: [QPointF(*x) for x in q[:, :2]] for (pid, _), q, ok in seen if ok}
            self._projected = seen_as, out
        return self._projected[1]

    def _together(self, at, strong):
        """All photos but some as one path to fill and one list of lines, kept while nothing moves."""
        if self._plain is None or self._plain[0] is not at or self._plain[1] != strong:
            fill, lines = QPainterPath(), []
            fill.setFillRule(Qt.FillRule.WindingFill)
            for pid, q in at.items():
                if pid not in strong:
                    fill.addPolygon(QPolygonF([*q[1:], q[1]]))
                    lines += [QLineF(q[a], q[b]) for a, b in EDGES]
            self._plain = at, strong, fill, lines
        return self._plain[2:]

    def _paint_links(self, p, block, eye, width, height):
        shared = self.shared(block)
        solved = block.solved
        at = np.full((len(solved), 3), -1.0)
        at[solved] = eye.project(block.eyes[solved], width, height)
        strongest = max(int(shared.max()), 1)
        drawn = set()
        for i in np.flatnonzero(solved):
            for j in np.argsort(-shared[i], kind="stable")[:LINKS_EACH]:
                if shared[i, j] >= LEAST_SHARED and at[i, 2] > 0 and at[j, 2] > 0:
                    drawn.add((min(i, j), max(i, j)))
        chosen = block.row_of(self.session.photo_id)
        for i, j in sorted(drawn, key=lambda ij: shared[ij]):
            share = shared[i, j] / strongest
            mine = chosen in (i, j)
            p.setPen(QPen(t.color(t.ACCENT if mine else t.CATEGORIES[1], int(70 + 150 * share)), 0.6 + 5.0 * share))
            p.drawLine(QPointF(*at[i, :2]), QPointF(*at[j, :2]))

    def _paint_picture(self, p, pid, corners):
        small = self._thumb(pid)
        if small is None:
            return
        w, h = small.width(), small.height()
        flat = QPolygonF([QPointF(0, 0), QPointF(w, 0), QPointF(w, h), QPointF(0, h)])
        move = QTransform()
        if QTransform.quadToQuad(flat, QPolygonF(corners), move):
            p.save()
            p.setTransform(move, True)
            p.drawPixmap(0, 0, small)
            p.restore()

    def _thumb(self, pid):
        """A photo's small picture as the sensor saw it, or None."""
        done = self.session.result("photos")
        key = done.blob("thumbnail", pid) if done else None
        if key and key not in self._thumbs:
            picture = kept_picture(self.session.job.blobs, key)
            if picture is None:
                return None
            photo = next((x for x in self.session.photos() if x.id == pid), None)
            # thumbnails stand as people see them; a frustum has the sensor's own sides
            back = {3: 180, 6: -90, 8: 90}.get(photo.orientation if photo else 1, 0)
            self._thumbs[key] = picture.transformed(QTransform().rotate(back)) if back else picture
        return self._thumbs.get(key)


def paint_turntable(p, found, eye, width, height):
    """The axis and the rings of a turntable, from the figures of Poses."""
    point, axis = np.array(found.point), np.array(found.direction)
    radius = max(r.radius for r in found.rings)
    x = np.linalg.svd(axis[None])[2][1]
    y = np.cross(axis, x)
    turn = np.linspace(0, 2 * np.pi, 91)
    p.setBrush(Qt.BrushStyle.NoBrush)
    for r in found.rings:
        ring = point + r.height * axis + r.radius * (np.outer(np.cos(turn), x) + np.outer(np.sin(turn), y))
        _line(p, ring, eye, width, height, QPen(t.color(t.CATEGORIES[2], 120), 1, Qt.PenStyle.DashLine))
    ends = [point + s * radius * axis for s in (-0.35, 0.8)]
    _line(p, np.array(ends), eye, width, height, QPen(t.color(t.CATEGORIES[2], 200), 1.4))


def _line(p, points, eye, width, height, pen):
    uvz = eye.project(points, width, height)
    p.setPen(pen)
    for a, b in pairwise(uvz):
        if a[2] > 0 and b[2] > 0:
            p.drawLine(QPointF(*a[:2]), QPointF(*b[:2]))
