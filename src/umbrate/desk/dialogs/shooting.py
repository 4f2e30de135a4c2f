"""While shooting: the folder that is watched, what became of the last photo in large letters, where to stand next."""

from PyQt6.QtCore import QSettings, Qt
from PyQt6.QtWidgets import (
    QCheckBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
)

from .. import tokens as t
from ..plain import Label, set_tone
from ..sounds import Sounds
from .asking import PHOTOS, ask_folder

TONES = {"bad": "bad", "trouble": "bad", "good": "good"}


class ShootingDialog(QDialog):
    """Begins and ends watching a folder, and tells what comes of it. It is not modal."""

    def __init__(self, session, parent=None):
        super().__init__(parent)
        self.session, self.shoot = session, session.shooting
        self._sounds, self._shown = Sounds(), 0
        self.setWindowTitle("While shooting")
        self.resize(460, 560)
        box = QVBoxLayout(self)
        box.setContentsMargins(20, 16, 20, 16)
        box.setSpacing(8)
        grid = QGridLayout()
        grid.setHorizontalSpacing(12)
        self.place = QLineEdit(placeholderText="Folder into which the camera's program writes")
        choose = QPushButton("Choose…")
        choose.clicked.connect(self._ask)
        self.name = QLineEdit()
        grid.addWidget(Label("Folder"), 0, 0)
        grid.addWidget(self.place, 0, 1)
        grid.addWidget(choose, 0, 2)
        grid.addWidget(Label("Sitting"), 1, 0)
        grid.addWidget(self.name, 1, 1, 1, 2)
        grid.setColumnStretch(1, 1)
        box.addLayout(grid)
        self.last = Label(objectName="heading")
        self.last.setWordWrap(True)
        box.addSpacing(8)
        box.addWidget(self.last)
        self.stand = Label(objectName="quiet")
        box.addWidget(self.stand)
        box.addWidget(Label("Stand here next", objectName="quiet"))
        self.next = QListWidget()
        self.next.setWordWrap(True)
        self.next.setFixedHeight(84)
        self.next.currentRowChanged.connect(self._choose_place)
        box.addWidget(self.next)
        self.turn = Label()
        self.turn.setWordWrap(True)
        box.addWidget(self.turn)
        self.list = QListWidget()
        self.list.setWordWrap(True)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        box.addWidget(self.list, 1)
        row = QHBoxLayout()
        self.sound = QCheckBox("Sounds")
        self.sound.setChecked(str(QSettings("umbrate", "umbrate").value("shooting/sound", "true")) == "true")
        self.sound.toggled.connect(
            lambda on: QSettings("umbrate", "umbrate").setValue("shooting/sound", str(on).lower())
        )
        self.shell = QCheckBox("Quick surface")
        self.shell.setToolTip("A rough surface of the tie points, in orange where photos see too little of it")
        self.shell.setChecked(self.shoot.drawn)
        self.shell.toggled.connect(self.shoot.draw)
        close = QPushButton("Close")
        close.clicked.connect(self.close)
        self.start = QPushButton("Watch", objectName="next")
        self.start.clicked.connect(self._start)
        row.addWidget(self.sound)
        row.addWidget(self.shell)
        row.addStretch(1)
        row.addWidget(close)
        row.addWidget(self.start)
        box.addLayout(row)
        self.place.textChanged.connect(lambda _: self.refresh())
        self.name.textChanged.connect(lambda _: self.refresh())
        self.shoot.changed.connect(self.refresh)
        self.shoot.heard.connect(self._hear)
        self._begin()

    def _begin(self):
        s = self.session
        if s.sitting and not s.sitting.members:
            self.name.setText(s.sitting.name)
        elif not self.name.text():
            self.name.setText("Sitting")
        self.refresh()

    # ------------------------------------------------------------------ what goes on
    def refresh(self):
        """Show what was told, and where to stand next."""
        goes, lines = self.shoot.work is not None, list(self.shoot.lines)
        self.start.setText("Stop watching" if goes else "Watch")
        self.start.setEnabled(goes or bool(self.place.text().strip() and self.name.text().strip()))
        for w in (self.place, self.name):
            w.setEnabled(not goes)
        if self._shown > len(lines):
            self.list.clear()
            self._shown = 0
        for kind, text in lines[self._shown :]:
            item = QListWidgetItem(text)
            if TONES.get(kind) == "bad":
                item.setForeground(t.color(t.STATE_COLORS["look"]))
            elif kind not in ("good", "first", "placed"):
                item.setForeground(t.color(t.QUIET))
            self.list.addItem(item)
        self._shown = len(lines)
        self.list.scrollToBottom()
        told = next(((k, x) for k, x in reversed(lines) if k in ("good", "bad")), ("", ""))
        self.last.setText(told[1] or ("Waiting for the first photo." if goes else ""))
        set_tone(self.last, TONES.get(told[0], "none"), "heading")
        self.stand.setText(next((x for k, x in reversed(lines) if k in ("first", "placed")), ""))
        self._show_next()

    def _show_next(self):
        found = self.shoot.work.next if self.shoot.work else None
        texts = [f"{k}.  {x}" for k, x in enumerate(found.texts, 1)] if found else []
        if texts != [self.next.item(k).text() for k in range(self.next.count())]:
            self.next.blockSignals(True)
            self.next.clear()
            self.next.addItems(texts)
            self.next.blockSignals(False)
        self.turn.setText(found.turn if found else "")
        self.turn.setVisible(bool(self.turn.text()))

    def _choose_place(self, row):
        """Show in the scene where that is."""
        points, found = self.session.points, self.shoot.work.next if self.shoot.work else None
        if points.covered and found and 0 <= row < len(found.rows):
            points.choose_place(found.rows[row])

    def _hear(self, good):
        if self.sound.isChecked():
            self._sounds.play(good)

    # ------------------------------------------------------------------ doing
    def _ask(self):
        folder = ask_folder(self, "Folder into which the camera's program writes", PHOTOS)
        if folder:
            self.place.setText(folder)

    def _start(self):
        if self.shoot.work is not None:
            self.shoot.stop()
        else:
            self.shoot.begin(self.place.text().strip(), self.name.text().strip())
