"""The manual in a window: its pages, found by words, and the page for what one is about."""

from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import QImage, QShortcut, QTextBlockFormat, QTextCursor
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QListWidget, QListWidgetItem, QTextBrowser, QVBoxLayout, QWidget

from ...work import manual

ADDRESS = Qt.ItemDataRole.UserRole
MARGIN = 20
#: the page of each stage, and of parts of its bench
OF_STAGE = {
    "photos": "photos-and-masks.md#Bringing photos in",
    "masks": "photos-and-masks.md#Masks",
    "lens": "targets.md#Calibrating a lens",
    "poses": "poses.md",
    "scale": "measuring.md#Scale",
    "join": "joining.md",
    "cloud": "cloud.md",
    "surface": "surface.md",
    "texture": "texture-and-delivery.md",
    "deliver": "texture-and-delivery.md#Deliver",
}
OF_PART = {
    ("masks", "From shape"): "photos-and-masks.md#From shape",
    ("poses", "Photo"): "poses.md#Reading the scene",
    ("poses", "Points"): "poses.md#Sifting tie points",
    ("poses", "Marks"): "measuring.md#Points marked by hand",
    ("scale", "Points"): "measuring.md#Points marked by hand",
    ("scale", "Level"): "measuring.md#Level",
    ("scale", "Measure"): "measuring.md#Measuring",
    ("cloud", "Clouds"): "cloud.md#Clouds side by side",
    ("cloud", "Clean"): "cloud.md#Cleaning",
    ("cloud", "Coverage"): "cloud.md#Coverage",
    ("surface", "Surfaces"): "surface.md#Surfaces side by side",
    ("surface", "Measure"): "surface.md#Measuring on it",
    ("surface", "Mend"): "surface.md#Mending",
}


def address_of(window, widget):
    """The address of the manual for a widget of a window, or what is about it: that of the chosen stage at last."""
    at = widget
    while at is not None:
        told = at.property("manual")
        if told:
            return told
        at = at.parentWidget()
    s = window.session
    if s.job is None:
        return manual.FIRST
    part = window.bench.part if widget is not None and window.bench.isAncestorOf(widget) else None
    return OF_PART.get((s.stage, part)) or OF_STAGE.get(s.stage, manual.FIRST)


class Page(QTextBrowser):
    """A page, rendered; links lead to other pages and nowhere else."""

    def __init__(self):
        super().__init__()
        self.setOpenLinks(False)
        self.setAccessibleName("Page of the manual")

    def loadResource(self, kind, name):
        """Pictures of the manual's own folder, no wider than the window."""
        place, path = manual.folder(), name.path()
        if place is None or name.scheme() not in ("", "file") or not path:
            return None
        file = (place / path).resolve()
        if not file.is_relative_to(place.resolve()) or not file.is_file():
            return None
        if kind == 2:  # a picture
            image = QImage(str(file))
            most = max(self.viewport().width() - 40, 200)
            wide = image.width() > most
            return image.scaledToWidth(most, Qt.TransformationMode.SmoothTransformation) if wide else image
        return None


class ManualWindow(QWidget):
    """The manual beside the main window; it stays while one works."""

    def __init__(self, parent):
        super().__init__(parent, Qt.WindowType.Window)
        self.setObjectName("panel")
        self.setWindowTitle("Manual - Umbrate")
        self.resize(1000, 760)
        self.shown = None  #: address of what is shown
        self._back = []
        self.line = QLineEdit(placeholderText="Search the manual", clearButtonEnabled=True)
        self.line.setAccessibleName("Search the manual")
        self.list = QListWidget()
        self.list.setAccessibleName("Pages of the manual")
        self.list.setFixedWidth(280)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.page = Page()
        left = QVBoxLayout()
        left.addWidget(self.line)
        left.addWidget(self.list, 1)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 12, 12, 12)
        row.setSpacing(12)
        row.addLayout(left)
        row.addWidget(self.page, 1)
        self.line.textChanged.connect(self._fill)
        self.line.returnPressed.connect(lambda: self._open(self.list.item(0)))
        self.list.currentItemChanged.connect(lambda item, _: self._open(item))
        self.page.anchorClicked.connect(self._follow)
        for keys, act in (
            ("Esc", self.close), ("Ctrl+F", self.line.setFocus), ("Alt+Left", self.back),
        ):  # fmt: skip
            QShortcut(keys, self, activated=act)
        self._fill("")

    def _fill(self, text):
        self.list.blockSignals(True)
        self.list.clear()
        many = bool(text.split())
        for s in manual.found(text):
            if s.level > 2 and not many:
                continue
            item = QListWidgetItem(s.title if s.level == 1 or many else f"    {s.title}")
            item.setData(ADDRESS, s.address)
            item.setToolTip(s.address)
            if s.level == 1:
                font = item.font()
                font.setBold(True)
                item.setFont(font)
            self.list.addItem(item)
        if not self.list.count():
            self.list.addItem("Nothing is written about that" if manual.folder() else "The manual is not there")
        self.list.blockSignals(False)
        self._mark()

    def _open(self, item):
        if item is not None and item.data(ADDRESS):
            self.show_address(item.data(ADDRESS))

    def _follow(self, url):
        if url.scheme():
            return  # the manual has no links that lead out of it
        name = url.path() or self.shown.partition("#")[0]
        if name.endswith(".md"):
            anchor = url.fragment().replace("-", " ").lower()
            titles = [s.title for s in manual.sections() if s.page == name]
            plain = {"".join(c for c in x.lower() if c.isalnum() or c in " -").replace("-", " "): x for x in titles}
            self.show_address(f"{name}#{plain[anchor]}" if anchor in plain else name)

    def show_address(self, address, remember=True):
        """Show a page, at one of its headings where the address names it."""
        name, _, title = address.partition("#")
        place = manual.folder()
        if place is None or not (place / name).is_file():
            self.page.setPlainText("The manual belongs in the folder docs/ of the checkout; it is not there.")
            return
        if remember and self.shown and self.shown != address:
            self._back.append(self.shown)
        if self.shown is None or self.shown.partition("#")[0] != name:
            self.page.document().setBaseUrl(QUrl.fromLocalFile(f"{place}/"))
            self.page.setMarkdown((place / name).read_text(encoding="utf-8"))
            self._space_out()
        self.shown = address
        self._go_to(title)
        self._mark()

    def _space_out(self):
        """Give paragraphs and headings room: markdown has none."""
        document = self.page.document()
        document.setDocumentMargin(MARGIN)
        cursor = QTextCursor(document)
        block = document.begin()
        while block.isValid():
            form = block.blockFormat()
            heading = form.headingLevel()
            if block.textList() is None or heading:
                form.setTopMargin(2 * MARGIN / heading if heading else 0)
                form.setBottomMargin(8)
            form.setLineHeight(118, QTextBlockFormat.LineHeightTypes.ProportionalHeight.value)
            cursor.setPosition(block.position())
            cursor.setBlockFormat(form)
            block = block.next()

    def back(self):
        """Show what was shown before."""
        if self._back:
            self.show_address(self._back.pop(), remember=False)

    def _go_to(self, title):
        block = self.page.document().begin()
        while title and block.isValid():
            if block.blockFormat().headingLevel() and block.text().strip() == title:
                break
            block = block.next()
        if not title or not block.isValid():
            block = self.page.document().begin()
        self.page.moveCursor(QTextCursor.MoveOperation.End)
        self.page.setTextCursor(QTextCursor(block))

    def _mark(self):
        """Choose what is shown in the list."""
        self.list.blockSignals(True)
        for k in range(self.list.count()):
            if self.list.item(k).data(ADDRESS) == self.shown:
                self.list.setCurrentRow(k)
        self.list.blockSignals(False)
