"""The contact strip: small pictures of a sitting's photos, sorted and filtered by what matters now."""

from dataclasses import dataclass

from PyQt6.QtCore import QItemSelectionModel, QMimeData, QPoint, Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...core.imaging.facts import exposure_text
from ...job.model import Photo
from ...sitting.photos import QUARTERS
from ...stages.base import PROBLEM_KINDS
from ..plain import Label
from ..text import counted
from .thumbs import LINE, PHOTO_ID, PICTURE, SHARPNESS, SOFT, STATE, THUMB, TRACED, TURN, ThumbPainter

KIND_OF = {title: kind for kind, title in PROBLEM_KINDS.items()}
PHOTOS_MIME = "application/x-umbrate-photos"  #: ids of photos that are dragged, with commas between


@dataclass(frozen=True)
class _Row:
    """A photo and what is known of it.

    figures: what Poses says of it, or None; file: "here", "missing" or "changed".
    """

    photo: Photo
    file: str
    unreadable: bool
    figures: object
    sharpness: float | None
    kinds: tuple  #: of problems, of `PROBLEM_KINDS`
    told: str  #: the problems in words

    @property
    def soft(self):
        """Whether it is clearly softer than the others."""
        return "soft" in self.kinds

    @property
    def placed(self):
        return bool(self.figures and self.figures.sightings)

    def state_and_line(self):
        """Its sign and its quiet line: the worst that can be said of it, else its key figure."""
        if self.file != "here":
            return "failed", f"file {self.file}"
        if self.photo.aside:
            return ("plate" if self.photo.plate else "aside"), ""
        if self.unreadable:
            return "failed", "unreadable"
        words = [PROBLEM_KINDS[k].lower() for k in self.kinds]
        if words == ["soft"] and self.sharpness is not None:
            words = [f"soft, {self.sharpness:.2f}"]
        if self.placed:
            line = f"{self.figures.sightings}   {self.figures.rms_px:.2f} px"
            return ("look", ", ".join(words)) if words else ("done", line)
        if self.figures:
            return "look", "not placed"
        if words:
            return "look", ", ".join(words)
        return "", "" if self.sharpness is None else f"sharpness {self.sharpness:.2f}"


def facts(photo):
    """What the file says of a photo, line by line."""
    lines = [
        photo.name,
        f"{photo.camera or 'camera unknown'}, {photo.width} x {photo.height}",
        "  ".join(x for x in (photo.lens, f"{photo.focal_mm:g} mm" if photo.focal_mm else "") if x),
        exposure_text(photo.exposure_s, photo.f_number, photo.iso),
        f"taken {photo.taken.replace('T', ' ')}" if photo.taken else "",
        f"EXIF orientation {photo.orientation}" if photo.orientation != 1 else "",
        f"turned by {90 * photo.turn} degrees" if photo.turn else "",
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

    SORTS = (
        "Shooting order", "Sharpness, soft first", "Sightings, fewest first", "Residual, largest first",
        "Problems, most first",
    )  # fmt: skip
    FILTERS = ("All photos", "With problems", *PROBLEM_KINDS.values(), "Placed", "Not placed", "Set aside")

    def __init__(self, session):
        super().__init__(objectName="panel")
        self.session = session
        self._live = {}  #: thumbnails of photos that are being read, by photo id
        self._mark = None
        top = QHBoxLayout()
        self.count = Label(objectName="quiet")
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
        session.silhouettes_wanted.connect(lambda: self.silhouettes.setChecked(True))
        top.addWidget(self.silhouettes)
        top.addWidget(self.count)
        top.addStretch(1)
        hint = Label("A sets the chosen photos aside or brings them back", objectName="quiet")
        top.addWidget(hint)
        self.list = _PhotoList()
        self.list.setDragEnabled(True)
        self.list.setDragDropMode(QAbstractItemView.DragDropMode.DragOnly)
        self.list.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.list.customContextMenuRequested.connect(lambda p: self.menu_wanted.emit(self.list.mapToGlobal(p)))
        self.list.setFlow(QListWidget.Flow.LeftToRight)
        self.list.setWrapping(False)
        self.list.setItemDelegate(ThumbPainter(self.list, session))
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
        session.live.connect(self._on_live)
        session.points.traced.connect(self._on_traced)
        self.reload()

    def chosen_ids(self):
        """Ids of the selected photos."""
        return {i.data(PHOTO_ID) for i in self.list.selectedItems()}

    def step(self, step):
        """Choose the photo so many places further on."""
        row = self.list.currentRow() + step
        if 0 <= row < self.list.count():
            self.list.setCurrentRow(row)

    def reload_forced(self, *_):
        """Fill the strip again."""
        self._mark = None
        self.reload()

    def reload(self):
        """Fill the strip where something it shows has changed."""
        s = self.session
        photos = s.photos()
        done = {n: s.result(n) for n in ("photos", "masks", "poses")}
        preview = s.masks.shown_preview()
        self._by_hand = s.job.hand_masks(s.sitting_id) if photos and self.silhouettes.isChecked() else {}
        mark = (
            s.sitting_id,
            tuple((p, s.arrivals.file_state(p)) for p in photos),
            tuple(r.id if r else 0 for r in done.values()),
            id(preview),
            str(self._by_hand),
            str(s.masks.by_hand()),
        )
        if mark == self._mark:
            self._follow()
            return
        self._mark = mark
        # small pictures and sharpness are kept for what is in a file: also of photos that are set aside
        self._seen = s.job.seen({p.hash for p in photos}) if photos else {}
        every = self._rows(photos, done)
        rows = [r for r in every if self._wanted(r)]
        order = self.sort.currentIndex()
        if order == 1:
            rows.sort(key=lambda r: r.sharpness if r.sharpness is not None else 1e9)
        elif order == 2:
            rows.sort(key=lambda r: r.figures.sightings if r.figures else 0)
        elif order == 3:
            rows.sort(key=lambda r: -(r.figures.rms_px or 0) if r.figures else 0)
        elif order == 4:
            rows.sort(key=lambda r: -len(r.kinds))
        best = max((r.sharpness for r in every if r.sharpness), default=1.0)
        at = self.list.horizontalScrollBar().value()
        chosen = self.chosen_ids()
        self.list.blockSignals(True)
        self.list.clear()
        for r in rows:
            self.list.addItem(self._item(r, best, done, preview))
            self.list.item(self.list.count() - 1).setSelected(r.photo.id in chosen)
        self.list.blockSignals(False)
        self.list.horizontalScrollBar().setValue(at)
        shown = f"{len(rows)} of {len(photos)} photos" if len(rows) != len(photos) else counted(len(photos), "photo")
        self.count.setText(shown if photos else "No photos in this sitting")
        self._follow()

    def _rows(self, photos, done):
        """What is known of the photos."""
        sharp, soft, bad = {}, set(), set()
        if done["photos"]:
            figures = done["photos"].figures
            sharp, soft, bad = dict(figures.sharpness), set(figures.soft), set(figures.unreadable)
        if done["masks"] and done["masks"].figures.sharpness:  # where the object is, it tells more
            figures = done["masks"].figures
            measured = set(figures.sharpness)
            sharp.update(figures.sharpness)
            soft = (soft - measured) | set(figures.soft)
        kinds, told = self._problems(photos, done, soft, bad)
        hand = self.session.masks.by_hand()
        sharp.update(hand.sharpness)
        per = done["poses"].figures.per_photo if done["poses"] else {}
        for p in photos:
            if p.id not in sharp and p.hash in self._seen:
                sharp[p.id] = self._seen[p.hash]["sharpness"]
        return [
            _Row(
                p,
                self.session.arrivals.file_state(p),
                p.id in bad,
                per.get(p.id),
                sharp.get(p.id),
                tuple(k for k in PROBLEM_KINDS if k in kinds.get(p.id, ())),
                "\n".join(told.get(p.id, ())),
            )
            for p in photos
        ]

    def _problems(self, photos, done, soft, bad):
        """Kinds of problems, and what is told of them, by photo id; of photos in use."""
        kinds, told, hand = {}, {}, self.session.masks.by_hand()
        drawn = set(hand.share)
        for name, r in done.items():
            for p in r.problems if r else ():
                if p.get("kind") in PROBLEM_KINDS and p["photo"] is not None:
                    if name == "masks" and p["photo"] in drawn:
                        continue  # it was drawn since
                    if p["kind"] == "soft" and p["photo"] not in soft:
                        continue  # inside the mask it is sharp
                    kinds.setdefault(p["photo"], set()).add(p["kind"])
                    told.setdefault(p["photo"], []).append(p["text"])
        bare = done["photos"].figures.bare if done["photos"] else ()
        for ids, kind in ((soft - drawn, "soft"), (hand.soft, "soft"), (bad, "unreadable"), (bare, "bare")):
            for i in ids:
                kinds.setdefault(i, set()).add(kind)
        for i, text in hand.odd.items():
            kinds.setdefault(i, set()).add("mask")
            told.setdefault(i, []).append(f"The mask drawn by hand {text}.")
        return kinds, told

    def show_only(self, kind):
        """Show photos with problems of a kind alone."""
        self.filter.setCurrentText(PROBLEM_KINDS[kind])

    def _wanted(self, row):
        """Whether a row is one of those that shall be shown."""
        keep = self.filter.currentText()
        return (
            keep == "All photos"
            or (keep == "Placed" and row.placed)
            or (keep == "Not placed" and not row.placed and not row.photo.aside)
            or (keep == "With problems" and row.kinds and not row.photo.aside)
            or (keep in PROBLEM_KINDS.values() and not row.photo.aside and KIND_OF[keep] in row.kinds)
            or (keep == "Set aside" and row.photo.aside)
        )

    def _item(self, row, best, done, preview):
        photo = row.photo
        item = QListWidgetItem(photo.name)
        state, line = row.state_and_line()
        made = preview.made.get(photo.id) if preview else None
        if made:
            state, line = ("look", "no mask") if made.mask is None else (state, "preview")
        item.setData(PHOTO_ID, photo.id)
        item.setData(STATE, state)
        item.setData(LINE, line)
        item.setData(TURN, photo.turn)
        item.setData(SHARPNESS, None if row.sharpness is None else row.sharpness / best)
        item.setData(SOFT, row.soft)
        key = done["photos"].blob("thumbnail", photo.id) if done["photos"] else None
        key = key or self._live.get(photo.id) or self._seen.get(photo.hash, {}).get("thumbnail")
        if self.silhouettes.isChecked() or (made and made.mask):
            outline = done["masks"].blob("silhouette", photo.id) if done["masks"] else None
            by_hand = None if made else self._by_hand.get(photo.id)
            if by_hand:  # as the sensor saw it; the others stand as people see them
                item.setData(TURN, photo.turn + QUARTERS.get(photo.orientation, 0))
            key = (made.silhouette if made else None) or by_hand or outline or key
        item.setData(PICTURE, key)
        item.setData(TRACED, photo.id in self.session.points.photos)
        item.setToolTip("\n".join(x for x in (row.told, facts(photo)) if x))
        return item

    def _on_live(self, name, data):
        """A thumbnail is there before the stage that makes them is through."""
        if name == "thumbnail":
            pid, key = data
            self._live[pid] = key
            for k in range(self.list.count()):
                if self.list.item(k).data(PHOTO_ID) == pid:
                    self.list.item(k).setData(PICTURE, key)

    def _on_traced(self, photo_ids):
        """Ring the photos that see the chosen points."""
        for k in range(self.list.count()):
            item = self.list.item(k)
            item.setData(TRACED, item.data(PHOTO_ID) in photo_ids)

    def _follow(self):
        """Make the session's photo the current item."""
        current = self.list.currentItem()
        if current is not None and current.data(PHOTO_ID) == self.session.photo_id:
            return
        for k in range(self.list.count()):
            if self.list.item(k).data(PHOTO_ID) == self.session.photo_id:
                self.list.blockSignals(True)
                # what was chosen before is not chosen any more: the next key would act on it too
                self.list.setCurrentRow(k, QItemSelectionModel.SelectionFlag.ClearAndSelect)
                self.list.blockSignals(False)
                self.list.scrollToItem(self.list.item(k))
                return

    def _on_current(self, item, _):
        if item is not None:
            self.session.choose(photo_id=item.data(PHOTO_ID))
