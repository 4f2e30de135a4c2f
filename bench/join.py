"""Joined sittings against truth.

``python bench/join.py [NAME ...]`` prints those named, or all:

demo      both sittings by targets, by surface and by both: turn, shift, scale between them, time, and the whole cloud
"""

import argparse
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from scipy.spatial import cKDTree

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT), str(ROOT / "bench")]

from measure import BARS, run, true_centers  # noqa: E402
from poses import run_to_poses, told  # noqa: E402
from umbrate.core.geometry.similarity import fit_similarity, scale_of  # noqa: E402
from umbrate.core.join.agree import difference  # noqa: E402
from umbrate.job.store import Job  # noqa: E402
from umbrate.stages.frames import load_block  # noqa: E402
from umbrate.stages.joining import GOOD, join_sittings
from umbrate.stages.uniting import united_cloud  # noqa: E402
from umbrate.studio.judge import Truth, nearest_on_triangles  # noqa: E402
from umbrate.work.adding import read_folder, take_in  # noqa: E402
from umbrate.work.demo import SITTINGS, demo_data  # noqa: E402


def to_truth(truth, block, name):
    """The similarity of a block's targets on the object to their true places."""
    true = true_centers(truth, name)
    on = {t["number"] for t in truth.data["sittings"][name]["targets"] if t["frame"] == "object"}
    rows = [int(np.flatnonzero(block["number"] == n)[0]) for n in sorted(on) if n in block["number"] and n in true]
    return fit_similarity(block["points"][rows], np.array([true[int(block["number"][r])] for r in rows]))


def bench_demo(_):
    """Both sittings of the demo, scaled by their bars."""
    truth, good = Truth(demo_data()), True
    with tempfile.TemporaryDirectory() as scratch, Job.create(Path(scratch) / "job") as job:
        for name, sub in SITTINGS:
            photos = demo_data() / sub
            sitting, _, _ = take_in(job, name, read_folder(photos, photos / "masks"))
            for a, b in BARS:
                job.add_length(sitting.id, a, b, 100.0, 0.01)
            run_to_poses(job, sitting)
            run(job, sitting, "scale")
            run(job, sitting, "cloud")
        first, second = job.sittings()
        blocks = [load_block(job, s) for s in (first, second)]
        moves = [to_truth(truth, b, s.name) for b, s in zip(blocks, (first, second), strict=True)]
        G = np.linalg.inv(moves[1]) @ moves[0]
        middle = np.median(blocks[0]["points"], axis=0)
        for ways, limit in (
            (("targets",), 3), (("surface",), 60), (("targets", "surface"), 60), (("targets", "surface", "shape"), 60)
        ):  # fmt: skip
            start = time.perf_counter()
            found = join_sittings(job, first, second, ways)
            seconds = time.perf_counter() - start
            turn, shift, scale = difference(found.M, G, middle)
            good &= told(
                f"demo: by {' and '.join(ways)}: {found.verdict}, turn off by {turn:.3f} degrees (<= 0.1), shift "
                f"{shift:.3f} mm (<= 0.1), scale {100 * abs(scale):.3f} % (<= 0.05), in {seconds:.1f} s (<= {limit})",
                found.verdict == GOOD and turn <= 0.1 and shift <= 0.1 and abs(scale) <= 5e-4 and seconds <= limit,
            )
        whole = Whole([first, second], {(0, 1): found}, [np.eye(4), np.linalg.inv(found.M)], [])
        arrays, lost, _ = united_cloud(job, whole)
        X = arrays["points"] @ moves[0][:3, :3].T / scale_of(moves[0]) + moves[0][:3, 3]
        seen = np.concatenate([truth.seen_surface(s.name) for s in (first, second)])
        near = cKDTree(X).query(seen, workers=-1)[0]
        some = X[np.random.default_rng(0).choice(len(X), 200_000, replace=False)]
        off = nearest_on_triangles(some, truth.vertices, truth.faces)
        pixel = truth.distance / truth.lens.f
        good &= told(
            f"demo: united, {len(X):,} points, {sum(lost):,} doubles left out: {100 * (near < 0.5).mean():.1f} % of "
            f"the surface that either sitting sees within 0.5 mm (>= 98)",
            (near < 0.5).mean() >= 0.98,
        )
        gap = found.ways["shape"]["median"] / pixel
        good &= told(f"demo: the two sheets are {gap:.2f} px apart in the median (<= 0.5)", gap <= 0.5)
        good &= told(
            f"demo: median {np.median(off):.3f} mm to the surface, {100 * (off > 2).mean():.4f} % more than 2 mm off: "
            "nothing of table, mat or foam (<= 0.01)",
            (off > 2).mean() <= 1e-4,
        )
    return good


BENCHES = {k[6:]: v for k, v in list(globals().items()) if k.startswith("bench_")}


def main():
    """Run the benches named, or all; exit code 1 where a figure is missed."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("names", nargs="*", choices=[*BENCHES, []], help="which; all where none is named")
    chosen = parser.parse_args().names or list(BENCHES)
    return 0 if all([BENCHES[n](None) for n in chosen]) else 1


if __name__ == "__main__":
    sys.exit(main())
