"""The ends of a ramp of color, to be typed."""

from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QToolButton, QWidget

from ..plain import Label


class RampEnds(QWidget):
    """From where to where a ramp runs.

    Parameters
    ----------
    take : callable((low, high) or None)
        Called with what was typed; None: as the values say.
    usual : what the ends are then, for people
    """

    def __init__(self, take, usual):
        super().__init__()
        self.take, self._legend = take, None
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        self.low, self.high = (QLineEdit() for _ in range(2))
        for e, tip in ((self.low, "The ramp begins here"), (self.high, "The ramp ends here")):
            e.setToolTip(tip)
            e.editingFinished.connect(self._typed)
        button = QToolButton(text="Usual")
        button.setToolTip(usual)
        button.clicked.connect(lambda: self.take(None))
        for w, stretch in ((Label("From"), 0), (self.low, 1), (Label("to"), 0), (self.high, 1), (button, 0)):
            row.addWidget(w, stretch)

    def show_ends(self, legend):
        """Show the ends of a legend (low, high, ...); hidden without one."""
        self._legend = legend
        self.setVisible(legend is not None)
        if legend:
            self.low.setText(f"{legend[0]:.4g}")
            self.high.setText(f"{legend[1]:.4g}")

    def _typed(self):
        try:
            low, high = (float(e.text().replace(",", ".")) for e in (self.low, self.high))
        except ValueError:
            self.show_ends(self._legend)
            return
        shown = self._legend and (f"{self._legend[0]:.4g}", f"{self._legend[1]:.4g}")
        if low < high and shown and (f"{low:.4g}", f"{high:.4g}") != shown:
            self.take((low, high))
        else:
            self.show_ends(self._legend)
