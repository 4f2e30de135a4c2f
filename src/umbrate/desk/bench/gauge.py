"""Measuring a surface on the bench: area, volume and sizes, its distance to a model file or to a form."""

from PyQt6 import sip
from PyQt6.QtWidgets import QDoubleSpinBox, QHBoxLayout, QMenu, QPushButton, QVBoxLayout, QWidget

from ...actions.models import share_within
from ...core.measure.forms import FORMS
from ..dialogs.asking import open_file
from ..dialogs.modelpicks import ModelPicksDialog
from ..dialogs.section import SectionDialog
from ..plain import Label
from .markedpoints import cell, fit_rows, table

PLACINGS = (
    ("frame", "in the job's frame"),
    ("shape", "laid over by its shape"),
    ("picks", "laid over by places picked on both"),
)


class GaugePart(QWidget):
    """Part of the bench of Surface."""

    tolerance = 0.1  #: chosen last, kept while the window lives

    def __init__(self, session):
        super().__init__()
        self.session, self.work = session, session.surfacing
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.values = table(("Value", "Interval of 95 %"))
        column.addWidget(self.values)
        row = QHBoxLayout()
        row.setSpacing(4)
        self.measure = QPushButton("Area, volume, sizes")
        self.measure.clicked.connect(self.work.measure)
        self.against = QPushButton("Distance to…")
        menu = QMenu(self.against)
        for placed, text in PLACINGS:
            menu.addAction(f"A model file: {text}…", lambda p=placed: self._model(p))
        for kind in FORMS:
            text = f"A {kind} fitted to what is drawn round, or to all"
            menu.addAction(text, lambda k=kind: self.work.compare_form(k))
        self.against.setMenu(menu)
        self.section = QPushButton("Section…")
        self.section.setToolTip("Cut it by a plane: its outlines with their dimensions, as a drawing")
        self.section.clicked.connect(self._section)
        column.addWidget(self.measure)
        row.addWidget(self.against, 1)
        row.addWidget(self.section, 1)
        column.addLayout(row)
        self.limit = QDoubleSpinBox(minimum=0, maximum=1e6, decimals=4, value=GaugePart.tolerance)
        self.limit.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        self.limit.setPrefix("Tolerance ")
        self.limit.valueChanged.connect(self._limited)
        column.addWidget(self.limit)
        self.told = Label(objectName="quiet")
        self.told.setWordWrap(True)
        column.addWidget(self.told)
        column.addStretch(1)
        self._shown = None
        session.document_changed.connect(self.reload)
        self.work.changed.connect(self.reload)
        session.mending.changed.connect(self.reload)
        self.reload()

    def reload(self):
        """Take what was measured anew."""
        w = self.work
        if sip.isdeleted(self.values) or self.session.sitting is None:
            return  # another panel stands in its place
        self.setVisible(w.kept is not None)
        if w.kept is None:
            return
        rows = [*(w.values_now() or []), *(w.found.values if w.found and w.look == "compared" else [])]
        if rows != self._shown:
            self._shown = rows
            self.values.setRowCount(len(rows))
            for k, v in enumerate(rows):
                tip = f"{v.name}: {v.text}" + (f"; {v.note}" if v.note else "")
                self.values.setItem(k, 0, cell(v.name + (" *" if v.note else ""), k, tip=tip))
                self.values.setItem(k, 1, cell(v.text, k, right=True, tip=tip))
            fit_rows(self.values)
        self.values.setVisible(bool(rows))
        self.measure.setEnabled(not w.measuring)
        self.against.setEnabled(not w.measuring)
        self.measure.setText("Measuring …" if w.measuring else "Area, volume, sizes")
        comparing = w.look == "compared" and w.compared is not None
        self.limit.setVisible(comparing)
        unit = self.session.frame.unit if self.session.frame else ""
        self.limit.setSuffix(f" {unit}" if unit else "")
        notes = [f"* {v.name}: {v.note}" for v in rows if v.note]
        if comparing:
            d = w.compared[1]
            notes.insert(0, f"{100 * share_within(d, self.limit.value()):.2f} % lies within the tolerance.")
        self.told.setText("\n".join(notes))
        self.told.setVisible(bool(notes))

    def _section(self):
        if self.work.mesh is not None:
            SectionDialog(self.session, self.window(), surface=True).exec()

    def _limited(self, value):
        GaugePart.tolerance = value
        self.reload()

    def _model(self, placed):
        file = open_file(self, "Compare with a model", "Models (*.stl *.ply *.obj)")
        if not file:
            return
        if placed != "picks":
            self.work.compare_model(file, placed)
        elif self.work.mesh is not None:
            dialog = ModelPicksDialog(self.session, file, self.window())
            if dialog.exec():
                self.work.compare_model(file, placed, dialog.pairs)
