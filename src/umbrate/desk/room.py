"""Who has the room of the window: the scene, the photo, both, or everything; and what stands in a window of its own.

What fills the window comes back with the same key. Folded parts, and how the room is shared between scene and photo,
are remembered for this user.
"""

from PyQt6.QtCore import QObject, QSettings, Qt
from PyQt6.QtWidgets import QVBoxLayout, QWidget

SCENE, PHOTO, BOTH = "scene", "photo", "both"
BOARD, STRIP, BENCH = "board", "strip", "bench"


def _settings():
    return QSettings("umbrate", "umbrate")


class Alone(QWidget):
    """A window of its own for a view; closing it brings the view back."""

    def __init__(self, view, title, on_close):
        super().__init__(None, Qt.WindowType.Window)
        self.setWindowTitle(title)
        self.view, self._on_close = view, on_close
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.addWidget(view)
        view.show()
        self.resize(900, 700)

    def closeEvent(self, e):
        self._on_close()
        e.accept()


class Room(QObject):
    """Shares out a window's room.

    Parameters
    ----------
    window : the main window
    views : QSplitter
        With scene and photo.
    parts : dict of str to QWidget
        BOARD, STRIP and BENCH.
    """

    def __init__(self, window, views, parts):
        super().__init__(window)
        self.window, self.views, self.parts = window, views, parts
        self.of = {SCENE: window.scene, PHOTO: window.photo_view}
        self.filled, self.alone = None, {}
        stored = _settings().value("room/folded", []) or []
        self.folded = {x for x in ([stored] if isinstance(stored, str) else stored) if x in parts}
        shares = _settings().value("room/shares")
        views.setSizes([int(x) for x in shares] if shares and len(shares) == 2 else [500, 440])
        views.splitterMoved.connect(lambda *_: self._remember_shares())
        self.show()

    def fill(self, what):
        """Let SCENE, PHOTO or BOTH fill the window; again, and all is as before."""
        self.filled = None if self.filled == what else what
        self.show()
        (self.of[PHOTO] if what == PHOTO else self.of[SCENE]).setFocus()

    def fold(self, part, away=None):
        """Fold a part away or bring it back; where something fills the window all comes back first."""
        if self.filled:
            self.filled, away = None, False
        away = part not in self.folded if away is None else away
        self.folded = self.folded | {part} if away else self.folded - {part}
        _settings().setValue("room/folded", sorted(self.folded))
        self.show()

    def set_alone(self, which, on):
        """Put the scene or the photo into a window of its own, or back."""
        if on == (which in self.alone):
            return
        view = self.of[which]
        if on:
            title = f"{view.accessibleName()} - Umbrate"
            self.alone[which] = w = Alone(view, title, lambda: self.set_alone(which, False))
            w.addActions([*self.window.menus.of_job, *self.window.menus.always])  # their keys hold there too
            w.show()
        else:
            w = self.alone.pop(which)
            self.views.insertWidget(0 if which == SCENE else 1, view)
            w.deleteLater()
        if self.filled in (which, BOTH):
            self.filled = None
        self.show()

    def come_back(self):
        """Bring views in windows of their own back: the job, or the program, ends."""
        for which in list(self.alone):
            self.set_alone(which, False)

    def show(self):
        """Show what is to be seen."""
        for name, part in self.parts.items():
            part.setVisible(not self.filled and name not in self.folded)
        for which, view in self.of.items():
            if which not in self.alone:
                view.setVisible(self.filled in (None, BOTH, which))
        self.views.setVisible(len(self.alone) < len(self.of))
        for a in self.window.menus.of_room.values() if hasattr(self.window, "menus") else ():
            a.setChecked(self.is_on(a.data()))

    def is_on(self, what):
        """Whether something fills the window, is shown, or stands alone: of the menu's check marks."""
        kind, name = what
        if kind == "fill":
            return self.filled == name
        if kind == "part":
            return name not in self.folded
        return name in self.alone

    def _remember_shares(self):
        if not self.filled and not self.alone:
            _settings().setValue("room/shares", self.views.sizes())
