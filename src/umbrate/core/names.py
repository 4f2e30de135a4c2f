"""Names that people give: one line of plain text, short enough for every file system and every table."""

import unicodedata
from itertools import count

from .errors import UmbrateError

LONGEST = 120  #: characters of a name
LONGEST_FILE = 180  #: bytes of a file's name that is made from one, with room for endings


def is_plain(text):
    """Whether a text can be written anywhere: no control characters, nothing that is not UTF-8."""
    return not any(unicodedata.category(c) in ("Cc", "Cs") for c in text)


def printable(text):
    """A text as it can be shown: what is no UTF-8 or a control character becomes a replacement character."""
    return "".join("\ufffd" if unicodedata.category(c) in ("Cc", "Cs") and c not in "\n\t" else c for c in str(text))


def plain_name(text, what):
    """A name people gave, with single spaces, ready to be kept.

    what : what it names, for the sentence: "A sitting"

    Raises
    ------
    UmbrateError
        Where it is empty, too long, or no plain text.
    """
    name = " ".join(str(text).split())
    if not name:
        raise UmbrateError(f"{what} needs a name.")
    if not is_plain(name):
        raise UmbrateError(f"“{printable(name)[:40]}” cannot be a name: write it in letters, digits and signs.")
    if len(name) > LONGEST:
        raise UmbrateError(f"{what} can have a name of {LONGEST} characters at most; “{name[:24]}…” has {len(name)}.")
    return name


def first_free(stem, taken, start=1):
    """The first name that is not taken, of a stem with a number behind it: "P" gives P1, P2, ...

    taken : collection of str
    start : the first number that is tried
    """
    return next(name for k in count(start) if (name := f"{stem}{k}") not in taken)


def file_name(text, taken=()):
    """A name as that of a file or folder: it stays where it is put, and is another than those taken.

    taken : names in lower case; the new one is not added
    """
    name = "".join("-" if c in '/\\:*?"<>|' or unicodedata.category(c) in ("Cc", "Cs") else c for c in str(text))
    name = name.strip(" .") or "unnamed"
    while len(name.encode()) > LONGEST_FILE:
        name = name[:-1]
    out, k = name, 2
    while out.lower() in taken:
        out, k = f"{name} ({k})", k + 1
    return out
