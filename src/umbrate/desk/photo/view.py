"""The photo view: one photo, upright for people, with mask, features, sightings and residuals on top.

`placement` is where it lies, `overlays` what is known of it, `paint` how that is drawn, `pointer` what the hand does.
"""

import numpy as np
from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt
from PyQt6.QtGui import QImage, QPainter
from PyQt6.QtWidgets import QComboBox, QMenu, QToolButton, QWidget

from ...core.errors import UmbrateError
from ...core.geometry.sightings import pixels
from ...sitting.photos import located, photo_picture
from ...stages.base import Shown
from .. import over as t
from ..annotations import paint_measures
from ..flow import Flow, FlowBar
from . import paint
from .depth import DEPTH_LAYERS
from .marking import MarkTools
from .masking import MaskTools
from .overlays import Overlays, Wanted
from .placement import Placement
from .pointer import Pointer

SIGHTING_PX = 24  #: a click so near on the screen means a sighting


class PhotoView(QWidget):
    """Wheel zooms to the pointer, dragging moves, double click fits."""

    def __init__(self, session):
        super().__init__()
        self.session = session
        self.setMinimumSize(200, 200)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Photo view")
        self._file = self._about = None
        self.shown = None  #: id of the photo whose picture is here
        self.image = self.picture = self.tint = None
        self._before = None  #: the last picture and how it was shown: it stays, faint, until the next one is there
        self.problem = ""
        self.placement, self.overlays = Placement(), Overlays(session)
        self.sighting, self.hidden = None, False  #: what the scene points at, and whether it is hidden here
        self._tint_memory = self._depth_memory = self._depth_image = None
        self._depth_text = ""
        self._look = None  #: a pixel to show at full size as soon as its photo is here
        self._make_tools()
        self.mask_tools = MaskTools(self)
        self.mask_tools.hide()
        self.marks = MarkTools(self)
        self.pointer = Pointer(self)
        session.measuring.changed.connect(self.update)
        session.marking.changed.connect(self._set_cursor)
        session.measuring.changed.connect(self._set_cursor)
        session.chosen_changed.connect(self.reload)
        session.document_changed.connect(self.reload_overlays)
        session.pointed.connect(self._on_pointed)
        session.texturing.changed.connect(self.update)
        session.looked_at.connect(self.look_at)
        self.reload()

    def _make_tools(self):
        self.tools = FlowBar(self)
        row = Flow(self.tools)
        row.setContentsMargins(8, 8, 8, 0)
        self.toggles = {}
        for name, tip, on, key in (
            ("Mask", "Tint what the mask leaves out", True, "Alt+Shift+M"),
            ("Features", "Show the key points found", False, "Alt+Shift+F"),
            ("Targets", "Show coded targets; doubtful ones are dashed", True, "Alt+Shift+T"),
            (
                "Sightings",
                "Show sightings of tie points, their residuals as enlarged lines",
                False,
                "Alt+Shift+S",
            ),
            ("Marks", "Show marked points and measurements", True, "Alt+Shift+P"),
        ):
            b = QToolButton(text=name, checkable=True, checked=on)
            b.setToolTip(f"{tip}  ({key})")
            b.setShortcut(key)
            b.toggled.connect(self.reload_overlays)
            self.toggles[name] = b
            row.addWidget(b)
        # there is room for these where masks and depth are worked on
        self.tools.relaid.connect(self._place_tools)
        self.mask_look = self._layers(paint.MASK_LOOKS, "How the mask is shown")
        self.depth_look = self._layers(DEPTH_LAYERS, "What of the photo's depth map is laid over it")
        row.addWidget(self.mask_look)
        row.addWidget(self.depth_look)
        row.gap(8)
        fit = QToolButton(text="Fit")
        fit.setToolTip("Show the whole photo  (double click)")
        fit.clicked.connect(self.fit)
        row.addWidget(fit)

    def _layers(self, names, tip):
        out = QComboBox()
        out.addItems(names)
        out.setToolTip(tip)
        out.activated.connect(self.reload_overlays)
        out.hide()
        return out

    # ------------------------------------------------------------------ contents
    def reload(self):
        """Show the chosen photo; its file is read in the background."""
        photo = self.session.photo
        self._offer_tools(photo)
        if photo is None:
            self.shown = self._file = self.image = self.picture = self.tint = self._before = None
            self.overlays.clear()
            self.update()
            return
        file = (photo.id, photo.path, photo.hash)  # a photo that was found elsewhere is read anew
        if file != self._file:
            self._read(photo, file)
        elif photo.turn != self.placement.turn:
            self.placement.turn = photo.turn
            self.fit()
        about = (self.session.stage, self.session.fragment)
        if about != self._about:  # another stage lays other things over the photo
            self._about = about
            self.reload_overlays()
        self.update()

    def _offer_tools(self, photo):
        """Show the tools of what the chosen stage is about."""
        dense = self.session.shows(Shown.DEPTH)
        drawing = self.session.shows(Shown.MASKS) and photo is not None
        self.depth_look.setVisible(dense)
        # what would hide the edges of a mask, or the depth, is not offered there, and not drawn
        for name in ("Features", "Sightings"):
            self.toggles[name].setVisible(not (dense or drawing))
        self.toggles["Targets"].setVisible(not drawing)
        if drawing != self.mask_tools.isVisibleTo(self):
            self.mask_tools.setVisible(drawing)
            self.mask_tools.choose("move")
            self.mask_look.setVisible(drawing)
            self.fit()

    def _read(self, photo, file):
        self.shown, self._file = photo.id, file
        # until the new picture is there nothing can be done to it, nor to the old one in its place
        if self.image is not None:
            self._before = self.image, self.placement.to_view(), (self.placement.orientation, self.placement.turn)
        self.image = self.picture = self.tint = None
        self.problem = ""
        self.mask_tools.drop()
        self.marks.drop()
        self.reload_overlays()
        wanted = located(self.session.job, photo)

        def read():
            try:
                return file, photo_picture(wanted), ""
            except UmbrateError as e:
                return file, None, str(e)

        def fail(sentence):
            if self._file == file:
                self.problem, self._before = sentence, None
                self.update()

        # one reader, and the latest photo wins: a held key would start one for each photo it passes
        self.session.in_background(read, lambda answer: self._show(photo, *answer), fail, series="photo view")

    def _show(self, photo, file, picture, problem):
        """A photo was read."""
        if file != self._file:
            return
        self.problem = problem
        before, self._before = self._before, None
        same = (
            before is not None
            and picture is not None
            and (before[0].width(), before[0].height()) == picture.shape[1::-1]
            and before[2] == (photo.orientation, photo.turn)
        )
        self.placement.orientation, self.placement.turn = photo.orientation, photo.turn
        self.picture = picture
        if picture is not None:
            h, w = picture.shape[:2]
            self.image = QImage(picture.data, w, h, 3 * w, QImage.Format.Format_RGB888)
            self.placement.size = w, h
        if not same:
            self.fit()
        if self._look:
            self.look_at(*self._look)
        self.reload_overlays()

    def reload_overlays(self, *_):
        """Take mask, features and sightings of the photo anew."""
        photo, over = self.session.photo, self.overlays
        self.tint = self._depth_image = None
        if photo is not None and self.image is not None and photo.id == self.shown:
            on = {name: b.isChecked() and not b.isHidden() for name, b in self.toggles.items()}
            depth = self.depth_look.currentText()
            over.take(photo, Wanted(on["Mask"], on["Targets"], on["Features"], on["Sightings"], depth))
        else:
            over.clear()
        if over.show_mask:
            look = self.mask_look.currentIndex() if self.session.shows(Shown.MASKS) else 0
            self.tint, self._tint_memory = paint.tinted(over.kinds, look)
        if over.depth is not None:
            memory = self._depth_memory = over.depth.picture(over.depth_layer)
            h, w = memory.shape[:2]
            self._depth_image = QImage(memory.data, w, h, 4 * w, QImage.Format.Format_RGBA8888)
        self.update()

    def mask_or_empty(self):
        """What is drawn of the shown photo's mask, a new array (h, w) bool: the object, or what turns with it; empty
        where it has none yet."""
        if self.overlays.kinds is not None:
            return self.overlays.kinds == self.mask_tools.kind
        return np.zeros((self.image.height(), self.image.width()), bool)

    def _on_pointed(self, sightings):
        self.sighting = sightings.get(self.shown) if sightings else None
        self.hidden = self.sighting is not None and self.overlays.is_hidden(self.shown, *self.sighting)
        self.update()

    # ------------------------------------------------------------------ where it lies
    def fit(self):
        """Show the whole photo."""
        if self.image is not None:
            self.placement.fit(self.width(), self.height(), self._place_tools())
            self.update()

    def look_at(self, x, y):
        """Show the surroundings of a pixel of the chosen photo, pixel for pixel."""
        photo = self.session.photo
        self._look = (x, y)
        if self.image is None or photo is None or self.placement.size != (photo.width, photo.height):
            return
        self.placement.look_at(x, y, QPointF(self.width() / 2, self.height() / 2), 1.0 / self.devicePixelRatioF())
        self._look = None
        self.update()

    def pixel_at(self, pos):
        """Sensor pixel (x, y) under a widget position, pixel centers at whole numbers; None without a photo."""
        return None if self.image is None else self.placement.pixel_at(pos)

    def is_inside(self, at):
        """Whether a pixel lies in the photo."""
        return 0 <= round(at[0]) < self.image.width() and 0 <= round(at[1]) < self.image.height()

    def on_screen(self, X, view):
        """Where places (n, 3) are in the widget (n, 2), NaN where the photo does not see them."""
        b, k = self.overlays.row
        out = np.full((len(X), 2), np.nan)
        if b is None:
            return out
        for i, x in enumerate(X):
            uv = pixels(b.poses, b.lenses, b.lens_of, [k], x)[0]
            if np.isfinite(uv).all() and (np.abs(uv) < 1e5).all():
                q = view.map(QPointF(uv[0] + 0.5, uv[1] + 0.5))
                out[i] = q.x(), q.y()
        return out

    # ------------------------------------------------------------------ drawing
    def resizeEvent(self, _):
        self._place_tools()
        self.fit()

    def _place_tools(self):
        """Lay out the rows of tools; returns where they end."""
        end = self.tools.place(0, self.width()) + 4
        below = self.mask_tools.place(end, self.width()) + 4
        return below if self.mask_tools.isVisibleTo(self) else end

    def paintEvent(self, _):
        p = QPainter(self)
        p.fillRect(self.rect(), t.color(t.NEUTRAL))
        photo = self.session.photo
        if self.image is None:
            self._paint_waiting(p, photo)
            return
        view, over = self.placement.to_view(), self.overlays
        p.setTransform(view)
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, self.placement.scale < 2)
        for image in (self.image, self._depth_image, self.tint):
            if image is not None:
                p.drawImage(QRectF(0, 0, self.image.width(), self.image.height()), image)
        p.resetTransform()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if len(over.features):
            paint.paint_features(p, view, over.features)
        if over.targets is not None:
            faint = bool(over.calibrated and over.calibrated["larger"])  # then outlines are only the ground
            paint.paint_targets(p, view, over.targets, faint)
        if over.calibrated:
            paint.paint_calibrated(p, view, over.calibrated)
        if len(over.sightings):
            paint.paint_sightings(p, view, over.sightings, over.larger)
        if self.toggles["Marks"].isChecked():
            if not self.marks.on:  # they would cover what is to be marked
                paint_measures(p, self.session.measuring.shown(), lambda X: self.on_screen(X, view))
            self.marks.paint(p, view)
        asked = self.session.texturing.asked
        if asked is not None and asked.photo == self.shown:
            paint.paint_spot(p, view, *asked.pixel, False)
        if self.sighting is not None:
            paint.paint_spot(p, view, *self.sighting[:2], self.hidden)
        if self.mask_tools.isVisible():
            self.mask_tools.paint(p, view)
        if photo:
            text = paint.caption(self.session, photo, over, self._depth_text)
            paint.paint_caption(p, text, self.width(), self.height())

    def _paint_waiting(self, p, photo):
        """What stands there while no picture does."""
        told = self.problem or ("Choose a photo in the strip below." if photo is None else "Reading …")
        if self._before is not None and not self.problem:
            image, view, _ = self._before
            p.setOpacity(0.35)
            p.setTransform(view)
            p.drawImage(QRectF(0, 0, image.width(), image.height()), image)
            p.resetTransform()
            p.setOpacity(1.0)
        p.setPen(t.color(t.QUIET))
        p.setFont(t.font())
        middle = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
        p.drawText(self.rect().adjusted(24, 0, -24, 0), middle, told)

    def _set_cursor(self):
        busy = self.session.marking.on or self.session.measuring.picking
        self.setCursor(Qt.CursorShape.CrossCursor if busy else Qt.CursorShape.ArrowCursor)

    def point_at_depth(self, at):
        """Tell below the photo what its depth map, where one is shown, knows of a pixel."""
        if self.overlays.depth is not None:
            told = self.overlays.depth.told(*at, self.session.frame.unit)
            if told != self._depth_text:
                self._depth_text = told
                self.update()

    # ------------------------------------------------------------------ the pointer
    def contextMenuEvent(self, e):
        """On a sighting of a calibration: leave it out, or bring it back."""
        at, c = self.pixel_at(QPointF(e.pos())), self.overlays.calibrated
        if not c or at is None or not len(c["xy"]):
            return
        k = int(np.linalg.norm(c["xy"] - at, axis=1).argmin())
        if np.linalg.norm(c["xy"][k] - at) * self.placement.scale > SIGHTING_PX:
            return
        number, out = int(c["point"][k]), bool(c["out"][k])
        menu = QMenu(self)
        menu.addAction(
            f"Bring {number} back" if out else f"Leave {number} out of the calibration",
            lambda: self.session.edits.leave_sighting_out(self.shown, number, not out),
        )
        menu.exec(e.globalPos())

    def event(self, e):
        """While marking or measuring, Esc is meant for that before anything else."""
        busy = self.marks.on or self.session.measuring.picking if hasattr(self, "marks") else False
        if busy and e.type() == QEvent.Type.ShortcutOverride and e.key() == Qt.Key.Key_Escape:
            e.accept()
            return True
        return super().event(e)

    def keyPressEvent(self, e):
        if not self.pointer.key(e):
            super().keyPressEvent(e)

    def mousePressEvent(self, e):
        self.setFocus()
        if self.image is not None:
            self.pointer.press(e)

    def mouseMoveEvent(self, e):
        self.pointer.move(e)

    def mouseReleaseEvent(self, e):
        self.pointer.release(e)

    def mouseDoubleClickEvent(self, e):
        if self.image is not None:
            self.pointer.double_click(e)

    def leaveEvent(self, _):
        self.session.ray.emit(None)
        self.marks.leave()

    def wheelEvent(self, e):
        if self.image is not None:
            self.placement.zoom(1.0015 ** e.angleDelta().y(), e.position())
            self.update()
