"""How long anything one does holds up the window: what runs in the window's thread, at the size of the demo's job.

``python bench/blocking.py JOB``: JOB is a demo job that was run; it is copied. Each thing is done in a real window
(offscreen), and the longest time in which the window answered nothing is printed, with where it was then. Nothing may
take longer than 50 ms.
"""

import argparse
import multiprocessing
import os
import shutil
import signal
import sys
import tempfile
import time
import traceback
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT)]
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

REACH_MS = 50
QUIET_S = 0.4  #: so long nothing may go on before the next thing is done


class Watch:
    """Tells how long the event loop stood still, and what the window's thread did then."""

    def __init__(self):
        from PyQt6.QtCore import QTimer

        self.timer = QTimer()
        self.timer.setInterval(2)
        self.timer.timeout.connect(self._tick)
        signal.signal(signal.SIGALRM, self._late)
        self.begin()
        self.timer.start()

    def begin(self):
        """Forget what was."""
        self.last, self.worst, self.where, self._seen = time.perf_counter(), 0.0, [], []

    def _tick(self):
        now = time.perf_counter()
        if now - self.last > self.worst:
            self.worst, self.where = now - self.last, self._seen
        self.last, self._seen = now, []
        signal.setitimer(signal.ITIMER_REAL, REACH_MS / 1e3, REACH_MS / 1e3)

    def _late(self, number, frame):
        ours = [f for f in traceback.extract_stack(frame) if "src/umbrate" in f.filename]
        self._seen = [*self._seen, [f"{Path(f.filename).stem}.{f.name}:{f.lineno}" for f in ours[-8:]]]


def photo(k):
    """Choose a photo of the sitting."""
    return lambda w: w.session.choose(photo_id=w.session.photos()[k].id)


def stage(name):
    """Choose a stage."""
    return lambda w: w.session.choose(stage=name)


def sitting(k):
    """Choose a sitting."""
    return lambda w: w.session.choose(w.session.job.sittings()[k].id)


def named(dialog, file, act):
    """Do something that asks for a file or a folder."""

    def do(w):
        from unittest import mock

        from PyQt6.QtWidgets import QFileDialog

        with mock.patch.object(QFileDialog, dialog, return_value=(str(file), "") if "File" in dialog else str(file)):
            act(w)

    return do


def things(out):
    """What one does, one after the other: (words, call of the window)."""
    big = "getSaveFileName"
    yield from (
        ("choose a sitting", sitting(0)), ("Photos", stage("photos")), ("Masks", stage("masks")),
        ("Lens", stage("lens")), ("Poses", stage("poses")), ("a photo", photo(3)), ("another photo", photo(9)),
        ("Scale", stage("scale")), ("Cloud", stage("cloud")), ("a photo with depth", photo(5)),
        ("the other sitting", sitting(1)),
        ("the joined row", sitting(2)), ("Join", stage("join")), ("Cloud of the row", stage("cloud")),
        ("color by likeness", lambda w: w.session.cleaning.set_look("precision")),
        ("coverage", lambda w: w.session.cleaning.cover()),
        ("try a filter", lambda w: w.session.cleaning.try_on({"filter": "lonely", "least": 6})),
        ("keep it", lambda w: w.session.cleaning.apply()),
        ("take it back", lambda w: w.session.undo()),
        ("set a photo aside", lambda w: w.session.edits.set_aside({w.session.photos()[2].id})),
        ("undo", lambda w: w.session.undo()),
        ("a setting", lambda w: w.session.edits.set_setting("cloud", "outline_votes", 2)),
        ("undo the setting", lambda w: w.session.undo()),
        ("the cloud as file", named(big, out / "c.ply", lambda w: w.deliver.cloud())),
        ("cameras as file", named(big, out / "c.json", lambda w: w.deliver.cameras())),
        ("masks as files", named("getExistingDirectory", out / "masks", lambda w: w.deliver.masks())),
        ("undistorted photos", named("getExistingDirectory", out / "straight", lambda w: w.deliver.undistorted())),
        ("try masks", lambda w: (w.session.choose(w.session.job.sittings()[0].id, "masks"), w.preview_masks())),
        ("distances of the parts", lambda w: (sitting(2)(w), stage("join")(w), w.session.joining.set_look("distance"))),
        ("find photos", named("getExistingDirectory", out, lambda w: w.find_missing())),
    )  # fmt: skip


def measure(folder, out, only=""):
    """(words, longest in ms, where) of each thing."""
    from PyQt6.QtCore import QTimer

    from umbrate.desk.__main__ import make_app
    from umbrate.desk.warmth import Warmth
    from umbrate.desk.window import Window

    app = make_app(["umbrate"])
    window = Window()
    window.resize(1280, 800)
    window.show()
    Warmth(window).begin()  # as the program does
    watch, rows = Watch(), []

    def rest():
        quiet = time.perf_counter()
        while time.perf_counter() - quiet < QUIET_S:
            app.processEvents()
            time.sleep(0.001)
            s = window.session
            if not (s.background.idle and s.tasks.idle and (s.queue is None or s.queue.idle)):
                quiet = time.perf_counter()

    rest()
    for words, act in [("open the job", lambda w: w.open_path(folder)), *things(out)]:
        watch.begin()
        QTimer.singleShot(0, lambda act=act: act(window))
        rest()
        rows.append((words, 1e3 * watch.worst, watch.where))
    window.session.close()
    return rows


def one_round(job):
    """The rows of `measure` on a copy of a job."""
    home = Path(tempfile.mkdtemp(prefix="umbrate-blocking-"))
    try:
        copy = home / "job.umbrate"
        shutil.copytree(job, copy)
        os.environ["XDG_STATE_HOME"] = str(home)
        return measure(copy, home / "out")
    finally:
        shutil.rmtree(home, ignore_errors=True)


def main():
    """Print the rows; the exit code is 0 only when none takes longer."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("job", type=Path)
    parser.add_argument("--where", action="store_true", help="print where the window was when it stood still")
    parser.add_argument(
        "--rounds", type=int, default=3,
        help="so often in a process of its own; the least counts, as other work on the machine only adds",
    )  # fmt: skip
    arguments = parser.parse_args()
    context = multiprocessing.get_context("spawn")
    rounds = []
    for _ in range(arguments.rounds):
        with ProcessPoolExecutor(1, context) as pool:
            rounds.append(pool.submit(one_round, arguments.job).result())
    good = True
    for same in zip(*rounds, strict=True):
        words, ms, where = min(same, key=lambda r: r[1])
        good &= ms <= REACH_MS
        print(f"{words}: {ms:.0f} ms (<= {REACH_MS})")
        if arguments.where and ms > REACH_MS:
            for stack in where:
                print("    " + " > ".join(stack))
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
