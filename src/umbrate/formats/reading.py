"""Files from elsewhere that hold text: read whole, but no more than a file of that kind can hold."""

import json
from pathlib import Path

from ..core.errors import UmbrateError

MOST_BYTES = 50_000_000  #: of a text file: a hundred thousand rows have less


def read_text(path, most=MOST_BYTES, otherwise=None):
    """The text of a file, UTF-8 with or without a mark at its beginning.

    otherwise : the encoding where it is not UTF-8

    Raises
    ------
    UmbrateError
        Where it cannot be read, is larger than `most` bytes, or is no text.
    """
    path = Path(path)
    try:
        if not path.is_file():
            raise UmbrateError(f"{path} cannot be read: it {'is no file' if path.exists() else 'does not exist'}.")
        with open(path, "rb") as f:
            data = f.read(most + 1)
    except (OSError, ValueError) as e:
        raise UmbrateError(f"{path} cannot be read ({getattr(e, 'strerror', None) or e}).") from None
    if len(data) > most:
        raise UmbrateError(f"{path} has more than {most // 1_000_000} MB: it is not what it should be.")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as e:
        if otherwise:
            return data.decode(otherwise)
        raise UmbrateError(f"{path} is no text in UTF-8 (byte {e.start:,}). Save it anew as UTF-8.") from None


def read_json(path, most=MOST_BYTES):
    """What a JSON file holds; raises UmbrateError as `read_text`, and where it is no JSON."""
    try:
        return json.loads(read_text(path, most))
    except (ValueError, RecursionError) as e:
        raise UmbrateError(f"{path} is not whole, or no JSON ({e}).") from None
