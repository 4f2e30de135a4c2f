"""The bench of the Scale stage: known lengths, level, marked points, measurements, one at a time."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...actions.leveling import change_level, level_by_mat, level_by_patch, level_text, mat_numbers, origin_at
from ...core.measure.datum import SURE
from ...job.lengths import CHECK, OFF, SCALE
from ...sitting.frames import end_text, frame_of, level_of, scale_result, turntable_of
from .. import tokens as t
from ..plain import Label
from .markedpoints import cell, table

ROLE_WORDS = {SCALE: "scale", CHECK: "check", OFF: "off"}


class LengthsPanel(QWidget):
    """Known lengths with what the adjustment says of each."""

    def __init__(self, session):
        super().__init__()
        self.session = session
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.table = table(("Ends", "mm", "off", "σ", "for"))
        self.table.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.table.customContextMenuRequested.connect(self._menu)
        self.table.itemSelectionChanged.connect(self._chosen)
        column.addWidget(self.table)
        self.told = Label(objectName="quiet")
        self.told.setWordWrap(True)
        column.addWidget(self.told)
        row = QHBoxLayout()
        self.role = QToolButton(text="Use it for", popupMode=QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self.role)
        for role, words in ((SCALE, "Setting the scale"), (CHECK, "Checking it"), (OFF, "Nothing")):
            menu.addAction(words, lambda r=role: self._set_role(r))
        menu.addSeparator()
        menu.addAction("Forget it", self._remove)
        self.role.setMenu(menu)
        row.addWidget(self.role)
        row.addStretch(1)
        column.addLayout(row)
        column.addWidget(Label("State a length", objectName="plain"))
        grid = QGridLayout()
        grid.setSpacing(4)
        self.first, self.second = self._end_box(), self._end_box()
        for k, (box, name) in enumerate(((self.first, "from"), (self.second, "to"))):
            grid.addWidget(Label(name, objectName="quiet"), k, 0)
            box.setAccessibleName(f"Length {name}")
            grid.addWidget(box, k, 1)
            pick = QToolButton()
            pick.setIcon(t.icon("crosshairs"))
            pick.setToolTip("Click it in the scene or the photo")
            pick.clicked.connect(
                lambda _, b=box: session.measuring.want("one end of the length", lambda e: self._take(b, e))
            )
            grid.addWidget(pick, k, 2)
        self.value = QLineEdit()
        self.value.setPlaceholderText("length, mm")
        self.sigma = QDoubleSpinBox(minimum=0.001, maximum=100, decimals=3, value=0.05, singleStep=0.01, prefix="± ")
        self.sigma.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        self.sigma.setFixedWidth(72)
        self.sigma.setToolTip("Its standard deviation in mm: of a certified bar some 0.01, of a steel rule some 0.2")
        self.what = QComboBox()
        self.what.setAccessibleName("What the length is for")
        self.what.addItem("scale", SCALE)
        self.what.addItem("check", CHECK)
        more = QHBoxLayout()
        more.setSpacing(4)
        more.addWidget(self.value, 1)
        more.addWidget(self.sigma)
        more.addWidget(self.what)
        grid.addLayout(more, 2, 0, 1, 3)
        column.addLayout(grid)
        add = QPushButton("State it")
        add.clicked.connect(self._add)
        self.value.returnPressed.connect(self._add)
        column.addWidget(add)
        session.document_changed.connect(self.reload)
        self.reload()

    def _end_box(self):
        box = QComboBox(editable=True)
        box.lineEdit().setPlaceholderText("target or point")
        return box

    def _take(self, box, end):
        if isinstance(end, dict):
            self.session.said.emit("A length needs targets or marked points as ends: mark a point there.", "bad")
            return
        s = self.session
        box.setCurrentText(s.job.end_names(s.sitting_id).get(end, end))

    # ------------------------------------------------------------------ contents
    def _rows(self):
        """Lengths as stated, and those recognized: (id or None, first, second, value, sigma, role, figures)."""
        s = self.session
        done = scale_result(s.job, s.sitting)
        of = {frozenset((r.first, r.second)): r for r in done.figures.lengths} if done else {}
        out, stated = [], set()
        for k in s.job.lengths(s.sitting_id):
            key = frozenset((k.first, k.second))
            stated.add(key)
            r = of.get(key)
            same = r and r.role == k.role and r.value == k.value_mm and r.sigma == k.sigma_mm
            out.append((k.id, k.first, k.second, k.value_mm, k.sigma_mm, k.role, r if same else None))
        for key, r in of.items():
            if r.source == "sheet" and key not in stated:
                out.append((None, r.first, r.second, r.value, r.sigma, r.role, r))
        return out, bool(done and done.figures.scaled)

    def reload(self):
        """Take lengths anew."""
        s = self.session
        if s.sitting is None:
            return
        rows, scaled = self._rows()
        self.rows, self.names = rows, s.job.end_names(s.sitting_id)
        self.table.setRowCount(len(rows))
        for k, (_, first, second, value, _sd, role, r) in enumerate(rows):
            off = (r.residual if role == SCALE else r.error) if r and scaled else None
            sigmas = r.sigmas if r and scaled else None
            bad = r and (r.left_out or (sigmas is not None and abs(sigmas) > SURE))
            tint = t.STATE_COLORS["look"] if bad else t.QUIET if role == OFF else None
            word = "left out" if r and r.left_out else ROLE_WORDS[role]
            tip = self._tip(first, second, value, r, scaled)
            ends = f"{self._name(first)} {self._name(second)}"
            for c, (text, right) in enumerate(
                (
                    (ends, False), (f"{value:g}", True), ("-" if off is None else f"{off:+.3f}", True),
                    ("-" if sigmas is None else f"{sigmas:+.1f}", True), (word, False),
                )
            ):  # fmt: skip
                self.table.setItem(k, c, cell(text, k, right, tint, tip))
        ends = self._known_ends()
        for box in (self.first, self.second):
            text = box.currentText()
            if [box.itemText(i) for i in range(box.count())] != ends:
                box.clear()
                box.addItems(ends)
                box.setCurrentText(text)
        if not rows:
            self.told.setText(
                "No length is known yet. State two lengths or more, and others as checks; bars printed from the sheets "
                "are recognized when Scale runs."
            )
        else:
            self._chosen()

    def _name(self, end):
        return self.names.get(end, end)

    def _tip(self, first, second, value, r, scaled):
        told = f"{end_text(first, self.names)} to {end_text(second, self.names)}: {value:g} mm"
        if r and scaled:
            told += f", measured {r.length:.4f} mm"
            if r.source == "sheet":
                told += "; a bar of a printed sheet"
        return told

    def _chosen(self):
        row = self._row()
        if row is None:
            return
        _, first, second, value, sigma, _, r = row
        told = f"{end_text(first, self.names)} to {end_text(second, self.names)}: {value:g} ± {sigma:g} mm"
        if r and r.length and frame_of(self.session.job, self.session.sitting).scaled:
            told += f" stated, {r.length:.4f} mm measured"
            if r.half95:
                told += f", {r.error:+.4f} ± {r.half95:.4f} mm off"
            elif r.part is not None and r.part < 0.05:
                told += "; nothing checks it"
        self.told.setText(told + ".")

    def _row(self):
        chosen = self.table.selectionModel().selectedRows()
        k = chosen[0].row() if chosen else 0
        return self.rows[k] if k < len(self.rows) else None

    def _known_ends(self):
        s = self.session
        names = [p.name for p in s.marking.points if p.used]
        b = s.block
        numbers = [str(n) for n in b.targets] if b is not None else []
        return ["", *names, *numbers]

    # ------------------------------------------------------------------ doing
    def _menu(self, pos):
        self.role.menu().exec(self.table.viewport().mapToGlobal(pos))

    def _set_role(self, role):
        row, s = self._row(), self.session
        if row is None or not s.may_write():
            return
        i, first, second, value, sigma, *_ = row
        if i is None:  # of a sheet: stated from now on
            s.do(lambda: s.job.add_length(s.sitting_id, first, second, value, sigma, role))
        else:
            s.do(lambda: s.job.set_length(i, role=role))

    def _remove(self):
        row, s = self._row(), self.session
        if row and row[0] is not None and s.may_write():
            s.do(lambda: s.job.remove_length(row[0]))
        elif row:
            s.said.emit(
                "It is of a printed sheet: let it be for nothing, or switch the sheets' bars off above.", "note"
            )

    def _add(self):
        s = self.session
        if not s.may_write():
            return
        first, second = self.first.currentText().strip(), self.second.currentText().strip()
        text = self.value.text().strip().replace(",", ".")
        known = self._known_ends()
        wrong = [e for e in (first, second) if e not in known or not e]
        if wrong:
            told = f"“{wrong[0]}” is no target of the block and no marked point." if wrong[0] else "Choose both ends."
            s.said.emit(told, "bad")
            return
        try:
            value = float(text.removesuffix("mm"))
        except ValueError:
            s.said.emit(f"“{self.value.text()}” is no length in mm.", "bad")
            return
        made = s.do(
            lambda: s.job.add_length(s.sitting_id, first, second, value, self.sigma.value(), self.what.currentData())
        )
        if made:
            self.value.clear()
            s.said.emit("Stated. Run Scale to adjust to it.", "good")


class LevelPanel(QWidget):
    """Ways to stand the object up."""

    def __init__(self, session):
        super().__init__()
        self.session = session
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.told = Label()
        self.told.setWordWrap(True)
        column.addWidget(self.told)
        column.addWidget(Label("What is up", objectName="plain"))
        grid = QGridLayout()
        grid.setSpacing(4)
        s = session
        self.buttons = {}
        for k, (text, tip, act) in enumerate(
            (
                ("Mat", "The targets of the printed mat lie level", lambda: level_by_mat(s.job, s.sitting)),
                ("Turntable", "The axis of the turntable stands upright",
                 lambda: change_level(s.job, s.sitting, up={"axis": "turntable"})),
                ("Keep box", "The keep box stands upright", lambda: change_level(s.job, s.sitting, up={"box": True})),
                ("As solved", "The photos' upward side is up", lambda: s.job.set_level(s.sitting_id, None)),
            )
        ):  # fmt: skip
            b = QPushButton(text)
            b.setToolTip(tip)
            b.clicked.connect(lambda _, a=act: self._do(a))
            self.buttons[text] = b
            grid.addWidget(b, k // 2, k % 2)
        for k, (text, tip, act) in enumerate(
            (
                (
                    "Three points…",
                    "Click three or more targets or marked points that lie level, then Enter",
                    self._points,
                ),
                ("Patch…", "Click a flat spot of the cloud that lies level", self._patch),
                ("x along…", "Click two targets or points: from the first to the second is x", self._along),
                ("Origin…", "Click what is zero", self._origin),
            )
        ):
            b = QPushButton(text)
            b.setToolTip(tip)
            b.clicked.connect(lambda _, a=act: a())
            grid.addWidget(b, 2 + k // 2, k % 2)
        box = QPushButton("Origin under the box")
        box.setToolTip("Zero is the middle of the keep box's lower side")
        box.clicked.connect(lambda: self._do(lambda: change_level(s.job, s.sitting, "set the origin", origin="box")))
        grid.addWidget(box, 4, 0)
        turn = QPushButton("Turn by hand")
        turn.setToolTip("Turn the object by rings in the scene  (Shift+U)")
        turn.clicked.connect(lambda: s.turning_wanted.emit())
        grid.addWidget(turn, 4, 1)
        column.addLayout(grid)
        self.ends = []
        session.document_changed.connect(self.reload)
        session.measuring.changed.connect(self.reload)
        self.reload()

    def reload(self):
        """Say how it stands."""
        s = self.session
        if s.sitting is None:
            return
        frame = frame_of(s.job, s.sitting)
        problem = frame.problem
        text = level_text(level_of(s.job, s.sitting), s.job.end_names(s.sitting_id))
        if frame.framed and not problem:
            text = "as its known coordinates say"
        self.told.setText(f"It stands {text}." if text.startswith("as") else f"{text[0].upper()}{text[1:]}.")
        if problem:
            self.told.setText(f"{self.told.text()} {problem}")
        block = s.block
        self.buttons["Mat"].setEnabled(block is not None and len(mat_numbers(block)) >= 3)
        self.buttons["Turntable"].setEnabled(turntable_of(s.job, s.sitting) is not None)

    def _do(self, act):
        s = self.session
        if s.may_write():
            s.do(act)

    def _points(self):
        self.ends = []
        self._want_point()

    def _want_point(self):
        n = len(self.ends)
        what = "a target or marked point that lies level" if n == 0 else "another one"
        self.session.measuring.want(f"{what} ({n} so far)", self._got_point)

    def _got_point(self, end):
        if isinstance(end, dict):
            self.session.said.emit("That is no target and no marked point: mark a point there first.", "bad")
            return
        if end not in self.ends:
            self.ends.append(end)
        s = self.session
        if len(self.ends) >= 3:
            ends = list(self.ends)
            self._do(lambda: change_level(s.job, s.sitting, "level by points", up={"ends": ends}))
        if len(self.ends) < 12:
            self._want_point()

    def _patch(self):
        s = self.session

        def got(end):
            X = s.measuring.place_of(end)
            if not isinstance(end, dict) or X is None:
                s.said.emit("Click a spot of the cloud.", "bad")
                return
            s.with_cloud(lambda cloud: self._do(lambda: level_by_patch(s.job, s.sitting, X, cloud)))

        s.measuring.want("a flat spot of the cloud that lies level", got)

    def _along(self):
        s = self.session

        def first(a):
            s.measuring.want("the second end of x", lambda b: second(a, b))

        def second(a, b):
            if isinstance(a, dict) or isinstance(b, dict):
                s.said.emit("x needs two targets or marked points.", "bad")
                return
            self._do(lambda: change_level(s.job, s.sitting, "set x", along=[a, b]))

        s.measuring.want("where x begins", first)

    def _origin(self):
        s = self.session

        def got(end):
            if isinstance(end, dict):
                self._do(lambda: origin_at(s.job, s.sitting, s.measuring.place_of(end)))
            else:
                self._do(lambda: change_level(s.job, s.sitting, "set the origin", origin=end))

        s.measuring.want("what is zero", got)
