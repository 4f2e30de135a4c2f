"""From a file to pixels and facts: the only place where photos and masks are read.

Pixels are those of the sensor: the EXIF orientation is reported, not applied, so that lens and
poses mean the same for portrait and landscape shots.
"""

from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import numpy as np
from PIL import Image, UnidentifiedImageError

from ..errors import UmbrateError

PHOTO_SUFFIXES = {".jpg", ".jpeg", ".png", ".tif", ".tiff"}
MASK_SUFFIXES = {".png", ".tif", ".tiff"}
Image.MAX_IMAGE_PIXELS = 400_000_000


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


def _number(value):
    try:
        x = float(value)
    except (TypeError, ValueError, ZeroDivisionError):
        return None
    return x if np.isfinite(x) and x > 0 else None


def _text(value):
    return str(value).replace("\x00", "").strip() if value else ""


def _open(path):
    path = Path(path)
    try:
        if path.stat().st_size == 0:
            raise UmbrateError(f"{path.name} is empty (0 bytes). Copy it from the card again or leave it out.")
        return Image.open(path)
    except FileNotFoundError:
        raise UmbrateError(f"{path.name} is not in {path.parent}. Was it moved or renamed?") from None
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError) as e:
        raise UmbrateError(f"{path.name} cannot be read as a picture. Copy it again or leave it out. ({e})") from None


def read_facts(path):
    """Size and EXIF facts of a photo without decoding its pixels.

    Raises
    ------
    UmbrateError
        When the file is missing, empty or no picture.
    """
    with _open(path) as image:
        try:
            exif = image.getexif()
            ifd = exif.get_ifd(0x8769)
        except Exception:  # a broken EXIF block must not cost the photo
            exif, ifd = {}, {}
        taken = None
        for raw in (ifd.get(0x9003), exif.get(0x0132)):
            try:
                taken = taken or datetime.strptime(_text(raw), "%Y:%m:%d %H:%M:%S").isoformat()
            except ValueError:
                continue
        orientation = exif.get(0x0112, 1)
        return PhotoFacts(
            image.width,
            image.height,
            orientation if orientation in range(1, 9) else 1,
            _text(exif.get(0x010F)),
            _text(exif.get(0x0110)),
            _text(ifd.get(0xA434)),
            _number(ifd.get(0x920A)),
            _number(ifd.get(0xA405)),
            taken,
        )


def _eight_bit(image):
    """Any PIL mode to (h, w, 3) uint8."""
    if image.mode in ("I;16", "I;16B", "I;16L", "I", "F"):
        a = np.asarray(image).astype(np.float64)
        if image.mode == "F":
            a = a * (255.0 if a.size == 0 or a.max() <= 1.0 else 1.0)
        else:
            a = a / 257.0
        return np.repeat(np.clip(np.round(a), 0, 255).astype(np.uint8)[..., None], 3, axis=2)
    return np.asarray(image.convert("RGB"))


def read_picture(path):
    """Pixels of a photo, (h, w, 3) uint8, sRGB, sensor orientation.

    16-bit, grey, CMYK and palette pictures are converted; an alpha channel is dropped.

    Raises
    ------
    UmbrateError
        When the file is missing, empty, cut short or no picture.
    """
    with _open(path) as image:
        try:
            return np.ascontiguousarray(_eight_bit(image))
        except (OSError, ValueError, SyntaxError, EOFError) as e:
            raise UmbrateError(
                f"{Path(path).name} is damaged or cut short and cannot be decoded. "
                f"Copy it from the card again or leave it out. ({e})"
            ) from None


def read_thumbnail(path, size=256):
    """A small picture of a photo, upright for people: (h, w, 3) uint8, `size` on the longer side."""
    from PIL import ImageOps

    with _open(path) as image:
        try:
            image.draft("RGB", (size * 2, size * 2))
            image = ImageOps.exif_transpose(image)
            image.thumbnail((size, size)) if image.mode in ("RGB", "L") else None
            small = Image.fromarray(_eight_bit(image))
            small.thumbnail((size, size))
            return np.ascontiguousarray(np.asarray(small))
        except (OSError, ValueError, SyntaxError, EOFError) as e:
            raise UmbrateError(f"{Path(path).name} is damaged or cut short and cannot be decoded. ({e})") from None


def read_mask(path):
    """A mask as (h, w) bool, true where the object is (white, or opaque where there is an alpha channel)."""
    with _open(path) as image:
        try:
            if image.mode in ("LA", "RGBA", "PA"):
                alpha = np.asarray(image.getchannel("A"))
                if alpha.min() < 255:
                    return alpha >= 128
            return (
                _eight_bit(image)[..., 0] >= 128
                if image.mode.startswith("I")
                else np.asarray(image.convert("L")) >= 128
            )
        except (OSError, ValueError, SyntaxError, EOFError) as e:
            raise UmbrateError(
                f"{Path(path).name} is damaged or cut short and cannot be read as a mask. ({e})"
            ) from None


def read_alpha(path):
    """The alpha channel of a picture as a mask (h, w) bool, true where it is opaque; None where it has none."""
    with _open(path) as image:
        try:
            if image.mode not in ("LA", "RGBA", "PA"):
                return None
            return np.asarray(image.getchannel("A")) >= 128
        except (OSError, ValueError, SyntaxError, EOFError) as e:
            raise UmbrateError(f"{Path(path).name} is damaged or cut short and cannot be decoded. ({e})") from None


def display_orientation(picture, orientation):
    """A sensor picture (h, w, ...) turned for people by its EXIF orientation 1 to 8."""
    a = picture
    if orientation in (2, 4, 5, 7):
        a = a[:, ::-1]
    turns = {3: 2, 4: 2, 5: 1, 6: 3, 7: 3, 8: 1}.get(orientation, 0)
    return np.ascontiguousarray(np.rot90(a, turns))
