"""A cluster of two workers with one thread each beside the threads of one process, and what travels.

``python bench/cluster.py [--rounds N] [--scale S]`` starts a scheduler and two workers on this machine, then runs Poses
and Cloud of the demo's upright sitting in turn here, with two threads, and there; it prints the ratio of the times and
whether the bits are the same. Then it does so with two workers that see no file of this machine, the first time with
empty caches and once more, and prints how many bytes travel for each photo.
"""

import argparse
import os
import sys
import tempfile
import time
from pathlib import Path

os.environ |= dict.fromkeys(("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS"), "1")  # as in a worker

import numpy as np

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT)]

from tests.test_cluster import ADDRESS, APART, Machines  # noqa: E402

from umbrate.job.store import Job  # noqa: E402
from umbrate.stages import BY_NAME  # noqa: E402
from umbrate.stages.base import Report, settings_of  # noqa: E402
from umbrate.stages.executor import LocalExecutor  # noqa: E402
from umbrate.work.adding import read_folder, take_in  # noqa: E402
from umbrate.work.cluster import executor_for  # noqa: E402
from umbrate.work.demo import demo_data  # noqa: E402
from umbrate.work.now import run_now  # noqa: E402

MOST = 1.15  #: of the time with two threads


def once(scale, address):
    """Seconds of Poses and Cloud, what they made, and the bytes sent and received."""
    out, made, sent, received = {}, {}, 0, 0
    folder = demo_data() / "upright"
    with tempfile.TemporaryDirectory() as scratch, Job.create(Path(scratch) / "job") as job:
        sitting, _, _ = take_in(job, "Upright", read_folder(folder, folder / "masks"))
        for name in ("photos", "masks", "lens"):
            run_now(job, sitting, name)
        with job.action("bench"):
            job.set_settings(sitting.id, "cloud", {"photo_scale": scale})
        for name in ("poses", "cloud"):
            inputs = BY_NAME[name].gather(job, sitting, settings_of(job, sitting, BY_NAME[name]))
            start = time.monotonic()
            executor = executor_for(address, inputs, 2) if address else LocalExecutor(2)
            try:
                result = run_now(job, sitting, name, report=Report(executor))
            finally:
                executor.close()
            out[name] = time.monotonic() - start
            made |= {(name, *k): v for k, v in result.artefacts.items()}
            if address:
                sent, received = sent + executor.counted.sent, received + executor.counted.received
        photos = len(job.photos(sitting.id))
    return out, made, sent / photos, received / photos


def main():
    """Print the figures; the exit code is 0 only when all are reached."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--scale", type=int, default=2)
    arguments = parser.parse_args()
    machines = Machines(("one", ("-m", "umbrate")), ("two", ("-m", "umbrate")))
    try:
        here, there = [], []
        for k in range(arguments.rounds + 1):
            a, made, *_ = once(arguments.scale, None)
            b, same, sent, received = once(arguments.scale, ADDRESS)
            if made != same:
                raise SystemExit("cluster: other bits than here  MISSED")
            if k:  # the first one loads what is compiled
                here.append(a)
                there.append(b)
    finally:
        machines.close()
    good = True
    for name in ("poses", "cloud"):
        ours, theirs = (np.median([x[name] for x in some]) for some in (here, there))
        ratio = np.median([b[name] / a[name] for a, b in zip(here, there, strict=True)])
        good &= ratio <= MOST
        print(
            f"cluster: {name} of 24 photos of 2 MP: {ours:.1f} s with two threads here, {theirs:.1f} s with two "
            f"workers, ratio {ratio:.2f} (<= {MOST}), the same bits  {'reached' if ratio <= MOST else 'MISSED'}"
        )
    print(f"cluster: with a shared folder {sent / 1e3:.0f} kB to the workers and {received / 1e3:.0f} kB back a photo")
    machines = Machines(("one", ("-c", APART)), ("two", ("-c", APART)))
    try:
        for text in ("empty caches", "caches of a run before"):
            b, same, sent, received = once(arguments.scale, ADDRESS)
            if made != same:
                raise SystemExit("cluster: other bits than here  MISSED")
            print(
                f"cluster: without a shared folder, {text}: {sum(b.values()):.1f} s, {sent / 1e6:.2f} MB to the "
                f"workers and {received / 1e6:.2f} MB back a photo, the same bits"
            )
    finally:
        machines.close()
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
