"""The pair grid: photo by photo, how many verified matches two share; and two photos with their matches drawn."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QPainter, QPen, QPixmap
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ...actions.marking import pair_figures
from ...core.errors import UmbrateError
from ...job.contents import PAIRS
from ...sitting.photos import QUARTERS, located, photo_picture
from .. import tokens as t
from ..plain import Label, button_text, show_tip

SIDE = 288
DRAWN = 300  #: at most so many matches are drawn: more would be a gray area


class PairGrid(QWidget):
    """A square for every two photos, lighter where they share more; a click asks to see the two."""

    asked = pyqtSignal(int, int)  #: ids of two photos

    def __init__(self, photo_ids, names, pairs, counts):
        """photo_ids: (n,); names: by id; pairs (k, 2) rows of photos; counts (k,) of verified matches."""
        super().__init__()
        self.ids, self.names = [int(i) for i in photo_ids], names
        n = len(self.ids)
        self.counts = np.zeros((n, n), int)
        for (i, j), c in zip(pairs.tolist(), counts.tolist(), strict=True):
            self.counts[i, j] = self.counts[j, i] = c
        self.setFixedSize(SIDE, SIDE)
        self.setMouseTracking(True)
        self.setAccessibleName("Pair grid")
        self.chosen = None  #: row of the chosen photo

    def cell_at(self, pos):
        """(row, column) under a widget position, or None."""
        n = max(1, len(self.ids))
        c, r = int(pos.x() / SIDE * n), int(pos.y() / SIDE * n)
        return (r, c) if 0 <= r < n and 0 <= c < n else None

    def told(self, r, c):
        """What a square says, in words."""
        a, b = (self.names.get(self.ids[k], "?") for k in (r, c))
        if r == c:
            return a
        count = int(self.counts[r, c])
        return f"{a} and {b}: {f'{count:,} matches' if count else 'no verified matches'}"

    def paintEvent(self, _):
        p = QPainter(self)
        n = len(self.ids)
        p.fillRect(self.rect(), t.color(t.GROUND))
        if not n:
            return
        step, top = SIDE / n, np.log1p(max(int(self.counts.max()), 1))
        for r in range(n):
            for c in range(n):
                here = QRectF(c * step, r * step, step - (step > 4), step - (step > 4))
                if r == c:
                    p.fillRect(here, t.color(t.LINE))
                elif self.counts[r, c]:
                    share = float(np.log1p(self.counts[r, c]) / top)
                    p.fillRect(here, t.color(t.CATEGORIES[1], int(30 + 225 * share**2)))
        if self.chosen is not None:
            p.setPen(QPen(t.color(t.ACCENT), 1.5))
            p.drawRect(QRectF(0.5, self.chosen * step, SIDE - 1, step))

    def mouseMoveEvent(self, e):
        cell = self.cell_at(e.position())
        if cell:
            show_tip(e.globalPosition().toPoint(), self.told(*cell), self)

    def mousePressEvent(self, e):
        cell = self.cell_at(e.position())
        # a photo that has left the sitting since has no name here any more
        if cell and cell[0] != cell[1] and all(self.ids[k] in self.names for k in cell):
            self.asked.emit(self.ids[cell[0]], self.ids[cell[1]])


def pairs_of(session, result):
    """A PairGrid of the chosen sitting's poses, or None where they are from before there was one."""
    key = result.blob("pairs")
    if not key:
        return None
    a = session.job.blobs.get_arrays(key, PAIRS)
    names = {p.id: p.name for p in session.photos()}
    grid = PairGrid(a["photo_ids"], names, a["pair"], np.diff(a["start"]))
    if session.photo_id in grid.ids:
        grid.chosen = grid.ids.index(session.photo_id)
    return grid


def matches_of(session, result, a, b):
    """Verified matches (n, 2, 2) of two photos, by id, the first one's places first; None where they have none."""
    key = result.blob("pairs")
    if not key:
        return None
    stored = session.job.blobs.get_arrays(key, PAIRS)
    ids = stored["photo_ids"].tolist()
    if a not in ids or b not in ids:
        return None
    rows = [ids.index(a), ids.index(b)]
    found = np.flatnonzero((stored["pair"] == sorted(rows)).all(1))
    if not len(found):
        return None
    m = stored["match"][stored["start"][found[0]] : stored["start"][found[0] + 1]].reshape(-1, 2, 2)
    return m if rows[0] < rows[1] else m[:, ::-1]


def upright(xy, width, height, quarters):
    """Pixels (n, 2) of a picture as they are once it is turned to the right by so many quarters."""
    x, y = xy[:, 0], xy[:, 1]
    turned = ((x, y), (height - 1 - y, x), (width - 1 - x, height - 1 - y), (y, width - 1 - x))[quarters % 4]
    return np.stack(turned, 1)


class MatchesDialog(QDialog):
    """Two photos side by side, and lines between what they share."""

    def __init__(self, session, first, second, parent=None):
        super().__init__(parent)
        self.setWindowTitle("Matches of two photos")
        photos = {p.id: p for p in session.photos()}
        first, second = (p.id for p in session.photos() if p.id in (first, second))  # in the order they were taken in
        shared = matches_of(session, session.result("poses"), first, second)
        self.matches = shared.reshape(-1, 4) if shared is not None else np.zeros((0, 4))
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 16, 16, 16)
        box.setSpacing(8)
        told = f"{photos[first].name} and {photos[second].name} share {len(self.matches):,} verified matches"
        drawn = f"; {DRAWN} of them are drawn" if len(self.matches) > DRAWN else ""
        box.addWidget(Label(f"{told}{drawn}." if len(self.matches) else f"{told}: they are not connected directly."))
        try:
            p, unit = pair_figures(session.job, session.sitting, first, second), session.frame.unit
            figures = (
                f"Base {p.base:.4g} {unit}, distance {p.distance:.4g} {unit}, ratio {p.ratio:.2f}: {p.word}. Rays meet "
                f"at {p.angle_deg:.0f}°; a match of 0.3 px gives depth to ± {p.depth_sigma:.2g} {unit}"
            )
            label = Label(f"{figures.strip().replace('  ', ' ')}.", objectName="quiet")
            label.setWordWrap(True)
            box.addWidget(label)
        except UmbrateError:
            pass  # one of them is not solved: there is nothing to say of their places
        picture = Label()
        try:
            picture.setPixmap(self._picture(session, photos[first], photos[second]))
        except UmbrateError as e:
            picture.setText(str(e))
        box.addWidget(picture)
        row = QHBoxLayout()
        for photo in (photos[first], photos[second]):
            b = QPushButton(button_text(f"Go to {photo.name}"))
            b.clicked.connect(lambda _, p=photo: (session.choose(photo_id=p.id), self.accept()))
            row.addWidget(b)
        row.addStretch(1)
        close = QPushButton("Close")
        close.clicked.connect(self.accept)
        row.addWidget(close)
        box.addLayout(row)

    def _picture(self, session, a, b, width=560):
        offset, places = 0, []
        pictures, turns = [photo_picture(located(session.job, p)) for p in (a, b)], []
        sides = [self.matches[:, :2], self.matches[:, 2:]]
        for k, p in enumerate((a, b)):
            turns.append((QUARTERS.get(p.orientation, 0) + p.turn) % 4)
            h, w = pictures[k].shape[:2]
            sides[k] = upright(sides[k], w, h, turns[k])
            pictures[k] = np.ascontiguousarray(np.rot90(pictures[k], -turns[k]))
        heights = [round(width * x.shape[0] / x.shape[1]) for x in pictures]
        sheet = QPixmap(2 * width + 8, max(heights))
        sheet.fill(t.color(t.NEUTRAL))
        p = QPainter(sheet)
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        for x, h in zip(pictures, heights, strict=True):
            image = QImage(x.data, x.shape[1], x.shape[0], 3 * x.shape[1], QImage.Format.Format_RGB888)
            p.drawImage(QRectF(offset, 0, width, h), image)
            places.append((sides[len(places)] + 0.5) * (width / x.shape[1]) + [offset, 0])
            offset += width + 8
        step = max(1, -(-len(self.matches) // DRAWN))
        for k, (one, other) in enumerate(zip(places[0][::step], places[1][::step], strict=True)):
            p.setPen(QPen(t.color(t.CATEGORIES[k % 7], 170), 1, Qt.PenStyle.SolidLine))
            p.drawLine(QPointF(*one), QPointF(*other))
        p.end()
        return sheet
