"""What the pointer does in the photo view: the first tool that is at work takes the button until it is let go.

The order is that of what the user asked for last: a color that was asked for, the mask tools, marking, and otherwise
the photo is moved, with a click that takes an end of a measurement while one is wanted.
"""

import numpy as np
from PyQt6.QtCore import QPointF, Qt

from ...core.geometry.lens import unproject_one
from ...core.measure.surface import spot_on_ray
from ...core.poses.block import FEATURE
from ...sitting.endpoints import end_of_row

SNAP_PX = 12  #: an end of a measurement snaps to what is so near on the screen
CLICK_PX = 4  #: a button that is let go nearer than this to where it went down is a click
AROUND = 3  #: a color is the middle one of so many pixels to each side
LEFT, SHIFT = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier


class ColorPicker:
    """A click hands a color to whoever asked the session for one."""

    def __init__(self, view):
        self.view, self.wanted = view, False
        view.session.picking.connect(self._want)

    def _want(self, on):
        self.wanted = on
        if on:
            self.view.setFocus()
        self.view.setCursor(Qt.CursorShape.CrossCursor if on else Qt.CursorShape.ArrowCursor)

    def color_at(self, pos):
        """The color round a place of the view, written #RRGGBB; None outside the photo."""
        view, at = self.view, self.view.pixel_at(pos)
        if at is None or not view.is_inside(at):
            return None
        x, y = round(at[0]), round(at[1])
        around = view.picture[max(0, y - AROUND) : y + AROUND + 1, max(0, x - AROUND) : x + AROUND + 1].reshape(-1, 3)
        r, g, b = np.median(around, axis=0).astype(int)
        return f"#{r:02X}{g:02X}{b:02X}"

    def press(self, e):
        if not self.wanted:
            return False
        self.view.session.picked(self.color_at(e.position()))
        return True

    def move(self, e, down):
        pass

    def release(self, e):
        pass

    def key(self, e):
        if not self.wanted or e.key() != Qt.Key.Key_Escape:
            return False
        self.view.session.picked()
        return True

    def double_click(self, e):
        return False


class Masking:
    """The mask tools draw."""

    def __init__(self, view):
        self.view, self.tools = view, view.mask_tools

    def press(self, e):
        if not self.tools.active or e.button() != LEFT:
            return False
        self.tools.press(self.view.pixel_at(e.position()), e.modifiers())
        return True

    def move(self, e, down):
        if self.tools.active:
            self.tools.move(self.view.pixel_at(e.position()), bool(e.buttons() & LEFT))

    def release(self, e):
        if self.tools.active:
            self.tools.release(e.modifiers())

    def key(self, e):
        return self.tools.active and self.tools.key(e)

    def double_click(self, e):
        if not self.tools.active:
            return False
        self.tools.double_click(e.modifiers())
        return True


class Marking:
    """Points are marked. With Shift the left button moves the photo whatever else it does."""

    def __init__(self, view):
        self.view, self.marks = view, view.marks

    def press(self, e):
        if not self.marks.on or e.button() != LEFT or e.modifiers() & SHIFT:
            return False
        self.marks.press(e.position(), e.modifiers())
        return True

    def move(self, e, down):
        if self.marks.on:
            self.marks.move(e.position(), bool(e.buttons() & LEFT))

    def release(self, e):
        if self.marks.on:
            self.marks.release(e.modifiers())

    def key(self, e):
        return self.marks.on and self.marks.key(e.key())

    def double_click(self, e):
        if not self.marks.on:
            return False
        self.view.pointer.press(e)  # two quick clicks are two clicks
        return True


class Moving:
    """The photo is moved; a click takes an end of a measurement while one is wanted."""

    def __init__(self, view):
        self.view, self.session = view, view.session

    def press(self, e):
        self._last = self._start = e.position()
        return True

    def move(self, e, down):
        if down:
            self.view.placement.shift += e.position() - self._last
            self._last = e.position()
            self.view.update()

    def release(self, e):
        click = (e.position() - self._start).manhattanLength() < CLICK_PX
        if click and self.session.measuring.picking and e.button() == LEFT:
            pick_end(self.view, e.position())

    def key(self, e):
        measuring = self.session.measuring
        if measuring.picking and e.key() == Qt.Key.Key_Escape:
            measuring.cancel()
        elif measuring.kind and e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            measuring.finish()
        else:
            return False
        return True

    def double_click(self, e):
        if self.session.measuring.picking:
            self.view.pointer.press(e)  # two quick clicks are two clicks
        else:
            self.view.fit()
        return True


class Pointer:
    """Which tool has the pointer."""

    def __init__(self, view):
        self.view, self._tool = view, None
        self.color, self._moving = ColorPicker(view), Moving(view)
        self._tools = (self.color, Masking(view), Marking(view), self._moving)

    def press(self, e):
        """A button went down."""
        self._tool = next(x for x in self._tools if x.press(e))

    def move(self, e):
        """It moved, with a button down or without."""
        if self._tool is not None:
            self._tool.move(e, True)
        else:
            for tool in self._tools:
                tool.move(e, False)
        if self._tool is not self._moving:
            self._point(e.position())

    def release(self, e):
        """A button was let go."""
        tool, self._tool = self._tool, None
        if tool is not None:
            tool.release(e)

    def key(self, e):
        """Whether a key was meant for one of the tools."""
        return any(x.key(e) for x in (self.color, *self._tools[2:], self._tools[1]))

    def double_click(self, e):
        """A button went down twice."""
        next(x for x in self._tools if x.double_click(e))

    def _point(self, pos):
        """Show the ray of the pixel in the scene, and its depth below the photo."""
        view, s, at = self.view, self.view.session, self.view.pixel_at(pos)
        if at is None or view.mask_tools.active:
            return
        view.point_at_depth(at)
        if s.block is None:
            return
        b, k = view.overlays.row
        if b is None or not view.is_inside(at):
            s.ray.emit(None)
            return
        x, y = unproject_one(at[0], at[1], b.lens_vector(k))
        d = b.poses[k, :3, :3].T @ np.array([x, y, 1.0])
        s.ray.emit((b.eyes[k], d / np.linalg.norm(d)))


def pick_end(view, pos):
    """Hand the end of a measurement under a position to the session: a target, a mark, or a spot of the cloud."""
    if view.image is None:
        return  # what would be picked is not there yet
    s, to_view, at = view.session, view.placement.to_view(), view.pixel_at(pos)
    b, k = view.overlays.row
    if b is None or at is None:
        s.said.emit("Ends can be clicked in solved photos only.", "note")
        return
    best = (SNAP_PX, None)
    for r in np.flatnonzero((b.photo == k) & (b.kind != FEATURE)[b.point]):
        q = to_view.map(QPointF(b.xy[r, 0] + 0.5, b.xy[r, 1] + 0.5))
        d = float(np.hypot(q.x() - pos.x(), q.y() - pos.y()))
        if d < best[0]:
            best = d, end_of_row(b, b.point[r])
    if best[1] is not None:
        s.measuring.pick(best[1])
        return
    if s.cleaning.kept is None:
        s.said.emit("There is no target or marked point, and no cloud to snap to. Mark a point there first.", "note")
        return
    lens = b.lens_vector(k)
    x, y = unproject_one(at[0], at[1], lens)
    d = b.poses[k, :3, :3].T @ np.array([x, y, 1.0])

    def take(cloud):
        spot = spot_on_ray(cloud["points"], b.eyes[k], d / np.linalg.norm(d), 3.0 / lens[0])
        if spot is None:
            s.said.emit("There is nothing of the cloud under the pointer.", "note")
        else:
            s.measuring.pick(spot)

    s.with_cloud(take)
