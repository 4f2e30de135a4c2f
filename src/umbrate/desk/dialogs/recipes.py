"""Recipes: what each is for, what it would change here or is another from, the job's own kept as one."""

import dataclasses

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QMenu,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...core.errors import UmbrateError, WouldReplace
from ...stages import STAGES
from ...work.recipes import shelf
from ...work.recipes.applying import between
from ...work.recipes.taking import recipe_of_job
from ...work.recipes.text import read_recipe
from .. import tokens as t
from ..plain import Label, set_tone
from .asking import open_file
from .writing import may_replace

PARTS, SETTING, NOW, THEN = range(4)
THIS_JOB = "this job"


def fill(table, rows, heads):
    """Show Differences in a table."""
    table.setHorizontalHeaderLabels(heads)
    table.setRowCount(len(rows))
    for r, d in enumerate(rows):
        where = f"{d.part}, {d.where}" if d.part and d.where else d.part or d.where
        for c, text in enumerate((where, d.title, d.now, d.then)):
            item = QTableWidgetItem(text)
            item.setToolTip(text)
            if c == NOW:
                item.setForeground(t.color(t.QUIET))
            table.setItem(r, c, item)


class StagesMenu(QMenu):
    """Chooses stages; `names` are those that are chosen, None for all."""

    changed = pyqtSignal()

    def __init__(self, parent=None):
        super().__init__(parent)
        for stage in STAGES:
            action = QAction(stage.title, self, checkable=True, checked=True)
            action.setData(stage.name)
            action.toggled.connect(lambda _: self.changed.emit())
            self.addAction(action)

    @property
    def names(self):
        """Names of the chosen stages, or None."""
        chosen = [a.data() for a in self.actions() if a.isChecked()]
        return None if len(chosen) == len(self.actions()) else chosen

    @property
    def title(self):
        """What is chosen, in words."""
        chosen = [a.text() for a in self.actions() if a.isChecked()]
        if self.names is None:
            return "All stages"
        return ", ".join(chosen[:3]) + (f" and {len(chosen) - 3} more" if len(chosen) > 3 else "") or "No stage"

    def mouseReleaseEvent(self, e):
        """Stay open: several stages are chosen one after the other."""
        action = self.actionAt(e.position().toPoint())
        if action is None:
            super().mouseReleaseEvent(e)
        else:
            action.trigger()


def stages_button(menu):
    """A button that shows what is chosen of stages and opens their menu."""
    b = QToolButton(text=menu.title, popupMode=QToolButton.ToolButtonPopupMode.InstantPopup)
    b.setMenu(menu)
    menu.changed.connect(lambda: b.setText(menu.title))
    return b


class KeepDialog(QDialog):
    """Asks what a job's recipe is called, and of which stages it is."""

    def __init__(self, name, parent=None):
        super().__init__(parent)
        self.setWindowTitle("Keep as a recipe")
        grid = QGridLayout(self)
        grid.setContentsMargins(20, 16, 20, 16)
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(8)
        self.name, self.menu = QLineEdit(name), StagesMenu(self)
        self.name.setMinimumWidth(280)
        self.of = stages_button(self.menu)
        grid.addWidget(Label("Name"), 0, 0)
        grid.addWidget(self.name, 0, 1)
        grid.addWidget(Label("Of"), 1, 0)
        grid.addWidget(self.of, 1, 1, Qt.AlignmentFlag.AlignLeft)
        row = QHBoxLayout()
        cancel, self.keep = QPushButton("Cancel"), QPushButton("Keep", objectName="next")
        cancel.clicked.connect(self.reject)
        self.keep.clicked.connect(self.accept)
        self.keep.setDefault(True)
        row.addStretch(1)
        row.addWidget(cancel)
        row.addWidget(self.keep)
        grid.addLayout(row, 2, 0, 1, 2)
        for signal in (self.name.textChanged, self.menu.changed):
            signal.connect(lambda *_: self._check())
        self._check()

    def _check(self):
        self.keep.setEnabled(bool(self.name.text().strip()) and self.menu.names != [])


class RecipesDialog(QDialog):
    """`chosen` is the Recipe that was decided on, `runs` whether the job shall be run by it; None where none was."""

    def __init__(self, session, parent=None, name=None):
        super().__init__(parent)
        self.session, self.chosen, self.runs = session, None, False
        self.setWindowTitle("Recipes")
        self.resize(1080, 640)
        box = QVBoxLayout(self)
        box.setContentsMargins(20, 16, 20, 16)
        box.setSpacing(8)
        box.addWidget(Label("Recipes", objectName="heading"))
        row = QHBoxLayout()
        row.setSpacing(16)
        row.addLayout(self._make_list())
        row.addWidget(self._make_page(), 1)
        box.addLayout(row, 1)
        self.said = Label(objectName="quiet")
        self.said.setWordWrap(True)
        self.said.hide()
        box.addWidget(self.said)
        row = QHBoxLayout()
        self.keep = QPushButton("Keep this job's settings as a recipe…")
        self.keep.clicked.connect(self._keep)
        close = QPushButton("Close")
        close.clicked.connect(self.reject)
        self.set = QPushButton("Set this job so")
        self.set.setToolTip("Settings alone; Undo takes it back")
        self.set.clicked.connect(lambda: self._take(False))
        self.run = QPushButton("Set and run", objectName="next")
        self.run.setToolTip("Set this job so, then run, join, clean, mend and deliver as the recipe says")
        self.run.clicked.connect(lambda: self._take(True))
        self.run.setDefault(True)
        row.addWidget(self.keep)
        row.addStretch(1)
        for b in (close, self.set, self.run):
            row.addWidget(b)
        box.addLayout(row)
        self._fill(name)

    def _make_list(self):
        column = QVBoxLayout()
        self.list = QListWidget()
        self.list.setFixedWidth(270)
        self.list.currentRowChanged.connect(lambda _: self._show())
        column.addWidget(self.list, 1)
        row = QHBoxLayout()
        self.other = QPushButton("Open a file…")
        self.other.clicked.connect(self._open)
        self.remove = QPushButton("Remove")
        self.remove.clicked.connect(self._remove)
        row.addWidget(self.other)
        row.addWidget(self.remove)
        column.addLayout(row)
        return column

    def _make_page(self):
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.name = Label(objectName="heading")
        self.about, self.assumes, self.costs = (Label() for _ in range(3))
        column.addWidget(self.name)
        for label in (self.about, self.assumes, self.costs):
            label.setWordWrap(True)
            column.addWidget(label)
        for label in (self.assumes, self.costs):
            set_tone(label, "quiet", "quiet")
        row = QHBoxLayout()
        row.setContentsMargins(0, 8, 0, 0)
        row.addWidget(Label("Beside"))
        self.beside = QComboBox()
        self.beside.setMinimumWidth(260)
        self.beside.currentIndexChanged.connect(lambda _: self._compare())
        row.addWidget(self.beside)
        self.menu = StagesMenu(self)
        self.menu.changed.connect(self._compare)
        self.of = stages_button(self.menu)
        self.of.setToolTip("Of which stages the recipe is compared, set and run")
        row.addWidget(self.of)
        self.count = Label(objectName="quiet")
        row.addWidget(self.count, 1)
        column.addLayout(row)
        self.table = QTableWidget(0, 4)
        self.table.verticalHeader().hide()
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
        self.table.setWordWrap(True)
        self.table.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        head = self.table.horizontalHeader()
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        for c, width in ((PARTS, 190), (SETTING, 150), (NOW, 170)):
            self.table.setColumnWidth(c, width)
        head.setSectionResizeMode(THEN, QHeaderView.ResizeMode.Stretch)
        column.addWidget(self.table, 1)
        self.later = Label(objectName="quiet")
        self.later.setWordWrap(True)
        column.addWidget(self.later)
        return page

    # ------------------------------------------------------------------ what there is
    def _fill(self, name=None):
        mine, bad = shelf.own()
        self.kept = [*mine, *shelf.built_in()]
        self.list.blockSignals(True)
        self.list.clear()
        for k in self.kept:
            item = QListWidgetItem(k.recipe.name)
            item.setToolTip(k.recipe.about or "Your own")
            if k.file:
                item.setIcon(t.icon("account-outline", "QUIET"))
            self.list.addItem(item)
        self.list.blockSignals(False)
        names = [k.recipe.name for k in self.kept]
        self.list.setCurrentRow(names.index(name) if name in names else 0)
        if bad:
            self._say(" ".join(f"{f.name}: {text}" for f, text in bad), bad=True)

    @property
    def current(self):
        """The Kept that is looked at."""
        k = self.list.currentRow()
        return self.kept[k] if 0 <= k < len(self.kept) else None

    def _show(self):
        kept = self.current
        if kept is None:
            return
        r = kept.recipe
        self.name.setText(r.name)
        self.about.setText(r.about or "Your own recipe.")
        self.assumes.setText(f"It assumes: {r.assumes}" if r.assumes else "")
        self.costs.setText(f"It takes: {r.costs}" if r.costs else "")
        for label in (self.assumes, self.costs):
            label.setVisible(bool(label.text()))
        self.remove.setEnabled(kept.file is not None)
        was = self.beside.currentText()
        self.beside.blockSignals(True)
        self.beside.clear()
        self.beside.addItems([THIS_JOB, *(k.recipe.name for k in self.kept if k is not kept)])
        self.beside.setCurrentIndex(max(0, self.beside.findText(was)))
        self.beside.blockSignals(False)
        self._compare()

    def wanted(self):
        """The recipe that is looked at, of the chosen stages."""
        recipe = self.current.recipe
        return recipe if self.menu.names is None else recipe.only(self.menu.names)

    def _compare(self):
        recipe, job = self.wanted(), self.session.job
        other = next((k.recipe for k in self.kept if k.recipe.name == self.beside.currentText()), None)
        if other is not None:
            other = other if self.menu.names is None else other.only(self.menu.names)
            rows, later, heads = between(other, recipe), [], (other.name, recipe.name)
        else:
            rows, later = self.session.recipes.differences(recipe)
            heads = ("now", "by the recipe")
        fill(self.table, rows, ("", "Setting", *heads))
        n = len(rows)
        what = "recipes" if other is not None else "job and recipe"
        self.count.setText(f"{n} difference{'' if n == 1 else 's'}" if n else f"No difference: {what} say the same.")
        self.later.setText("When there are results: " + " ".join(later) if later else "")
        self.later.setVisible(bool(later))
        can = bool(job.writable and job.photo_sittings())
        self.set.setEnabled(can and other is None and n > 0)
        self.run.setEnabled(can and self.menu.names != [])

    def _say(self, text, bad=False):
        self.said.setText(text)
        set_tone(self.said, "bad" if bad else "quiet")
        self.said.setVisible(bool(text))

    # ------------------------------------------------------------------ doing
    def _take(self, runs):
        self.chosen, self.runs = self.wanted(), runs
        self.accept()

    def _keep(self):
        asked = KeepDialog(self.session.job.name, self)
        if asked.exec():
            self._shelve(lambda: self._own(asked.name.text(), asked.menu.names), "“{}” is kept.")

    def _own(self, name, stages):
        """The recipe of this job, and what is not in it."""
        recipe, left = recipe_of_job(self.session.job, name, self.session.sitting, stages)
        return dataclasses.replace(recipe, about=f"As the job “{self.session.job.name}” was made."), left

    def _open(self):
        file = open_file(self, "A recipe", "Recipes (*.toml)")
        if file:
            self._shelve(lambda: (read_recipe(file), []), "“{}” is on your shelf now.")

    def _shelve(self, make, told):
        """Put a recipe on the shelf that ``make()`` gives, with sentences about it; what is there only if it may be."""
        try:
            recipe, left = make()
            try:
                shelf.keep_recipe(recipe)
            except WouldReplace as e:
                if not may_replace(self, e):
                    return
                shelf.keep_recipe(recipe, replace=True)
        except UmbrateError as e:
            self._say(str(e), bad=True)
            return
        self._fill(recipe.name)
        self._say(" ".join([told.format(recipe.name), *left]))

    def _remove(self):
        name = self.current.recipe.name
        try:
            shelf.remove_recipe(name)
        except UmbrateError as e:
            self._say(str(e), bad=True)
            return
        self._fill()
        self._say(f"“{name}” is off your shelf.")
