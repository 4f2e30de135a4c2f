"""The form of a stage's settings, made from their model: a short one, and the rest where it is unfolded."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFormLayout

from ..plain import Label
from .editors import make_editor


def values_of(job, sitting, stage):
    """The settings of a stage as the form shows them: those chosen, else the defaults."""
    chosen = job.settings(sitting.id, stage.name)
    return {n: chosen.get(n, f.default) for n, f in stage.Settings.model_fields.items()}


def fitting_fields(stage, sitting, values):
    """Names of the fields that count: some belong to one choice of another. First the short form's, then the rest."""
    fields = stage.Settings.model_fields
    extras = {n: f.json_schema_extra or {} for n, f in fields.items()}
    fitting = [
        n for n in fields if extras[n].get("form", True) and stage.counts(sitting, n) and _fits(extras[n], values)
    ]
    short = [n for n in fitting if extras[n].get("short")] or fitting
    return short, [n for n in fitting if n not in short]


def _fits(extra, values):
    """Whether a field counts beside the others' values: by its condition, or by its other one."""
    wanted = [extra.get("when", {}), *([extra["or"]] if "or" in extra else ())]
    return any(all(values[k] in v for k, v in w.items()) for w in wanted)


def settings_form(stage, names, values, chosen, change, pick_color, names_for=lambda setting: None):
    """The form of some fields, as a layout.

    chosen : what the user set, which stands out where it is not the default
    change : callable(name, value)
    names_for : callable(name) -> texts that a setting can name, or None
    """
    form = QFormLayout()
    form.setSpacing(6)
    form.setLabelAlignment(Qt.AlignmentFlag.AlignLeft)
    for n in names:
        f = stage.Settings.model_fields[n]
        label = Label(f.title)
        label.setToolTip(f.description)
        if n in chosen and chosen[n] != f.default:
            label.setObjectName("changed")
        editor = make_editor(n, f, values[n], change, pick_color, names_for(n))
        editor.setProperty("setting", n)
        editor.setAccessibleName(f.title)
        label.setBuddy(editor)
        form.addRow(label, editor)
    return form
