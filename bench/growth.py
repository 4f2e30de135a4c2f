"""How solving grows with the number of photos: a simulated pebble, 200 photos of 12 MP taken by hand, with truth.

``python bench/growth.py [--photos N ...] [--data FOLDER]`` prints, for each number of photos (25, 50, 100, 200), the
seconds of the Poses stage and of its parts, the pairs matched, the most memory used, and the errors. Each number runs
in a process of its own. The photos are made on first use, which takes some 45 minutes on 2 cores, and stay in FOLDER.
"""

import argparse
import json
import resource
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT)]

from bench.poses import run_to_poses  # noqa: E402

from umbrate.actions.delivering import camera_rows  # noqa: E402
from umbrate.job.store import Job  # noqa: E402
from umbrate.studio.judge import Truth  # noqa: E402
from umbrate.studio.scene import hand_shots, pebble, smaller  # noqa: E402
from umbrate.studio.shoot import shoot  # noqa: E402
from umbrate.work.adding import read_files, take_in  # noqa: E402

ALL = 200
LIMIT_S, LIMIT_GB = 25 * 60, 4.0


def photo_set(folder):
    """Make the photos where they are not there yet."""
    if (folder / "truth.json").exists():
        return
    scene = smaller(pebble(), 640 / 4000)
    shots = hand_shots(ALL, 165.0, (2.0, 0, 16.0), np.random.default_rng(12), (20.0, 40.0, 60.0))
    scene = replace(scene, sittings=[replace(scene.sittings[0], shots=shots)], samples=1)
    start = time.monotonic()
    shoot(scene, folder, lambda share, text: print(f"{text}, {time.monotonic() - start:.0f} s", flush=True))


def solve(folder, count):
    """Solve every so manieth photo; prints the figures as JSON."""
    truth = Truth(folder)
    files = sorted((folder / "by-hand").glob("*.jpg"))[:: ALL // count]
    with tempfile.TemporaryDirectory() as scratch, Job.create(Path(scratch) / "job") as job:
        masks = {"folder": str(folder / "by-hand" / "masks")}
        sitting, _, _ = take_in(job, "By hand", replace(read_files(files), mask_settings=masks))
        out, seconds = run_to_poses(job, sitting)
        rows, *_ = camera_rows(job)
    judged, _ = truth.judge_poses("By hand", {r["name"]: r["pose"] for r in rows if r["pose"] is not None})
    keep = (
        "solved",
        "pairs",
        "pairs_tried",
        "features_s",
        "matching_s",
        "solving_s",
        "points",
        "pairs_chosen",
        "features_median",
    )
    figures = {k: getattr(out.figures, k) for k in keep}
    gigabytes = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    print(json.dumps({**figures, **judged, "photos": count, "seconds": seconds, "GB": gigabytes}))


def main():
    """Print the figures; the exit code is 0 only when all are reached."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--photos", type=int, nargs="*", default=[25, 50, 100, 200])
    parser.add_argument("--data", type=Path, default=Path(tempfile.gettempdir()) / "umbrate-growth")
    parser.add_argument("--one", type=int, help=argparse.SUPPRESS)
    arguments = parser.parse_args()
    if arguments.one:
        solve(arguments.data, arguments.one)
        return 0
    photo_set(arguments.data)
    done, good = {}, True
    for count in arguments.photos:
        call = [sys.executable, __file__, "--one", str(count), "--data", str(arguments.data)]
        f = json.loads(subprocess.run(call, capture_output=True, text=True, check=True).stdout.splitlines()[-1])
        done[count] = f
        print(
            f"growth: {count} photos of 12 MP: {f['seconds']:.0f} s (features {f['features_s']:.0f}, matching "
            f"{f['matching_s']:.0f} of {f['pairs_tried']} pairs, solving {f['solving_s']:.0f}), {f['GB']:.2f} GB, "
            f"{f['features_median']} features a photo, {f['solved']} solved, rotation "
            f"{f['rotation_deg_median']:.4f} degrees, center {f['center_percent_median']:.4f} %",
            flush=True,
        )
        good &= f["solved"] == count
    if 200 in done:
        reached = done[200]["seconds"] <= LIMIT_S and done[200]["GB"] <= LIMIT_GB
        print(f"growth: 200 photos in 25 minutes and 4 GB  {'reached' if reached else 'MISSED'}")
        good &= reached
    if {100, 200} <= set(done):
        power = np.log2(done[200]["seconds"] / done[100]["seconds"])
        print(f"growth: power {power:.2f} of the number from 100 to 200 (< 2)  {'reached' if power < 2 else 'MISSED'}")
        good &= power < 2
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
