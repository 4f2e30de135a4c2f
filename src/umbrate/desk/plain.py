"""Texts as they are: what is written in a name, a problem or a message is never markup.

Widgets of Qt guess from a text whether it is markup, and a job may come from a stranger: a name with a picture tag
would load that picture, whatever it is. So every label is a `Label`, tips go through `PlainTips`, and messages are
made by `message`.
"""

import html

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QLabel, QMessageBox, QSizePolicy, QToolTip

from .text import local


class Label(QLabel):
    """A QLabel that shows its text as it is, but for the way numbers are written."""

    def __init__(self, text="", parent=None, **properties):
        super().__init__(parent, **properties)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)

    def setText(self, text):
        """Show a text, its numbers as the user's language writes them."""
        super().setText(local(text))


class CutLabel(Label):
    """A Label of one line that takes the room there is, and ends in … where that is too little."""

    def __init__(self, text="", parent=None, **properties):
        super().__init__(text, parent, **properties)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)

    def shown(self):
        """What can be read of the text."""
        return self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.contentsRect().width())

    def paintEvent(self, e):
        p = QPainter(self)
        self.style().drawItemText(
            p, self.contentsRect(), int(self.alignment()), self.palette(), self.isEnabled(), self.shown(),
            self.foregroundRole(),
        )  # fmt: skip


def set_tone(widget, tone, name=None):
    """Give a widget the color of what it says, as the style sheet has it: good, bad, look, quiet or none.

    name : its object name, where that changes too
    """
    widget.setProperty("tone", tone)
    if name is not None:
        widget.setObjectName(name)
    widget.style().unpolish(widget)
    widget.style().polish(widget)


def tip_text(text):
    """A text as a tip that shows it as it is."""
    if not Qt.mightBeRichText(text):
        return text
    return f"<p style='white-space: pre-wrap'>{html.escape(text)}</p>"


def show_tip(pos, text, widget):
    """Show a tip at a place of the screen."""
    QToolTip.showText(pos, tip_text(text), widget)


def button_text(text):
    """A text on a button or in a menu: a & in a name marks no key."""
    return text.replace("&", "&&")


def message(parent, text):
    """A QMessageBox with a text and no buttons yet."""
    box = QMessageBox(parent)
    box.setWindowTitle("Umbrate")
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.setText(text)
    return box


class PlainTips(QObject):
    """An event filter of the application: tips that could be taken for markup are shown as they are."""

    def eventFilter(self, widget, event):
        if event.type() != QEvent.Type.ToolTip or not widget.isWidgetType():
            return False
        text = self._tip_of(widget, event.pos())
        if not text or not Qt.mightBeRichText(text):
            return False
        show_tip(event.globalPos(), text, widget)
        return True

    @staticmethod
    def _tip_of(widget, pos):
        view = widget.parent()
        if isinstance(view, QHeaderView) and view.viewport() is widget:
            section = view.logicalIndexAt(pos)
            told = view.model().headerData(section, view.orientation(), Qt.ItemDataRole.ToolTipRole)
            return str(told) if section >= 0 and told else ""
        if isinstance(view, QAbstractItemView) and view.viewport() is widget:
            told = view.indexAt(pos).data(Qt.ItemDataRole.ToolTipRole)
            if told:
                return str(told)
        return widget.toolTip()
