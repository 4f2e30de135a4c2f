"""Lines and faces between marked points: their names and sizes, and what can be done with them."""

from functools import partial

from PyQt6 import sip
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QInputDialog, QPushButton, QVBoxLayout, QWidget

from ...actions.marking import export_shapes
from ..dialogs.writing import ask_and_write
from ..flow import Flow
from ..plain import Label
from .markedpoints import cell, table


class ShapesPanel(QWidget):
    """Part of the bench of Poses and Scale."""

    def __init__(self, session):
        super().__init__()
        self.session, self.work = session, session.marking
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.table = table(("Name", "Points", "Length or area"), stretch=0)
        self.table.setAccessibleName("Lines and faces")
        self.table.cellDoubleClicked.connect(lambda *_: self._rename())
        column.addWidget(self.table, 1)
        self.told = Label(objectName="quiet")
        self.told.setWordWrap(True)
        column.addWidget(self.told)
        flow = Flow()
        for text, tip, act in (
            ("New…", "Join marked points, in the order they are clicked", self.work.begin_shape),
            ("Keep as a line", "Of the points that were clicked", partial(self.work.end_shape, "line")),
            ("Keep as a face", "Of the points that were clicked", partial(self.work.end_shape, "face")),
            ("Rename…", "", self._rename),
            ("Remove", "Its points stay  (Del)", self._remove),
            ("Write…", "Points, lines and faces with names and lengths, as DXF or OBJ", self._write),
        ):
            b = QPushButton(text)
            b.setToolTip(tip)
            b.clicked.connect(lambda _, a=act: a())
            flow.addWidget(b)
        column.addLayout(flow)
        self.work.changed.connect(self.reload)
        session.document_changed.connect(self.reload)
        self.reload()

    def reload(self):
        """Take lines and faces anew."""
        if sip.isdeleted(self.table) or self.session.sitting is None:
            return
        rows = self.work.sized_shapes()
        self.table.setRowCount(len(rows))
        for k, (shape, size) in enumerate(rows):
            texts = (shape.name, str(len(shape.points)), size or "not in the block")
            for c, text in enumerate(texts):
                self.table.setItem(k, c, cell(text, shape.id, right=c > 0, tip=shape.kind))
        told = "" if rows else "No points are joined yet. A line has a length, a face an area."
        self.told.setText(f"{len(self.work.chain)} points clicked so far." if self.work.chain else told)
        self.told.setVisible(bool(self.told.text()))

    def _chosen(self):
        rows = self.table.selectionModel().selectedRows()
        return self.table.item(rows[0].row(), 0) if rows else None

    def _rename(self):
        item, s = self._chosen(), self.session
        if item is not None and s.may_write():
            name, ok = QInputDialog.getText(self, "Rename the line or face", "Name", text=item.text())
            if ok:
                s.do(lambda: s.job.rename_shape(item.data(Qt.ItemDataRole.UserRole), name))

    def _remove(self):
        item, s = self._chosen(), self.session
        if item is not None and s.may_write():
            s.do(lambda: s.job.remove_shape(item.data(Qt.ItemDataRole.UserRole)), "Removed. Undo brings it back.")

    def _write(self):
        s = self.session
        ask_and_write(
            s, self, "Points, lines and faces (.dxf or .obj)", ".dxf", partial(export_shapes, sitting=s.sitting),
            lambda count, place: f"Wrote {count} to {place}",
        )  # fmt: skip

    def keyPressEvent(self, e):
        if e.key() == Qt.Key.Key_Delete:
            self._remove()
        else:
            super().keyPressEvent(e)
