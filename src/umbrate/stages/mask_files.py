"""Masks as files and as blobs: reading what people made elsewhere, storing what the job uses."""

import io
import struct
import zlib
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image

from ..core.errors import UmbrateError
from ..core.imaging.decode import display_orientation, read_alpha, read_mask, read_reduced
from ..core.imaging.sharpness import LONGEST, gray_of, sharpness
from ..job.blobs import BlobStore
from .base import problem

SILHOUETTE_PX = 192  #: longer side of the small picture of a mask
WHOLE = "Its whole picture is used."


@dataclass(frozen=True)
class Made:
    """What comes of one photo's mask.

    Attributes
    ----------
    mask, silhouette : str or None
        Blob keys of the mask and of a small upright picture of it; None where the photo has no mask.
    sharpness : float or None
        How sharp the photo is inside its mask.
    area, edge : int
        Pixels inside it, and how many of them lie on the picture's edge.
    trouble : dict or None
        The problem (see `base.problem`).
    """

    mask: str | None = None
    silhouette: str | None = None
    sharpness: float | None = None
    area: int = 0
    edge: int = 0
    trouble: dict | None = None


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


def store_mask(blobs, photo, mask):
    """Store a photo's mask (h, w) bool and its silhouette; returns a Made."""
    step = max(1, max(mask.shape) // SILHOUETTE_PX)
    small = display_orientation(mask[::step, ::step], photo.orientation)
    picture, halvings = read_reduced(photo.path, LONGEST)
    gray = gray_of(picture)
    inside = mask[:: 2**halvings, :: 2**halvings][: gray.shape[0], : gray.shape[1]]
    edge = mask[0].sum() + mask[-1].sum() + mask[:, 0].sum() + mask[:, -1].sum()
    store = BlobStore(blobs)
    return Made(
        mask=store.put_bytes(encode_mask(mask)),
        silhouette=store.put_bytes(encode_mask(small)),
        sharpness=sharpness(gray, inside),
        area=int(mask.sum()),
        edge=int(edge),
    )


def without(photo, text, hint):
    """A Made without a mask, and why."""
    return Made(trouble=problem(photo, text, hint))


def mask_from_file(blobs, settings, photo):
    """Work item: the Made of the mask file that goes with a photo."""
    folder = Path(settings.folder)
    file = folder / settings.pattern.replace("{name}", Path(photo.name).stem)
    if not file.is_file():
        return without(
            photo,
            f"{photo.name} has no mask: {file.name} is not in {folder.name}.",
            f"{WHOLE} Rename the mask or change the file name pattern.",
        )
    try:
        mask = read_mask(file)
    except UmbrateError as e:
        return without(photo, str(e), WHOLE)
    if mask.shape != (photo.height, photo.width):
        return without(
            photo,
            f"The mask {file.name} is {mask.shape[1]} x {mask.shape[0]} pixels, its photo {photo.width} x "
            f"{photo.height}.",
            f"{WHOLE} Export the mask at the photo's own size, unturned.",
        )
    if not settings.white_is_object:
        mask = ~mask
    if not mask.any():
        return without(
            photo,
            f"The mask {file.name} is empty: it leaves nothing of {photo.name}.",
            f"{WHOLE} Is black the object? Then switch that setting.",
        )
    return store_mask(blobs, photo, mask)


def mask_from_alpha(blobs, settings, photo):
    """Work item: the Made of a photo's own alpha channel."""
    try:
        mask = read_alpha(photo.path)
    except UmbrateError as e:
        return without(photo, str(e), WHOLE)
    if mask is None:
        return without(photo, f"{photo.name} has no alpha channel.", f"{WHOLE} Choose another way to make its mask.")
    return store_mask(blobs, photo, mask if settings.white_is_object else ~mask)
