"""The visual language: every color, size and glyph of the desk, once."""

import importlib.util
import json
from functools import lru_cache
from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import (
    QColor,
    QFont,
    QFontDatabase,
    QIcon,
    QIconEngine,
    QPainter,
    QPainterPath,
    QPalette,
    QPen,
    QPixmap,
    QPolygonF,
)

#: the colors of the two themes; over photos and in the scene the dark ones hold in both, see `over`
DARK = {
    "GROUND": "#1E2124", "PANEL": "#262A2F", "RAISED": "#2E3338", "LINE": "#3B4148",
    "TEXT": "#E8E4DC", "QUIET": "#A9AEB3", "DISABLED": "#6B7178",
    "ACCENT": "#D08A3C", "ACCENT_DARK": "#80552A", "ACCENT_TEXT": "#DE9A4E", "ACCENT_OVER": "#DE9A4E",
    "CHECKED": "#4A3A26", "ON_ACCENT": "#17120B",
    "STATE_COLORS": {
        "nothing": "#7C838A", "ready": "#A9AEB3", "done": "#8FB996", "stale": "#C9B26B", "look": "#E0A050",
        "failed": "#EC8E80", "running": "#D08A3C", "queued": "#A9AEB3", "elsewhere": "#7C838A",
    },
}  # fmt: skip
LIGHT = {
    "GROUND": "#E4E2DE", "PANEL": "#F1EFEC", "RAISED": "#FBFAF8", "LINE": "#BDB9B2",
    "TEXT": "#1F2327", "QUIET": "#545B62", "DISABLED": "#8F9296",
    "ACCENT": "#D08A3C", "ACCENT_DARK": "#EBCFA9", "ACCENT_TEXT": "#83490A", "ACCENT_OVER": "#DE9A4E",
    "CHECKED": "#F0DCC0", "ON_ACCENT": "#17120B",
    "STATE_COLORS": {
        "nothing": "#72777D", "ready": "#545B62", "done": "#2C6B3A", "stale": "#6B560F", "look": "#8A4B00",
        "failed": "#A32B1F", "running": "#A8651C", "queued": "#545B62", "elsewhere": "#72777D",
    },
}  # fmt: skip
THEMES = {"dark": DARK, "light": LIGHT}
GROUND, PANEL, RAISED, LINE = (DARK[n] for n in ("GROUND", "PANEL", "RAISED", "LINE"))
TEXT, QUIET, DISABLED, ON_ACCENT = (DARK[n] for n in ("TEXT", "QUIET", "DISABLED", "ON_ACCENT"))
ACCENT, ACCENT_DARK, ACCENT_TEXT, CHECKED = (DARK[n] for n in ("ACCENT", "ACCENT_DARK", "ACCENT_TEXT", "CHECKED"))
ACCENT_OVER, STATE_COLORS = DARK["ACCENT_OVER"], DARK["STATE_COLORS"]
NEUTRAL = "#2B2B2B"  #: behind photos and the scene, in both themes: no tint, so that colors can be judged
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


class _Glyph(QIconEngine):
    """Draws a picture of the icon font in the token's color of now, at any size and density."""

    def __init__(self, name, tint):
        super().__init__()
        self.name, self.tint = name, tint

    def clone(self):
        return _Glyph(self.name, self.tint)

    def paint(self, painter, rect, mode, state):
        family, letters = _icon_font()
        f = QFont(family)
        f.setPixelSize(max(round(0.9 * min(rect.width(), rect.height())), 1))
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(f)
        painter.setPen(QColor(DISABLED if mode == QIcon.Mode.Disabled else globals()[self.tint]))
        painter.drawText(rect, Qt.AlignmentFlag.AlignCenter, chr(int(letters[self.name], 16)))
        painter.restore()

    def pixmap(self, size, mode, state):
        picture = QPixmap(size)
        picture.fill(Qt.GlobalColor.transparent)
        p = QPainter(picture)
        self.paint(p, picture.rect(), mode, state)
        p.end()
        return picture


def icon(name, tint="TEXT"):
    """A picture of the one icon font, by its name there, in the color of a token."""
    return QIcon(_Glyph(name, tint))


def swatch(tint):
    """A small square of a color beside what it stands for."""
    picture = QPixmap(12, 12)
    picture.fill(QColor(tint))
    return QIcon(picture)


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


def style():
    """The style sheet of the theme in force."""
    return f"""
* {{ font-size: {SIZE}px; color: {TEXT}; }}
QMainWindow {{ background: {GROUND}; }}
QDialog {{ background: {PANEL}; border: 1px solid {LINE}; }}
QWidget#panel, QScrollArea#panel, QScrollArea#panel > QWidget > QWidget {{ background: {PANEL}; }}
QFrame#finder {{ background: {RAISED}; border: 1px solid {QUIET}; border-radius: 6px; }}
QLabel#heading {{ font-size: {HEADING}px; font-weight: 600; }}
QLabel#quiet {{ font-size: {SMALL}px; color: {QUIET}; }}
QLabel#dim {{ color: {QUIET}; }}
QLabel#changed {{ color: {ACCENT_TEXT}; }}
QLabel#picture {{ background: {NEUTRAL}; }}
QLabel#strong {{ font-weight: 600; }}
QLabel#title {{ font-size: 30px; font-weight: 600; }}
QLabel#about {{ font-size: 14px; color: {QUIET}; }}
*[tone="good"] {{ color: {STATE_COLORS["done"]}; }}
*[tone="bad"] {{ color: {STATE_COLORS["failed"]}; }}
*[tone="look"] {{ color: {STATE_COLORS["look"]}; }}
*[tone="quiet"] {{ color: {QUIET}; }}
QLabel#advice {{ background: {RAISED}; border-left: 3px solid {ACCENT}; padding: 8px; font-size: {SMALL + 1}px; }}
QPushButton, QToolButton {{ background: {RAISED}; border: 1px solid {LINE};
    border-radius: 4px; padding: 4px 10px; min-height: 18px; }}
QToolButton {{ padding: 3px 7px; }}
QPushButton:hover, QToolButton:hover {{ border-color: {QUIET}; }}
QPushButton:focus, QToolButton:focus {{ border-color: {ACCENT}; }}
QPushButton:disabled, QToolButton:disabled {{ color: {DISABLED}; border-color: {RAISED}; }}
QToolButton:checked, QPushButton:checked {{ background: {CHECKED}; border-color: {ACCENT}; }}
QPushButton#next {{ background: {ACCENT}; border-color: {ACCENT}; color: {ON_ACCENT}; font-weight: 600; }}
QPushButton#next:hover {{ background: {ACCENT_OVER}; }}
QPushButton#next:disabled {{ background: {RAISED}; color: {DISABLED}; border-color: {RAISED}; }}
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
QMenu::item:disabled {{ color: {DISABLED}; }}
QToolTip {{ background: {RAISED}; color: {TEXT}; border: 1px solid {LINE}; padding: 4px; }}
QCheckBox, QRadioButton {{ border: 1px solid transparent; border-radius: 3px; padding: 1px 2px; }}
QCheckBox:focus, QRadioButton:focus, QSlider:focus {{ border: 1px solid {ACCENT}; border-radius: 3px; }}
QAbstractItemView {{ border: 1px solid transparent; }}
QAbstractItemView:focus, QPlainTextEdit:focus, QTextBrowser:focus {{ border: 1px solid {ACCENT}; }}
QTabBar::tab:selected:focus {{ border-bottom: 2px solid {ACCENT}; }}
QScrollBar:vertical {{ background: transparent; width: 10px; }}
QScrollBar:horizontal {{ background: transparent; height: 10px; }}
QScrollBar::handle {{ background: {LINE}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
QSplitter::handle {{ background: {GROUND}; }}
QAbstractItemView, QPlainTextEdit, QTextBrowser {{ background: {PANEL}; outline: none; }}
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
QToolButton#bare:checked {{ background: {CHECKED}; border-color: {ACCENT}; }}
QToolButton#tab {{ background: transparent; border: none; border-bottom: 2px solid {LINE}; border-radius: 0;
    padding: 3px 0; font-size: {SMALL + 1}px; color: {QUIET}; }}
QToolButton#tab:hover {{ color: {TEXT}; }}
QToolButton#tab:focus {{ border: 1px solid {ACCENT}; border-bottom: 2px solid {ACCENT}; }}
QToolButton#tab:checked {{ background: transparent; border-bottom: 2px solid {ACCENT}; color: {TEXT}; }}
QToolButton#part {{ background: transparent; border-color: transparent; padding: 3px 4px; }}
QToolButton#part:hover {{ border-color: {QUIET}; }}
QToolButton#part:checked {{ border-color: {LINE}; background: {RAISED}; }}
FlowBar QToolButton {{ padding: 3px 4px; }}
QPushButton#find {{ background: {GROUND}; color: {QUIET}; text-align: left; padding: 2px 10px; }}
QProgressBar {{ background: {RAISED}; border: none; border-radius: 3px; max-height: 6px; min-height: 6px; }}
QProgressBar::chunk {{ background: {ACCENT}; border-radius: 3px; }} /* names: ok, it is Qt's own */
"""


def palette():
    """The QPalette of the theme in force, for what no style sheet reaches: Qt's own dialogs."""
    out = QPalette()
    r, g = QPalette.ColorRole, QPalette.ColorGroup
    for role, token in (
        (r.Window, PANEL), (r.WindowText, TEXT), (r.Base, GROUND), (r.AlternateBase, PANEL), (r.Text, TEXT),
        (r.Button, RAISED), (r.ButtonText, TEXT), (r.BrightText, TEXT), (r.Highlight, ACCENT_DARK),
        (r.HighlightedText, TEXT), (r.Link, ACCENT_TEXT), (r.LinkVisited, ACCENT_TEXT), (r.ToolTipBase, RAISED),
        (r.ToolTipText, TEXT), (r.PlaceholderText, QUIET), (r.Light, LINE), (r.Midlight, RAISED), (r.Mid, LINE),
        (r.Dark, GROUND), (r.Shadow, GROUND),
    ):  # fmt: skip
        out.setColor(role, QColor(token))
    for role in (r.WindowText, r.Text, r.ButtonText, r.HighlightedText):
        out.setColor(g.Disabled, role, QColor(DISABLED))
    return out


def use(theme):
    """Put a theme in force; what is drawn from now on has its colors."""
    globals().update(THEMES[theme])
