"""The ledger as a table: what ran, when, on what, and with which figures."""

from PyQt6.QtWidgets import (
    QDialog,
    QHeaderView,
    QPlainTextEdit,
    QTableWidget,
    QTableWidgetItem,
    QTabWidget,
    QVBoxLayout,
)

from ...stages import BY_NAME, figures_of
from ..text import short_time

FIGURES = 5  #: their column


class LedgerDialog(QDialog):
    """What ran: when, on what, how long, with which outcome and settings."""

    def __init__(self, job, log=(), parent=None):
        super().__init__(parent)
        self.setWindowTitle("Ledger: what ran in this job")
        self.resize(980, 480)
        entries = list(reversed(job.ledger()))
        heads = ("When", "Sitting", "Stage", "Time", "Outcome", "Figures", "Settings and message")
        table = QTableWidget(len(entries), len(heads))
        table.setHorizontalHeaderLabels(heads)
        table.verticalHeader().hide()
        table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        for r, e in enumerate(entries):
            stage = BY_NAME.get(e.stage)
            key, lines = figures_of(e)
            told = e.message or ", ".join(f"{k} {v}" for k, v in e.settings.items())
            cells = (
                e.when.replace("T", " "),
                e.sitting,
                stage.title if stage else e.stage,
                short_time(e.seconds),
                e.outcome,
                key,
                told,
            )
            tips = {FIGURES: "\n".join(f"{name}: {text}" for name, text, _ in lines)}
            for c, text in enumerate(cells):
                item = QTableWidgetItem(text)
                item.setToolTip(tips.get(c) or text)
                table.setItem(r, c, item)
        table.resizeColumnsToContents()
        table.horizontalHeader().setSectionResizeMode(len(heads) - 1, QHeaderView.ResizeMode.Stretch)
        lately = QPlainTextEdit(readOnly=True)
        lately.setPlainText("\n".join(log) or "Nothing has run since the window was opened.")
        lately.moveCursor(lately.textCursor().MoveOperation.End)
        tabs = QTabWidget()
        tabs.addTab(table, "Ledger")
        tabs.addTab(lately, "Log since the window was opened")
        box = QVBoxLayout(self)
        box.addWidget(tabs)
