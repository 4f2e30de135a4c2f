"""Where a photo lies in its view: upright for people, so large, so far shifted.

A photo's own pixels are those of its sensor, pixel centers at whole numbers; the view's are Qt's, measured from the
outer corner of the first pixel.
"""

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QTransform

#: degrees that an EXIF orientation turns a picture by
TURN = {1: 0, 2: 0, 3: 180, 4: 180, 5: 270, 6: 90, 7: 90, 8: 270}
MIRRORED = (2, 4, 5, 7)
LEAST, MOST = 0.02, 40.0  #: scales
MARGIN, FOOT = 16, 24


class Placement:
    """The way from sensor pixels to the view and back.

    Attributes
    ----------
    size : (width, height)
        Of the photo in sensor pixels.
    orientation, turn : int
        EXIF orientation, and quarter turns by hand.
    scale : float
        Pixels of the view for one of the photo.
    shift : QPointF
    """

    def __init__(self):
        self.size, self.orientation, self.turn = (0, 0), 1, 0
        self.scale, self.shift = 1.0, QPointF()

    def upright(self):
        """Sensor pixels to upright pixels."""
        w, h = self.size
        m = QTransform()
        turn = (TURN.get(self.orientation, 0) + 90 * self.turn) % 360
        if turn == 90:
            m.translate(h, 0)
        elif turn == 180:
            m.translate(w, h)
        elif turn == 270:
            m.translate(0, w)
        m.rotate(turn)
        if self.orientation in MIRRORED:
            m.translate(w, 0)
            m.scale(-1, 1)
        return m

    def to_view(self):
        """Sensor pixels to the view."""
        return (
            self.upright()
            * QTransform.fromScale(self.scale, self.scale)
            * QTransform.fromTranslate(self.shift.x(), self.shift.y())
        )

    def pixel_at(self, pos):
        """Sensor pixel (x, y) under a place of the view; None where there is no way back."""
        inverse, ok = self.to_view().inverted()
        q = inverse.map(QPointF(pos))
        return (q.x() - 0.5, q.y() - 0.5) if ok else None

    def fit(self, width, height, top):
        """Show all of the photo in a view of that size, below its first `top` pixels."""
        r = self.upright().mapRect(QRectF(0, 0, *self.size))
        free = height - top - FOOT
        self.scale = min((width - MARGIN) / r.width(), (free - MARGIN / 2) / r.height())
        self.shift = QPointF((width - r.width() * self.scale) / 2, top + (free - r.height() * self.scale) / 2)

    def look_at(self, x, y, middle, scale):
        """Show a pixel in the middle of the view, at a scale."""
        self.scale, self.shift = scale, QPointF()
        self.shift = middle - self.to_view().map(QPointF(x + 0.5, y + 0.5))

    def zoom(self, factor, pos):
        """Show it larger or smaller; what is under a place of the view stays there."""
        new = min(max(self.scale * factor, LEAST), MOST)
        self.shift = pos - (pos - self.shift) * (new / self.scale)
        self.scale = new
