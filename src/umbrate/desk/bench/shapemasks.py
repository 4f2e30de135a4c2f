"""Masks from shape: part of the bench of Masks, where there are poses."""

from PyQt6.QtWidgets import QComboBox, QFormLayout, QPushButton, QSpinBox, QVBoxLayout, QWidget

from ...actions.shapemasks import BOTH, DEPTH, KEEP, OUTLINES, REPLACE, keep_shape_masks, shape_masks_of
from ..plain import Label


class ShapePanel(QWidget):
    """A rough surface drawn into every photo, with a margin."""

    source_, margin_, there_ = DEPTH, 4, REPLACE  #: kept while the window lives

    def __init__(self, session):
        super().__init__()
        self.session = session
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(6)
        column.addWidget(Label("Masks from shape", objectName="plain"))
        by_hand = session.job.keep_box(session.sitting_id) is not None
        told = "Draws a rough surface of the object into every photo. Only what lies in the keep box counts: "
        told += (
            "it is set by hand." if by_hand else "set it round the object, above its support, at Poses or Cloud first."
        )
        about = Label(told, objectName="quiet" if by_hand else "advice")
        about.setWordWrap(True)
        column.addWidget(about)
        form = QFormLayout()
        form.setSpacing(6)
        self.source = self._choice(
            form, "Surface", "source",
            ((DEPTH, "quick depth"), (OUTLINES, "outlines that are there")),
            "Quick depth takes half a minute; outlines carve the shape out of the box by masks of some photos",
        )  # fmt: skip
        self.margin = QSpinBox(minimum=-50, maximum=200, value=ShapePanel.margin_, suffix=" px")
        self.margin.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        self.margin.setToolTip("The masks are so much wider than the surface")
        form.addRow(Label("Margin"), self.margin)
        self.there = self._choice(
            form, "Masks there", "there",
            ((REPLACE, "are replaced"), (KEEP, "are kept"), (BOTH, "keep what both have")),
            "What becomes of the masks that photos have already",
        )  # fmt: skip
        column.addLayout(form)
        self.button = QPushButton("Make masks from shape")
        self.button.clicked.connect(self._make)
        column.addWidget(self.button)

    def _choice(self, form, title, name, values, tip):
        box = QComboBox()
        for value, text in values:
            box.addItem(text, value)
        box.setCurrentIndex(box.findData(getattr(ShapePanel, f"{name}_")))
        box.setToolTip(tip)
        form.addRow(Label(title), box)
        return box

    def _make(self):
        s = self.session
        if not s.may_write():
            return
        P = ShapePanel
        P.source_, P.margin_, P.there_ = self.source.currentData(), self.margin.value(), self.there.currentData()
        sitting, choices = s.sitting, (P.source_, P.margin_, P.there_, 8)

        def keep(answer):
            masks, f = answer
            if masks:
                s.silhouettes_wanted.emit()
                s.do(lambda: keep_shape_masks(s.job, sitting, masks))
            told = f"{f['masks']} masks from shape, {100 * f['share']:.0f} % of a photo in the median"
            if f["empty"]:
                told += f"; nothing of the surface lies in {', '.join(f['empty'][:4])}"
            s.said.emit(f"{told}. Undo takes them back.", "bad" if f["empty"] else "good")

        s.send("Masks from shape", shape_masks_of, (s.job.folder, sitting, choices), keep)
