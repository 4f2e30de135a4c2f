"""One of two sittings in which the same places are picked: its cloud to turn, or a photo of it to zoom."""

import numpy as np
from PyQt6 import sip
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QPainter, QPen

from ...actions.picturing import DIRECTIONS, EDGES, GROUND
from ...core.geometry.pose import center
from ...core.raster.camera import eye_round
from ...core.raster.pick import drawn_at
from ...core.raster.points import draw_points, paint
from ...job.marks import token
from ...sitting.clouds import cloud_source
from ...sitting.endpoints import seen_from
from ...sitting.frames import frame_of, load_block
from ...sitting.photos import QUARTERS, located, photo_picture
from ...sitting.picks import marked_places
from .. import over as t
from .turned import TurnedView

NEAR_PX = 10  #: a marked point so near is taken for what was clicked on
HIT_PX = 6  #: of a photo's pixels: points so near to where was clicked are asked for


class PickView(TurnedView):
    """One sitting to pick in: its cloud to turn, or one of its photos to zoom. Says where was clicked.

    What is read from the disk comes in a moment: until then there is nothing to click on.
    """

    picked = pyqtSignal(object, object)  #: the place in the job's frame (3,), and what is kept of it

    def __init__(self, session, sitting):
        super().__init__()
        job = session.job
        self.setAccessibleName(f"Pick in {sitting.name}")
        self.session, self.job, self.sitting = session, job, sitting
        self.block, self.frame = load_block(job, sitting), frame_of(job, sitting)
        self.points = self.colors = None
        self.marks = marked_places(job, sitting, self.frame.matrix)
        self.names = {p.id: p.name for p in job.marked_points(sitting.id)}
        self.shown = []  #: (name, place, whether it is the chosen one)
        self.guess = None  #: where a pick should be
        self.photo = None  #: row of the photo that is looked at
        self.coming = None  #: row of the photo that is read
        self._memory = self._buffers = self._picture = self._uv = None
        self._zoom, self._at = 1.0, QPointF(0.5, 0.5)
        kept = job.cloud(sitting.id)
        if kept is None:
            self._take(self.block.points, self.block.colors)
        else:
            source = cloud_source(job, sitting, kept)
            self._read(source.read, lambda cloud: self._take(cloud["points"], cloud["colors"]))

    def _read(self, function, then):
        """Have something read, and do something with it where this view is there still."""

        def take(value):
            if not sip.isdeleted(self):
                then(value)

        def fail(sentence):
            self.session.said.emit(sentence, "bad")
            if not sip.isdeleted(self):
                self.coming = None
                self._take(self.block.points, self.block.colors) if self.points is None else self.update()

        self.session.in_background(function, take, fail)

    # ------------------------------------------------------------------ what is shown
    def _take(self, points, colors):
        self.points, self.colors = np.ascontiguousarray(points, np.float32), colors
        self._image = None
        if self.photo is not None:
            self.show_photo(self.photo)
        self.update()

    def show_photo(self, row):
        """Show the photo of a row of the block, None: the cloud."""
        self.coming = row
        self._zoom, self._at = 1.0, QPointF(0.5, 0.5)
        if row is None:
            self.photo = self._picture = self._uv = self._image = None
            self.update()
            return
        photo = next(p for p in self.job.photos(self.sitting.id) if p.id == int(self.block.photo_ids[row]))
        file, quarters, points = (
            located(self.job, photo),
            (QUARTERS.get(photo.orientation, 0) + photo.turn) % 4,
            self.points,
        )

        def read():
            a = photo_picture(file)
            shown = InPhoto(self.block, row, a.shape[:2], quarters)
            return np.ascontiguousarray(np.rot90(a, -quarters)), shown, shown.of(points) if points is not None else None

        def show(found):
            if self.coming != row:
                return  # another one is wanted by now
            a, self._shown, self._uv = found
            self.coming, self.photo, self._memory = None, row, a
            self._picture = QImage(a.data, a.shape[1], a.shape[0], 3 * a.shape[1], QImage.Format.Format_RGB888)
            self.update()

        self._read(read, show)
        self.update()

    def fit(self):
        """See all of it."""
        p = self.points
        middle = np.median(p, axis=0).astype(float)
        radius = float(np.percentile(np.linalg.norm(p - middle, axis=1), 98))
        self.eye = eye_round(middle, 1.05 * radius, DIRECTIONS["corner"], self.width(), self.height())
        self._image = None

    def on_screen(self, X):
        """Where places (n, 3) are in the widget (n, 2), NaN where they are not."""
        X = np.asarray(X, float).reshape(-1, 3)
        if self.photo is not None:
            r = self._rect()
            uv = self._shown.of(X)[:, :2] + 0.5
            return uv * (r.width() / self._picture.width()) + [r.left(), r.top()]
        uvz = self.eye.project(X, self.width(), self.height())
        return np.where(uvz[:, 2:] > 0, uvz[:, :2], np.nan)

    def _rect(self):
        """Where the photo lies in the widget."""
        w, h = self._picture.width(), self._picture.height()
        k = min(self.width() / w, self.height() / h) * self._zoom
        return QRectF(self.width() / 2 - self._at.x() * w * k, self.height() / 2 - self._at.y() * h * k, w * k, h * k)

    def paintEvent(self, _):
        p = QPainter(self)
        p.fillRect(self.rect(), t.color(t.NEUTRAL))
        if self.points is None or self.coming is not None:
            p.setPen(t.color(t.QUIET))
            p.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Reading …")
            return
        if self.eye is None:
            self.fit()
        if self.photo is not None:
            p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            p.drawImage(self._rect(), self._picture)
        else:
            if self._image is None:
                b = self._buffers = draw_points(self.points, self.eye, self.width(), self.height(), 2)
                self._memory = paint(b, self.colors, GROUND, EDGES)
                w, h = self.width(), self.height()
                self._image = QImage(self._memory.data, w, h, 4 * w, QImage.Format.Format_RGB32)
            p.drawImage(0, 0, self._image)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setFont(t.font(t.SMALL, bold=True))
        for i, X in self.marks.items():
            if self._is_seen(i):
                self._cross(p, X, t.CATEGORIES[1], self.names.get(i, ""), 3)
        for name, X, chosen in self.shown:
            self._cross(p, X, t.ACCENT if chosen else t.TEXT, name, 7)
        if self.guess is not None:
            ((x, y),) = self.on_screen(self.guess)
            if np.isfinite(x):
                p.setPen(QPen(t.color(t.ACCENT), 1.5, Qt.PenStyle.DashLine))
                p.drawEllipse(QPointF(x, y), 14, 14)

    def _cross(self, p, X, tint, name, size):
        ((x, y),) = self.on_screen(X)
        if not np.isfinite(x):
            return
        for color, width in ((t.GROUND, 3.5), (tint, 1.6)):
            p.setPen(QPen(t.color(color), width))
            p.drawLine(QPointF(x - size, y), QPointF(x + size, y))
            p.drawLine(QPointF(x, y - size), QPointF(x, y + size))
        for color, shift in ((t.GROUND, 1), (tint, 0)):
            p.setPen(t.color(color))
            p.drawText(QPointF(x + size + 2 + shift, y - 3 + shift), name)

    # ------------------------------------------------------------------ the hand
    @property
    def ready(self):
        """Whether what is shown is there."""
        return self.points is not None and self.coming is None and (self.eye is not None or self.photo is not None)

    def _dragged(self, step, turning):
        if self.photo is None:
            super()._dragged(step, turning)
            return
        r = self._rect()
        self._at -= QPointF(step.x() / r.width(), step.y() / r.height())

    def _zoomed(self, factor, pos):
        if self.photo is None:
            super()._zoomed(factor, pos)
            return
        r = self._rect()
        x, y = (pos.x() - r.left()) / r.width(), (pos.y() - r.top()) / r.height()
        zoom = float(np.clip(self._zoom * factor, 1.0, 40.0))
        k = 1 - self._zoom / zoom
        self._at += QPointF((x - self._at.x()) * k, (y - self._at.y()) * k)
        self._zoom = zoom

    def _is_seen(self, mark):
        """Whether a marked point is on the side that is looked at: what is hidden is neither shown nor snapped to."""
        row = self.block.marks.get(mark)
        eye = self.block.poses[self.photo] if self.photo is not None else self.eye.pose
        return row is None or bool(seen_from(self.block, [row], center(eye))[0])

    def _clicked(self, pos):
        for i, X in self.marks.items():
            ((x, y),) = self.on_screen(X)
            if np.hypot(x - pos.x(), y - pos.y()) < NEAR_PX and self._is_seen(i):
                self.picked.emit(X, {"mark": token(i)})
                return
        X = self._under(pos)
        if X is not None:
            plain = np.linalg.inv(self.frame.matrix) @ np.append(X, 1.0)
            self.picked.emit(X, {"cloud": plain[:3].tolist()})

    def _under(self, pos):
        """The place on the surface under a position, or None."""
        if self.photo is not None:
            r = self._rect()
            k = self._picture.width() / r.width()
            x, y = (pos.x() - r.left()) * k - 0.5, (pos.y() - r.top()) * k - 0.5
            off = np.hypot(self._uv[:, 0] - x, self._uv[:, 1] - y)
            near = np.flatnonzero(off < HIT_PX)
            if not len(near):
                return None
            front = near[self._uv[near, 2] < 1.01 * self._uv[near, 2].min()]  # what lies behind is not seen
            return self.points[front[np.argmin(off[front])]].astype(float)
        at, eye, drawn = (int(pos.x()), int(pos.y())), self.eye, self._buffers
        k = drawn_at(drawn.depth, drawn.index, at, 3, eye.f, eye.flat)
        return self.points[k].astype(float) if k >= 0 else None


class InPhoto:
    """Where places lie in a photo that is shown upright.

    Parameters
    ----------
    block : Block
    row : int
        The photo's.
    shape : (height, width) as the sensor took it
    quarters : int
        How often it is turned to be upright.
    """

    def __init__(self, block, row, shape, quarters):
        self.pose, self.lens, self.shape, self.quarters = block.poses[row], block.lens(row), shape, quarters

    def of(self, X):
        """Pixels and depth (n, 3) of places (n, 3); NaN behind the photo."""
        Y = np.asarray(X, float) @ self.pose[:3, :3].T + self.pose[:3, 3]
        z = np.where(Y[:, 2] > 0, Y[:, 2], np.nan)
        x, y = self.lens.project(Y[:, :2] / z[:, None]).T
        h, w = self.shape
        x, y = ((x, y), (h - 1 - y, x), (w - 1 - x, h - 1 - y), (y, w - 1 - x))[self.quarters]
        return np.column_stack([x, y, z])
