"""How a video is taken apart into photos."""

from pathlib import Path

from PyQt6.QtWidgets import (
    QDialog,
    QDoubleSpinBox,
    QGridLayout,
    QRadioButton,
    QSpinBox,
    QVBoxLayout,
)

from ...core.imaging.video import LEAST_CHANGE
from ..plain import Label
from .buttons import accept_or_cancel


class VideoDialog(QDialog):
    """How many frames of a video are taken."""

    def __init__(self, video, parent=None):
        super().__init__(parent)
        self.setWindowTitle("Frames of a video")
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 16, 16, 16)
        box.setSpacing(8)
        box.addWidget(Label(f"Of {Path(video).name} take the sharpest frame"))
        self.by_time, self.by_count = QRadioButton("of every"), QRadioButton("of every")
        self.seconds = QDoubleSpinBox(minimum=0.05, maximum=60, value=0.5, singleStep=0.1, suffix=" s")
        self.frames = QSpinBox(minimum=1, maximum=100_000, value=15, suffix=" frames")
        self.by_time.setChecked(True)
        grid = QGridLayout()
        for k, (choice, value) in enumerate(((self.by_time, self.seconds), (self.by_count, self.frames))):
            grid.addWidget(choice, k, 0)
            grid.addWidget(value, k, 1)
            value.valueChanged.connect(lambda _, c=choice: c.setChecked(True))
        grid.setColumnStretch(2, 1)
        box.addLayout(grid)
        self.change = QDoubleSpinBox(minimum=0.0, maximum=50.0, value=LEAST_CHANGE, singleStep=0.5, decimals=1)
        self.change.setSuffix(" gray levels")
        self.change.setToolTip("On average over the picture; 0 keeps all")
        grid.addWidget(Label("leave out what differs by under"), 2, 0)
        grid.addWidget(self.change, 2, 1)
        box.addWidget(accept_or_cancel(self, "Take the frames"))

    def every(self):
        """Seconds, frames or None, and the least change in gray levels."""
        return self.seconds.value(), self.frames.value() if self.by_count.isChecked() else None, self.change.value()
