"""The window: welcome page, or Board, scene, photo view, bench and strip of an open job."""

import sys
from pathlib import Path

from PyQt6.QtCore import QEvent, QProcess, Qt, QUrl
from PyQt6.QtGui import QCursor, QDesktopServices
from PyQt6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QMainWindow,
    QMessageBox,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QSplitter,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ..core.imaging.decode import PHOTO_SUFFIXES
from ..core.imaging.video import VIDEO_SUFFIXES
from ..job.folder import JobInUse
from ..stages import BY_NAME
from ..stages.base import Shown
from ..work.adding import is_video
from ..work.demo import demo_folder, make_demo_job
from ..work.logs import log_file, log_folder
from ..work.manual import FIRST
from . import appearance
from . import tokens as t
from .bench.bench import Bench
from .board import Board
from .deliver import Deliver
from .dialogs.asking import JOBS, PHOTOS, ask_folder, open_file
from .dialogs.batch import BatchDialog
from .dialogs.cluster import ClusterDialog
from .dialogs.ledger import LedgerDialog
from .dialogs.lens import ShelfDialog
from .dialogs.manual import ManualWindow, address_of
from .dialogs.newjob import NewJobDialog
from .dialogs.picks import PicksDialog
from .dialogs.problem import ProblemDialog
from .dialogs.queue import QueueDialog
from .dialogs.recipes import RecipesDialog
from .dialogs.shooting import ShootingDialog
from .dialogs.split import SplitDialog
from .dialogs.upkeep import UpkeepDialog
from .dialogs.video import VideoDialog
from .foot import Foot
from .menus import Menus
from .photo.view import PhotoView
from .plain import Label, message
from .room import BENCH, BOARD, BOTH, PHOTO, SCENE, STRIP, Room
from .scene.scene import Scene
from .session.session import Session
from .strip.strip import Strip
from .text import short_path
from .welcome import Welcome, remember_job

HINTS = {
    "Scene": "Left: turn   Shift or right: move   Wheel: zoom to the pointer   Click a photo: choose it   "
    "Click a point: turn round it   Drag with lasso, rectangle or brush: choose points",
    "Photo view": "Drag: move   Wheel: zoom to the pointer   Double click: whole photo",
    "Board: sittings by stages": "Click: choose   Ctrl+click: choose more   Double click or Enter: run   Arrows: move",
}


class Window(QMainWindow):
    """The main window. `session` is all that it shows."""

    def __init__(self):
        super().__init__()
        self.session = Session()
        self.setWindowTitle("Umbrate")
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.manual = self._batch = self._queue = self._shooting = None
        self.stack = QStackedWidget()
        self.setCentralWidget(self.stack)
        self.welcome = Welcome()
        self.stack.addWidget(self.welcome)
        self.stack.addWidget(self._make_desk())
        self.welcome.demo.connect(self.open_demo)
        self.welcome.new.connect(self.new_job)
        self.welcome.open.connect(self.open_job)
        self.welcome.recent.connect(self.open_path)
        self.deliver = Deliver(self)
        self.menus = Menus(self)
        self._make_top()
        s = self.session
        s.job_changed.connect(self._job_changed)
        s.said.connect(self._on_said)
        s.document_changed.connect(self._refresh)
        self._refresh()

    # ------------------------------------------------------------------ build
    def _make_desk(self):
        s = self.session
        self.board, self.scene, self.photo_view = Board(s), Scene(s), PhotoView(s)
        self.bench, self.strip = Bench(s), Strip(s)
        self.board.menu_wanted.connect(lambda pos: self.menus.show_board_menu(pos))
        self.bench.photos_wanted.connect(self.bring_in)
        self.bench.find_wanted.connect(self.find_missing)
        self.bench.preview_wanted.connect(self.preview_masks)
        self.bench.keep_wanted.connect(lambda: self.deliver.card())
        self.bench.sheets_wanted.connect(lambda: self.deliver.sheets())
        self.bench.through_wanted.connect(lambda: self.scene.look_through(s.photo_id))
        self.bench.kind_wanted.connect(self.strip.show_only)
        self.strip.menu_wanted.connect(lambda pos: self.menus.show_strip_menu(pos))
        scroll = QScrollArea()
        scroll.setWidget(self.board)
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.board_scroll = scroll
        views = QSplitter(Qt.Orientation.Horizontal)
        views.addWidget(self.scene)
        views.addWidget(self.photo_view)
        views.setHandleWidth(4)
        views.setChildrenCollapsible(False)
        left = QVBoxLayout()
        left.setContentsMargins(0, 0, 0, 0)
        left.setSpacing(4)
        left.addWidget(views, 1)
        left.addWidget(self.strip)
        middle = QHBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(4)
        middle.addLayout(left, 1)
        middle.addWidget(self.bench)
        desk = QWidget()
        column = QVBoxLayout(desk)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addWidget(scroll)
        column.addLayout(middle, 1)
        self.foot = Foot(s)
        self.foot.photos_wanted.connect(self.bring_in)
        for w, address in (
            (self.board, "guide.md#The Board"), (self.strip, "photos-and-masks.md#Sittings"), (self.foot, FIRST),
        ):  # fmt: skip
            w.setProperty("manual", address)
        for w in (self.scene, self.photo_view, self.board):
            self.foot.watch(w, HINTS[w.accessibleName()])
        column.addWidget(self.foot)
        self.room = Room(self, views, {BOARD: scroll, STRIP: self.strip, BENCH: self.bench})
        return desk

    def show_manual(self, address=FIRST):
        """Show a page of the manual, in a window beside this one."""
        if self.manual is None:
            self.manual = ManualWindow(self)
        self.manual.show_address(address)
        self.manual.show()
        self.manual.raise_()
        self.manual.activateWindow()

    def show_manual_here(self):
        """Show the page for what is under the pointer, or for the chosen stage."""
        widget = QApplication.widgetAt(QCursor.pos())
        inside = widget is not None and (widget is self or self.isAncestorOf(widget) or widget.window() is not self)
        self.show_manual(address_of(self, widget if inside else None))

    def report_problem(self):
        """Collect what helps to understand a problem."""
        ProblemDialog(self.session, self).exec()

    def show_log(self):
        """Show the folder of the log file, and say where it is."""
        self.session.said.emit(f"The log is {log_file()}", "note")
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(log_folder())))

    def _make_top(self):
        """The row at the top: menus, the job's name, the finder, undo and redo."""
        bar = self.menus.bar
        bar.setSizePolicy(QSizePolicy.Policy.Maximum, QSizePolicy.Policy.Preferred)
        self.job_label = Label()
        self.job_place = Label(objectName="quiet")
        find = QPushButton("Find anything", objectName="find")
        find.setIcon(t.icon("magnify", "QUIET"))
        find.setToolTip("Commands, settings, filters, photos, the manual: a few letters will do  (Ctrl+K)")
        find.setFixedWidth(200)
        find.clicked.connect(self.menus.find_command)
        top = QWidget(objectName="panel")
        row = QHBoxLayout(top)
        row.setContentsMargins(0, 2, 8, 2)
        row.setSpacing(8)
        row.addWidget(bar)
        row.addSpacing(12)
        row.addWidget(self.job_label)
        row.addWidget(self.job_place, 1)
        row.addWidget(find)
        room = self.menus.of_room
        for action, name in (
            (room["fill", SCENE], "scatter-plot-outline"), (room["fill", PHOTO], "image-outline"),
            (room["fill", BOTH], "view-split-vertical"), (room["part", BOARD], "dock-top"),
            (room["part", STRIP], "dock-bottom"), (room["part", BENCH], "dock-right"),
            (self.menus.undo, "undo"), (self.menus.redo, "redo"),
        ):  # fmt: skip
            b = QToolButton(objectName="part" if action.isCheckable() else "bare")
            action.setIcon(t.icon(name))
            keys = action.shortcut().toString()
            action.setToolTip(f"{action.text()}  ({keys})")
            b.setDefaultAction(action)
            b.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonIconOnly)
            row.addWidget(b)
        self.setMenuWidget(top)

    # ------------------------------------------------------------------ jobs
    def open_path(self, folder):
        """Open a job folder."""
        return self._may_leave() and self.session.open(folder)

    def open_job(self):
        """Ask for a job folder and open it."""
        folder = ask_folder(self, "Open a job: a folder whose name ends in .umbrate", JOBS)
        if folder:
            self.open_path(folder)

    def new_job(self, folders=()):
        """Ask which folders become which sittings, make the job and read them."""
        dialog = NewJobDialog(folders, self)
        if dialog.exec() and self._may_leave() and self.session.create(dialog.place()):
            self.session.arrivals.add_folders(dialog.folders())
            if dialog.recipe():
                self.session.recipes.run(dialog.recipe())

    def open_demo(self):
        """Open the demo job, made on first use, and start it where it has not run."""

        def make():
            try:
                with make_demo_job(demo_folder()) as job:
                    return job.folder
            except JobInUse:
                return demo_folder()  # it is open somewhere, perhaps here

        self.session.in_background(make, self._demo_is_there, series="demo")

    def _demo_is_there(self, folder):
        if self.open_path(folder) and self.session.job.writable and not self.session.result("cloud"):
            self.session.choose(stage="poses")
            self.session.run_all()

    def close_job(self):
        """Close the job and show the welcome page."""
        if not self._may_leave():
            return
        self.room.come_back()
        self.session.close()
        self.session.job_changed.emit()

    def bring_in(self):
        """Ask for a folder and add it as a sitting."""
        folder = ask_folder(self, "Folder of photos (one placement of the object)")
        if folder:
            self.session.arrivals.add_folders([folder])

    def preview_masks(self):
        """Try masks on the photos chosen in the strip, where several are, else on a few from all around."""
        chosen = self.strip.chosen_ids()
        self.session.choose(stage="masks")
        self.session.masks.try_on(chosen if len(chosen) > 1 else ())

    def mark_points(self):
        """Begin or end marking points in the photo view."""
        s = self.session
        if s.photo is not None:
            if not s.shows(Shown.POINTS):
                s.choose(stage="scale" if s.result("poses") else "poses")
            self.bench.open("Points" if s.stage == "scale" else "Marks")
            s.marking.set_on(not s.marking.on)

    def join_sittings(self):
        """Go where sittings are joined: to the joined row there is, or to the choice of what to join."""
        s = self.session
        rows = s.job.joined_rows()
        if rows:
            s.choose(rows[0].id, "join")
        else:
            s.choose(stage="join")

    def pick_places(self):
        """Pick the same places in the sittings of the joined row."""
        s = self.session
        self.join_sittings()
        if s.sitting is None or not s.sitting.members:
            s.said.emit("Join the sittings first; then places can be picked in both.", "note")
        elif any(s.job.result(i, "poses") is None for i in s.sitting.members):
            s.said.emit("A sitting of it has no poses yet: run Poses there first.", "bad")
        else:
            PicksDialog(s, self).join()

    def measure(self, kind):
        """Begin to measure."""
        s = self.session
        if s.result("poses") is None:
            s.said.emit("There are no poses yet: there is nothing to measure.", "bad")
            return
        self.bench.open("Measure", "scale")
        s.measuring.begin(kind)

    def find_missing(self):
        """Ask where photos are that were moved, and point the job to them."""
        folder = ask_folder(self, "Where the photos are now; folders below it are searched too")
        if folder:
            self.session.arrivals.find_missing(folder)

    def bring_in_video(self):
        """Ask for a video and add its frames as a sitting."""
        kinds = " ".join(f"*{x}" for x in sorted(VIDEO_SUFFIXES))
        file = open_file(self, "A video of the object", f"Videos ({kinds})", PHOTOS)
        if file:
            self.add_videos([file])

    def add_videos(self, files):
        """Ask which frames are taken, and add each video as a sitting."""
        if not self.session.may_write():
            return
        dialog = VideoDialog(files[0], self)
        if dialog.exec():
            for f in files:
                self.session.arrivals.add_video(f, *dialog.every())

    def choose_theme(self, name):
        """Put another theme on."""
        appearance.choose_theme(name)
        self.bench.rebuild()
        self.strip.reload_forced()
        if self.session.job is None:
            self.welcome.refresh()
        self.menus.refresh()

    def choose_size(self, percent):
        """Make everything larger or smaller: from the next start on, which can be now."""
        appearance.choose_size(percent)
        self.menus.refresh()
        if percent == appearance.shown():
            return
        box = message(self, f"Everything is {percent} % as large from the next start of Umbrate.")
        now = box.addButton("Start anew now", QMessageBox.ButtonRole.AcceptRole)
        later = box.addButton("Later", QMessageBox.ButtonRole.RejectRole)
        box.setDefaultButton(later)
        box.exec()
        if box.clickedButton() is now:
            job = [str(self.session.job.folder)] if self.session.job else []
            if self.close():
                QProcess.startDetached(sys.executable, ["-m", "umbrate.desk", *job])

    def split_at_pauses(self):
        """Show where the chosen sitting would be split, and split it there."""
        if not self.session.may_write():
            return
        dialog = SplitDialog(self.session, self)
        if dialog.exec():
            self.session.edits.split("gaps", dialog.parts)

    def show_shelf(self):
        """Show the lens cards."""
        ShelfDialog(self).exec()
        if self.session.job:
            self.session.changed()

    def show_recipes(self, name=None):
        """Choose a recipe for the job, the one of a name first, or keep its own."""
        dialog = RecipesDialog(self.session, self, name)
        if dialog.exec() and dialog.chosen:
            act = self.session.recipes.run if dialog.runs else self.session.recipes.apply
            act(dialog.chosen)

    def show_batch(self):
        """Many folders by one recipe; it goes on when the window is closed."""
        if self._batch is None:
            self._batch = BatchDialog(self)
        self._batch.show()
        self._batch.raise_()

    def show_shooting(self):
        """Watch a folder while somebody shoots."""
        if self._shooting is None:
            self._shooting = ShootingDialog(self.session, self)
        self._shooting.show()
        self._shooting.raise_()

    def show_queue(self):
        """What waits in this and other jobs."""
        if self._queue is None:
            self._queue = QueueDialog(self.session, self)
        self._queue.show()
        self._queue.raise_()

    def show_upkeep(self):
        """Check the job, or tidy it up."""
        UpkeepDialog(self.session, self).exec()

    def show_cluster(self):
        """Choose a cluster whose workers help."""
        ClusterDialog(self.session, self).exec()

    def show_ledger(self):
        """Show what ran."""
        LedgerDialog(self.session, self).exec()

    # ------------------------------------------------------------------ keeping up
    def _job_changed(self):
        job = self.session.job
        self.stack.setCurrentIndex(1 if job else 0)
        self.setWindowTitle(f"{job.name} - Umbrate" if job else "Umbrate")
        self.job_label.setText(job.name if job else "")
        reading = "" if job is None or job.writable else "   for reading only"
        self.job_place.setText(f"{short_path(job.folder.parent)}{reading}" if job else "")
        if job:
            self.board.setFocus()
            remember_job(job.folder)
        else:
            self.welcome.refresh()
        self._refresh()

    def _refresh(self):
        job = self.session.job
        self.menus.refresh()
        if job:
            self.board_scroll.setFixedHeight(self.board.wanted_height())

    def _on_said(self, text, kind):
        # the welcome page has no foot
        if self.session.job is None and text and kind == "bad":
            box = message(self, text)
            box.addButton(QMessageBox.StandardButton.Ok)
            box.open()

    def changeEvent(self, e):
        super().changeEvent(e)
        # somebody may have changed photos in another program
        if e.type() == QEvent.Type.ActivationChange and self.isActiveWindow():
            self.session.arrivals.check_files()
            self.session.look_outside()

    def dragEnterEvent(self, e):
        if any(u.isLocalFile() for u in e.mimeData().urls()):
            e.acceptProposedAction()

    def dropEvent(self, e):
        paths = [Path(u.toLocalFile()) for u in e.mimeData().urls() if u.isLocalFile()]
        jobs = [p for p in paths if (p / "job.sqlite").exists()]
        sittings = [p for p in paths if p.is_dir() or is_video(p)]
        files = [p for p in paths if p.is_file() and p.suffix.lower() in PHOTO_SUFFIXES]
        if jobs:
            self.open_path(jobs[0])
        elif self.session.job is None and sittings and not any(p.is_dir() for p in sittings):
            self.session.said.emit("Make or open a job first, then drop the video on it.", "bad")
        elif self.session.job is None:
            self.new_job([p for p in sittings if p.is_dir()] or {p.parent for p in files})
        elif sittings:
            videos = [p for p in sittings if not p.is_dir()]
            if folders := [p for p in sittings if p.is_dir()]:
                self.session.arrivals.add_folders(folders)
            if videos:
                self.add_videos(videos)
        elif files:
            self.session.arrivals.add_files(files)
        else:
            kinds = ", ".join(sorted(x[1:] for x in PHOTO_SUFFIXES))
            self.session.said.emit(f"These are no photos. Photos are: {kinds}.", "bad")

    def _may_leave(self):
        """Ask before a running step is lost: of all things that is the one no undo brings back."""
        run = self.session.running()
        if run is None:
            return True
        text = f"{BY_NAME[run.stage].title} of “{run.sitting.name}” is running, {100 * run.fraction:.0f} % done."
        box = message(self, text)
        box.setInformativeText(BY_NAME[run.stage].when_stopped)
        stop = box.addButton("Stop it and leave", QMessageBox.ButtonRole.DestructiveRole)
        box.setDefaultButton(box.addButton("Let it run", QMessageBox.ButtonRole.RejectRole))
        box.exec()
        return box.clickedButton() is stop

    def closeEvent(self, e):
        if self._may_leave():
            self.room.come_back()
            self.session.close()
            self.session.later.close()
            e.accept()
        else:
            e.ignore()
