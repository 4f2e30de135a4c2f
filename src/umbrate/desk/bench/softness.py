"""Why a photo counts as soft: a piece of it at full size beside the same spot in a sharp neighbor."""

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QImage, QPixmap
from PyQt6.QtWidgets import QGridLayout, QLabel, QWidget

from ...core.errors import UmbrateError
from ...core.imaging.decode import display_orientation
from ...core.imaging.evidence import evidence
from ...sitting.photos import located, photo_picture

SIDE = 138  #: pixels of each piece
UNLIKE = 0.4  #: likeness below which the spots may well be different ones


def neighbor_of(session, photo, soft, sharpness):
    """The sharp photo nearest in order to a soft one, of its size, or None.

    soft : set of photo ids; sharpness : dict of photo id to float
    """
    photos = [p for p in session.photos() if not p.aside]
    at = next((k for k, p in enumerate(photos) if p.id == photo.id), None)
    if at is None:
        return None
    fitting = [
        (abs(k - at), k)
        for k, p in enumerate(photos)
        if p.id not in soft and p.id in sharpness and k != at and (p.width, p.height) == (photo.width, photo.height)
    ]
    return photos[min(fitting)[1]] if fitting else None


def shared_sightings(block, a, b):
    """Sightings (n, 2, 2) of the tie points that two photos, by id, share; None where nothing is solved."""
    if block is None:
        return None
    rows = block.row_of(a), block.row_of(b)
    if None in rows:
        return None
    here, there = (block.in_photo(k) for k in rows)
    _, i, j = np.intersect1d(block.point[here], block.point[there], return_indices=True)
    return np.stack([block.xy[here[i]], block.xy[there[j]]], axis=1)


def _upright(piece, photo):
    piece = np.ascontiguousarray(np.rot90(display_orientation(piece, photo.orientation), -photo.turn))
    h, w = piece.shape[:2]
    return QPixmap.fromImage(QImage(piece.data, w, h, 3 * w, QImage.Format.Format_RGB888).copy())


class Evidence(QWidget):
    """Two pieces side by side, pixel for pixel; a click shows the place in the photo view."""

    def __init__(self, session, photo, result):
        super().__init__()
        self.session = session
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(2)
        self.pieces = [QLabel(), QLabel()]
        self.names = [QLabel(objectName="quiet"), QLabel(objectName="quiet")]
        for k in (0, 1):
            self.pieces[k].setFixedSize(SIDE, SIDE)
            self.pieces[k].setAlignment(Qt.AlignmentFlag.AlignCenter)
            grid.addWidget(self.names[k], 0, k)
            grid.addWidget(self.pieces[k], 1, k)
        grid.setColumnStretch(2, 1)
        self.note = QLabel(objectName="quiet")
        self.note.setWordWrap(True)
        grid.addWidget(self.note, 2, 0, 1, 3)
        figures = result.figures
        other = neighbor_of(session, photo, set(figures.soft), figures.sharpness)
        if other is None:
            self.note.setText("No other photo of its size is sharp.")
            return
        self.photos = (photo, other)
        for label, p in zip(self.names, self.photos, strict=True):
            text = f"{p.name}  {figures.sharpness.get(p.id, 0):.2f}"
            label.setText(label.fontMetrics().elidedText(text, Qt.TextElideMode.ElideMiddle, SIDE))
            label.setToolTip(p.name)
        self.spots = None
        self._load()

    def _load(self):
        s, (photo, other) = self.session, self.photos
        photos = [located(s.job, p) for p in self.photos]
        mask = s.masks.of(photo.id)
        shared = shared_sightings(s.block, photo.id, other.id)
        side = round(SIDE * self.devicePixelRatioF())

        def look():
            try:
                return evidence(*(photo_picture(p) for p in photos), side, mask, shared)
            except UmbrateError as e:
                return str(e)

        s.in_background(look, self._show, series="evidence")

    def _show(self, found):
        try:
            if isinstance(found, str):
                self.note.setText(found)
                return
            soft, sharp, self.spots, likeness = found
            for label, piece, photo in zip(self.pieces, (soft, sharp), self.photos, strict=True):
                picture = _upright(piece, photo)
                picture.setDevicePixelRatio(self.devicePixelRatioF())
                label.setPixmap(picture)
                label.setToolTip(f"{photo.name}, pixel for pixel. Click: show the place in the photo view")
            self.note.setText("" if likeness >= UNLIKE else "The photos differ much: the spots may not be the same.")
            self.note.setVisible(bool(self.note.text()))
        except RuntimeError:
            pass  # the bench shows something else by now

    def mousePressEvent(self, e):
        for label, photo, spot in zip(self.pieces, getattr(self, "photos", ()), self.spots or (), strict=False):
            if label.geometry().contains(e.position().toPoint()):
                self.session.look_at(photo.id, *spot)
