"""What comes into a folder: each photo once, when it is whole, whatever the camera's program does with its files.

The folder is looked at again and again, not listened to: that works on network folders and phones' syncs as well, and
a folder that vanishes and comes back needs no care.
"""

import os
import stat
import time
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ...core.errors import UmbrateError
from ...core.imaging.decode import PHOTO_SUFFIXES, RAW_SUFFIXES, read_reduced_image
from ...core.imaging.sharpness import LONGEST, SOFT, gray_of, sharpness
from ...stages.photos.records import record_of

STILL_S = 0.4  #: a file that did not change for so long may be whole
PATIENCE_S = 15.0  #: one that cannot be read for so long is told of; it is read when it changes again
PAIR_S = 3.0  #: a raw file waits so long for the JPEG of the same shot
PHOTO, LEFT, REPLACED, GONE, BACK = "photo", "left out", "replaced", "gone", "back"
DARK, BRIGHT = 12.0, 250.0  #: gray levels below and above which nothing is told apart
MOST_LOST = 0.4  #: share of a photo that may be so dark or so bright
MOST_STOPS = 1.0  #: that a photo may differ from those before
LATELY = 12  #: photos that a new one is held against


@dataclass(frozen=True)
class News:
    """Something that came to pass in the folder.

    Attributes
    ----------
    kind : str
        PHOTO: one came in; LEFT: a file was left out; REPLACED: one that is in has another content now; GONE, BACK: the
        folder vanished, or is there again.
    file : str
    why : str
        A sentence.
    record : dict or None
        What the job stores of a photo.
    """

    kind: str
    file: str = ""
    why: str = ""
    record: dict | None = field(default=None, compare=False)


@dataclass
class _Seen:
    mark: tuple
    since: float  #: when it was last seen to change
    first: float
    told: bool = False


class Arrivals:
    """Looks at a folder; `look` says what is new.

    Parameters
    ----------
    folder : path
    known : iterable of (path, content hash)
        Photos that are in already.
    clock : callable() -> seconds
    """

    def __init__(self, folder, known=(), clock=time.monotonic):
        self.folder, self._clock = Path(folder), clock
        self._in = {str(p): h for p, h in known}  # what came in: path and content
        self._of = {h: str(p) for p, h in known}
        self._shots = {self._shot(p): p for p, _ in known}
        self._seen, self._done, self._there = {}, {}, True

    @staticmethod
    def _shot(path):
        """What files of one shot have in common: their name without ending."""
        p = Path(path)
        return str(p.parent), p.stem.lower()

    def look(self):
        """News since the last look, in the order of the files' names; takes as long as reading the new photos does."""
        now, news = self._clock(), []
        try:
            with os.scandir(self.folder) as entries:
                files = {
                    e.path: e.stat() for e in entries
                    if Path(e.name).suffix.lower() in PHOTO_SUFFIXES and not e.name.startswith(".") and _is_file(e)
                }  # fmt: skip
        except OSError as e:
            if self._there:
                self._there = False
                why = f"{self.folder} cannot be read ({e.strerror}). Photos come in again when it is back."
                return [News(GONE, str(self.folder), why)]
            return []
        if not self._there:
            self._there = True
            news.append(News(BACK, str(self.folder), f"{self.folder} is back."))
        for path in list(self._seen):
            if path not in files:
                del self._seen[path]  # a temporary name, or taken away
        for path in sorted(files):
            s = files[path]
            mark = s.st_size, s.st_mtime_ns, s.st_ino
            if self._done.get(path) == mark:
                continue
            seen = self._seen.get(path)
            if seen is None or seen.mark != mark:
                self._seen[path] = _Seen(mark, now, seen.first if seen else now, seen.told if seen else False)
                continue
            if s.st_size and now - seen.since >= STILL_S:
                news += self._take(path, seen, now, {self._shot(p): p for p in files if not _is_raw(p)})
        return news

    def _take(self, path, seen, now, pictures):
        """News of one file that is still."""
        if _is_raw(path):
            partner = pictures.get(self._shot(path))
            if partner is None and now - seen.first < PAIR_S:
                return []
            if partner is not None:
                self._settle(path, seen)
                return [News(LEFT, path, f"{Path(path).name} is the raw file of {Path(partner).name}, which is used.")]
        elif _is_raw(first := self._shots.get(self._shot(path), "")) and first != path:
            self._settle(path, seen)
            return [News(LEFT, path, f"{Path(path).name} is of the same shot as {Path(first).name}, which is in.")]
        record = record_of(path)
        problem = record if isinstance(record, str) else _unreadable(path)
        if _mark(path) != seen.mark:
            return []  # it was written to while it was read
        if problem:
            if now - seen.since < PATIENCE_S or seen.told:
                return []  # its writer may only have paused
            seen.told = True
            return [News(LEFT, path, problem)]
        self._settle(path, seen)
        content = record["hash"]
        if path in self._in:
            if self._in[path] == content:
                return []
            self._in[path] = content
            self._of[content] = path
            told = f"{Path(path).name} has other content now than when it came in."
            return [News(REPLACED, path, told, record)]
        twin = self._of.get(content)
        if twin is not None:
            return [News(LEFT, path, f"{Path(path).name} is a copy of {Path(twin).name}.")]
        self._in[path], self._of[content] = content, path
        self._shots[self._shot(path)] = path
        return [News(PHOTO, path, "", record)]

    def _settle(self, path, seen):
        self._done[path] = seen.mark
        self._seen.pop(path, None)


def _is_raw(path):
    return Path(path).suffix.lower() in RAW_SUFFIXES


def _is_file(entry):
    try:
        return stat.S_ISREG(entry.stat().st_mode)
    except OSError:
        return False


def _mark(path):
    try:
        s = os.stat(path)
    except OSError:
        return None
    return s.st_size, s.st_mtime_ns, s.st_ino


def _unreadable(path):
    """Why the picture cannot be decoded; "" where it can."""
    try:
        read_reduced_image(path, 400)
    except UmbrateError as e:
        return str(e)
    return ""


@dataclass(frozen=True)
class Judged:
    """What a look at a new photo tells.

    Attributes
    ----------
    sharpness, light : float
        Light is the mean gray level as stops: 1 is twice as much.
    complaints : tuple of str
        Sentences; none of a good one.
    """

    sharpness: float
    light: float
    complaints: tuple = ()


class Judge:
    """Holds each new photo against those before: is it sharp, is it exposed like the others?"""

    def __init__(self):
        self._before = []

    def judge(self, path):
        """The Judged of a photo file; takes some tenths of a second.

        Raises
        ------
        UmbrateError
            Where it cannot be read.
        """
        picture = read_reduced_image(path, LONGEST)[0]
        gray = gray_of(picture)
        sharp = float(sharpness(gray))
        # brightness as the sensor counted it: two gray levels on, twice the light
        light = float(np.log2(max(float(((gray / 255.0) ** 2.2).mean()), 1e-6)))
        complaints = []
        lost = float((gray >= BRIGHT).mean()), float((gray <= DARK).mean())
        if lost[0] > MOST_LOST:
            complaints.append(f"{100 * lost[0]:.0f} % of it is white: expose less.")
        if lost[1] > MOST_LOST and lost[1] > 2 * self._usual(2, 0.0):
            complaints.append(f"{100 * lost[1]:.0f} % of it is black: expose more.")
        if len(self._before) >= 4:
            usual = self._usual(0, sharp)
            if sharp < SOFT * usual:
                complaints.append(f"Soft: its sharpness is {sharp:.2f}, the others' {usual:.2f}. Take it again.")
            stops = light - self._usual(1, light)
            if abs(stops) > MOST_STOPS:
                told = "brighter" if stops > 0 else "darker"
                complaints.append(f"{abs(stops):.1f} stops {told} than the others: fix exposure and white balance.")
        self._before = [*self._before, (sharp, light, lost[1])][-LATELY:]
        return Judged(sharp, light, tuple(complaints))

    def _usual(self, column, otherwise):
        return float(np.median([b[column] for b in self._before])) if self._before else otherwise
