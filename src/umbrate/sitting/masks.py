"""The masks of a sitting's photos: which are in force, and how a mask is stored."""

import io
import struct
import zlib
from dataclasses import dataclass

import numpy as np
from PIL import Image


def _png_part(kind, data):
    return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))


def encode_mask(mask):
    """A mask (h, w) bool as 1-bit PNG bytes.

    Written here: of a 24-megapixel mask the picture library takes 80 ms, which a stroke of the hand would
    have to wait for.
    """
    h, w = mask.shape
    rows = np.zeros((h, 1 + (w + 7) // 8), np.uint8)  # each row begins with its filter: none
    rows[:, 1:] = np.packbits(mask, axis=1)
    head = struct.pack(">IIBBBBB", w, h, 1, 0, 0, 0, 0)
    body = zlib.compress(rows.tobytes(), 1)
    return b"\x89PNG\r\n\x1a\n" + _png_part(b"IHDR", head) + _png_part(b"IDAT", body) + _png_part(b"IEND", b"")


def decode_mask(data):
    """The inverse of `encode_mask`."""
    with Image.open(io.BytesIO(data)) as image:
        return np.array(image, dtype=bool)


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


def mask_blobs(job, sitting):
    """Blob keys of the masks in force, by photo id: those drawn by hand before those of the stage."""
    done = job.result(sitting.id, "masks")
    made = {p: b for (n, p), b in done.artefacts.items() if n == "mask"} if done else {}
    return {**made, **job.hand_masks(sitting.id)}
