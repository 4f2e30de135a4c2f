"""The evidence of a problem: a piece of the photo at full size beside the same spot in another photo.

So a soft photo is seen to be soft, and one that could not be placed shows what it lacks: what its features are, and
what a photo beside it has there that was placed.
"""

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QImage, QPixmap
from PyQt6.QtWidgets import QGridLayout, QWidget

from ...core.errors import UmbrateError
from ...core.features.evidence import corner, crop, evidence
from ...core.imaging.decode import display_orientation
from ...job.contents import FEATURES
from ...sitting.photos import located, photo_picture
from .. import tokens as t
from ..plain import Label
from .pairs import matches_of

SIDE = 138  #: pixels of each piece
RING = [(x, y) for x in range(-4, 5) for y in range(-4, 5) if round(np.hypot(x, y)) == 3]  #: drawn round a feature


def neighbor_of(session, photo, fits):
    """The nearest photo in order, of the same size, that fits; or None.

    fits : callable(Photo) -> bool
    """
    photos = [p for p in session.photos() if not p.aside]
    at = next((k for k, p in enumerate(photos) if p.id == photo.id), None)
    if at is None:
        return None
    fitting = [
        (abs(k - at), k)
        for k, p in enumerate(photos)
        if k != at and (p.width, p.height) == (photo.width, photo.height) and fits(p)
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


def _ringed(piece, spot, size, features):
    """A piece (size, size, 3) with a ring round each of its features (n, 2), in pixels of the photo."""
    x0, y0 = corner(size, spot, piece.shape[0])
    color, h = t.color(t.ACCENT), piece.shape[0]
    near = features[((features >= (x0, y0)) & (features < (x0 + h, y0 + h))).all(1)] - (x0, y0)
    at = (np.round(near).astype(int)[:, None] + np.array(RING)).reshape(-1, 2)
    at = at[((at >= 0) & (at < piece.shape[1::-1])).all(1)]
    piece[at[:, 1], at[:, 0]] = color.red(), color.green(), color.blue()
    return piece


def _upright(piece, photo):
    piece = np.ascontiguousarray(np.rot90(display_orientation(piece, photo.orientation), -photo.turn))
    h, w = piece.shape[:2]
    return QPixmap.fromImage(QImage(piece.data, w, h, 3 * w, QImage.Format.Format_RGB888).copy())


def busiest(xy, side):
    """The place (x, y) round which a window of a picture has most features (n, 2); None where there are none."""
    if not len(xy):
        return None
    half = side / 2
    cells, count = np.unique((xy // half).astype(int), axis=0, return_counts=True)
    have = dict(zip(map(tuple, cells.tolist()), count.tolist(), strict=True))
    best = max(have, key=lambda c: sum(have.get((c[0] + i, c[1] + j), 0) for i in (0, 1) for j in (0, 1)))
    return int((best[0] + 1) * half), int((best[1] + 1) * half)


class Pieces(QWidget):
    """Two pieces side by side, pixel for pixel; a click shows the place in the photo view.

    photos : (Photo, Photo)
        The one it is about, and the one beside it.
    captions : (str, str)
    shared : (n, 2, 2) float, optional
        Where both are known to show the same.
    features : ((n, 2), (m, 2)), optional
        Drawn as rings. Where nothing is known to be the same, each piece is taken from where most of them are.
    note : str
        Told below.
    """

    def __init__(self, session, photos, captions, shared=None, features=None, note=""):
        super().__init__()
        self.session, self.photos, self.features, self.told = session, photos, features, note
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(2)
        self.pieces = [Label(), Label()]
        for k, (photo, caption) in enumerate(zip(photos, captions, strict=True)):
            name = Label(objectName="quiet")
            name.setText(name.fontMetrics().elidedText(caption, Qt.TextElideMode.ElideMiddle, SIDE))
            name.setToolTip(photo.name)
            self.pieces[k].setFixedSize(SIDE, SIDE)
            self.pieces[k].setAlignment(Qt.AlignmentFlag.AlignCenter)
            grid.addWidget(name, 0, k)
            grid.addWidget(self.pieces[k], 1, k)
        grid.setColumnStretch(2, 1)
        self.note = Label(note, objectName="quiet")
        self.note.setWordWrap(True)
        self.note.setVisible(bool(note))
        grid.addWidget(self.note, 2, 0, 1, 3)
        self.spots = None
        self._load(shared)

    def _load(self, shared):
        s = self.session
        photos = [located(s.job, p) for p in self.photos]
        mask = s.masks.of(photos[0].id)
        side = round(SIDE * self.devicePixelRatioF())
        features = self.features if shared is None or not len(shared) else None

        def look():
            try:
                if features is not None:
                    pictures, spots = [photo_picture(p) for p in photos], [busiest(xy, side) for xy in features]
                    if None not in spots:
                        return *(crop(p, s, side) for p, s in zip(pictures, spots, strict=True)), spots, True
                return evidence(*(photo_picture(p) for p in photos), side, mask, shared)
            except UmbrateError as e:
                return str(e)

        s.in_background(look, self._show, series=f"evidence {photos[0].id}")

    def _show(self, found):
        try:
            if isinstance(found, str):
                self.note.setText(found)
                self.note.show()
                return
            *pieces, self.spots, sure = found
            for k, (label, piece, photo) in enumerate(zip(self.pieces, pieces, self.photos, strict=True)):
                if self.features is not None:
                    piece = _ringed(piece, self.spots[k], (photo.width, photo.height), self.features[k])
                picture = _upright(piece, photo)
                picture.setDevicePixelRatio(self.devicePixelRatioF())
                label.setPixmap(picture)
                label.setToolTip(f"{photo.name}, pixel for pixel. Click: show the place in the photo view")
            unsure = "" if sure else "The two share no features there: the pieces may show different places."
            self.note.setText(" ".join(x for x in (self.told, unsure) if x))
            self.note.setVisible(bool(self.note.text()))
        except RuntimeError:
            pass  # the bench shows something else by now

    def mousePressEvent(self, e):
        for label, photo, spot in zip(self.pieces, self.photos, self.spots or (), strict=False):
            if label.geometry().contains(e.position().toPoint()):
                self.session.look_at(photo.id, *spot)


def of_soft(session, photo, result):
    """Why a photo counts as soft, or None where no other photo of its size is sharp."""
    soft, sharpness = set(result.figures.soft), result.figures.sharpness
    other = neighbor_of(session, photo, lambda p: p.id not in soft and p.id in sharpness)
    if other is None:
        return None
    photos = photo, other
    captions = [f"{p.name}  {sharpness.get(p.id, 0):.2f}" for p in photos]
    block = session.block
    return Pieces(session, photos, captions, shared_sightings(block, photo.id, other.id) if block else None)


def of_left_out(session, photo, result):
    """What a photo lacks that could not be placed, beside the placed photo that it matches best or is nearest to."""
    block = session.block
    if block is None:
        return None
    placed = lambda p: block.solved_row(p.id) is not None  # noqa: E731
    by_id = {p.id: p for p in session.photos()}
    why = result.figures.reasons[photo.id]
    other = next((by_id[i] for i in why.partners if i in by_id and placed(by_id[i])), None)
    if other is None or (other.width, other.height) != (photo.width, photo.height):
        other = neighbor_of(session, photo, placed)
    keys = [result.blob("features", p.id) if p else None for p in (photo, other)]
    if None in keys:
        return None
    features = [session.job.blobs.get_arrays(key, FEATURES)["xy"] for key in keys]
    counts = [len(xy) for xy in features]
    shared = matches_of(session, result, photo.id, other.id)
    note = f"Rings are features: {counts[0]:,} in all, and {counts[1]:,}. "
    if shared is not None:
        note += f"The two share {len(shared):,} matches."
    else:
        note += "The two share no matches, so the pieces are from where most features are."
    return Pieces(session, (photo, other), [photo.name, other.name], shared, features, note)
