"""A batch in the window: folders, a recipe, a place; begun as a process of its own, and looked at while it goes on."""

import os
import signal
import sys
from pathlib import Path

from PyQt6.QtCore import QProcess, Qt, QTimer, QUrl
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
)

from ...core.errors import UmbrateError
from ...sitting.photos import photo_files
from ...work.batch.running import sittings_of
from ...work.batch.state import DONE, FAILED, FILE, RUNS, Batch
from ...work.batch.summary import PAGE, WORDS
from ...work.ending import Ending
from ...work.recipes import shelf
from .. import tokens as t
from ..plain import Label, set_tone
from ..text import short_time
from .asking import FILES, ask_folder
from .dropping import TakesFolders

FOLDER, PHOTOS, STATE, TOLD = range(4)
LOOK_MS = 1000
SLOW_START_S = 20  #: after that a process that shows no sign has not begun


def _photos_of(folder):
    """How many photos a folder has, in how many sittings; and why it will not do, or ""."""
    try:
        found = sittings_of(folder)
        n = sum(len(photo_files(f)) for f in found.values())
        return (f"{n} in {len(found)}" if len(found) > 1 else str(n)), ""
    except (UmbrateError, OSError) as e:
        return "none", str(e)


class BatchDialog(TakesFolders, QDialog):
    """Chooses what a batch is about, begins it, and shows how far it is. It is not modal: work goes on beside it."""

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setWindowTitle("Batch")
        self.resize(900, 560)
        self.setAcceptDrops(True)
        self._begun = 0
        box = QVBoxLayout(self)
        box.setContentsMargins(20, 16, 20, 16)
        box.setSpacing(8)
        box.addWidget(Label("Many folders, one recipe", objectName="heading"))
        told = Label(
            "Each folder of photos, with its sittings as folders in it, becomes a job, is run and delivered. One that "
            "fails does not stop the rest. It goes on when this window is closed, and begun again it goes on where it "
            "was.",
            objectName="quiet",
        )
        told.setWordWrap(True)
        box.addWidget(told)
        self.table = QTableWidget(0, 4)
        self.table.setHorizontalHeaderLabels(("Folder", "Photos", "State", ""))
        self.table.verticalHeader().hide()
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        head = self.table.horizontalHeader()
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        for c, width in ((FOLDER, 250), (PHOTOS, 110), (STATE, 80)):
            self.table.setColumnWidth(c, width)
        head.setSectionResizeMode(TOLD, QHeaderView.ResizeMode.Stretch)
        box.addWidget(self.table, 1)
        row = QHBoxLayout()
        self.one, self.all, self.drop = (QPushButton(x) for x in ("Add a folder…", "Add all folders in…", "Leave out"))
        self.one.clicked.connect(lambda: self._ask(False))
        self.all.clicked.connect(lambda: self._ask(True))
        self.drop.clicked.connect(self._leave_out)
        for b in (self.one, self.all, self.drop):
            row.addWidget(b)
        row.addStretch(1)
        box.addLayout(row)
        grid = QGridLayout()
        grid.setHorizontalSpacing(12)
        self.recipe = QComboBox()
        self.place = QLineEdit(placeholderText="Folder for the jobs, the files and the summary")
        self.place.textChanged.connect(lambda _: self.look())
        choose = QPushButton("Choose…")
        choose.clicked.connect(self._ask_place)
        grid.addWidget(Label("Recipe"), 0, 0)
        grid.addWidget(self.recipe, 0, 1, 1, 2)
        grid.addWidget(Label("Results"), 1, 0)
        grid.addWidget(self.place, 1, 1)
        grid.addWidget(choose, 1, 2)
        self.then = QLineEdit(placeholderText="A command at the end, such as systemctl suspend (may be left empty)")
        self.mail = QLineEdit(
            placeholderText="A mail at the end to this address, by the local sendmail (may be left empty)"
        )
        grid.addWidget(Label("At the end"), 2, 0)
        grid.addWidget(self.then, 2, 1, 1, 2)
        grid.addWidget(self.mail, 3, 1, 1, 2)
        grid.setColumnStretch(1, 1)
        box.addLayout(grid)
        self.bar = QProgressBar(maximum=1000, textVisible=False)
        self.said = Label(objectName="quiet")
        self.said.setWordWrap(True)
        box.addWidget(self.bar)
        box.addWidget(self.said)
        row = QHBoxLayout()
        self.summary = QPushButton("Open the summary")
        self.summary.clicked.connect(self._open_summary)
        close = QPushButton("Close")
        close.clicked.connect(self.close)
        self.halt = QPushButton("Stop")
        self.halt.clicked.connect(self._stop)
        self.start = QPushButton("Start", objectName="next")
        self.start.clicked.connect(self._start)
        row.addWidget(self.summary)
        row.addStretch(1)
        for b in (close, self.halt, self.start):
            row.addWidget(b)
        box.addLayout(row)
        self._timer = QTimer(self, interval=LOOK_MS)
        self._timer.timeout.connect(self.look)

    # ------------------------------------------------------------------ what it is about
    def showEvent(self, e):
        self._fill_recipes()
        self._timer.start()
        self.look()
        super().showEvent(e)

    def hideEvent(self, e):
        self._timer.stop()
        super().hideEvent(e)

    def _fill_recipes(self):
        was = self.recipe.currentText()
        self.recipe.clear()
        for k in (*shelf.own()[0], *shelf.built_in()):
            self.recipe.addItem(k.recipe.name, str(k.file or k.short))
            self.recipe.setItemData(self.recipe.count() - 1, k.recipe.about, Qt.ItemDataRole.ToolTipRole)
        self.recipe.setCurrentIndex(max(0, self.recipe.findText(was)))

    def folders(self):
        """The folders that are listed."""
        return [self.table.item(r, FOLDER).toolTip() for r in range(self.table.rowCount())]

    def take_folder(self, folder):
        """List one folder."""
        folder = os.path.abspath(folder)
        if folder in self.folders():
            return
        photos, why = _photos_of(folder)
        self._row(folder, photos, "", why)
        if not self.place.text():
            self.place.setText(str(Path(folder).parent / "results"))
        self.look()

    def _row(self, folder, photos, state, told):
        r = self.table.rowCount()
        self.table.insertRow(r)
        for c, text in enumerate((Path(folder).name, photos, state, told)):
            item = QTableWidgetItem(text)
            item.setToolTip(folder if c == FOLDER else text)
            self.table.setItem(r, c, item)
        return r

    def _ask(self, every):
        title = "A folder whose folders become a job each" if every else "A folder of photos, or one of its sittings"
        folder = ask_folder(self, title)
        if not folder:
            return
        if not every:
            self.take_folder(folder)
            return
        for f in sorted(Path(folder).iterdir()):
            if f.is_dir() and not f.name.startswith("."):
                self.take_folder(f)

    def _leave_out(self):
        for r in sorted({i.row() for i in self.table.selectedIndexes()}, reverse=True):
            self.table.removeRow(r)
        self.look()

    def _ask_place(self):
        folder = ask_folder(self, "Folder for the results", FILES)
        if folder:
            self.place.setText(folder)

    # ------------------------------------------------------------------ what goes on
    @property
    def out(self):
        """The folder of the results, or None."""
        text = self.place.text().strip()
        return Path(text).expanduser() if text else None

    def _batch(self):
        try:
            return Batch.read(self.out) if self.out and (self.out / FILE).is_file() else None
        except (UmbrateError, OSError, ValueError) as e:
            self._say(str(e), bad=True)
            return None

    def look(self):
        """Show how far the batch in that folder is."""
        batch = self._batch()
        goes = bool(batch and batch.running)
        rows = {f: r for r, f in enumerate(self.folders())}
        for item in batch.items if batch else ():
            r = rows.get(item.folder)
            if r is None:
                r = rows[item.folder] = self._row(item.folder, _photos_of(item.folder)[0], "", "")
            told = item.why or " ".join(item.notes)
            if item.state == RUNS and goes:
                told = str(batch.now.get("sentence", ""))
            elif item.state == DONE:
                told = told or short_time(item.seconds)
            state = "stopped" if item.state == RUNS and not goes else WORDS[item.state]
            for c, text in ((STATE, state), (TOLD, told)):
                if self.table.item(r, c).text() != text:
                    self.table.item(r, c).setText(text)
                    self.table.item(r, c).setToolTip(text)
            self.table.item(r, STATE).setForeground(
                t.color(t.STATE_COLORS["failed"] if item.state == FAILED else t.TEXT)
            )
        ended = sum(i.state in (DONE, FAILED) for i in batch.items) if batch else 0
        if goes:
            self._begun = 0
        starts = self._begun > 0
        self._begun = max(0, self._begun - 1)
        self._tell(batch, goes, starts, ended)
        for w in (self.one, self.all, self.drop, self.place):
            w.setEnabled(not goes)
        self.recipe.setEnabled(batch is None)
        self.recipe.setToolTip(f"This batch was begun with “{batch.recipe.name}”" if batch else "")
        self.halt.setEnabled(goes)
        new = bool(batch and {*self.folders()} - {i.folder for i in batch.items})
        done = bool(batch and not new and all(i.state == DONE for i in batch.items))
        self.start.setEnabled(not goes and not starts and not done and bool(self.out and self.table.rowCount()))
        self.start.setText(
            "Start" if batch is None else "Try again" if ended == len(batch.items) and not new else "Go on"
        )
        self.summary.setEnabled(bool(self.out and (self.out / PAGE).is_file()))

    def _tell(self, batch, goes, starts, ended):
        if batch is None:
            self.bar.setValue(0)
            self._say("Starting…" if starts else "" if self.table.rowCount() else "Add folders, or drop them here.")
            return
        n = len(batch.items)
        share = float(batch.now.get("fraction") or 0.0) if goes else 0.0
        self.bar.setValue(round(1000 * (ended + min(1.0, share)) / max(1, n)))
        count = {s: sum(i.state == s for i in batch.items) for s in (DONE, FAILED)}
        told = f"{ended} of {n} folders by “{batch.recipe.name}”: {count[DONE]} done, {count[FAILED]} failed."
        if goes:
            told += f" Now {batch.now.get('name', '')}: {batch.now.get('sentence', '')}"
        self._say("Starting…" if starts else told, bad=False)

    def _say(self, text, bad=False):
        self.said.setText(text)
        set_tone(self.said, "bad" if bad else "quiet")

    def _start(self):
        batch = self._batch()
        line = ["-m", "umbrate", "batch", *self.folders(), "--out", str(self.out)]
        if batch is None:
            line += ["--recipe", self.recipe.currentData()]
        end = Ending(command=self.then.text().strip(), mail=self.mail.text().strip())
        try:
            end.check()
        except UmbrateError as e:
            self._say(str(e), bad=True)
            return
        line += [f"--then={end.command}"] if end.command else []
        line += [f"--mail={end.mail}"] if end.mail else []
        started, _ = QProcess.startDetached(sys.executable, line)
        if not started:
            self._say("The batch could not be started. Is there memory left?", bad=True)
            return
        self._begun = SLOW_START_S * 1000 // LOOK_MS
        self.look()

    def _stop(self):
        batch = self._batch()
        if batch and batch.pid > 0 and batch.running:
            try:
                os.kill(batch.pid, signal.SIGINT)
                self._say("Stopping. What is finished is kept.")
            except OSError as e:
                self._say(f"It could not be stopped ({e.strerror}).", bad=True)

    def _open_summary(self):
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(self.out / PAGE)))
