"""Points marked by hand, in the bench: all with their residuals, and the sightings of the one that is marked."""

from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QInputDialog,
    QMenu,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...actions.marking import export_points, export_shapes, know, take_coordinates
from ...formats.coordinates import UNITS
from ...job.marks import good_number, token
from ...sitting.frames import frame_of
from .. import tokens as t
from ..dialogs.asking import open_file
from ..dialogs.writing import ask_and_write
from ..plain import Label
from ..text import local

BAD_PX = 2.0  #: residuals above stand out


LEAST_ROWS = 8  #: that a table shows at least, where it has as many


def rows_height(rows):
    """Height of a table with a heading and so many rows."""
    return 24 + 22 * rows + 6


def table(headings, stretch=0, rows=LEAST_ROWS):
    """A plain table whose rows are chosen as a whole; it shows `rows` at least, and more where there is room."""
    w = QTableWidget(0, len(headings), objectName="close")
    w.setHorizontalHeaderLabels(headings)
    w.setAccessibleName(", ".join(x for x in headings if x))
    w.verticalHeader().hide()
    w.verticalHeader().setDefaultSectionSize(22)
    w.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    w.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
    w.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    w.setShowGrid(False)
    w.setMinimumHeight(rows_height(rows))
    w.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    head = w.horizontalHeader()
    head.setHighlightSections(False)
    head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
    for k in range(len(headings)):
        mode = QHeaderView.ResizeMode.Stretch if k == stretch else QHeaderView.ResizeMode.ResizeToContents
        head.setSectionResizeMode(k, mode)
    return w


def fit_rows(w, most=LEAST_ROWS):
    """As high as a table's rows, up to so many: what is below is seen without scrolling."""
    w.setFixedHeight(rows_height(min(max(w.rowCount(), 1), most)))


def cell(text, data=None, right=False, tint=None, tip=""):
    """One cell of a table."""
    item = QTableWidgetItem(local(text))
    item.setData(Qt.ItemDataRole.UserRole, data)
    if right:
        item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
    if tint:
        item.setForeground(t.color(tint))
    if tip:
        item.setToolTip(tip)
    return item


class PointsPanel(QWidget):
    """Part of the bench of Poses and Scale."""

    def __init__(self, session):
        super().__init__()
        self.session, self.work = session, session.marking
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        row = QHBoxLayout()
        self.mark = QPushButton("Mark points", checkable=True)
        self.mark.setToolTip("Mark the same place in two or more photos  (M)")
        self.mark.clicked.connect(lambda on: self.work.set_on(on))
        row.addWidget(self.mark, 1)
        new = QPushButton("New point")
        new.setToolTip("The next click makes a new point  (Insert)")
        new.clicked.connect(self._new)
        row.addWidget(new)
        more = QToolButton(text="More", popupMode=QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(more)
        menu.addAction("Rename the point…", self._rename)
        menu.addAction("Switch the point off or on", self._switch)
        menu.addAction("Switch its sighting in this photo off or on", self._switch_sighting)
        menu.addAction("Remove the point", self.work.remove)
        menu.addSeparator()
        menu.addAction("Its known coordinates…", self._known)
        menu.addAction("Known coordinates of a target…", self._known_target)
        menu.addAction("Take known coordinates from CSV…", self._take)
        menu.addAction("Write coordinates as CSV…", self._give)
        menu.addSeparator()
        menu.addAction("Join points to a line or face…", self.work.begin_shape)
        menu.addAction("Write points, lines and faces as DXF or OBJ…", self._drawing)
        more.setMenu(menu)
        row.addWidget(more)
        column.addLayout(row)
        self.points = table(("Point", "Photos", "px", ""))
        self.points.itemSelectionChanged.connect(self._chosen)
        self.points.cellDoubleClicked.connect(lambda row, _: self._edit(row))
        column.addWidget(self.points)
        self.told = Label(objectName="quiet")
        self.told.setWordWrap(True)
        column.addWidget(self.told)
        self.shape_row = QWidget()
        shape = QHBoxLayout(self.shape_row)
        shape.setContentsMargins(0, 0, 0, 0)
        for text, kind in (("Keep as a line", "line"), ("Keep as a face", "face")):
            b = QPushButton(text)
            b.clicked.connect(lambda _, k=kind: self._end_shape(k))
            shape.addWidget(b)
        column.addWidget(self.shape_row)
        self.sightings = table(("Photo", "px", "sure to"))
        self.sightings.cellClicked.connect(self._go)
        column.addWidget(self.sightings)
        grid = QGridLayout()
        grid.setSpacing(4)
        for k, (text, tip, act) in enumerate(
            (
                ("Next photo", "The next photo that should see the point  (N)", lambda: self.work.step(1)),
                ("Not here", "Take the point out of this photo  (Del)", self.work.remove_sighting),
                ("Sure to…", "How sure the marker is in this photo, in pixels", self._sigma),
            )
        ):
            b = QPushButton(text)
            b.setToolTip(tip)
            b.clicked.connect(lambda _, a=act: a())
            grid.addWidget(b, 0, k)
        column.addLayout(grid)
        self._filling = False
        self.work.changed.connect(self.reload)
        self.work.dragging.connect(self._dragging)
        session.chosen_changed.connect(self.reload)
        self.reload()

    # ------------------------------------------------------------------ contents
    def reload(self):
        """Take points and sightings anew."""
        s, w = self.session, self.work
        if s.sitting is None:
            return
        self._filling = True
        self.mark.setChecked(w.on)
        rows = [(p, w.marking.rms(p)) for p in w.points]
        rows.sort(key=lambda r: -(r[1] if r[1] is not None else -1))
        targets = list(s.job.known_targets(s.sitting_id).values()) if s.job else []
        self.points.setRowCount(len(rows) + len(targets))
        for k, (p, rms) in enumerate(rows):
            tint = t.QUIET if not p.used else t.STATE_COLORS["look"] if rms and rms > BAD_PX else None
            what = "off" if not p.used else "known" if p.known else ""
            px = "-" if rms is None else f"{rms:.2f}"
            self.points.setItem(k, 0, cell(p.name, p.id, tint=tint))
            self.points.setItem(k, 1, cell(str(len(p.sightings)), right=True, tint=tint))
            self.points.setItem(k, 2, cell(px, right=True, tint=tint, tip="Residual: seen to predicted"))
            self.points.setItem(k, 3, cell(what, tint=t.QUIET))
            if p.id == w.active_id:
                self.points.selectRow(k)
        for k, target in enumerate(targets, len(rows)):
            at = " ".join(f"{x:.14g}" for x in target.known)
            self.points.setItem(
                k, 0, cell(f"target {target.number}", str(target.number), tip=f"Known to be at {at} mm")
            )
            for column, text in enumerate(("", "", "known" if target.held else "compared"), 1):
                self.points.setItem(k, column, cell(text, tint=t.QUIET))
        if w.active_id is None:
            self.points.clearSelection()
        self.shape_row.setVisible(bool(w.chain))
        self._fill_sightings(w.seen())
        self.told.setText(self._next_step())
        self._filling = False

    def _fill_sightings(self, seen):
        names = {p.id: p.name for p in self.session.photos()}
        self.sightings.setRowCount(len(seen))
        for k, s in enumerate(seen):
            far = s.length is not None and s.length > BAD_PX
            tint = t.QUIET if not s.used else t.STATE_COLORS["look"] if far else None
            self.sightings.setItem(k, 0, cell(names.get(s.photo_id, "?"), s, tint=tint, tip="Click: show it"))
            px = "-" if s.length is None else f"{s.length:.2f}"
            self.sightings.setItem(k, 1, cell(px, right=True, tint=tint))
            self.sightings.setItem(k, 2, cell(f"{s.sigma_px:.2f}", right=True, tint=t.QUIET))

    def _dragging(self, point):
        """A mark is dragged: residuals and place follow."""
        if point is None:
            return
        marking = self.work.marking
        self._fill_sightings(marking.seen(point))
        rms, X = marking.rms(point), marking.place(point)
        for k in range(self.points.rowCount()):
            item = self.points.item(k, 0)
            if item is not None and item.data(Qt.ItemDataRole.UserRole) == point.id:
                self.points.item(k, 2).setText("-" if rms is None else f"{rms:.2f}")
        if X is not None:
            frame = frame_of(self.session.job, self.session.sitting)
            self.told.setText("at " + " ".join(f"{x:.2f}" for x in frame.for_people(X)) + f" {frame.unit}")

    def _next_step(self):
        w = self.work
        p = w.active
        if p is None:
            if not w.points:
                return "Mark the same place in two photos: it becomes a tie point, may carry a length, can be measured."
            return "Click in the photo for a new point, or choose one here." if w.on else ""
        left = len(w.marking.photos_to_mark(p)) if w.on else 0
        X = w.marking.place(p)
        frame = frame_of(self.session.job, self.session.sitting)
        place = "" if X is None else "at " + " ".join(f"{x:.2f}" for x in frame.for_people(X)) + f" {frame.unit}. "
        more = f"{left} more photos should see it: N shows them." if left and w.on else ""
        if len(p.sightings) < 2:
            more = "Mark it in a second photo: N shows where." if w.on else "It needs a second photo."
        return f"{p.name} {place}{more}"

    # ------------------------------------------------------------------ doing
    def _new(self):
        self.work.new()
        if not self.work.on:
            self.work.set_on(True)

    def _chosen(self):
        rows = self.points.selectionModel().selectedRows()
        if rows and not self._filling:
            what = self.points.item(rows[0].row(), 0).data(Qt.ItemDataRole.UserRole)
            if isinstance(what, str):  # a target with known coordinates
                self.told.setText(f"{self.points.item(rows[0].row(), 0).toolTip()}. Double click changes that.")
            else:
                self.work.choose(what)

    def _edit(self, row):
        what = self.points.item(row, 0).data(Qt.ItemDataRole.UserRole)
        if isinstance(what, str):
            self._known_of_target(int(what))
        else:
            self._rename()

    def _go(self, row, _):
        self.work.look_at(self.sightings.item(row, 0).data(Qt.ItemDataRole.UserRole))

    def _rename(self):
        p = self.work.active
        if p:
            name, ok = QInputDialog.getText(self, "Rename the point", "Name", text=p.name)
            if ok:
                self.work.rename(p.id, name)

    def _switch(self):
        p = self.work.active
        if p and self.session.may_write():
            self.session.do(lambda: self.session.job.set_marked_point(p.id, used=not p.used))

    def _mine(self):
        """The active point and its sighting in the chosen photo, or None, None."""
        p, s = self.work.active, self.session
        mine = next((x for x in p.sightings if x.photo_id == s.photo_id), None) if p else None
        if mine is None:
            s.said.emit("The point is not marked in this photo.", "note")
            return None, None
        return p, mine

    def _switch_sighting(self):
        p, mine = self._mine()
        s = self.session
        if mine and s.may_write():
            s.do(
                lambda: s.job.set_sighting(
                    p.id, mine.photo_id, mine.x, mine.y, mine.sigma_px, not mine.used, "switch a sighting off or on"
                )
            )

    def _sigma(self):
        p, mine = self._mine()
        s = self.session
        if mine is None:
            return
        value, ok = QInputDialog.getDouble(
            self, "How sure is the mark?", "Standard deviation in pixels", mine.sigma_px, 0.01, 100, 2
        )
        if ok and s.may_write():
            s.do(
                lambda: s.job.set_sighting(p.id, mine.photo_id, mine.x, mine.y, value, label="state how sure a mark is")
            )

    def _known(self):
        p = self.work.active
        if p is not None:
            self._ask_known(token(p.id), p.name, (*(p.known or ()), *(p.known_sigma or ())[:1]))

    def _known_target(self):
        number, ok = QInputDialog.getInt(self, "Known coordinates of a target", "Number of the target", 0, 0, 99_999)
        if ok:
            self._known_of_target(number)

    def _known_of_target(self, number):
        k = self.session.job.known_targets(self.session.sitting_id).get(number)
        self._ask_known(str(number), f"target {number}", (*k.known, k.known_sigma[0]) if k else ())

    def _ask_known(self, end, name, before):
        """Ask for the known coordinates of a point or target, and keep them."""
        s = self.session
        if not s.may_write():
            return
        text, ok = QInputDialog.getText(
            self, f"Known coordinates of {name}", "x y z and their standard deviation, in mm (empty: none)",
            text=" ".join(f"{x:.14g}" for x in before),
        )  # fmt: skip
        if not ok:
            return
        numbers = text.replace(";", " ").split()
        if len(numbers) not in (0, 3, 4):
            s.said.emit("Write three coordinates, and one standard deviation if it is known.", "bad")
            return
        s.do(lambda: self._keep_known(end, name, numbers), f"{name}: kept. Run Scale to adjust to it.")

    def _keep_known(self, end, name, numbers):
        s = self.session
        values = [good_number(x.replace(",", "."), f"A coordinate of {name}") for x in numbers]
        know(s.job, s.sitting, end, values[:3] or None, (values[3],) * 3 if len(values) == 4 else None)

    def _take(self):
        s = self.session
        file = open_file(self, "Known coordinates", "CSV (*.csv *.txt)")
        if not file or not s.may_write():
            return
        unit, ok = QInputDialog.getItem(
            self, "Unit", "Where the file names none, coordinates are in", list(UNITS), 0, False
        )
        if ok:
            n = s.do(lambda: take_coordinates(s.job, s.sitting, file, unit))
            if n:
                s.said.emit(f"Took {n} known points. Mark them in two photos each, then run Scale.", "good")

    def _give(self):
        s = self.session
        self._save("Coordinates as CSV", "-points.csv", partial(export_points, sitting=s.sitting))

    def _drawing(self):
        s = self.session
        self._save("Points, lines and faces (.dxf or .obj)", ".dxf", partial(export_shapes, sitting=s.sitting))

    def _save(self, title, suffix, write):
        ask_and_write(self.session, self, title, suffix, write, lambda n, place: f"Wrote {n} to {place}")

    def _end_shape(self, kind):
        self.work.chaining = False
        self.work.end_shape(kind)
