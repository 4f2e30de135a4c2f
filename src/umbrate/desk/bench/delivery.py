"""The bench of the Deliver stage: what was delivered, whether it still holds, and what its checks found."""

from pathlib import Path

from PyQt6 import sip
from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QToolButton, QVBoxLayout, QWidget

from ...stages import BY_NAME
from ...stages.deliver.figures import size_told
from ...stages.deliver.stage import PURPOSES
from .. import tokens as t
from ..plain import Label
from ..text import counted, short_path
from . import advice
from .markedpoints import cell, fit_rows, table

NAMED = 6  #: files that are named one by one


class DeliveryPanel(QWidget):
    """Part of the bench of Deliver.

    remedy : callable(remedy) -> QPushButton
    """

    def __init__(self, session, remedy):
        super().__init__()
        self.session, self.remedy = session, remedy
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(6)
        column.addWidget(Label("Delivered", objectName="plain"))
        self.table = table(("For", "When", "State"))
        self.table.setAccessibleName("Deliveries")
        self.table.itemSelectionChanged.connect(self._show)
        self.table.cellDoubleClicked.connect(lambda *_: self.open_folder())
        column.addWidget(self.table)
        self.about = Label(objectName="quiet")
        self.about.setWordWrap(True)
        self.about.setTextFormat(Qt.TextFormat.PlainText)
        self.about.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        column.addWidget(self.about)
        self.found, self._place = None, QVBoxLayout()
        column.addLayout(self._place)
        row = QHBoxLayout()
        b = QPushButton("Open the folder")
        b.setToolTip("Show the files where they are")
        b.clicked.connect(lambda: self.open_folder())
        row.addWidget(b, 1)
        more = QToolButton(text="More", popupMode=QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(more)
        menu.addAction("Deliver again, from what is there now", self.again)
        menu.addAction("Take it off the list; its files stay", self.forget)
        more.setMenu(menu)
        row.addWidget(more)
        column.addLayout(row)
        self._mark = None
        session.document_changed.connect(self.reload)
        self.reload()

    @property
    def made(self):
        """All deliveries of the chosen sitting, the newest first."""
        done = self.session.result("deliver")
        return list(reversed(done.figures.made)) if done else []

    @property
    def chosen(self):
        """The delivery that is chosen in the list, or None."""
        rows, made = self.table.selectionModel().selectedRows(), self.made
        return made[rows[0].row()] if rows and rows[0].row() < len(made) else None

    def state(self, m):
        """What became of a delivery, in a word or a few, and whether that is well."""
        s = self.session
        why = BY_NAME["deliver"].stale(s.job, s.sitting, m)
        if why:
            return f"stale: {why}", False
        gone = sum(not (Path(m.folder) / f).exists() for f, _, _ in m.files)
        if gone:
            return ("files are gone" if gone == len(m.files) else f"{gone} files are gone"), False
        return ("good", True) if m.good else ("look", False)

    def reload(self):
        """Take the list anew."""
        if sip.isdeleted(self.table) or not self.isAncestorOf(self.table) or self.session.sitting is None:
            return  # another panel stands in its place
        with self.session.job.glance():
            rows = [(m, *self.state(m)) for m in self.made]
        mark = str([(m.when, m.folder, m.files[:1], state) for m, state, _ in rows])
        if mark == self._mark:
            return
        self._mark = mark
        self.table.setRowCount(len(rows))
        for k, (m, state, good) in enumerate(rows):
            tip = f"{state}\n{m.folder}"
            when = m.when.replace("T", " ")[5:16]
            texts = (PURPOSES[m.purpose], when, state.split(":")[0])
            for q, text in enumerate(texts):
                tint = None if q < 2 else t.STATE_COLORS["done" if good else "look"]
                self.table.setItem(k, q, cell(text, k, tint=tint, tip=tip))
        fit_rows(self.table)
        if rows and not self.table.selectionModel().selectedRows():
            self.table.selectRow(0)
        self._show()

    def _show(self):
        m = self.chosen
        if self.found is not None:
            self.found.setParent(None)
            self.found.deleteLater()
            self.found = None
        if m is None:
            self.about.setText("Nothing was delivered yet.")
            return
        names = [f for f, _, _ in m.files]
        told = ", ".join(names) if len(names) <= NAMED else f"{', '.join(names[:3])} and {len(names) - 3} more"
        state, good = self.state(m)
        self.about.setText(
            f"{told}, {size_told(m.bytes)}, in {short_path(m.folder)}"
            + ("" if good or state == "look" else f"\nNow {state}")
        )
        self.found, box = advice.column()
        box.setSpacing(4)
        for c in m.checks:
            label = advice.wrapped(f"{'✓' if c.good else '!'}  {c.text}", "quiet" if c.good else "advice")
            label.setTextFormat(Qt.TextFormat.PlainText)
            box.addWidget(label)
            if c.remedy and not c.good:
                box.addWidget(self.remedy(c.remedy))
        self._place.addWidget(self.found)

    def open_folder(self):
        """Show the files of the chosen delivery in the file manager."""
        m = self.chosen
        if m is None:
            return
        if Path(m.folder).is_dir():
            QDesktopServices.openUrl(QUrl.fromLocalFile(m.folder))
        else:
            self.session.said.emit(f"{m.folder} is gone.", "bad")

    def again(self):
        """Deliver once more with the settings of the chosen one."""
        m, s = self.chosen, self.session
        if m is None or not s.may_write():
            return
        values = BY_NAME["deliver"].settings_again(s.job, s.sitting, m)
        s.do(lambda: s.job.set_settings(s.sitting_id, "deliver", values))
        s.run()

    def forget(self):
        """Take the chosen one off the list."""
        m, s = self.chosen, self.session
        if m is None or not s.may_write():
            return
        done = s.result("deliver")
        left = done.figures.model_copy(update={"made": [x for x in done.figures.made if x != m]})
        s.do(
            lambda: s.job.change_figures(s.sitting_id, "deliver", left),
            f"{counted(len(m.files), 'file')} stay where they are.",
        )
