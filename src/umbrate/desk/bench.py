"""The bench: settings, figures, one plot and advice for the chosen cell, all made from the stage."""

from typing import get_args

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QFormLayout,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSpinBox,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ..stages import BY_NAME
from ..work.state import WORDS
from . import tokens as t
from .board import short_time

WIDTH = 330


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


class Bench(QScrollArea):
    """The panel at the right."""

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
                str(s.keep_box),
                cell.detail,
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
                "anywhere on this window, or use Job, Add photos.",
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
        self._text(stage.about)
        if cell.state == "failed" and state not in ("running", "queued"):
            self._text(cell.detail, "advice")
        self._settings(sitting, stage)
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
        following = {"photos": "masks", "masks": "poses", "poses": "cloud"}.get(stage.name)
        if (
            result
            and cell.state in ("done", "look")
            and following
            and s.result(following) is None
            and state == cell.state
        ):
            b = QPushButton(f"Next: run {BY_NAME[following].title}", objectName="next")
            b.clicked.connect(lambda: (s.choose(stage=following), s.run()))
            self.column.addWidget(b)
        if result:
            self._figures(stage, result)
            self._plot(stage, result)
            self._problems(result)
        if stage.name in ("poses", "cloud") and s.keep_box:
            self._keep_box(sitting)

    # ------------------------------------------------------------------ settings
    def _settings(self, sitting, stage):
        fields = stage.Settings.model_fields
        if not fields:
            return
        chosen = self.session.job.settings(sitting.id, stage.name)
        short = [n for n, f in fields.items() if (f.json_schema_extra or {}).get("short")] or list(fields)
        rest = [n for n in fields if n not in short]
        form = QFormLayout()
        form.setSpacing(6)
        form.setLabelAlignment(Qt.AlignmentFlag.AlignLeft)

        def add(names):
            for n in names:
                f = fields[n]
                editor = make_editor(n, f, chosen.get(n, f.default), lambda k, v: self._change(stage, k, v))
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
            more = QPushButton("Fewer settings" if self.unfolded else f"{len(rest)} more settings", objectName="link")
            more.clicked.connect(self._fold)
            self.column.addWidget(more)

    def _fold(self):
        self.unfolded = not self.unfolded
        self.reload()

    def _change(self, stage, name, value):
        before = self.session.job.settings(self.session.sitting_id, stage.name)
        if value != before.get(name, stage.Settings.model_fields[name].default):
            self.session.set_setting(stage.name, name, value)

    # ------------------------------------------------------------------ figures
    def _rows(self, stage, f):
        if stage.name == "photos":
            return [
                ("Photos", f"{f['photos']}", "Photos in use in this sitting"),
                ("Readable", f"{f['readable']}", "Photos whose file could be decoded to the end"),
                ("Cameras", f"{f['cameras']}", "Different cameras by EXIF"),
                ("Together", f"{f['megapixels']:.0f} MP", "Pixels of all photos"),
            ]
        if stage.name == "masks":
            share = "-" if f["share"] is None else f"{100 * f['share']:.1f} %"
            return [
                ("Photos with a mask", f"{f['masks']} of {f['photos']}", "The others are used whole"),
                ("Object fills", share, "Share of the picture inside the mask, median of the photos"),
            ]
        if stage.name == "poses":
            L = f["lens"]
            return [
                ("Placed", f"{f['solved']} of {f['photos']}", "Photos with a solved pose"),
                ("Residual", f"{f['rms_px']:.2f} px", "Root mean square distance between seen and predicted sightings"),
                ("Tie points", f"{f['points']:,}", "Points of the sparse cloud"),
                ("Sightings", f"{f['sightings']:,}", "Tie points as seen in photos; more per point is better"),
                ("Matched pairs", f"{f['pairs']} of {f['pairs_tried']}", "Photo pairs that show the same surface"),
                ("Focal length", f"{L['f']:.1f} px", f"Solved; the EXIF data said {L['start_f']:.0f} px"),
                ("Principal point", f"{L['cx']:.1f}, {L['cy']:.1f} px", "Where the optical axis meets the picture"),
                ("k1, k2, k3", ", ".join(f"{x:.4f}" for x in L["k"]), "Radial distortion (Brown-Conrady)"),
            ]
        return [
            ("Points", f"{f['points']:,}", "Points of the dense cloud"),
            ("Photos a point", f"{f['photos_per_point']:.1f}", "Mean number of photos that agree on a point"),
            ("Likeness", f"{f['score']:.2f}", "Median correlation of the patches, 1 is the same"),
            ("Pixel on the object", f"{f['pixel_size']:.2g} (unscaled)", "Size of one pixel at the photo scale used"),
            (
                "Removed",
                f"{f['removed_isolated'] + f['removed_outline']:,}",
                f"Isolated: {f['removed_isolated']:,}; outside the masks' outlines: {f['removed_outline']:,}",
            ),
        ]

    def _figures(self, stage, result):
        grid = QGridLayout()
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(3)
        for k, (name, value, meaning) in enumerate(self._rows(stage, result.figures)):
            a, b = QLabel(name), QLabel(value)
            a.setStyleSheet(f"color: {t.QUIET};")
            b.setAlignment(Qt.AlignmentFlag.AlignRight)
            for w in (a, b):
                w.setToolTip(meaning)
            grid.addWidget(a, k, 0)
            grid.addWidget(b, k, 1)
        self.column.addSpacing(4)
        self.column.addLayout(grid)
        self._text(f"Made {result.made.replace('T', ' ')} in {short_time(result.seconds)}")

    def _plot(self, stage, result):
        if stage.name == "poses" and self.session.block is not None:
            values = np.linalg.norm(self.session.block["residual"], axis=1)
            heights, edges = np.histogram(values, bins=30, range=(0, 2.0))
            title, axis = "Residuals of the sightings", "distance seen to predicted (px)"
        elif stage.name == "cloud":
            heights = np.array(result.figures["photos_histogram"][2:])
            edges = np.arange(2, 3 + len(heights)) - 0.5
            title, axis = "Photos that agree on a point", "photos"
        elif stage.name == "photos" and result.figures["sharpness"]:
            heights, edges = np.histogram(list(result.figures["sharpness"].values()), bins=16)
            title, axis = "Sharpness of the photos", "fine detail over coarse detail"
        else:
            return
        self._text(title, "plain")
        plot = pg.PlotWidget(background=t.PANEL)
        plot.setFixedHeight(130)
        plot.addItem(
            pg.BarGraphItem(x0=edges[:-1], x1=edges[1:], height=heights, brush=t.CATEGORIES[1], pen=pg.mkPen(t.PANEL))
        )
        plot.setMouseEnabled(False, False)
        plot.hideButtons()
        plot.setMenuEnabled(False)
        for side in ("left", "bottom"):
            a = plot.getAxis(side)
            a.setPen(t.LINE)
            a.setTextPen(t.QUIET)
            a.setTickFont(t.font(10))
        plot.getAxis("left").setWidth(44)
        plot.setLabel("bottom", axis, color=t.QUIET, **{"font-size": "11px"})
        self.column.addWidget(plot)

    def _problems(self, result):
        for p in result.problems[:4]:
            self._text(f"{p['text']} {p['hint']}", "advice")
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
        if len(result.problems) > 4:
            self._text(f"and {len(result.problems) - 4} more; the strip can show them: Not placed")

    def _keep_box(self, sitting):
        s = self.session
        by_hand = s.job.keep_box(sitting.id) is not None
        self._text(f"Keep box: {'set by hand' if by_hand else 'fitted to the tie points'}", "plain")
        row = QHBoxLayout()
        for text, factor in (("Larger", 1.1), ("Smaller", 1 / 1.1)):
            b = QPushButton(text)
            b.setToolTip("Changes all sides by 10 %")
            b.clicked.connect(
                lambda _, f=factor: s.set_keep_box({**s.keep_box, "half": [h * f for h in s.keep_box["half"]]})
            )
            row.addWidget(b)
        b = QPushButton("Fit again")
        b.setEnabled(by_hand)
        b.clicked.connect(lambda: s.set_keep_box(None))
        row.addWidget(b)
        self.column.addLayout(row)

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
