"""The photos of a sitting as everything above reads them: which are in use, and what is in their files."""

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from ..core.errors import UmbrateError
from ..core.imaging.decode import PHOTO_SUFFIXES, read_picture, read_reduced_image, thumbnail_of
from ..core.names import printable
from ..job import elsewhere
from ..job.sittings import content_hash

QUARTERS = {3: 2, 6: 1, 8: 3}  #: quarter turns to the right that an EXIF orientation asks for


@dataclass(frozen=True)
class PhotoRef:
    """A photo as a stage sees it: enough to read it in another process."""

    id: int
    name: str
    path: str
    width: int
    height: int
    orientation: int
    camera: str
    focal_px: float | None
    hash: str = ""
    lens: str = ""
    focal_mm: float | None = None
    focus_m: float | None = None
    taken: str | None = None


def _in_use(job, sitting, usable_only):
    """The Photos of a sitting that are in use."""
    bad, missing = set(), set()
    done = job.result(sitting.id, "photos")
    if usable_only and done:
        bad, missing = set(done.figures.unreadable), set(done.figures.missing)
    # one that was not there when photos were looked at is usable as soon as it is found
    return [
        p
        for p in job.photos(sitting.id, aside=False)
        if p.id not in bad or (p.id in missing and job.file_state(p) == "here")
    ]


def photo_refs(job, sitting, usable_only=True):
    """The photos of a sitting that are in use: not set aside and, once looked at, readable."""
    out = []
    for p in _in_use(job, sitting, usable_only):
        focal = (
            p.focal_35mm * float(np.hypot(p.width, p.height)) / float(np.hypot(36.0, 24.0)) if p.focal_35mm else None
        )
        known = (p.width, p.height, p.orientation, p.camera, focal, p.hash, p.lens, p.focal_mm, p.focus_m, p.taken)
        out.append(PhotoRef(p.id, p.name, str(job.photo_path(p)), *known))
    return out


def photo_key(job, sitting, usable_only=True):
    """What a result depends on of the sitting's photos: which are in use, and what is in their files."""
    return [[p.id, p.hash] for p in _in_use(job, sitting, usable_only)]


def photo_files(folder):
    """The photo files directly in a folder, by name."""
    try:
        return sorted(
            p
            for p in Path(folder).iterdir()
            if p.suffix.lower() in PHOTO_SUFFIXES and p.is_file() and not p.name.startswith(".")
        )
    except OSError as e:
        raise UmbrateError(f"The folder {folder} cannot be read ({e.strerror}). Check its permissions.") from e


def find_photos(folder):
    """The photo files of a folder, by name.

    Raises
    ------
    UmbrateError
        When the folder is missing or holds no photos.
    """
    folder = Path(folder)
    try:
        is_folder, exists = folder.is_dir(), folder.exists()
    except (OSError, ValueError) as e:
        why = getattr(e, "strerror", None) or e
        raise UmbrateError(f"{printable(folder)[:80]} cannot be read ({why}). Check the name.") from e
    if not is_folder:
        what = "is a file, not a folder" if exists else "does not exist"
        raise UmbrateError(f"The folder {folder} {what}. Check the name, or give the folder the photos lie in.")
    files = photo_files(folder)
    if not files:
        kinds = ", ".join(sorted(s[1:].upper() for s in PHOTO_SUFFIXES))
        raise UmbrateError(f"There are no photos in {folder}. Give the folder that holds them directly ({kinds}).")
    return files


def check_content(photo):
    """Raise where a photo's file is not there or is not the one that was brought in.

    photo : anything with name, path, hash
    """
    try:
        stat = Path(photo.path).stat()
        same = not photo.hash or content_hash(photo.path, stat.st_mtime_ns, stat.st_size) == photo.hash
    except FileNotFoundError:
        raise UmbrateError(
            f"{photo.name} is not in {Path(photo.path).parent}. Was it moved or renamed?", ("find photos",)
        ) from None
    except OSError as e:
        raise UmbrateError(
            f"{photo.name} cannot be read ({e.strerror}). Check its permissions, or copy it again.", ("find photos",)
        ) from None
    if not same:
        raise UmbrateError(
            f"{photo.name} has changed on the disk since it was brought in. Bring it in again to take it as it is "
            "now, or find the file as it was.",
            ("find photos",),
        )


def photo_picture(photo):
    """Pixels (h, w, 3) uint8 of a photo, of the content that was brought in.

    Raises
    ------
    UmbrateError
        Where that is not there any more, or damaged.
    """
    photo = elsewhere.here.photo(photo) if elsewhere.here else photo
    check_content(photo)
    picture = read_picture(photo.path)
    check_content(photo)  # somebody may have saved it while it was read
    return picture


def photo_image(photo, longest):
    """A photo as an Image, halved, of the content that was brought in; see `core.imaging.decode.read_reduced_image`."""
    check_content(photo)
    image = read_reduced_image(photo.path, longest)
    check_content(photo)
    return image


def photo_thumbnail(photo, size):
    """A small upright picture (h, w, 3) uint8 of a photo, of the content that was brought in."""
    return thumbnail_of(photo_image(photo, 2 * size)[0], photo.orientation, size)


def located(job, photo):
    """A photo of a job as one whose path leads to its file from anywhere, to be read in another thread or process."""
    return replace(photo, path=str(job.photo_path(photo)))
