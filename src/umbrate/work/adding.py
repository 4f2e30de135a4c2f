"""Adding folders of photos to a job: the same for the window, the command line and the demo.

Reading the files takes time and touches no job; taking them in is one short action that can be
undone. The window has a worker do the first: what is long here takes a `Report` as its last argument.
"""

import hashlib
import os
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path
from tempfile import TemporaryDirectory

from PIL import Image

from ..core.disk import sync_folder
from ..core.errors import UmbrateError
from ..core.imaging.video import LEAST_CHANGE, VIDEO_SUFFIXES, choose_frames
from ..sitting.photos import find_photos, photo_files
from ..stages import BY_NAME
from ..stages.base import Report, parse_settings
from ..stages.photos.records import read_records

MASK_FOLDERS = ("masks", "mask", "Masks", "Mask")


@dataclass(frozen=True)
class Incoming:
    """A folder of photos that has been read.

    Attributes
    ----------
    folder : Path
    records : list of dict
        What the job stores of each photo.
    refused : list of str
        A sentence for each file that cannot be read; the others come in without it.
    mask_settings : dict
        Settings of the Masks stage that go with the folder.
    note : str
        A sentence about what was taken of it.
    """

    folder: Path
    records: list
    refused: list
    mask_settings: dict
    note: str = ""


def read_folder(folder, masks=None, pattern=None, report=None):
    """Read the photos of a folder; `masks` is the folder of their masks where there is one.

    Raises
    ------
    UmbrateError
        When a folder is missing, or none of the photos can be read.
    """
    settings = _mask_settings(masks, pattern)
    records, refused = read_records(find_photos(folder), report)
    sentences = [text for _, text in refused]
    if not records:
        raise UmbrateError(f"None of the photos in {folder} can be read. First of all: {sentences[0]}")
    return Incoming(Path(folder), in_order(records), sentences, settings)


def in_order(records):
    """Records of photos in the order they were taken in, as all of them say it; numbers in names wrap. Else by name."""
    if all(r["taken"] for r in records):
        return sorted(records, key=lambda r: (r["taken"], r["name"]))
    return sorted(records, key=lambda r: (str(Path(r["path"]).parent), r["name"]))


def read_files(files, masks=None, pattern=None, report=None):
    """Read photo files by themselves; an Incoming whose folder is that of the first. Masks are as in `read_folder`.

    A folder, or a file that is none of a photo's kinds, is refused with a sentence; the others come in.
    """
    files = [Path(f) for f in files]
    settings = _mask_settings(masks, pattern)
    records, refused = read_records(files, report)
    if not records:
        raise UmbrateError(f"None of these photos can be read. First of all: {refused[0][1]}")
    return Incoming(files[0].parent, in_order(records), [text for _, text in refused], settings)


def _mask_settings(masks, pattern):
    """Settings of the Masks stage for a folder of masks and their names."""
    settings = {}
    if masks is not None:
        try:
            there = Path(masks).is_dir()
        except (OSError, ValueError):
            there = False
        if not there:
            raise UmbrateError(
                f"The mask folder {masks} does not exist. Check the name, or add the photos without masks."
            )
        settings["folder"] = str(Path(masks).resolve())
    if pattern is not None:
        settings["pattern"] = pattern
    parse_settings(BY_NAME["masks"], settings)
    return settings


def is_video(path):
    """Whether a file is a video, by its ending."""
    return Path(path).suffix.lower() in VIDEO_SUFFIXES


def read_video(job_folder, video, every_s=0.5, every_frames=None, least_change=LEAST_CHANGE, report=None):
    """Take frames out of a video and read them like photos.

    The frames become files in the job's folder ``frames/``, since photos are always files; they are there
    all or not at all.

    Parameters
    ----------
    every_s : float
        The sharpest frame of every stretch so long, in seconds.
    every_frames : int, optional
        Instead, the sharpest of so many frames at a time.
    least_change : float
        Frames that differ less from the one before, in gray levels, are left out; `Incoming.note` says how many.
    """
    video, report = Path(video), report or Report()
    try:
        stat = video.stat()
    except OSError:
        raise UmbrateError(f"{video.name} is not in {video.parent}. Was it moved or renamed?") from None
    # two videos of one name must not mix, the same one taken again comes to the same place
    change = "" if least_change == LEAST_CHANGE else f" {least_change}"
    mark = hashlib.sha256(f"{video.resolve()} {stat.st_size} {every_s} {every_frames}{change}".encode()).hexdigest()[:6]
    place = Path(job_folder) / "frames" / f"{video.stem} {mark}"
    taken = datetime.fromtimestamp(stat.st_mtime)
    try:
        if place.parent.is_symlink() or place.is_symlink():
            raise UmbrateError("The job's folder of frames is a link: nothing is written through it.")
        if place.is_dir():  # they are there all or not at all, and photos of the job: never written again
            return read_folder(place, report=report)
        place.parent.mkdir(exist_ok=True)
        with TemporaryDirectory(dir=place.parent, prefix=".") as folder:
            note = _write_frames(video, Path(folder), taken, every_s, every_frames, report, least_change)
            os.rename(folder, place)
            sync_folder(place.parent)
            Path(folder).mkdir()  # the temporary folder tidies itself away
    except OSError as e:
        raise UmbrateError(f"The frames cannot be written ({e.strerror}). Is there space on the disk?") from e
    return replace(read_folder(place, report=report), note=note)


def _write_frames(video, folder, taken, every_s, every_frames, report, least_change):
    """Write the frames that are worth keeping into a folder; returns a sentence about the others."""
    count, out = 0, []

    def follow(fraction):
        report.progress(0.9 * fraction, f"{count} frames kept")

    for frame in choose_frames(video, every_s, every_frames, least_change, follow, out):
        report.check()
        exif = Image.Exif()
        exif[0x0112] = frame.orientation
        moment = taken + timedelta(seconds=int(frame.time_s))
        exif.get_ifd(0x8769)[0x9003] = moment.strftime("%Y:%m:%d %H:%M:%S")
        name = f"{video.stem}_{frame.number:06d}.jpg"
        Image.fromarray(frame.picture).save(folder / name, quality=95, subsampling=0, exif=exif)
        count += 1
    if not count:
        raise UmbrateError(f"{video.name} holds no frames.")
    if not out:
        return f"{count} frames were taken."
    return f"{count} frames were taken; {len(out)} were left out, as they differ by under {least_change:g} gray levels."


def take_in(job, sitting_name, incoming):
    """Put what was read into a sitting, made where it is new, as one action.

    Returns
    -------
    sitting : Sitting
    added, there : int
        How many came in, and how many were in the sitting already.
    """
    sitting, added = job.add_sitting(sitting_name, incoming.records, {"masks": incoming.mask_settings})
    return sitting, added, len(incoming.records) - added


def mask_folder_of(folder):
    """The folder ``masks`` (or ``mask``) inside a photo folder, or None: most people put them there."""
    for name in MASK_FOLDERS:
        if (Path(folder) / name).is_dir():
            return Path(folder) / name
    return None


def photo_folders(folder):
    """The folders that become sittings: `folder` where it holds photos, else those directly below that do.

    Raises
    ------
    UmbrateError
        When there are photos in neither.
    """
    folder = Path(folder)
    if not folder.is_dir() or photo_files(folder):
        find_photos(folder)  # says what is wrong with a folder that is none
        return [folder]
    below = sorted(d for d in folder.iterdir() if d.is_dir() and d.name not in MASK_FOLDERS and photo_files(d))
    if not below:
        find_photos(folder)
    return below
