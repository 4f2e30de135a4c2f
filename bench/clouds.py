"""Dense clouds against truth, and the speed of cleaning and writing them.

``python bench/clouds.py [NAME ...]`` prints those named, or all:

demo      both sittings at photo scale 1/2: distance to the true surface, completeness, points that are far off, time
again     the same sitting fused anew with another setting: depth maps are used again
clean     every filter on 5 million points, the lasso, and writing them as PLY
"""

import argparse
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT), str(ROOT / "bench")]

from measure import run  # noqa: E402
from poses import run_to_poses, told  # noqa: E402
from umbrate.core.cloud import filters  # noqa: E402
from umbrate.core.cloud.grid import spacing_of  # noqa: E402
from umbrate.core.raster.pick import seen_inside  # noqa: E402
from umbrate.formats.clouds import write_cloud  # noqa: E402
from umbrate.job.store import Job  # noqa: E402
from umbrate.stages.clouds import load_cloud  # noqa: E402
from umbrate.stages.deliver import camera_rows  # noqa: E402
from umbrate.studio.judge import Truth  # noqa: E402
from umbrate.work.adding import read_folder, take_in  # noqa: E402
from umbrate.work.demo import SITTINGS, demo_data  # noqa: E402

MILLIONS = 5


def bench_demo(done):
    """Both sittings, poses fitted, nothing cleaned by hand."""
    truth, good, total = Truth(demo_data()), True, 0.0
    pixel = truth.distance / truth.lens.f
    for name, sub in SITTINGS:
        photos = demo_data() / sub
        with tempfile.TemporaryDirectory() as scratch, Job.create(Path(scratch) / "job") as job:
            sitting, _, _ = take_in(job, name, read_folder(photos, photos / "masks"))
            run_to_poses(job, sitting)
            seconds = run(job, sitting, "cloud")
            total += seconds
            rows, _ = camera_rows(job)
            _, M = truth.judge_poses(name, {r["name"]: r["pose"] for r in rows if r["pose"] is not None})
            f = truth.judge_cloud(name, load_cloud(job, sitting)["points"], M)
            if "again" not in done:
                job.set_settings(sitting.id, "cloud", {"min_photos": 4})
                done["again"] = run(job, sitting, "cloud"), seconds
        text = f"demo: {name}, 1/2: median {f['distance_mm_median'] / pixel:.2f} px (<= 0.6), 90 % within "
        text += (
            f"{f['distance_mm_p90'] / pixel:.2f} px (<= 2), {f['covered_0p5mm_percent']:.1f} % within 0.5 mm (>= 95), "
        )
        text += f"{f['off_2mm_percent']:.4f} % more than 2 mm off (<= 0.2); {f['points']:,} points in {seconds:.0f} s"
        good &= told(
            text,
            f["distance_mm_median"] <= 0.6 * pixel
            and f["distance_mm_p90"] <= 2 * pixel
            and f["covered_0p5mm_percent"] >= 95
            and f["off_2mm_percent"] <= 0.2,
        )
    return told(f"demo: 48 photos at 1/2 in {total:.0f} s (<= 240)", total <= 240) and good


def bench_again(done):
    """With depth maps that are there."""
    if "again" not in done:
        bench_demo(done)
    again, first = done["again"]
    return told(f"again: fused anew in {again:.1f} s, of {first:.0f} s the first time", again < 0.3 * first)


def bench_clean(_):
    """A lumpy ball with noise."""
    rng = np.random.default_rng(0)
    n = MILLIONS * 1_000_000
    d = rng.normal(size=(n, 3)).astype(np.float32)
    d /= np.linalg.norm(d, axis=1, keepdims=True)
    bumps = 1 + 0.3 * np.sin(3 * d[:, :1]) * np.cos(4 * d[:, 1:2])
    P = (d * 50 * bumps + rng.normal(0, 0.01, (n, 3))).astype(np.float32)
    s = spacing_of(P)
    a = np.linspace(0, 2 * np.pi, 200)
    round_it = np.stack([400 + 150 * np.cos(a), 300 + 120 * np.sin(a)], 1)
    view = np.eye(4)
    view[2, 3] = 250
    works = {
        "isolated points": (lambda: filters.lonely(P, 3 * s, 6), 3),
        "spacing": (lambda: filters.spacing(P), 3),
        "small pieces": (lambda: filters.components(P, 4 * s), 3),
        "thin by distance": (lambda: filters.thin_by_spacing(P, 1.5 * s), 3),
        "thin by share": (lambda: filters.thin_to(P, n // 2), 3),
        "smooth": (lambda: filters.smooth(P, d, 2.5 * s, 0.05), 3),
        "distance to another": (lambda: filters.distance_to(P, P[::2], 2.5 * s, d[::2]), 3),
        "support": (lambda: filters.support_plane(P, tolerance=5.0), 3),
        "lasso": (lambda: seen_inside(P, view, 800.0, (400, 300), round_it), 0.3),
    }
    good = True
    for name, (work, limit) in works.items():
        work()
        start = time.perf_counter()
        work()
        seconds = time.perf_counter() - start
        good &= told(f"clean: {name}, {MILLIONS} million points: {seconds:.2f} s (<= {limit})", seconds <= limit)
    cloud = {
        "points": P, "normals": d, "colors": (d * 100 + 120).astype(np.uint8), "photos": np.full(n, 4, np.uint8),
        "score": d[:, 0].copy(), "precision": d[:, 1].copy(),
    }  # fmt: skip
    with tempfile.TemporaryDirectory() as folder:
        start = time.perf_counter()
        write_cloud(Path(folder) / "c.ply", cloud, "mm")
        seconds = time.perf_counter() - start
    return told(f"clean: written as binary PLY in {seconds:.2f} s (<= 2)", seconds <= 2) and good


BENCHES = {k[6:]: v for k, v in list(globals().items()) if k.startswith("bench_")}


def main():
    """Run the benches named, or all; exit code 1 where a figure is missed."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("names", nargs="*", choices=[*BENCHES, []], help="which; all where none is named")
    chosen = parser.parse_args().names or list(BENCHES)
    done = {}
    return 0 if all([BENCHES[n](done) for n in chosen]) else 1


if __name__ == "__main__":
    sys.exit(main())
