"""Shooting into the open job: a folder is watched while the window stays alive, and what comes of it is shown."""

from collections import deque
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ...core.errors import UmbrateError
from ...work.watching.shooting import Shooting

LOOK_MS = 400
MOST = 400  #: lines that are remembered


class ShootWork(QObject):
    """Does what the window asks of a watched folder.

    Attributes
    ----------
    work : Shooting or None
    lines : deque of (kind, text)
        What was told, oldest first; kinds as of `Shooting`.
    drawn : bool
        Whether the quick surface is drawn in the scene.
    """

    changed = pyqtSignal()
    stood = pyqtSignal()  #: the first photos stand
    placed = pyqtSignal()  #: what is drawn in the scene is other than before
    heard = pyqtSignal(bool)  #: a photo came in: whether it is good

    def __init__(self, session):
        super().__init__(session)
        self.session, self.work = session, None
        self.lines, self._looking, self._placed = deque(maxlen=MOST), False, False
        self.drawn, self._frame, self._first_frame, self._chosen = True, None, None, False
        self._timer = QTimer(self, interval=LOOK_MS)
        self._timer.timeout.connect(self._look)

    @property
    def folder(self):
        """The folder that is watched, or None."""
        return self.work.arrivals.folder if self.work else None

    @property
    def first(self):
        """The FirstPlace of photos that have just come into the sitting that is shown, and are in no block yet."""
        here = self.work.sitting if self.work and self.session.job else None
        if here is None or here.id != self.session.sitting_id or self.session.frame_key != self._first_frame:
            return []
        return list(self.work.first.values())

    @property
    def shell(self):
        """The QuickSurface of the sitting that is shown, where its poses are looked at; None without one."""
        s, found = self.session, self.work.next if self.work else None
        if not self.drawn or found is None or s.job is None or s.stage != "poses" or s.fragment:
            return None
        here = self.work.sitting
        return found.surface if here and here.id == s.sitting_id and s.frame_key == self._frame else None

    def draw(self, on):
        """Whether the quick surface is drawn."""
        self.drawn = on
        self.placed.emit()

    def begin(self, folder, name):
        """Watch a folder; its photos come into the sitting of a name."""
        s = self.session
        if not s.may_write():
            return
        try:
            self.work = Shooting(s.job, name, Path(folder), s.queue, s.tasks, self._tell)
        except UmbrateError as e:
            self._tell("trouble", str(e))
            return
        self._looking = self._placed = self._chosen = False
        self._tell("folder", f"Watching {folder}.")
        self._timer.start()

    def stop(self):
        """Watch no more; what came in stays."""
        if self.work is None:
            return
        self._timer.stop()
        self.work = None
        self._tell("folder", "Stopped watching.")

    def _look(self):
        """Look at the folder beside the window, and go on with what came."""
        s, work = self.session, self.work
        if work is None or s.job is None:
            return
        if not self._looking:
            self._looking = True
            s.in_background(work.look, lambda news: self._take(work, news), self._failed)
        if s.recipes.follower is None and work.step():
            here = work.sitting
            s.changed()
            if here and not self._chosen:
                self._chosen = True  # once: who looks at something else then stays there
                s.choose(here.id)
            s.listening.wake()

    def _take(self, work, news):
        self._looking = False
        if work is self.work:
            work.take(news)

    def _failed(self, sentence):
        self._looking = False
        self._tell("trouble", sentence)

    def _tell(self, kind, text):
        self.lines.append((kind, text))
        self.session.log.write(text)
        if kind in ("good", "bad"):
            self.heard.emit(kind == "good")
        elif kind == "placed" and not self._placed and self.work.sitting:
            self._placed = True  # once, likewise
            self.session.choose(self.work.sitting.id, "poses")
            self.stood.emit()
        elif kind == "first":
            self._first_frame = self.session.frame_key
            self.placed.emit()
        elif kind == "next":
            self._show_next()
        self.changed.emit()

    def _show_next(self):
        """Color the tie points by what is missing, and draw where to stand."""
        s, here = self.session, self.work.sitting if self.work else None
        self._frame = s.frame_key
        if here and s.sitting_id == here.id and s.stage == "poses":
            s.points.cover()
