"""What the pointer does in the scene: a tool takes it when the button goes down and keeps it until it is let go.

Without a button, the point under the pointer is shown in the photos, and a frustum under it opens its photo beside.
"""

import numpy as np
from PyQt6.QtCore import QPointF, Qt, QTimer
from PyQt6.QtGui import QPolygonF

from ...actions.leveling import level_by_turn
from ...core.geometry.lens import project_one
from ...core.poses.block import FEATURE
from ...sitting.endpoints import end_of_row
from .tools import BOX, BRUSH, LASSO, LOOK, PIECE, RECTANGLE, TURN

DWELL_MS = 450  #: a photo under the pointer for so long opens beside
SNAP_PX = 11  #: an end of a measurement snaps to a target or mark so near
CLICK_PX = 4  #: a button that is let go nearer than this to where it went down is a click
TURN_PER_PX = 0.008
LEFT = Qt.MouseButton.LeftButton


class Looking:
    """Turn and shift the view by dragging; a click chooses a photo, sets the pivot, or takes an end of a length."""

    def __init__(self, scene):
        self.scene = scene

    def press(self, e):
        self._last = self._start = e.position()
        self._button = e.button()
        return True

    def move(self, e):
        s, d = self.scene, e.position() - self._last
        self._last = e.position()
        if self._button == LEFT and not e.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            s.eye = s.eye.turned(d.x() * TURN_PER_PX, d.y() * TURN_PER_PX)
        else:
            s.eye = s.eye.moved(d.x(), d.y())
        s.redraw(moving=True)

    def release(self, e):
        s = self.scene
        if (e.position() - self._start).manhattanLength() >= CLICK_PX or s.live is not None:
            return
        if s.session.measuring.picking and self._button == LEFT and s.block is not None:
            pick_end(s, e.position())
            return
        photo = frustum_at(s, e.position())
        if photo is not None:
            s.session.choose(photo_id=photo)
        elif (hit := s.canvas.triangle_at(e.position())) is not None:
            s.eye.pivot = hit[1]
            s.session.texturing.ask(*hit)
        elif (k := s.point_at(e.position())) >= 0:
            s.eye.pivot = s.points[k].astype(float)


class Picking:
    """Lasso, rectangle and brush: choose tie points, or what is to be taken off a cloud."""

    def __init__(self, scene):
        self.scene = scene

    def press(self, e):
        s = self.scene
        if e.button() != LEFT or s.points is None or s.live is not None or s.is_overlay:
            return False
        if s.drawn.textured is not None:
            s.session.said.emit("A texture is not cut: mend its surface on Surface, then run Texture again.", "note")
            return False
        s.picker.begin(s.mode, e.position(), e.modifiers())
        return True

    def move(self, e):
        self.scene.picker.follow(e.position())
        self.scene.update()

    def release(self, e):
        s, picker = self.scene, self.scene.picker
        work = s.session.mending if s.is_surface else s.session.cleaning
        if (s.is_cloud or s.is_surface) and s.mode == BRUSH:
            path, picker.path = picker.path, []
            work.paint(s.eye, path, picker.brush_px, s.width(), s.height())
        elif s.is_cloud or s.is_surface:
            drawn = picker.outline()
            if len(drawn) >= 3:
                work.draw(s.eye, drawn, s.width(), s.height())
        else:
            hit = picker.end(s.points.astype(float), s.eye, s.width(), s.height())
            if s.rows is not None:
                every = np.zeros(len(s.block.points), bool)
                every[s.rows[hit]] = True
                hit = every
            s.session.points.choose(hit, picker.how)
        s.update()


class PieceByClick:
    """The piece of a surface that is clicked, to be taken away or kept alone."""

    def __init__(self, scene):
        self.scene = scene

    def press(self, e):
        s = self.scene
        if e.button() != LEFT:
            return False
        if not s.is_surface:
            s.session.said.emit("This tool takes pieces of a surface: show the surface (Alt+S).", "note")
            return False
        k = s.point_at(e.position(), 3)
        if k >= 0:
            s.session.mending.pick_piece(s.points[k])
        return k >= 0

    def move(self, e):
        pass

    def release(self, e):
        pass


class BoxByHand:
    """The keep box by its handles."""

    def __init__(self, scene):
        self.scene = scene

    def press(self, e):
        s, box = self.scene, self.scene.keep_box()
        grip = s.handles.at(box, e.position(), s.eye, s.width(), s.height()) if box and e.button() == LEFT else None
        if grip is None:
            return False
        s.handles.begin(box, grip, e.position())
        return True

    def move(self, e):
        s = self.scene
        s.handles.follow(e.position(), s.eye, s.width(), s.height())
        s.update()

    def release(self, e):
        s = self.scene
        box = s.handles.end()
        if box is not None and s.session.may_write():
            s.session.edits.set_keep_box(box.as_dict())
        s.update()


class TurnByHand:
    """The object turned by its rings."""

    def __init__(self, scene):
        self.scene = scene

    def press(self, e):
        s = self.scene
        if e.button() != LEFT or s.points is None:
            return False
        grip = s.rings.at(e.position(), s.eye, s.width(), s.height())
        if grip is None:
            return False
        s.rings.begin(grip, e.position(), s.eye, s.width(), s.height())
        return True

    def move(self, e):
        s = self.scene
        s.rings.follow(e.position(), s.eye, s.width(), s.height())
        s.redraw(moving=True)

    def release(self, e):
        s = self.scene
        turn = s.rings.end()
        if turn is not None and s.session.may_write():
            s.session.do(lambda: level_by_turn(s.session.job, s.session.sitting, turn), "Turned. Undo turns it back.")
            s.place_rings()
        s.redraw()


class SlabByHand:
    """A plane of the section slab by its handle."""

    def __init__(self, scene):
        self.scene = scene

    def press(self, e):
        return e.button() == LEFT and self.scene.slab.take(e.position())

    def move(self, e):
        self.scene.slab.follow(e.position())

    def release(self, e):
        self.scene.slab.let_go()
        self.scene.update()


class Pointer:
    """Which tool has the pointer, and what is under it while none has.

    Attributes
    ----------
    place : QPointF or None
        Where it is.
    over_photo : int or None
        The photo whose frustum is under it.
    hovered : (x, y) or None
        Where the point under it is drawn.
    """

    def __init__(self, scene):
        self.scene = scene
        self.place = self.over_photo = self.hovered = self._tool = None
        picking = Picking(scene)
        self._tools = {
            LASSO: picking,
            RECTANGLE: picking,
            BRUSH: picking,
            PIECE: PieceByClick(scene),
            BOX: BoxByHand(scene),
            TURN: TurnByHand(scene),
        }
        self._looking, self._slab = Looking(scene), SlabByHand(scene)
        self._dwell = QTimer(scene, singleShot=True, interval=DWELL_MS)
        self._dwell.timeout.connect(self._open_beside)

    def press(self, e):
        """A button went down."""
        if self.scene.eye is None:
            return
        offered = (self._slab, self._tools.get(self.scene.mode), self._looking)
        self._tool = next(x for x in offered if x is not None and x.press(e))

    def move(self, e):
        """It moved, with a button down or without."""
        self.place = e.position()
        if self.scene.eye is None:
            return
        if self._tool is not None:
            self._tool.move(e)
        else:
            self._hover(e.position())

    def release(self, e):
        """A button was let go."""
        tool, self._tool = self._tool, None
        if tool is not None and self.scene.eye is not None:
            tool.release(e)

    def leave(self):
        """It left the scene."""
        self._dwell.stop()
        self.over_photo = None
        self._point_at_nothing()

    def _open_beside(self):
        if self.over_photo is not None and self.over_photo != self.scene.session.photo_id:
            self.scene.session.choose(photo_id=self.over_photo)

    def _hover(self, pos):
        s = self.scene
        over = frustum_at(s, pos) if s.live is None and s.through.photo_id is None else None
        if over != self.over_photo:
            self.over_photo = over
            self._dwell.start() if over is not None else self._dwell.stop()
            s.update()
        if s.mode == BRUSH:
            s.update()
        k = s.point_at(pos, 2)
        if k < 0 or s.block is None or s.live is not None:
            self._point_at_nothing()
            return
        X = s.points[k].astype(float)
        u, v, _ = s.eye.project(X[None], s.width(), s.height())[0]
        self.hovered = (u, v)
        s.session.pointed.emit(sightings_of(s, k, X))
        s.update()

    def _point_at_nothing(self):
        if self.hovered is not None:
            self.hovered = None
            self.scene.session.pointed.emit(None)
            self.scene.update()


def frustum_at(scene, pos):
    """The photo whose frustum is under a position, the nearest of several; None without any."""
    best, depth = None, np.inf
    if scene.block is None or not scene.toggles["Photos"].isChecked():
        return None
    for pid, corners in scene.frusta.corners(scene.block):
        uvz = scene.eye.project(corners, scene.width(), scene.height())
        if (uvz[:, 2] > 0).all() and uvz[0, 2] < depth:
            hull = QPolygonF([QPointF(*x[:2]) for x in uvz[1:]])
            inside = hull.containsPoint(pos, Qt.FillRule.OddEvenFill)
            if inside or np.hypot(uvz[0, 0] - pos.x(), uvz[0, 1] - pos.y()) < 6:
                best, depth = pid, uvz[0, 2]
    return best


def sightings_of(scene, k, X):
    """Where a drawn point k at X falls in each solved photo: (x, y, depth), measured for tie points, else predicted."""
    b, out = scene.block, {}
    everywhere = scene.is_cloud or scene.is_solid or scene.is_overlay  # a place that no photo was asked about
    k = scene.rows[k] if scene.rows is not None and not everywhere else k
    seen = b.of_point(k) if not everywhere else slice(0)
    measured = dict(zip(b.photo[seen].tolist(), b.xy[seen], strict=True))
    for pid, i in b.solved_rows.items():
        if not (everywhere or i in measured):
            continue
        E = b.poses[i]
        Y = E[:3, :3] @ X + E[:3, 3]
        if Y[2] > 0:
            predicted = project_one(Y[0] / Y[2], Y[1] / Y[2], b.lens_vector(i))
            x, y = measured.get(i, predicted)
            out[pid] = (float(x), float(y), float(Y[2]))
    return out


def pick_end(scene, pos):
    """Hand the end of a measurement under a position to the session: a target, a mark, or a spot of the cloud."""
    s, b = scene.session, scene.block
    rows = np.flatnonzero(b.kind != FEATURE)
    if len(rows) and s.fragment == 0:
        uv = scene.on_screen(b.points[rows])
        d = np.hypot(uv[:, 0] - pos.x(), uv[:, 1] - pos.y())
        near = np.flatnonzero(d < SNAP_PX)
        near = near[~scene.canvas.is_hidden(b, rows[near])]
        if len(near):
            s.measuring.pick(end_of_row(b, rows[near[int(np.argmin(d[near]))]]))
            return
    k = scene.point_at(pos, 4)
    if k >= 0 and (scene.is_cloud or scene.is_solid):
        s.measuring.pick(scene.points[k].astype(float))
    else:
        more = (
            " Show the cloud to measure on it  (Alt+C)." if not scene.is_cloud and s.cleaning.kept is not None else ""
        )
        s.said.emit(f"There is no target and no marked point here.{more}", "note")


def press_key(scene, e):
    """What a key does in the scene; returns whether it does anything."""
    s, key = scene.session, e.key()
    step = {Qt.Key.Key_Left: (-0.1, 0), Qt.Key.Key_Right: (0.1, 0), Qt.Key.Key_Up: (0, 0.1), Qt.Key.Key_Down: (0, -0.1)}
    shift = bool(e.modifiers() & Qt.KeyboardModifier.ShiftModifier)
    if shift and key in (Qt.Key.Key_Up, Qt.Key.Key_Down) and scene.mode == BRUSH:
        factor = 1.25 if key == Qt.Key.Key_Up else 0.8
        scene.picker.brush_px = float(np.clip(scene.picker.brush_px * factor, 4, 200))
        scene.update()
    elif key in step and scene.eye is not None:
        scene.eye = scene.eye.turned(*step[key])
        scene.redraw(moving=True)
    elif key == Qt.Key.Key_Z and scene.eye is not None:
        scene.eye = scene.eye.zoomed(1 / 1.15 if shift else 1.15, scene.eye.pivot)
        scene.redraw(moving=True)
    elif key == Qt.Key.Key_Delete:
        if scene.is_cloud:
            s.cleaning.apply()
        elif scene.is_surface:
            s.mending.apply()
        else:
            s.points.remove()
    elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and s.measuring.kind:
        s.measuring.finish()
    elif key == Qt.Key.Key_Escape and s.measuring.picking:
        s.measuring.cancel()
    elif key == Qt.Key.Key_Escape:
        scene.look_through(None)
        s.points.clear()
        s.cleaning.try_on(None)
        s.mending.try_on(None)
        scene.set_mode(LOOK)
    else:
        return False
    return True
