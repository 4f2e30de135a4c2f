"""What goes into a file of a cloud or a surface, and how coordinates lie there; remembered for the next one."""

import json

from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QCheckBox, QComboBox, QDialog, QFormLayout, QVBoxLayout

from ...core.errors import UmbrateError
from ...formats.laying import CLOUD_PARTS, ORIGINS, UNITS, UPS, Laying
from ..plain import Label
from .buttons import accept_or_cancel

KINDS = {"cloud": ("ply", "las", "laz", "e57", "xyz", "csv"), "surface": ("ply", "obj", "stl")}
PARTS = {
    "normals": "Normals",
    "colors": "Colors",
    "confidence": "How sure each place is",
    "photos": "How many photos saw it",
}
IN_METERS = ("las", "laz", "e57")


class ExportDialog(QDialog):
    """Asks for the kind of file, its parts, unit, zero and axes.

    what : "cloud" or "surface"
    scaled : whether lengths have a unit
    far : whether coordinates are far from zero
    """

    def __init__(self, what, scaled, far=False, parent=None):
        super().__init__(parent)
        self.what = what
        self.setWindowTitle(f"Export the {what}")
        form = QFormLayout()
        form.setSpacing(8)
        self.kind, self.unit, self.origin, self.up = (QComboBox() for _ in range(4))
        for k in KINDS[what]:
            self.kind.addItem(f".{k}", k)
        for u in UNITS:
            self.unit.addItem(u, u)
        for o, told in ORIGINS.items():
            self.origin.addItem(told, o)
        for u in UPS:
            self.up.addItem(f"{u} is up", u)
        self.parts = {p: QCheckBox(title, checked=True) for p, title in PARTS.items()}
        self.text = QCheckBox("As text, not binary")
        self.shift = QCheckBox("Offset in the header, single precision")
        has = [("Has" if k == 0 else "", w) for k, w in enumerate(self.parts.values())]
        for title, w in (
            ("File", self.kind), *has, ("", self.text), ("", self.shift), ("Unit", self.unit), ("Zero", self.origin),
            ("Axes", self.up),
        ):  # fmt: skip
            label = Label(title)
            label.setBuddy(w)
            form.addRow(label, w)
        self.shift.setVisible(far)
        self.scaled = scaled
        self.told = Label(objectName="quiet")
        self.told.setWordWrap(True)
        self.told.setMinimumWidth(320)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 16, 16, 16)
        box.setSpacing(12)
        box.addLayout(form)
        box.addWidget(self.told)
        box.addWidget(accept_or_cancel(self, "Choose the file…"))
        self._recall()
        self.kind.currentIndexChanged.connect(self._fit)
        self._fit()

    def _fit(self):
        kind = self.ending
        self.text.setEnabled(kind == "ply")
        self.shift.setEnabled(kind == "ply")
        for w in self.parts.values():
            w.setEnabled(kind != "stl")
        fixed = kind in IN_METERS
        self.unit.setEnabled(self.scaled and not fixed)
        told = ["STL knows places alone."] if kind == "stl" else []
        if fixed:
            told.append("This kind of file is in meters by definition.")
        if not self.scaled:
            told.append("The job has no scale: lengths are relative.")
        self.told.setText(" ".join(told))

    @property
    def ending(self):
        """The file's ending."""
        return self.kind.currentData()

    def laying(self):
        """The Laying that is chosen."""
        return Laying(
            tuple(p for p in CLOUD_PARTS if not self.parts[p].isChecked()), self.text.isChecked(),
            self.shift.isChecked() and self.shift.isVisibleTo(self), self.unit.currentData(),
            self.origin.currentData(), self.up.currentData(),
        )  # fmt: skip

    def accept(self):
        """Remember what was chosen."""
        chosen = self.laying()
        told = {"ending": self.ending, **vars(chosen), "without": list(chosen.without)}
        QSettings("umbrate", "umbrate").setValue(f"export/{self.what}", json.dumps(told))
        super().accept()

    def _recall(self):
        try:
            told = json.loads(QSettings("umbrate", "umbrate").value(f"export/{self.what}", "") or "{}")
            ending = told.pop("ending", self.ending)
            was = Laying(**{**told, "without": tuple(told.get("without", ()))})
        except (ValueError, TypeError, UmbrateError):
            return  # of another version
        for box, value in ((self.kind, ending), (self.unit, was.unit), (self.origin, was.origin), (self.up, was.up)):
            box.setCurrentIndex(max(box.findData(value), 0))
        for p, w in self.parts.items():
            w.setChecked(p not in was.without)
        self.text.setChecked(was.text)
        self.shift.setChecked(was.shift)
