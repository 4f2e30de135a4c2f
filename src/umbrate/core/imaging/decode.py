"""From a file to pixels and facts: the only place where photos and masks are read.

Pixels are those of the sensor: the EXIF orientation is reported, not applied, so that lens and
poses mean the same for portrait and landscape shots.
"""

import io
import warnings
from pathlib import Path

import numpy as np
import pillow_heif
from PIL import Image

from ..errors import UmbrateError
from ..memory import free_memory
from . import raw
from .facts import BYTES, PhotoFacts, check_size, first_of, moment, number, text

RAW_SUFFIXES = {".arw", ".cr2", ".cr3", ".dng", ".nef", ".orf", ".pef", ".raf", ".rw2"}
PHOTO_SUFFIXES = {".jpg", ".jpeg", ".png", ".tif", ".tiff", ".heic", ".heif"} | RAW_SUFFIXES
Image.MAX_IMAGE_PIXELS = 400_000_000
ROWS = 256
MOST_EXIF = 4 << 20  #: bytes
MOST_TIFF = 32 << 20  #: bytes beyond the pixels of a TIFF file whose EXIF is read
#: what is read, by content: others start programs, or read further files
FORMATS = ("JPEG", "PNG", "TIFF", "HEIF", "WEBP", "BMP", "GIF", "PPM")
pillow_heif.register_heif_opener()
# of a file with ten thousand damaged tags as many lines would be written; what matters of it is said in a sentence
warnings.filterwarnings("ignore", category=UserWarning, module=r"PIL\.")


def _open(path):
    path = Path(path)
    try:
        if path.stat().st_size == 0:
            raise UmbrateError(f"{path.name} is empty (0 bytes). Copy it from the card again or leave it out.")
        return Image.open(path, formats=FORMATS)
    except FileNotFoundError:
        raise UmbrateError(f"{path.name} is not in {path.parent}. Was it moved or renamed?", ("find photos",)) from None
    except UmbrateError:
        raise
    except Exception as e:  # of a broken file a decoder raises whatever it stumbles over
        raise UmbrateError(f"{path.name} cannot be read as a picture. Copy it again or leave it out. ({e})") from None


def read_facts(path):
    """Size and EXIF facts of a photo without decoding its pixels.

    Raises
    ------
    UmbrateError
        When the file is missing, empty or no picture.
    """
    if is_raw(path):
        return raw.read_facts(path)
    with _open(path) as image:
        check_size(path, image.size)
        try:
            exif, ifd = _tags_of(image)
        except Exception:  # a broken EXIF block must not cost the photo
            exif, ifd = {}, {}
        taken = moment(ifd.get(0x9003)) or moment(exif.get(0x0132))
        orientation = _decoded_turn(image) or exif.get(0x0112, 1)
        width, height = image.size
        if _decoded_turn(image) in (5, 6, 7, 8):
            width, height = height, width
        return PhotoFacts(
            width,
            height,
            orientation if orientation in range(1, 9) else 1,
            text(exif.get(0x010F)),
            text(exif.get(0x0110)),
            text(ifd.get(0xA434)),
            number(ifd.get(0x920A)),
            number(ifd.get(0xA405)),
            taken,
            number(ifd.get(0x829A)),
            number(ifd.get(0x829D)),
            number(first_of(ifd.get(0x8827))),
            number(ifd.get(0x9206)),
        )


def _tags_of(image):
    """EXIF tags of a picture, and those of its shot; none where they are larger than any camera writes.

    Tags become Python's objects, which take many times their bytes in the file.
    """
    stored = image.info.get("exif") or b""
    if len(stored) > MOST_EXIF:
        return {}, {}
    if image.format == "TIFF" and Path(image.filename).stat().st_size > MOST_TIFF + image.width * image.height * 16:
        return {}, {}
    exif = image.getexif()
    return exif, exif.get_ifd(0x8769)


def is_raw(path):
    """Whether a file is a camera raw file, by its ending."""
    return Path(path).suffix.lower() in RAW_SUFFIXES


def _decoded_turn(image):
    """The orientation a decoder has applied by itself (phones' HEIC files), or 0: it is taken back here."""
    turn = image.info.get("original_orientation") or 1
    return turn if turn in range(2, 9) else 0


def _eight_bit(image):
    """Any PIL mode to (h, w, 3) uint8."""
    if image.mode not in ("I;16", "I;16B", "I;16L", "I", "F"):
        return np.asarray(image if image.mode == "RGB" else image.convert("RGB"))
    a = np.asarray(image)
    scale = 1 / 257.0
    if image.mode == "F":
        scale = 255.0 if a.size == 0 or a.max() <= 1.0 else 1.0
    out = np.empty((*a.shape, 3), np.uint8)
    for k in range(0, len(a), ROWS):  # a stretch of rows at a time: in doubles the whole would take 26 bytes a pixel
        out[k : k + ROWS] = np.clip(np.round(a[k : k + ROWS] * scale), 0, 255).astype(np.uint8)[..., None]
    return out


def read_picture(path):
    """Pixels of a photo, (h, w, 3) uint8, sRGB, sensor orientation.

    16-bit, grey, CMYK and palette pictures are converted; an alpha channel is dropped.

    Raises
    ------
    UmbrateError
        When the file is missing, empty, cut short or no picture.
    """
    if is_raw(path):
        return raw.read_picture(path)
    with _open(path) as image:
        check_size(path, image.size)
        try:
            turn = _decoded_turn(image)
            picture = _eight_bit(image)
            # the inverse of a turn to the right is one to the left; all others are their own
            return display_orientation(picture, {6: 8, 8: 6}.get(turn, turn)) if turn else np.ascontiguousarray(picture)
        except Exception as e:
            raise _damaged(path, e) from None


def read_reduced(path, longest):
    """Pixels of a photo like `read_picture`, halved until the longer side is at most `longest`.

    A JPEG file is decoded at the smaller size, which takes a third of the time and still reads it to its end.

    Returns
    -------
    picture : (h, w, 3) uint8
        Pixel u covers the pixels 2**halvings u and those after it of the whole picture.
    halvings : int
    """
    image, halvings = read_reduced_image(path, longest)
    return np.ascontiguousarray(np.asarray(image)), halvings


def read_reduced_image(path, longest):
    """What `read_reduced` gives as an Image of the mode RGB: where no array is needed, a third of the time is saved."""
    if not is_raw(path):
        with _open(path) as image:
            width, height = image.size
            check_size(path, image.size)
            halvings = _halvings(image.size, longest)
            if image.format in ("JPEG", "MPO"):
                try:
                    if halvings:
                        image.draft("RGB", (width >> halvings, height >> halvings))
                    image.load()
                    image = image if image.mode == "RGB" else image.convert("RGB")
                except Exception as e:
                    raise _damaged(path, e) from None
                while image.width > max(1, -(-width // 2**halvings)):
                    image = _halved(image)
                size = max(1, width >> halvings), max(1, height >> halvings)
                return image if image.size == size else image.crop((0, 0, *size)), halvings
    image = Image.fromarray(read_picture(path))
    halvings = _halvings(image.size, longest)
    for _ in range(halvings):
        image = _halved(image)
    return image, halvings


def _halvings(size, longest):
    n = 0
    while max(size[:2]) >> n > longest:
        n += 1
    return n


def _halved(image):
    w, h = max(2, image.width // 2 * 2), max(2, image.height // 2 * 2)
    return image.crop((0, 0, w, h)).reduce(2)


def _damaged(path, error):
    return UmbrateError(
        f"{Path(path).name} is damaged or cut short and cannot be decoded. "
        f"Copy it from the card again or leave it out. ({error})"
    )


def thumbnail_of(picture, orientation, size=256):
    """A small picture (h, w, 3) uint8 of a picture, or of an Image, upright for people, `size` on the longer side."""
    image = picture if isinstance(picture, Image.Image) else Image.fromarray(picture)
    share = min(size / max(image.size), 1.0)
    small = image.resize(tuple(max(1, round(share * n)) for n in image.size), Image.BICUBIC, reducing_gap=2.0)
    return display_orientation(np.asarray(small), orientation)


def read_thumbnail(path, size=256):
    """A small picture of a photo, upright for people: (h, w, 3) uint8, `size` on the longer side."""
    return thumbnail_of(read_reduced(path, 2 * size)[0], read_facts(path).orientation, size)


def stored_image(data):
    """The Image, decoded, of a picture's bytes that a job keeps (PNG or JPEG).

    Raises
    ------
    UmbrateError
        Where they are damaged, or the picture would not fit into the memory that is free.
    """
    try:
        image = Image.open(io.BytesIO(data), formats=("PNG", "JPEG"))
        if image.width * image.height * BYTES > free_memory():
            raise ValueError(f"{image.width} x {image.height} pixels")
        image.load()
        return image
    except Exception as e:  # of a broken file a decoder raises whatever it stumbles over
        raise UmbrateError(
            f"A picture that the job keeps is damaged ({type(e).__name__}: {e}). Run the stage that made it again."
        ) from None


def read_mask(path):
    """A mask as (h, w) bool, true where the object is (white, or opaque where there is an alpha channel)."""
    with _open(path) as image:
        check_size(path, image.size)
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
        except Exception as e:
            raise UmbrateError(
                f"{Path(path).name} is damaged or cut short and cannot be read as a mask. ({e})"
            ) from None


FLAT = 0.002  #: of a mask's pixels: so many of that gray, among their like, are meant


def read_kinds(path):
    """The kinds of place in a mask file: (h, w) uint8, 0 left out, 1 turns with the object, 2 the object.

    White is the object, black is left out; dark gray of level 64 (62 to 66), in areas, turns with the object. Gray that
    only softens an outline is none: such a file is cut in the middle, as by `read_mask`.
    """
    thing = read_mask(path)
    with _open(path) as image:
        try:
            gray = np.asarray(image.convert("L")) if image.mode in ("L", "RGB", "P") else None
        except Exception as e:
            raise _damaged(path, e) from None
    if gray is not None:
        middle = (gray >= 62) & (gray <= 66)
        inner, c = middle[1:-1, 1:-1].copy(), gray[1:-1, 1:-1]
        for around in (gray[:-2, 1:-1], gray[2:, 1:-1], gray[1:-1, :-2], gray[1:-1, 2:]):
            inner &= around == c
        if inner.sum() >= FLAT * gray.size:
            return (gray > 31).astype(np.uint8) + (gray > 127)
    return thing * np.uint8(2)


def read_alpha(path):
    """The alpha channel of a picture as a mask (h, w) bool, true where it is opaque; None where it has none."""
    with _open(path) as image:
        check_size(path, image.size)
        try:
            if image.mode not in ("LA", "RGBA", "PA"):
                return None
            return np.asarray(image.getchannel("A")) >= 128
        except Exception as e:
            raise UmbrateError(f"{Path(path).name} is damaged or cut short and cannot be decoded. ({e})") from None


def display_orientation(picture, orientation):
    """A sensor picture (h, w, ...) turned for people by its EXIF orientation 1 to 8."""
    a = picture
    if orientation in (2, 4, 5, 7):
        a = a[:, ::-1]
    turns = {3: 2, 4: 2, 5: 1, 6: 3, 7: 3, 8: 1}.get(orientation, 0)
    return np.ascontiguousarray(np.rot90(a, turns))
