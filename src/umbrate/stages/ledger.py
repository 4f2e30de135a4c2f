"""The ledger as people read it: rows for a table, and two runs side by side."""

import json

from ..formats.tables import TableWriter
from ..job.figures import read_figures
from . import BY_NAME, figures_of
from .base import value_text

HEADS = ("when", "sitting", "stage", "seconds", "outcome", "settings", "figures", "program", "message")
LONGEST = 20_000  #: characters of a cell of figures: spreadsheets cut longer ones


def write_rows(file, entries, first=()):
    """Write lines of a ledger as CSV into an open text file.

    first : (head, callable(entry)) of further columns that come first
    """
    table = TableWriter(file)
    table.writerow([*(h for h, _ in first), *HEADS])
    for e in entries:
        figures = json.dumps(e.figures, ensure_ascii=False)
        table.writerow([
            *(f(e) for _, f in first), e.when, e.sitting, e.stage, f"{e.seconds:.2f}", e.outcome,
            json.dumps(e.settings, ensure_ascii=False), figures if len(figures) < LONGEST else "", e.program, e.message,
        ])  # fmt: skip


def differing_settings(first, second):
    """Settings in which two runs of one stage differ: rows of title, first, second; [] of different stages."""
    stage = BY_NAME.get(first.stage)
    if stage is None or first.stage != second.stage:
        return []
    out = []
    for name in dict.fromkeys((*stage.Settings.model_fields, *first.settings, *second.settings)):
        a, b = (e.settings.get(name, _default(stage, name)) for e in (first, second))
        if a != b:
            field = stage.Settings.model_fields.get(name)
            texts = [told(stage, name, v) for v in (a, b)]
            out.append((field.title if field and field.title else name, *texts))
    return out


def told(stage, name, value):
    """A value of a setting as people read it, of settings that are no more, too."""
    return value_text(stage, name, value) if stage and name in stage.Settings.model_fields else str(value)


def _default(stage, name):
    field = stage.Settings.model_fields.get(name)
    return field.default if field else None


def figures_beside(first, second):
    """Figures of two runs side by side: rows of title, first, second, meaning; a run without one has ""."""
    if first.stage != second.stage:
        return []
    rows, order = {}, []
    for k, e in enumerate((first, second)):
        for title, text, meaning in figures_of(e)[1]:
            if title not in rows:
                rows[title] = ["", "", meaning]
                order.append(title)
            rows[title][k] = text
    return [(title, *rows[title]) for title in order]


def keeps_of(entry):
    """What stays besides the result of an entry's stage (see `Stage.keeps`)."""
    stage = BY_NAME.get(entry.stage)
    return stage.keeps if stage else ""


def can_be_gone_back_to(entry):
    """Whether going back to such a run means something: it was done, and its stage keeps no list of what it made."""
    known = entry.stage in BY_NAME and read_figures(entry.stage, entry.figures) is not None
    return entry.outcome == "done" and known and not BY_NAME[entry.stage].only_asked


def settings_of(entry):
    """Settings of a run as they are chosen: those that differ from the default."""
    stage = BY_NAME[entry.stage]
    default = stage.Settings().model_dump(mode="json")
    return {k: v for k, v in entry.settings.items() if k in default and v != default[k]}
