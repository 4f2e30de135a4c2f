"""Mending a surface on the bench: what is done with its values, the holes it has, the steps that were done."""

from PyQt6 import sip
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ...actions.mends import MENDING, MENDS
from ..plain import Label
from .markedpoints import cell, fit_rows, table
from .stepform import StepList, value_form, values_in

WAIT_MS = 350  #: a value that is still being changed is not tried yet
SHOWN = 100  #: holes listed
CHOOSING = ("pieces", "height", "plane", "support")  #: what they choose can be kept instead


class MendPart(QWidget):
    """Part of the bench of Surface."""

    chosen = 0  #: what was chosen last, kept while the window lives

    def __init__(self, session):
        super().__init__()
        self.session, self.work = session, session.mending
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self._listed = None  #: the holes that the table shows
        self._make_holes(column)
        column.addWidget(Label("Mend it", objectName="plain"))
        self.which = QComboBox()
        self.which.setAccessibleName("Step of mending")
        self.mends = [f for f in MENDS if not f.hidden]
        for f in self.mends:
            self.which.addItem(f.title, f.name)
            self.which.setItemData(self.which.count() - 1, f.about, Qt.ItemDataRole.ToolTipRole)
        self.which.setCurrentIndex(MendPart.chosen)
        self.which.activated.connect(lambda _: self._other())
        column.addWidget(self.which)
        self.place = QVBoxLayout()
        column.addLayout(self.place)
        self.keep = QCheckBox("Keep what it chooses")
        self.keep.toggled.connect(lambda _: self._wait.start())
        column.addWidget(self.keep)
        self.told = Label(objectName="quiet")
        self.told.setWordWrap(True)
        column.addWidget(self.told)
        row = QHBoxLayout()
        self.see = QPushButton("Try")
        self.see.setToolTip("Show in the scene what it would do")
        self.see.clicked.connect(self._try)
        self.apply = QPushButton("Apply", objectName="next")
        self.apply.clicked.connect(self.work.apply)
        self.leave = QPushButton("Leave")
        self.leave.clicked.connect(lambda: self.work.try_on(None))
        for b in (self.see, self.apply, self.leave):
            row.addWidget(b)
        column.addLayout(row)
        self.steps = StepList(self.work, "Mended by", self._step_texts)
        column.addWidget(self.steps)
        self._wait = QTimer(self, singleShot=True, interval=WAIT_MS)
        self._wait.timeout.connect(self._again)
        self.editors = {}
        self._make_form()
        column.addStretch(1)
        session.document_changed.connect(self.reload)
        session.surfacing.changed.connect(self.reload)
        self.work.changed.connect(self.reload)
        self.reload()

    def choose(self, name):
        """Choose a step by its name."""
        self.which.setCurrentIndex(self.which.findData(name))
        self._other()
        self.which.setFocus()

    def _make_holes(self, column):
        self.holes_title = Label("Holes", objectName="plain")
        column.addWidget(self.holes_title)
        self.holes = table(("Hole", "Across", "Area"))
        self.holes.setToolTip("A click looks at it in the scene")
        self.holes.itemSelectionChanged.connect(self._look)
        column.addWidget(self.holes)
        self.fills = QWidget()
        row = QHBoxLayout(self.fills)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        for text, how, tip in (
            ("Fill smooth", "smooth", "As the surface round it goes on"),
            ("Fill flat", "flat", "As little surface as spans its rim"),
        ):
            b = QPushButton(text)
            b.setToolTip(tip)
            b.clicked.connect(lambda _, h=how: self._fill(h))
            row.addWidget(b)
        column.addWidget(self.fills)

    # ------------------------------------------------------------------ contents
    def reload(self):
        """Take holes, what is on trial and the steps anew."""
        w = self.work
        if sip.isdeleted(self.holes) or self.session.sitting is None:
            return  # another panel stands in its place
        kept = w.kept
        self.setVisible(kept is not None)
        if kept is None:
            return
        have = w.holes()
        some = have is None or bool(have)
        for x in (self.holes_title, self.holes, self.fills):
            x.setVisible(some)
        if some:
            self._list(have)
        on = w.step is not None
        about = self.mends[self.which.currentIndex()].about
        self.told.setText(w.told() or about)
        self.see.setVisible(not on)
        self.apply.setVisible(on)
        self.leave.setVisible(on)
        self.apply.setEnabled(not w.busy)
        self.see.setEnabled(not w.computing)
        self.keep.setVisible(self._keeps())
        self.steps.reload()

    def _list(self, have):
        unit = self.session.frame.unit if self.session.frame else ""
        self.holes_title.setText(
            "Looking for holes …" if have is None else f"{len(have):,} hole{'s' * (len(have) != 1)}, the widest first"
        )
        rows = (have or [])[:SHOWN]
        if self.holes.rowCount() == len(rows) and self._listed is have:
            return
        self._listed = have
        self.holes.blockSignals(True)
        self.holes.setRowCount(len(rows))
        for k, h in enumerate(rows):
            square = f" {unit}²" if unit else ""
            texts = (str(k + 1), f"{h.across:.3g} {unit}".strip(), f"{h.area:.3g}{square}")
            for q, text in enumerate(texts):
                self.holes.setItem(k, q, cell(text, k, right=q > 0))
        fit_rows(self.holes)
        self.holes.blockSignals(False)
        for b in self.fills.findChildren(QPushButton):
            b.setEnabled(False)

    def _keeps(self):
        step = self.work.step
        name = step["filter"] if step else self.mends[self.which.currentIndex()].name
        return name in CHOOSING or (MENDING.by_name[name].hidden and name != "hole")

    def _make_form(self):
        while self.place.count():
            old = self.place.takeAt(0).widget()
            old.hide()
            old.deleteLater()
        unit = self.session.frame.unit if self.session.frame else ""
        body, self.editors = value_form(self.mends[self.which.currentIndex()], unit, lambda: self._wait.start())
        self.place.addWidget(body)

    def _step_texts(self, step):
        text = MENDING.text(step.step, self.session.frame.unit if self.session.frame else "")
        did = self.work.did(step.step)
        return text, f"{text}\n{did}" if did else text

    # ------------------------------------------------------------------ doing
    def _other(self):
        MendPart.chosen = self.which.currentIndex()
        self._make_form()
        self.work.try_on(None)

    def _try(self):
        self._wait.stop()  # this is the value it waits for
        name = self.mends[self.which.currentIndex()].name
        keep = self.keep.isChecked() and name in CHOOSING
        self.work.try_on({"filter": name, "keep": keep, **values_in(self.editors)})

    def _again(self):
        """A value changed: what is on trial follows."""
        step = self.work.step
        if step is None:
            return
        if MENDING.by_name[step["filter"]].hidden:
            self.work.try_on({**step, "keep": self.keep.isChecked() and step["filter"] != "hole"})
        else:
            self._try()

    def _hole(self):
        rows, have = self.holes.selectionModel().selectedRows(), self.work.holes()
        return have[rows[0].row()] if rows and have and rows[0].row() < len(have) else None

    def _look(self):
        hole = self._hole()
        for b in self.fills.findChildren(QPushButton):
            b.setEnabled(hole is not None)
        if hole is not None:
            self.work.look_at(hole)

    def _fill(self, how):
        hole = self._hole()
        if hole is not None:
            self.work.fill(hole, how)
