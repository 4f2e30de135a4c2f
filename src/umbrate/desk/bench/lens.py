"""The bench's parts for lenses: how to calibrate one, what a calibration found, and which group has which card."""

import numpy as np
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ...formats.lenscards import shelf
from .. import tokens as t
from ..plain import Label
from .calibration import CalibrationPictures

STEPS = {
    "targets": (
        "Print the calibration sheets at 100 % and check the ruler.",
        "Lay them out side by side, one of them raised by some 10 cm. Lock focus and zoom.",
        "Take about eight photos at a slant from four sides, half of them with the camera turned by 90 degrees. Drop "
        "them here as they come: below you see what is still missing.",
    ),
    "board": (
        "Lay the board flat, or fix it to something stiff. Measure a square.",
        "Lock focus and zoom. Take about ten photos at a slant from all sides, half of them with the camera turned by "
        "90 degrees, the board whole in each and in a corner of the picture in some. Drop them here as they come.",
    ),
}
SHOWN = 4  #: so many sightings that stick out are named


class StateSign(QWidget):
    """The glyph of a state."""

    def __init__(self, state):
        super().__init__()
        self.state = state
        self.setFixedSize(14, 14)

    def paintEvent(self, _):
        t.draw_state(QPainter(self), self.state, QRectF(1, 1, 12, 12))


def _text(text, name="quiet"):
    label = Label(text, objectName=name)
    label.setWordWrap(True)
    return label


def _column(widget):
    box = QVBoxLayout(widget)
    box.setContentsMargins(0, 0, 0, 0)
    box.setSpacing(8)
    return box


def _line(first, *others):
    """A widget at the left, a text beside it that takes the room, and what follows at the right."""
    row = QHBoxLayout()
    row.setSpacing(6)
    row.addWidget(first, 0, Qt.AlignmentFlag.AlignTop)
    for k, w in enumerate(others):
        row.addWidget(w, 1 if k == 0 else 0, Qt.AlignmentFlag.AlignTop)
    return row


class CalibrationGuide(QWidget):
    """What to do for a calibration, step by step, until there is one."""

    def __init__(self, source, sheets, photos):
        super().__init__()
        box = _column(self)
        for k, step in enumerate(STEPS[source]):
            box.addLayout(_line(_text(f"{k + 1}", "plain"), _text(step)))
        row = QHBoxLayout()
        for text, act in (("Print sheets…", sheets if source == "targets" else None), ("Bring in photos…", photos)):
            if act:
                b = QPushButton(text)
                b.clicked.connect(lambda _, a=act: a())
                row.addWidget(b)
        row.addStretch(1)
        box.addLayout(row)


class CalibrationPanel(QWidget):
    """What the photos of a calibration have and lack, pictures, what sticks out, and the way to keep the lens."""

    def __init__(self, session, result, keep):
        super().__init__()
        self.session = session
        done = result.figures.calibration
        self.figures = done or result.figures.gathering
        box = _column(self)
        if done:
            b = QPushButton("Keep as a lens card…", objectName="next")
            b.clicked.connect(lambda _: keep())
            box.addWidget(b)
        for check in self.figures.checks:
            advice = "" if check.good or done else f". {check.advice}"
            box.addLayout(_line(StateSign("done" if check.good else "look"), _text(check.text + advice)))
        self.pictures = CalibrationPictures(session, result)
        box.addWidget(self.pictures)
        if done:
            self._sticking_out(box)

    def _sticking_out(self, box):
        """Sightings with the largest residuals, which can be left out, and those that were."""
        a, s = self.pictures.arrays, self.session
        names = {p.id: p.name for p in s.photos()}
        length = np.where(a["used"], np.linalg.norm(a["residual"], axis=1), 0.0)
        usual = self.figures.rms_px * np.sqrt(2)
        worst = [k for k in np.argsort(-length)[:SHOWN] if length[k] > 2.5 * usual]
        if worst:
            box.addWidget(_text("Sightings that stick out", "plain"))
        for k in worst:
            photo, number = int(a["photo_ids"][a["photo"][k]]), int(a["point"][k])
            show, leave = QPushButton("Show"), QPushButton("Leave out")
            x, y = a["xy"][k]
            show.clicked.connect(lambda _, i=photo, x=x, y=y: s.look_at(i, x, y))
            leave.clicked.connect(lambda _, i=photo, n=number: s.edits.leave_sighting_out(i, n))
            told = _text(f"{names.get(photo, '?')}, {number}: {length[k]:.2f} px")
            box.addLayout(_line(told, QWidget(), show, leave))
        if self.figures.by_hand:
            b = QPushButton("Bring them back")
            b.clicked.connect(lambda _: s.edits.set_setting("lens", "leave_out", {}))
            count = self.figures.by_hand
            box.addLayout(_line(_text(f"{count} left out by hand"), QWidget(), b))


class LensGroups(QWidget):
    """Which card each group of photos with one lens and zoom has, and how it is used; both can be changed."""

    USES = (("trusted", "as it is"), ("refined", "refined"), ("solve", "solved anew"))

    def __init__(self, session, result):
        super().__init__()
        self.session = session
        box = _column(self)
        box.addWidget(_text("These photos were taken with several lenses or zooms", "plain"))
        chosen, usual = session.setting("lens", "groups"), session.setting("lens", "use")
        names = [c.name for _, c in shelf()]
        for g in result.figures.groups:
            mine = chosen.get(g.name, {})
            card, use = QComboBox(), QComboBox()
            card.addItem("the newest that fits", "")
            for n in [*names, *({mine.get("card", "")} - {*names, ""})]:
                card.addItem(n, n)
            for value, label in self.USES:
                use.addItem(label, value)
            card.setCurrentIndex(max(0, card.findData(mine.get("card", ""))))
            use.setCurrentIndex(max(0, use.findData(mine.get("use", usual))))
            for w in (card, use):
                w.activated.connect(lambda _, n=g.name, c=card, u=use: self._choose(n, c, u))
                w.setToolTip(g.name)
            box.addWidget(_text(f"{g.name}: {len(g.photos)} photos"))
            row = QHBoxLayout()
            row.addWidget(card, 1)
            row.addWidget(use)
            box.addLayout(row)

    def _choose(self, name, card, use):
        groups = self.session.setting("lens", "groups")
        mine = {"card": card.currentData() or "", "use": use.currentData()}
        self.session.edits.set_setting("lens", "groups", {**groups, name: mine})
