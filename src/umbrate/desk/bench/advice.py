"""What went wrong with a cell, what helps, and the buttons that do it."""

from collections import Counter

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QToolButton, QVBoxLayout, QWidget

from ...stages import BY_NAME
from ...stages.base import PROBLEM_KINDS
from ...work.sorting import propose_split
from ..dialogs.picks import PicksDialog
from ..flow import Flow
from ..plain import Label
from ..text import counted
from .markedpoints import cell, fit_rows, table
from .pieces import of_left_out, of_soft


def column(parent=None):
    """A widget with an empty column, and the column."""
    body = QWidget(parent)
    box = QVBoxLayout(body)
    box.setContentsMargins(0, 0, 0, 0)
    box.setSpacing(8)
    return body, box


def wrapped(text, name="quiet"):
    """A label that breaks its lines."""
    label = Label(text, objectName=name)
    label.setWordWrap(True)
    return label


def buttons(*rows):
    """Buttons side by side: (text, tip, action) each."""
    row = QHBoxLayout()
    for text, tip, act in rows:
        b = QPushButton(text)
        b.setToolTip(tip)
        b.clicked.connect(lambda _, a=act: a())
        row.addWidget(b)
    return row


def remedy_button(bench, stage, remedy, run=True):
    """The button that does what a sentence advises (see `UmbrateError`).

    run : whether a changed setting is run at once
    """
    s = bench.session
    kind, *more = remedy
    if kind == "go to":
        text, act = f"Go to {BY_NAME[more[0]].title}", lambda: s.choose(stage=more[0])
    elif kind == "set":
        title = stage.Settings.model_fields[more[0]].title
        text = f"Set “{title}” to {more[1]}" if more[1] != "" else f"Clear “{title}”"
        text += " and run" if run else ""
        act = lambda: (s.edits.set_setting(stage.name, *more), s.run() if run else None)  # noqa: E731
    elif kind == "mend":
        text, act = "Try it on Surface", lambda: try_mending(s, more[0])
    elif kind == "thin walls":
        text, act = "Show where", lambda: show_thin(s, more[0])
    else:
        text, act = {
            "bring in photos": ("Bring in photos…", bench.photos_wanted.emit),
            "find photos": ("Find missing photos…", bench.find_wanted.emit),
            "print targets": ("Print target sheets…", bench.sheets_wanted.emit),
            "mark points": ("Mark points", lambda: mark_points(bench)),
            "pick places": ("Pick places…", lambda: PicksDialog(s, bench.window()).join()),
            "state a length": ("State a length", lambda: state_length(bench)),
            "fit the keep box": ("Fit the keep box again", lambda: s.edits.set_keep_box(None)),
        }.get(kind, ("Run it again", s.run))
    b = QPushButton(text)
    b.clicked.connect(lambda _: act())
    return b


def try_mending(session, step):
    """Go to Surface and show there what a step of mending would do."""
    session.choose(stage="surface")
    session.mending.try_on(step)


def show_thin(session, limit):
    """Show the surface by its thickness, up to twice a limit."""
    session.choose(stage="surface")
    session.surfacing.ramps["thickness"] = (0.0, 2 * float(limit))
    session.surfacing.set_look("thickness")


def mark_points(bench):
    """Begin to mark points."""
    bench.open("Points" if bench.stage.name == "scale" else "Marks")
    bench.session.marking.set_on(True)


def state_length(bench):
    """Go to where lengths are stated."""
    bench.open("Lengths", "scale")


class OfPhoto(QWidget):
    """A part of the bench that follows the chosen photo: it alone is made anew when another one is chosen."""

    def __init__(self, bench, make):
        super().__init__()
        self.bench, self.make, self._shown = bench, make, None
        self.place = QVBoxLayout(self)
        self.place.setContentsMargins(0, 0, 0, 0)
        bench.session.chosen_changed.connect(self.follow)
        self.follow()

    def follow(self):
        """Show what belongs to the chosen photo."""
        s = self.bench.session
        if s.photo_id == self._shown or s.job is None:
            return
        self._shown = s.photo_id
        while self.place.count():
            self.place.takeAt(0).widget().deleteLater()
        widget = self.make(self.bench)
        if widget is not None:
            self.place.addWidget(widget)
        self.setVisible(widget is not None)


def problems(bench, stage, result):
    """The problems of a result, that of the chosen photo first, each with what can be done; None without any."""
    if not any(p["photo"] is not None for p in result.problems):
        return _problems(bench, stage, result)
    return OfPhoto(bench, lambda b: _problems(b, stage, result))


def _problems(bench, stage, result):
    s = bench.session
    every = [p for p in result.problems if p.get("kind") != "bare"]  # of those more is offered, see `bare_frames`
    every.sort(key=lambda p: p["photo"] is None or p["photo"] != s.photo_id)
    if not every:
        return None
    body, box = column()
    general = [p for p in every if p["photo"] is None]
    of_photos = [p for p in every if p["photo"] is not None]
    first = of_photos[:1]  # that of the chosen photo, where it has one
    for p in [*general, *first]:
        box.addWidget(wrapped(f"{p['text']} {p['hint']}", "advice"))
        if p.get("remedy"):
            box.addWidget(remedy_button(bench, stage, p["remedy"], run=False))
        if p["photo"] is None:
            continue
        row = buttons(
            ("Show it", "", lambda i=p["photo"]: s.choose(photo_id=i)),
            ("Set it aside", "", lambda i=p["photo"]: s.edits.set_aside({i})),
        )
        row.addStretch(1)
        box.addLayout(row)
        photo = next((x for x in s.photos() if x.id == p["photo"]), None)
        if photo and (shown := _evidence(s, stage, photo, p, result)):
            box.addWidget(shown)
    if len(of_photos) > 1:
        box.addWidget(_list_of(bench, of_photos))
    return body


def _list_of(bench, of_photos):
    """All problems of photos, a line each: a click shows the photo; buttons show one kind alone in the strip."""
    s = bench.session
    body, box = column()
    flow = Flow()
    for kind, count in Counter(p.get("kind", "") for p in of_photos).items():
        if kind in PROBLEM_KINDS:
            b = QToolButton(text=f"{PROBLEM_KINDS[kind]}: {count}")
            b.setToolTip("Show these photos alone in the strip")
            b.clicked.connect(lambda _, k=kind: bench.kind_wanted.emit(k))
            flow.addWidget(b)
    box.addLayout(flow)
    rows = table(("Photo", "What is wrong"), stretch=1)
    rows.setRowCount(len(of_photos))
    for k, p in enumerate(of_photos):
        what = p["text"].removeprefix(p["name"]).strip() or p["text"]
        for q, text in enumerate((p["name"], what)):
            rows.setItem(k, q, cell(text, p["photo"], tip=f"{p['text']} {p['hint']}"))
    fit_rows(rows)
    rows.setAccessibleName("Problems of photos")
    rows.itemClicked.connect(lambda item: s.choose(photo_id=item.data(Qt.ItemDataRole.UserRole)))
    box.addWidget(rows)
    return body


def _evidence(session, stage, photo, told, result):
    """Two pieces of photos that show what a problem says of one, or None."""
    if told.get("kind") == "soft":
        return of_soft(session, photo, result) or wrapped("No other photo of its size is sharp.")
    if stage.name == "poses" and photo.id in result.figures.reasons:
        return of_left_out(session, photo, result)
    return None


def bare_frames(bench, result):
    """Where frames of the bare backdrop were found: what they are good for."""
    s = bench.session
    used = {p.id for p in s.photos() if not p.aside}
    bare = [i for i in getattr(result.figures, "bare", ()) if i in used]
    if not bare:
        return None
    body, box = column()
    parts = propose_split(s.job, s.sitting, "bare")
    told = f"{counted(len(bare), 'photo')} show{'s' * (len(bare) == 1)} the bare backdrop."
    if len(parts) > 1:
        counts = [str(len(p)) for p, _ in parts]
        told += f" They separate {len(parts)} sittings of {', '.join(counts[:-1])} and {counts[-1]} photos."
    box.addWidget(wrapped(told, "advice"))
    b = QPushButton("Split there, keep them as plates" if len(parts) > 1 else "Keep them as plates", objectName="next")
    b.clicked.connect(lambda: s.edits.split("bare"))
    box.addWidget(b)
    return body


def lost_files(bench):
    """Where files are gone or have changed: the way to point to their new place, or to take them as they are."""
    s = bench.session
    states = [s.arrivals.file_state(p) for p in s.photos()]
    body, box = column()
    for state, act, text in (
        ("missing", bench.find_wanted.emit, "Find missing photos…"),
        ("changed", s.arrivals.take_as_they_are, "Take them as they are now"),
    ):
        count = states.count(state)
        if count:
            told = f"{counted(count, 'file')} of this sitting {'is' if count == 1 else 'are'} {state}."
            if state == "changed":
                told = told.replace("changed", "not as when brought in any more")
                told += " Results made from what was there before are kept until you run them again."
            box.addWidget(wrapped(told, "advice"))
            box.addLayout(buttons((text, "", act)))
    return body if box.count() else None
