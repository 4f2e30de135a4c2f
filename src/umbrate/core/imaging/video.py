"""Frames from a video: of every stretch the sharpest, and none that hardly differs from the one before."""

from pathlib import Path

import av
import numpy as np

from ..errors import UmbrateError
from .filters import halve_by_area
from .sharpness import sharpness

VIDEO_SUFFIXES = {".mp4", ".mov", ".m4v", ".avi", ".mkv", ".webm", ".mts"}
SMALL_SIDE = 480  #: frames are judged at about this size


def _small(frame):
    gray = frame.astype(np.float32).mean(2)
    while max(gray.shape) > SMALL_SIDE:
        gray = halve_by_area(gray)
    return gray


def choose_frames(path, every_s=0.5, least_change=2.0, progress=None):
    """Frames worth keeping of a video.

    Parameters
    ----------
    every_s : float
        One frame of every stretch so long, in seconds: the sharpest.
    least_change : float
        A frame whose grey values (0 to 255) differ from the last kept one by less than this on average is
        left out.
    progress : callable(fraction), optional
        May raise to cancel.

    Yields
    ------
    number : int
        Which frame of the video it is.
    time_s : float
    picture : (h, w, 3) uint8

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
                if int(time_s / every_s) != window:
                    if best is not None and _differs(best[3], last, least_change):
                        last = best[3]
                        yield best[:3]
                    window, best = int(time_s / every_s), None
                picture = frame.to_ndarray(format="rgb24")
                small = _small(picture)
                value = sharpness(small)
                if best is None or value > best[4]:
                    best = (number, time_s, picture, small, value)
            if best is not None and _differs(best[3], last, least_change):
                yield best[:3]
    except (av.FFmpegError, OSError, ValueError) as e:
        raise UmbrateError(f"{path.name} cannot be read as a video. Copy it again or convert it. ({e})") from None


def _differs(small, last, least):
    return last is None or float(np.abs(small - last).mean()) >= least
