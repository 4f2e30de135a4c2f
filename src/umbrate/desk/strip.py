"""The contact strip: small pictures of a sitting's photos, sorted and filtered by what matters now."""

from PyQt6.QtCore import QMimeData, QPoint, QRect, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetrics, QPainter, QPen, QPixmap
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QStyle,
    QStyledItemDelegate,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from . import tokens as t
from .text import counted

THUMB = QSize(96, 72)
PHOTOS_MIME = "application/x-umbrate-photos"  #: ids of photos that are dragged, with commas between
PHOTO_ID, STATE, LINE = Qt.ItemDataRole.UserRole, Qt.ItemDataRole.UserRole + 1, Qt.ItemDataRole.UserRole + 2


class _Painter(QStyledItemDelegate):
    def sizeHint(self, *_):
        return QSize(THUMB.width() + 10, THUMB.height() + 40)

    def paint(self, p, option, index):
        p.save()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        r = option.rect.adjusted(3, 2, -3, -2)
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        p.setPen(QPen(t.color(t.ACCENT if chosen else t.PANEL), 2))
        p.setBrush(t.color(t.RAISED if chosen else t.PANEL))
        p.drawRoundedRect(QRectF(r), 4, 4)
        picture = index.data(Qt.ItemDataRole.DecorationRole)
        box = QRect(r.left() + 3, r.top() + 3, r.width() - 6, THUMB.height() - 4)
        aside = index.data(STATE) in ("aside", "plate")
        if picture is not None:
            small = picture.scaled(
                box.size() * p.device().devicePixelRatioF(),
                Qt.AspectRatioMode.KeepAspectRatio,
                Qt.TransformationMode.SmoothTransformation,
            )
            small.setDevicePixelRatio(p.device().devicePixelRatioF())
            size = small.deviceIndependentSize()
            p.setOpacity(0.35 if aside else 1.0)
            p.drawPixmap(int(box.center().x() - size.width() / 2), int(box.center().y() - size.height() / 2), small)
            p.setOpacity(1.0)
        state = index.data(STATE)
        if state in ("done", "failed", "look"):
            t.draw_state(p, state, QRectF(r.left() + 5, r.bottom() - 30, 11, 11))
        p.setFont(t.font(t.SMALL))
        p.setPen(t.color(t.QUIET if aside else t.TEXT))
        metrics = QFontMetrics(p.font())
        x = r.left() + (20 if state in ("done", "failed", "look") else 6)
        p.drawText(
            QRect(x, r.bottom() - 34, r.right() - x - 2, 16),
            Qt.AlignmentFlag.AlignVCenter,
            metrics.elidedText(
                index.data(Qt.ItemDataRole.DisplayRole), Qt.TextElideMode.ElideMiddle, r.right() - x - 4
            ),
        )
        p.setPen(t.color(t.QUIET))
        p.drawText(
            QRect(r.left() + 6, r.bottom() - 18, r.width() - 10, 16),
            Qt.AlignmentFlag.AlignVCenter,
            metrics.elidedText(
                {"aside": "set aside", "plate": "backdrop plate"}.get(index.data(STATE)) or index.data(LINE) or "",
                Qt.TextElideMode.ElideRight,
                r.width() - 12,
            ),
        )
        p.restore()


def _state_and_line(photo, gone, bad, row, sharpness):
    """The sign and the quiet line of a photo: the worst that can be said of it, else its key figure.

    row: what Poses says of it, or None; sharpness: or None.
    """
    if gone:
        return "failed", "file missing"
    if photo.aside:
        return ("plate" if photo.plate else "aside"), ""
    if bad:
        return "failed", "unreadable"
    if row and row["sightings"]:
        return "done", f"{row['sightings']}   {row['rms_px']:.2f} px"
    if row:
        return "look", "not placed"
    return "", "" if sharpness is None else f"sharpness {sharpness:.2f}"


def _facts(photo):
    """What the file says of a photo, line by line."""
    lines = [
        photo.name,
        f"{photo.camera or 'camera unknown'}, {photo.width} x {photo.height}",
        " ".join(x for x in (photo.lens, f"{photo.focal_mm:g} mm" if photo.focal_mm else "") if x),
        f"taken {photo.taken.replace('T', ' ')}" if photo.taken else "",
        f"EXIF orientation {photo.orientation}" if photo.orientation != 1 else "",
        photo.path,
    ]
    return "\n".join(x for x in lines if x)


class _PhotoList(QListWidget):
    """The list itself; photos dragged from it carry their ids."""

    def mimeTypes(self):
        return [PHOTOS_MIME]

    def mimeData(self, items):
        data = QMimeData()
        data.setData(PHOTOS_MIME, ",".join(str(i.data(PHOTO_ID)) for i in items).encode())
        return data


class Strip(QWidget):
    """Photos of the chosen sitting. They can be dragged onto a sitting of the Board."""

    menu_wanted = pyqtSignal(QPoint)

    SORTS = ("Shooting order", "Sharpness, soft first", "Sightings, fewest first", "Residual, largest first")
    FILTERS = ("All photos", "Placed", "Not placed", "Set aside")

    def __init__(self, session):
        super().__init__(objectName="panel")
        self.session = session
        self._pictures = {}
        self._mark = None
        top = QHBoxLayout()
        self.count = QLabel(objectName="quiet")
        self.sort, self.filter = QComboBox(), QComboBox()
        self.sort.addItems(self.SORTS)
        self.filter.addItems(self.FILTERS)
        self.sort.setToolTip("Order of the photos")
        self.filter.setToolTip("Which photos are shown")
        for w in (self.sort, self.filter):
            w.currentIndexChanged.connect(self.reload_forced)
            top.addWidget(w)
        self.silhouettes = QToolButton(text="Silhouettes", checkable=True)
        self.silhouettes.setToolTip("Show the masks instead of the photos: a bad one jumps out  (S)")
        self.silhouettes.setShortcut("S")
        self.silhouettes.toggled.connect(self.reload_forced)
        top.addWidget(self.silhouettes)
        top.addWidget(self.count)
        top.addStretch(1)
        hint = QLabel("A sets the chosen photos aside or brings them back", objectName="quiet")
        top.addWidget(hint)
        self.list = _PhotoList()
        self.list.setDragEnabled(True)
        self.list.setDragDropMode(QAbstractItemView.DragDropMode.DragOnly)
        self.list.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.list.customContextMenuRequested.connect(lambda p: self.menu_wanted.emit(self.list.mapToGlobal(p)))
        self.list.setFlow(QListWidget.Flow.LeftToRight)
        self.list.setWrapping(False)
        self.list.setItemDelegate(_Painter(self.list))
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.list.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.list.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setUniformItemSizes(True)
        self.list.setAccessibleName("Contact strip")
        self.list.currentItemChanged.connect(self._on_current)
        box = QVBoxLayout(self)
        box.setContentsMargins(12, 6, 12, 4)
        box.setSpacing(4)
        box.addLayout(top)
        box.addWidget(self.list)
        self.setFixedHeight(THUMB.height() + 96)
        session.document_changed.connect(self.reload)
        session.chosen_changed.connect(self.reload)
        self.reload()

    def chosen_ids(self):
        """Ids of the selected photos."""
        return {i.data(PHOTO_ID) for i in self.list.selectedItems()}

    def reload_forced(self, *_):
        """Fill the strip again."""
        self._mark = None
        self.reload()

    def reload(self):
        """Fill the strip where something it shows has changed."""
        s = self.session
        photos = s.photos()
        done = {n: s.result(n) for n in ("photos", "masks", "poses")}
        mark = (
            s.sitting_id,
            tuple((p.id, p.aside, p.plate, p.path) for p in photos),
            tuple(r.id if r else 0 for r in done.values()),
        )
        if mark == self._mark:
            self._follow()
            return
        self._mark = mark
        sharp = dict(done["photos"].figures["sharpness"]) if done["photos"] else {}
        if done["masks"]:  # where the object is, it tells more
            sharp.update(done["masks"].figures.get("sharpness", {}))
        bad = set(done["photos"].figures["unreadable"]) if done["photos"] else set()
        gone = {p.id for p in photos if not s.job.photo_path(p).is_file()}
        per = done["poses"].figures["per_photo"] if done["poses"] else {}
        rows = []
        for p in photos:
            row, sharpness = per.get(str(p.id)), sharp.get(str(p.id))
            state, line = _state_and_line(p, p.id in gone, p.id in bad, row, sharpness)
            rows.append((p, state, line, bool(row and row["sightings"]), row, sharpness))
        keep = self.filter.currentIndex()
        rows = [
            r
            for r in rows
            if keep == 0
            or (keep == 1 and r[3])
            or (keep == 2 and not r[3] and not r[0].aside)
            or (keep == 3 and r[0].aside)
        ]
        order = self.sort.currentIndex()
        if order == 1:
            rows.sort(key=lambda r: r[5] if r[5] is not None else 1e9)
        elif order == 2:
            rows.sort(key=lambda r: r[4]["sightings"] if r[4] else 0)
        elif order == 3:
            rows.sort(key=lambda r: -(r[4]["rms_px"] or 0) if r[4] else 0)
        self.list.blockSignals(True)
        self.list.clear()
        for p, state, line, *_ in rows:
            item = QListWidgetItem(p.name)
            item.setData(PHOTO_ID, p.id)
            item.setData(STATE, state)
            item.setData(LINE, line)
            picture = self._picture(done["masks"], "silhouette", p.id) if self.silhouettes.isChecked() else None
            picture = picture or self._picture(done["photos"], "thumbnail", p.id)
            if picture is not None:
                item.setData(Qt.ItemDataRole.DecorationRole, picture)
            item.setToolTip(_facts(p))
            self.list.addItem(item)
        self.list.blockSignals(False)
        shown = f"{len(rows)} of {len(photos)} photos" if len(rows) != len(photos) else counted(len(photos), "photo")
        self.count.setText(shown if photos else "No photos in this sitting")
        self._follow()

    def _picture(self, result, name, photo_id):
        key = result.blob(name, photo_id) if result else None
        if key is None:
            return None
        if key not in self._pictures:
            picture = QPixmap()
            picture.loadFromData(self.session.job.blobs.path(key).read_bytes())
            self._pictures[key] = picture
        return self._pictures[key]

    def _follow(self):
        """Make the session's photo the current item."""
        current = self.list.currentItem()
        if current is not None and current.data(PHOTO_ID) == self.session.photo_id:
            return
        for k in range(self.list.count()):
            if self.list.item(k).data(PHOTO_ID) == self.session.photo_id:
                self.list.blockSignals(True)
                self.list.setCurrentRow(k)
                self.list.blockSignals(False)
                self.list.scrollToItem(self.list.item(k))
                return

    def _on_current(self, item, _):
        if item is not None:
            self.session.choose(photo_id=item.data(PHOTO_ID))
