"""Numbers, durations and places in words."""

import re
from pathlib import Path

from PyQt6.QtCore import QLocale


def short_time(seconds):
    """A duration for people: 45 s, 3:20."""
    return f"{seconds:.0f} s" if seconds < 60 else f"{int(seconds) // 60}:{int(seconds) % 60:02d}"


def counted(number, noun):
    """A number with its noun: 1 photo, 24 photos."""
    return f"{number:,} {noun}{'' if number == 1 else 's'}"


def short_path(path):
    """A path with the home folder as ~."""
    try:
        return f"~/{Path(path).resolve().relative_to(Path.home())}"
    except ValueError:
        return str(path)


NUMBER = re.compile(r"(?<![\w./\\,])(\d{1,3}(?:,\d{3})+|\d+)(\.\d+)?(?![\w/\\]|[.,]\w)")


def local(text):
    """A text for the screen with its numbers as the user's language writes them: 1,234.5 or 1.234,5.

    What stands in names and paths stays: digits that touch letters, points or slashes on both sides are no number here.
    Files are never written this way.
    """
    where = QLocale()
    point, group = where.decimalPoint(), where.groupSeparator()
    if (point, group) == (".", ",") or not text:
        return text

    def said(m):
        whole, part = m.group(1), m.group(2) or ""
        return whole.replace(",", group) + part.replace(".", point)

    return NUMBER.sub(said, text)
