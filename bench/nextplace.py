"""Is the next place that is proposed while shooting a good one?

    python bench/nextplace.py [--trials 3] [--seed 1] [--first 16] [--more 10] [--folder KEPT]

An object of the studio stands on a table. After 16 photos from random places ten more are taken: where the program
proposes (three at a time, from what it solved so far), at random (mean of 20 draws), and by who knows the truth (each
the one that raises the covered surface most). Covered is a place of the true surface that three photos see from
directions 12 degrees apart or more; what no photo from above the table could cover does not count.
"""

import argparse
import shutil
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))

import umbrate.stages  # noqa: E402, F401
from umbrate.actions.coverage import LEAST_SEEN, LEAST_SPREAD_DEG  # noqa: E402
from umbrate.actions.delivering import camera_rows  # noqa: E402
from umbrate.core.cloud.coverage import Camera, coverage  # noqa: E402
from umbrate.core.cloud.grid import spacing_of  # noqa: E402
from umbrate.core.geometry.pose import center, look_at, pose  # noqa: E402
from umbrate.core.geometry.similarity import compare_poses, scale_of  # noqa: E402
from umbrate.job.store import Job  # noqa: E402
from umbrate.stages.base import Report  # noqa: E402
from umbrate.stages.poses.inputs import GO_ON  # noqa: E402
from umbrate.studio.judge import sample_mesh  # noqa: E402
from umbrate.studio.scene import Shot, pebble  # noqa: E402
from umbrate.studio.shoot import shoot, truth_mesh  # noqa: E402
from umbrate.work.adding import read_folder, take_in  # noqa: E402
from umbrate.work.now import run_now  # noqa: E402
from umbrate.work.watching.shooting import next_places  # noqa: E402

MIDDLE, DISTANCE = np.array([2.0, 0.0, 16.0]), 165.0
HEIGHTS = (8.0, 72.0)  #: over the table, within which somebody can hold a camera
SAMPLES = 12_000


def eye_at(azimuth, height, distance=DISTANCE):
    a, h = np.radians(azimuth), np.radians(height)
    return MIDDLE + distance * np.array([np.cos(a) * np.cos(h), np.sin(a) * np.cos(h), np.sin(h)])


def random_poses(rng, n):
    """Places that are even over the dome, aimed roughly."""
    low, high = np.sin(np.radians(HEIGHTS))
    out = []
    for _ in range(n):
        height = np.degrees(np.arcsin(rng.uniform(low, high)))
        eye = eye_at(rng.uniform(0, 360), height, DISTANCE * (1 + 0.05 * rng.normal()))
        out.append(look_at(eye, MIDDLE + rng.normal(size=3) * 3))
    return out


class Judge:
    """How much of the true surface photos cover."""

    def __init__(self, scene):
        self.lens = scene.lens
        self.points, self.normals = sample_mesh(*truth_mesh(scene.shape, scene.truth_step_mm), SAMPLES)
        self.gap = spacing_of(self.points)
        self.grid = [look_at(eye_at(a, h), MIDDLE) for h in (8, 22, 36, 50, 64, 72) for a in range(0, 360, 15)]
        self.can = self._covered(self.grid)

    def _covered(self, poses):
        c = coverage(self.points, self.normals, [Camera(E, self.lens, None) for E in poses], self.gap)
        return (c.seen >= LEAST_SEEN) & (c.spread >= LEAST_SPREAD_DEG)

    def share(self, poses):
        """Of what can be covered at all."""
        return float((self._covered(poses) & self.can).sum() / self.can.sum())

    def best(self, poses, n):
        """With n more photos, each where it raises the share most; where none does, where most are nearly there."""
        poses = list(poses)
        for _ in range(n):
            shares = [self._worth([*poses, E]) for E in self.grid]
            poses.append(self.grid[int(np.argmax(shares))])
        return self.share(poses)

    def _worth(self, poses):
        c = coverage(self.points, self.normals, [Camera(E, self.lens, None) for E in poses], self.gap)
        covered = (c.seen >= LEAST_SEEN) & (c.spread >= LEAST_SPREAD_DEG) & self.can
        return covered.sum() + 0.2 * np.minimum(c.seen[self.can & ~covered], LEAST_SEEN).sum() / LEAST_SEEN


class Shooter:
    """A job into which photos of the studio come, from given places."""

    def __init__(self, scene, folder):
        self.scene, self.photos = scene, folder / "photos"
        (self.photos / "masks").mkdir(parents=True)
        self.job, self.folder, self.taken = Job.create(folder / "job"), folder, []

    def take(self, poses):
        """Photos from places (true frame), and poses of all."""
        part = self.folder / "part"
        sitting = replace(self.scene.sittings[0], shots=[Shot(E) for E in poses], first_number=len(self.taken) + 1)
        shoot(replace(self.scene, sittings=[sitting]), part)
        for f in sorted((part / sitting.folder).glob("*.jpg")):
            shutil.move(part / sitting.folder / "masks" / f"{f.stem}.png", self.photos / "masks")
            shutil.move(f, self.photos)
        shutil.rmtree(part)
        self.taken += poses
        self.sitting, _, _ = take_in(self.job, "By hand", read_folder(self.photos, self.photos / "masks"))
        done = self.job.result(self.sitting.id, "poses")
        for name in ("photos", "masks", "lens"):
            run_now(self.job, self.sitting, name)
        run_now(self.job, self.sitting, "poses", mode=GO_ON if done else "")

    def propose(self):
        """Places that the program names next, in the true frame."""
        found = next_places(self.job.folder, self.sitting.id, Report())
        rows = {r["name"]: r["pose"] for r in camera_rows(self.job)[0] if r["pose"] is not None}
        names = sorted(rows)
        true = [self.taken[int(n[2:6]) - 1] for n in names]
        M, _, _ = compare_poses([rows[n] for n in names], true)
        s, out = scale_of(M), []  # both are in the job's frame
        for E in [] if isinstance(found, str) else found.poses:
            eye = M[:3, :3] @ center(E) + M[:3, 3]
            R = E[:3, :3] @ (M[:3, :3] / s).T
            out.append(pose(R, -R @ eye))
        return out


def trial(judge, scene, rng, first, more, folder):
    """Shares after the first photos, and with more of them: proposed, random, by the truth."""
    start = random_poses(rng, first)
    shooter = Shooter(scene, folder)
    shooter.take(start)
    proposed, spare = [], 0
    while len(proposed) < more:
        poses = shooter.propose()
        if not poses:  # it says that all is well: the rest are taken anywhere
            spare = more - len(proposed)
            proposed += random_poses(rng, spare)
            break
        poses = poses[: more - len(proposed)]
        # nobody stands under the table
        eyes = [center(E) for E in poses]
        poses = [look_at(np.maximum(e, [-1e9, -1e9, 8.0]), MIDDLE) if e[2] < 8.0 else E
                 for e, E in zip(eyes, poses, strict=True)]  # fmt: skip
        proposed += poses
        if len(proposed) < more:
            shooter.take(poses)
    shooter.job.close()
    base = judge.share(start)
    drawn = [judge.share([*start, *random_poses(rng, more)]) for _ in range(20)]
    return base, judge.share([*start, *proposed]), float(np.mean(drawn)), judge.best(start, more), spare


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--trials", type=int, default=3)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--first", type=int, default=16)
    parser.add_argument("--more", type=int, default=10)
    parser.add_argument("--folder", type=Path)
    a = parser.parse_args()
    folder = a.folder or Path(tempfile.mkdtemp(prefix="umbrate-bench-"))
    scene = pebble()
    judge, raises = Judge(scene), []
    for k in range(a.trials):
        start = time.monotonic()
        rng, place = np.random.default_rng(a.seed + k), folder / f"trial {k}"
        base, ours, drawn, best, spare = trial(judge, scene, rng, a.first, a.more, place)
        raises.append((ours - base, drawn - base, best - base))
        print(f"trial {k + 1}: {100 * base:.1f} % covered after {a.first}; with {a.more} more: "
              f"proposed {100 * ours:.1f} ({spare} of them were not proposed), random {100 * drawn:.1f}, "
              f"by the truth {100 * best:.1f} %, {time.monotonic() - start:.0f} s", flush=True)  # fmt: skip
    ours, drawn, best = np.mean(raises, 0)
    print(f"raised by {100 * ours:.1f} points proposed, {100 * drawn:.1f} random, {100 * best:.1f} by the truth: "
          f"{100 * ours / best:.0f} % of the best")  # fmt: skip
    if not a.folder:
        shutil.rmtree(folder)
    return 0 if ours > drawn and ours >= 0.8 * best else 1


if __name__ == "__main__":
    sys.exit(main())
