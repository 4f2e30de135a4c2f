"""A photo set with truth that somebody else rendered: run the job on it and let its own evaluator judge.

``python bench/photoset.py FOLDER [STAGE.SETTING=VALUE ...]`` takes a folder with photos, ``truth.json``
and, beside it, ``evaluate.py``; it prints the stages' times and the evaluator's figures.
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
        call(umbrate, "run", job, *(x for s in sets for x in ("--set", s)), warned=True)
        print(f"whole job: {time.monotonic() - start:.0f} s", flush=True)
        call(umbrate, "export", job, "cameras", f"{scratch}/cameras.json")
        call(umbrate, "export", job, "cloud", f"{scratch}/cloud.ply")
        call(sys.executable, evaluator, "poses", truth, f"{scratch}/cameras.json")
        call(
            sys.executable, evaluator, "cloud", truth, f"{scratch}/cloud.ply", "--cameras", f"{scratch}/cameras.json",
            "--drop-below", "1", "--sitting", "all",
        )  # fmt: skip


if __name__ == "__main__":
    if len(sys.argv) < 2:
        sys.exit(__doc__)
    main(sys.argv[1], sys.argv[2:])
