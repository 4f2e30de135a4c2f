"""Straightened photos: made once in a run, kept in its scratch folder, and read from there photo by photo.

What is asked for and not there is made anew from the photo: a run on another machine needs no pictures sent.
"""

import hashlib
import json
from typing import NamedTuple

import numpy as np

from ...core.dense.depth import NEIGHBOR_MARGIN, View, cropped
from ...core.dense.exposure import brightness
from ...core.imaging.sharpness import CELL, LUMA, focus, sharpness
from ...core.imaging.undistort import undistort
from ...job.blobs import BlobStore
from ...job.scratch import Scratch
from ...sitting.blocks import stored_block
from ...sitting.masks import decode_mask
from ...sitting.photos import PhotoRef, photo_picture
from ..executor import anywhere


class Shot(NamedTuple):
    """What a straightened photo is made from: keys and numbers."""

    photo: PhotoRef
    row: int  #: in the block
    mask: str | None  #: blob


class Source(NamedTuple):
    """Where the photos of a run come from, and where what is made of them goes."""

    blobs: str
    block: str  #: blob
    photo_scale: int
    scratch: Scratch


class Straight(NamedTuple):
    """A straightened photo, or the part of it that its mask leaves."""

    view: View
    colors: np.ndarray  #: (h, w, 3) uint8
    corner: tuple  #: first row and column of the part
    whole: tuple  #: rows and columns of the photo

    @property
    def frame(self):
        """The photo's frame from the first pixel of the part: left, top, right, bottom."""
        (y, x), (h, w) = self.corner, self.whole
        return -x, -y, w - x, h - y


class Told(NamedTuple):
    """What is told of a straightened photo, without its pixels."""

    size: tuple  #: rows and columns of the part
    used: int  #: pixels of it that the mask leaves
    K: np.ndarray  #: (3,) of the part
    corner: tuple
    sharpness: float
    focus: np.ndarray  #: of `focus`, of the whole photo
    brightness: np.ndarray  #: of `brightness`, at its tie points


def ties_of(source, shot):
    """The tie points (m, 3) that a photo sees."""
    b = stored_block(BlobStore(source.blobs), source.block)
    return b.points[b.point[b.photo == shot.row]]


@anywhere
def straighten(source, shot):
    """Work item: make the Straight of a photo and keep it; returns what is Told of it."""
    block = stored_block(BlobStore(source.blobs), source.block)
    mask = decode_mask(BlobStore(source.blobs).get_bytes(shot.mask), shot.photo) if shot.mask else None
    straight, inside, pinhole = undistort(photo_picture(shot.photo), mask, block.lens(shot.row), source.photo_scale)
    K, pose = np.array([pinhole.f, pinhole.cx, pinhole.cy]), block.poses[shot.row]
    whole = View(np.ascontiguousarray(straight @ LUMA), inside, K, pose)
    colors = np.round(straight).astype(np.uint8)
    del straight
    within = inside if mask is not None else None
    sharp, codes = sharpness(whole.gray, within), focus(whole.gray, within)
    bright = brightness(colors, whole.K, pose, ties_of(source, shot))
    # the rest of the photo is never looked at again; cells of focus begin where the part does
    view, y, x = cropped(whole, NEIGHBOR_MARGIN, CELL)
    h, w = view.gray.shape
    numbers = np.array([*view.K, y, x, *whole.gray.shape])
    source.scratch.put(_name(source, shot), view.gray, view.mask, colors[y : y + h, x : x + w], numbers)
    return Told((h, w), int(view.mask.sum()), view.K, (y, x), sharp, codes, bright)


def straight(source, shot):
    """The Straight of a photo, mapped from the scratch folder; made where it is not there."""
    name = _name(source, shot)
    kept = source.scratch.get(name)
    if kept is None:
        straighten(source, shot)
        kept = source.scratch.get(name)
    gray, mask, colors, numbers = kept
    block = stored_block(BlobStore(source.blobs), source.block)
    y, x, h, w = map(int, numbers[3:])
    return Straight(View(gray, mask, numbers[:3], block.poses[shot.row]), colors, (y, x), (h, w))


def _name(source, shot):
    text = json.dumps([source.block, source.photo_scale, shot.photo.hash, shot.photo.id, shot.row, shot.mask])
    return hashlib.sha256(text.encode()).hexdigest()[:40]
