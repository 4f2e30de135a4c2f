"""Masks made by themselves against the true ones, and bare frames found, on the demo photos.

``python bench/masks.py [--green FOLDER]`` runs the Masks stage as a job does and prints the intersection
over union of each method: the median photo and the worst. FOLDER is a set made with ``umbrate simulate
whistle-on-green FOLDER``; without it the set is made first, which takes some minutes.
"""

import argparse
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src")]

from umbrate.core.imaging.decode import read_mask  # noqa: E402
from umbrate.core.masking.clean import overlap  # noqa: E402
from umbrate.job.store import Job  # noqa: E402
from umbrate.sitting.masks import decode_mask  # noqa: E402
from umbrate.stages import BY_NAME  # noqa: E402
from umbrate.stages.base import parse_settings  # noqa: E402
from umbrate.studio.scene import whistle_on_green  # noqa: E402
from umbrate.studio.shoot import shoot  # noqa: E402
from umbrate.work.adding import read_folder, take_in  # noqa: E402
from umbrate.work.now import run_now  # noqa: E402

#: the foam block and the paper of mat and scale bars, which turn with the object
SUPPORT = "#F5FAFF, #DDDDDB"
HOLES = 4.0  #: the targets stuck on the object are of that paper too; each is less than this share (%) of it
LIMITS = {"plate": (0.97, 0.93), "still": (0.97, 0.93), "color": (0.98, 0.98)}


def judge(title, photos, method, more):
    """Run one method over a folder of photos with masks beside them; print and return whether it is good enough."""
    with tempfile.TemporaryDirectory() as scratch, Job.create(Path(scratch) / "job") as job:
        sitting, _, _ = take_in(job, "all", read_folder(photos))
        for name in ("photos", "masks"):
            settings = parse_settings(BY_NAME[name], {"method": method, **more} if name == "masks" else {})
            start = time.monotonic()
            run_now(job, sitting, name, settings)
        seconds = time.monotonic() - start
        values = []
        for p in job.photos(sitting.id):
            key = job.result(sitting.id, "masks").blob("mask", p.id)
            truth = read_mask(Path(photos) / "masks" / (Path(p.name).stem + ".png"))
            mask = decode_mask(job.blobs.get_bytes(key)) if key else np.zeros_like(truth)
            values.append(overlap(mask, truth))
    median, worst = float(np.median(values)), min(values)
    good = median >= LIMITS[method][0] and worst >= LIMITS[method][1]
    print(
        f"{title:42s} median {median:.4f}  worst {worst:.4f}  {'reached' if good else 'MISSED'}  {seconds:5.1f} s",
        flush=True,
    )
    return good


def main():
    """Print all figures; the exit code is 0 only when all are reached."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--green", help="folder of the simulated set on a green cloth")
    green = parser.parse_args().green
    good = True
    for folder, title in (("upright", "upright"), ("on-its-back", "on its back")):
        photos = ROOT / "demo" / folder
        more = {"leave_out": SUPPORT, "holes": HOLES}
        good &= judge(f"{title}: backdrop plate", photos, "plate", {**more, "plates": str(photos / "plates")})
        good &= judge(f"{title}: still against turning", photos, "still", more)
    with tempfile.TemporaryDirectory() as scratch:
        if green is None:
            green = scratch
            shoot(whistle_on_green(), green)
        good &= judge("on green: backdrop color", Path(green) / "upright", "color", {"backdrop_color": "#46AF5A"})
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
