"""The bench of the Texture stage: how it is looked at, and how much each photo gives."""

from PyQt6 import sip
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QPixmap
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from ...core.errors import UmbrateError
from ..plain import Label
from ..session.texturing import LOOKS, SOURCES
from ..text import counted
from .markedpoints import cell, fit_rows, table

COLOR_PX = 10


class TexturePanel(QWidget):
    """Part of the bench of Texture."""

    def __init__(self, session):
        super().__init__()
        self.session, self.work = session, session.texturing
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(6)
        row = QHBoxLayout()
        self.look = QComboBox()
        for value, title in LOOKS.items():
            self.look.addItem(title, value)
        self.look.setToolTip("What the scene shows: the texture, each photo's part of it in a color, or the surface")
        self.look.activated.connect(lambda _: self.work.set_look(self.look.currentData()))
        row.addWidget(Label("Show", objectName="plain"))
        row.addWidget(self.look, 1)
        column.addLayout(row)
        self.table = table(("Photo", "Area"))
        self.table.setAccessibleName("Photos of the texture")
        self.table.itemSelectionChanged.connect(self._choose)
        self.table.itemChanged.connect(self._ticked)
        column.addWidget(self.table)
        self.about = Label(objectName="quiet")
        self.about.setWordWrap(True)
        column.addWidget(self.about)
        self._filling, self._filled = False, None
        self.work.changed.connect(self.reload)
        session.document_changed.connect(self.reload)
        self.reload()

    def reload(self):
        """Take the list and the look anew."""
        if sip.isdeleted(self.table) or not self.isAncestorOf(self.table) or self.session.sitting is None:
            return  # another panel stands in its place
        self.look.setCurrentIndex(list(LOOKS).index(self.work.look))
        made = self.work.at_hand()
        self.table.setVisible(made is not None)
        if made is None:
            self.about.setText("Reading the texture …" if self.work.coming else "")
            return
        left = self.work.left_out()
        mark = (self.work.key(), self.work.look, tuple(left))
        if mark != self._filled:
            self._fill(made, left)
            self._filled = mark
        self.about.setText(
            "A click on the model shows which photo a place is from. "
            "A photo without a tick gives nothing in the next run."
        )

    def _fill(self, made, left):
        self._filling = True
        names = {p.id: p.name for p in self.session.photos()}
        shares = dict(made.shares)
        ids = [i for i, _ in made.shares if i >= 0]
        ids += [i for i, name in names.items() if i not in shares and name in left]
        rows = ([-1] if shares.get(-1) else []) + ids
        self.table.setRowCount(len(rows))
        for k, i in enumerate(rows):
            name = cell("no photo: made up" if i < 0 else names.get(i, "a photo that is gone"), i)
            if self.work.look == SOURCES and i in shares:
                color = QPixmap(COLOR_PX, COLOR_PX)
                color.fill(QColor(*self.work.color_of(i)))
                name.setData(Qt.ItemDataRole.DecorationRole, color)
            if i >= 0:
                name.setFlags(name.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                name.setCheckState(Qt.CheckState.Unchecked if names.get(i) in left else Qt.CheckState.Checked)
            self.table.setItem(k, 0, name)
            self.table.setItem(k, 1, cell(f"{100 * shares.get(i, 0.0):.1f} %", i, right=True))
        fit_rows(self.table)
        self._filling = False

    def _choose(self):
        rows = self.table.selectionModel().selectedRows()
        if rows and not self._filling:
            i = self.table.item(rows[0].row(), 0).data(Qt.ItemDataRole.UserRole)
            if i >= 0:
                self.session.choose(photo_id=i)

    def _ticked(self, item):
        if self._filling or item.column():
            return
        name = item.text()
        self._filled = None
        if self.session.may_write():
            try:
                self.work.leave_out(name, item.checkState() != Qt.CheckState.Checked)
                self.session.said.emit(
                    f"{counted(len(self.work.left_out()), 'photo')} left out. Run Texture again.", "note"
                )
            except UmbrateError as e:
                self.session.said.emit(str(e), "bad")
        self.reload()
