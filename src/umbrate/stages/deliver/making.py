"""A run of the Deliver stage: files are written aside, read back, checked, and only then named."""

import hashlib
import os
import shutil
import tempfile
import time
from datetime import datetime
from pathlib import Path

from ...core.errors import UmbrateError
from ...core.names import file_name
from ...formats.files import make_folder
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
ASIDE = ".umbrate-delivery-"
OLD_S = 24 * 3600  #: folders of deliveries that were killed are removed when they are so old


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


def _sum(path):
    h = hashlib.sha256()
    with open(path, "rb") as f:
        while block := f.read(1 << 20):
            h.update(block)
    return h.hexdigest()


def _clear_old(folder):
    """Remove what killed deliveries left."""
    for left in folder.glob(f"{ASIDE}*"):
        try:
            if time.time() - left.stat().st_mtime > OLD_S:
                shutil.rmtree(left)
        except OSError:
            continue


def _free_name(folder, name, tops, replace, gate):
    """A name under which nothing that was written is there yet: with a number where it is taken.

    tops : what stands in the folder directly, names that begin with `name`
    """
    k = 1
    while True:
        tried = name if k == 1 else f"{name} ({k})"
        paths = [folder / (tried + t[len(name) :]) for t in tops]
        if replace and not any(p.is_dir() for p in paths):
            gate.check(*paths)
            return tried
        if not any(os.path.lexists(p) for p in paths):
            return tried
        k += 1


def run(inputs, settings, report, papers=None):
    """Compute; returns the Outcome."""
    start, folder = time.monotonic(), Path(inputs.folder)
    make_folder(folder)
    _clear_old(folder)
    with Job.open(inputs.job, writable=False) as job:
        sitting = next(s for s in job.sittings() if s.id == inputs.sitting)
        gate = gate_of(job, settings.replace)
        name = file_name(inputs.name)
        gate.check(folder / f"{name}.nothing")  # not into the job's own folder
        try:
            aside = Path(tempfile.mkdtemp(dir=folder, prefix=ASIDE))
        except OSError as e:
            raise UmbrateError(f"{folder} cannot be written to ({e.strerror}). Choose another folder.") from None
        try:
            d = Delivery(job, sitting, settings, aside, name, report, papers)
            MAKERS[settings.purpose](d)
            report.progress(0.92, "naming the files")
            files = sorted(p.relative_to(aside).as_posix() for p in aside.rglob("*") if p.is_file())
            listed = [(f, (aside / f).stat().st_size, _sum(aside / f)) for f in files]
            tops = sorted(p.name for p in aside.iterdir())
            final = _free_name(folder, name, tops, settings.replace, gate)
            for top in tops:
                to = folder / (final + top[len(name) :])
                if settings.replace and to.is_file():
                    gate.check(to)
                    os.replace(aside / top, to)
                else:
                    os.rename(aside / top, to)
        except OSError as e:
            text = f"{folder} could not be written to ({e.strerror or e}). Check the space on the disk and your "
            raise UmbrateError(f"{text}permissions; no half file was left.") from e
        finally:
            shutil.rmtree(aside, ignore_errors=True)
    named = [(final + f[len(name) :], size, digest) for f, size, digest in listed]
    made = Made(
        purpose=settings.purpose, folder=str(folder), files=named, checks=d.checks,
        when=datetime.now().isoformat(timespec="seconds"), settings=values_of(settings), sources=inputs.sources,
    )  # fmt: skip
    before = [Made(**m) for m in inputs.made]
    names = {f for f, _, _ in named}
    # what was written over is not delivered any more
    before = [m for m in before if m.folder != made.folder or not names & {f for f, _, _ in m.files}]
    figures = DeliverFigures(made=[*before, made], seconds=round(time.monotonic() - start, 2))
    title = PURPOSES[settings.purpose]
    return Outcome(figures, {}, [problem(None, f"{title}: {c.text}", remedy=c.remedy) for c in d.checks if not c.good])
