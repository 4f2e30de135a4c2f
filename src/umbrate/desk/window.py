"""The window: welcome page, or Board, scene, photo view, bench and strip of an open job."""

from functools import partial
from pathlib import Path

from PyQt6.QtCore import QEvent, Qt, QUrl
from PyQt6.QtGui import QAction, QDesktopServices, QKeySequence
from PyQt6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QMainWindow,
    QMenu,
    QMenuBar,
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

from ..actions.delivering import export_cameras, export_cloud, export_masks, export_undistorted
from ..core.errors import UmbrateError
from ..core.imaging.decode import PHOTO_SUFFIXES
from ..core.imaging.video import VIDEO_SUFFIXES
from ..core.measure.quantities import KINDS
from ..formats.files import as_written
from ..formats.lenscards import put_on_shelf
from ..job.folder import JobInUse
from ..stages import BY_NAME
from ..stages.lens.cards import card_of
from ..work.adding import is_video
from ..work.demo import demo_folder, make_demo_job
from ..work.logs import log_file, log_folder
from . import tokens as t
from .bench.bench import Bench
from .bench.scale import ScalePanel
from .board import HEAD, ROW, Board
from .dialogs.finder import Finder
from .dialogs.ledger import LedgerDialog
from .dialogs.lens import SheetsDialog, ShelfDialog
from .dialogs.newjob import NewJobDialog
from .dialogs.picks import PicksDialog
from .dialogs.video import VideoDialog
from .dialogs.writing import ask_and_write, ask_file, ask_file_and_kind, beside, write_now, write_out
from .foot import Foot
from .photo.view import PhotoView
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
        self.stack = QStackedWidget()
        self.setCentralWidget(self.stack)
        self.welcome = Welcome()
        self.stack.addWidget(self.welcome)
        self.stack.addWidget(self._make_desk())
        self.welcome.demo.connect(self.open_demo)
        self.welcome.new.connect(self.new_job)
        self.welcome.open.connect(self.open_job)
        self.welcome.recent.connect(self.open_path)
        self._make_menus()
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
        self.board.menu_wanted.connect(self._board_menu)
        self.bench.photos_wanted.connect(self.bring_in)
        self.bench.find_wanted.connect(self.find_missing)
        self.bench.preview_wanted.connect(self.preview_masks)
        self.bench.keep_wanted.connect(self.keep_card)
        self.bench.sheets_wanted.connect(self.print_sheets)
        self.bench.through_wanted.connect(lambda: self.scene.look_through(s.photo_id))
        self.strip.menu_wanted.connect(self._strip_menu)
        scroll = QScrollArea()
        scroll.setWidget(self.board)
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.board_scroll = scroll
        views = QSplitter(Qt.Orientation.Horizontal)
        views.addWidget(self.scene)
        views.addWidget(self.photo_view)
        views.setSizes([500, 440])
        views.setHandleWidth(4)
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
        for w in (self.scene, self.photo_view, self.board):
            self.foot.watch(w, HINTS[w.accessibleName()])
        column.addWidget(self.foot)
        return desk

    def _action(self, menu, text, slot, keys=None, needs_job=True):
        a = QAction(text, self)
        if keys:
            a.setShortcut(QKeySequence(keys))
        a.triggered.connect(lambda _: slot())
        menu.addAction(a)
        (self._job_actions if needs_job else self._free_actions).append(a)
        return a

    def _make_menus(self):
        self._job_actions, self._free_actions = [], []
        bar = QMenuBar()
        s = self.session
        job = bar.addMenu("&Job")
        self._action(job, "New job from a folder of photos…", self.new_job, "Ctrl+N", False)
        self._action(job, "Open a job…", self.open_job, "Ctrl+O", False)
        self._action(job, "Open the demo job", self.open_demo, None, False)
        job.addSeparator()
        self._action(job, "Bring in photos as a sitting…", self.bring_in, "Ctrl+I")
        self._action(job, "Bring in a video as a sitting…", self.bring_in_video)
        self._action(job, "Find missing photos…", self.find_missing)
        job.addSeparator()
        self._action(job, "Export the cloud…", self.export_cloud, "Ctrl+E")
        self._action(job, "Export cameras as JSON…", self.export_cameras)
        self._action(job, "Export masks as PNG…", self.export_masks)
        self._action(job, "Export undistorted photos…", self.export_undistorted)
        job.addSeparator()
        self._action(job, "Print target sheets…", self.print_sheets, None, False)
        self._action(job, "Calibrate a lens…", self.session.begin_calibration)
        self._action(job, "Lens cards…", self.show_shelf, None, False)
        job.addSeparator()
        self._action(job, "Close the job", self.close_job, "Ctrl+W")
        self._action(job, "Quit", self.close, "Ctrl+Q", False)
        edit = bar.addMenu("&Edit")
        self.undo_action = self._action(edit, "Undo", s.undo, "Ctrl+Z")
        self.redo_action = self._action(edit, "Redo", s.redo, "Ctrl+Shift+Z")
        edit.addSeparator()
        self._action(
            edit, "Set chosen photos aside or bring them back", lambda: s.set_aside(self.strip.chosen_ids()), "A"
        )
        self._action(edit, "Turn chosen photos to the right", lambda: s.turn_photos(self.strip.chosen_ids(), 1), "T")
        self._action(
            edit, "Turn chosen photos to the left", lambda: s.turn_photos(self.strip.chosen_ids(), -1), "Shift+T"
        )
        edit.addSeparator()
        self._action(edit, "Remove the chosen tie points", s.points.remove, "Ctrl+Backspace")
        self._action(edit, "Trace chosen tie points to photos", s.points.trace_to_photos)
        self._action(
            edit, "Choose the tie points of the chosen photos",
            lambda: s.points.trace_to_points(self.strip.chosen_ids()),
        )  # fmt: skip
        edit.addSeparator()
        self._action(edit, "Mark points in photos", self.mark_points, "M")
        for kind in KINDS:
            self._action(edit, f"Measure: {kind.title.lower()}", lambda n=kind.name: self.measure(n))
        edit.addSeparator()
        self._action(edit, "Rename the sitting…", self.rename_sitting, "F2")
        self._action(edit, "Remove the sitting", s.remove_sitting)
        run = bar.addMenu("&Run")
        self._action(run, "Run the chosen cells", lambda: s.run(self.board.chosen_cells()), "Ctrl+R")
        self._action(run, "Run everything that is missing or stale", s.run_all, "Ctrl+Shift+R")
        self._action(run, "Poses: go on with new photos", lambda: s.run([(s.sitting_id, "poses")], way="go on"))
        self._action(run, "Poses: adjust only", lambda: s.run([(s.sitting_id, "poses")], way="adjust"))
        self._action(run, "Try masks on the chosen photos", self.preview_masks)
        self._action(run, "Join the sittings", self.join_sittings, "Ctrl+J")
        self._action(run, "Pick the same places in both sittings…", self.pick_places)
        self._action(run, "Cancel what runs", self.foot.stop, "Ctrl+.")
        view = bar.addMenu("&View")
        for a in self.scene.view.actions():
            if not a.isSeparator() and a.menu() is None:
                view.addAction(a)
        view.addSeparator()
        self._action(view, "Ledger and log: what ran…", self.show_ledger, "Ctrl+L")
        self._action(view, "Next photo", lambda: self._step_photo(1), "PgDown")
        self._action(view, "Previous photo", lambda: self._step_photo(-1), "PgUp")
        self._action(view, "Find a command…", self.find_command, "Ctrl+K", False)
        about = bar.addMenu("&Help")
        self._action(about, "Show the log file", self.show_log, None, False)
        self._make_top(bar)

    def show_log(self):
        """Show the folder of the log file, and say where it is."""
        self.session.said.emit(f"The log is {log_file()}", "note")
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(log_folder())))

    def _make_top(self, bar):
        """The row at the top: menus, the job's name, the finder, undo and redo."""
        bar.setSizePolicy(QSizePolicy.Policy.Maximum, QSizePolicy.Policy.Preferred)
        self.job_label = QLabel()
        self.job_place = QLabel(objectName="quiet")
        find = QPushButton("Find a command", objectName="find")
        find.setIcon(t.icon("magnify", t.QUIET))
        find.setToolTip("Type a few letters of what you want to do  (Ctrl+K)")
        find.setFixedWidth(200)
        find.clicked.connect(self.find_command)
        top = QWidget(objectName="panel")
        row = QHBoxLayout(top)
        row.setContentsMargins(0, 2, 8, 2)
        row.setSpacing(8)
        row.addWidget(bar)
        row.addSpacing(12)
        row.addWidget(self.job_label)
        row.addWidget(self.job_place, 1)
        row.addWidget(find)
        for action, name in ((self.undo_action, "undo"), (self.redo_action, "redo")):
            b = QToolButton(objectName="bare")
            action.setIcon(t.icon(name))
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
        folder = QFileDialog.getExistingDirectory(self, "Open a job: a folder whose name ends in .umbrate")
        if folder:
            self.open_path(folder)

    def new_job(self, folders=()):
        """Ask which folders become which sittings, make the job and read them."""
        dialog = NewJobDialog(folders, self)
        if dialog.exec() and self._may_leave() and self.session.create(dialog.place()):
            self.session.arrivals.add_folders(dialog.folders())

    def open_demo(self):
        """Open the demo job, made on first use, and start it where it has not run."""
        try:
            with make_demo_job(demo_folder()) as job:
                folder = job.folder
        except JobInUse:
            folder = demo_folder()  # it is open somewhere, perhaps here
        except UmbrateError as e:
            self.session.said.emit(str(e), "bad")
            return
        if self.open_path(folder) and self.session.job.writable and not self.session.result("cloud"):
            self.session.choose(stage="poses")
            self.session.run_all()

    def close_job(self):
        """Close the job and show the welcome page."""
        if not self._may_leave():
            return
        self.session.close()
        self.session.job_changed.emit()

    def bring_in(self):
        """Ask for a folder and add it as a sitting."""
        folder = QFileDialog.getExistingDirectory(self, "Folder of photos (one placement of the object)")
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
            if s.stage not in ("poses", "scale"):
                s.choose(stage="scale" if s.result("poses") else "poses")
            ScalePanel.shown = "Points"
            self.bench.show_part()
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
        ScalePanel.shown = "Measure"
        s.choose(stage="scale")
        self.bench.show_part()
        s.measuring.begin(kind)

    def find_missing(self):
        """Ask where photos are that were moved, and point the job to them."""
        folder = QFileDialog.getExistingDirectory(self, "Where the photos are now; folders below it are searched too")
        if folder:
            self.session.arrivals.find_missing(folder)

    def bring_in_video(self):
        """Ask for a video and add its frames as a sitting."""
        kinds = " ".join(f"*{x}" for x in sorted(VIDEO_SUFFIXES))
        file, _ = QFileDialog.getOpenFileName(self, "A video of the object", filter=f"Videos ({kinds})")
        if file:
            dialog = VideoDialog(file, self)
            if dialog.exec():
                self.session.arrivals.add_video(file, *dialog.every())

    def rename_sitting(self):
        """Ask for the chosen sitting's new name."""
        if self.session.sitting:
            name, ok = QInputDialog.getText(self, "Rename the sitting", "Name", text=self.session.sitting.name)
            if ok:
                self.session.rename_sitting(name)

    def _export(self, title, suffix, write):
        s = self.session
        ask_and_write(s, self, title, suffix, write, lambda value, place: f"Wrote {value:,} to {place}")

    def export_cloud(self):
        """Write the clouds of the chosen sitting that the scene draws, into one file."""
        s = self.session
        names = [c.name for c in s.job.clouds(s.sitting_id) if s.cleaning.is_shown(c)]
        title = f"{' and '.join(names) or 'Cloud'}: .ply, .las, .laz, .e57, .xyz or .csv"
        if not s.frame or not any(s.frame.offset):
            self._export(title, ".ply", partial(export_cloud, sitting=s.sitting, name=names))
            return
        # far from zero: in double precision, or as most programs take it better, with the offset in the header
        kinds = (
            "Coordinates in full (*.ply *.las *.laz *.e57 *.xyz *.csv)",
            "PLY with its offset in the header (*.ply)",
        )
        place, kind = ask_file_and_kind(self, title, beside(s.job, ".ply"), kinds)
        if place:
            write = partial(export_cloud, path=place, sitting=s.sitting, name=names, shift=kind == 1)
            write_out(s, self, write, lambda n: f"Wrote {n:,} points to {place}")

    def export_cameras(self):
        """Write lenses and poses of the whole job."""
        self._export("Cameras as JSON", "-cameras.json", export_cameras)

    def _export_into(self, title, write, what):
        """Ask for a folder and have files of the chosen sitting written into it.

        ``write(job, folder=folder, sitting=sitting, gate=gate)`` gives (photo name, file) of each.
        """
        folder = QFileDialog.getExistingDirectory(self, title)
        if folder:
            write_out(
                self.session, self, partial(write, folder=folder, sitting=self.session.sitting),
                lambda files: f"Wrote {len(files)} {what} to {folder}. {as_written(files)}".strip(),
            )  # fmt: skip

    def export_masks(self):
        """Write the chosen sitting's masks into a folder."""
        self._export_into("Folder for the masks: NAME.png, white is the object", export_masks, "masks")

    def export_undistorted(self):
        """Write the chosen sitting's photos and masks as an ideal camera would have seen them."""
        title = "Folder for undistorted photos, masks and the ideal camera"
        self._export_into(title, export_undistorted, "undistorted photos")

    def print_sheets(self):
        """Ask which target sheets, and write them as PDF."""
        dialog = SheetsDialog(self)
        if not dialog.exec():
            return
        name = f"{dialog.kind.currentData()}-{dialog.paper.currentText()}.pdf"
        place = ask_file(self, "Target sheets as PDF", name, "PDF (*.pdf)")
        if place:
            write_now(
                self.session, self, lambda gate: dialog.write(place, gate),
                lambda n: f"Wrote {n} pages to {place}. Print at 100 % and check the ruler.",
            )  # fmt: skip

    def show_shelf(self):
        """Show the lens cards."""
        ShelfDialog(self).exec()
        if self.session.job:
            self.session.changed()

    def keep_card(self):
        """Ask for a name and keep the chosen sitting's calibration as a lens card."""
        s = self.session
        photo = s.photos()[0]
        name, ok = QInputDialog.getText(
            self, "Keep as a lens card", "Name", text=" ".join(x for x in (photo.camera, photo.lens) if x)
        )
        if ok:
            write_now(
                s, self, lambda gate: put_on_shelf(card_of(s.job, s.sitting, name), gate.replace),
                lambda file: f"“{name}” is on the shelf of lens cards",
            )  # fmt: skip
            s.changed()

    def show_ledger(self):
        """Show what ran."""
        LedgerDialog(self.session.job, self.session.log, self).exec()

    def find_command(self):
        """Show the finder under the menu bar."""
        f = Finder(self._job_actions + self._free_actions, self)
        f.move(self.mapToGlobal(self.rect().center()) - f.rect().center())
        f.exec()

    def _step_photo(self, step):
        row = self.strip.list.currentRow() + step
        if 0 <= row < self.strip.list.count():
            self.strip.list.setCurrentRow(row)

    def _board_menu(self, pos):
        s = self.session
        menu = QMenu(self)
        menu.addAction(f"Run {BY_NAME[s.stage].title}", lambda: s.run())
        menu.addAction("Run everything that is missing or stale", s.run_all)
        menu.addSeparator()
        self._sitting_actions(menu)
        menu.exec(pos)

    def _sitting_actions(self, menu):
        """What can be done with the chosen sitting."""
        s = self.session
        others = [x for x in s.job.photo_sittings() if x.id != s.sitting_id]
        if not s.sitting.members:
            menu.addAction("Split at bare frames", lambda: s.split("bare"))
            menu.addAction("Split at pauses", lambda: s.split("gaps"))
            merge = menu.addMenu("Merge into")
            merge.setEnabled(bool(others))
            for o in others:
                merge.addAction(o.name, lambda i=o.id: s.merge_into(i))
        menu.addAction("Move up", lambda: s.move_sitting(-1))
        menu.addAction("Move down", lambda: s.move_sitting(1))
        menu.addSeparator()
        menu.addAction("Rename…", self.rename_sitting)
        menu.addAction("Remove from the job", s.remove_sitting)

    def _strip_menu(self, pos):
        """What can be done with the chosen photos."""
        s, chosen = self.session, self.strip.chosen_ids()
        if not chosen:
            return
        menu = QMenu(self)
        menu.addAction("Set aside or bring back    A", lambda: s.set_aside(chosen))
        menu.addAction("Keep as backdrop plates", lambda: s.keep_as_plates(chosen))
        menu.addAction("Choose the tie points they see", lambda: s.points.trace_to_points(chosen))
        menu.addAction("Turn to the right    T", lambda: s.turn_photos(chosen, 1))
        menu.addAction("Turn to the left    Shift+T", lambda: s.turn_photos(chosen, -1))
        move = menu.addMenu("Move to")
        for o in s.job.photo_sittings():
            if o.id != s.sitting_id:
                move.addAction(o.name, lambda n=o.name: s.move_photos(chosen, n))
        move.addAction("A new sitting…", lambda: self._move_to_new(chosen))
        menu.exec(pos)

    def _move_to_new(self, chosen):
        name, ok = QInputDialog.getText(self, "A new sitting for these photos", "Name")
        if ok:
            self.session.move_photos(chosen, name)

    # ------------------------------------------------------------------ keeping up
    def _job_changed(self):
        job = self.session.job
        self.stack.setCurrentIndex(1 if job else 0)
        self.setWindowTitle(f"{job.name} - Umbrate" if job else "Umbrate")
        self.job_label.setText(job.name if job else "")
        reading = "" if job is None or job.writable else "   for reading only"
        self.job_place.setText(f"{short_path(job.folder.parent)}{reading}" if job else "")
        if job:
            remember_job(job.folder)
        else:
            self.welcome.refresh()
        self._refresh()

    def _refresh(self):
        job = self.session.job
        for a in self._job_actions:
            a.setEnabled(job is not None)
        if job:
            undo, redo = job.undo_labels()
            self.undo_action.setText(f"Undo {undo}" if undo else "Undo")
            self.redo_action.setText(f"Redo {redo}" if redo else "Redo")
            self.undo_action.setEnabled(bool(undo))
            self.redo_action.setEnabled(bool(redo))
            rows = max(1, min(4, len(job.sittings())))
            self.board_scroll.setFixedHeight(HEAD + ROW * rows + 6)

    def _on_said(self, text, kind):
        # the welcome page has no foot
        if self.session.job is None and text and kind == "bad":
            box = QMessageBox(QMessageBox.Icon.NoIcon, "Umbrate", text, QMessageBox.StandardButton.Ok, self)
            box.open()

    def changeEvent(self, e):
        super().changeEvent(e)
        # somebody may have changed photos in another program
        if e.type() == QEvent.Type.ActivationChange and self.isActiveWindow():
            self.session.arrivals.check_files()
            self.session.look_outside()
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
            self.session.arrivals.add_folders(sittings)
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
        box = QMessageBox(QMessageBox.Icon.NoIcon, "Umbrate", text, parent=self)
        box.setInformativeText("What was finished before is saved; this step would have to start anew.")
        stop = box.addButton("Stop it and leave", QMessageBox.ButtonRole.DestructiveRole)
        box.setDefaultButton(box.addButton("Let it run", QMessageBox.ButtonRole.RejectRole))
        box.exec()
        return box.clickedButton() is stop

    def closeEvent(self, e):
        if self._may_leave():
            self.session.close()
            e.accept()
        else:
            e.ignore()
