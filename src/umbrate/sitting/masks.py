"""The masks of a sitting's photos: which are in force, and how a mask is stored.

A mask tells three kinds of place apart: the object, what turns with it (the disc, a mat, foam: used to solve the
photos, never as the object), and what stands still or is left out.
"""

import struct
import zlib
from dataclasses import dataclass

import numpy as np

from ..core.errors import UmbrateError
from ..core.imaging.decode import stored_image

STILL, TURNS, THING = range(3)  #: kinds of place: left out, turns with the object, the object
#: gray levels of the kinds in a mask's file: cut in the middle, as others read it, it shows the object
LEVELS = np.array([0, 64, 255], np.uint8)


def _png_part(kind, data):
    return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))


def encode_mask(mask):
    """A mask as PNG bytes: (h, w) bool in 1 bit, kinds of place (h, w) uint8 in gray levels.

    Written here: of a 24-megapixel mask the picture library takes 80 ms, which a stroke of the hand would
    have to wait for.
    """
    h, w = mask.shape
    if mask.dtype != bool and not (mask == TURNS).any():
        mask = mask == THING
    packed, bits = (np.packbits(mask, axis=1), 1) if mask.dtype == bool else (LEVELS[mask], 8)
    rows = np.zeros((h, 1 + packed.shape[1]), np.uint8)  # each row begins with its filter: none
    rows[:, 1:] = packed
    head = struct.pack(">IIBBBBB", w, h, bits, 0, 0, 0, 0)
    body = zlib.compress(rows.tobytes(), 1)
    return b"\x89PNG\r\n\x1a\n" + _png_part(b"IHDR", head) + _png_part(b"IDAT", body) + _png_part(b"IEND", b"")


def _gray(image):
    return np.asarray(image if image.mode == "L" else image.convert("L"))


def _image(data, of):
    image = stored_image(data)
    if of is not None and image.size != (of.width, of.height):
        raise UmbrateError(
            f"A mask that the job keeps is {image.width} x {image.height} pixels, its photo {of.width} x {of.height}. "
            "Run Masks again.",
            ("go to", "masks"),
        )
    return image


def decode_mask(data, of=None):
    """Where a stored mask shows the object, (h, w) bool.

    of : Photo or Lens, optional
        Whose width and height it must have.

    Raises
    ------
    UmbrateError
        Where it is damaged, or of another size.
    """
    image = _image(data, of)
    return np.array(image, dtype=bool) if image.mode == "1" else _gray(image) > 127


def decode_kinds(data, of=None):
    """The kinds of place (h, w) uint8 of a stored mask: the inverse of `encode_mask`; see `decode_mask`."""
    image = _image(data, of)
    if image.mode == "1":
        return np.array(image, dtype=bool) * np.uint8(THING)
    a = _gray(image)
    return (a > 31).astype(np.uint8) + (a > 127)


def tells_turning(data):
    """Whether a stored mask says what turns with the object: it has more than one bit then."""
    return len(data) > 24 and data[24] > 1


def only_thing(thing):
    """Kinds of place (h, w) uint8 from where the object is alone."""
    return np.left_shift(np.asarray(thing, bool).view(np.uint8), np.uint8(1))  # STILL is 0, THING 2


def with_turning(thing, turns):
    """Kinds of place (h, w) uint8 from where the object is and where what turns with it is; the object comes first."""
    out = only_thing(thing)
    return np.maximum(out, np.asarray(turns, bool).view(np.uint8), out=out)  # TURNS is 1


@dataclass(frozen=True)
class PackedMask:
    """A mask to be asked at single pixels, an eighth of its size in memory.

    Attributes
    ----------
    shape : (height, width)
    bits : (height, ceil(width / 8)) uint8
    """

    shape: tuple
    bits: np.ndarray

    @classmethod
    def of(cls, mask):
        """That of a mask (h, w) bool."""
        return cls(mask.shape, np.packbits(mask, axis=1))

    def at(self, x, y):
        """Whether pixels (n,) int lie in the picture, and inside the mask: two arrays (n,) bool."""
        h, w = self.shape
        there = (x >= 0) & (y >= 0) & (x < w) & (y < h)
        inside = np.zeros(len(x), bool)
        x, y = x[there], y[there]
        inside[there] = self.bits[y, x >> 3] >> (7 - (x & 7)) & 1
        return there, inside


def soft_edges(job, sitting):
    """Pixels of the soft edge of the masks in force, by photo id; photos without one are left out."""
    out = {}
    for i in job.members(sitting.id):
        done = job.result(i, "masks")
        if done and getattr(done.figures, "soft_edge", 0):
            out |= {p.id: done.figures.soft_edge for p in job.photos(i)}
    return out


def mask_blobs(job, sitting):
    """Blob keys of the masks in force, by photo id: those drawn by hand before those of the stage."""
    done = job.result(sitting.id, "masks")
    made = {p: b for (n, p), b in done.artefacts.items() if n == "mask"} if done else {}
    return {**made, **job.hand_masks(sitting.id)}


def thing_blobs(job, sitting):
    """What the object's outline in each mask in force is known by, by photo id: a key that stays as it is when only
    what turns with the object is marked in another way."""
    done = job.result(sitting.id, "masks")
    things = done.figures.things if done else {}
    hand = job.hand_masks(sitting.id)
    return {i: things.get(i, key) if i not in hand else key for i, key in mask_blobs(job, sitting).items()}
