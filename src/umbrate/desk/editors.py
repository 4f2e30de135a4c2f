"""Widgets for settings, made from the description of each field in a stage's model."""

from typing import get_args

from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QSpinBox,
    QToolButton,
    QWidget,
)


def _bounds(field):
    low = high = None
    for m in field.metadata:
        low = getattr(m, "ge", low)
        high = getattr(m, "le", high)
    return low, high


def make_editor(name, field, value, changed):
    """A widget for one setting, from its description in the stage's model; `changed(name, value)` on edit."""
    extra = field.json_schema_extra or {}
    kind = field.annotation
    choices = get_args(kind)
    if choices:
        w = QComboBox()
        for c in choices:
            w.addItem(f"{extra.get('unit', '')}{c}" if c != 1 or "unit" not in extra else "full", c)
        w.setCurrentIndex(choices.index(value) if value in choices else 0)
        w.activated.connect(lambda _: changed(name, w.currentData()))
    elif kind is bool:
        w = QCheckBox()
        w.setChecked(value)
        w.toggled.connect(lambda on: changed(name, on))
    elif kind in (int, float):
        w = QSpinBox() if kind is int else QDoubleSpinBox()
        low, high = _bounds(field)
        w.setRange(low if low is not None else 0, high if high is not None else 1_000_000)
        w.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)  # arrow keys and the wheel do the same
        if kind is float:
            w.setDecimals(2)
            w.setSingleStep(0.05 if (high or 10) <= 1 else 0.1)
        w.setValue(value)
        if "unit" in extra:
            w.setSuffix(f" {extra['unit']}")
        # only when the user is through with typing: each change is a step of undo
        w.editingFinished.connect(lambda: changed(name, w.value()))
    elif extra.get("kind") == "folder":
        w = QWidget()
        row = QHBoxLayout(w)
        row.setContentsMargins(0, 0, 0, 0)
        line = QLineEdit(value)
        line.setPlaceholderText("no masks")
        line.editingFinished.connect(lambda: changed(name, line.text().strip()))
        pick = QToolButton(text="…")

        def choose():
            folder = QFileDialog.getExistingDirectory(w, field.title, line.text())
            if folder:
                line.setText(folder)
                changed(name, folder)

        pick.clicked.connect(choose)
        row.addWidget(line)
        row.addWidget(pick)
    else:
        w = QLineEdit(str(value))
        w.editingFinished.connect(lambda: changed(name, w.text()))
    default = field.default
    w.setToolTip(f"{field.description}\nDefault: {default if default != '' else 'empty'}")
    w.setAccessibleName(field.title)
    return w
