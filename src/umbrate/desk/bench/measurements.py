"""Measurements in the bench: kinds to measure, values with their intervals, sections, files and the report."""

from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QGridLayout,
    QHBoxLayout,
    QInputDialog,
    QMenu,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...actions.measuring import export_measurements
from ...actions.reporting import write_accuracy_report
from ...core.measure.quantities import KINDS
from ...core.names import file_name
from ...sitting.frames import end_text
from .. import tokens as t
from ..dialogs.section import SectionDialog
from ..dialogs.writing import ask_and_write
from ..plain import Label
from .markedpoints import cell, table


class MeasurePanel(QWidget):
    """Part of the bench of Scale."""

    def __init__(self, session):
        super().__init__()
        self.session, self.work = session, session.measuring
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        grid = QGridLayout()
        grid.setSpacing(4)
        self.kinds = {}
        for k, kind in enumerate(KINDS):
            b = QToolButton(text=kind.title, checkable=True)
            b.setToolTip(kind.about.capitalize())
            b.setSizePolicy(b.sizePolicy().Policy.Expanding, b.sizePolicy().Policy.Fixed)
            b.clicked.connect(lambda on, n=kind.name: self.work.begin(n if on else None))
            self.kinds[kind.name] = b
            grid.addWidget(b, k // 3, k % 3)
        column.addLayout(grid)
        self.told = Label(objectName="quiet")
        self.told.setWordWrap(True)
        column.addWidget(self.told)
        self.table = table(("Name", "Value, 95 % interval"), stretch=1)
        self.table.itemSelectionChanged.connect(self._chosen)
        self.table.cellDoubleClicked.connect(lambda *_: self._rename())
        self.table.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.table.customContextMenuRequested.connect(self._menu)
        column.addWidget(self.table)
        self.about = Label(objectName="quiet")
        self.about.setWordWrap(True)
        column.addWidget(self.about)
        row = QHBoxLayout()
        row.setSpacing(4)
        for text, tip, act in (
            ("Section…", "Cut the cloud by a plane", self._section),
            ("Export…", "All measurements as CSV or JSON", self._export),
            ("Report…", "The accuracy report as PDF", self._report),
        ):
            b = QPushButton(text)
            b.setToolTip(tip)
            b.clicked.connect(lambda _, a=act: a())
            row.addWidget(b)
        column.addLayout(row)
        self._filling = False
        self.work.changed.connect(self.reload)
        self.reload()

    def reload(self):
        """Take values anew."""
        s, w = self.session, self.work
        if s.sitting is None:
            return
        for name, b in self.kinds.items():
            b.setChecked(w.kind == name)
        kind = next((k for k in KINDS if k.name == w.kind), None)
        if w.busy:
            self.told.setText("Measuring …")
        elif kind:
            left = kind.least - len(w.ends)
            more = f"{left} more" if left > 0 else "Enter ends it, or more"
            self.told.setText(f"{kind.title}, {kind.about}: {len(w.ends)} chosen, {more}.")
        else:
            self.told.setText("Choose what to measure, then click places in the scene or the photo.")
        self._filling = True
        values = w.values
        rows, names = s.job.measurements(s.sitting_id), s.job.end_names(s.sitting_id)
        self.table.setRowCount(len(rows))
        for k, m in enumerate(rows):
            v = values.get(m.id, {})
            bad = "problem" in v
            tip = v.get("problem") or f"{m.kind}: {', '.join(end_text(e, names) for e in m.ends)}"
            self.table.setItem(k, 0, cell(m.name, m.id, tip=tip))
            # of what is round, the diameter; the line below and the tip have the radius too
            text = v.get("problem") if bad else v.get("text", "-").split(", radius")[0]
            if not bad and text != v.get("text", text):
                tip += f"; {v['text']}"
            self.table.setItem(k, 1, cell(text, m.id, tint=t.STATE_COLORS["look"] if bad else None, tip=tip))
            if m.id == w.chosen_id:
                self.table.selectRow(k)
                self.table.scrollToItem(self.table.item(k, 0))
                form = f"; form {v['form']:.3f} {v['unit']} rms" if "form" in v else ""
                self.about.setText(f"{m.name}, {tip}{form}.")
        if not rows:
            self.about.setText("")
        self._filling = False

    def _ids(self):
        rows = self.table.selectionModel().selectedRows()
        return [self.table.item(r.row(), 0).data(Qt.ItemDataRole.UserRole) for r in rows]

    def _chosen(self):
        if not self._filling and self._ids():
            self.work.chosen_id = self._ids()[0]
            self.work.changed.emit()

    def _menu(self, pos):
        if not self._ids():
            return
        menu = QMenu(self)
        menu.addAction("Rename…", self._rename)
        menu.addAction("Remove", lambda: self.work.remove(self._ids()))
        menu.exec(self.table.viewport().mapToGlobal(pos))

    def keyPressEvent(self, e):
        if e.key() == Qt.Key.Key_Delete:
            self.work.remove(self._ids())
        else:
            super().keyPressEvent(e)

    def _rename(self):
        s, ids = self.session, self._ids()
        if ids and s.may_write():
            old = next(m.name for m in s.job.measurements(s.sitting_id) if m.id == ids[0])
            name, ok = QInputDialog.getText(self, "Rename the measurement", "Name", text=old)
            if ok:
                s.do(lambda: s.job.rename_measurement(ids[0], name))

    def _section(self):
        session, window = self.session, self.window()  # this panel may be gone when the cloud is there
        if session.cleaning.kept is not None:
            session.with_cloud(lambda _: SectionDialog(session, window).exec())
        elif session.surfacing.mesh is not None:
            SectionDialog(session, window, surface=True).exec()
        else:
            session.said.emit("A section needs a dense cloud or a surface. Run Cloud first.", "bad")

    def _save(self, title, suffix, write, told):
        ask_and_write(self.session, self, title, suffix, write, lambda _, place: f"Wrote {told} to {place}")

    def _export(self):
        s = self.session
        self._save(
            "Measurements (.csv or .json)", "-measurements.csv",
            partial(export_measurements, sitting=s.sitting), "the measurements",
        )  # fmt: skip

    def _report(self):
        s = self.session
        self._save(
            "Accuracy report", f"-{file_name(s.sitting.name)}-report.pdf",
            partial(write_accuracy_report, sitting=s.sitting),
            "the report",
        )  # fmt: skip
