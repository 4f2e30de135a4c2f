"""The shelf of lens cards, and printing target sheets."""

from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QDialog,
    QDoubleSpinBox,
    QFormLayout,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QSpinBox,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
)

from ...core.errors import UmbrateError
from ...core.names import file_name
from ...core.targets import sheets
from ...formats.files import CLOSED
from ...formats.lenscards import damaged_cards, put_on_shelf, read_card, shelf, take_off_shelf, write_card
from ...work.printed import next_number, remember_printed
from .. import tokens as t
from ..plain import Label, set_tone
from .asking import open_file
from .buttons import accept_or_cancel
from .writing import ask_file, through_gate

KINDS = {
    "calibration": "Calibration sheets (4 pages)",
    "loose": "Targets to cut out",
    "small": "Small targets for the object",
    "mat": "Turntable mat",
    "bars": "Scale bars",
}


class ShelfDialog(QDialog):
    """All lens cards of the user."""

    HEADS = ("Card", "Camera and lens", "Picture", "Focal length", "Date", "Photos", "Residual")

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setWindowTitle("Lens cards")
        self.resize(900, 420)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 16, 16, 16)
        box.setSpacing(8)
        about = Label(
            "A card is a stored calibration of one camera and lens at one focus setting. New photos are matched to a "
            "card by what their files say; the Lens stage shows which one it took.",
            objectName="quiet",
        )
        about.setWordWrap(True)
        box.addWidget(about)
        self.table = QTableWidget(0, len(self.HEADS))
        self.table.setHorizontalHeaderLabels(self.HEADS)
        self.table.verticalHeader().hide()
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.horizontalHeader().setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        self.table.itemSelectionChanged.connect(self._chosen)
        box.addWidget(self.table, 1)
        self.details = Label(objectName="quiet")
        self.details.setWordWrap(True)
        box.addWidget(self.details)
        row = QHBoxLayout()
        self.trouble = Label()
        set_tone(self.trouble, "bad")
        self.bring, self.write, self.remove = QPushButton("Import…"), QPushButton("Export…"), QPushButton("Remove")
        for b, act in ((self.bring, self._import), (self.write, self._export), (self.remove, self._remove)):
            b.clicked.connect(lambda _, a=act: self._try(a))
            row.addWidget(b)
        row.addWidget(self.trouble, 1)
        close = QPushButton("Close")
        close.clicked.connect(self.accept)
        row.addWidget(close)
        box.addLayout(row)
        self._fill()

    def _fill(self):
        self.cards, self.damaged = shelf(), damaged_cards()
        self.table.setRowCount(len(self.cards) + len(self.damaged))
        for r, (file, why) in enumerate(self.damaged, len(self.cards)):
            for k, text in enumerate((file.name, "no lens card, or damaged", *[""] * (len(self.HEADS) - 2))):
                item = QTableWidgetItem(text)
                item.setToolTip(why)
                item.setForeground(t.color(t.STATE_COLORS["look"]))
                self.table.setItem(r, k, item)
        for r, (_, c) in enumerate(self.cards):
            focal = f"{c.focal_mm:g} mm, {c.lens.f:.1f} px" if c.focal_mm else f"{c.lens.f:.1f} px"
            camera = ", ".join(x for x in (c.camera, c.lens_name) if x) or "unknown"
            texts = (
                c.name, camera, f"{c.lens.width} x {c.lens.height}", focal, c.date, str(c.photos), f"{c.rms_px:.3f} px",
            )  # fmt: skip
            for k, text in enumerate(texts):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                self.table.setItem(r, k, item)
        self.table.resizeColumnsToContents()
        self.table.horizontalHeader().setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        if self.cards or self.damaged:
            self.table.selectRow(0)
        self._chosen()

    def chosen(self):
        """(file, LensCard) of the chosen row, or None; of a damaged file, (file, None)."""
        rows = {i.row() for i in self.table.selectedIndexes()}
        every = [*self.cards, *((file, None) for file, _ in self.damaged)]
        return every[min(rows)] if rows else None

    def _chosen(self):
        found = self.chosen()
        for b in (self.write, self.remove):
            b.setEnabled(found is not None and (found[1] is not None or b is self.remove))
        if found is None:
            self.details.setText("The shelf is empty. Run Lens on photos of calibration sheets, then keep the result.")
            return
        file, c = found
        if c is None:
            self.details.setText(f"{dict(self.damaged)[file]} It is passed over until it is removed.")
            return
        names = ("k1", "k2", "k3", "p1", "p2")
        values = dict(zip(names, (*c.lens.k, *c.lens.p), strict=True))
        sd = lambda n: f" ± {c.sigma[n]:.2g}" if n in c.sigma else ""  # noqa: E731
        told = [
            f"f {c.lens.f:.2f}{sd('f')} px",
            f"principal point {c.lens.cx:.2f}{sd('cx')}, {c.lens.cy:.2f}{sd('cy')} px",
            *(f"{n} {values[n]:.5f}{sd(n)}" for n in names if values[n]),
        ]
        self.details.setText(",  ".join(told) + ("\n" + " ".join(c.notes) if c.notes else ""))

    def _try(self, act):
        self.trouble.setText("")
        try:
            act()
        except UmbrateError as e:
            self.trouble.setText(str(e))

    def _import(self):
        file = open_file(self, "A lens card", "Lens cards (*.json)")
        if file:
            card = read_card(file)
            if through_gate(None, self, lambda gate: put_on_shelf(card, gate.replace)):
                self._fill()

    def _export(self):
        card = self.chosen()[1]
        place = ask_file(self, "Export the lens card", f"{file_name(card.name)}.json", "Lens cards (*.json)")
        if place:
            through_gate(None, self, lambda gate: write_card(place, card, gate))

    def _remove(self):
        take_off_shelf(self.chosen()[0])
        self._fill()


class SheetsDialog(QDialog):
    """Which target sheets to print."""

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setWindowTitle("Print target sheets")
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 16, 16, 16)
        box.setSpacing(8)
        form = QFormLayout()
        self.kind, self.paper = QComboBox(), QComboBox()
        for k, v in KINDS.items():
            self.kind.addItem(v, k)
        self.paper.addItems(list(sheets.PAPERS))
        self.dot = QDoubleSpinBox(minimum=1.0, maximum=40.0, value=6.0, singleStep=0.5, suffix=" mm", decimals=1)
        self.hole = QDoubleSpinBox(minimum=0.0, maximum=300.0, value=40.0, singleStep=5.0, suffix=" mm", decimals=0)
        self.dots = QLineEdit("1.5, 2, 3")
        self.dots.setToolTip("Diameters of the dots in mm, with commas between")
        self.length = QDoubleSpinBox(minimum=0.0, maximum=1000.0, value=0.0, singleStep=50.0, suffix=" mm", decimals=0)
        self.length.setSpecialValueText("as long as the paper holds")
        self.first = QSpinBox(minimum=sheets.OBJECT.start, maximum=sheets.COUNT - 1, value=next_number())
        self.first.setToolTip("Those before it you have printed: two targets of one number would be taken for one")
        self.rows = {}
        for name, w, kinds in (
            ("Sheet", self.kind, KINDS), ("Paper", self.paper, KINDS), ("Dots", self.dot, ("loose", "mat", "bars")),
            ("Dots, mm", self.dots, ("small",)), ("Hole", self.hole, ("mat",)), ("Longest", self.length, ("bars",)),
            ("First number", self.first, ("loose",)),
        ):  # fmt: skip
            label = Label(name)
            label.setBuddy(w)
            w.setAccessibleName(name)
            form.addRow(label, w)
            self.rows[w] = (label, kinds)
        box.addLayout(form)
        self.note = Label(objectName="quiet")
        self.note.setWordWrap(True)
        self.note.setMinimumWidth(360)
        box.addWidget(self.note)
        box.addWidget(accept_or_cancel(self, "Save as PDF…"))
        self.kind.currentIndexChanged.connect(self._fit)
        self._fit()

    def _fit(self):
        kind = self.kind.currentData()
        for w, (label, kinds) in self.rows.items():
            w.setVisible(kind in kinds)
            label.setVisible(kind in kinds)
        self.note.setText(
            {
                "calibration": "Lay the four sheets out side by side, one of them raised by some 10 cm. Lock the focus "
                "and take eight photos at a slant from four sides, half of them with the camera turned by 90 degrees, "
                "so that targets reach all corners of the picture.",
                "loose": "Stick them on or beside the object. A dot should be 14 pixels across or more in the photos.",
                "small": "Dots of 1.5, 2 and 3 mm, for the object itself.",
                "mat": "Lies on the turntable, under the object, and turns with it.",
                "bars": "Cut them apart and lay them beside the object: they carry known lengths.",
            }[kind]
            + " Print at 100 % and check the ruler."
        )

    def write(self, path, gate=CLOSED):
        """Write the chosen sheets; returns how many pages."""
        kind, paper = self.kind.currentData(), self.paper.currentText()
        diameters = (self.dot.value(),) if kind in self.rows[self.dot][1] else ()
        if kind == "small":
            try:
                diameters = tuple(float(x) for x in self.dots.text().replace(";", ",").split(",") if x.strip())
            except ValueError:
                raise UmbrateError(f"“{self.dots.text()}” are no diameters: write 1.5, 2, 3.") from None
        made = sheets.make(kind, paper, diameters, self.hole.value(), self.first.value(), self.length.value() or None)
        from ...formats.sheets import write_sheets  # which takes a library that nothing else needs

        write_sheets(path, made, gate)
        remember_printed(made)
        return len(made)
