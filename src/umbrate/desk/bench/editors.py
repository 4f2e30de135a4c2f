"""Widgets for settings, made from the description of each field in a stage's model."""

from typing import get_args

from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QHBoxLayout,
    QLineEdit,
    QSizePolicy,
    QSpinBox,
    QToolButton,
    QWidget,
)

from ...formats.lenscards import shelf
from ...stages.base import choice_text
from .. import tokens as t
from ..dialogs.asking import ask_folder


def _bounds(field):
    low = high = None
    for m in field.metadata:
        low = getattr(m, "ge", low)
        high = getattr(m, "le", high)
    return low, high


def _line_with_button(text, hint, button, tip, changed):
    """A line to type in and a button beside it: (widget, line, button)."""
    w = QWidget()
    row = QHBoxLayout(w)
    row.setContentsMargins(0, 0, 0, 0)
    row.setSpacing(4)
    line = QLineEdit(text)
    line.setPlaceholderText(hint)
    line.editingFinished.connect(lambda: changed(line.text().strip()))
    button.setToolTip(tip)
    row.addWidget(line)
    row.addWidget(button)
    return w, line


def _folder_editor(field, value, changed):
    button = QToolButton(text="…")
    hint = (field.json_schema_extra or {}).get("empty", "none")
    w, line = _line_with_button(value, hint, button, "Choose the folder", changed)

    def choose():
        folder = ask_folder(w, field.title, start=line.text())
        if folder:
            line.setText(folder)
            changed(folder)

    button.clicked.connect(choose)
    return w


def _color_editor(value, several, changed, pick):
    button = QToolButton()
    button.setIcon(t.icon("eyedropper"))
    w, line = _line_with_button(value, "none", button, "Pick it in the photo", changed)

    def take(color):
        text = f"{line.text().strip().rstrip(',')}, {color}".lstrip(", ") if several else color
        line.setText(text)
        changed(text)

    button.clicked.connect(lambda: pick(take) if pick else None)
    button.setEnabled(pick is not None)
    return w


def _names_editor(none, names, value, changed):
    """Names to choose from, or `none` of them; one that is not there any more is still named."""
    w = QComboBox()
    w.addItem(none, "")
    for n in [*names, *([value] if value and value not in names else [])]:
        w.addItem(n, n)
    w.setCurrentIndex(max(0, w.findData(value)))
    w.activated.connect(lambda _: changed(w.currentData() or ""))
    return w


def make_editor(name, field, value, changed, pick=None, names=None):
    """A widget for one setting, from its description in the stage's model.

    changed : callable(name, value), called when the user has changed it
    pick : callable(callable(color)), optional; lets the user pick a color in the photo, as #RRGGBB
    names : texts it can name, optional
    """
    extra = field.json_schema_extra or {}
    kind, form = field.annotation, extra.get("kind")
    choices = get_args(kind)
    if choices:
        w = QComboBox()
        for c in choices:
            w.addItem(choice_text(c, extra), c)
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
        if "zero" in extra:
            w.setSpecialValueText(extra["zero"])  # what the least value means
        w.setValue(value)
        if "unit" in extra:
            w.setSuffix(f" {extra['unit']}")
        # only when the user is through with typing: each change is a step of undo
        w.editingFinished.connect(lambda: changed(name, w.value()))
    elif form == "folder":
        w = _folder_editor(field, value, lambda v: changed(name, v))
    elif form == "card":
        w = _names_editor("the newest that fits", [c.name for _, c in shelf()], value, lambda v: changed(name, v))
    elif names is not None:
        w = _names_editor(extra.get("empty", "none"), names, value, lambda v: changed(name, v))
    elif form in ("color", "colors"):
        w = _color_editor(value, form == "colors", lambda v: changed(name, v), pick)
    else:
        w = QLineEdit(str(value))
        w.setPlaceholderText((field.json_schema_extra or {}).get("empty", ""))
        w.editingFinished.connect(lambda: changed(name, w.text()))
    # the panel's width is fixed: long texts are cut off inside the field, not by the panel's edge
    w.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
    default = field.default
    w.setToolTip(f"{field.description}\nDefault: {default if default != '' else 'empty'}")
    w.setAccessibleName(field.title)
    return w
