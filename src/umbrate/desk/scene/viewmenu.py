"""How the scene is looked at: sides, parallel rays, a section slab, point sizes, views to come back to, pictures."""

from functools import partial
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QAction, QPen
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QInputDialog,
    QMenu,
    QSlider,
    QToolButton,
    QWidget,
)

from ...core.geometry.similarity import scale_of
from ...core.raster.camera import Eye
from ...formats.files import CLOSED, written_aside
from .. import over as t
from ..dialogs.writing import ask_file, beside, write_beside
from ..plain import Label, button_text
from .points import Slab
from .tools import REACH_PX

DIRECTION_KEYS = (
    ("Front", "F5"),
    ("Right", "F6"),
    ("Back", "F7"),
    ("Left", "F8"),
    ("Top", "F9"),
    ("Bottom", "Shift+F9"),
)
STEPS = 1000  #: of the slab's sliders
WIDEST = 16_000  #: pixels of a picture's width


class SlabBar(QWidget):
    """Where the slab lies and how thick it is."""

    changed = pyqtSignal(object)  #: a Slab

    AXES = (("Level", (0.0, 0.0, 1.0)), ("Front to back", (0.0, 1.0, 0.0)), ("Left to right", (1.0, 0.0, 0.0)))

    def __init__(self, scene):
        super().__init__(scene)
        self.scene, self.facing = scene, None
        row = QHBoxLayout(self)
        row.setContentsMargins(6, 2, 6, 2)
        row.setSpacing(6)
        self.axis = QComboBox()
        for name, _ in self.AXES:
            self.axis.addItem(name)
        self.axis.addItem("As I look")
        self.axis.setToolTip("The direction across the slab")
        self.axis.activated.connect(self._axis_chosen)
        self.place, self.thick = (QSlider(Qt.Orientation.Horizontal, minimum=0, maximum=STEPS) for _ in range(2))
        self.place.setValue(STEPS // 2)
        self.thick.setMinimum(2)
        self.thick.setValue(STEPS // 20)
        self.place.setToolTip("Where the slab lies")
        self.thick.setToolTip("How thick it is")
        self.told = Label(objectName="quiet")
        self.told.setMinimumWidth(120)
        self.cut = QToolButton(text="Cut")
        self.cut.setToolTip("Try taking away what lies in the slab; Keep what it chooses takes away the rest")
        self.cut.clicked.connect(self._cut)
        for w, stretch in ((self.axis, 0), (self.place, 3), (self.thick, 1), (self.told, 0), (self.cut, 0)):
            row.addWidget(w, stretch)
        for s in (self.place, self.thick):
            s.valueChanged.connect(self.tell)
        self.exact = None  #: (low, high) as a handle was dragged to
        self.held = None
        self.hide()

    # ------------------------------------------------------------------ handles in the scene
    def places(self):
        """Where the handles of the lower and the upper plane are (2, 3), or None."""
        slab, points = self.slab(), self.scene.drawn.every
        if slab is None:
            return None
        n = np.asarray(slab.normal)
        middle = np.median(points[:: max(1, len(points) // 20_000)], axis=0).astype(float)
        middle -= (n @ middle) * n
        return np.array([middle + slab.low * n, middle + slab.high * n])

    def take(self, pos):
        """Whether a handle is under a position of the scene; it is held from now on."""
        places = self.places() if self.isVisible() else None
        if places is None:
            return False
        uv = self.scene.on_screen(places)
        d = np.hypot(uv[:, 0] - pos.x(), uv[:, 1] - pos.y())
        k = int(np.argmin(np.where(np.isfinite(d), d, np.inf)))
        self.held = (k, pos, self.slab()) if d[k] <= REACH_PX else None
        return self.held is not None

    def follow(self, pos):
        """The pointer moved with the handle that is held."""
        k, start, slab = self.held
        n = np.asarray(slab.normal)
        place = self.places()[k]
        step = 0.01 * max(slab.high - slab.low, 1e-9)
        uv = self.scene.on_screen(np.array([place, place + step * n]))
        per = (uv[1] - uv[0]) / step
        move = float(np.array([pos.x() - start.x(), pos.y() - start.y()]) @ per) / max(float(per @ per), 1e-9)
        ends = [slab.low, slab.high]
        ends[k] += move
        if ends[0] < ends[1]:
            self.exact = tuple(ends)
            self._say()

    def let_go(self):
        """The handle is let go."""
        self.held = None

    def paint(self, p):
        """The handles, with a line between them."""
        places = self.places()
        uv = self.scene.on_screen(places) if places is not None else np.full((2, 2), np.nan)
        if not np.isfinite(uv).all():
            return
        a, b = (QPointF(*x) for x in uv.tolist())
        p.setPen(QPen(t.color(t.CATEGORIES[1]), 1.4, Qt.PenStyle.DashLine))
        p.drawLine(a, b)
        for k, q in enumerate((a, b)):
            held = self.held is not None and self.held[0] == k
            p.setBrush(t.color(t.ACCENT if held else t.CATEGORIES[1]))
            p.setPen(QPen(t.color(t.GROUND), 1))
            p.drawRect(QRectF(q.x() - 5, q.y() - 5, 10, 10))
        p.setBrush(Qt.BrushStyle.NoBrush)

    # ------------------------------------------------------------------ what is set
    def _axis_chosen(self, k):
        self.facing = self.scene.eye.pose[2, :3].copy() if k == len(self.AXES) and self.scene.eye else None
        self.tell()

    def slab(self):
        """The Slab that is set, or None without points."""
        points = self.scene.drawn.every
        if points is None or not len(points):
            return None
        k = self.axis.currentIndex()
        n = np.asarray(self.AXES[k][1] if k < len(self.AXES) else self.facing, float)
        if self.exact:
            return Slab(tuple(n), *self.exact)
        h = points[:: max(1, len(points) // 100_000)] @ n.astype(points.dtype)
        low, high = (float(x) for x in np.percentile(h, (0.1, 99.9)))
        middle = low + (high - low) * self.place.value() / STEPS
        half = (high - low) * self.thick.value() / STEPS / 2
        return Slab(tuple(n), middle - half, middle + half)

    def _cut(self):
        slab = self.slab()
        if slab and (self.scene.is_cloud or self.scene.is_surface):
            self.scene.view.slab.trigger()  # all of it is shown again, what would go in amber
            work = self.scene.session.mending if self.scene.is_surface else self.scene.session.cleaning
            work.cut(slab)

    def tell(self, *_):
        """Say what is set by the sliders, to whoever listens."""
        self.exact = None
        self._say()

    def _say(self):
        slab = self.slab()
        if slab:
            frame = self.scene.session.frame
            unit = frame.unit if frame else ""
            self.told.setText(f"{slab.low:.4g} to {slab.high:.4g} {unit}")
        self.changed.emit(slab)


class ViewMenu(QMenu):
    """The scene's menu; the window's has the same actions, so that the finder finds them."""

    def __init__(self, scene):
        super().__init__(scene)
        self.scene, self.session = scene, scene.session
        for name, key in DIRECTION_KEYS:
            self._add(name, lambda n=name: scene.look_from(n), key)
        self.addSeparator()
        self.parallel = self._add("Parallel rays", scene.set_parallel, "F4", True)
        self.slab = self._add("Section slab", scene.show_slab, "F3", True)
        self.spacing = self._add("Points as large as their spacing", scene.redraw, None, True)
        self.edges = self._add("Depth edges", scene.redraw, None, True)
        self.edges.setChecked(True)
        self.addSeparator()
        self.keep = self._add("Keep this view…", self._keep)
        self.views = self.addMenu("Views kept")
        self.forget = self._add("Forget a view…", self._forget)
        self.picture = self._add("Save a picture of the scene…", self._save_picture)
        self.aboutToShow.connect(self._fill)

    def _add(self, name, act, key=None, checkable=False):
        a = QAction(name, self.scene, checkable=checkable)
        if key:
            a.setShortcut(key)
            a.setShortcutContext(Qt.ShortcutContext.WindowShortcut)
        a.triggered.connect((lambda on: act(on)) if checkable else (lambda _: act()))
        self.addAction(a)
        self.scene.addAction(a)
        return a

    # ------------------------------------------------------------------ views that are kept
    def kept(self):
        """Views of the job by name."""
        return self.session.job.desk_state().get("views", {}) if self.session.job else {}

    def _fill(self):
        self.views.clear()
        kept = self.kept()
        for name in kept:
            self.views.addAction(button_text(name), lambda n=name: self.go(n))
        self.views.setEnabled(bool(kept))
        self.forget.setEnabled(bool(kept))
        for a in (self.keep, self.picture, self.parallel, self.slab):
            a.setEnabled(self.scene.eye is not None)

    def _keep(self):
        if self.scene.eye is None or not self.session.may_write():
            return
        name, ok = QInputDialog.getText(self.scene, "Keep this view", "Name", text=f"View {len(self.kept()) + 1}")
        if ok and name.strip():
            self.remember(name.strip())

    def remember(self, name):
        """Keep how the scene is looked at under a name; an older one of that name is replaced."""
        e = self.scene.eye
        view = {
            "sitting": self.session.sitting_id, "pose": e.pose.tolist(), "f": e.f / self.scene.height(),
            "pivot": e.pivot.tolist(), "parallel": e.parallel, "frame": self.session.frame.matrix.tolist(),
        }  # fmt: skip
        self.session.job.remember(views={**self.kept(), name: view})
        self.session.said.emit(f"“{name}” is kept: it is in the scene's View menu.", "good")

    def go(self, name):
        """Look as in a view that was kept."""
        v = self.kept().get(name)
        if v is None:
            return
        if v["sitting"] != self.session.sitting_id:
            if v["sitting"] not in {s.id for s in self.session.job.sittings()}:
                self.session.said.emit(f"“{name}” is a view of a sitting that is not there any more.", "note")
                return
            self.session.choose(sitting_id=v["sitting"])
        pose, pivot = np.array(v["pose"]), np.array(v["pivot"])
        frame = self.session.frame
        if "frame" in v and frame is not None:
            # the level or the scale may be others since: what is seen is the same
            now = frame.matrix @ np.linalg.inv(np.array(v["frame"]))  # from the frame of then to that of now
            s = scale_of(now)
            pose = pose @ np.linalg.inv(now)
            pose[:3] *= s
            pivot = now[:3, :3] @ pivot + now[:3, 3]
        self.scene.look(Eye(pose, v["f"] * self.scene.height(), pivot, bool(v["parallel"])))

    def _forget(self):
        kept = self.kept()
        name, ok = QInputDialog.getItem(self.scene, "Forget a view", "View", list(kept), 0, False)
        if ok and self.session.may_write():
            self.session.job.remember(views={k: v for k, v in kept.items() if k != name})

    # ------------------------------------------------------------------ pictures
    def _save_picture(self):
        if self.scene.eye is None:
            return
        width, ok = QInputDialog.getInt(
            self.scene, "Save a picture of the scene", "Width in pixels", max(1920, self.scene.width()), 64, WIDEST
        )
        if not ok:
            return
        start = beside(self.session.job, ".png")
        place = ask_file(self.scene, "Save a picture of the scene", start, "Pictures (*.png)")
        if place:
            write_beside(
                self.session, self.scene, partial(write_picture, Path(place), self.scene.snapshot(width)),
                lambda image: f"Wrote {Path(place).name}, {image.width()} x {image.height()} pixels.",
            )  # fmt: skip


def write_picture(path, snapshot, gate=CLOSED):
    """Write a `Canvas.snapshot` of the scene as PNG, in any thread; returns the picture."""
    path = path if path.suffix else path.with_suffix(".png")
    gate.check(path)
    image = snapshot()
    with written_aside(path, gate) as part:
        if not image.save(str(part), "PNG"):
            raise OSError(5, "the picture could not be written")
    return image
