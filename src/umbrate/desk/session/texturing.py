"""The texture of the chosen sitting: read beside the window, how it is looked at, and where a place is from.

Part of the session: the scene draws it, the bench lists its photos.
"""

import colorsys
from typing import NamedTuple

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from ...core.errors import UmbrateError
from ...core.raster.coloring import FILLED
from ...core.raster.textured import pages_of, sampled
from ...core.surface.mesh import opposite
from ...sitting.frames import load_block
from ...sitting.textures import shares_of, taken_at, texture_source
from ...stages.base import Shown
from .surfaces import Coarse, coarse_of

PHOTOS, SOURCES, SHAPE = "photos", "sources", "shape"
LOOKS = {PHOTOS: "Texture", SOURCES: "From which photo", SHAPE: "The surface"}
WHOLE = 250_000  #: triangles: a larger surface moves as a coarse copy
GOLDEN = 0.61803398875


class Textured(NamedTuple):
    """A textured surface as the scene draws it.

    Attributes
    ----------
    arrays : dict
    pages : Pages
    closed : bool
    shares : list of (photo id, share of the area)
    moving : Coarse or None
        A coarse copy, of large ones.
    moving_colors : (n, 3) uint8 or None
    """

    arrays: dict
    pages: object
    closed: bool
    shares: list
    moving: Coarse | None
    moving_colors: np.ndarray | None


def read_textured(source):
    """The Textured of a TextureSource, in any thread."""
    arrays, pages = source.read(), pages_of(source.texels())
    closed = bool((opposite(arrays["faces"], len(arrays["points"])) >= 0).all())
    moving = colors = None
    if len(arrays["faces"]) > WHOLE:
        moving = coarse_of(arrays)
        colors = sampled(arrays, pages)[moving.rows]
    return Textured(arrays, pages, closed, shares_of(arrays), moving, colors)


class TextureWork(QObject):
    """The texture that is shown.

    Attributes
    ----------
    look : PHOTOS, SOURCES or SHAPE
    asked : Taken or None
        Where the place that was clicked last is from.
    """

    changed = pyqtSignal()  #: it was read, is looked at in another way, or was asked about a place

    def __init__(self, session):
        super().__init__()
        self.session = session
        self.look, self.asked = PHOTOS, None
        self._key = self._coming = self._made = self._tint = None
        session.job_changed.connect(self._other)
        session.document_changed.connect(self._other)
        session.chosen_changed.connect(self._other)

    @property
    def result(self):
        """The Texture result of the chosen sitting, or None."""
        s = self.session
        return s.result("texture") if s.job and s.sitting_id else None

    @property
    def on(self):
        """Whether the scene shows it in the place of the surface."""
        return self.session.job is not None and self.session.shows(Shown.TEXTURE) and self.result is not None

    @property
    def drawn(self):
        """Whether it is drawn, and not the surface."""
        return self.on and self.look != SHAPE

    @property
    def coming(self):
        """Whether it is being read."""
        return self._coming is not None

    @property
    def is_read(self):
        """Whether it is there to be drawn."""
        return self._made is not None and self._key == self.key()

    def key(self):
        """What it depends on."""
        done = self.result
        return None if done is None else (done.id, *self.session.frame_key)

    def _other(self):
        key = self.key()
        if key != self._key and key != self._coming:
            self._key = self._coming = self._made = self._tint = self.asked = None

    def at_hand(self):
        """The Textured where it is there; else None, and it is read: `changed` tells."""
        key = self.key()
        if key is None or self._key == key:
            return self._made if key is not None else None
        if self._coming != key:
            self._coming = key
            source = texture_source(self.session.job, self.session.sitting, self.result)
            self.session.in_background(
                lambda: read_textured(source), lambda made: self._came(key, made), lambda e: self._failed(key, e)
            )
        return None

    def _came(self, key, made):
        if key == self._coming:
            self._coming, self._key, self._made = None, key, made
            self.changed.emit()

    def _failed(self, key, sentence):
        if key == self._coming:
            self._coming, self._key, self._made = None, key, None
            self.session.said.emit(sentence, "bad")
            self.changed.emit()

    def set_look(self, look):
        """Look at it as the photos show it, by where it is from, or at the surface itself."""
        self.look = look
        self.changed.emit()

    def color_of(self, photo_id):
        """The color (3,) 0 to 255 of what is from a photo; orange where none shows it."""
        if photo_id < 0:
            return FILLED
        order = sorted(i for i, _ in self._made.shares if i >= 0) if self._made else [photo_id]
        k = order.index(photo_id) if photo_id in order else 0
        r, g, b = colorsys.hsv_to_rgb((0.55 + k * GOLDEN) % 1.0, 0.45 + 0.3 * (k % 2), 0.95)
        return round(255 * r), round(255 * g), round(255 * b)

    def tint(self):
        """Colors (t, 3) uint8 of triangles by their photos, or None where it is looked at as photos show it."""
        if self.look != SOURCES or self._made is None:
            return None
        if self._tint is None:
            ids = np.array(sorted(i for i, _ in self._made.shares), np.int64)
            table = np.array([self.color_of(int(i)) for i in ids], np.uint8)
            self._tint = table[np.searchsorted(ids, self._made.arrays["photo"])]
        return self._tint

    # ------------------------------------------------------------------ where it is from
    def ask(self, triangle, place):
        """Ask which photo a triangle is from: that photo is chosen, the place ringed in it."""
        s = self.session
        block = s.block if s.fragment == 0 else load_block(s.job, s.sitting)
        found = taken_at(block, self._made.arrays, place, triangle)
        self.asked = found
        if found.photo < 0:
            s.said.emit("No photo shows this place: its color is made up from round it.", "note")
        else:
            s.choose(photo_id=found.photo)
            s.looked_at.emit(*found.pixel)
            name = next((p.name for p in s.photos() if p.id == found.photo), "a photo that is gone")
            s.said.emit(f"This place is from {name}, where it is ringed.", "note")
        self.changed.emit()

    def left_out(self):
        """Names of the photos that the setting leaves out, in a list."""
        return [x.strip() for x in self.session.setting("texture", "leave_out").split(",") if x.strip()]

    def leave_out(self, name, out=True):
        """Let the next run take nothing from a photo, or take from it again."""
        names = [x for x in self.left_out() if x != name] + ([name] if out else [])
        if "," in name:
            raise UmbrateError(f"“{name}” has a comma in its name, which stands between names. Rename the photo.")
        self.session.edits.set_setting("texture", "leave_out", ", ".join(names))
