"""Masks tried on a few photos: the object of each, small, to click on."""

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QImage, QPixmap
from PyQt6.QtWidgets import QGridLayout, QWidget

from ...sitting.masks import decode_mask
from ...sitting.photos import located, photo_thumbnail
from ..plain import Label

COLUMNS, SIDE = 2, 138
OUTSIDE = np.array([0x2B, 0x2B, 0x2B])  #: as in the photo view: neutral gray


class TriedMasks(QWidget):
    """One picture for each photo of a Preview: what the mask leaves of it."""

    def __init__(self, session, preview):
        super().__init__()
        self.session = session
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(6)
        self.shown = {}
        photos = {p.id: p for p in session.photos()}
        for k, i in enumerate(x for x in preview.photo_ids if x in photos):
            label = Label()
            label.setFixedSize(SIDE, round(SIDE * 0.76))
            label.setAlignment(Qt.AlignmentFlag.AlignCenter)
            label.setCursor(Qt.CursorShape.PointingHandCursor)
            label.setObjectName("picture")
            label.setToolTip(photos[i].name)
            self.shown[i] = label
            grid.addWidget(label, k // COLUMNS, k % COLUMNS)
            self._fill(label, photos[i], preview.made.get(i))
        grid.setColumnStretch(COLUMNS, 1)

    def _fill(self, label, photo, made):
        if made is None or made.mask is None:
            label.setText("no mask")
            return
        s = self.session
        wanted, key = located(s.job, photo), made.silhouette
        outline = decode_mask(s.job.blobs.get_bytes(key))
        side = round(SIDE * self.devicePixelRatioF())

        def look():
            return cut_out(photo_thumbnail(wanted, side), outline, photo)

        def show(picture):
            try:
                h, w = picture.shape[:2]
                pixmap = QPixmap.fromImage(QImage(picture.data, w, h, 3 * w, QImage.Format.Format_RGB888).copy())
                pixmap.setDevicePixelRatio(self.devicePixelRatioF())
                label.setPixmap(pixmap)
            except RuntimeError:
                pass  # the bench shows something else by now

        s.in_background(look, show)

    def mousePressEvent(self, e):
        for i, label in self.shown.items():
            if label.geometry().contains(e.position().toPoint()):
                self.session.choose(photo_id=i)


def cut_out(small, outline, photo):
    """A small upright picture (h, w, 3) uint8 with all outside the outline (h2, w2) bool, upright too, in gray."""
    h, w = small.shape[:2]
    rows = np.arange(h) * outline.shape[0] // h
    columns = np.arange(w) * outline.shape[1] // w
    inside = outline[rows][:, columns]
    out = np.where(inside[..., None], small, OUTSIDE).astype(np.uint8)
    return np.ascontiguousarray(np.rot90(out, -photo.turn))
