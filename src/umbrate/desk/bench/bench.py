"""The bench: settings, figures, one plot and advice for the chosen cell, all made from the stage."""

from PyQt6 import sip
from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import (
    QApplication,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...core.errors import UmbrateError
from ...stages import BY_NAME
from ...stages.base import settings_of
from ...work.state import WORDS
from ..flow import Flow
from ..plain import Label
from ..plots import give_back, histogram_plot
from ..text import counted, short_time
from . import panels
from .advice import buttons, problems, remedy_button
from .form import fitting_fields, settings_form, values_of
from .previews import TriedMasks

WIDTH = 352  #: the longest row of parts, of Scale, is one line
SETTINGS = "Settings"  #: the part that every bench has


class Bench(QWidget):
    """The panel at the right: what is chosen at the top, then the part of its bench that is looked at, and the button
    that runs it always below.
    """

    photos_wanted = pyqtSignal()
    find_wanted = pyqtSignal()
    preview_wanted = pyqtSignal()
    keep_wanted = pyqtSignal()
    sheets_wanted = pyqtSignal()
    through_wanted = pyqtSignal()
    kind_wanted = pyqtSignal(str)  #: photos with problems of this kind are to be seen alone in the strip

    def __init__(self, session):
        super().__init__(objectName="panel")
        self.session = session
        self.setFixedWidth(WIDTH)
        self.unfolded = False
        self.chosen = {}  #: the part that is looked at, by stage
        self.parts = {}  #: widgets of the parts there are now, by title
        self._at = {}  #: how far each part was scrolled
        self._mark = self.stage = self.result = self.content = None
        self.box = QVBoxLayout(self)
        self.box.setContentsMargins(0, 0, 0, 0)
        session.chosen_changed.connect(self.reload)
        session.document_changed.connect(self.reload)
        session.cloud_read.connect(self.reload)
        session.progressed.connect(self._progress)
        self.reload()

    def reload(self):
        """Build the panel for the chosen cell, where it is not the one that stands there."""
        s = self.session
        sitting = s.sitting
        if sitting is None:
            mark = None
        else:
            cell = next((c for row in s.board() for c in row if (c.sitting_id, c.stage) == (sitting.id, s.stage)), None)
            result = s.result(s.stage)
            also = panels.MARKS.get(s.stage)
            mark = (
                sitting.id, sitting.name, sitting.members, s.stage, cell.state, s.state_of(cell),
                result.id if result else 0, self.unfolded, str(s.job.settings(sitting.id, s.stage)),
                str(s.job.keep_box(sitting.id)), cell.detail, s.following(s.stage), self._preview_mark(),
                also(s) if also else None,
            )  # fmt: skip
        if mark == self._mark and self.content is not None:
            return
        self._keep_place()
        focus = QApplication.focusWidget()
        held = focus if self.content is not None and focus is not None and self.content.isAncestorOf(focus) else None
        setting = held.property("setting") if held is not None else None
        self._mark, self.parts = mark, {}
        self.run_button = self.running_label = None
        content = QWidget(objectName="panel")
        outer = QVBoxLayout(content)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        self.column = self._block(outer, 12, 4)
        if sitting is None:
            self.stage = None
            self._text("Start here", "heading")
            self._text(
                "Add a folder of photos: each folder becomes a sitting, one placement of the object. Drop folders "
                "anywhere on this window, or use Job, Bring in photos.",
                "quiet",
            )
            outer.addStretch(1)
        else:
            self._fill(outer, sitting, BY_NAME[s.stage], cell, result)
        old, self.content = self.content, content
        self.box.addWidget(content)
        if old is not None:
            self.box.removeWidget(old)
            old.hide()
            give_back(old)
            old.setParent(None)
            old.deleteLater()
        self._show_part()
        if held is not None:
            # the keyboard stays where it was, and does not go to the next line by chance: letters are commands
            same = next((w for w in self.findChildren(QWidget) if setting and w.property("setting") == setting), self)
            same.setFocus()

    @staticmethod
    def _block(outer, top, bottom):
        """A column of the bench above or below what scrolls."""
        column = QVBoxLayout()
        column.setContentsMargins(16, top, 16, bottom)
        column.setSpacing(8)
        outer.addLayout(column)
        return column

    # ------------------------------------------------------------------ parts
    def rebuild(self):
        """Build the panel anew, whatever stands there."""
        self._mark = None
        self.reload()

    def open(self, part, stage=None):
        """Look at a part of the bench, of the chosen stage or of another one."""
        stage = stage or self.session.stage
        self.chosen[stage] = part
        if stage != self.session.stage:
            self.session.choose(stage=stage)
        self._show_part()

    @property
    def part(self):
        """The title of the part that is looked at."""
        wanted = self.chosen.get(self.stage.name) if self.stage else None
        return wanted if wanted in self.parts else next(iter(self.parts), None)

    def _keep_place(self):
        if self.stage is not None and self.parts:
            self._at[self.stage.name, self._shown] = self.scroll.verticalScrollBar().value()

    def _choose_part(self, title):
        self._keep_place()
        self.chosen[self.stage.name] = title
        self._show_part()

    def _show_part(self):
        if self.stage is None or not self.parts:
            return
        self._shown = self.part
        for title, body in self.parts.items():
            body.setVisible(title == self._shown)
        for b in self.tabs:
            b.setChecked(b.text() == self._shown)
        at, bar = self._at.get((self.stage.name, self._shown), 0), self.scroll.verticalScrollBar()
        self.scroll.widget().layout().activate()
        bar.setValue(at)
        QTimer.singleShot(0, lambda: None if sip.isdeleted(bar) else bar.setValue(at))

    def widget_of(self, part):
        """The first widget of a part that is there, or None."""
        body = self.parts.get(part)
        return body.layout().itemAt(0).widget() if body is not None and body.layout().count() else None

    def ensureWidgetVisible(self, widget):
        """Scroll to a widget, in the part where it is."""
        for title, body in self.parts.items():
            if body.isAncestorOf(widget) and title != self._shown:
                self._choose_part(title)
        self.scroll.widget().layout().activate()
        self.scroll.ensureWidgetVisible(widget)

    def show_setting(self, stage, name):
        """Go to a setting of a stage; where it does not count now, to the one that it depends on."""
        field = BY_NAME[stage].Settings.model_fields[name]
        self.open(SETTINGS, stage)
        values = values_of(self.session.job, self.session.sitting, BY_NAME[stage])
        short, rest = fitting_fields(BY_NAME[stage], self.session.sitting, values)
        if name not in (*short, *rest):
            when = (field.json_schema_extra or {}).get("when", {})
            of = next((k for k in when if k in (*short, *rest)), None)
            if of is None:
                self.session.said.emit(f"“{field.title}” does not count for this sitting.", "note")
                return
            other = BY_NAME[stage].Settings.model_fields[of]
            words = (other.json_schema_extra or {}).get("labels", {})
            wanted = " or ".join(f"“{words.get(x, x)}”" for x in when[of])
            self.session.said.emit(f"“{field.title}” counts where “{other.title}” is {wanted}.", "note")
            name = of
        if name in rest and not self.unfolded:
            self._fold()
        editor = next((w for w in self.findChildren(QWidget) if w.property("setting") == name), None)
        if editor is not None:
            self.ensureWidgetVisible(editor)
            editor.setFocus(Qt.FocusReason.ShortcutFocusReason)

    def _text(self, text, name="quiet"):
        label = Label(text, objectName=name)
        label.setWordWrap(True)
        label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.column.addWidget(label)
        return label

    def _fill(self, outer, sitting, stage, cell, result):
        s = self.session
        self.stage, self.result = stage, result
        state = s.state_of(cell)
        head = QHBoxLayout()
        head.addWidget(Label(stage.title, objectName="heading"))
        told = Label(f"{sitting.name} · {WORDS[state]}", objectName="quiet")
        told.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        told.setWordWrap(True)
        head.addWidget(told, 1)
        self.column.addLayout(head)
        row = QWidget()
        flow = Flow(row, spacing=0)
        flow.setContentsMargins(0, 0, 0, 0)
        self.column.addWidget(row)
        body = QWidget(objectName="panel")
        self.scroll = QScrollArea(objectName="panel")
        self.scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        self.scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.scroll.setWidgetResizable(True)
        self.scroll.setWidget(body)
        inner = QVBoxLayout(body)
        inner.setContentsMargins(16, 4, 16, 8)
        outer.addWidget(self.scroll, 1)
        values = self._main_part(inner, sitting, stage, cell, state, result)
        if stage.applies(sitting):
            for title, makers in panels.PARTS.get(stage.name, ()):
                made = [w for make in makers if (w := make(self)) is not None]
                if made:
                    self._begin_part(inner, title)
                    for w in made:
                        self.column.addWidget(w, w.sizePolicy().verticalPolicy() == w.sizePolicy().Policy.Expanding)
            self.column = self._block(outer, 8, 12)
            self._run_button(stage, cell, state, result)
            self._next(stage, cell, state, result)
        self.tabs = []
        for title in self.parts if len(self.parts) > 1 else ():
            b = QToolButton(text=title, checkable=True, autoExclusive=True, objectName="tab")
            b.clicked.connect(lambda _, n=title: self._choose_part(n))
            flow.addWidget(b)
            self.tabs.append(b)
        row.setVisible(bool(self.tabs))
        return values

    def _begin_part(self, inner, title):
        part = QWidget()
        self.column = QVBoxLayout(part)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(8)
        inner.addWidget(part, 1)
        self.parts[title] = part

    def _main_part(self, inner, sitting, stage, cell, state, result):
        """Settings, what a run would give, what it gave."""
        s = self.session
        self._begin_part(inner, SETTINGS)
        self._text(stage.about_of(sitting))
        if not stage.applies(sitting):
            self.column.addWidget(panels.elsewhere(self))
            self.column.addStretch(1)
            return
        if cell.state == "failed" and state not in ("running", "queued"):
            self._text(cell.detail, "advice")
            if s.remedy():
                self.column.addWidget(remedy_button(self, stage, s.remedy()))
        values = self._settings(sitting, stage)
        self._parts(panels.BEFORE_RUN)
        self._forecast(sitting, stage)
        self._preview(stage, values)
        self._parts(panels.TOP)
        if result:
            self._modes(stage, result, state)
            self._add(problems(self, stage, result))
            self._figures(result, cell)
            self._plot(stage, result)
        self.column.addStretch(1)

    def _add(self, widget):
        if widget is not None:
            self.column.addWidget(widget)

    def _parts(self, registry):
        """The parts that belong to the stage alone."""
        for make in registry.get(self.stage.name, ()):
            self._add(make(self))

    def _run_button(self, stage, cell, state, result):
        s = self.session
        self.run_button = QPushButton(objectName="next")
        if state == "running":
            self.run_button.setText("Cancel")
            self.run_button.setObjectName("")
            self.run_button.clicked.connect(s.cancel)
        else:
            again = "Run again" if result and cell.state in ("done", "look") else "Run"
            self.run_button.setText(stage.title if stage.only_asked else f"{again}: {stage.title}")
            if again == "Run again" and not stage.only_asked:
                self.run_button.setObjectName("")
            self.run_button.setToolTip("Runs this cell and whatever it needs  (Ctrl+R)")
            self.run_button.clicked.connect(lambda: s.run())
            self.run_button.setEnabled(state != "queued")
        self.running_label = self._text("")
        self.running_label.setVisible(state == "running")
        self.column.addWidget(self.run_button)

    def _next(self, stage, cell, state, result):
        """The button that goes on to the stage after this one."""
        s = self.session
        following = s.following(stage.name)
        ends = bool(result and stage.ends_here(result.figures))
        if not following or ends or state != cell.state or cell.state not in ("done", "look"):
            return
        after = BY_NAME[following]
        b = QPushButton(f"Next: {after.as_next(s.sitting)}", objectName="next")
        b.setToolTip(after.about_of(s.sitting))
        b.clicked.connect(lambda: s.go_on(following))
        self.column.addWidget(b)

    # ------------------------------------------------------------------ settings
    def _settings(self, sitting, stage):
        """The form; returns the values in it."""
        s, values = self.session, values_of(self.session.job, sitting, stage)
        short, rest = fitting_fields(stage, sitting, values)
        self.column.addLayout(
            settings_form(
                stage, [*short, *(rest if self.unfolded else [])], values, s.job.settings(sitting.id, stage.name),
                lambda k, v: self._change(stage, k, v), s.pick_color,
                lambda setting: stage.names_for(s.job, sitting, setting),
            )
        )  # fmt: skip
        if rest:
            told = "Fewer settings" if self.unfolded else f"{counted(len(rest), 'more setting')}"
            more = QPushButton(told, objectName="link")
            more.clicked.connect(self._fold)
            self.column.addWidget(more)
        return values

    def _forecast(self, sitting, stage):
        """What can be said of a run before it is made."""
        s = self.session
        try:
            settings = settings_of(s.job, sitting, stage)
            seen = stage.forecast(s.job, sitting, settings)
        except (UmbrateError, OSError):
            return  # running says it better
        if seen is None:
            return
        self._text(seen.text, "quiet" if seen.good else "advice")
        if seen.remedy:
            self.column.addWidget(remedy_button(self, stage, seen.remedy, run=False))

    def _preview_mark(self):
        preview = self.session.masks.shown_preview()
        return (id(preview), len(preview.made)) if preview else None

    def _preview(self, stage, values):
        """Where a stage's result can be tried on a few photos first: the button, and what came of it."""
        s = self.session
        if values.get("method") not in stage.needs_preview:
            return
        preview = s.masks.shown_preview()
        b = QPushButton("Try it on a few photos" if preview is None else "Try it again")
        b.setToolTip("On the photos chosen in the strip, where several are; else on some from all around")
        b.clicked.connect(lambda: self.preview_wanted.emit())
        if preview is None:
            self.column.addWidget(b)
            return
        row = QHBoxLayout()
        row.addWidget(b)
        leave = QPushButton("Leave it")
        leave.setToolTip("Show the masks in force again")
        leave.clicked.connect(s.masks.drop_preview)
        row.addWidget(leave)
        self.column.addLayout(row)
        if preview.made:
            good = [m for m in preview.made.values() if m.mask]
            self._text(panels.tried(len(preview.made), len(preview.made) - len(good)))
            self.column.addWidget(TriedMasks(s, preview))

    def _fold(self):
        self.unfolded = not self.unfolded
        self.reload()

    def _change(self, stage, name, value):
        if value != self.session.setting(stage.name, name):
            self.session.edits.set_setting(stage.name, name, value)

    # ------------------------------------------------------------------ figures
    def _figures(self, result, cell):
        if cell.state == "stale":
            self._text(f"Of the last run, before this changed: {cell.second or 'what it was made from'}.", "advice")
        grid = QGridLayout()
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(3)
        for k, (name, value, meaning) in enumerate(result.figures.rows()):
            a, b = Label(name, objectName="dim"), Label(value)
            b.setAlignment(Qt.AlignmentFlag.AlignRight)
            a.setWordWrap(True)  # a camera's name may be long
            for w in (a, b):
                w.setToolTip(meaning)
            grid.addWidget(a, k, 0)
            grid.addWidget(b, k, 1)
        self.column.addSpacing(4)
        self.column.addLayout(grid)
        self._text(f"Made {result.made.replace('T', ' ')} in {short_time(result.seconds)}")

    def _plot(self, stage, result):
        histogram = stage.histogram(result.figures)
        if histogram is not None:
            self._text(histogram.title, "plain")
            value = self.session.setting(stage.name, histogram.setting) if histogram.setting else None
            plot = histogram_plot(
                histogram,
                value,
                lambda x: stage.left_at(result.figures, x),
                lambda x: self._change(stage, histogram.setting, x),
            )
            if histogram.setting:
                title = stage.Settings.model_fields[histogram.setting].title
                plot.setToolTip(f"Drag the line to set “{title}”; run again to see it")
            self.column.addWidget(plot)

    def _modes(self, stage, result, state):
        """Other ways to run the stage, where there is something to go on from."""
        s = self.session
        if state in ("running", "queued") or not stage.can_go_on(result.figures):
            return
        self.column.addLayout(
            buttons(
                *((m.capitalize(), told, lambda m=m: s.run(mode=m)) for m, told in stage.modes_of(s.sitting).items())
            )
        )

    def _progress(self):
        run = self.session.running()
        if (
            run is None
            or self.running_label is None
            or (run.sitting.id, run.stage) != (self.session.sitting_id, self.session.stage)
        ):
            return
        self.running_label.setVisible(True)
        more = ", ".join(f"{k} {v:,}" for k, v in run.figures.items())
        self.running_label.setText(f"{run.sentence}{'; ' + more if more else ''}")
