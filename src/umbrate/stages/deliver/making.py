"""A run of the Deliver stage: files are written aside, read back, checked, and only then named."""

import hashlib
import itertools
import os
import shutil
import tempfile
import time
from datetime import datetime
from pathlib import Path

from ...core.disk import sync_folder
from ...core.errors import Cancelled, UmbrateError
from ...core.names import file_name
from ...formats.files import make_folder, put_new
from ...formats.objs import ascii_name
from ...formats.parts import DELIVERY, note_part
from ...job.store import Job
from ...sitting.frames import frame_of
from ...sitting.guarding import gate_of
from ..base import Outcome, problem
from . import archive, clouds, exchange, page, pictures, printing, web
from .figures import DeliverFigures, Made
from .stage import PURPOSES, values_of

MAKERS = {
    "print": printing.make, "web": web.make, "page": page.make, "exchange": exchange.make, "cloud": clouds.make,
    "pictures": pictures.make, "archive": archive.make,
}  # fmt: skip
LISTED = 60  #: deliveries that are listed
OLD_S = 24 * 3600  #: folders of deliveries are removed when they are so old, whatever process has their number


class Delivery:
    """What the makers of files are given.

    Attributes
    ----------
    job : Job
        Open for reading.
    sitting : Sitting
    settings : Settings
    folder : Path
        Where they write, aside.
    name : str
        Of the files, without ending.
    frame : Frame
    unit : "mm" or None
    checks : list of Check
    """

    def __init__(self, job, sitting, settings, folder, name, report, papers):
        self.job, self.sitting, self.settings, self.folder, self.name = job, sitting, settings, folder, name
        self.report, self.papers = report, papers
        self.frame, self.checks = frame_of(job, sitting), []
        self.unit = self.frame.unit or None

    def progress(self, share, told):
        """Say how far it is; raises where it was canceled."""
        self.report.check()
        self.report.progress(0.9 * share, told)

    def check(self):
        """Raise where it was canceled."""
        self.report.check()


def _clear_old(folder):
    """Remove what killed deliveries left: folders named by a process that is no more, and very old ones."""
    for left in folder.glob(f"{DELIVERY}*"):
        number = left.name[len(DELIVERY) :].partition("-")[0]
        alive = number.isdigit() and Path("/proc", number).exists()
        try:
            if not alive or time.time() - left.stat().st_mtime > OLD_S:
                shutil.rmtree(left)
        except OSError:
            continue


def _on_disk(folder, name):
    """Name, bytes and SHA-256 of a file, once the disk has it."""
    with open(folder / name, "rb+") as f:
        os.fsync(f.fileno())
        return name, os.fstat(f.fileno()).st_size, hashlib.file_digest(f, "sha256").hexdigest()


def endings_of(settings):
    """What may stand behind the name of a delivery's files, and behind its plain spelling (see `formats.objs`)."""
    s = settings
    if s.purpose == "web":
        return [".glb", ".png", *(f"-detail-{k}.glb" for k in range(2, s.levels + 1))], []
    if s.purpose == "exchange" and s.exchange_format == "obj":
        end = "png" if s.image_format == "png" else "jpg"
        images = [f"{kind}{k}.{end}" for kind in ("", "-normal") for k in ("", "-1")]
        return [".obj"], [".mtl", *images]
    if s.purpose == "pictures":
        return {"spin": [f".{s.film}"], "sides": [f".{s.sheet_format}"], "orthophoto": [".png", ".pgw"]}[s.picture], []
    return {
        "print": [f".{s.print_format}"], "page": [".html"], "exchange": [".ply"], "cloud": [f".{s.cloud_format}"],
        "archive": [".zip" if s.as_zip else ""],
    }[s.purpose], []  # fmt: skip


def _free_name(folder, name, settings):
    """A name whose files are not there yet: with a number behind it where they are, unless they may be replaced."""
    own, plain = endings_of(settings)
    for k in itertools.count(1):
        tried = name if k == 1 else f"{name} ({k})"
        paths = [folder / (tried + e) for e in own] + [folder / (ascii_name(tried) + e) for e in plain]
        there = [p for p in paths if os.path.lexists(p)]
        if not there or (settings.replace and not any(p.is_dir() for p in there)):
            return tried


def _put(aside, folder, gate):
    """Give all that was written its place; nothing of it where one must not be written."""
    tops = sorted(aside.iterdir(), key=lambda p: p.is_dir())
    gate.check(*(folder / p.name for p in tops if p.is_file()))
    for p in tops:
        if p.is_dir() and os.path.lexists(folder / p.name):
            raise UmbrateError(f"{p.name} is there already in {folder}. Nothing was written. Choose another name.")
    new = []
    try:
        for p in tops:
            to = folder / p.name
            if p.is_dir():
                os.rename(p, to)
            elif gate.replace:
                os.replace(p, to)
            else:
                put_new(p, to)
                new.append(to)
        sync_folder(folder)
    except BaseException:  # another program wrote there meanwhile
        for path in new:
            path.unlink(missing_ok=True)
        raise


def run(inputs, settings, report, papers=None):
    """Compute; returns the Outcome."""
    start, folder = time.monotonic(), Path(inputs.folder)
    make_folder(folder)
    _clear_old(folder)
    with Job.open(inputs.job, writable=False) as job:
        sitting = next(s for s in job.sittings() if s.id == inputs.sitting)
        gate = gate_of(job, settings.replace)
        name = _free_name(folder, file_name(inputs.name), settings)
        own, _ = endings_of(settings)
        gate.check(folder / f"{name}{own[0]}")  # not into the job's own folder, for one
        try:
            aside = Path(tempfile.mkdtemp(dir=folder, prefix=f"{DELIVERY}{os.getpid()}-"))
        except OSError as e:
            raise UmbrateError(f"{folder} cannot be written to ({e.strerror}). Choose another folder.") from None
        note = note_part(aside)
        try:
            d = Delivery(job, sitting, settings, aside, name, report, papers)
            MAKERS[settings.purpose](d)
            report.progress(0.92, "naming the files")
            files = sorted(p.relative_to(aside).as_posix() for p in aside.rglob("*") if p.is_file())
            listed = [_on_disk(aside, f) for f in files]
            _put(aside, folder, gate)
        except Cancelled:
            raise
        except UmbrateError as e:
            # people know nothing of the folder aside
            raise UmbrateError(str(e).replace(str(aside), str(folder)), e.remedy) from e
        except OSError as e:
            text = f"{folder} could not be written to ({e.strerror or e}). Check the space on the disk and your "
            raise UmbrateError(f"{text}permissions; no half file was left.") from e
        finally:
            shutil.rmtree(aside, ignore_errors=True)
            if note is not None:
                note.unlink(missing_ok=True)
    made = Made(
        purpose=settings.purpose, name=file_name(inputs.name), folder=str(folder), files=listed, checks=d.checks,
        when=datetime.now().isoformat(timespec="seconds"), settings=values_of(settings), sources=inputs.sources,
    )  # fmt: skip
    names = {f for f, _, _ in listed}
    # what was written over is not delivered any more
    before = [m for m in inputs.made if m.folder != made.folder or not names & {f for f, _, _ in m.files}]
    figures = DeliverFigures(made=[*before, made][-LISTED:], seconds=round(time.monotonic() - start, 2))
    title = PURPOSES[settings.purpose]
    return Outcome(figures, {}, [problem(None, f"{title}: {c.text}", remedy=c.remedy) for c in d.checks if not c.good])
