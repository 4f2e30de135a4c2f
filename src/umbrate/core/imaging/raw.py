"""Camera raw files: developed plainly, unturned.

The camera's white balance, no automatic brightness: photos of one object shall keep the same tone.
"""

from pathlib import Path

import numpy as np

from ..errors import UmbrateError
from ..later import Later
from .facts import PhotoFacts, check_size, first_of, moment, number, text

tifffile = Later("tifffile")

rawpy = Later("rawpy")

_ORIENTATION = {0: 1, 3: 3, 5: 8, 6: 6}  #: the decoder's flip to EXIF orientation


def _open(path):
    path = Path(path)
    if not path.is_file():
        raise UmbrateError(f"{path.name} is not in {path.parent}. Was it moved or renamed?")
    if path.stat().st_size == 0:
        raise UmbrateError(f"{path.name} is empty (0 bytes). Copy it from the card again or leave it out.")
    try:
        file = rawpy.imread(str(path))
        size = file.sizes.width, file.sizes.height
    except Exception as e:  # of a broken file a decoder raises whatever it stumbles over
        raise UmbrateError(f"{path.name} cannot be read as a raw photo. Copy it again or leave it out. ({e})") from None
    try:
        check_size(path, size)
    except UmbrateError:
        file.close()
        raise
    return file


def _tags(path):
    """EXIF tags by name; most raw files are TIFF inside, of the others nothing is known."""
    try:
        with tifffile.TiffFile(path) as file:
            found = {t.name: t.value for t in file.pages[0].tags.values()}
    except Exception:  # a raw file without readable tags is still a photo
        return {}
    return {**found, **(found.get("ExifTag") if isinstance(found.get("ExifTag"), dict) else {})}


def _ratio(value):
    return value[0] / value[1] if isinstance(value, tuple) and len(value) == 2 and value[1] else value


def read_facts(path):
    """The PhotoFacts of a raw file."""
    with _open(path) as file:
        s = file.sizes
        width, height, flip = s.width, s.height, s.flip
    tags = _tags(path)
    return PhotoFacts(
        width,
        height,
        _ORIENTATION.get(flip, 1),
        text(tags.get("Make")),
        text(tags.get("Model")),
        text(tags.get("LensModel")),
        number(_ratio(tags.get("FocalLength"))),
        number(tags.get("FocalLengthIn35mmFilm")),
        moment(tags.get("DateTimeOriginal")) or moment(tags.get("DateTime")),
        number(_ratio(tags.get("ExposureTime"))),
        number(_ratio(tags.get("FNumber"))),
        number(first_of(tags.get("ISOSpeedRatings") or tags.get("PhotographicSensitivity"))),
        number(_ratio(tags.get("SubjectDistance"))),
    )


def read_picture(path):
    """Pixels (h, w, 3) uint8, sRGB, unturned."""
    with _open(path) as file:
        try:
            picture = file.postprocess(use_camera_wb=True, no_auto_bright=True, output_bps=8, user_flip=0)
        except Exception as e:
            raise UmbrateError(
                f"{Path(path).name} is damaged or cut short and cannot be developed. "
                f"Copy it from the card again or leave it out. ({e})"
            ) from None
    picture = np.atleast_3d(picture)
    if picture.shape[2] == 1:  # of a camera without colors
        picture = np.repeat(picture, 3, axis=2)
    return np.ascontiguousarray(picture[:, :, :3])
