"""A photo set with truth that somebody else rendered: run the job on it and let its own evaluator judge.

``python bench/photoset.py FOLDER [STAGE.SETTING=VALUE ...]`` takes a folder with photos, ``truth.json``
and, beside it, ``evaluate.py``; it prints the stages' times and the evaluator's figures, of the cloud, and of
open surfaces made from the cloud and from the depth maps.
"""

import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]


def call(*command, warned=False):
    """Run a command; stop where it fails. `warned`: warnings about photos, exit code 1, are no failure."""
    if subprocess.call([str(c) for c in command]) > warned:
        sys.exit(f"failed: {' '.join(map(str, command))}")


def judge_points(evaluator, truth, scratch, file):
    """The evaluator's figures of the points, or the vertices, in a file."""
    call(
        sys.executable, evaluator, "cloud", truth, f"{scratch}/{file}", "--cameras", f"{scratch}/cameras.json",
        "--drop-below", "1", "--sitting", "all",
    )  # fmt: skip


def main(folder, sets):
    """Run and judge."""
    folder = Path(folder).resolve()
    evaluator, truth = folder.parent / "evaluate.py", folder / "truth.json"
    umbrate = ROOT / "umbrate"
    with tempfile.TemporaryDirectory() as scratch:
        job = Path(scratch) / "job.umbrate"
        start = time.monotonic()
        call(umbrate, "new", job)
        call(umbrate, "add", job, folder, "--sitting", "all", warned=True)
        call(umbrate, "run", job, "--to", "cloud", *(x for s in sets for x in ("--set", s)), warned=True)
        print(f"whole job up to the cloud: {time.monotonic() - start:.0f} s", flush=True)
        call(umbrate, "export", job, "cameras", f"{scratch}/cameras.json")
        call(umbrate, "export", job, "cloud", f"{scratch}/points.ply")
        call(sys.executable, evaluator, "poses", truth, f"{scratch}/cameras.json")
        judge_points(evaluator, truth, scratch, "points.ply")
        for source in ("cloud", "depth"):
            start = time.monotonic()
            made = ("surface.mode=open", f"surface.source={source}")
            call(umbrate, "run", job, "--to", "surface", *(x for s in made for x in ("--set", s)), warned=True)
            print(f"open surface from {source}: {time.monotonic() - start:.0f} s", flush=True)
            call(umbrate, "export", job, "surface", f"{scratch}/{source}.ply")
            judge_points(evaluator, truth, scratch, f"{source}.ply")


if __name__ == "__main__":
    if len(sys.argv) < 2:
        sys.exit(__doc__)
    main(sys.argv[1], sys.argv[2:])
