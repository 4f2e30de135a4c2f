"""Splitting a sitting where the photographer paused: what would come of it, before it is done."""

from PyQt6.QtWidgets import QDialog, QDoubleSpinBox, QFormLayout, QVBoxLayout

from ...work.sorting import propose_split, usual_pause
from ..bench.markedpoints import cell, table
from ..plain import Label
from .buttons import accept_or_cancel


class SplitDialog(QDialog):
    """The parts between pauses from a length on, which can be changed."""

    def __init__(self, session, parent=None):
        super().__init__(parent)
        self.session, self.parts = session, []
        self.setWindowTitle("Split at pauses")
        self.resize(520, 420)
        self.names = {p.id: p.name for p in session.photos()}
        self.pause = QDoubleSpinBox(minimum=0.05, maximum=10_000, decimals=2, singleStep=0.5, suffix=" minutes")
        self.pause.setAccessibleName("Pauses from")
        self.pause.setValue(usual_pause([p for p in session.photos() if not p.aside and not p.plate]) / 60)
        self.pause.valueChanged.connect(self._propose)
        form = QFormLayout()
        form.addRow(Label("Pauses from"), self.pause)
        self.list = table(("Part", "Photos", "First", "Last"))
        self.told = Label(objectName="quiet")
        self.told.setWordWrap(True)
        self.buttons = accept_or_cancel(self, "Split there")
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 16, 16, 16)
        box.setSpacing(8)
        box.addLayout(form)
        box.addWidget(self.list, 1)
        box.addWidget(self.told)
        box.addWidget(self.buttons)
        self._propose()

    def _propose(self):
        s = self.session
        self.parts = propose_split(s.job, s.sitting, "gaps", 60 * self.pause.value())
        self.list.setRowCount(len(self.parts))
        for k, (ids, _) in enumerate(self.parts):
            for c, text in enumerate((str(k + 1), str(len(ids)), self.names[ids[0]], self.names[ids[-1]])):
                self.list.setItem(k, c, cell(text, k, right=c == 1))
        taken = all(p.taken for p in s.photos())
        told = "" if taken else "Some of these photos do not say when they were taken: there are no pauses to see. "
        self.told.setText(told or ("Nothing separates them." if len(self.parts) < 2 else "Undo takes it back."))
