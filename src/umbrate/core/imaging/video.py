"""Frames from a video: of every stretch the sharpest, and none that hardly differs from the one before."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..errors import UmbrateError
from ..later import Later
from .filters import halve_by_area
from .sharpness import sharpness

av = Later("av")

VIDEO_SUFFIXES = {".mp4", ".mov", ".m4v", ".avi", ".mkv", ".webm", ".mts"}
SMALL_SIDE = 480  #: frames are judged at about this size


def _small(frame):
    gray = frame.astype(np.float32).mean(2)
    while max(gray.shape) > SMALL_SIDE:
        gray = halve_by_area(gray)
    return gray


@dataclass(frozen=True)
class Frame:
    """A frame worth keeping.

    Attributes
    ----------
    number : int
        Which frame of the video it is.
    time_s : float
    picture : (h, w, 3) uint8
        Unturned.
    orientation : int
        EXIF orientation in which the video shows it: phones hold it in its file.
    """

    number: int
    time_s: float
    picture: np.ndarray
    orientation: int = 1


LEAST_CHANGE = 2.0  #: gray levels that a frame differs from the one before on average, to be worth keeping
ORIENTATION = {0: 1, 90: 8, 180: 3, 270: 6}  #: by the angle a video turns its frames to the left, in degrees


def choose_frames(path, every_s=0.5, every_frames=None, least_change=LEAST_CHANGE, progress=None, left_out=None):
    """Yield every Frame of a video that is worth keeping.

    Parameters
    ----------
    every_s : float
        One frame of every stretch so long, in seconds: the sharpest.
    every_frames : int, optional
        Stretches of so many frames instead.
    least_change : float
        A frame whose gray values (0 to 255) differ from the last kept one by less than this on average is
        left out.
    progress : callable(fraction), optional
        May raise to cancel.
    left_out : list, optional
        Receives the numbers of frames that were left out because they hardly differ.

    Raises
    ------
    UmbrateError
        When the file is no video that can be read.
    """
    path = Path(path)
    if not path.is_file():
        raise UmbrateError(f"{path.name} is not in {path.parent}. Was it moved or renamed?")
    try:
        with av.open(str(path)) as container:
            if not container.streams.video:
                raise UmbrateError(f"{path.name} holds no video.")
            stream = container.streams.video[0]
            length = float(stream.duration * stream.time_base) if stream.duration else None
            window, best, last = 0, None, None
            for number, frame in enumerate(container.decode(stream)):
                time_s = float(frame.time or 0.0)
                if progress and length:
                    progress(min(1.0, time_s / length))
                here = number // every_frames if every_frames else int(time_s / every_s)
                if here != window:
                    if best is not None and _differs(best[1], last, least_change):
                        last = best[1]
                        yield best[0]
                    elif best is not None and left_out is not None:
                        left_out.append(best[0].number)
                    window, best = here, None
                picture = frame.to_ndarray(format="rgb24")
                small = _small(picture)
                value = sharpness(small)
                if best is None or value > best[2]:
                    turned = ORIENTATION.get(round(frame.rotation) % 360, 1)
                    best = (Frame(number, time_s, picture, turned), small, value)
            if best is not None and _differs(best[1], last, least_change):
                yield best[0]
            elif best is not None and left_out is not None:
                left_out.append(best[0].number)
    except (av.FFmpegError, OSError, ValueError) as e:
        raise UmbrateError(f"{path.name} cannot be read as a video. Copy it again or convert it. ({e})") from None


def _differs(small, last, least):
    return last is None or float(np.abs(small - last).mean()) >= least
