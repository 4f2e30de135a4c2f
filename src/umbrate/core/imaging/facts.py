"""What a photo's file says of it, apart from its pixels."""

from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import numpy as np

from ..errors import UmbrateError
from ..memory import free_memory

LEAST_SIDE = 16  #: pixels
MOST_TEXT = 200  #: characters of what a file says of its camera
BYTES = 8  #: of memory that reading a pixel takes at most


@dataclass(frozen=True)
class PhotoFacts:
    """What a photo's file says of it. Focal lengths are None where the file is silent."""

    width: int
    height: int
    orientation: int = 1
    make: str = ""
    model: str = ""
    lens: str = ""
    focal_mm: float | None = None
    focal_35mm: float | None = None
    taken: str | None = None
    exposure_s: float | None = None
    f_number: float | None = None
    iso: float | None = None
    focus_m: float | None = None  #: distance the lens was focused at, where the camera writes it

    @property
    def focal_px(self):
        """Focal length in pixels from the 35 mm equivalent (by diagonal), or None."""
        if not self.focal_35mm:
            return None
        return float(self.focal_35mm * np.hypot(self.width, self.height) / np.hypot(36.0, 24.0))

    @property
    def camera(self):
        """Make and model in one line."""
        return self.model if self.model.startswith(self.make) else f"{self.make} {self.model}".strip()


def number(value):
    try:
        x = float(value)
    except (TypeError, ValueError, ZeroDivisionError):
        return None
    return x if np.isfinite(x) and x > 0 else None


def first_of(value):
    """The first of several values that a tag holds, where it holds several."""
    return value[0] if isinstance(value, tuple) and value else value


def text(value):
    """A text of a file in one line; bytes are read as Latin-1, and control signs left out."""
    if isinstance(value, bytes):
        value = value[: 2 * MOST_TEXT].decode("latin-1")
    return "".join(c for c in str(value)[: 2 * MOST_TEXT] if c.isprintable()).strip()[:MOST_TEXT] if value else ""


def exposure_text(exposure_s, f_number, iso):
    """Exposure in the words of the trade, such as "1/60 s f/16 ISO 100"; what is unknown is left out."""
    time = ""
    if exposure_s:
        time = f"1/{round(1 / exposure_s)} s" if exposure_s < 0.3 else f"{exposure_s:.3g} s"
    return " ".join(x for x in (time, f"f/{f_number:.3g}" if f_number else "", f"ISO {iso:.0f}" if iso else "") if x)


def moment(value):
    """A time as EXIF writes it, in ISO form, or None."""
    try:
        return datetime.strptime(text(value), "%Y:%m:%d %H:%M:%S").isoformat()
    except ValueError:
        return None


def check_size(path, size):
    """Raise where a picture is no photo by its size, or would not fit into the memory that is free."""
    width, height = size
    if min(width, height) < LEAST_SIDE:
        raise UmbrateError(
            f"{Path(path).name} is {width} x {height} pixels: too narrow for a photo, which has {LEAST_SIDE} or more a "
            "side. Leave it out."
        )
    if width * height * BYTES > free_memory():
        raise UmbrateError(
            f"{Path(path).name} has {width * height / 1e6:.0f} megapixels, more than the free memory holds. Close "
            "other programs, or leave it out."
        )
