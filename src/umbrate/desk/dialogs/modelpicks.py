"""A model from a file laid over the surface by places that are picked on both."""

from pathlib import Path

import numpy as np
from PyQt6 import sip
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QImage, QPainter, QPen
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QPushButton, QVBoxLayout

from ...actions.models import FEWEST_PICKS, place_by_picks
from ...actions.picturing import DIRECTIONS, GROUND
from ...core.errors import UmbrateError
from ...core.raster.camera import eye_round
from ...core.raster.solid import draw_triangles, paint_quickly, paint_triangles
from ...core.surface.build import vertex_normals
from ...formats.meshes import read_mesh
from .. import over as t
from ..bench.markedpoints import cell, table
from ..plain import Label
from ..session.surfaces import coarse_of
from .turned import TurnedView

GRAY = 200


class MeshView(TurnedView):
    """A surface to turn; a click gives the place under it to `picked`, a callable."""

    def __init__(self, name, picked):
        super().__init__()
        self.setAccessibleName(name)
        self.name, self.picked = name, picked
        self.mesh = self._few = self._memory = self._solid = None
        self.shown = []  #: (name, place (3,), whether it is the chosen one)

    def take(self, mesh):
        """Show a surface: arrays points, normals, faces and, where there are, colors."""
        self.mesh, self._few = mesh, coarse_of(mesh)
        self.colors = mesh.get("colors", np.full((len(mesh["points"]), 3), GRAY, np.uint8))
        self._anew()

    def _drawn(self):
        """The picture, a coarse one while it is turned."""
        m, w, h = self.mesh, self.width(), self.height()
        if self._drag is not None:
            few = {"points": self._few.points, "normals": self._few.normals, "faces": self._few.faces}
            solid = draw_triangles(few["points"], few["faces"], self.eye, w, h)
            return paint_quickly(solid, few, self.colors[self._few.rows], self.eye, GROUND)
        self._solid = draw_triangles(m["points"], m["faces"], self.eye, w, h)
        return paint_triangles(self._solid, m, self.colors, self.eye, GROUND, GROUND)

    def paintEvent(self, _):
        p = QPainter(self)
        p.fillRect(self.rect(), t.color(t.NEUTRAL))
        if self.mesh is None:
            p.setPen(t.color(t.QUIET))
            p.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Reading …")
            return
        w, h = self.width(), self.height()
        if self.eye is None:
            P = self.mesh["points"].astype(float)
            middle = (P.min(0) + P.max(0)) / 2
            self.eye = eye_round(middle, float(np.linalg.norm(P - middle, axis=1).max()), DIRECTIONS["corner"], w, h)
        if self._image is None:
            self._memory = self._drawn()
            self._image = QImage(self._memory.data, w, h, 4 * w, QImage.Format.Format_RGB32)
        p.drawImage(0, 0, self._image)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setFont(t.font(t.SMALL, bold=True))
        for name, X, chosen in self.shown:
            x, y, z = self.eye.project(np.asarray(X, float)[None], w, h)[0]
            if z > 0:
                for color, width in ((t.GROUND, 3.5), (t.ACCENT if chosen else t.TEXT, 1.6)):
                    p.setPen(QPen(t.color(color), width))
                    p.drawLine(QPointF(x - 7, y), QPointF(x + 7, y))
                    p.drawLine(QPointF(x, y - 7), QPointF(x, y + 7))
                p.drawText(QPointF(x + 9, y - 4), name)

    def _clicked(self, pos):
        x, y = int(pos.x()), int(pos.y())
        if self._solid is None or not (0 <= x < self.width() and 0 <= y < self.height()):
            return
        b = self._solid.buffers
        if b.index[y, x] >= 0:
            self.picked(self.eye.place_at(x, y, float(b.depth[y, x]), self.width(), self.height()))


class ModelPicksDialog(QDialog):
    """The model on the left, the surface on the right; places are picked in turn. Accepted, `pairs` has them."""

    def __init__(self, session, file, parent=None):
        super().__init__(parent)
        self.session, self.file, self.pairs, self.open = session, file, [], None
        self.setWindowTitle(f"Lay {Path(file).name} over the surface")
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 12, 16, 12)
        box.setSpacing(8)
        self.hint = Label(objectName="plain")
        box.addWidget(self.hint)
        sides = QHBoxLayout()
        sides.setSpacing(8)
        self.views = []
        for k, name in enumerate((Path(file).name, "The surface")):
            column = QVBoxLayout()
            column.addWidget(Label(name, objectName="quiet"))
            view = MeshView(name, lambda X, i=k: self._picked(i, X))
            column.addWidget(view, 1)
            sides.addLayout(column, 1)
            self.views.append(view)
        box.addLayout(sides, 1)
        low = QHBoxLayout()
        self.list = table(("Place", "Off"))
        self.list.itemSelectionChanged.connect(self._fill_views)
        low.addWidget(self.list, 1)
        buttons = QVBoxLayout()
        self.remove = QPushButton("Remove")
        self.remove.setToolTip("Take the chosen pair away  (Del)")
        self.compare = QPushButton("Compare", objectName="next")
        cancel = QPushButton("Cancel")
        for b, act in ((self.remove, self._remove), (cancel, self.reject), (self.compare, self.accept)):
            b.setAutoDefault(False)
            b.clicked.connect(lambda _, a=act: a())
            buttons.addWidget(b)
        buttons.addStretch(1)
        low.addLayout(buttons)
        box.addLayout(low)
        self.resize(1120, 720)
        mesh = session.surfacing.mesh
        self.views[1].take(mesh)

        def read():
            points, faces = read_mesh(file)
            points = np.ascontiguousarray(points, np.float32)
            return {"points": points, "faces": faces, "normals": vertex_normals(points, faces)}

        def came(model):
            if not sip.isdeleted(self):
                self.views[0].take(model)

        def failed(sentence):
            session.said.emit(sentence, "bad")
            if not sip.isdeleted(self):
                self.reject()

        session.in_background(read, came, failed)
        self._fill()

    def _picked(self, side, X):
        if self.open is not None and self.open[0] != side:
            pair = (X, self.open[1]) if side == 0 else (self.open[1], X)
            self.pairs.append(pair)
            self.open = None
        else:
            self.open = (side, X)
        self._fill()

    def _fill(self):
        off, told = [None] * len(self.pairs), ""
        if len(self.pairs) >= FEWEST_PICKS:
            try:
                M = place_by_picks(self.pairs)
                off = [float(np.linalg.norm(M[:3, :3] @ a + M[:3, 3] - b)) for a, b in self.pairs]
            except UmbrateError as e:
                told = str(e)
        unit = self.session.frame.unit if self.session.frame else ""
        self.list.blockSignals(True)
        self.list.setRowCount(len(self.pairs))
        for k, d in enumerate(off):
            self.list.setItem(k, 0, cell(f"{k + 1}", k))
            self.list.setItem(k, 1, cell("–" if d is None else f"{d:.3f} {unit}".strip(), right=True))
        self.list.clearSelection()
        self.list.blockSignals(False)
        self.compare.setEnabled(len(self.pairs) >= FEWEST_PICKS and not told)
        left = FEWEST_PICKS - len(self.pairs)
        if self.open is not None:
            told = f"Now the same place on {'the surface' if self.open[0] == 0 else 'the model'}. Esc lets it go."
        elif not told and left > 0:
            told = f"Click a place on the model, then the same on the surface: {left} more."
        elif not told:
            told = "Compare, or pick more. The list says how far each pair is off."
        self.hint.setText(told)
        self._fill_views()

    def _fill_views(self):
        chosen = self.list.currentRow() if self.list.selectedItems() else -1
        self.remove.setEnabled(chosen >= 0)
        for side, view in enumerate(self.views):
            view.shown = [(f"{k + 1}", p[side], k == chosen) for k, p in enumerate(self.pairs)]
            if self.open is not None and self.open[0] == side:
                view.shown.append(("?", self.open[1], True))
            view.update()

    def _remove(self):
        if self.list.selectedItems():
            del self.pairs[self.list.currentRow()]
            self._fill()

    def keyPressEvent(self, e):
        if e.key() == Qt.Key.Key_Escape and self.open is not None:
            self.open = None
            self._fill()
        elif e.key() == Qt.Key.Key_Delete:
            self._remove()
        else:
            super().keyPressEvent(e)
