"""The visual language: every color, size and glyph of the desk, once."""

import importlib.util
import json
from functools import lru_cache
from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPainter, QPainterPath, QPen, QPixmap, QPolygonF

GROUND, PANEL, RAISED, LINE = "#1E2124", "#262A2F", "#2E3338", "#3B4148"
TEXT, QUIET, ACCENT, ACCENT_DARK = "#E8E4DC", "#A3A8AD", "#D08A3C", "#8A5C2A"
NEUTRAL = "#2B2B2B"  #: behind photos and the scene: no tint, so that colors can be judged
STATE_COLORS = {
    "nothing": "#666C73",
    "ready": "#A3A8AD",
    "done": "#8FB996",
    "stale": "#C9B26B",
    "look": "#E0A050",
    "failed": "#D9705F",
    "running": "#D08A3C",
    "queued": "#A3A8AD",
    "elsewhere": "#666C73",
}
CATEGORIES = ("#E69F00", "#56B4E9", "#009E73", "#F0E442", "#0072B2", "#D55E00", "#CC79A7", "#BBBBBB")
STEP = 4
SIZE, SMALL, HEADING = 13, 11, 16
FAMILIES = ["Inter", "Noto Sans", "Cantarell", "Ubuntu", "DejaVu Sans"]


def font(pixels=SIZE, bold=False):
    """The one family at a size in pixels, with tabular figures where Qt can ask for them."""
    f = QFont()
    f.setFamilies(FAMILIES)
    f.setPixelSize(pixels)
    if bold:
        f.setWeight(QFont.Weight.DemiBold)
    if hasattr(QFont, "Tag"):
        f.setFeature(QFont.Tag("tnum"), 1)
    return f


DISABLED = "#6B7178"  #: icons of what cannot be done now
ICON_PX = (16, 20, 24, 32, 40, 64)  #: sizes that icons are drawn in, large ones for high-density screens


@lru_cache(512)
def color(name, alpha=255):
    """A token as QColor, which is everybody's: not to be changed."""
    c = QColor(name)
    c.setAlpha(alpha)
    return c


@lru_cache(1)
def _icon_font():
    """The family of the one icon font, and its letters by name.

    The font package is not imported: it brings a layer over several toolkits along, which takes a quarter of a second.
    """
    folder = Path(importlib.util.find_spec("qtawesome").submodule_search_locations[0]) / "fonts"
    font = next(folder.glob("materialdesignicons6-webfont-*.ttf"))
    letters = next(folder.glob("materialdesignicons6-webfont-charmap-*.json"))
    family = QFontDatabase.applicationFontFamilies(QFontDatabase.addApplicationFont(str(font)))[0]
    return family, json.loads(letters.read_text(encoding="utf-8"))


@lru_cache(256)
def icon(name, tint=TEXT):
    """A picture of the one icon font, by its name there; drawn once, not at every repaint."""
    family, letters = _icon_font()
    out = QIcon()
    for size in ICON_PX:
        for mode, ink in ((QIcon.Mode.Normal, tint), (QIcon.Mode.Disabled, DISABLED)):
            picture = QPixmap(size, size)
            picture.fill(Qt.GlobalColor.transparent)
            font = QFont(family)
            font.setPixelSize(round(0.9 * size))
            p = QPainter(picture)
            p.setRenderHint(QPainter.RenderHint.Antialiasing)
            p.setFont(font)
            p.setPen(QColor(ink))
            p.drawText(picture.rect(), Qt.AlignmentFlag.AlignCenter, chr(int(letters[name], 16)))
            p.end()
            out.addPixmap(picture, mode)
    return out


def draw_state(painter, state, rect):
    """The glyph of a state in a square: told apart by shape, not by color alone."""
    c = color(STATE_COLORS[state])
    r = QRectF(rect)
    mid, radius = r.center(), r.width() / 2 - 1.5
    painter.save()
    painter.setRenderHint(painter.RenderHint.Antialiasing)
    painter.setPen(QPen(c, 1.6))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if state in ("nothing", "ready", "queued", "stale", "failed"):
        painter.drawEllipse(mid, radius, radius)
    if state == "ready":
        painter.setBrush(c)
        painter.drawEllipse(mid, radius * 0.35, radius * 0.35)
    elif state == "elsewhere":
        painter.drawLine(mid + QPointF(-radius * 0.7, 0), mid + QPointF(radius * 0.7, 0))
    elif state == "queued":
        painter.drawLine(mid, mid + QPointF(0, -radius * 0.6))
        painter.drawLine(mid, mid + QPointF(radius * 0.5, 0))
    elif state == "done":
        painter.setBrush(c)
        painter.drawEllipse(mid, radius, radius)
    elif state == "stale":
        half = QPainterPath()
        half.moveTo(mid)
        half.arcTo(QRectF(mid.x() - radius, mid.y() - radius, 2 * radius, 2 * radius), 90, 180)
        painter.fillPath(half, c)
    elif state == "failed":
        d = radius * 0.7
        painter.drawLine(mid + QPointF(-d, -d), mid + QPointF(d, d))
    elif state == "look":
        painter.setBrush(c)
        painter.drawPolygon(
            QPolygonF(
                [mid + QPointF(0, -radius), mid + QPointF(radius, radius * 0.8), mid + QPointF(-radius, radius * 0.8)]
            )
        )
        painter.setPen(QPen(color(GROUND), 1.8))
        painter.drawLine(mid + QPointF(0, -radius * 0.3), mid + QPointF(0, radius * 0.25))
    elif state == "running":
        painter.setBrush(c)
        painter.drawRoundedRect(QRectF(r.left() + 1, mid.y() - 2, r.width() - 2, 4), 2, 2)
    painter.restore()


PICTURES = (Path(__file__).parent / "pictures").as_posix()
STYLE = f"""
* {{ font-size: {SIZE}px; color: {TEXT}; }}
QMainWindow {{ background: {GROUND}; }}
QDialog {{ background: {PANEL}; border: 1px solid {LINE}; }}
QWidget#panel, QScrollArea#panel, QScrollArea#panel > QWidget > QWidget {{ background: {PANEL}; }}
QLabel#heading {{ font-size: {HEADING}px; font-weight: 600; }}
QLabel#quiet {{ font-size: {SMALL}px; color: {QUIET}; }}
QLabel#advice {{ background: {RAISED}; border-left: 3px solid {ACCENT}; padding: 8px; font-size: {SMALL + 1}px; }}
QPushButton, QToolButton {{ background: {RAISED}; border: 1px solid {LINE};
    border-radius: 4px; padding: 4px 10px; min-height: 18px; }}
QToolButton {{ padding: 3px 7px; }}
QPushButton:hover, QToolButton:hover {{ border-color: {QUIET}; }}
QPushButton:focus, QToolButton:focus {{ border-color: {ACCENT}; }}
QPushButton:disabled, QToolButton:disabled {{ color: #6B7178; border-color: {RAISED}; }}
QToolButton:checked, QPushButton:checked {{ background: #4A3A26; border-color: {ACCENT}; }}
QPushButton#next {{ background: {ACCENT}; border-color: {ACCENT}; color: #17120B; font-weight: 600; }}
QPushButton#next:hover {{ background: #DE9A4E; }}
QPushButton#next:disabled {{ background: {RAISED}; color: #6B7178; border-color: {RAISED}; }}
QPushButton#link {{ background: transparent; border: none; color: {QUIET}; text-align: left; padding: 2px 0; }}
QPushButton#link:hover {{ color: {TEXT}; }}
QLineEdit, QSpinBox, QDoubleSpinBox, QComboBox {{ background: {GROUND}; border: 1px solid {LINE};
    border-radius: 4px; padding: 3px 6px; min-height: 18px; selection-background-color: {ACCENT_DARK}; }}
QLineEdit:focus, QSpinBox:focus, QDoubleSpinBox:focus, QComboBox:focus {{ border-color: {ACCENT}; }}
QComboBox QAbstractItemView {{ background: {RAISED};
    border: 1px solid {LINE}; selection-background-color: {ACCENT_DARK} }}
QCheckBox::indicator {{ width: 14px; height: 14px;
    border: 1px solid {QUIET}; border-radius: 3px; background: {GROUND} }}
QCheckBox::indicator:checked {{ background: {ACCENT}; border-color: {ACCENT}; image: url({PICTURES}/check.svg); }}
QMenuBar, QMenu {{ background: {PANEL}; }}
QMenuBar::item {{ padding: 4px 8px; background: transparent; }}
QMenuBar::item:selected, QMenu::item:selected {{ background: {ACCENT_DARK}; }}
QMenu {{ border: 1px solid {LINE}; }}
QMenu::item {{ padding: 4px 24px 4px 12px; }}
QMenu::item:disabled {{ color: #6B7178; }}
QToolTip {{ background: {RAISED}; color: {TEXT}; border: 1px solid {LINE}; padding: 4px; }}
QScrollBar:vertical {{ background: transparent; width: 10px; }}
QScrollBar:horizontal {{ background: transparent; height: 10px; }}
QScrollBar::handle {{ background: {LINE}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
QSplitter::handle {{ background: {GROUND}; }}
QListView, QTableWidget, QPlainTextEdit {{ background: {PANEL}; border: none; outline: none; }}
QTableWidget {{ gridline-color: {RAISED}; background: {GROUND}; }}
QTableWidget::item {{ padding: 0 8px; }}
QTableWidget::item:selected {{ background: {ACCENT_DARK}; }}
QTableWidget#close {{ font-size: {SMALL + 1}px; }}
QTableWidget#close::item {{ padding: 0 1px; }}
QTableWidget#close QHeaderView::section {{ padding: 2px 5px; font-size: {SMALL}px; }}
QListView::item {{ padding: 3px 6px; }}
QListView::item:selected {{ background: {ACCENT_DARK}; color: {TEXT}; }}
QTabWidget::pane {{ border: none; }}
QTabBar::tab {{ background: {RAISED}; padding: 5px 14px; border: none; color: {QUIET}; }}
QTabBar::tab:selected {{ background: {GROUND}; color: {TEXT}; }}
QHeaderView::section {{ background: {RAISED}; border: none; padding: 4px 8px; color: {QUIET}; }}
QComboBox::drop-down {{ border: none; width: 20px; }}
QComboBox::down-arrow {{ image: url({PICTURES}/chevron.svg); width: 12px; height: 12px; }}
QSlider::groove:horizontal {{ height: 3px; background: {LINE}; border-radius: 1px; }}
QSlider::handle:horizontal {{ width: 10px; margin: -4px 0; border-radius: 5px; background: {QUIET}; }}
QSlider::handle:horizontal:hover {{ background: {ACCENT}; }}
QToolButton::menu-indicator {{ image: none; }}
QToolButton#bare {{ background: transparent; border-color: transparent; padding: 3px 5px; }}
QToolButton#bare:hover {{ border-color: {LINE}; }}
QToolButton#bare:checked {{ background: #4A3A26; border-color: {ACCENT}; }}
QPushButton#find {{ background: {GROUND}; color: {QUIET}; text-align: left; padding: 2px 10px; }}
QProgressBar {{ background: {RAISED}; border: none; border-radius: 3px; max-height: 6px; min-height: 6px; }}
QProgressBar::chunk {{ background: {ACCENT}; border-radius: 3px; }} /* names: ok, it is Qt's own */
"""
