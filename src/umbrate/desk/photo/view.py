"""The photo view: one photo, upright for people, with mask, features, sightings and residuals on top."""

import numpy as np
from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt
from PyQt6.QtGui import QImage, QPainter, QPen, QTransform, qRgba
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QMenu, QToolButton, QWidget

from ...core.errors import UmbrateError
from ...core.geometry.lens import unproject_one
from ...core.geometry.sightings import pixels
from ...core.geometry.similarity import scale_of
from ...core.imaging.facts import exposure_text
from ...core.measure.surface import spot_on_ray
from ...core.poses.block import FEATURE
from ...core.targets.detect import CODED, PLAIN
from ...sitting.endpoints import end_of_row
from ...sitting.photos import located, photo_picture
from ...stages.base import Shown
from ...stages.lens.figures import left_out_of
from .. import tokens as t
from ..annotations import paint_measures
from ..bench.calibration import larger
from .depth import DEPTH_LAYERS, DepthLook
from .marking import MarkTools
from .masking import MaskTools

MASK_LOOKS = ("as tint", "object alone", "silhouette")
FAR_PX = 1.0  #: residuals longer than this stand out
SNAP_PX = 12  #: an end of a measurement snaps to what is so near on the screen
CLICK_PX = 24  #: a click so near on the screen means a sighting
TURN = {1: 0, 2: 0, 3: 180, 4: 180, 5: 270, 6: 90, 7: 90, 8: 270}


class PhotoView(QWidget):
    """Wheel zooms to the pointer, dragging moves, double click fits."""

    def __init__(self, session):
        super().__init__()
        self.session = session
        self.setMinimumSize(200, 200)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Photo view")
        self._file = None
        self.shown = None  #: id of the photo whose picture is here
        self.image = self.tint = self.mask = self.picture = None
        self._before = None  #: the last picture and how it was shown: it stays, faint, until the next one is there
        self.problem = ""
        self.features = np.zeros((0, 2))
        self.sightings, self.sightings_larger = np.zeros((0, 4)), 20
        self.targets = self.calibrated = None
        self.sighting, self.hidden = None, False
        self._depth_key = self._depth = None
        self.orientation, self.turn = 1, 0
        self.scale, self.shift = 1.0, QPointF()
        self._look = None  #: a pixel to show at full size as soon as its photo is here
        self._drag = None
        self._picking = False
        self._make_tools()
        self.mask_tools = MaskTools(self)
        self.mask_tools.hide()
        self.marks = MarkTools(self)
        self._pressed = None
        session.measuring.changed.connect(self.update)
        session.marking.changed.connect(self._set_cursor)
        session.measuring.changed.connect(self._set_cursor)
        session.chosen_changed.connect(self.reload)
        session.document_changed.connect(self.reload_overlays)
        session.pointed.connect(self._on_pointed)
        session.picking.connect(self._on_picking)
        session.looked_at.connect(self.look_at)
        self.reload()

    def _make_tools(self):
        self.tools = QWidget(self)
        row = QHBoxLayout(self.tools)
        row.setContentsMargins(8, 8, 8, 0)
        row.setSpacing(4)
        self.toggles = {}
        for name, tip, on, key in (
            ("Mask", "Tint what the mask leaves out", True, "5"),
            ("Features", "Show the key points found", False, "6"),
            ("Targets", "Show coded targets; doubtful ones are dashed", True, "8"),
            ("Sightings", "Show the sightings of tie points, with their residuals as lines, enlarged", False, "7"),
            ("Marks", "Show marked points and measurements", True, "9"),
        ):
            b = QToolButton(text=name, checkable=True, checked=on)
            b.setToolTip(f"{tip}  ({key})")
            b.setShortcut(key)
            b.toggled.connect(self.reload_overlays)
            self.toggles[name] = b
            row.addWidget(b)
        self.mask_look = QComboBox()
        self.mask_look.addItems(MASK_LOOKS)
        self.mask_look.setToolTip("How the mask is shown")
        self.mask_look.activated.connect(self.reload_overlays)
        self.mask_look.hide()  # there is room for it where masks are worked on
        row.insertWidget(1, self.mask_look)
        self.depth_look = QComboBox()
        self.depth_look.addItems(DEPTH_LAYERS)
        self.depth_look.setToolTip("What of the photo's depth map is laid over it")
        self.depth_look.activated.connect(self.reload_overlays)
        self.depth_look.hide()  # there is room for it where depth is worked on
        row.insertWidget(2, self.depth_look)
        self.depth = self._depth_picture = None
        self._depth_told = ""
        row.addStretch(1)
        fit = QToolButton(text="Fit")
        fit.setToolTip("Show the whole photo  (double click)")
        fit.clicked.connect(self.fit)
        row.addWidget(fit)

    # ------------------------------------------------------------------ contents
    def reload(self):
        """Show the chosen photo; its file is read in the background."""
        photo = self.session.photo
        dense = self.session.shows(Shown.DEPTH)
        self.depth_look.setVisible(dense)
        for name in ("Features", "Sightings"):
            self.toggles[name].setVisible(not dense)
        drawing = self.session.shows(Shown.MASKS) and photo is not None
        if drawing != self.mask_tools.isVisibleTo(self):
            self.mask_tools.setVisible(drawing)
            self.mask_tools.choose("move")
            self.mask_look.setVisible(drawing)
            self.fit()
        if photo is None:
            self.shown = self._file = self.image = self.picture = self.tint = self.mask = self._before = None
            self.update()
            return
        file = (photo.id, photo.path, photo.hash)  # a photo that was found elsewhere is read anew
        if file == self._file:
            if photo.turn != self.turn:
                self.turn = photo.turn
                self.fit()
            self.update()
            return
        self.shown, self._file = photo.id, file
        # until the new picture is there nothing can be done to it, nor to the old one in its place
        if self.image is not None:
            self._before = self.image, self._to_view(), (self.orientation, self.turn)
        self.image = self.picture = self.tint = self.mask = None
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

        def show(answer):
            which, picture, problem = answer
            if which != self._file:
                return
            self.problem = problem
            before, self._before = self._before, None
            same = (
                before is not None
                and picture is not None
                and (before[0].width(), before[0].height()) == picture.shape[1::-1]
                and before[2] == (photo.orientation, photo.turn)
            )
            self.orientation, self.turn = photo.orientation, photo.turn
            self.picture = picture
            self.image = (
                None
                if picture is None
                else QImage(
                    picture.data, picture.shape[1], picture.shape[0], 3 * picture.shape[1], QImage.Format.Format_RGB888
                )
            )
            if not same:
                self.fit()
            if self._look:
                self.look_at(*self._look)
            self.reload_overlays()

        def fail(sentence):
            if self._file == file:
                self.problem, self._before = sentence, None
                self.update()

        # one reader, and the latest photo wins: a held key would start one for each photo it passes
        self.session.in_background(read, show, fail, series="photo view")

    def reload_overlays(self, *_):
        """Take mask, features and sightings of the photo anew."""
        s, photo = self.session, self.session.photo
        self.tint, self.features, self.sightings, self.targets = None, np.zeros((0, 2)), np.zeros((0, 4)), None
        self.calibrated = None
        if photo is not None and self.image is not None and photo.id == self.shown:
            poses = s.result("poses")
            try:
                self.mask = s.masks.of()
                if self.mask is not None and self.toggles["Mask"].isChecked():
                    self.tint = self._tinted(self.mask)
                lens = s.result("lens")
                key = lens.blob("targets", photo.id) if lens else None
                if (
                    key and self.toggles["Targets"].isChecked() and not s.shows(Shown.MASKS)
                ):  # there they would hide edges
                    self.targets = s.job.blobs.get_arrays(key)
                self.calibrated = self._calibrated(lens, photo)
                key = poses.blob("features", photo.id) if poses else None
                if key and self.toggles["Features"].isChecked():
                    self.features = s.job.blobs.get_arrays(key)["xy"]
            except UmbrateError as e:
                s.said.emit(str(e), "bad")
            self._take_depth(photo)
            b = s.block
            if b is not None and self.toggles["Sightings"].isChecked():
                rows = b.in_photo(b.row_of(photo.id))
                self.sightings = np.hstack([b.xy[rows], b.residual[rows]])
                self.sightings_larger = larger(b.residual[rows], max(photo.width, photo.height))
        self.update()

    def _take_depth(self, photo):
        """The depth map that is laid over the photo, where one is wanted and there is one."""
        s = self.session
        look = self.depth_look.currentText()
        done = s.result("cloud")
        key = done.blob("depth", photo.id) if done and s.shows(Shown.DEPTH) and look != DEPTH_LAYERS[0] else None
        b, k = self._row()
        if key is None or b is None:
            self.depth = self._depth_picture = None
            return
        if self.depth is None or self.depth[0] != (key, *s.frame_key):
            made_in = scale_of(np.array(done.figures.from_plain))
            unit = scale_of(s.frame.matrix) / made_in
            try:
                arrays = s.job.blobs.get_arrays(key)
            except UmbrateError as e:
                s.said.emit(str(e), "bad")
                self.depth = self._depth_picture = None
                return
            lens = b.lens_vector(k)
            self.depth = (key, *s.frame_key), DepthLook(arrays, lens, (photo.width, photo.height), unit)
        self._depth_picture = self.depth[1].picture(look)

    def _calibrated(self, lens, photo):
        """While the Lens stage is chosen: what a calibration says of the photo's sightings, or None."""
        if not lens or not self.session.shows(Shown.CALIBRATION) or not lens.blob("calibration"):
            return None
        a = self.session.job.blobs.get_arrays(lens.blob("calibration"))
        rows = a["photo_ids"][a["photo"]] == photo.id
        factor = larger(a["residual"][a["used"]], photo.width) if lens.figures.calibration else 0
        chosen = left_out_of(self.session.job.settings(self.session.sitting_id, "lens").get("leave_out", {}), photo)
        out = np.isin(a["point"][rows], sorted(chosen))
        return {**{k: a[k][rows] for k in ("point", "xy", "residual", "used")}, "out": out, "larger": factor}

    def _tinted(self, mask):
        """The mask as an overlay: one byte a pixel and a table of two colors, so that large photos stay quick."""
        look = self.mask_look.currentIndex() if self.session.shows(Shown.MASKS) else 0
        outside = qRgba(0x1E, 0x21, 0x24, 175) if look == 0 else qRgba(0x2B, 0x2B, 0x2B, 255)
        inside = qRgba(0xE8, 0xE8, 0xE8, 255) if look == 2 else qRgba(0, 0, 0, 0)
        h, w = mask.shape
        self._tint_data = np.zeros((h, (w + 3) // 4 * 4), np.uint8)
        self._tint_data[:, :w] = mask
        image = QImage(self._tint_data.data, w, h, self._tint_data.shape[1], QImage.Format.Format_Indexed8)
        image.setColorTable([outside, inside])
        return image

    def mask_or_empty(self):
        """A copy of the shown photo's mask (h, w) bool; an empty one where it has none yet."""
        if self.mask is not None:
            return self.mask.copy()
        return np.zeros((self.image.height(), self.image.width()), bool)

    def _on_pointed(self, sightings):
        self.sighting = sightings.get(self.shown) if sightings else None
        self.hidden = self.sighting is not None and self._is_hidden(*self.sighting)
        self.update()

    def _is_hidden(self, x, y, depth):
        """Whether the surface this photo sees at a pixel is clearly nearer than a point's depth."""
        done, block = self.session.result("cloud"), self.session.block
        key = done.blob("depth", self.shown) if done else None
        if key is None or block is None:
            return False
        if self._depth_key != key:
            self._depth_key, self._depth = key, self.session.job.blobs.get_arrays(key)
        k = block.row_of(self.shown)
        f, cx, cy = self._depth["lens"]
        ray = unproject_one(x, y, block.lens_vector(k))
        u, v = round(ray[0] * f + cx), round(ray[1] * f + cy)
        h, w = self._depth["depth"].shape
        seen = self._depth["depth"][v, u] if 0 <= u < w and 0 <= v < h else 0
        # depth is kept in the frame it was computed in
        made_in = scale_of(np.array(done.figures.from_plain))
        depth = depth * made_in / scale_of(self.session.frame.matrix)
        return bool(seen > 0 and depth > 1.01 * seen)

    # ------------------------------------------------------------------ coordinates
    def _upright(self):
        """Sensor pixels to upright pixels."""
        w, h = self.image.width(), self.image.height()
        m = QTransform()
        turn = (TURN.get(self.orientation, 0) + 90 * self.turn) % 360
        # pixel edges: (0, 0) here is the outer corner of the first pixel
        if turn == 90:
            m.translate(h, 0)
        elif turn == 180:
            m.translate(w, h)
        elif turn == 270:
            m.translate(0, w)
        m.rotate(turn)
        if self.orientation in (2, 4, 5, 7):
            m.translate(w, 0)
            m.scale(-1, 1)
        return m

    def _to_view(self):
        return (
            self._upright()
            * QTransform.fromScale(self.scale, self.scale)
            * QTransform.fromTranslate(self.shift.x(), self.shift.y())
        )

    def fit(self):
        """Show the whole photo."""
        if self.image is None:
            return
        r = self._upright().mapRect(QRectF(0, 0, self.image.width(), self.image.height()))
        top = 76 if self.mask_tools.isVisibleTo(self) else 40
        self.scale = min((self.width() - 16) / r.width(), (self.height() - top - 32) / r.height())
        self.shift = QPointF(
            (self.width() - r.width() * self.scale) / 2, top + (self.height() - top - 24 - r.height() * self.scale) / 2
        )
        self.update()

    def look_at(self, x, y):
        """Show the surroundings of a pixel of the chosen photo, pixel for pixel."""
        photo = self.session.photo
        self._look = (x, y)
        if (
            self.image is None
            or photo is None
            or (self.image.width(), self.image.height())
            != (
                photo.width,
                photo.height,
            )
        ):
            return
        self.scale, self.shift = 1.0 / self.devicePixelRatioF(), QPointF()
        self.shift = QPointF(self.width() / 2, self.height() / 2) - self._to_view().map(QPointF(x + 0.5, y + 0.5))
        self._look = None
        self.update()

    def pixel_at(self, pos):
        """Sensor pixel (x, y) under a widget position, pixel centers at whole numbers; None without a photo."""
        if self.image is None:
            return None
        inverse, ok = self._to_view().inverted()
        q = inverse.map(QPointF(pos))
        return (q.x() - 0.5, q.y() - 0.5) if ok else None

    # ------------------------------------------------------------------ drawing
    def resizeEvent(self, _):
        self.tools.setGeometry(0, 0, self.width(), 40)
        self.mask_tools.setGeometry(0, 42, self.width(), 32)
        self.fit()

    def paintEvent(self, _):
        p = QPainter(self)
        p.fillRect(self.rect(), t.color(t.NEUTRAL))
        photo = self.session.photo
        if self.image is None:
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
            p.drawText(
                self.rect().adjusted(24, 0, -24, 0),
                Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                told,
            )
            return
        view = self._to_view()
        p.setTransform(view)
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, self.scale < 2)
        p.drawImage(QRectF(0, 0, self.image.width(), self.image.height()), self.image)
        if self._depth_picture is not None:
            p.drawImage(QRectF(0, 0, self.image.width(), self.image.height()), self._depth_picture)
        if self.tint is not None:
            p.drawImage(QRectF(0, 0, self.image.width(), self.image.height()), self.tint)
        p.resetTransform()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if len(self.features):
            p.setPen(QPen(t.color(t.CATEGORIES[1], 200), 2.5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            p.drawPoints([view.map(QPointF(x + 0.5, y + 0.5)) for x, y in self.features[:8000].tolist()])
        if self.targets is not None:
            self._paint_targets(p, view)
        if self.calibrated:
            self._paint_calibrated(p, view)
        if len(self.sightings):
            self._paint_sightings(p, view)
        if self.toggles["Marks"].isChecked():
            if not self.marks.on:  # they would cover what is to be marked
                paint_measures(p, self.session.measuring.shown(), lambda X: self._on_screen(X, view))
            self.marks.paint(p, view)
        if self.sighting is not None:
            a = view.map(QPointF(self.sighting[0] + 0.5, self.sighting[1] + 0.5))
            p.setPen(QPen(t.color(t.GROUND), 4))
            p.drawEllipse(a, 8, 8)
            # dashed where something nearer hides the point in this photo
            p.setPen(QPen(t.color(t.ACCENT), 2, Qt.PenStyle.DotLine if self.hidden else Qt.PenStyle.SolidLine))
            p.drawEllipse(a, 8, 8)
        if self.mask_tools.isVisible():
            self.mask_tools.paint(p, view)
        p.setFont(t.font(t.SMALL))
        facts = []
        if photo:
            focal = f"{photo.focal_mm:g} mm" if photo.focal_mm else ""
            exposure = exposure_text(photo.exposure_s, photo.f_number, photo.iso)
            tried = "a mask on trial" if self.session.masks.previewed(photo.id) else ""
            facts = [photo.name, tried, f"{photo.width} x {photo.height}", focal, exposure]
            if self._depth_picture is not None:
                facts = [photo.name, self._depth_told or "no depth under the pointer"]
        poses = self.session.result("poses")
        if self.calibrated and self.calibrated["larger"]:
            c = self.calibrated
            rms = np.sqrt((c["residual"][c["used"]] ** 2).mean()) if c["used"].any() else np.nan
            facts = [photo.name, f"{c['used'].sum()} sightings, {rms:.3f} px, drawn {c['larger']} times as long"]
        elif photo and poses and self._depth_picture is None:
            row = poses.figures.per_photo.get(photo.id)
            if row and row.sightings:
                told = f"{row.sightings} sightings, residual {row.rms_px:.2f} px"
                if len(self.sightings):  # then that is what is looked at
                    facts = [photo.name]
                    told = f"{row.sightings} sightings, {row.rms_px:.2f} px, lines {self.sightings_larger} times"
                    told += f", amber over {FAR_PX:g} px"
                facts.append(told)
            elif row:
                facts.append("not placed")
        text = "   ".join(f for f in facts if f)
        place = QRectF(8, self.height() - 26, min(self.width() - 16, p.fontMetrics().horizontalAdvance(text) + 12), 20)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(t.color(t.NEUTRAL, 200))
        p.drawRoundedRect(place, 3, 3)
        p.setPen(t.color(t.QUIET))
        inner = place.adjusted(6, 0, -6, 0)
        text = p.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(inner.width()) + 1)
        p.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, text)

    def _row(self):
        """The block and the row of the shown photo in it, where it is solved; else None, None."""
        b = self.session.block
        k = b.solved_row(self.shown) if b is not None else None
        return (None, None) if k is None else (b, k)

    def _on_screen(self, X, view):
        """Where places (n, 3) are in the widget (n, 2), NaN where the photo does not see them."""
        b, k = self._row()
        out = np.full((len(X), 2), np.nan)
        if b is None:
            return out
        for i, x in enumerate(X):
            uv = pixels(b.poses, b.lenses, b.lens_of, [k], x)[0]
            if np.isfinite(uv).all() and (np.abs(uv) < 1e5).all():
                q = view.map(QPointF(uv[0] + 0.5, uv[1] + 0.5))
                out[i] = q.x(), q.y()
        return out

    def _pick_end(self, pos):
        """Hand the end of a measurement under a position to the session: a target, a mark, or a spot of the cloud."""
        if self.image is None:
            return  # what would be picked is not there yet
        s, view, at = self.session, self._to_view(), self.pixel_at(pos)
        b, k = self._row()
        if b is None or at is None:
            s.said.emit("Ends can be clicked in solved photos only.", "note")
            return
        best = (SNAP_PX, None)
        for r in np.flatnonzero((b.photo == k) & (b.kind != FEATURE)[b.point]):
            q = view.map(QPointF(b.xy[r, 0] + 0.5, b.xy[r, 1] + 0.5))
            d = float(np.hypot(q.x() - pos.x(), q.y() - pos.y()))
            if d < best[0]:
                best = d, end_of_row(b, b.point[r])
        if best[1] is not None:
            s.measuring.pick(best[1])
            return
        if s.cloud is None:
            s.said.emit(
                "There is no target or marked point, and no cloud to snap to. Mark a point there first.", "note"
            )
            return
        lens = b.lens_vector(k)
        x, y = unproject_one(at[0], at[1], lens)
        d = b.poses[k, :3, :3].T @ np.array([x, y, 1.0])
        spot = spot_on_ray(s.cloud["points"], b.eyes[k], d / np.linalg.norm(d), 3.0 / lens[0])
        if spot is None:
            s.said.emit("There is nothing of the cloud under the pointer.", "note")
        else:
            s.measuring.pick(spot)

    def _set_cursor(self):
        busy = self.session.marking.on or self.session.measuring.picking
        self.setCursor(Qt.CursorShape.CrossCursor if busy else Qt.CursorShape.ArrowCursor)

    def _paint_sightings(self, p, view):
        """Sightings as dots with their residuals as lines; those of more than a pixel stand out."""
        k = self.sightings_larger
        for x, y, rx, ry in self.sightings[:8000].tolist():
            far = rx * rx + ry * ry > FAR_PX**2
            p.setPen(QPen(t.color(t.ACCENT if far else t.CATEGORIES[1], 255 if far else 190), 1.6 if far else 1.0))
            a = view.map(QPointF(x + 0.5, y + 0.5))
            p.drawPoint(a)
            p.drawLine(a, view.map(QPointF(x + 0.5 - k * rx, y + 0.5 - k * ry)))

    def _paint_targets(self, p, view):
        """Outlines of dots, with the numbers of coded targets beside them where there is room."""
        a = np.linspace(0, 2 * np.pi, 33)
        circle = np.stack([np.cos(a), np.sin(a)])
        p.setFont(t.font(t.SMALL))
        p.setBrush(Qt.BrushStyle.NoBrush)
        residuals = self.calibrated and self.calibrated["larger"]  # then outlines are only the ground
        for dot, kind, number in zip(self.targets["dots"], self.targets["kind"], self.targets["number"], strict=True):
            if kind == PLAIN:
                continue
            A = np.linalg.inv([[dot[2], dot[3]], [dot[3], dot[4]]])
            ring = (1.25 * A @ circle).T + dot[:2] + 0.5
            color = t.CATEGORIES[1] if kind == CODED else t.STATE_COLORS["failed"]
            style = Qt.PenStyle.SolidLine if kind == CODED else Qt.PenStyle.DashLine
            p.setPen(QPen(t.color(color, 110 if residuals else 255), 1.6, style))
            p.drawPolyline([view.map(QPointF(x, y)) for x, y in ring.tolist()])
            middle = view.map(QPointF(dot[0] + 0.5, dot[1] + 0.5))
            across = np.hypot(*(np.array([(q := view.map(QPointF(*ring[0]))).x(), q.y()]) - [middle.x(), middle.y()]))
            if across > 12:  # else the numbers would cover their neighbors
                p.drawText(middle + QPointF(across + 2, -across - 1), f"{number}" if kind == CODED else f"{number}?")

    def _paint_calibrated(self, p, view):
        """Residuals of a calibration, enlarged, and crosses on sightings that are left out by hand."""
        c = self.calibrated
        for (x, y), (u, v), used, out in zip(
            c["xy"].tolist(), c["residual"].tolist(), c["used"].tolist(), c["out"].tolist(), strict=True
        ):
            a = view.map(QPointF(x + 0.5, y + 0.5))
            if out:
                p.setPen(QPen(t.color(t.ACCENT), 2))
                p.drawLine(a + QPointF(-6, -6), a + QPointF(6, 6))
                p.drawLine(a + QPointF(-6, 6), a + QPointF(6, -6))
            elif c["larger"] and np.isfinite(u):
                b = view.map(QPointF(x + 0.5 + c["larger"] * u, y + 0.5 + c["larger"] * v))
                for color, width in ((t.GROUND, 3.5), (t.CATEGORIES[3] if used else t.ACCENT, 1.6)):
                    p.setPen(QPen(t.color(color), width))
                    p.drawLine(a, b)

    # ------------------------------------------------------------------ the pointer
    def contextMenuEvent(self, e):
        """On a sighting of a calibration: leave it out, or bring it back."""
        at = self.pixel_at(QPointF(e.pos()))
        if not self.calibrated or at is None or not len(self.calibrated["xy"]):
            return
        c = self.calibrated
        k = int(np.linalg.norm(c["xy"] - at, axis=1).argmin())
        if np.linalg.norm(c["xy"][k] - at) * self.scale > CLICK_PX:
            return
        number, out = int(c["point"][k]), bool(c["out"][k])
        menu = QMenu(self)
        menu.addAction(
            f"Bring {number} back" if out else f"Leave {number} out of the calibration",
            lambda: self.session.leave_sighting_out(self.shown, number, not out),
        )
        menu.exec(e.globalPos())

    def _on_picking(self, on):
        self._picking = on
        if on:
            self.setFocus()
        self.setCursor(Qt.CursorShape.CrossCursor if on else Qt.CursorShape.ArrowCursor)

    def color_at(self, pos):
        """The color round a widget position, written #RRGGBB: the middle one of 7 by 7 pixels; None outside."""
        at = self.pixel_at(pos)
        if at is None or not (0 <= round(at[0]) < self.image.width() and 0 <= round(at[1]) < self.image.height()):
            return None
        x, y = round(at[0]), round(at[1])
        around = self.picture[max(0, y - 3) : y + 4, max(0, x - 3) : x + 4].reshape(-1, 3)
        r, g, b = np.median(around, axis=0).astype(int)
        return f"#{r:02X}{g:02X}{b:02X}"

    def event(self, e):
        """While marking or measuring, Esc is meant for that before anything else."""
        busy = self.marks.on or self.session.measuring.picking if hasattr(self, "marks") else False
        if busy and e.type() == QEvent.Type.ShortcutOverride and e.key() == Qt.Key.Key_Escape:
            e.accept()
            return True
        return super().event(e)

    def keyPressEvent(self, e):
        if self._picking and e.key() == Qt.Key.Key_Escape:
            self.session.picked()
        elif self.marks.on and self.marks.key(e.key()):
            return
        elif self.session.measuring.picking and e.key() == Qt.Key.Key_Escape:
            self.session.measuring.cancel()
        elif self.session.measuring.kind and e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.session.measuring.finish()
        elif not (self.mask_tools.active and self.mask_tools.key(e.key())):
            super().keyPressEvent(e)

    def mousePressEvent(self, e):
        self.setFocus()
        if self.image is None:
            return
        if self._picking:
            self.session.picked(self.color_at(e.position()))
            return
        if self.mask_tools.active and e.button() == Qt.MouseButton.LeftButton:
            self.mask_tools.press(self.pixel_at(e.position()), e.modifiers())
            return
        # with Shift the left button moves the photo whatever else it does
        moves = bool(e.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if self.marks.on and e.button() == Qt.MouseButton.LeftButton and not moves:
            self.marks.press(e.position(), e.modifiers())
            return
        self._drag = self._pressed = e.position()

    def mouseMoveEvent(self, e):
        if self.mask_tools.active and self._drag is None:
            self.mask_tools.move(self.pixel_at(e.position()), bool(e.buttons() & Qt.MouseButton.LeftButton))
            return
        if self.marks.on and self._drag is None:
            self.marks.move(e.position(), bool(e.buttons() & Qt.MouseButton.LeftButton))
        if self._drag is not None:
            self.shift += e.position() - self._drag
            self._drag = e.position()
            self.update()
            return
        at = self.pixel_at(e.position())
        if at is not None and self._depth_picture is not None:
            told = self.depth[1].told(*at, self.session.frame.unit)
            if told != self._depth_told:
                self._depth_told = told
                self.update()
        if at is None or self.session.block is None:
            return
        b, k = self._row()
        inside = 0 <= at[0] < self.image.width() and 0 <= at[1] < self.image.height()
        if b is None or not inside:
            self.session.ray.emit(None)
            return
        x, y = unproject_one(at[0], at[1], b.lens_vector(k))
        d = b.poses[k, :3, :3].T @ np.array([x, y, 1.0])
        self.session.ray.emit((b.eyes[k], d / np.linalg.norm(d)))

    def leaveEvent(self, _):
        self.session.ray.emit(None)
        self.marks.leave()

    def mouseReleaseEvent(self, e):
        if self.mask_tools.active and self._drag is None:
            self.mask_tools.release(e.modifiers())
        elif self.marks.on and self._drag is None:
            self.marks.release(e.modifiers())
        elif (
            self._pressed is not None
            and (e.position() - self._pressed).manhattanLength() < 4
            and self.session.measuring.picking
            and e.button() == Qt.MouseButton.LeftButton
        ):
            self._pick_end(e.position())
        self._drag = self._pressed = None

    def mouseDoubleClickEvent(self, e):
        if self.mask_tools.active:
            self.mask_tools.double_click(e.modifiers())
        elif self.marks.on or self.session.measuring.picking:
            self.mousePressEvent(e)  # two quick clicks are two clicks
        else:
            self.fit()

    def wheelEvent(self, e):
        if self.image is None:
            return
        factor = 1.0015 ** e.angleDelta().y()
        new = min(max(self.scale * factor, 0.02), 40.0)
        pos = e.position()
        self.shift = pos - (pos - self.shift) * (new / self.scale)
        self.scale = new
        self.update()
