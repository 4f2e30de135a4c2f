"""The window's menus, and those of the Board and the strip. Every command is an action that the finder finds too."""

from functools import partial

from PyQt6.QtCore import QObject
from PyQt6.QtGui import QAction, QActionGroup, QKeySequence
from PyQt6.QtWidgets import QInputDialog, QMenu, QMenuBar

from ..core.measure.quantities import KINDS
from ..stages import BY_NAME
from ..stages.poses.inputs import ADJUST, GO_ON
from . import appearance
from .dialogs.finder import Finder
from .plain import button_text
from .room import BENCH, BOARD, BOTH, PHOTO, SCENE, STRIP
from .tokens import THEMES


class Menus(QObject):
    """Attributes: the menu `bar`, the actions `undo` and `redo`, and all: `of_job`, which need an open job, and
    `always`."""

    def __init__(self, window):
        super().__init__(window)
        self.window, self.session = window, window.session
        self.of_job, self.always, self.of_room = [], [], {}
        self.bar = QMenuBar()
        self._make_job(self.bar.addMenu("&Job"))
        self._make_edit(self.bar.addMenu("&Edit"))
        self._make_run(self.bar.addMenu("&Run"))
        self._make_view(self.bar.addMenu("&View"))
        self._make_help(self.bar.addMenu("&Help"))

    def _add(self, menu, text, slot, keys=None, needs_job=True):
        a = QAction(text, self.window)
        if keys:
            a.setShortcut(QKeySequence(keys))
        a.triggered.connect(lambda _: slot())
        menu.addAction(a)
        (self.of_job if needs_job else self.always).append(a)
        return a

    # ------------------------------------------------------------------ the bar
    def _make_job(self, menu):
        w, add = self.window, self._add
        add(menu, "New job from a folder of photos…", w.new_job, "Ctrl+N", False)
        add(menu, "Open a job…", w.open_job, "Ctrl+O", False)
        add(menu, "Open the demo job", w.open_demo, None, False)
        menu.addSeparator()
        add(menu, "Bring in photos as a sitting…", w.bring_in, "Ctrl+I")
        add(menu, "Bring in a video as a sitting…", w.bring_in_video)
        add(menu, "While shooting: watch a folder…", w.show_shooting)
        add(menu, "Find missing photos…", w.find_missing)
        menu.addSeparator()
        add(menu, "Deliver files for a purpose…", lambda: self.session.choose(stage="deliver"))
        add(menu, "Export the cloud…", w.deliver.cloud, "Ctrl+E")
        add(menu, "Export the surface…", w.deliver.surface, "Ctrl+Shift+E")
        add(menu, "Export cameras as JSON…", w.deliver.cameras)
        add(menu, "Export masks as PNG…", w.deliver.masks)
        add(menu, "Export undistorted photos…", w.deliver.undistorted)
        menu.addSeparator()
        add(menu, "Recipes: set or run this job by one, keep its own…", w.show_recipes)
        add(menu, "Many folders in one go: a batch…", w.show_batch, None, False)
        menu.addSeparator()
        add(menu, "Print target sheets…", w.deliver.sheets, None, False)
        add(menu, "Calibrate a lens…", self.session.edits.begin_calibration)
        add(menu, "Lens cards…", w.show_shelf, None, False)
        menu.addSeparator()
        add(menu, "Check and tidy up…", w.show_upkeep)
        add(menu, "Report a problem…", w.report_problem, None, False)
        add(menu, "Close the job", w.close_job, "Ctrl+W")
        add(menu, "Quit", w.close, "Ctrl+Q", False)

    def _make_edit(self, menu):
        w, s, add = self.window, self.session, self._add
        edits, chosen = s.edits, w.strip.chosen_ids
        self.undo = add(menu, "Undo", s.undo, "Ctrl+Z")
        self.redo = add(menu, "Redo", s.redo, "Ctrl+Shift+Z")
        menu.addSeparator()
        add(menu, "Set chosen photos aside or bring them back", lambda: edits.set_aside(chosen()), "A")
        add(menu, "Turn chosen photos to the right", lambda: edits.turn_photos(chosen(), 1), "T")
        add(menu, "Turn chosen photos to the left", lambda: edits.turn_photos(chosen(), -1), "Shift+T")
        menu.addSeparator()
        add(menu, "Remove the chosen tie points", s.points.remove, "Ctrl+Backspace")
        add(menu, "Trace chosen tie points to photos", s.points.trace_to_photos)
        add(menu, "Choose the tie points of the chosen photos", lambda: s.points.trace_to_points(chosen()))
        menu.addSeparator()
        add(menu, "Mark points in photos", w.mark_points, "M")
        for kind in KINDS:
            add(menu, f"Measure: {kind.title.lower()}", lambda n=kind.name: w.measure(n))
        menu.addSeparator()
        add(menu, "Rename the sitting…", self.rename_sitting, "F2")
        add(menu, "Remove the sitting", edits.remove)

    def _make_run(self, menu):
        w, s, add = self.window, self.session, self._add
        add(menu, "Run the chosen cells", lambda: s.run(w.board.chosen_cells()), "Ctrl+R")
        add(menu, "Run everything that is missing or stale", s.run_all, "Ctrl+Shift+R")
        add(menu, "Poses: go on with new photos", lambda: s.run([(s.sitting_id, "poses")], mode=GO_ON))
        add(menu, "Poses: adjust only", lambda: s.run([(s.sitting_id, "poses")], mode=ADJUST))
        add(menu, "Try masks on the chosen photos", w.preview_masks)
        add(menu, "Join the sittings", w.join_sittings, "Ctrl+J")
        add(menu, "Pick the same places in both sittings…", w.pick_places)
        menu.addSeparator()
        add(menu, "Queue the chosen cells behind other jobs", self._queue_cells)
        add(menu, "Queue over several jobs…", w.show_queue, "Ctrl+Shift+L", False)
        add(menu, "Compute on several machines…", w.show_cluster)
        add(menu, "Cancel what runs", w.foot.stop, "Ctrl+Shift+X")

    def _queue_cells(self):
        s = self.session
        s.later.add_cells(self.window.board.chosen_cells() or [(s.sitting_id, s.stage)])

    def _make_view(self, menu):
        w, add = self.window, self._add
        for a in w.scene.view.actions():
            if not a.isSeparator() and a.menu() is None:
                menu.addAction(a)
        menu.addAction(w.scene.ring)
        menu.addSeparator()
        for what, text, keys in (
            (("fill", SCENE), "Scene fills the window", "F11"),
            (("fill", PHOTO), "Photo fills the window", "F12"),
            (("fill", BOTH), "Scene and photo fill the window", "F10"),
            (("part", BOARD), "Board", "Ctrl+Shift+B"),
            (("part", STRIP), "Contact strip", "Ctrl+T"),
            (("part", BENCH), "Bench", "Ctrl+B"),
            (("alone", SCENE), "Scene in a window of its own", None),
            (("alone", PHOTO), "Photo in a window of its own", None),
        ):
            a = add(menu, text, partial(self._share, *what), keys)
            a.setCheckable(True)
            a.setData(what)
            self.of_room[what] = a
        self.one_line = add(menu, "Board with one line for a sitting", self._fold_rows, "Ctrl+D")
        self.one_line.setCheckable(True)
        menu.addSeparator()
        themes, sizes = menu.addMenu("Theme"), menu.addMenu("Interface size")
        self.themes, self.sizes = QActionGroup(self), QActionGroup(self)
        for name in THEMES:
            self._choice(themes, self.themes, f"{name.capitalize()} theme", name, w.choose_theme)
        for percent in appearance.SIZES:
            self._choice(sizes, self.sizes, f"Interface size {percent} %", percent, w.choose_size)
        menu.addSeparator()
        add(menu, "Ledger and log: what ran…", w.show_ledger, "Ctrl+L")
        add(menu, "Next photo", lambda: w.strip.step(1), "PgDown")
        add(menu, "Previous photo", lambda: w.strip.step(-1), "PgUp")
        add(menu, "Find anything…", self.find_command, "Ctrl+K", False)

    def _choice(self, menu, group, text, value, act):
        a = self._add(menu, text, partial(act, value), None, False)
        a.setCheckable(True)
        a.setData(value)
        group.addAction(a)

    def _share(self, kind, name):
        room = self.window.room
        if kind == "fill":
            room.fill(name)
        elif kind == "part":
            room.fold(name)
        else:
            room.set_alone(name, name not in room.alone)

    def _fold_rows(self):
        self.window.board.set_one_line(self.one_line.isChecked())

    def _make_help(self, menu):
        w, add = self.window, self._add
        add(menu, "Manual: what the pointer is at", w.show_manual_here, "F1", False)
        self.next_told = add(menu, "Say what to do next", w.foot.tell_next, None, False)
        self.next_told.setCheckable(True)
        self.next_told.setChecked(w.foot.tells_next)
        menu.addSeparator()
        add(menu, "Report a problem…", w.report_problem, None, False)
        add(menu, "Show the log file", w.show_log, None, False)

    def refresh(self):
        """Say which commands can be given now, and what undo would take back."""
        job = self.session.job
        for a in self.of_job:
            a.setEnabled(job is not None)
        self.window.room.show()
        self.one_line.setChecked(self.window.board.one_line)
        for group, now in ((self.themes, appearance.theme()), (self.sizes, appearance.size())):
            for a in group.actions():
                a.setChecked(a.data() == now)
        if job:
            undo, redo = job.undo_labels()
            self.undo.setText(button_text(f"Undo {undo}") if undo else "Undo")
            self.redo.setText(button_text(f"Redo {redo}") if redo else "Redo")
            self.undo.setEnabled(bool(undo))
            self.redo.setEnabled(bool(redo))

    def find_command(self):
        """Show the finder over the window."""
        self.finder = Finder(self.window)

    # ------------------------------------------------------------------ where the pointer is
    def show_board_menu(self, pos):
        """What can be done with the chosen cell and its sitting."""
        s, menu = self.session, QMenu(self.window)
        menu.addAction(f"Run {BY_NAME[s.stage].title}", lambda: s.run())
        menu.addAction("Run everything that is missing or stale", s.run_all)
        menu.addAction("Queue it behind other jobs", lambda: s.later.add_cells([(s.sitting_id, s.stage)]))
        menu.addSeparator()
        others = [x for x in s.job.photo_sittings() if x.id != s.sitting_id]
        if not s.sitting.members:
            menu.addAction("Split at bare frames", lambda: s.edits.split("bare"))
            menu.addAction("Split at pauses…", self.window.split_at_pauses)
            merge = menu.addMenu("Merge into")
            merge.setEnabled(bool(others))
            for o in others:
                merge.addAction(button_text(o.name), lambda i=o.id: s.edits.merge_into(i))
        menu.addAction("Move up", lambda: s.edits.move(-1))
        menu.addAction("Move down", lambda: s.edits.move(1))
        menu.addSeparator()
        menu.addAction("Rename…", self.rename_sitting)
        menu.addAction("Remove from the job", s.edits.remove)
        menu.exec(pos)

    def show_strip_menu(self, pos):
        """What can be done with the chosen photos."""
        s, edits, chosen = self.session, self.session.edits, self.window.strip.chosen_ids()
        if not chosen:
            return
        menu = QMenu(self.window)
        menu.addAction("Set aside or bring back    A", lambda: edits.set_aside(chosen))
        menu.addAction("Keep as backdrop plates", lambda: edits.keep_as_plates(chosen))
        menu.addAction("Choose the tie points they see", lambda: s.points.trace_to_points(chosen))
        menu.addAction("Turn to the right    T", lambda: edits.turn_photos(chosen, 1))
        menu.addAction("Turn to the left    Shift+T", lambda: edits.turn_photos(chosen, -1))
        move = menu.addMenu("Move to")
        for o in s.job.photo_sittings():
            if o.id != s.sitting_id:
                move.addAction(button_text(o.name), lambda n=o.name: edits.move_photos(chosen, n))
        move.addAction("A new sitting…", lambda: self._move_to_new(chosen))
        menu.exec(pos)

    def _move_to_new(self, chosen):
        name, ok = QInputDialog.getText(self.window, "A new sitting for these photos", "Name")
        if ok:
            self.session.edits.move_photos(chosen, name)

    def rename_sitting(self):
        """Ask for the chosen sitting's new name."""
        s = self.session
        if s.sitting:
            name, ok = QInputDialog.getText(self.window, "Rename the sitting", "Name", text=s.sitting.name)
            if ok:
                s.edits.rename(name)
