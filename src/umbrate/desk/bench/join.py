"""The bench of Join: which sittings, how they look over each other, worst places, roles of targets, and what next."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...job.joins import ON_OBJECT, ON_SUPPORT
from ...stages.join.methods import GOOD, NONE
from .. import tokens as t
from ..dialogs.picks import PicksDialog
from ..plain import Label, button_text, set_tone
from ..session.joining import COLORS, DISTANCE, TINTS
from .markedpoints import cell, table

TINTINGS = ((TINTS, "Tints", "Each sitting in a tint of its own"), (COLORS, "Colors", "Each sitting in its own colors"),
         (DISTANCE, "Distance", "How far the sittings' clouds lie apart, where both have surface"))  # fmt: skip
JUDGED = "as judged"


class JoinChoice(QWidget):
    """At the Join cell of a single sitting: which sittings to join, and the button that does it."""

    def __init__(self, session):
        super().__init__()
        self.session = session
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        rows = [r for r in session.job.joined_rows() if session.sitting_id in r.members]
        for r in rows:
            b = QPushButton(button_text(f"Go to “{r.name}”"), objectName="next")
            b.clicked.connect(lambda _, i=r.id: session.choose(i, "join"))
            column.addWidget(b)
        self.boxes = {}
        solved = [s for s in session.job.photo_sittings() if session.job.result(s.id, "poses")]
        if len(solved) < 2:
            told = "Joining takes two sittings with poses: the object as it stood, and turned over. "
            told += "Bring in the other one, or run Poses there."
            label = Label(told, objectName="quiet")
            label.setWordWrap(True)
            column.addWidget(label)
            return
        column.addWidget(Label("Join which sittings", objectName="plain"))
        for s in solved:
            box = QCheckBox(s.name, checked=True)
            box.toggled.connect(lambda _: self._tell())
            self.boxes[s.id] = box
            column.addWidget(box)
        label = Label("The first of them gives its frame, scale and level.", objectName="quiet")
        label.setWordWrap(True)
        column.addWidget(label)
        self.button = QPushButton(objectName="" if rows else "next")
        self.button.clicked.connect(lambda _: session.joining.join(self._chosen()))
        column.addWidget(self.button)
        self._tell()

    def _chosen(self):
        return [i for i, b in self.boxes.items() if b.isChecked()]

    def _tell(self):
        n = len(self._chosen())
        self.button.setText(f"Join {n} sittings" if n > 1 else "Choose two or more")
        self.button.setEnabled(n > 1)


class JoinPanel(QWidget):
    """At the Join cell of a joined row that has been run."""

    targets_unfolded = False  #: kept while the window lives

    def __init__(self, session):
        super().__init__()
        self.session, self.work, self.targets = session, session.joining, None
        self.found = session.job.join_found(session.sitting_id)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(6)
        self._verdict(column)
        self._overlay(column)
        self._worst(column)
        row = QHBoxLayout()
        count = len(session.job.picks(session.sitting_id))
        pick = QPushButton(f"Picks ({count})…" if count else "Pick places…")
        pick.setToolTip("The same places in both sittings, side by side, in clouds or photos")
        pick.clicked.connect(lambda _: PicksDialog(session, self.window()).join())
        unite = QPushButton("Unite clouds")
        unite.setToolTip("The sittings' clouds as one: doubles left out, one brightness; nothing is computed anew")
        unite.setEnabled(self.work.has_clouds() and None not in self.found.moves)
        unite.clicked.connect(self.work.unite)
        row.addWidget(pick)
        row.addWidget(unite)
        column.addLayout(row)
        self._targets(column)
        self.work.changed.connect(self._changed)
        self._changed()

    def _verdict(self, column):
        """One line for every two sittings: how sure it is, and why not."""
        for x in self.found.joins:
            head = QHBoxLayout()
            name = Label(f"{x.first} – {x.second}", objectName="plain")
            name.setWordWrap(True)
            word = Label("no join" if x.verdict == NONE else x.verdict)
            set_tone(word, {GOOD: "good", NONE: "bad"}.get(x.verdict, "look"))
            head.addWidget(name, 1)
            head.addWidget(word)
            column.addLayout(head)
            for text in (*x.reasons, *x.notes):
                label = Label(f"{text[:1].upper()}{text[1:]}.", objectName="quiet")
                label.setWordWrap(True)
                column.addWidget(label)

    def _overlay(self, column):
        row = QHBoxLayout()
        row.setSpacing(4)
        self.tintings = QButtonGroup(self)
        for name, title, tip in TINTINGS:
            b = QToolButton(text=title, checkable=True)
            b.setToolTip(tip)
            b.setProperty("look", name)
            if name == DISTANCE:
                b.setEnabled(self.work.has_clouds())
                if not b.isEnabled():
                    b.setToolTip("Every sitting needs a cloud for that; a coarse one will do")
            b.clicked.connect(lambda _, n=name: self.work.set_look(n))
            self.tintings.addButton(b)
            row.addWidget(b)
        row.addStretch(1)
        column.addLayout(row)
        for s in self.work.members():
            box = QCheckBox(s.name, checked=s.id not in self.work.hidden)
            box.setIcon(t.swatch(self.work.tint(s.id)))
            box.toggled.connect(lambda on, i=s.id: self.work.hide(i, not on))
            column.addWidget(box)
        self.apart = Label(objectName="quiet")
        self.apart.setWordWrap(True)
        column.addWidget(self.apart)

    def _worst(self, column):
        unit = self.found.unit
        places = sorted((p for x in self.found.joins for p in (x.surfaces.worst if x.surfaces else ())),
                        key=lambda p: -p[3])  # fmt: skip
        if not places:
            return
        self.worst = table(("Farthest apart", "Distance"))
        self.worst.setToolTip("A click looks at the place")
        self.worst.setRowCount(len(places[:5]))
        for k, p in enumerate(places[:5]):
            self.worst.setItem(k, 0, cell(f"Place {k + 1}", p))
            self.worst.setItem(k, 1, cell(f"{p[3]:.3g} {unit}".strip(), right=True))
        self.worst.itemSelectionChanged.connect(self._to_place)
        column.addWidget(self.worst)

    def _to_place(self):
        row = self.worst.currentRow()
        if row >= 0:
            self.work.look_at(self.worst.item(row, 0).data(Qt.ItemDataRole.UserRole))

    def _targets(self, column):
        """The targets, with the role that the user gave each and how it was judged, where there are any."""
        roles = self.session.job.target_roles()
        judged = {
            **dict.fromkeys(self.found.support, ON_SUPPORT),
            **dict.fromkeys(self.found.on_object, ON_OBJECT),
        }
        numbers = sorted({*judged, *roles})
        if not numbers:
            return
        on = sum(roles.get(n, judged.get(n)) == ON_OBJECT for n in numbers)
        fold = QPushButton(objectName="link")
        column.addWidget(fold)
        place = QVBoxLayout()
        column.addLayout(place)

        def show(unfolded):
            JoinPanel.targets_unfolded = unfolded
            if unfolded and self.targets is None:
                self.targets = self._target_table(numbers, judged, roles)
                place.addWidget(self.targets)
            if self.targets is not None:
                self.targets.setVisible(unfolded)
            fold.setText(f"Targets: {on} on the object, {len(numbers) - on} not")
            fold.setToolTip("Fold" if unfolded else "Which targets count, and what you say of them")

        fold.clicked.connect(lambda: show(not JoinPanel.targets_unfolded))
        show(JoinPanel.targets_unfolded)

    def _target_table(self, numbers, judged, roles):
        out = table(("Target", "Judged", "You say"), stretch=1)
        out.setRowCount(len(numbers))
        for k, n in enumerate(numbers):
            out.setItem(k, 0, cell(str(n), n))
            out.setItem(k, 1, cell(judged.get(n, "not seen in both")))
            box = QComboBox()
            for text, role in ((JUDGED, None), (ON_OBJECT, ON_OBJECT), (ON_SUPPORT, ON_SUPPORT)):
                box.addItem(text, role)
            box.setCurrentIndex(box.findData(roles.get(n)))
            box.activated.connect(lambda _, b=box, i=n: self._say(i, b.currentData()))
            out.setCellWidget(k, 2, box)
        return out

    def _say(self, number, role):
        if self.session.may_write():
            self.session.do(lambda: self.session.job.set_target_roles([number], role))

    def _changed(self):
        for b in self.tintings.buttons():
            b.setChecked(b.property("look") == self.work.look)
        f, unit = self.work.figures(), self.found.unit
        if self.work.busy:
            self.apart.setText("Measuring …")
        elif self.work.look == DISTANCE and f:
            told = f"{100 * f['overlap']:.0f} % of the points have the other sitting near them"
            if "median" in f:
                told += f"; they lie {f['median']:.2g} {unit} apart in the median, 95 % within {f['p95']:.2g} {unit}"
            self.apart.setText(f"{told}.".replace(" .", "."))
        else:
            self.apart.setText("")
        self.apart.setVisible(bool(self.apart.text()))
