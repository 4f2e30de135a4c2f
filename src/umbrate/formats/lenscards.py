"""Lens cards: stored calibrations, one JSON file each, and the user's shelf of them.

Described in docs/formats.md. A card is recognized by what the photos' files say: camera, lens, size and focal length.
It is never applied to photos of another camera or size.
"""

import json
import re
from dataclasses import dataclass, field
from pathlib import Path

import platformdirs

from ..core.errors import UmbrateError
from ..core.geometry.lens import PARAMETER_NAMES, Lens
from .files import written_aside

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
        sigma = {k: float(v) for k, v in document["sigma"].items() if k in PARAMETER_NAMES}
        return LensCard(
            str(document["name"]), str(document["camera"]), str(document["lens_name"]), document["focal_mm"], lens,
            sigma, str(document["date"]), int(document["photos"]), int(document["sightings"]),
            float(document["rms_px"]), [str(x) for x in document.get("notes", [])],
            None if document.get("focus_m") is None else float(document["focus_m"]),
        )  # fmt: skip
    except (KeyError, TypeError, ValueError, AttributeError):
        raise UmbrateError(f"{where} is no lens card, or it is damaged. Export it again where it came from.") from None


def read_card(path):
    """Read a lens card."""
    path = Path(path)
    try:
        document = json.loads(path.read_text(encoding="utf-8"))
    except OSError as e:
        raise UmbrateError(f"{path.name} cannot be read ({e.strerror}).") from e
    except ValueError:
        document = None
    return card_from_dict(document, path.name)


def write_card(path, card):
    """Write a lens card."""
    with written_aside(path) as temporary:
        temporary.write_text(json.dumps(card.as_dict(), indent=1, ensure_ascii=False), encoding="utf-8")


def shelf_folder():
    """Where the user's lens cards are."""
    return Path(platformdirs.user_data_dir("umbrate", appauthor=False)) / "lens-cards"


def shelf():
    """(path, LensCard) of all cards on the shelf, newest first; damaged files are passed over."""
    out = []
    folder = shelf_folder()
    for file in sorted(folder.glob("*.json")) if folder.is_dir() else ():
        try:
            out.append((file, read_card(file)))
        except UmbrateError:
            continue
    return sorted(out, key=lambda x: (x[1].date, x[1].name), reverse=True)


def put_on_shelf(card):
    """Keep a card on the shelf; one of the same name is replaced. Returns its file."""
    folder = shelf_folder()
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as e:
        raise UmbrateError(f"{folder} cannot be made ({e.strerror}).") from e
    name = re.sub(r"[^\w\-+. ]", "_", card.name).strip(". ") or "card"
    file = folder / f"{name}.json"
    write_card(file, card)
    return file


def take_off_shelf(file):
    """Remove a card from the shelf; results that were made with it keep it."""
    try:
        Path(file).unlink(missing_ok=True)
    except OSError as e:
        raise UmbrateError(f"{Path(file).name} cannot be removed ({e.strerror}).") from e
