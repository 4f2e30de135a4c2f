"""The demo: the main job on the demo data, judged against its truth."""

import os
import resource
import time
from pathlib import Path

import platformdirs

from ..actions.delivering import camera_rows
from ..core.errors import UmbrateError
from ..job.folder import JobInUse
from ..job.lengths import CHECK, SCALE
from ..job.store import Job, job_folder
from ..sitting.clouds import load_cloud
from ..sitting.frames import scale_result
from ..sitting.photos import photo_files
from ..sitting.surfaces import load_surface
from ..studio.judge import Truth
from .adding import read_folder, take_in
from .shipped import shipped

SITTINGS = (("Upright", "upright"), ("On its back", "on-its-back"))
#: what is known of the demo's lengths: between which targets, mm, standard deviation, and what it is for. The bars are
#: certified, the others were measured on the mat and the whistle (by the simulated studio)
KNOWN_LENGTHS = (
    ("192", "194", 100.0, 0.01, SCALE), ("195", "197", 100.0, 0.01, SCALE), ("161", "173", 121.925, 0.01, CHECK),
    ("163", "176", 131.348, 0.01, CHECK), ("162", "178", 97.572, 0.01, CHECK), ("214", "215", 58.42, 0.02, CHECK),
    ("209", "211", 44.29, 0.02, CHECK), ("211", "212", 56.39, 0.02, CHECK), ("210", "214", 40.93, 0.02, CHECK),
)  # fmt: skip
LEVEL = {"up": {"ends": ["161", "163", "173", "175", "177", "179"]}, "origin": "box"}  #: the mat lies level
JOINED = "Whole"  #: the row that both sittings are joined in
COARSE = {"photo_scale": 4}  #: clouds of single sittings only show how well they were joined
#: what is delivered at the end, one of each purpose: its settings
DELIVERED = (
    {"purpose": "print", "triangles": 200_000}, {"purpose": "web"}, {"purpose": "page"}, {"purpose": "exchange"},
    {"purpose": "cloud"}, {"purpose": "pictures", "film_seconds": 3.0, "width": 960},
    {"purpose": "archive", "as_zip": True},
)  # fmt: skip
#: the figures the demo has to reach: name, words, limit, and whether more is better
LIMITS = (
    ("solved", "photos solved", 48, True),
    ("rotation_deg_median", "rotation error, median (degrees)", 0.1, False),
    ("center_percent_median", "center error, median (% of the distance)", 0.2, False),
    ("check_share", "worst check length, of 0.02 mm + 0.02 %", 1.0, False),
    ("join_turn_deg", "turn between the sittings off by (degrees)", 0.1, False),
    ("join_shift_mm", "shift between the sittings off by (mm)", 0.1, False),
    ("join_scale_percent", "scale between the sittings off by (%)", 0.05, False),
    ("distance_px_median", "whole cloud to true surface, median (pixels)", 0.6, False),
    ("distance_px_p90", "the same, 90 % within", 2.0, False),
    ("signed_px", "its bias: size of the signed median (pixels of the photo scale)", 0.02, False),
    ("covered_0p5mm_percent", "whole seen surface with a point within 0.5 mm (%)", 98.0, True),
    ("off_2mm_percent", "points more than 2 mm off (%)", 0.2, False),
    ("surface_mm_median", "surface to true surface, median (mm)", 0.025, False),
    ("truth_to_surface_mm_median", "true surface to surface, median (mm)", 0.03, False),
    ("surface_signed_worst", "its bias: worst of all, convex and concave parts (mm)", 0.006, False),
    ("surface_covered_0p3mm_percent", "whole seen surface within 0.3 mm of it (%)", 99.5, True),
    ("surface_normals_deg", "its normals off by, median (degrees)", 4.0, False),
    ("joint_step_mm", "step where a sitting's photos end (mm)", 0.02, False),
    ("handles_off", "handles more or fewer than the object has", 0, False),
    ("seconds", "time of the whole job (s)", 420.0, False),
    ("memory_gb", "peak memory of all processes (GB)", 3.0, False),
)
#: figures of single sittings, and of every row; all others are of the joined row, and of the whole run
OF_SITTING, OF_EVERY = ("solved", "rotation_deg_median", "center_percent_median"), ("check_share",)


def demo_data():
    """The folder of the demo photo set: in the checkout, or where the installed package keeps its data.

    Raises
    ------
    UmbrateError
        Where it is in neither.
    """
    place = shipped("demo", "truth.json")
    if place is not None:
        return place
    raise UmbrateError(
        "The demo's photos are not there: they belong in the folder demo/ of the checkout, and `pip install` copies "
        "them from there. Make them again in the checkout with: umbrate simulate whistle demo"
    )


def demo_folder():
    """Where the demo job goes unless somebody says otherwise."""
    return Path(platformdirs.user_data_dir("umbrate", appauthor=False)) / "demo" / "whistle.umbrate"


def make_demo_job(folder):
    """The demo job, ready to run: the one that is there, else made anew.

    Nothing is ever removed or written over for it: where something else stands at its place, or a demo job that is one
    no more (its photos or sittings are gone, somebody's own work is in it), it is made beside that under a new name.
    """
    data = demo_data()
    first = folder = job_folder(folder)
    for k in range(2, 100):
        if not os.path.lexists(folder):
            break
        job = _demo_at(folder, data)
        if job is not None:
            return job
        folder = first.with_name(f"{first.stem} {k}{first.suffix}")
    folder.parent.mkdir(parents=True, exist_ok=True)
    job = Job.create(folder)
    for name, sub in SITTINGS:
        sitting, _, _ = take_in(job, name, read_folder(data / sub, data / sub / "masks"))
        for length in KNOWN_LENGTHS:
            job.add_length(sitting.id, *length)
        job.set_level(sitting.id, LEVEL)
        job.set_settings(sitting.id, "cloud", COARSE)
    job.add_joined([s.id for s in job.sittings()], JOINED)
    return job


def _demo_at(folder, data):
    """The demo job in a folder, open, or None where what is there is none any more."""
    try:
        job = Job.open(folder)
    except JobInUse:
        raise
    except UmbrateError:
        return None
    try:
        placements = job.photo_sittings()
        names = [s.name for s in placements]
        photos = {s.name: job.photos(s.id) for s in placements}
        whole = sorted(names) == sorted(n for n, _ in SITTINGS) and all(
            sorted(p.name for p in photos[n]) == sorted(f.name for f in photo_files(data / sub))
            and all(job.file_state(p, look_inside=False) == "here" for p in photos[n])
            for n, sub in SITTINGS
        )
        if whole:
            if not job.joined_rows():  # made before sittings were joined
                job.add_joined([s.id for s in placements], JOINED)
            return job
    except UmbrateError:
        pass
    job.close()
    return None


def judge(job):
    """Figures of the demo job against the truth: one dictionary for each sitting, and one for the joined row."""
    truth = Truth(demo_data())
    rows = camera_rows(job)[0]
    out = {}
    for s in job.photo_sittings():
        solved = {r["name"]: r["pose"] for r in rows if r["sitting"] == s.name and r["pose"] is not None}
        figures, _ = truth.judge_poses(s.name, solved)
        out[s.name] = {**figures, **_checked(job, s)}
    for row in job.joined_rows():
        out[row.name] = {"whole": True, **_judge_whole(job, row, truth), **_checked(job, row)}
    return out


def _checked(job, sitting):
    """The worst check length of a sitting, as a share of what it may be off."""
    scale = scale_result(job, sitting)
    checks = scale.figures.checks if scale else []
    if not checks:
        return {}
    return {"check_share": max(abs(r.error) / (0.02 + 0.0002 * r.value) for r in checks)}


def _judge_whole(job, row, truth):
    """How the sittings lie to each other in a joined row, and its cloud."""
    names = [s.name for s in job.photo_sittings() if s.id in row.members]
    solved = {n: {} for n in names}
    for r in camera_rows(job, row)[0]:
        if r["pose"] is not None:
            solved[r["sitting"]][r["name"]] = r["pose"]
    if min(map(len, solved.values())) < 3:
        return {}
    figures, M = truth.judge_join(solved)
    cloud = load_cloud(job, row)
    if cloud is not None:
        figures.update(truth.judge_cloud(names, cloud["points"], M))
        pixel = truth.distance / truth.lens.f
        figures.update({f"distance_px_{k}": figures[f"distance_mm_{k}"] / pixel for k in ("median", "p90")})
        scale = job.result(row.id, "cloud").settings["photo_scale"]
        figures["signed_px"] = abs(figures["signed_mm"]) / (pixel * scale)
    mesh = load_surface(job, row)
    if mesh is not None:
        figures.update(truth.judge_surface(names, mesh, M))
        parts = [figures[f"surface_signed_mm{k}"] for k in ("", "_convex", "_concave")]
        figures["surface_signed_worst"] = max(abs(v) for v in parts if v is not None)
        figures["handles_off"] = abs(figures["surface_euler"] - figures["true_euler"]) / 2
    return figures


def worst(by_sitting, seconds):
    """The figures of the whole demo: sums for photos, the worst sitting for the rest; None for what is missing."""
    whole, single = ([f for f in by_sitting.values() if bool(f.get("whole")) == x] for x in (True, False))
    out = {"solved": sum(f["solved"] for f in single), "seconds": seconds, "memory_gb": peak_memory_gb()}
    for key, _, _, more in LIMITS:
        if key not in out:
            rows = single if key in OF_SITTING else [*single, *whole] if key in OF_EVERY else whole
            values = [f.get(key) for f in rows]
            out[key] = None if None in values or not values else (min(values) if more else max(values))
    return out


def peak_memory_gb():
    """Peak resident memory of this process and the largest ended or waited-for child, summed, in GB."""
    own = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return (own + resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss) * 1024 / 1e9


def verdicts(figures):
    """Rows of (words, value, limit, reached) for printing."""
    rows = []
    for key, words, limit, more in LIMITS:
        v = figures.get(key)
        rows.append((words, v, limit, more, v is not None and (v >= limit if more else v <= limit)))
    return rows


class Stopwatch:
    """Seconds since it was made."""

    def __init__(self):
        self._start = time.monotonic()

    @property
    def seconds(self):
        """Seconds so far."""
        return time.monotonic() - self._start
