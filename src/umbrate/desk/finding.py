"""All that the finder finds: commands, tools, stages, settings, looks, filters, measurements, photos, the manual."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QAbstractButton

from ..actions.mends import MENDS
from ..actions.steps import FILTERS
from ..core.raster.coloring import COLORINGS, COVERAGE, SURFACE_COLORINGS
from ..stages import STAGES
from ..work import manual
from ..work.recipes import shelf
from .bench.panels import PARTS
from .words import synonyms_of

RECENT = 12  #: remembered
MOST = 60  #: shown


@dataclass(frozen=True)
class Entry:
    """Something to find.

    Attributes
    ----------
    kind, title : str
        What it is, and its name.
    act : callable
        Goes there and does it.
    keys : str
        Its shortcut.
    more : str
        Further words that find it, less surely.
    """

    kind: str
    title: str
    act: Callable
    keys: str = ""
    more: str = ""

    @property
    def id(self):
        """Names it from one start to the next."""
        return f"{self.kind}: {self.title}"


def rank(entry, words):
    """How well an entry has all of some words in small letters; 0 where it has not."""
    title, other, more = entry.title.lower(), synonyms_of(entry.title), entry.more.lower()
    parts, others, total = title.replace("-", " ").split(), other.split(), 0.0
    for w in words:
        if w in parts:
            total += 5
        elif any(p.startswith(w) for p in parts):
            total += 4
        elif any(p.startswith(w) for p in others):
            total += 3
        elif len(w) > 4 and w in title:
            total += 2
        elif w in more:
            total += 1
        else:
            return 0.0
    return total + 1.0 / (1 + len(parts))


def recent():
    """Ids of what was found last, the newest first."""
    stored = QSettings("umbrate", "umbrate").value("find/recent", []) or []
    return [stored] if isinstance(stored, str) else list(stored)


def remember(entry):
    """Put an entry first among those found last."""
    ids = [entry.id, *(x for x in recent() if x != entry.id)][:RECENT]
    QSettings("umbrate", "umbrate").setValue("find/recent", ids)


def found(entries, text):
    """The entries that a text finds, the best first; without a text what was found last, then all others."""
    words, last = text.lower().split(), recent()
    place = {x: k for k, x in enumerate(last)}
    if not words:
        return sorted(entries, key=lambda e: place.get(e.id, RECENT))[:MOST]
    # what does something comes before what explains it
    ranked = [(r + 0.5 * (e.id in place) - e.kind.startswith("Manual"), e) for e in entries if (r := rank(e, words))]
    return [e for r, e in sorted(((r, e) for r, e in ranked), key=lambda x: -x[0])][:MOST]


# ---------------------------------------------------------------------- what there is
def every_entry(window):
    """All Entries of a window as it is now."""
    out = list(_commands(window))
    if window.session.job is not None:
        out += [
            *_tools(window),
            *_parts(window),
            *_stages(window),
            *_settings(window),
            *_looks(window),
            *_filters(window),
        ]
        out += [*_measurements(window), *_photos(window), *_recipes(window)]
    return out + list(_manual(window))


def _commands(window):
    def under(menu, path=""):
        for a in menu.actions():
            if a.menu() is not None:
                yield from under(a.menu(), a.text())
            elif not a.isSeparator() and a.isEnabled() and a.text():
                yield a

    for a in under(window.menus.bar):
        title = a.text().replace("&&", "&").replace("&", "")
        yield Entry("Command", title, a.trigger, a.shortcut().toString())


def _tools(window):
    """Buttons of the scene, of the photo view and of the strip that have a tip: it says what they do."""
    seen = set()
    for view in (window.scene, window.photo_view, window.strip):
        for b in view.findChildren(QAbstractButton):
            told = b.toolTip().partition("\n")[0].partition("  (")[0]
            if told and b.isEnabled() and told not in seen and not b.isHidden():
                seen.add(told)
                short = b.text() if b.text() and b.text().lower() not in told.lower() else ""
                yield Entry("Tool", told, partial(_press, b), b.shortcut().toString(), f"{short} {b.accessibleName()}")


def _press(button):
    if hasattr(button, "menu") and button.menu() is not None:
        button.showMenu()
    else:
        button.click()
    button.window().activateWindow()


def _parts(window):
    """The parts of the bench that there are at each stage of the chosen sitting."""
    s = window.session
    for stage in STAGES:
        if s.sitting is not None and stage.applies(s.sitting):
            for title, _ in PARTS.get(stage.name, ()):
                yield Entry(stage.title, title, partial(window.bench.open, title, stage.name))


def _stages(window):
    s = window.session
    for stage in STAGES:
        if s.sitting is not None and stage.applies(s.sitting):
            yield Entry("Stage", stage.title, partial(s.choose, stage=stage.name), "", stage.about)
            act = partial(_run, s, stage.name)
            yield Entry("Stage", f"Run {stage.title}", act, "Ctrl+R" if s.stage == stage.name else "", stage.about)


def _run(session, stage):
    session.choose(stage=stage)
    session.run()


def _settings(window):
    s = window.session
    for stage in STAGES:
        if s.sitting is None or not stage.applies(s.sitting):
            continue
        for name, f in stage.Settings.model_fields.items():
            if (f.json_schema_extra or {}).get("form", True):
                act = partial(window.bench.show_setting, stage.name, name)
                yield Entry(f"Setting of {stage.title}", f.title, act, "", f.description or "")


def _looks(window):
    s = window.session
    have = {
        "cloud": bool(s.job.clouds(s.sitting_id)) if s.sitting else False,
        "surface": bool(s.job.surfaces(s.sitting_id)) if s.sitting else False,
    }
    for stage, colorings, part in (("cloud", COLORINGS, "Clouds"), ("surface", SURFACE_COLORINGS, "Surfaces")):
        for name, x in colorings.items() if have[stage] else ():
            act = partial(_look, window, stage, part, name)
            yield Entry(f"Look of the {stage}", x.title, act, "", "color by")


def _look(window, stage, part, name):
    s = window.session
    window.bench.open(part, stage)
    if stage == "cloud" and name in COVERAGE:
        window.bench.open("Coverage", stage)
        s.cleaning.cover(name)
    elif name == "compared":
        s.said.emit("Choose what it is compared with: More, Compare with another.", "note")
    else:
        (s.cleaning if stage == "cloud" else s.surfacing).set_look(name)


def _filters(window):
    s = window.session
    if s.sitting is None:
        return
    for stage, part, steps, have in (
        ("cloud", "Clean", FILTERS, s.job.clouds(s.sitting_id)),
        ("surface", "Mend", MENDS, s.job.surfaces(s.sitting_id)),
    ):  # fmt: skip
        for f in steps if have else ():
            if not f.hidden:
                act = partial(_filter, window, stage, part, f.name)
                yield Entry(f"{part} the {stage}", f.title, act, "", f.about)


def _filter(window, stage, part, name):
    window.bench.open(part, stage)
    widget = window.bench.widget_of(part)
    if widget is not None:
        widget.choose(name)


def _measurements(window):
    s = window.session
    for m in s.job.measurements(s.sitting_id) if s.sitting else ():
        value = s.measuring.values.get(m.id, {}).get("text", "")
        yield Entry("Measurement", m.name, partial(_measurement, window, m.id), "", f"{m.kind} {value}")


def _measurement(window, i):
    window.bench.open("Measure", "scale")
    window.session.measuring.chosen_id = i
    window.session.measuring.changed.emit()


def _photos(window):
    s = window.session
    for p in s.photos() if s.sitting else ():
        yield Entry("Photo", p.name, partial(s.choose, photo_id=p.id))
    for x in s.job.sittings():
        yield Entry("Sitting", x.name, partial(s.choose, x.id))


def _recipes(window):
    for k in (*shelf.own()[0], *shelf.built_in()):
        yield Entry(
            "Recipe", k.recipe.name, partial(window.show_recipes, k.recipe.name), "", f"recipe {k.recipe.about}"
        )


def _manual(window):
    pages = {x.page: x.title.partition(":")[0] for x in reversed(manual.sections()) if x.level == 1}
    for x in manual.sections():
        kind = "Manual" if x.level == 1 else f"Manual: {pages.get(x.page, '')}"
        yield Entry(kind, x.title, partial(window.show_manual, x.address), "", x.text[:4000])
