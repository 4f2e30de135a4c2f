"""What the tests of the window share: a window on Qt's offscreen platform, jobs to open in it, hands and eyes."""

import gc
import time
import unittest

import numpy as np
from PyQt6.QtCore import QEvent, QObject, QPoint, QPointF, QSettings, Qt, qInstallMessageHandler
from PyQt6.QtGui import QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLabel, QPushButton

from tests.scenes import scratch
from tests.test_stages import job_with
from umbrate.desk import appearance
from umbrate.desk.window import Window
from umbrate.stages import STAGES

#: stages of one sitting that is not joined
OF_SITTING = [s.name for s in STAGES if s.name != "join" and not s.only_asked]
APP = WATCH = None


COMPLAINTS = []
ASKED_S = 60  #: a dialog that a test opened by mistake waits for nobody


class Unasked(QObject):
    """Closes a dialog that nobody answers, and complains of it: its event loop would never end."""

    def __init__(self):
        super().__init__()
        self.dialog, self.since = None, 0.0
        self.startTimer(1000)

    def timerEvent(self, event):
        dialog, now = QApplication.activeModalWidget(), time.monotonic()
        if dialog is not self.dialog:
            self.dialog, self.since = dialog, now
        elif dialog is not None and now > self.since + ASKED_S:
            COMPLAINTS.append(f"nobody answered “{dialog.windowTitle()}” ({type(dialog).__name__})")
            dialog.close()


def setUpModule():
    global APP, WATCH
    COMPLAINTS.clear()
    # what Qt complains of (a painter on a dead device, a timer in a wrong thread) is a fault of the desk
    qInstallMessageHandler(lambda kind, _, text: COMPLAINTS.append(text))
    # what tests do must not show up among the user's recent jobs
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(scratch()))
    APP = QApplication.instance() or QApplication(["umbrate"])
    APP.setStyle("Fusion")
    appearance.put_on(APP)
    WATCH = Unasked()


def tearDownModule():
    global WATCH
    WATCH = None
    qInstallMessageHandler(None)
    real = [x for x in COMPLAINTS if not any(k in x for k in ("propagateSizeHints", "support raise()"))]
    if real:
        raise AssertionError(f"Qt complained: {real[:5]}")


def wait_for(condition, limit_s=90):
    """Let the window live until something holds."""
    end = time.monotonic() + limit_s
    while not condition():
        if time.monotonic() > end:
            raise AssertionError("waited in vain")
        QApplication.processEvents()
        time.sleep(0.01)
    QApplication.processEvents()


def texts(widget):
    """All label and button texts of a widget that is shown."""
    return [w.text() for kind in (QLabel, QPushButton) for w in widget.findChildren(kind)]


def white_in(widget):
    """Share of a widget's picture that is white."""
    image = widget.grab().toImage().convertToFormat(QImage.Format.Format_RGB32)
    data = image.constBits().asarray(image.sizeInBytes())
    return float((np.frombuffer(data, np.uint32) & 0xFFFFFF == 0xFFFFFF).mean())


class DeskTest(unittest.TestCase):
    def setUp(self):
        self.window = Window()
        self.window.resize(1280, 800)
        self.window.show()
        self.session = self.window.session
        self.addCleanup(self.finish)

    def finish(self):
        """End the window here and now: what is left for later may be collected in another thread, which Qt forbids."""
        self.window.close()
        self.window.deleteLater()
        APP.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
        self.window = self.session = None
        gc.collect()

    def open(self, *stages):
        """Open a pebble job in which these stages have run."""
        job, sitting = job_with(scratch() / "pebble", *stages)
        job.close()
        self.assertTrue(self.window.open_path(job.folder))
        APP.processEvents()
        return sitting

    def cell(self, stage, row=0):
        """Middle of a Board cell."""
        column = [s.name for s in STAGES].index(stage)
        return self.window.board.cell_rect(row, column).center()

    def state(self, stage):
        return next(self.session.state_of(c) for c in self.window.board.cells[0] if c.stage == stage)


class OneJob(unittest.TestCase):
    """Tests of one window with one job, in which `STAGES` have run; each test's changes are undone after it."""

    STAGES = ()

    @classmethod
    def setUpClass(cls):
        cls.case = DeskTest()
        cls.case.setUp()
        cls.addClassCleanup(cls.case.doCleanups)
        cls.window, cls.session = cls.case.window, cls.case.session
        cls.view, cls.scene = cls.window.photo_view, cls.window.scene
        cls.prepare()

    @classmethod
    def prepare(cls):
        cls.case.open(*cls.STAGES)

    def setUp(self):
        self.addCleanup(self.undo_to, self.steps())

    def steps(self):
        """How many changes can be undone."""
        return self.session.job.db.execute("SELECT count(*) FROM step WHERE NOT undone").fetchone()[0]

    def undo_to(self, steps):
        wait_for(lambda: self.session.tasks.idle and self.session.queue.idle)
        while self.steps() > steps:
            self.session.undo()
        wait_for(lambda: self.session.tasks.idle)

    def panel(self, kind):
        """The chosen stage's panel of a kind, as it is after all that happened."""
        bench = self.window.bench
        bench.rebuild()
        APP.processEvents()
        out = bench.findChildren(kind)[-1]
        bench.ensureWidgetVisible(out)
        return out

    def click(self, widget, pos, modifier=Qt.KeyboardModifier.NoModifier):
        QTest.mouseMove(widget, pos)
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, modifier, pos)
        APP.processEvents()

    def drag(self, widget, start, end, modifier=Qt.KeyboardModifier.NoModifier):
        """Press at one place, move to another in four steps, and let go there; the modifier is held at the end."""
        QTest.mousePress(widget, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
        for k in range(1, 5):
            QTest.mouseMove(widget, start + (end - start) * (k / 4))
            APP.processEvents()
        QTest.mouseRelease(widget, Qt.MouseButton.LeftButton, modifier, end)
        APP.processEvents()

    def show_photo(self, name):
        """Open a photo in the photo view; returns it when its pixels are there."""
        photo, view = next(p for p in self.session.photos() if p.name == name), self.view
        self.session.choose(photo_id=photo.id)
        wait_for(lambda: view.shown == photo.id and view._file[0] == photo.id and view.image is not None)
        wait_for(lambda: view.picture is not None)
        view.fit()
        return photo

    def at(self, x, y):
        """Where a pixel of the shown photo lies in the photo view."""
        q = self.view.placement.to_view().map(QPointF(x + 0.5, y + 0.5))
        return QPoint(round(q.x()), round(q.y()))
