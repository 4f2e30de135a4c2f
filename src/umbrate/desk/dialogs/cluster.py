"""The cluster whose workers help with long steps: its address, and who is there."""

from PyQt6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
)

from ...work.cluster import look_at_cluster
from ..plain import Label
from ..session.cluster import choose_cluster, chosen_cluster
from ..text import counted

COLUMNS = ("Worker", "Items at once", "Memory for them", "Computes the same")


class ClusterDialog(QDialog):
    """Where long steps are computed: on this machine, or on the workers of a cluster, too."""

    def __init__(self, session, parent=None):
        super().__init__(parent)
        self.session = session
        self.setWindowTitle("Compute on several machines")
        self.setMinimumWidth(600)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 16, 16, 16)
        box.setSpacing(8)
        box.addWidget(Label("Workers of a cluster", objectName="heading"))
        told = Label(
            "Features, matches, depth and the first look of a texture are computed by workers on other machines, with "
            "the same result. Start “umbrate scheduler” on one of them and “umbrate worker” on each.",
            objectName="quiet",
        )
        told.setWordWrap(True)
        box.addWidget(told)
        row = QHBoxLayout()
        row.addWidget(Label("Scheduler"))
        self.address = QLineEdit(chosen_cluster())
        self.address.setPlaceholderText("tcp://HOST:8786")
        row.addWidget(self.address, 1)
        self.look_button = QPushButton("Look for workers")
        self.look_button.setDefault(True)
        self.look_button.clicked.connect(self.look)
        row.addWidget(self.look_button)
        box.addLayout(row)
        self.table = QTableWidget(0, len(COLUMNS))
        self.table.setHorizontalHeaderLabels(COLUMNS)
        self.table.verticalHeader().hide()
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setSelectionMode(QTableWidget.SelectionMode.NoSelection)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.table.horizontalHeader().setSectionResizeMode(len(COLUMNS) - 1, QHeaderView.ResizeMode.Stretch)
        self.table.setMinimumHeight(150)
        box.addWidget(self.table, 1)
        self.said = Label(self._now(), objectName="quiet")
        self.said.setWordWrap(True)
        box.addWidget(self.said)
        row = QHBoxLayout()
        self.use_button = QPushButton("Use these workers", objectName="next")
        self.use_button.clicked.connect(lambda: self.use(self.address.text()))
        self.alone_button = QPushButton("Compute on this machine alone")
        self.alone_button.clicked.connect(lambda: self.use(""))
        close = QPushButton("Close")
        close.clicked.connect(self.reject)
        for w in (self.use_button, self.alone_button):
            row.addWidget(w)
        row.addStretch(1)
        row.addWidget(close)
        box.addLayout(row)
        self.address.textChanged.connect(self._changed)
        self._asked = 0
        self._changed()

    @staticmethod
    def _now():
        now = chosen_cluster()
        return f"Used now: {now}" if now else "Used now: this machine alone."

    def _changed(self):
        """An address that was not looked at is not used."""
        self._asked += 1
        self.table.setRowCount(0)
        self.use_button.setEnabled(False)
        self.look_button.setEnabled(bool(self.address.text().strip()))
        self.alone_button.setEnabled(bool(chosen_cluster()))
        self.said.setText(self._now())

    def look(self):
        """Ask the scheduler who works for it; the window goes on meanwhile."""
        self._changed()
        self.said.setText("Looking…")
        self.look_button.setEnabled(False)
        asked = self._asked
        self.session.tasks.send(
            "Looking for workers", look_at_cluster, (self.address.text().strip(),),
            lambda found: self._show(asked, found), lambda message, kind: self._show(asked, message),
        )  # fmt: skip
        self.session.listening.wake()

    def _show(self, asked, found):
        if asked != self._asked:
            return  # of another address
        self.look_button.setEnabled(True)
        if isinstance(found, str):
            self.said.setText(found)
            return
        self.table.setRowCount(len(found))
        for r, w in enumerate(found):
            cells = (w["name"], str(w["threads"]), f"{w['memory'] / 1e9:.1f} GB", w["wrong"] or "yes")
            for c, text in enumerate(cells):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                self.table.setItem(r, c, item)
        good = not any(w["wrong"] for w in found)
        self.use_button.setEnabled(good)
        count = counted(len(found), "worker")
        wrong = "; those that do not compute the same must be stopped, or brought to the same version."
        self.said.setText(f"{count} found{'.' if good else wrong}")

    def use(self, address):
        """Compute with the workers at an address from now on, or without any."""
        choose_cluster(self.session, address.strip())
        self.accept()
