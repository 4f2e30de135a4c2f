"""What the window will need soon is made ready once it stands: libraries, kernels and plots, while nobody waits.

Libraries are imported and kernels are read from their cache in a thread. Plots are widgets, so they are made in the
window's thread, one at a time.
"""

import gc
import importlib
import logging
import threading

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ..work.warming import warm_drawing
from .plots import make_spare

log = logging.getLogger(__name__)
LIBRARIES = ("pyqtgraph", "scipy.spatial", "scipy.ndimage", "scipy.sparse.linalg", "skimage.color")
PAUSE_MS = 30  #: between two plots, for whatever the user does meanwhile
OPEN_MS = 2500  #: after a job was opened, before the worker starts: its cloud is read first, which takes both cores


class Warmth(QObject):
    """Makes ready what the first clicks need, once `begin` is called."""

    _read = pyqtSignal()

    def __init__(self, window):
        super().__init__(window)
        self._session = window.session
        self._read.connect(self._make_plots)
        self._session.job_changed.connect(self._start_worker)

    def begin(self):
        """Begin; returns at once."""
        threading.Thread(target=self._work, daemon=True, name="umbrate-warmth").start()

    def _work(self):
        try:
            warm_drawing()
            for name in LIBRARIES:
                importlib.import_module(name)
            self._read.emit()
        except Exception:  # whoever needs it meets it again, and tells
            log.warning("not everything could be made ready", exc_info=True)

    def _start_worker(self):
        """Have the process that runs stages make itself ready: it takes two seconds to import what it needs."""
        queue = self._session.queue

        def start():
            queue.worker.start()
            if self._session.queue is not queue:
                queue.worker.close()  # the job was closed meanwhile

        def begin():
            if self._session.queue is queue:
                threading.Thread(target=start, daemon=True, name="umbrate-begin").start()

        if queue is not None and self._session.job.writable:
            QTimer.singleShot(OPEN_MS, begin)

    def _make_plots(self):
        if make_spare():
            # what was made so far stays: looking through it again and again for what can go takes 50 ms each time
            gc.collect()
            gc.freeze()
        else:
            QTimer.singleShot(PAUSE_MS, self._make_plots)
