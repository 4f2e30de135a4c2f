"""Looking through a photo: the eye stands where the camera stood, and the picture lies over the points.

The lens is taken out of the picture, because the scene has none: then every point lies on what it is a point of, and
one that does not is wrong.
"""

import numpy as np
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QImage, QPainter, QTransform
from PyQt6.QtWidgets import QSlider

from ...core.errors import UmbrateError
from ...core.imaging.undistort import undistort
from ...core.raster.camera import Eye
from ...sitting.photos import QUARTERS, located, photo_picture


def rolled(quarters):
    """The motion (4, 4) of an eye that turns its picture to the right by so many quarters."""
    c, s = ((1, 0), (0, 1), (-1, 0), (0, -1))[quarters % 4]
    M = np.eye(4)
    M[:2, :2] = (c, -s), (s, c)
    return M


class Through:
    """Which photo is looked through, its straight picture, and how much of it shows."""

    def __init__(self, session, scene):
        self.session, self.scene = session, scene
        self.photo_id = self._image = self._pinhole = None
        self._quarters, self._middle = 0, (0.0, 0.0)
        self.blend = QSlider(Qt.Orientation.Horizontal, scene, minimum=0, maximum=100, value=55)
        self.blend.setToolTip("How much of the photo shows over the points")
        self.blend.setFixedWidth(120)
        self.blend.valueChanged.connect(lambda _: scene.update())
        self.blend.hide()

    def begin(self, photo_id, block, width, height):
        """The Eye at a photo's place, or None where it has none; its picture comes when it is read."""
        k = block.solved_row(photo_id) if block is not None else None
        if k is None:
            self.session.said.emit("This photo has no place to look from: it was not solved.", "note")
            return None
        w, h = (int(x) for x in block.sizes[k])
        lens = block.lens(k)
        if photo_id != self.photo_id:
            self._read(photo_id, lens, 2 if max(w, h) < 3000 else 4)
        self.photo_id = photo_id
        self.blend.show()
        photo = next(p for p in self.session.photos() if p.id == photo_id)
        self._quarters = (QUARTERS.get(photo.orientation, 0) + photo.turn) % 4
        if self._quarters % 2:
            w, h = h, w
        f = lens.f * min(width / w, height / h)
        return Eye(rolled(self._quarters) @ block.poses[k], f, np.median(block.points, axis=0))

    def _read(self, photo_id, lens, scale):
        self._image = None
        photo = next(p for p in self.session.photos() if p.id == photo_id)
        wanted = located(self.session.job, photo)

        def read():
            try:
                straight, _, pinhole = undistort(photo_picture(wanted), None, lens, scale)
                return photo_id, np.ascontiguousarray(np.clip(straight, 0, 255).astype(np.uint8)), pinhole
            except UmbrateError as e:
                return photo_id, None, str(e)

        self.session.in_background(read, self._show, series="through")

    def _show(self, answer):
        photo_id, picture, pinhole = answer
        if photo_id != self.photo_id:
            return
        if picture is None:
            self.session.said.emit(pinhole, "bad")
            return
        h, w = picture.shape[:2]
        image = QImage(picture.data, w, h, 3 * w, QImage.Format.Format_RGB888).copy()
        self._image = image.transformed(QTransform().rotate(90 * self._quarters)) if self._quarters else image
        self._pinhole = pinhole
        # where the principal point is once the picture stands upright, pixel centers at whole numbers
        x, y = pinhole.cx, pinhole.cy
        self._middle = ((x, y), (h - 1 - y, x), (w - 1 - x, h - 1 - y), (y, w - 1 - x))[self._quarters]
        self.scene.update()

    def end(self):
        """Look as before."""
        self.photo_id = self._image = None
        self.blend.hide()

    def paint(self, p, eye, width, height):
        """The picture over what is drawn, its principal point in the middle of the view."""
        if self._image is None:
            return
        s = eye.f / self._pinhole.f
        x, y = (width - 1) / 2 - (self._middle[0] + 0.5) * s, (height - 1) / 2 - (self._middle[1] + 0.5) * s
        p.setOpacity(self.blend.value() / 100.0)
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        p.drawImage(QRectF(x, y, self._image.width() * s, self._image.height() * s), self._image)
        p.setOpacity(1.0)
