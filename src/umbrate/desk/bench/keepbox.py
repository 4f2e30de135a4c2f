"""The keep box by numbers: where it is, how large, how it is turned. By handles it is set in the scene."""

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QDoubleSpinBox,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...core.geometry.rotation import rotation_matrix
from ..plain import Label


def axes_of(degrees):
    """Axes (3, 3) of a box, in columns, that is turned about x, then y, then z."""
    a, b, c = np.radians(degrees)
    x, y, z = (rotation_matrix(v * np.eye(3)[k]) for k, v in enumerate((a, b, c)))
    return z @ y @ x


def angles_of(axes):
    """The turns (3,) in degrees that `axes_of` makes these axes of."""
    b = -np.arcsin(np.clip(axes[2, 0], -1, 1))
    a, c = np.arctan2(axes[2, 1], axes[2, 2]), np.arctan2(axes[1, 0], axes[0, 0])
    return np.degrees([a, b, c])


class BoxPanel(QWidget):
    """Part of the bench of stages that use the keep box."""

    unfolded = False  #: whether the numbers are shown, kept while the window lives

    def __init__(self, session):
        super().__init__()
        self.session = session
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(6)
        by_hand = session.job.keep_box(session.sitting_id) is not None
        head = QHBoxLayout()
        which = Label("Keep box, set by hand" if by_hand else "Keep box, as fitted")
        which.setToolTip("Set by hand" if by_hand else "Fitted to the tie points of the object")
        head.addWidget(which)
        head.addStretch(1)
        fold = QToolButton(text="Numbers", checkable=True, checked=BoxPanel.unfolded)
        fold.setToolTip("Middle, size and turn as numbers; handles are in the scene  (Shift+K)")
        head.addWidget(fold)
        box.addLayout(head)
        row = QHBoxLayout()
        for text, factor in (("Larger", 1.1), ("Smaller", 1 / 1.1)):
            b = QPushButton(text)
            b.setToolTip("Changes all sides by 10 %")
            b.clicked.connect(lambda _, f=factor: self._set(half=np.array(session.keep_box["half"]) * f))
            row.addWidget(b)
        again = QPushButton("Fit again")
        again.setEnabled(by_hand)
        again.clicked.connect(lambda: session.edits.set_keep_box(None))
        row.addWidget(again)
        box.addLayout(row)
        self.numbers = QWidget()
        grid = QGridLayout(self.numbers)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        d = session.keep_box
        half = np.array(d["half"])
        for c, axis in enumerate("xyz"):
            label = Label(axis, alignment=Qt.AlignmentFlag.AlignHCenter, objectName="dim")
            grid.addWidget(label, 0, c + 1)
        self.middle = [self._spin(v, half.max()) for v in session.frame.for_people(d["center"])]
        self.sizes = [self._spin(2 * v, half.max(), 1e-3) for v in half]
        for r, (text, spins) in enumerate((("Middle", self.middle), ("Size", self.sizes)), 1):
            grid.addWidget(Label(text), r, 0)
            for c, spin in enumerate(spins):
                grid.addWidget(spin, r, c + 1)
        self.angles = [self._spin(v, 90.0, -360.0, 360.0, 1) for v in angles_of(np.array(d["axes"]))]
        self._angles = [s.value() for s in self.angles]
        for c, (spin, tip) in enumerate(
            zip(self.angles, ("About its own x, first", "About its own y, then", "About z, last"), strict=True)
        ):
            spin.setSuffix("°")
            spin.setToolTip(tip)
            grid.addWidget(spin, 3, c + 1)
        grid.addWidget(Label("Turn"), 3, 0)
        box.addWidget(self.numbers)
        self.numbers.setVisible(BoxPanel.unfolded)
        fold.toggled.connect(self._fold)

    def _fold(self, on):
        BoxPanel.unfolded = on
        self.numbers.setVisible(on)

    def _spin(self, value, scale, low=-1e10, high=1e10, decimals=3):
        spin = QDoubleSpinBox(minimum=low, maximum=high, decimals=decimals, singleStep=max(0.02 * float(scale), 0.001))
        spin.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        spin.setValue(float(value))
        spin.setKeyboardTracking(False)
        spin.setFixedWidth(74)
        spin.editingFinished.connect(self._apply)
        return spin

    def _apply(self):
        d = self.session.keep_box
        middle, half = (
            self.session.frame.from_people([s.value() for s in self.middle]),
            np.array([s.value() for s in self.sizes]) / 2,
        )
        axes, angles = np.array(d["axes"]), [s.value() for s in self.angles]
        if np.abs(np.subtract(angles, self._angles)).max() > 1e-6:
            axes = axes_of(angles)
        same = np.allclose(middle, d["center"], atol=6e-4) and np.allclose(half, d["half"], atol=6e-4)
        if not same or not np.allclose(axes, d["axes"]):
            self._set(center=middle, half=half, axes=axes)

    def _set(self, **changed):
        if self.session.may_write():
            plain = {k: np.asarray(v).tolist() for k, v in changed.items()}
            self.session.edits.set_keep_box({**self.session.keep_box, **plain})
