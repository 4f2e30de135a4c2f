"""Fonts of PDF files: every character in one that has it, so that no name becomes a row of black boxes.

The fonts every PDF reader has hold the letters of western Europe. Others are taken from what is installed; what no font
has is written as its number.
"""

import logging
from functools import lru_cache
from pathlib import Path
from xml.sax.saxutils import escape

from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFError, TTFont

log = logging.getLogger(__name__)
PLACES = (
    "/usr/share/fonts",
    "/usr/local/share/fonts",
    str(Path.home() / ".local/share/fonts"),
    str(Path.home() / ".fonts"),
)
FIRST = ("DejaVuSans.ttf", "NotoSans-Regular.ttf", "LiberationSans-Regular.ttf", "FreeSans.ttf")
MOST = 400  #: font files that are looked into


@lru_cache(maxsize=1)
def _files():
    """Font files, those first that hold many scripts."""
    found = []
    for place in PLACES:
        try:
            found += sorted(Path(place).rglob("*.[tT][tT][fFcC]"))
        except OSError:
            continue
    order = {name: k for k, name in enumerate(FIRST)}
    plain = [f for f in found if not any(x in f.name for x in ("Bold", "Italic", "Oblique", "Mono", "Condensed"))]
    return sorted(plain, key=lambda f: (order.get(f.name, len(order)), f.name))[:MOST]


@lru_cache(maxsize=MOST)
def _font(file):
    """The registered font of a file, or None where it cannot be used."""
    name = f"umbrate-{file.stem}"
    try:
        font = TTFont(name, str(file))
        pdfmetrics.registerFont(font)
        return font
    except (TTFError, OSError, ValueError, KeyError, IndexError, AttributeError) as e:
        log.debug("%s is not used: %s", file, e)
        return None


@lru_cache(maxsize=10_000)
def _font_of(character):
    """The name of a font that has a character, or None."""
    for file in _files():
        font = _font(file)
        if font is not None and ord(character) in font.face.charToGlyph:
            return font.fontName
    return None


def _in_standard(character):
    """Whether the fonts that every reader has hold a character."""
    try:
        character.encode("cp1252")
    except UnicodeEncodeError:
        return False
    return True


def in_fonts(text, standard):
    """A text as the markup of a paragraph whose own font is `standard`: other fonts where that lacks a character."""
    runs = []
    for c in text:
        font = standard if _in_standard(c) else _font_of(c)
        if font is None:
            c, font = f"[U+{ord(c):04X}]", standard
        if runs and runs[-1][0] == font:
            runs[-1][1] += c
        else:
            runs.append([font, c])
    return "".join(escape(t) if f == standard else f'<font name="{f}">{escape(t)}</font>' for f, t in runs)
