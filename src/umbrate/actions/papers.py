"""What people found out of a sitting, as files of an archive: cameras, points, lengths, measurements, the report."""

from ..core.errors import UmbrateError
from ..formats.tables import TableWriter
from ..job.lengths import SCALE
from ..sitting.frames import end_text, frame_of, scale_result
from .delivering import export_cameras
from .marking import export_points
from .measuring import export_measurements
from .reporting import write_accuracy_report


def write_papers(job, sitting, folder):
    """Write them into a folder; returns what was written: (file, what it is)."""
    unit = frame_of(job, sitting).unit or "unscaled"
    wanted = [
        ("cameras.json", "lenses and poses of the photos, with their standard deviations",
         lambda f: export_cameras(job, f, sitting)),
        ("control-points.csv", f"marked points and their coordinates, {unit}",
         lambda f: export_points(job, sitting, f)),
        ("lengths.csv", "known lengths in mm, what was measured of them, and which took part in the scale",
         lambda f: _lengths(job, sitting, f)),
        ("measurements.csv", f"measurements with their 95 % intervals, {unit}",
         lambda f: export_measurements(job, f, sitting)),
        ("report.pdf", "the accuracy report", lambda f: write_accuracy_report(job, sitting, f)),
    ]  # fmt: skip
    out = []
    for name, what, write in wanted:
        try:
            write(folder / name)
        except UmbrateError as e:
            if isinstance(e.__cause__, OSError):
                raise  # it could not be written, a full disk for one
            continue  # there is none of it in this sitting
        out.append((name, what))
    return out


def _lengths(job, sitting, file):
    done, names = scale_result(job, sitting), job.end_names(sitting.id)
    if done is None or not done.figures.lengths:
        raise UmbrateError("There are no known lengths.")
    with open(file, "w", newline="", encoding="utf-8") as f:
        w = TableWriter(f)
        w.writerow(["first", "second", "for", "stated", "sigma", "from", "measured", "off", "left out"])
        for r in done.figures.lengths:
            off = r.residual if r.role == SCALE else r.error
            w.writerow([
                end_text(r.first, names), end_text(r.second, names), r.role, r.value, r.sigma, r.source,
                f"{r.length:.5f}", "" if off is None else f"{off:+.5f}", "yes" if r.left_out else "no",
            ])  # fmt: skip
