"""The Board: sittings by stages, what state each is in, and the place to start work."""

from bisect import bisect_right

from PyQt6.QtCore import QPoint, QRect, QRectF, QSettings, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetrics, QPainter, QPen
from PyQt6.QtWidgets import QToolTip, QWidget

from ..sitting.frames import frame_of, scale_result
from ..stages import STAGES
from ..work.state import WORDS
from . import tokens as t
from .plain import show_tip
from .strip.strip import PHOTOS_MIME
from .text import counted, local, short_time

HEAD, ROW, LINE_ROW, NAME = 24, 44, 28, 150  #: LINE_ROW: of a board with one line for a sitting
SHOWN, LINES_SHOWN = 4, 6  #: rows that are seen without scrolling
MANY = 3  #: with more sittings it has one line for each, unless the user chose
MARGIN, ROOMY = 41, 3  #: of a cell beside its text: the glyph and the space between cells; and more where there is room
RUNNING_WIDTH = 150  #: of a column where something runs


def shared_out(wanted, least, room, chosen=-1):
    """Widths of columns in some room: what each wants where that fits, the rest shared; else those that
    want most more than the least get less.

    chosen : the column that keeps what it wants
    """
    total = sum(wanted)
    if total <= room:
        more = (room - total) // max(len(wanted), 1)
        out = [w + more for w in wanted]
    else:
        spare = [0 if c == chosen else max(w - n, 0) for c, (w, n) in enumerate(zip(wanted, least, strict=True))]
        # those that want most more give way first: a short word is whole where all of it is a few pixels
        level = max(spare, default=0)
        while level and sum(max(x - level, 0) for x in spare) < total - room:
            level -= 1
        out = [w - max(x - level, 0) for w, x in zip(wanted, spare, strict=True)]
    return out


def cut_to(text, metrics, width):
    """A text cut to a width; nothing where less than half of it would be left, which tells nobody anything."""
    cut = metrics.elidedText(text, Qt.TextElideMode.ElideRight, width)
    return cut if 2 * (len(cut) - (cut != text)) >= len(text) else ""


class Board(QWidget):
    """A painted grid; keys: arrows move, Space adds a cell to the choice, Enter runs what is chosen."""

    menu_wanted = pyqtSignal(QPoint)

    def __init__(self, session):
        super().__init__()
        self.session = session
        self.extra = set()  #: further chosen cells (sitting id, stage)
        self.cells, self._chosen, self._running, self._laid = [], None, None, None
        chosen = QSettings("umbrate", "umbrate").value("room/one_line")
        self._one_line = None if chosen is None else str(chosen) == "true"
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAcceptDrops(True)
        self.setAccessibleName("Board: sittings by stages")
        session.document_changed.connect(self.reload)
        session.chosen_changed.connect(self._follow)
        session.progressed.connect(self._progress)
        self.reload()

    @property
    def one_line(self):
        """Whether each sitting has one line."""
        return len(self.cells) > MANY if self._one_line is None else self._one_line

    def set_one_line(self, on):
        """Give each sitting one line, or two; remembered for this user."""
        self._one_line = bool(on)
        QSettings("umbrate", "umbrate").setValue("room/one_line", "true" if on else "false")
        self.session.document_changed.emit()

    @property
    def row(self):
        """Height of a row."""
        return LINE_ROW if self.one_line else ROW

    def wanted_height(self):
        """Height that shows as many rows as are seen without scrolling."""
        rows = max(1, min(LINES_SHOWN if self.one_line else SHOWN, len(self.cells)))
        return HEAD + self.row * rows + 6

    def reload(self):
        """Read the cells again."""
        self.cells, self._laid = self.session.board(), None
        self.names = (
            [
                (s.id, s.name, sum(not p.plate for p in self.session.job.photos(s.id)), self._unit(s))
                for s in self.session.job.sittings()
            ]
            if self.session.job
            else []
        )
        rows = max(1, len(self.cells))
        self.setMinimumHeight(HEAD + self.row * rows + 4)
        self.update()

    def _progress(self):
        """The running cell moved on: it alone is drawn anew."""
        run = self.session.running()
        here = (run.sitting.id, run.stage) if run else None
        for r, row in enumerate(self.cells):
            for c, cell in enumerate(row):
                if (cell.sitting_id, cell.stage) in (here, self._running):
                    self.update(self.cell_rect(r, c).adjusted(-2, -2, 2, 2))
        self._running = here

    def _follow(self):
        """Another cell may be chosen; another photo is none of the Board's business."""
        chosen = self.session.sitting_id, self.session.stage
        if chosen != self._chosen:
            self._chosen = chosen
            self.update()

    def sizeHint(self):
        return QSize(900, self.minimumHeight())

    def chosen_cells(self):
        """Cells that Run works on."""
        return [c for c in [(self.session.sitting_id, self.session.stage), *sorted(self.extra)] if c[0] is not None]

    def _edges(self):
        """Where columns begin, and where the last one ends: each as wide as what it says, the chosen one never cut."""
        run = self.session.running()
        key = (self.width(), self.session.stage, run.stage if run else "")
        if self._laid is None or self._laid[0] != key:
            small, plain = QFontMetrics(t.font(t.SMALL)), QFontMetrics(t.font())
            least = [small.horizontalAdvance(s.title) + 24 for s in STAGES]
            wanted, figures = [], []  # widths of all that columns say, and of the first lines of cells with figures
            for c, name in enumerate(least):
                texts = [row[c] for row in self.cells if row[c].first]
                first = [(plain.horizontalAdvance(x.first) + MARGIN, bool(x.second)) for x in texts]
                second = [small.horizontalAdvance(x.second) + MARGIN for x in texts]
                running = [RUNNING_WIDTH] if key[2] == STAGES[c].name else []
                wanted.append(max([name, *(w + ROOMY for w, _ in first), *(w + ROOMY for w in second), *running]))
                figures.append(max([name, *(w for w, known in first if known), *running]))
            chosen = next((c for c, s in enumerate(STAGES) if s.name == key[1]), -1)
            room = self.width() - NAME
            if chosen >= 0:
                figures[chosen] = wanted[chosen]
            # second lines, and words where there is no figure yet, give way before figures do
            widths = shared_out(*((wanted, figures) if sum(figures) <= room else (figures, least)), room, chosen)
            edges = [NAME]
            for w in widths:
                edges.append(edges[-1] + w)
            self._laid = key, edges
        return self._laid[1]

    def _at(self, pos):
        row, edges = (pos.y() - HEAD) // self.row, self._edges()
        column = bisect_right(edges, pos.x()) - 1
        return (row, column) if 0 <= row < len(self.cells) and column < len(STAGES) and pos.y() >= HEAD else None

    def cell_rect(self, row, column):
        """Where a cell is drawn."""
        left, right = self._edges()[column : column + 2]
        return QRect(left, HEAD + row * self.row, right - left - 4, self.row - 4)

    def paintEvent(self, e):
        p = QPainter(self)
        p.fillRect(self.rect(), t.color(t.GROUND))
        p.setFont(t.font(t.SMALL))
        p.setPen(t.color(t.QUIET))
        edges = self._edges()
        p.drawText(QRect(12, 0, NAME - 12, HEAD), Qt.AlignmentFlag.AlignVCenter, "Sitting")
        for k, s in enumerate(STAGES):
            p.drawText(QRect(edges[k] + 10, 0, edges[k + 1] - edges[k], HEAD), Qt.AlignmentFlag.AlignVCenter, s.title)
        if not self.cells:
            p.setFont(t.font())
            p.drawText(
                QRect(12, HEAD, self.width() - 24, self.row),
                Qt.AlignmentFlag.AlignVCenter,
                "No sittings yet. Drop folders of photos anywhere on the window, one for each placement of the object.",
            )
            return
        run = self.session.running()
        for r, row in enumerate(self.cells):
            sid, name, count, unit = self.names[r]
            chosen_row = sid == self.session.sitting_id
            p.setFont(t.font(t.SIZE, chosen_row))
            p.setPen(t.color(t.TEXT))
            metrics = QFontMetrics(p.font())
            top = HEAD + r * self.row
            p.drawText(
                QRect(12, top + (2 if self.one_line else 3), NAME - 20, 20),
                Qt.AlignmentFlag.AlignVCenter,
                metrics.elidedText(name, Qt.TextElideMode.ElideRight, NAME - 24),
            )
            if not self.one_line:
                p.setFont(t.font(t.SMALL))
                p.setPen(t.color(t.QUIET))
                p.drawText(
                    QRect(12, top + 21, NAME - 20, 16),
                    Qt.AlignmentFlag.AlignVCenter,
                    f"{counted(count, 'photo')}, {unit}",
                )
            for c, cell in enumerate(row):
                if e.rect().intersects(self.cell_rect(r, c)):
                    self._paint_cell(p, self.cell_rect(r, c), cell, run)

    def _unit(self, sitting):
        """What lengths of a sitting are in."""
        if sitting.members:
            return "in mm" if frame_of(self.session.job, sitting).scaled else "unscaled"
        scale = scale_result(self.session.job, sitting)
        return "in mm" if scale and scale.figures.scaled else "unscaled"

    def _paint_cell(self, p, rect, cell, run):
        state = self.session.state_of(cell)
        chosen = (cell.sitting_id, cell.stage) == (self.session.sitting_id, self.session.stage)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setBrush(t.color(t.PANEL))
        also = (cell.sitting_id, cell.stage) in self.extra
        p.setPen(
            QPen(
                t.color(t.ACCENT if chosen or also else t.LINE),
                1.5 if chosen or also else 1.0,
                Qt.PenStyle.DashLine if also and not chosen else Qt.PenStyle.SolidLine,
            )
        )
        p.drawRoundedRect(QRectF(rect).adjusted(0.5, 0.5, -0.5, -0.5), 4, 4)
        first, second = cell.first, cell.second
        if state == "running":
            fill = QRectF(rect).adjusted(2, 2, -2, -2)
            fill.setWidth(fill.width() * run.fraction)
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(t.color(t.ACCENT_DARK, 140))
            p.drawRoundedRect(fill, 3, 3)
            left = run.seconds_left
            first = f"{100 * run.fraction:.0f} %" + (f"  {short_time(left)} left" if left is not None else "")
            second = run.sentence
        elif state == "queued":
            first, second = "waiting", ""
        elif not first:
            first, second = WORDS[state], ""
            if QFontMetrics(t.font()).horizontalAdvance(first) > rect.width() - 36:
                first = ""  # its glyph says it
        if self.one_line:
            second = ""
        first, second = local(first), local(second)
        t.draw_state(p, state, QRectF(rect.left() + 9, rect.center().y() - 6, 13, 13))
        x, width = rect.left() + 30, rect.width() - 36
        p.setFont(t.font())
        p.setPen(t.color(t.QUIET if state in ("nothing", "ready", "queued", "elsewhere") else t.TEXT))
        first = cut_to(first, QFontMetrics(p.font()), width)
        p.setFont(t.font(t.SMALL))
        second = cut_to(second, QFontMetrics(p.font()), width)
        p.setFont(t.font())
        line = QRect(x, rect.top() + 3, width, 19) if second else QRect(x, rect.top(), width, rect.height())
        p.drawText(line, Qt.AlignmentFlag.AlignVCenter, first)
        if second:
            p.setFont(t.font(t.SMALL))
            p.setPen(t.color(t.QUIET))
            p.drawText(QRect(x, rect.top() + 21, width, 16), Qt.AlignmentFlag.AlignVCenter, second)

    def mousePressEvent(self, e):
        at = self._at(e.position().toPoint())
        if at is None:
            return
        row, column = at
        sid = self.names[row][0]
        stage = STAGES[column].name if column >= 0 else self.session.stage
        if e.modifiers() & Qt.KeyboardModifier.ControlModifier and column >= 0:
            self.extra ^= {(sid, stage)}
            self.update()
            return
        self.extra.clear()
        self.session.choose(sid, stage)
        if e.button() == Qt.MouseButton.RightButton:
            self.menu_wanted.emit(e.globalPosition().toPoint())

    def dragEnterEvent(self, e):
        if e.mimeData().hasFormat(PHOTOS_MIME):
            e.acceptProposedAction()
        else:
            e.ignore()  # folders are the window's business

    def dragMoveEvent(self, e):
        row = (int(e.position().y()) - HEAD) // self.row
        if 0 <= row < len(self.names) and self.names[row][0] != self.session.sitting_id:
            e.acceptProposedAction()
        else:
            e.ignore()

    def dropEvent(self, e):
        row = (int(e.position().y()) - HEAD) // self.row
        if 0 <= row < len(self.names):
            ids = {int(x) for x in bytes(e.mimeData().data(PHOTOS_MIME)).split(b",")}
            self.session.edits.move_photos(ids, self.names[row][1])
            e.acceptProposedAction()

    def mouseDoubleClickEvent(self, e):
        if self._at(e.position().toPoint()):
            self.session.run(self.chosen_cells())

    def mouseMoveEvent(self, e):
        at = self._at(e.position().toPoint())
        if at is None or at[1] < 0:
            QToolTip.hideText()
            return
        cell = self.cells[at[0]][at[1]]
        state = self.session.state_of(cell)
        lines = [f"{WORDS[state].capitalize()}.", cell.detail, *cell.problems[:6]]
        if len(cell.problems) > 6:
            lines.append(f"and {len(cell.problems) - 6} more")
        show_tip(e.globalPosition().toPoint(), "\n".join(x for x in lines if x), self)

    def keyPressEvent(self, e):
        names = [s.name for s in STAGES]
        ids = [n[0] for n in self.names]
        if not ids or self.session.sitting_id not in ids:
            return super().keyPressEvent(e)
        row, column = ids.index(self.session.sitting_id), names.index(self.session.stage)
        step = {
            Qt.Key.Key_Left: (0, -1),
            Qt.Key.Key_Right: (0, 1),
            Qt.Key.Key_Up: (-1, 0),
            Qt.Key.Key_Down: (1, 0),
        }.get(e.key())
        if step:
            row, column = (row + step[0]) % len(ids), max(0, min(len(names) - 1, column + step[1]))
            self.session.choose(ids[row], names[column])
        elif e.key() == Qt.Key.Key_Space:
            self.extra ^= {(ids[row], names[column])}
            self.update()
        elif e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.session.run(self.chosen_cells())
        else:
            super().keyPressEvent(e)
