"""Lens cards: stored calibrations, one JSON file each, and the user's shelf of them.

Described in docs/formats.md. A card is recognized by what the photos' files say: camera, lens, size and focal length.
It is never applied to photos of another camera or size.
"""

import json
import math
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import platformdirs

from ..core.errors import UmbrateError, WouldReplace
from ..core.geometry.lens import PARAMETER_NAMES, Lens
from ..core.names import file_name, plain_name
from .files import CLOSED, Gate, make_folder, written_aside
from .reading import read_text

MOST_CARD = 1_000_000  #: bytes of a card: one has two thousand

FORMAT, VERSION = "umbrate-lens-card", 1
FOCUS_SHARE = 1.2  #: cameras write the focus distance roughly
FOCAL_SHARE = 0.005  #: focal lengths that differ by less than this are one


@dataclass(frozen=True)
class LensCard:
    """A calibration of one camera body and lens at one focus setting.

    Attributes
    ----------
    name : str
    camera, lens_name : str
        As EXIF writes them; empty where it is silent.
    focal_mm : float or None
    lens : Lens
    sigma : dict of parameter name to float
        Standard deviations; those that were fixed are not in it.
    date : str
        ISO date of the calibration.
    photos, sightings : int
    rms_px : float
    notes : list of str
        What was less certain.
    focus_m : float or None
        Distance the lens was focused at, where the photos' files said so.
    """

    name: str
    camera: str
    lens_name: str
    focal_mm: float | None
    lens: Lens
    sigma: dict
    date: str
    photos: int
    sightings: int
    rms_px: float
    notes: list = field(default_factory=list)
    focus_m: float | None = None

    def as_dict(self):
        """The document that is written."""
        return {
            "format": FORMAT,
            "version": VERSION,
            "name": self.name,
            "camera": self.camera,
            "lens_name": self.lens_name,
            "focal_mm": self.focal_mm,
            "lens": self.lens.as_dict(),
            "sigma": self.sigma,
            "date": self.date,
            "photos": self.photos,
            "sightings": self.sightings,
            "rms_px": self.rms_px,
            "notes": self.notes,
            "focus_m": self.focus_m,
        }

    def fits(self, photo):
        """Whether a photo was taken with this camera and lens, as far as its file tells.

        photo : anything with camera, lens, focal_mm, width, height
        """
        return not self.differs(photo)

    def differs(self, photo):
        """In what a photo's file differs from the card: a list of words, empty where it fits."""
        out = []
        if (photo.width, photo.height) != (self.lens.width, self.lens.height):
            out.append(f"the picture is {photo.width} x {photo.height}, not {self.lens.width} x {self.lens.height}")
        if not self.camera or photo.camera != self.camera:
            out.append(f"the camera is {photo.camera or 'unknown'}, not {self.camera or 'known'}")
        if self.lens_name and photo.lens and photo.lens != self.lens_name:
            out.append(f"the lens is {photo.lens}, not {self.lens_name}")
        if (self.focal_mm is None) != (photo.focal_mm is None) or (
            self.focal_mm and abs(photo.focal_mm / self.focal_mm - 1) > FOCAL_SHARE
        ):
            out.append(f"the focal length is {photo.focal_mm or 'unknown'}, not {self.focal_mm or 'unknown'} mm")
        return out

    def contradicts(self, photo):
        """In what a photo's file says otherwise than the card; what it does not say contradicts nothing."""
        return [
            w for w in self.differs(photo)
            if not (w.startswith("the camera") and not photo.camera)
            and not (w.startswith("the focal length") and photo.focal_mm is None)
        ]  # fmt: skip

    def focused_elsewhere(self, photo):
        """Whether a photo's file tells of another focus distance than the card's, at which a lens bends otherwise."""
        if not self.focus_m or not photo.focus_m:
            return False
        return not 1 / FOCUS_SHARE < photo.focus_m / self.focus_m < FOCUS_SHARE


def card_from_dict(document, where="The lens card"):
    """The LensCard of a document.

    Raises
    ------
    UmbrateError
        When it is none, or one of a newer version.
    """
    try:
        if document["format"] != FORMAT:
            raise KeyError
        if document["version"] > VERSION:
            raise UmbrateError(f"{where} was written by a newer version of Umbrate. Update Umbrate to read it.")
        lens = Lens.from_dict(document["lens"])
        values = np.array([lens.width, lens.height, *lens.vector], float)
        if not (np.isfinite(values).all() and 1 <= lens.width <= 1e6 and 1 <= lens.height <= 1e6 and lens.f > 0):
            raise ValueError
        sigma = {k: _number(v) for k, v in document["sigma"].items() if k in PARAMETER_NAMES}
        return LensCard(
            plain_name(document["name"], "A lens card"), str(document["camera"]), str(document["lens_name"]),
            _or_none(document["focal_mm"]), lens, sigma, str(document["date"]), int(_number(document["photos"])),
            int(_number(document["sightings"])), _number(document["rms_px"]),
            [str(x) for x in document.get("notes", [])], _or_none(document.get("focus_m")),
        )  # fmt: skip
    except (KeyError, TypeError, ValueError, AttributeError, OverflowError):
        raise UmbrateError(f"{where} is no lens card, or it is damaged. Export it again where it came from.") from None


def _number(value):
    """A finite number that is not negative, as float; ValueError else, also where a text stands for one."""
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value) or value < 0:
        raise ValueError(value)
    return float(value)


def _or_none(value):
    return None if value is None else _number(value)


def read_card(path):
    """Read a lens card."""
    path = Path(path)
    text = read_text(path, MOST_CARD)
    try:
        document = json.loads(text)
    except (ValueError, RecursionError):
        document = None
    return card_from_dict(document, path.name)


def write_card(path, card, gate=CLOSED):
    """Write a lens card."""
    with written_aside(path, gate) as temporary:
        temporary.write_text(json.dumps(card.as_dict(), indent=1, ensure_ascii=False), encoding="utf-8")


def shelf_folder():
    """Where the user's lens cards are."""
    return Path(platformdirs.user_data_dir("umbrate", appauthor=False)) / "lens-cards"


def _card_files():
    folder = shelf_folder()
    try:
        return sorted(folder.glob("*.json")) if folder.is_dir() else []
    except OSError:
        return []


def shelf():
    """(path, LensCard) of all cards on the shelf, newest first; for damaged files see `damaged_cards`."""
    out = []
    for file in _card_files():
        try:
            out.append((file, read_card(file)))
        except UmbrateError:
            continue
    return sorted(out, key=lambda x: (x[1].date, x[1].name), reverse=True)


def damaged_cards():
    """(path, sentence) of the files on the shelf that are no lens cards; they are passed over and can be taken off."""
    out = []
    for file in _card_files():
        try:
            read_card(file)
        except UmbrateError as e:
            out.append((file, str(e)))
    return out


def check_shelf(name, replace=False):
    """The file of the card of that name on the shelf, or None; raises WouldReplace where it must not be replaced."""
    file = next((f for f, c in shelf() if c.name == plain_name(name, "A lens card")), None)
    if file and not replace:
        raise WouldReplace(f"A lens card “{name}” is on the shelf already. Nothing was changed.", paths=[file])
    return file


def put_on_shelf(card, replace=False):
    """Keep a card on the shelf; returns its file.

    Raises
    ------
    WouldReplace
        Where one of the same name is there and `replace` is False.
    """
    folder, there = shelf_folder(), check_shelf(card.name, replace)
    make_folder(folder)
    file = there or folder / f"{file_name(card.name, {f.stem.lower() for f in _card_files()})}.json"
    write_card(file, card, Gate(replace=there is not None))
    return file


def take_off_shelf(file):
    """Remove a card from the shelf; results that were made with it keep it."""
    try:
        Path(file).unlink(missing_ok=True)
    except OSError as e:
        raise UmbrateError(f"{Path(file).name} cannot be removed ({e.strerror}).") from e
