"""The new-job dialog: which folders become which sittings, and where the job goes."""

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QDialog,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
)

from ...core.errors import UmbrateError
from ...job.store import SUFFIX, job_folder
from ...sitting.photos import photo_files
from ...work.adding import mask_folder_of, photo_folders
from ...work.recipes import shelf
from .. import tokens as t
from ..plain import Label, set_tone
from .asking import ask_folder
from .dropping import TakesFolders

NAME, PHOTOS, MASKS, FOLDER = range(4)


class NewJobDialog(TakesFolders, QDialog):
    """Folders of photos, one sitting each, and the job's place. `folders()` and `place()` are the answer."""

    def __init__(self, folders=(), parent=None):
        super().__init__(parent)
        self.setWindowTitle("New job")
        self.resize(760, 400)
        self.setAcceptDrops(True)
        self._named_by_hand = False
        box = QVBoxLayout(self)
        box.setContentsMargins(20, 16, 20, 16)
        box.setSpacing(8)
        box.addWidget(Label("New job", objectName="heading"))
        told = Label(
            "Each folder of photos becomes a sitting: one placement of the object. A folder “masks” inside it is "
            "found by itself.",
            objectName="quiet",
        )
        box.addWidget(told)
        self.table = QTableWidget(0, 4)
        self.table.setHorizontalHeaderLabels(("Sitting", "Photos", "Masks", "Folder"))
        self.table.verticalHeader().hide()
        self.table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.table.setEditTriggers(
            QAbstractItemView.EditTrigger.DoubleClicked | QAbstractItemView.EditTrigger.EditKeyPressed
        )
        head = self.table.horizontalHeader()
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        head.setSectionResizeMode(FOLDER, QHeaderView.ResizeMode.Stretch)
        for column, width in ((NAME, 190), (PHOTOS, 70), (MASKS, 110)):
            self.table.setColumnWidth(column, width)
        self.table.setToolTip("Double click a sitting's name to change it")
        box.addWidget(self.table, 1)
        row = QHBoxLayout()
        add = QPushButton("Add a folder…")
        add.clicked.connect(self._ask_folder)
        self.drop = QPushButton("Leave out")
        self.drop.clicked.connect(self._leave_out)
        self.trouble = Label(objectName="quiet")
        self.trouble.setWordWrap(True)
        row.addWidget(add)
        row.addWidget(self.drop)
        row.addSpacing(8)
        row.addWidget(self.trouble, 1)
        box.addLayout(row)
        box.addSpacing(8)
        grid = QGridLayout()
        grid.setColumnStretch(1, 1)
        grid.addWidget(Label("Job"), 0, 0)
        self.line = QLineEdit(placeholderText=f"The job's folder, NAME{SUFFIX}")
        self.line.textEdited.connect(self._typed)
        other = QPushButton("Choose…")
        other.clicked.connect(self._ask_place)
        grid.addWidget(self.line, 0, 1)
        grid.addWidget(other, 0, 2)
        self.recipes = self._make_recipes()
        grid.addWidget(Label("Recipe"), 1, 0)
        grid.addWidget(self.recipes, 1, 1, 1, 2)
        box.addLayout(grid)
        row = QHBoxLayout()
        row.addStretch(1)
        cancel = QPushButton("Cancel")
        cancel.clicked.connect(self.reject)
        self.make = QPushButton("Make the job", objectName="next")
        self.make.setDefault(True)
        self.make.clicked.connect(self.accept)
        row.addWidget(cancel)
        row.addWidget(self.make)
        box.addLayout(row)
        for f in folders:
            self.take_folder(f)
        self._check()

    def _make_recipes(self):
        """The choice of a recipe that the new job is run by."""
        out = QComboBox()
        out.addItem("none: settings at their default, nothing is run")
        self._recipes = [None, *(k.recipe for k in (*shelf.own()[0], *shelf.built_in()))]
        for r in self._recipes[1:]:
            out.addItem(r.name)
            out.setItemData(
                out.count() - 1, " ".join(x for x in (r.about, r.assumes) if x), Qt.ItemDataRole.ToolTipRole
            )
        out.setToolTip("The job is set by it, and run when the photos are in")
        return out

    def recipe(self):
        """The Recipe that the job shall be run by, or None."""
        return self._recipes[self.recipes.currentIndex()]

    # ------------------------------------------------------------------ the answer
    def folders(self):
        """Pairs of folder and sitting name, in order."""
        rows = range(self.table.rowCount())
        return [(Path(self.table.item(r, FOLDER).text()), self.table.item(r, NAME).text().strip()) for r in rows]

    def place(self):
        """The job's folder, with its suffix."""
        text = self.line.text().strip()
        return job_folder(Path(text).expanduser())

    # ------------------------------------------------------------------ filling in
    def take_folder(self, folder):
        """Add a folder, or the folders in it that hold photos."""
        try:
            found = photo_folders(folder)
        except (UmbrateError, OSError) as e:
            self._say(str(e), bad=True)
            return
        have = {f for f, _ in self.folders()}
        for f in found:
            if f in have:
                continue
            name, k = f.name, 2
            while name in {n for _, n in self.folders()}:
                name, k = f"{f.name} {k}", k + 1
            masks = mask_folder_of(f)
            texts = (name, str(len(photo_files(f))), f"in {masks.name}/" if masks else "none", str(f))
            r = self.table.rowCount()
            self.table.insertRow(r)
            for column, text in enumerate(texts):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                if column != NAME:
                    item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEditable)
                    item.setForeground(t.color(t.QUIET))
                self.table.setItem(r, column, item)
        if found and not self._named_by_hand:
            home = Path(folder) if len(found) > 1 else found[0].parent
            home = home.parent if len(found) > 1 else home
            name = Path(folder).name
            place, k = home / f"{name}{SUFFIX}", 2
            while place.exists():
                place, k = home / f"{name}-{k}{SUFFIX}", k + 1
            if not self.line.text():
                self.line.setText(str(place))
        self._check()

    def _ask_folder(self):
        folder = ask_folder(self, "Folder of photos, or a folder of such folders")
        if folder:
            self.take_folder(folder)

    def _ask_place(self):
        place, _ = QFileDialog.getSaveFileName(
            self, "Where the job goes", self.line.text(), options=QFileDialog.Option.DontConfirmOverwrite
        )
        if place:
            self._typed(place)
            self.line.setText(place)
            self._check()

    def _typed(self, _):
        self._named_by_hand = True
        self._check()

    def _leave_out(self):
        for r in sorted({i.row() for i in self.table.selectedIndexes()}, reverse=True):
            self.table.removeRow(r)
        self._check()

    def _say(self, text, bad=False):
        self.trouble.setText(text)
        set_tone(self.trouble, "bad" if bad else "quiet")

    def _check(self):
        text = self.line.text().strip()
        rows = self.table.rowCount()
        try:
            there = bool(text) and self.place().exists()
        except UmbrateError as e:
            self._say(str(e), bad=True)
            self.make.setEnabled(False)
            return
        if there:
            self._say(f"{self.place().name} is there already. Choose another name.", bad=True)
            self.make.setEnabled(False)
            return
        if rows:
            self._say("")
        elif not self.trouble.text():
            self._say("Add a folder, or drop folders here.")
        self.make.setEnabled(bool(rows and text))
