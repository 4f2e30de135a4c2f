"""The list of what stands side by side in a sitting, clouds or surfaces: choosing, renaming, removing, ticking."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QInputDialog, QVBoxLayout, QWidget

from .markedpoints import cell, fit_rows, table


class KeptList(QWidget):
    """A table with a row for each: a click chooses it, a double click renames it, a tick shows it beside the chosen.

    Parameters
    ----------
    session : Session
    kind : "cloud" or "surface"
    columns : titles
    texts : callable(kept) -> texts of the columns after its name
    ticked : callable(kept) -> bool, and show : callable(id, on), optional
        Whether it is drawn, and having it drawn; without them there are no ticks.
    """

    def __init__(self, session, kind, columns, texts, ticked=None, show=None):
        super().__init__()
        self.session, self.kind, self.texts, self.ticked, self.show_beside = session, kind, texts, ticked, show
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.table = table(columns)
        self.table.itemSelectionChanged.connect(self._choose)
        self.table.itemChanged.connect(self._ticked)
        self.table.cellDoubleClicked.connect(lambda *_: self.rename())
        column.addWidget(self.table)
        self._filling = False

    @property
    def _list(self):
        return getattr(self.session.job, f"{self.kind}_list")

    def all(self):
        """All of the chosen sitting."""
        s = self.session
        return getattr(s.job, f"{self.kind}s")(s.sitting_id) if s.job and s.sitting_id else []

    @property
    def kept(self):
        """The chosen one, or None."""
        s = self.session
        return getattr(s.job, self.kind)(s.sitting_id) if s.job and s.sitting_id else None

    def reload(self):
        """Take the list anew."""
        self._filling = True
        have = self.all()
        self.table.setRowCount(len(have))
        beside = " A tick draws it beside the chosen one." if self.ticked else ""
        for k, c in enumerate(have):
            name = cell(c.name, c.id, tip=f"Made {c.made.replace('T', ' ')}.{beside}")
            if self.ticked:
                name.setCheckState(Qt.CheckState.Checked if self.ticked(c) else Qt.CheckState.Unchecked)
            self.table.setItem(k, 0, name)
            for q, text in enumerate(self.texts(c), 1):
                self.table.setItem(k, q, cell(text, c.id, right=True))
            if c.chosen:
                self.table.selectRow(k)
        fit_rows(self.table)
        self._filling = False

    def _choose(self):
        rows, s = self.table.selectionModel().selectedRows(), self.session
        if rows and not self._filling:
            chosen = self.table.item(rows[0].row(), 0).data(Qt.ItemDataRole.UserRole)
            if (self.kept is None or self.kept.id != chosen) and s.may_write():
                s.do(lambda: self._list.choose(chosen))

    def _ticked(self, item):
        if self._filling or item.column() or not self.ticked:
            return
        kept = next((c for c in self.all() if c.id == item.data(Qt.ItemDataRole.UserRole)), None)
        if kept is not None and not kept.chosen:
            self.show_beside(kept.id, item.checkState() == Qt.CheckState.Checked)
        else:
            self.reload()  # the chosen one is drawn always

    def rename(self):
        """Ask for another name of the chosen one."""
        s, kept = self.session, self.kept
        if kept and s.may_write():
            name, ok = QInputDialog.getText(self, f"Rename the {self.kind}", "Name", text=kept.name)
            if ok:
                s.do(lambda: self._list.rename(kept.id, name))

    def remove(self):
        """Take the chosen one away."""
        s, kept = self.session, self.kept
        if kept and s.may_write():
            s.do(lambda: self._list.remove(kept.id), f"“{kept.name}” removed. Undo brings it back.")

    def compare(self, compare, missing):
        """Ask with which other one to compare, then ``compare(id)``; says `missing` where there is none."""
        s, kept = self.session, self.kept
        others = [c for c in self.all() if c.id != kept.id] if kept else []
        if not others:
            s.said.emit(missing, "note")
            return False
        names = [c.name for c in others]
        name, ok = (
            (names[0], True) if len(names) == 1 else QInputDialog.getItem(self, "Compare", "With", names, 0, False)
        )
        if ok:
            compare(others[names.index(name)].id)
        return ok
