"""The queue over several jobs: what waits, in an order that is changed by dragging; paused, resumed, its end told."""

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QComboBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QProgressBar,
    QPushButton,
    QVBoxLayout,
)

from ...core.errors import UmbrateError
from ...work.ending import Ending
from ...work.jobqueue import FAILED, RUNS
from ...work.recipes import shelf
from .. import tokens as t
from ..plain import Label, set_tone
from ..text import short_time
from .asking import JOBS, ask_folder

ID = Qt.ItemDataRole.UserRole
WORDS = {"waits": "", RUNS: "runs", FAILED: "failed"}


class QueueDialog(QDialog):
    """Shows the session's queue over several jobs. It is not modal."""

    def __init__(self, session, parent=None):
        super().__init__(parent)
        self.session, self.later = session, session.later
        self._filling = False
        self.setWindowTitle("Queue")
        self.resize(720, 560)
        box = QVBoxLayout(self)
        box.setContentsMargins(20, 16, 20, 16)
        box.setSpacing(8)
        box.addWidget(Label("Queue", objectName="heading"))
        told = Label(
            "Cells and jobs that are run one after another, whichever job is open. Drag to change the order. Each "
            "result is saved when it is there; what waits is kept when the window is closed.",
            objectName="quiet",
        )
        told.setWordWrap(True)
        box.addWidget(told)
        self.list = QListWidget()
        self.list.setDragDropMode(QAbstractItemView.DragDropMode.InternalMove)
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.list.setWordWrap(True)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.model().rowsMoved.connect(self._moved)
        self.list.itemSelectionChanged.connect(self._enable)
        box.addWidget(self.list, 1)
        self.now = Label(objectName="quiet")
        self.bar = QProgressBar(maximum=1000, textVisible=False)
        box.addWidget(self.now)
        box.addWidget(self.bar)
        row = QHBoxLayout()
        self.what = QComboBox()
        self.add, self.remove, self.again = (QPushButton(x) for x in ("Add a job…", "Remove", "Try again"))
        self.add.clicked.connect(self._add)
        self.remove.clicked.connect(lambda: self.later.do(lambda: self.later.waiting.remove(self._chosen())))
        self.again.clicked.connect(self._try_again)
        row.addWidget(self.add)
        row.addWidget(self.what, 1)
        row.addWidget(self.again)
        row.addWidget(self.remove)
        box.addLayout(row)
        box.addLayout(self._make_end())
        row = QHBoxLayout()
        close = QPushButton("Close")
        close.clicked.connect(self.close)
        self.pause = QPushButton("Pause", objectName="next")
        self.pause.clicked.connect(self._pause)
        row.addStretch(1)
        row.addWidget(close)
        row.addWidget(self.pause)
        box.addLayout(row)
        self.later.changed.connect(self.refresh)
        self._fill_recipes()
        self.refresh()

    def _make_end(self):
        grid, end = QGridLayout(), self.later.ending()
        grid.setHorizontalSpacing(12)
        self.notify = QCheckBox("Show a notification of the desktop")
        self.notify.setChecked(end.notify)
        self.command = QLineEdit(
            end.command, placeholderText="A command, such as systemctl suspend (may be left empty)"
        )
        self.mail = QLineEdit(
            end.mail, placeholderText="A mail to this address, by the local sendmail (may be left empty)"
        )
        self.notify.toggled.connect(lambda _: self._choose_end())
        for w in (self.command, self.mail):
            w.editingFinished.connect(self._choose_end)
        grid.addWidget(Label("When all is done"), 0, 0)
        for k, w in enumerate((self.notify, self.command, self.mail)):
            grid.addWidget(w, k, 1)
        self.trouble = Label(objectName="quiet")
        set_tone(self.trouble, "bad")
        self.trouble.hide()
        grid.addWidget(self.trouble, 3, 1)
        grid.setColumnStretch(1, 1)
        return grid

    def _choose_end(self):
        try:
            self.later.choose_ending(
                Ending(self.notify.isChecked(), self.command.text().strip(), self.mail.text().strip())
            )
            self.trouble.hide()
        except UmbrateError as e:
            self.trouble.setText(str(e))
            self.trouble.show()

    def _fill_recipes(self):
        self.what.addItem("everything that is missing or stale", None)
        for k in (*shelf.own()[0], *shelf.built_in()):
            self.what.addItem(f"by the recipe “{k.recipe.name}”", k.recipe)

    # ------------------------------------------------------------------ what waits
    def refresh(self):
        """Show what waits, and how far what runs is."""
        entries, paused = self.later.waiting.read()
        rows = [(e.id, self._text(e), e.state) for e in entries]
        if rows != [(i.data(ID), i.text(), i.data(ID + 1)) for i in map(self.list.item, range(self.list.count()))]:
            chosen = self._chosen()
            self._filling = True
            self.list.clear()
            for key, text, state in rows:
                item = QListWidgetItem(text)
                item.setToolTip(text)
                item.setData(ID, key)
                item.setData(ID + 1, state)
                if state == FAILED:
                    item.setForeground(t.color(t.STATE_COLORS["failed"]))
                self.list.addItem(item)
                item.setSelected(key in chosen)
            self._filling = False
        self.pause.setText("Go on" if paused else "Pause")
        self.pause.setEnabled(bool(entries))
        run = self.later.runner.running
        self.bar.setVisible(run is not None)
        if run is not None:
            left = f", {short_time(run.seconds_left)} left" if run.seconds_left is not None else ""
            self.now.setText(f"{run.title}: {run.sentence}{left}")
            self.bar.setValue(round(1000 * run.fraction))
        else:
            if self.later.runner.is_here:
                told = "It runs in the job that is open."
            elif not entries:
                told = "Nothing waits."
            else:
                told = "Paused." if paused else ""
            self.now.setText(told)
        self._enable()

    @staticmethod
    def _text(e):
        more = " · ".join(x for x in (WORDS[e.state], e.why) if x)
        return f"{Path(e.folder).stem}: {e.title}" + (f"   {more}" if more else "")

    def _chosen(self):
        return {i.data(ID) for i in self.list.selectedItems()}

    def _enable(self):
        states = {i.data(ID + 1) for i in self.list.selectedItems()}
        self.remove.setEnabled(bool(states) and RUNS not in states)
        self.again.setEnabled(FAILED in states)

    # ------------------------------------------------------------------ changing it
    def _moved(self, *_):
        if not self._filling:
            ids = [self.list.item(k).data(ID) for k in range(self.list.count())]
            self.later.do(lambda: self.later.waiting.order(ids))

    def _add(self):
        folder = ask_folder(self, "A job: a folder whose name ends in .umbrate", JOBS)
        if folder:
            self.later.add_job(folder, self.what.currentData())

    def _try_again(self):
        def again():
            for key in self._chosen():
                self.later.waiting.put(key, state="waits", why="")

        self.later.do(again)

    def _pause(self):
        paused = self.later.waiting.read()[1]
        if paused:
            self.later.do(lambda: self.later.waiting.pause(False))
        else:
            self.later.do(self.later.runner.stop)
