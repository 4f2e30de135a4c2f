"""Which numbers of loose targets were printed: two sheets with the same ones would be taken for one another."""

import json
from pathlib import Path

import platformdirs

from ..core.targets.sheets import COUNT, OBJECT


def _file():
    return Path(platformdirs.user_data_dir("umbrate", appauthor=False)) / "targets.json"


def next_number():
    """The first number of loose targets that this user has not printed yet; the first of all once all were."""
    try:
        n = int(json.loads(_file().read_text(encoding="utf-8"))["next"])
    except (OSError, ValueError, KeyError, TypeError):
        return OBJECT.start
    return n if n in OBJECT else OBJECT.start


def remember_printed(sheets):
    """Loose targets were written: the next ones have other numbers. Returns the first and last number, or None."""
    numbers = [m.number for s in sheets if s.name == "loose" for m in s.targets]
    if not numbers:
        return None
    following = max(numbers) + 1
    try:
        _file().parent.mkdir(parents=True, exist_ok=True)
        _file().write_text(json.dumps({"next": following if following < COUNT else OBJECT.start}), encoding="utf-8")
    except OSError:
        pass  # they can be chosen by hand
    return min(numbers), max(numbers)
