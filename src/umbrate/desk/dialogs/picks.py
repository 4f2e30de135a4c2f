"""The same places picked in two sittings, side by side: in their clouds, or in their photos."""

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QDialog, QHBoxLayout, QPushButton, QVBoxLayout

from ...actions.overlay import picks_told, predicted
from ...job.marks import mark_of
from ...sitting.members import members_of
from ...sitting.picks import pick_places
from ..bench.markedpoints import cell, table
from ..plain import Label
from .pickview import PickView


class PicksDialog(QDialog):
    """Two sittings of a joined row side by side, and the picks that both have with their residuals."""

    def __init__(self, session, parent=None):
        super().__init__(parent)
        self.setWindowTitle("The same places in both sittings")
        self.session, self.row = session, session.sitting
        self.changed = False
        self.members = members_of(session.job, self.row)
        self.active = None  #: id of the pick that the next click moves
        self.open = None  #: a new pick's place: (member position, place, what is kept)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 12, 16, 12)
        box.setSpacing(8)
        self.hint = Label(objectName="plain")
        box.addWidget(self.hint)
        sides = QHBoxLayout()
        sides.setSpacing(8)
        self.views, self.which, self.place = [None, None], [], []
        for k in range(2):
            column = QVBoxLayout()
            head = QHBoxLayout()
            who = QComboBox()
            for s in self.members:
                who.addItem(s.name, s.id)
            who.setCurrentIndex(k)
            who.activated.connect(lambda _, i=k: self._show_member(i))
            what = QComboBox()
            what.activated.connect(lambda _, i=k: self._show_what(i))
            head.addWidget(who)
            head.addWidget(what, 1)
            column.addLayout(head)
            holder = QVBoxLayout()
            column.addLayout(holder, 1)
            self.which.append((who, what))
            self.place.append(holder)
            sides.addLayout(column, 1)
        box.addLayout(sides, 1)
        low = QHBoxLayout()
        self.list = table(("Pick", "Left", "Right", "Off"), stretch=2)
        self.list.itemSelectionChanged.connect(self._choose)
        low.addWidget(self.list, 1)
        buttons = QVBoxLayout()
        for text, tip, act in (
            ("Switch on or off", "A pick that is off is not used", self._switch),
            ("Remove", "Take the chosen pick away  (Del)", self._remove),
            ("Done", "Join again with these picks", self.accept),
        ):
            b = QPushButton(text)
            b.setToolTip(tip)
            b.setAutoDefault(False)
            b.clicked.connect(lambda _, a=act: a())
            buttons.addWidget(b)
        b.setObjectName("next")
        buttons.addStretch(1)
        low.addLayout(buttons)
        box.addLayout(low)
        self.resize(1120, 720)
        for k in range(2):
            self._show_member(k)
        self._fill()

    def join(self):
        """Show it, and join again where picks were changed."""
        self.exec()
        if self.changed:
            self.session.changed()
            self.session.run([(self.row.id, "join")])

    # ------------------------------------------------------------------ the two sides
    def _show_member(self, k):
        who, what = self.which[k]
        sitting = self.members[who.currentIndex()]
        view = PickView(self.session, sitting)
        view.picked.connect(lambda X, kept, i=k: self._picked(i, X, kept))
        if self.views[k] is not None:
            self.place[k].removeWidget(self.views[k])
            self.views[k].deleteLater()
        self.views[k] = view
        self.place[k].addWidget(view, 1)
        what.clear()
        dense = self.session.job.cloud(sitting.id) is not None
        what.addItem("Its cloud" if dense else "Its tie points", None)
        names = {p.id: p.name for p in self.session.job.photos(sitting.id)}
        for pid, row in view.block.solved_rows.items():
            if pid in names:
                what.addItem(f"Photo {names[pid]}", row)
        self.open = None
        if self.views[1] is not None:
            self._fill()

    def _show_what(self, k):
        self.views[k].show_photo(self.which[k][1].currentData())

    def _ids(self):
        return [self.members[who.currentIndex()].id for who, _ in self.which]

    # ------------------------------------------------------------------ picks
    def _both(self):
        """Picks that both sides have: (id, name, left, right, used)."""
        a, b = self._ids()
        places = dict(pick_places(self.session.job, self.row))
        out = []
        for p in self.session.job.picks(self.row.id):
            if a in p.places and b in p.places:
                x = places.get(p.name, {})
                out.append((p, x.get(a), x.get(b)))
        return out

    def _used(self):
        return [(p.name, x, y) for p, x, y in self._both() if p.used and x is not None and y is not None]

    def _free(self):
        return not all(v.frame.scaled for v in self.views)

    def _picked(self, k, X, kept):
        s = self.session
        if not s.may_write():
            return
        a, b = self._ids()
        if a == b:
            self.hint.setText("Both sides show the same sitting: choose another one on one of them.")
            return
        mine = (a, b)[k]
        if self.active is not None:
            pick = next(p for p in s.job.picks(self.row.id) if p.id == self.active)
            places = {**pick.places, mine: kept}
            s.job.set_pick(self.active, places)
        elif self.open is None or self.open[0] == k:
            self.open = (k, X, kept)
            self._fill()
            return
        else:
            other = (a, b)[self.open[0]]
            s.job.add_pick(self.row.id, {other: self.open[2], mine: kept})
            self.open = None
        self.changed = True
        self._fill()

    def _point(self, side, end):
        return f"point {self.views[side].names.get(mark_of(end), 'that was removed')}"

    def _fill(self):
        """The table, the crosses, and what is to be done next."""
        both, used = self._both(), self._used()
        off, told = picks_told(used, self._free())
        far = {name: d for (name, _, _), d in zip(used, off, strict=True)}
        unit = self.views[1].frame.unit
        self.list.blockSignals(True)
        self.list.setRowCount(len(both))
        for r, (p, _, _) in enumerate(both):
            d = far.get(p.name)
            known = p.used and d is not None and np.isfinite(d)
            text = f"{d:.3f} {unit}".strip() if known else "–" if p.used else "off"
            self.list.setItem(r, 0, cell(p.name, p.id))
            for c, i in enumerate(self._ids(), 1):
                where = p.places[i]
                self.list.setItem(
                    r, c, cell(self._point(c - 1, where["mark"]) if "mark" in where else "on the surface")
                )
            self.list.setItem(r, 3, cell(text, right=True))
            if p.id == self.active:
                self.list.selectRow(r)
        if self.active is None:
            self.list.clearSelection()
        self.list.blockSignals(False)
        for k, view in enumerate(self.views):
            view.shown = [(p.name, x[k], p.id == self.active) for p, *x in both if x[k] is not None]
            view.guess = None
            if self.open is not None and self.open[0] == k:
                view.shown.append(("?", self.open[1], True))
            elif self.open is not None:
                pairs = used if self.open[0] == 0 else [(n, y, x) for n, x, y in used]
                view.guess = predicted(pairs, np.asarray(self.open[1], float), self._free())
            view.update()
        if self.active is not None:
            self.hint.setText("Click where the chosen pick belongs, on either side. Esc lets it go.")
        elif self.open is not None:
            where = "right" if self.open[0] == 0 else "left"
            near = ", near the dashed circle" if self.views[1 - self.open[0]].guess is not None else ""
            self.hint.setText(f"Now the same place on the {where}{near}.")
        else:
            self.hint.setText(told or "Click a place on the left, then the same on the right.")

    def _choose(self):
        row = self.list.currentRow()
        self.active = self.list.item(row, 0).data(Qt.ItemDataRole.UserRole) if row >= 0 else None
        self.open = None
        self._fill()

    def _switch(self):
        pick = next((p for p in self.session.job.picks(self.row.id) if p.id == self.active), None)
        if pick and self.session.may_write():
            self.session.job.set_pick(pick.id, used=not pick.used)
            self.changed = True
            self._fill()

    def _remove(self):
        if self.active is not None and self.session.may_write():
            self.session.job.remove_picks([self.active])
            self.active, self.changed = None, True
            self._fill()

    def keyPressEvent(self, e):
        if e.key() == Qt.Key.Key_Escape and (self.active is not None or self.open is not None):
            self.active = self.open = None
            self._fill()
        elif e.key() == Qt.Key.Key_Delete:
            self._remove()
        else:
            super().keyPressEvent(e)
