"""What helps to understand a problem, as a few texts that the user can read before sending them: no photos.

Log, versions, the machine, the settings of the job's stages and what became of them. Names of photos and folders are
in logs and problems; the user's home folder is written as ~, and nothing else is left out in secret.
"""

import json
import os
import platform
import zipfile
from pathlib import Path

import psutil

from ..core.memory import free_memory
from ..formats.files import written_aside
from ..stages import STAGES
from ..stages.base import settings_of
from .identity import identity
from .logs import log_file
from .state import board

MOST_LOG = 400_000  #: bytes of the end of the log that go in


def collect(job=None):
    """The texts of a report, by the names of their files.

    job : Job, optional
        The one that is open.
    """
    out = {"machine.txt": _machine(), "log.txt": _log()}
    if job is not None:
        out["job.json"] = _job(job)
    home = str(Path.home())
    return {name: text.replace(home, "~") if len(home) > 1 else text for name, text in out.items()}


def _machine():
    lines = [f"{k}: {v}" for k, v in identity().items()]
    lines += [
        f"system: {platform.platform()}",
        f"processors: {os.cpu_count()}",
        f"memory: {psutil.virtual_memory().total / 1e9:.1f} GB, free {free_memory() / 1e9:.1f} GB",
        f"desktop: {os.environ.get('XDG_CURRENT_DESKTOP', '-')}, {os.environ.get('XDG_SESSION_TYPE', '-')}",
    ]
    return "\n".join(lines) + "\n"


def _log():
    try:
        with open(log_file(), "rb") as f:
            f.seek(0, os.SEEK_END)
            size = f.tell()
            f.seek(max(size - MOST_LOG, 0))
            return f.read().decode("utf-8", "replace")
    except OSError as e:
        return f"There is no log: {e.strerror}.\n"


def _job(job):
    rows = []
    for cells, sitting in zip(board(job), job.sittings(), strict=True):
        photos = job.photos(sitting.id)
        stages = {}
        for c in cells:
            stage = next(s for s in STAGES if s.name == c.stage)
            done = job.result(sitting.id, c.stage)
            stages[c.stage] = {
                "state": c.state,
                "told": [x for x in (c.first, c.second, c.detail) if x],
                "problems": list(c.problems),
                "settings": settings_of(job, sitting, stage).model_dump(mode="json"),
                "made": done and done.made,
                "seconds": done and done.seconds,
            }
        rows.append(
            {
                "sitting": sitting.name,
                "photos": len(photos),
                "sizes": sorted({f"{p.width} x {p.height}" for p in photos}),
                "cameras": sorted({p.camera for p in photos if p.camera}),
                "stages": stages,
            }
        )
    return json.dumps({"job": job.name, "sittings": rows}, indent=1, ensure_ascii=False) + "\n"


def write_report(texts, path, gate):
    """Write texts (see `collect`) into a zip file; returns its path.

    gate : Gate
        Asked whether the file may be written.
    """
    path = Path(path)
    path = path if path.suffix == ".zip" else path.with_name(f"{path.name}.zip")
    gate.check(path)
    with written_aside(path, gate) as part:
        with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as z:
            for name, text in texts.items():
                z.writestr(name, text)
    return path
