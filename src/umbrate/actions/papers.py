"""What people found out of a sitting, as files of an archive: cameras, points, lengths, measurements, the report."""

import csv

from ..core.errors import UmbrateError
from ..sitting.frames import frame_of
from .delivering import export_cameras
from .marking import export_points
from .measuring import export_measurements, measure_all
from .reporting import write_accuracy_report


def write_papers(job, sitting, folder):
    """Write them into a folder; returns what was written: (file, what it is)."""
    unit = frame_of(job, sitting).unit or "unscaled"
    wanted = [
        ("cameras.json", "lenses and poses of the photos, with their standard deviations",
         lambda f: export_cameras(job, f, sitting)),
        ("control-points.csv", f"marked points and their coordinates, {unit}",
         lambda f: export_points(job, sitting, f)),
        ("lengths.csv", f"known lengths, what was measured of them, and which took part in the scale, {unit}",
         lambda f: _lengths(job, sitting, f)),
        ("measurements.csv", f"measurements with their 95 % intervals, {unit}",
         lambda f: _measurements(job, sitting, f)),
        ("report.pdf", "the accuracy report", lambda f: write_accuracy_report(job, sitting, f)),
    ]  # fmt: skip
    out = []
    for name, what, write in wanted:
        try:
            write(folder / name)
        except UmbrateError:
            continue  # there is none of it in this sitting
        if (folder / name).exists():
            out.append((name, what))
    return out


def _lengths(job, sitting, file):
    have = job.lengths(sitting.id)
    if not have:
        raise UmbrateError("There are no known lengths.")
    with open(file, "w", newline="", encoding="utf-8") as f:
        w = csv.writer(f)
        fields = [k for k in vars(have[0]) if k not in ("id", "sitting_id")]
        w.writerow(fields)
        for x in have:
            w.writerow([getattr(x, k) for k in fields])


def _measurements(job, sitting, file):
    if not measure_all(job, sitting):
        raise UmbrateError("There are no measurements.")
    export_measurements(job, file, sitting)
