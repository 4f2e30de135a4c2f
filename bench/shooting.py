"""How long from a photo's arrival until it is judged, has its place in the scene, and stands in the block.

    python bench/shooting.py [--of FOLDER] [--photos 48] [--size 4000 3000] [--late 3] [--folder KEPT]

Photos of the studio, enlarged to the size of a camera's (12 MP), come into a job: all but the last few at once, those
one after another. Prints seconds from the moment each of these lies in the folder whole. They are rendered once.
"""

import argparse
import shutil
import statistics
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
from PIL import Image

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))

import umbrate.stages  # noqa: E402, F401
from umbrate.core.geometry.pose import center  # noqa: E402
from umbrate.core.geometry.rotation import rotation_angle  # noqa: E402
from umbrate.job.store import Job  # noqa: E402
from umbrate.sitting.frames import load_block  # noqa: E402
from umbrate.studio.scene import turntable_shots, whistle  # noqa: E402
from umbrate.studio.shoot import shoot  # noqa: E402
from umbrate.work.queue import Queue  # noqa: E402
from umbrate.work.tasks import Tasks  # noqa: E402
from umbrate.work.watching.shooting import Shooting  # noqa: E402
from umbrate.work.worker import Worker  # noqa: E402

LOOK_S = 0.4  #: as the window looks


def simulated(folder):
    """Photos of one object on a turntable, in two rings of 24, of 2 MP as the studio renders them; made once."""
    if not (folder / "upright").is_dir():
        scene = whistle()
        rings = ((22.0, 0.0, False), (48.0, 7.5, True))
        shots = turntable_shots(rings, 24, 355.0, (0, 0, 33.0), np.random.default_rng(3))
        upright = replace(scene.sittings[0], shots=shots, plates=False)
        part = folder.with_suffix(".part")
        shutil.rmtree(part, ignore_errors=True)
        shoot(replace(scene, sittings=[upright], truth_step_mm=2.0), part)
        part.rename(folder)
    return sorted((folder / "upright").glob("*.jpg"))


def enlarged(files, folder, size):
    """Photos in a camera's size, with their masks."""
    folder.mkdir(parents=True, exist_ok=True)
    out = []
    for f in files:
        place = folder / f.name
        if not place.exists():
            with Image.open(f) as image:
                pixels = size[::-1] if image.size[0] < image.size[1] else size
                if (mask := f.parent / "masks" / f"{f.stem}.png").exists():
                    (folder / "masks").mkdir(exist_ok=True)
                    with Image.open(mask) as m:
                        m.resize(pixels, Image.Resampling.NEAREST).save(folder / "masks" / f"{f.stem}.png")
                image.resize(pixels, Image.Resampling.BICUBIC).save(place, quality=92, exif=image.getexif())
        out.append(place)
    return out


class Watch:
    """A folder that is watched, and when what was told of it."""

    def __init__(self, job, folder):
        self.queue, self.tasks, self.told = Queue(job, Worker()), Tasks(), []
        self.work = Shooting(job, "Shot", folder, self.queue, self.tasks, self._tell)
        self._looked, self.places = 0.0, {}

    def _tell(self, kind, text):
        self.told.append((time.monotonic(), kind, text))
        if kind == "first":
            self.places |= {x.name: x.pose for x in self.work.first.values()}

    def close(self):
        """End the workers."""
        self.queue.close()
        self.tasks.close()

    def until(self, done, limit_s=1200):
        """Go on until something holds; seconds that took."""
        start = time.monotonic()
        while not done():
            if time.monotonic() - start > limit_s:
                raise SystemExit(f"it took more than {limit_s} s: {self.told[-3:]}")
            if time.monotonic() - self._looked >= LOOK_S:
                self._looked = time.monotonic()
                self.work.take(self.work.look())
            self.queue.poll(0.02)
            self.tasks.poll(0.02)
            self.work.step()
        return time.monotonic() - start


def apart(job, sitting, name, E):
    """How far a first place is from where the block has the photo: degrees, and % of the distance to the object."""
    block = load_block(job, sitting)
    row = block.solved_row(next(p.id for p in job.photos(sitting.id) if p.name == name))
    if row is None:
        return np.nan, np.nan
    F = block.poses[row]
    turn = np.degrees(rotation_angle(E[:3, :3] @ F[:3, :3].T))
    far = np.linalg.norm(center(F) - np.median(block.points, axis=0))
    return turn, 100 * np.linalg.norm(center(E) - center(F)) / far


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--photos", type=int, default=48)
    parser.add_argument("--size", type=int, nargs=2, default=(4000, 3000))
    parser.add_argument("--late", type=int, default=3)
    parser.add_argument("--folder", type=Path)
    parser.add_argument("--of", type=Path, help="a folder of photos, in place of simulated ones")
    parser.add_argument("--cache", type=Path, default=Path.home() / ".cache" / "umbrate" / "shooting")
    a = parser.parse_args()
    folder = a.folder or Path(tempfile.mkdtemp(prefix="umbrate-bench-"))
    found = sorted(a.of.glob("*.jpg")) if a.of else simulated(a.cache)
    photos = enlarged(found[: a.photos], folder / "photos", tuple(a.size))
    place = folder / "in"
    shutil.rmtree(place, ignore_errors=True)
    shutil.rmtree(folder / "job.umbrate", ignore_errors=True)
    place.mkdir(parents=True)
    if (folder / "photos" / "masks").is_dir():
        shutil.copytree(folder / "photos" / "masks", place / "masks")
    for f in photos[: -a.late]:
        shutil.copy(f, place)
    judged, first_placed, placed = [], [], []
    with Job.create(folder / "job") as job:
        watch = Watch(job, place)
        seconds = watch.until(
            lambda: any(k == "next" for _, k, _ in watch.told) and watch.queue.idle and watch.tasks.idle
        )
        print(f"the first {len(photos) - a.late} of {a.size[0]} x {a.size[1]} pixels: {seconds:.0f} s", flush=True)
        for f in photos[-a.late :]:
            start, count = time.monotonic(), len(watch.told)
            shutil.copy(f, place)
            watch.until(lambda n=count: any(k == "placed" for _, k, _ in watch.told[n:]))
            for kinds, out in ((("good", "bad"), judged), (("first",), first_placed), (("placed",), placed)):
                out.append(next((t for t, k, _ in watch.told[count:] if k in kinds), np.nan) - start)
            first = watch.places.get(f.name)
            watch.until(lambda: watch.queue.idle and watch.tasks.idle)
            off = (np.nan, np.nan) if first is None else apart(job, watch.work.sitting, f.name, first)
            print(
                f"{f.name}: judged after {judged[-1]:.1f} s, a first place after {first_placed[-1]:.1f} s, in the "
                f"block after {placed[-1]:.1f} s; the first place is {off[0]:.2f}° and {off[1]:.2f} % of the way off",
                flush=True,
            )
        watch.close()
    if not a.folder:
        shutil.rmtree(folder)
    good = max(judged) <= 2.0 and statistics.median(first_placed) <= 4.0
    print(
        f"judged {statistics.median(judged):.1f} s (2 wanted), its place in the scene "
        f"{statistics.median(first_placed):.1f} s (4 wanted), in the block {statistics.median(placed):.1f} s"
    )
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
