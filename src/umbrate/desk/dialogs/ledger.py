"""The ledger as a page: what ran, in this job or in those opened lately, two runs side by side, back to a result."""

from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QPlainTextEdit,
    QPushButton,
    QSplitter,
    QTableWidget,
    QTableWidgetItem,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from ...core.errors import UmbrateError
from ...formats.files import written_aside
from ...job.store import Job
from ...stages import BY_NAME, STAGES, figures_of, ledger
from ...work.state import is_current, why_stale
from .. import tokens as t
from ..plain import Label, set_tone
from ..text import short_time
from ..welcome import recent_jobs
from .writing import ask_file, beside, write_now

HEADS = ("When", "Job", "Sitting", "Stage", "Time", "Outcome", "Figures", "Kept")
WHEN, JOB, SITTING, STAGE, TIME, OUTCOME, FIGURES, KEPT = range(8)
THIS, LATELY, EVERY = "This job", "All jobs opened lately", "All stages"


def read_ledgers(folders):
    """(name, folder, entries, ids that can be gone back to) of jobs; those that cannot be read are passed over."""
    out = []
    for folder in folders:
        try:
            with Job.open(folder, writable=False) as job:
                entries = job.ledger()
                can = job.can_go_back([e.id for e in entries if ledger.can_be_gone_back_to(e)])
                out.append((job.name, str(job.folder), entries, can))
        except UmbrateError:
            continue
    return out


def write_ledger(file, rows, gate):
    """Write runs (job's name, entry) into a CSV file; returns how many."""
    with written_aside(file, gate) as part, open(part, "w", newline="", encoding="utf-8") as f:
        names = iter([name for name, _ in rows])
        ledger.write_rows(f, [e for _, e in rows], [("job", lambda e: next(names)), ("run", lambda e: e.id)])
    return len(rows)


class LedgerDialog(QDialog):
    """What ran: when, on what, how long, with which outcome, settings and figures."""

    def __init__(self, session, parent=None):
        super().__init__(parent)
        self.session, self.rows = session, []
        self.setWindowTitle("Ledger: what ran")
        self.resize(1120, 680)
        lately = QPlainTextEdit(readOnly=True)
        lately.setPlainText("\n".join(session.log.lines) or "Nothing has run since the window was opened.")
        lately.moveCursor(lately.textCursor().MoveOperation.End)
        tabs = QTabWidget()
        tabs.addTab(self._make_page(), "Ledger")
        tabs.addTab(lately, "Log since the window was opened")
        box = QVBoxLayout(self)
        box.addWidget(tabs)
        self._read()

    def _make_page(self):
        page = QWidget()
        box = QVBoxLayout(page)
        row = QHBoxLayout()
        self.whose, self.stage = QComboBox(), QComboBox()
        self.whose.addItems([THIS, LATELY])
        self.stage.addItems([EVERY, *(s.title for s in STAGES)])
        self.whose.currentIndexChanged.connect(lambda _: self._read())
        self.stage.currentIndexChanged.connect(lambda _: self._fill())
        self.count = Label(objectName="quiet")
        export = QPushButton("Export as CSV…")
        export.clicked.connect(self._export)
        for w in (self.whose, self.stage, self.count):
            row.addWidget(w)
        row.addStretch(1)
        row.addWidget(export)
        box.addLayout(row)
        self.table = self._table(HEADS, QAbstractItemView.SelectionMode.ExtendedSelection)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.itemSelectionChanged.connect(self._show)
        for c, width in ((WHEN, 180), (JOB, 110), (SITTING, 110), (STAGE, 80), (TIME, 70), (OUTCOME, 80), (KEPT, 50)):
            self.table.setColumnWidth(c, width)
        self.table.horizontalHeader().setSectionResizeMode(FIGURES, QHeaderView.ResizeMode.Stretch)
        below = QWidget()
        column = QVBoxLayout(below)
        column.setContentsMargins(0, 4, 0, 0)
        self.told = Label(objectName="quiet")
        self.told.setWordWrap(True)
        self.beside = self._table(("", "", ""), QAbstractItemView.SelectionMode.NoSelection)
        self.beside.setColumnWidth(0, 230)
        for c in (1, 2):
            self.beside.horizontalHeader().setSectionResizeMode(c, QHeaderView.ResizeMode.Stretch)
        self.back = QPushButton("Go back to this result")
        self.back.setToolTip("Its data and settings become the present ones; what is there now stays in the ledger")
        self.back.clicked.connect(self._go_back)
        line = QHBoxLayout()
        line.addWidget(self.told, 1)
        line.addWidget(self.back)
        column.addLayout(line)
        column.addWidget(self.beside, 1)
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(self.table)
        split.addWidget(below)
        split.setSizes([330, 270])
        split.setChildrenCollapsible(False)
        box.addWidget(split, 1)
        return page

    @staticmethod
    def _table(heads, mode):
        table = QTableWidget(0, len(heads))
        table.setHorizontalHeaderLabels(heads)
        table.verticalHeader().hide()
        table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        table.setSelectionMode(mode)
        table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        return table

    # ------------------------------------------------------------------ what ran
    def _read(self):
        here = str(self.session.job.folder)
        others = recent_jobs() if self.whose.currentText() == LATELY else []
        folders = [here, *(f for f in others if str(Path(f).resolve()) != str(Path(here).resolve()))]
        self.session.in_background(partial(read_ledgers, folders), self._take, self._say_bad, series="ledger")

    def _take(self, read):
        # a line of several jobs is known by its folder and its number
        self.rows = sorted(
            ((name, folder, e, e.id in can) for name, folder, entries, can in read for e in entries),
            key=lambda r: (r[2].when, r[2].id), reverse=True,
        )  # fmt: skip
        self._fill()

    def shown(self):
        """The rows that are listed: (job's name, folder, entry, whether it can be gone back to)."""
        title = self.stage.currentText()
        names = {s.name for s in STAGES if title in (EVERY, s.title)}
        return [r for r in self.rows if title == EVERY or r[2].stage in names]

    def _fill(self):
        rows = self.shown()
        self.table.setRowCount(len(rows))
        for r, (name, _, e, can) in enumerate(rows):
            stage = BY_NAME.get(e.stage)
            key, lines = figures_of(e)
            cells = (
                e.when.replace("T", " "), name, e.sitting, stage.title if stage else e.stage, short_time(e.seconds),
                e.outcome, e.message or key, "yes" if can else "",
            )  # fmt: skip
            tips = {FIGURES: "\n".join(f"{x}: {text}" for x, text, _ in lines) or e.message}
            for c, text in enumerate(cells):
                item = QTableWidgetItem(text)
                item.setToolTip(tips.get(c) or text)
                if e.outcome != "done" and c == OUTCOME:
                    item.setForeground(t.color(t.STATE_COLORS["failed"]))
                self.table.setItem(r, c, item)
        self.table.setColumnHidden(JOB, self.whose.currentText() == THIS)
        self.count.setText(f"{len(rows):,} runs")
        self._show()

    def chosen(self):
        """The rows that are chosen, the older first."""
        rows, picked = self.shown(), {i.row() for i in self.table.selectedIndexes()}
        return [rows[k] for k in sorted(picked, reverse=True) if k < len(rows)]

    def _show(self):
        chosen = self.chosen()
        self.back.setEnabled(False)
        if len(chosen) == 1:
            self._show_one(*chosen[0])
        elif len(chosen) == 2:
            self._show_two(*chosen)
        else:
            self._put([], ("", "", ""))
            self._tell(
                "Choose a run to see its settings and figures; two of one stage to see them side by side (Ctrl)."
            )

    def _show_one(self, name, folder, entry, can):
        stage = BY_NAME.get(entry.stage)
        values = ledger.settings_of(entry) if stage else entry.settings
        fields = stage.Settings.model_fields if stage else {}
        rows = [(fields[k].title or k if k in fields else k, ledger.told(stage, k, v), "setting")
                for k, v in values.items()]  # fmt: skip
        rows += [(title, text, meaning) for title, text, meaning in figures_of(entry)[1]]
        self._put(rows, ("", "This run", "What it is"))
        here = folder == str(self.session.job.folder)
        self.back.setEnabled(bool(can and here and self.session.job.writable))
        if not values and stage:
            self._tell("All settings by default." if entry.outcome == "done" else entry.message)
        else:
            self._tell(entry.message)

    def _show_two(self, first, second):
        a, b = first[2], second[2]
        if a.stage != b.stage:
            self._put([], ("", "", ""))
            self._tell("These are runs of different stages: choose two of one stage.")
            return
        settings = ledger.differing_settings(a, b)
        rows = [("Time", short_time(a.seconds), short_time(b.seconds)), *settings]
        rows += [(title, x, y) for title, x, y, _ in ledger.figures_beside(a, b)]
        several = first[1] != second[1]
        heads = [
            f"{f'{n}, ' if several else ''}{e.sitting}, {e.when.replace('T', ' ')}" for n, _, e, _ in (first, second)
        ]
        self._put(rows, ("", *heads), differing=True)
        n = len(settings)
        self._tell(f"{n} setting{'' if n == 1 else 's'} differ{'s' if n == 1 else ''}." if n else "The same settings.")

    def _put(self, rows, heads, differing=False):
        self.beside.setHorizontalHeaderLabels(heads)
        self.beside.setRowCount(len(rows))
        for r, cells in enumerate(rows):
            for c, text in enumerate(cells):
                item = QTableWidgetItem(str(text))
                item.setToolTip(str(text))
                if c == 0 or (differing and cells[1] == cells[2]):
                    item.setForeground(t.color(t.QUIET))
                self.beside.setItem(r, c, item)

    def _tell(self, text, bad=False):
        self.told.setText(text)
        set_tone(self.told, "bad" if bad else "quiet")

    def _say_bad(self, sentence):
        self._tell(sentence, bad=True)

    # ------------------------------------------------------------------ doing
    def _go_back(self):
        s, (_, _, entry, _) = self.session, self.chosen()[0]
        run = s.running()
        if run and (run.sitting.id, run.stage) == (entry.sitting_id, entry.stage):
            self._tell("This stage runs now. Wait until it is done, or cancel it.", bad=True)
            return
        try:
            s.job.go_back(entry.id, ledger.keeps_of(entry), ledger.settings_of(entry))
        except UmbrateError as e:
            self._tell(str(e), bad=True)
            return
        s.changed()
        s.measuring.follow()
        sitting = next(x for x in s.job.sittings() if x.id == entry.sitting_id)
        stage = BY_NAME[entry.stage]
        stale = "" if is_current(s.job, sitting, stage) else f" It is stale: {why_stale(s.job, sitting, stage)}."
        s.said.emit(f"{stage.title} of “{sitting.name}” is as it was at {entry.when.replace('T', ' ')}.{stale}", "good")
        self._read()

    def _export(self):
        rows = [(name, e) for name, _, e, _ in reversed(self.shown())]
        place = ask_file(self, "The ledger as CSV", str(beside(self.session.job, "-ledger.csv")), "CSV (*.csv)")
        if place:
            write_now(self.session, self, partial(write_ledger, place, rows),
                      lambda n: f"Wrote {n:,} runs to {place}")  # fmt: skip
