"""The bench: settings, figures, one plot and advice for the chosen cell, all made from the stage."""

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QFormLayout,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ...core.errors import UmbrateError
from ...stages import BY_NAME, STAGES
from ...stages.base import parse_settings
from ...stages.lens.calibration import CALIBRATED
from ...work.sorting import propose_split
from ...work.state import WORDS
from .. import tokens as t
from ..dialogs.picks import PicksDialog
from ..plots import histogram_plot
from ..text import counted, short_time
from .cloud import CloudPanel
from .editors import make_editor
from .join import JoinChoice, JoinPanel
from .keepbox import BoxPanel
from .lens import CalibrationGuide, CalibrationPanel, LensGroups
from .markedpoints import PointsPanel
from .pairs import MatchesDialog, pairs_of
from .previews import TriedMasks
from .scale import ScalePanel
from .shapemasks import ShapePanel
from .sift import SiftPanel
from .softness import Evidence

WIDTH = 330


class Bench(QScrollArea):
    """The panel at the right."""

    photos_wanted = pyqtSignal()
    find_wanted = pyqtSignal()
    preview_wanted = pyqtSignal()
    keep_wanted = pyqtSignal()
    sheets_wanted = pyqtSignal()
    through_wanted = pyqtSignal()

    def __init__(self, session):
        super().__init__(objectName="panel")
        self.session = session
        self.setWidgetResizable(True)
        self.setFixedWidth(WIDTH)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        self.unfolded = False
        self._mark = None
        session.chosen_changed.connect(self.reload)
        session.document_changed.connect(self.reload)
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
            mark = (
                sitting.id,
                sitting.name,
                s.stage,
                cell.state,
                s.state_of(cell),
                result.id if result else 0,
                self.unfolded,
                str(s.job.settings(sitting.id, s.stage)),
                str(s.job.keep_box(sitting.id)),
                s.result("poses") is None,
                bool(s.job.clouds(sitting.id)),
                s.job.removed(sitting.id),
                s.fragment,
                s.photo_id if s.stage == "poses" else None,
                cell.detail,
                s.following(s.stage),
                self._preview_mark(),
                sum(s.arrivals.file_state(p) != "here" for p in s.photos()),
                self._join_mark(sitting),
            )
        if mark == self._mark and self.widget() is not None:
            return
        self._mark = mark
        at = self.verticalScrollBar().value()
        body = QWidget(objectName="panel")
        self.column = QVBoxLayout(body)
        self.column.setContentsMargins(16, 12, 16, 12)
        self.column.setSpacing(8)
        self.run_button = self.running_label = None
        if sitting is None:
            self._text("Start here", "heading")
            self._text(
                "Add a folder of photos: each folder becomes a sitting, one placement of the object. Drop folders "
                "anywhere on this window, or use Job, Bring in photos.",
                "quiet",
            )
        else:
            self._fill(sitting, BY_NAME[s.stage], cell, result)
        self.column.addStretch(1)
        self.setWidget(body)
        self.verticalScrollBar().setValue(at)

    def _text(self, text, name="quiet"):
        label = QLabel(text, objectName=name)
        label.setWordWrap(True)
        label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.column.addWidget(label)
        return label

    def _fill(self, sitting, stage, cell, result):
        s = self.session
        state = s.state_of(cell)
        self._text(f"{stage.title}", "heading")
        self._text(f"{sitting.name} · {WORDS[state]}")
        self._text(stage.about_of(sitting))
        if not stage.applies(sitting):
            self._elsewhere(sitting, stage)
            return
        if cell.state == "failed" and state not in ("running", "queued"):
            self._text(cell.detail, "advice")
            self._remedy(stage)
        values = self._settings(sitting, stage)
        calibrating = values.get("source") in CALIBRATED
        if calibrating and not (result and result.figures.get("calibration")):
            guide = CalibrationGuide(values["source"], self.sheets_wanted.emit, self.photos_wanted.emit)
            self.column.addWidget(guide)
        self._foresight(sitting, stage)
        self._preview(stage, values)
        self.run_button = QPushButton(objectName="next")
        if state == "running":
            self.run_button.setText("Cancel")
            self.run_button.setObjectName("")
            self.run_button.clicked.connect(s.cancel)
        else:
            again = "Run again" if result and cell.state in ("done", "look") else "Run"
            self.run_button.setText(f"{again}: {stage.title}")
            if again == "Run again":
                self.run_button.setObjectName("")
            self.run_button.setToolTip("Runs this cell and whatever it needs  (Ctrl+R)")
            self.run_button.clicked.connect(lambda: s.run())
            self.run_button.setEnabled(state != "queued")
        self.column.addWidget(self.run_button)
        self.running_label = self._text("")
        self.running_label.setVisible(state == "running")
        following = s.following(stage.name)
        # of photos of sheets no poses are wanted: the card is what they are for
        calibrated = bool(result and {"calibration", "gathering"} & result.figures.keys())
        if following and not calibrated and state == cell.state and cell.state in ("done", "look"):
            told = f"Next: run {BY_NAME[following].title}"
            if stage.name == "join":
                told = "Next: merge all photos"
            b = QPushButton(told, objectName="next")
            if stage.name == "join":
                b.setToolTip("One adjustment over the photos of all sittings, scaled by their known lengths")
                b.clicked.connect(s.joining.merge)
            else:
                b.clicked.connect(lambda: (s.choose(stage=following), s.run()))
            self.column.addWidget(b)
        if stage.name == STAGES[0].name:
            self._offer_search()
        if stage.name == "cloud" and s.job.clouds(sitting.id):
            self.column.addWidget(CloudPanel(s))
        if stage.name == "join" and s.job.join_found(sitting.id):
            self.column.addWidget(JoinPanel(s))
        if stage.name == "masks" and s.result("poses"):
            self.column.addWidget(ShapePanel(s))
        if stage.name == "scale" and s.result("poses"):
            self.column.addWidget(ScalePanel(s))
        if result:
            self._offer_split(result)
            if result.figures.get("calibration") or result.figures.get("gathering"):
                self.column.addWidget(CalibrationPanel(s, result, self.keep_wanted.emit))
            elif result.figures.get("source") == "card" and len(result.figures["groups"]) > 1:
                self.column.addWidget(LensGroups(s, result))
            self._ways(stage, result, cell, state)
            if stage.name == "poses":
                self._of_photo(result)
            self._problems(stage, result)
            self._figures(stage, result)
            self._plot(stage, result)
            if stage.name == "poses" and s.fragment == 0 and s.points.left is not None:
                self._text("Sift tie points", "plain")
                self.column.addWidget(SiftPanel(s))
            self._pairs(result)
        if stage.name == "poses" and s.photos():
            self._text("Points marked by hand", "plain")
            self.column.addWidget(PointsPanel(s))
        if stage.uses_keep_box and s.keep_box:
            self.column.addWidget(BoxPanel(s))

    def _join_mark(self, sitting):
        """What the bench of Join shows besides its result."""
        s = self.session
        if s.stage != "join" and not sitting.members:
            return s.stage == "masks" and s.result("poses") is not None
        solved = [bool(s.job.result(x.id, "poses")) for x in s.job.placements()]
        clouds = [bool(s.job.cloud(x.id)) for x in s.job.placements()]
        rows = [(r.id, r.name, r.members) for r in s.job.joined_rows()]
        found = s.job.join_found(sitting.id)
        return str((rows, solved, clouds, s.job.target_roles(), len(s.job.picks(sitting.id)), str(found)))

    def _elsewhere(self, sitting, stage):
        """A stage that is not computed with this row: where it is."""
        s = self.session
        if stage.name == "join":
            self.column.addWidget(JoinChoice(s))
            return
        self._text("It is made with the sittings that this one is joined from:")
        for m in s.joining.members():
            b = QPushButton(f"Go to “{m.name}”")
            b.clicked.connect(lambda _, i=m.id: s.choose(i))
            self.column.addWidget(b)

    def _remedy(self, stage):
        """The button that does what a failure's sentence advises."""
        remedy = self.session.remedy()
        if remedy:
            self._remedy_button(stage, remedy)

    def _remedy_button(self, stage, remedy, run=True):
        s = self.session
        kind, *more = remedy
        if kind == "bring in photos":
            text, act = "Bring in photos…", self.photos_wanted.emit
        elif kind == "find photos":
            text, act = "Find missing photos…", self.find_wanted.emit
        elif kind == "mark points":
            text, act = "Mark points", self._mark_points
        elif kind == "pick places":
            text, act = "Pick places…", lambda: PicksDialog(s, self.window()).join()
        elif kind == "state a length":
            text, act = "State a length", self._state_length
        elif kind == "fit the keep box":
            text, act = "Fit the keep box again", lambda: s.set_keep_box(None)
        elif kind == "go to":
            text, act = f"Go to {BY_NAME[more[0]].title}", lambda: s.choose(stage=more[0])
        elif kind == "set":
            title = stage.Settings.model_fields[more[0]].title
            text = f"Set “{title}” to {more[1]}" if more[1] != "" else f"Clear “{title}”"
            text += " and run" if run else ""
            act = lambda: (s.set_setting(stage.name, *more), s.run() if run else None)  # noqa: E731
        else:
            text, act = "Run it again", s.run
        b = QPushButton(text)
        b.clicked.connect(lambda _: act())
        self.column.addWidget(b)

    def show_part(self):
        """Show the part of the Scale bench that is to be shown now."""
        self._mark = None
        self.reload()

    def _mark_points(self):
        ScalePanel.shown = "Points"
        self.show_part()
        self.session.marking.set_on(True)

    def _state_length(self):
        ScalePanel.shown = "Lengths"
        self.session.choose(stage="scale")
        self.show_part()

    # ------------------------------------------------------------------ settings
    def _settings(self, sitting, stage):
        """The form; returns the values in it."""
        fields = stage.Settings.model_fields
        if not fields:
            return {}
        chosen = self.session.job.settings(sitting.id, stage.name)
        values = {n: chosen.get(n, f.default) for n, f in fields.items()}
        extras = {n: f.json_schema_extra or {} for n, f in fields.items()}
        # some settings belong to one choice of another
        fitting = [
            n
            for n in fields
            if extras[n].get("form", True)
            and stage.counts(sitting, n)
            and all(values[k] in v for k, v in extras[n].get("when", {}).items())
        ]
        short = [n for n in fitting if extras[n].get("short")] or fitting
        rest = [n for n in fitting if n not in short]
        form = QFormLayout()
        form.setSpacing(6)
        form.setLabelAlignment(Qt.AlignmentFlag.AlignLeft)

        def add(names):
            for n in names:
                f = fields[n]
                editor = make_editor(n, f, values[n], lambda k, v: self._change(stage, k, v), self.session.pick_color)
                label = QLabel(f.title)
                label.setToolTip(f.description)
                if n in chosen and chosen[n] != f.default:
                    label.setStyleSheet(f"color: {t.ACCENT};")
                form.addRow(label, editor)

        add(short)
        if self.unfolded:
            add(rest)
        self.column.addLayout(form)
        if rest:
            more = QPushButton(
                "Fewer settings" if self.unfolded else f"{counted(len(rest), 'more setting')}", objectName="link"
            )
            more.clicked.connect(self._fold)
            self.column.addWidget(more)
        return values

    def _foresight(self, sitting, stage):
        """What can be said of a run before it is made."""
        s = self.session
        try:
            settings = parse_settings(stage, s.job.settings(sitting.id, stage.name))
            seen = stage.foresee(s.job, sitting, settings)
        except (UmbrateError, OSError):
            return  # running says it better
        if seen is None:
            return
        self._text(seen.text, "quiet" if seen.good else "advice")
        if seen.remedy:
            self._remedy_button(stage, seen.remedy, run=False)

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
            self._text(
                f"Tried on {counted(len(preview.made), 'photo')}"
                + (f", of which {len(preview.made) - len(good)} got no mask" if len(good) < len(preview.made) else "")
                + ": click one. A changed setting is tried at once; nothing is kept until you run it."
            )
            self.column.addWidget(TriedMasks(s, preview))

    def _fold(self):
        self.unfolded = not self.unfolded
        self.reload()

    def _change(self, stage, name, value):
        before = self.session.job.settings(self.session.sitting_id, stage.name)
        if value != before.get(name, stage.Settings.model_fields[name].default):
            self.session.set_setting(stage.name, name, value)

    # ------------------------------------------------------------------ figures
    def _figures(self, stage, result):
        grid = QGridLayout()
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(3)
        for k, (name, value, meaning) in enumerate(stage.rows(result.figures)):
            a, b = QLabel(name), QLabel(value)
            a.setStyleSheet(f"color: {t.QUIET};")
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
            value = None
            if histogram.setting:
                settings = self.session.job.settings(self.session.sitting_id, stage.name)
                value = settings.get(histogram.setting, stage.Settings.model_fields[histogram.setting].default)
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

    def _pairs(self, result):
        """Of poses: which photos hang together."""
        grid = pairs_of(self.session, result)
        if grid is None:
            return
        self._text("Which photos share matches", "plain")
        self.column.addWidget(grid)
        self._text("In shooting order; lighter is more. A click shows two photos with their matches.")
        grid.asked.connect(lambda i, j: MatchesDialog(self.session, i, j, self).exec())

    def _offer_split(self, result):
        """Where frames of the bare backdrop were found: what they are good for."""
        s = self.session
        used = {p.id for p in s.photos() if not p.aside}
        bare = [i for i in result.figures.get("bare", []) if i in used]
        if not bare:
            return
        parts = propose_split(s.job, s.sitting, "bare")
        told = f"{counted(len(bare), 'photo')} show{'s' * (len(bare) == 1)} the bare backdrop."
        if len(parts) > 1:
            counts = [str(len(p)) for p, _ in parts]
            told += f" They separate {len(parts)} sittings of {', '.join(counts[:-1])} and {counts[-1]} photos."
        self._text(told, "advice")
        b = QPushButton(
            "Split there, keep them as plates" if len(parts) > 1 else "Keep them as plates", objectName="next"
        )
        b.clicked.connect(lambda: s.split("bare"))
        self.column.addWidget(b)

    def _offer_search(self):
        """Where files are gone: the way to point to their new place."""
        s = self.session
        states = [s.arrivals.file_state(p) for p in s.photos()]
        for state, act, text in (
            ("missing", self.find_wanted.emit, "Find missing photos…"),
            ("changed", s.arrivals.take_as_they_are, "Take them as they are now"),
        ):
            count = states.count(state)
            if count:
                told = f"{counted(count, 'file')} of this sitting {'is' if count == 1 else 'are'} {state}."
                if state == "changed":
                    told = told.replace("changed", "not as when brought in any more")
                    told += " Results made from what was there before are kept until you run them again."
                self._text(told, "advice")
                b = QPushButton(text)
                b.clicked.connect(lambda _, a=act: a())
                self.column.addWidget(b)

    def _ways(self, stage, result, cell, state):
        """Other ways to run the stage, where there is something to go on from."""
        if len(stage.ways) < 2 or state in ("running", "queued") or "made_from" not in result.figures:
            return
        s, row = self.session, QHBoxLayout()
        told = {
            "go on": "Keep the photos where they stand, let those set aside leave, and bring in the new ones",
            "adjust": "Move everything together once more with the lens and settings as they are now, in seconds",
        }
        for way in stage.ways[1:] if not s.sitting.members else ("adjust",):
            # where something changed, going on is what most people want
            b = QPushButton(way.capitalize())
            b.setToolTip(told[way])
            b.clicked.connect(lambda _, w=way: s.run(way=w))
            row.addWidget(b)
        self.column.addLayout(row)

    def _of_photo(self, result):
        """What Poses says of the chosen photo: figures, or why it was left out and what helps."""
        s = self.session
        photo = s.photo
        per = result.figures["per_photo"].get(str(photo.id)) if photo else None
        if per is None or photo.aside:
            return
        self._text(photo.name, "plain")
        if per["sightings"]:
            covered = f", {100 * per['covered']:.0f} % of the picture covered" if "covered" in per else ""
            self._text(f"{per['sightings']:,} sightings, residual {per['rms_px']:.2f} px{covered}")
            row = QHBoxLayout()
            for text, tip, act in (
                ("Its points", "Choose the tie points this photo sees", lambda: s.points.trace_to_points({photo.id})),
                ("Look through", "Look from its place, blended over the points  (Shift+E)", self.through_wanted.emit),
            ):
                b = QPushButton(text)
                b.setToolTip(tip)
                b.clicked.connect(lambda _, a=act: a())
                row.addWidget(b)
            self.column.addLayout(row)

    def _problems(self, stage, result):
        problems = [p for p in result.problems if p.get("kind") != "bare"]  # of those more is offered above
        if stage.name == "poses":  # that of the chosen photo first
            problems.sort(key=lambda p: p["photo"] != self.session.photo_id)
        for p in problems[:4]:
            self._text(f"{p['text']} {p['hint']}", "advice")
            if p.get("remedy"):
                self._remedy_button(stage, p["remedy"], run=False)
            if p["photo"] is None:
                continue
            row = QHBoxLayout()
            show = QPushButton("Show it")
            show.clicked.connect(lambda _, i=p["photo"]: self.session.choose(photo_id=i))
            aside = QPushButton("Set it aside")
            aside.clicked.connect(lambda _, i=p["photo"]: self.session.set_aside({i}))
            row.addWidget(show)
            row.addWidget(aside)
            row.addStretch(1)
            self.column.addLayout(row)
            photo = next((x for x in self.session.photos() if x.id == p["photo"]), None)
            if p.get("kind") == "soft" and photo:
                self.column.addWidget(Evidence(self.session, photo, result))
        if len(problems) > 4:
            self._text(f"and {len(problems) - 4} more: the strip can show them, sorted or filtered")

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
