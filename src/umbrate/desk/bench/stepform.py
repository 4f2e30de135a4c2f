"""What benches of steps have in common: editors for the values of a step, and the list of steps that were done."""

from PyQt6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ..dialogs.writing import ask_file, beside, write_now
from ..plain import Label
from .markedpoints import cell, fit_rows, table


def value_form(step, unit, changed, pick=None):
    """A form for the values of a Filter, and its editors by the names of the values.

    unit : of lengths
    changed : called when a value is another one
    pick : callable(editor), optional
        Called where somebody wants to pick a color.
    """
    body, editors = QWidget(), {}
    form = QFormLayout(body)
    form.setContentsMargins(0, 0, 0, 0)
    form.setSpacing(4)
    for v in step.values:
        told = {"length": unit, "x spacing": "× spacing", "x edge": "× edge"}.get(v.unit, v.unit)
        if v.choices:
            e = QComboBox()
            for value, title in v.choices:
                e.addItem(title, value)
            e.setCurrentIndex(e.findData(v.default))
            e.activated.connect(lambda _: changed())
            form.addRow(Label(v.title), e)
        elif v.low is None:
            e = QLineEdit(v.default)
            e.editingFinished.connect(changed)
            form.addRow(Label(v.title), _with_pick(e, pick) if pick and v.name == "color" else e)
        else:
            whole = isinstance(v.default, int)
            e = QDoubleSpinBox(minimum=v.low, maximum=v.high, decimals=0 if whole else 3, value=v.default)
            e.setSuffix(f" {told}" if told else "")
            e.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)  # arrow keys and the wheel do the same
            e.setSingleStep(1 if whole else max(abs(v.default) * 0.1, 0.001))
            e.valueChanged.connect(lambda _: changed())
            form.addRow(Label(v.title), e)
        e.setAccessibleName(v.title)
        editors[v.name] = e
    return body, editors


def _with_pick(editor, pick):
    button = QToolButton(text="Pick…")
    button.setToolTip("Click the color in the photo; or write it, #RRGGBB")
    button.clicked.connect(lambda: pick(editor))
    line = QWidget()
    row = QHBoxLayout(line)
    row.setContentsMargins(0, 0, 0, 0)
    row.addWidget(editor)
    row.addWidget(button)
    return line


def values_in(editors):
    """The values by name that editors of a form hold."""
    out = {}
    for name, e in editors.items():
        if isinstance(e, QComboBox):
            out[name] = e.currentData()
        elif isinstance(e, QLineEdit):
            out[name] = e.text()
        else:
            out[name] = int(e.value()) if e.decimals() == 0 else e.value()
    return out


def save_steps(parent, session, book, kept, word):
    """Ask for a file and write the steps of one into it; word : what they did, as in its name."""
    file = ask_file(parent, f"Save the {word} steps", beside(session.job, f"-{word}.json"), "Steps (*.json)")
    if file:
        steps = [x.step for x in kept.steps]
        write_now(
            session, parent, lambda gate: book.write(file, steps, gate) or True,
            lambda _: f"Wrote {len(steps)} steps to {file}.",
        )  # fmt: skip


class StepList(QWidget):
    """The steps that were done, and the button that takes one back.

    texts : callable(Step) -> (text, tip)
    """

    def __init__(self, work, title, texts):
        super().__init__()
        self.work, self.texts = work, texts
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.table = table((title, "Gone"))
        column.addWidget(self.table)
        self.back = QPushButton("Take this step back")
        self.back.setToolTip("Those after it are done again")
        self.back.clicked.connect(self._back)
        column.addWidget(self.back)

    def reload(self):
        """Take the steps anew."""
        kept = self.work.kept
        steps = kept.steps if kept else ()
        self.table.setRowCount(len(steps))
        for k, x in enumerate(steps):
            text, tip = self.texts(x)
            self.table.setItem(k, 0, cell(text, k, tip=tip))
            self.table.setItem(k, 1, cell(f"{x.removed:,}", k, right=True))
        fit_rows(self.table)
        self.setVisible(bool(steps))

    def selectRow(self, row):
        """Choose a step."""
        self.table.selectRow(row)

    def _back(self):
        rows = self.table.selectionModel().selectedRows()
        self.work.take_back(rows[0].row() if rows else len(self.work.kept.steps) - 1)
