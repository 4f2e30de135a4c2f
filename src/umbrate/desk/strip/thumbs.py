"""One photo of the contact strip: its small picture, its state, its key figure and how sharp it is."""

from collections import OrderedDict

from PyQt6.QtCore import QRect, QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetrics, QPainter, QPen, QPixmap, QTransform
from PyQt6.QtWidgets import QStyle, QStyledItemDelegate

from ...core.errors import UmbrateError
from .. import tokens as t

THUMB = QSize(96, 72)
KEPT = 400  #: small pictures that are kept ready to draw; others are read again when they come into sight
BAR = 4  #: height of the bar that shows the sharpness
PHOTO_ID, STATE, LINE, PICTURE, TURN, SHARPNESS, SOFT, TRACED = (Qt.ItemDataRole.UserRole + k for k in range(8))
SIGNED = ("done", "failed", "look")  #: states that have a sign
TOLD = {"aside": "set aside", "plate": "backdrop plate"}


def kept_picture(blobs, key):
    """The QPixmap of a small picture that a job keeps; None where it is missing or damaged."""
    picture = QPixmap()
    try:
        data = blobs.get_bytes(key)
        picture.loadFromData(data, "PNG" if data[:4] == b"\x89PNG" else "JPG")  # of no other kind
    except UmbrateError:
        return None
    return None if picture.isNull() else picture


class SmallPictures:
    """Pictures of the size the strip draws them at, read when they are first seen."""

    def __init__(self):
        self._kept = OrderedDict()

    def get(self, blobs, key, turn, size):
        """The picture of a blob (QPixmap), turned by quarters, fitted into `size` (device pixels); None if damaged."""
        at = (key, turn, size.width(), size.height())
        if at in self._kept:
            self._kept.move_to_end(at)
            return self._kept[at]
        picture = kept_picture(blobs, key)
        if picture is None:
            return None
        if turn:
            picture = picture.transformed(QTransform().rotate(90 * turn))
        picture = picture.scaled(size, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)
        self._kept[at] = picture
        if len(self._kept) > KEPT:
            self._kept.popitem(last=False)
        return picture


class ThumbPainter(QStyledItemDelegate):
    """Draws an item of the strip from its data (see the roles of this module)."""

    def __init__(self, parent, session):
        super().__init__(parent)
        self.session, self.pictures = session, SmallPictures()

    def sizeHint(self, *_):
        return QSize(THUMB.width() + 10, THUMB.height() + 40)

    def paint(self, p, option, index):
        p.save()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        r = option.rect.adjusted(3, 2, -3, -2)
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        p.setPen(QPen(t.color(t.ACCENT if chosen else t.PANEL), 2))
        p.setBrush(t.color(t.RAISED if chosen else t.PANEL))
        p.drawRoundedRect(QRectF(r), 4, 4)
        if index.data(TRACED):
            p.setPen(QPen(t.color(t.ACCENT), 2, Qt.PenStyle.DotLine))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRoundedRect(QRectF(r).adjusted(1, 1, -1, -1), 4, 4)
        state = index.data(STATE)
        unused = state in TOLD
        box = QRect(r.left() + 3, r.top() + 3, r.width() - 6, THUMB.height() - 8)
        self._picture(p, box, index, unused)
        if index.data(SHARPNESS) is not None and not unused:
            self._sharpness(p, QRectF(box.left() + 2, box.bottom() + 3, box.width() - 4, BAR), index)
        signed = state in SIGNED
        if signed:
            t.draw_state(p, state, QRectF(r.left() + 5, r.bottom() - 30, 11, 11))
        p.setFont(t.font(t.SMALL))
        metrics = QFontMetrics(p.font())
        x = r.left() + (20 if signed else 6)
        name = metrics.elidedText(
            index.data(Qt.ItemDataRole.DisplayRole), Qt.TextElideMode.ElideMiddle, r.right() - x - 4
        )
        p.setPen(t.color(t.QUIET if unused else t.TEXT))
        p.drawText(QRect(x, r.bottom() - 34, r.right() - x - 2, 16), Qt.AlignmentFlag.AlignVCenter, name)
        line = TOLD.get(state) or index.data(LINE) or ""
        p.setPen(t.color(t.QUIET))
        p.drawText(
            QRect(r.left() + 6, r.bottom() - 18, r.width() - 10, 16),
            Qt.AlignmentFlag.AlignVCenter,
            metrics.elidedText(line, Qt.TextElideMode.ElideRight, r.width() - 12),
        )
        p.restore()

    def _picture(self, p, box, index, faint):
        key = index.data(PICTURE)
        if not key or self.session.job is None:
            return
        ratio = p.device().devicePixelRatioF()
        small = self.pictures.get(self.session.job.blobs, key, index.data(TURN), box.size() * ratio)
        if small is None:
            return
        small.setDevicePixelRatio(ratio)
        size = small.deviceIndependentSize()
        p.setOpacity(0.35 if faint else 1.0)
        p.drawPixmap(int(box.center().x() - size.width() / 2), int(box.center().y() - size.height() / 2), small)
        p.setOpacity(1.0)

    @staticmethod
    def _sharpness(p, track, index):
        """A bar as long as the photo is sharp beside the sharpest; that of a soft one in the accent color."""
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(t.color(t.LINE))
        p.drawRoundedRect(track, 2, 2)
        filled = QRectF(track)
        filled.setWidth(max(BAR, track.width() * index.data(SHARPNESS)))
        p.setBrush(t.color(t.ACCENT if index.data(SOFT) else t.QUIET))
        p.drawRoundedRect(filled, 2, 2)
