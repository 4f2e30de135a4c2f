"""A large job: 300 photos of 24 MP of a simulated pebble taken by hand, its masks a quarter of them.

``python bench/large.py [--photos N ...] [--scales S ...] [--data FOLDER]`` runs the first N photos of the 300, which
stand as near to each other as all of them, and prints for each photo scale the seconds of depth and fusion, the most
memory of all processes, and the disk taken beside what was said before; from two or more numbers it extrapolates
to 300. Each number and scale runs in processes of its own.

The default is the shortened form, 12 and 24 photos. ``--photos 300`` is the whole thing: making the photos takes two
hours on 2 cores, running them two more. Photos are made on first use and stay in FOLDER. ``--poses`` also prints what
finding the poses takes.
"""

import argparse
import json
import subprocess
import sys
import tempfile
import threading
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import psutil

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT)]

from umbrate.job.store import Job  # noqa: E402
from umbrate.sitting.frames import move_box, plain_keep_box  # noqa: E402
from umbrate.stages import BY_NAME  # noqa: E402
from umbrate.stages.base import settings_of  # noqa: E402
from umbrate.stages.dense.forecast import costs  # noqa: E402
from umbrate.stages.dense.inputs import block_for_depth  # noqa: E402
from umbrate.studio.scene import hand_shots, pebble, smaller  # noqa: E402
from umbrate.studio.shoot import shoot  # noqa: E402
from umbrate.work.adding import read_files, take_in  # noqa: E402
from umbrate.work.now import run_now  # noqa: E402

ALL, WIDTH = 300, 6000
MOST_GB, MOST_MIN = {2: 3.0, 1: 4.0}, {2: 70.0}  #: at 300 photos
DISTANCE_MM = 147.0  #: from which the pebble fills a quarter of a photo


def photo_set(folder, count):
    """The folder of the first `count` photos, or of more; made where they are not there yet."""
    made = [int(p.parent.name) for p in folder.glob("*/truth.json")]
    place = folder / str(min((n for n in made if n >= count), default=count))
    if not (place / "truth.json").exists():
        scene = smaller(pebble(), 640 / WIDTH)
        lens = replace(scene.lens, height=WIDTH * 2 // 3, cy=scene.lens.cy * (WIDTH * 2 // 3) / scene.lens.height)
        shots = hand_shots(ALL, DISTANCE_MM, (2.0, 0, 16.0), np.random.default_rng(12), (20.0, 40.0, 60.0))[:count]
        scene = replace(scene, lens=lens, sittings=[replace(scene.sittings[0], shots=shots)], samples=1)
        start = time.monotonic()
        shoot(scene, place, lambda _, text: print(f"{text}, {time.monotonic() - start:.0f} s", flush=True))
    return place


def taken(folder):
    """Bytes of the files below a folder, those that are gone meanwhile left out."""
    out = 0
    for f in Path(folder).rglob("*"):
        try:
            out += f.stat().st_blocks * 512 if f.is_file() else 0
        except OSError:
            pass
    return out


class Watch:
    """The most memory of a process and its children, and disk of a folder.

    What several share counts once; mapped files that are resident are among it.
    """

    def __init__(self, process, folder):
        self.process, self.folder, self.disk, self._end = process, folder, 0, threading.Event()
        self.memory = []  #: seconds before the end, bytes
        self._thread = threading.Thread(target=self._look)
        self._thread.start()

    def _look(self):
        k = 0
        while not self._end.wait(0.2):
            try:
                every = [self.process, *self.process.children(recursive=True)]
                self.memory.append((time.monotonic(), sum(p.memory_full_info().pss for p in every)))
            except psutil.Error:
                pass
            k += 1
            if k % 10 == 0:
                self.disk = max(self.disk, taken(self.folder))

    def close(self):
        """Stop watching."""
        self._end.set()
        self._thread.join()

    def most(self, after=np.inf, until=0.0):
        """The most memory, in GB, between so many seconds before the end."""
        end = self.memory[-1][0]
        return max((m for t, m in self.memory if until <= end - t <= after), default=0) / 1e9


def stage(job_folder, name, scale):
    """Run a stage of a job in this process; prints figures as JSON."""
    with Job.open(job_folder) as job:
        sitting = job.sittings()[0]
        told = {}
        if name == "cloud":
            with job.action("bench"):
                job.set_settings(sitting.id, "cloud", {"photo_scale": scale})
            settings = settings_of(job, sitting, BY_NAME["cloud"])
            block, M = block_for_depth(job, sitting)
            cost = costs(job, sitting, block, M, move_box(plain_keep_box(job, sitting), M), settings)[scale]
            told = {"told_GB": cost.bytes / 1e9, "told_disk_GB": cost.disk / 1e9, "told_s": cost.seconds}
        start = time.monotonic()
        run_now(job, sitting, name)
        told["seconds"] = time.monotonic() - start
        figures = job.result(sitting.id, name).figures
        told |= {k: v for k, v in figures.model_dump(mode="json").items() if isinstance(v, int | float)}
    print(json.dumps(told))


def apart(job_folder, name, scale):
    """`stage` in a process of its own: its figures, with the most memory and the disk it took."""
    before = taken(job_folder)
    call = [sys.executable, __file__, "--stage", name, "--job", str(job_folder), "--scales", str(scale)]
    p = subprocess.Popen(call, stdout=subprocess.PIPE, text=True)
    watch = Watch(psutil.Process(p.pid), job_folder)
    out, _ = p.communicate()
    watch.close()
    if p.returncode:
        raise SystemExit(f"{name} failed")
    f = json.loads(out.splitlines()[-1]) | {"GB": watch.most(), "disk_GB": (watch.disk - before) / 1e9}
    if name == "cloud":
        fuse, depth = f["fuse_s"] + 1.0, f["fuse_s"] + f["depth_s"] + 1.0
        f["GB_of"] = watch.most(until=depth), watch.most(depth, fuse), watch.most(fuse)
    return f


def run(folder, count, scales, poses):
    """Figures of the clouds of a number of photos, by scale."""
    photos, out = photo_set(folder, count), {}
    with tempfile.TemporaryDirectory() as scratch:
        with Job.create(Path(scratch) / "job") as job:
            files = sorted((photos / "by-hand").glob("*.jpg"))[:count]
            masks = {"folder": str(photos / "by-hand" / "masks")}
            sitting, _, _ = take_in(job, "By hand", replace(read_files(files), mask_settings=masks))
            where = job.folder
        for name in ("photos", "masks", "lens", "poses"):
            f = apart(where, name, 1)
            if poses:
                print(f"large: {count} photos, {name}: {f['seconds']:.0f} s, {f['GB']:.2f} GB", flush=True)
        with Job.open(where) as job:
            share = job.result(sitting.id, "masks").figures.share
            solved = job.result(sitting.id, "poses").figures.solved
        for s in scales:
            f = out[s] = apart(where, "cloud", s)
            parts = ", ".join(f"{x:.2f}" for x in f["GB_of"])
            print(
                f"large: {count} photos of 24 MP ({solved} solved), masks {100 * share:.0f} %, at 1/{s}: "
                f"{f['seconds']:.0f} s (straightening {f['prepare_s']:.0f}, depth {f['depth_s']:.0f}, fusing "
                f"{f['fuse_s']:.0f}; said {f['told_s']:.0f}), memory {f['GB']:.2f} GB ({parts}; said "
                f"{f['told_GB']:.2f}), disk {f['disk_GB']:.1f} GB (said {f['told_disk_GB']:.1f}), "
                f"{f['points'] / 1e6:.2f} million points of {f['fused'] / 1e6:.2f}",
                flush=True,
            )
    return out


def main():
    """Print the figures; the exit code is 0 only when all that can be told are reached."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--photos", type=int, nargs="*", default=[24, 12])
    parser.add_argument("--scales", type=int, nargs="*", default=[2, 1])
    parser.add_argument("--data", type=Path, default=Path(tempfile.gettempdir()) / "umbrate-large")
    parser.add_argument("--poses", action="store_true")
    parser.add_argument("--stage", help=argparse.SUPPRESS)
    parser.add_argument("--job", help=argparse.SUPPRESS)
    arguments = parser.parse_args()
    if arguments.stage:
        stage(arguments.job, arguments.stage, arguments.scales[0])
        return 0
    done = {
        n: run(arguments.data, n, arguments.scales, arguments.poses) for n in sorted(arguments.photos, reverse=True)
    }
    good, counts = True, sorted(done)
    for s in arguments.scales:
        last = done[counts[-1]][s]
        if len(counts) > 1:
            first, n = done[counts[0]][s], counts[-1] - counts[0]
            each = {k: (last[k] - first[k]) / n for k in ("seconds", "disk_GB")}
            end = {k: last[k] + each[k] * (ALL - counts[-1]) for k in each}
            power = np.log(last["seconds"] / first["seconds"]) / np.log(counts[-1] / counts[0])
            print(f"large: at 1/{s} the time goes with the power {power:.2f} of the number of photos")
        else:
            end = {k: last[k] * ALL / counts[-1] for k in ("seconds", "disk_GB")}
        whole = counts[-1] == ALL
        limits = [(end["seconds"] / 60, MOST_MIN.get(s), "min")]
        if whole:  # of fewer photos nobody knows it: points become more, until they are thinned
            limits.append((last["GB"], MOST_GB.get(s), "GB"))
        told = "" if whole else f", extrapolated ({last['GB']:.2f} GB at {counts[-1]})"
        text = f"large: {ALL} photos at 1/{s}{told}"
        for value, most, unit in limits:
            if most:
                good &= value <= most
                text += f", {value:.1f} {unit} (<= {most:g}) {'reached' if value <= most else 'MISSED'}"
        print(f"{text}, disk {end['disk_GB']:.0f} GB")
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
