"""Recipes on the demo's photos: whether one saved from a job makes the same again, and what those built in take.

python bench/recipes.py same      the demo is run, its recipe saved and followed with the same photos: the same bits?
python bench/recipes.py costs     every built-in recipe: seconds, and peak memory of its process and the worker
[--only SHORT_NAME] [--folder KEPT]
"""

import argparse
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))

import umbrate.stages  # noqa: E402, F401
from umbrate.job.store import Job  # noqa: E402
from umbrate.work.adding import mask_folder_of, read_folder, take_in  # noqa: E402
from umbrate.work.demo import SITTINGS, demo_data, make_demo_job  # noqa: E402
from umbrate.work.recipes.shelf import built_in  # noqa: E402
from umbrate.work.recipes.taking import recipe_of_job  # noqa: E402
from umbrate.work.recipes.text import write_recipe  # noqa: E402

UPRIGHT, BOTH = SITTINGS[:1], SITTINGS
#: by the short name: sittings of the demo, and how many photos of each (None: all)
USES = {
    "turntable": (BOTH, None), "handheld": (UPRIGHT, None), "precise": (UPRIGHT, None), "relief": (UPRIGHT, 2),
    "quick": (BOTH, None), "print": (BOTH, None),
}  # fmt: skip


def job_of(folder, sittings, photos=None, lengths=False):
    """A job with photos of the demo and nothing chosen but where the masks are; as people bring them in."""
    with Job.create(folder) as job:
        for name, sub in sittings:
            place = demo_data() / sub
            incoming = read_folder(place, mask_folder_of(place))
            if photos:
                del incoming.records[photos:]
            sitting, _, _ = take_in(job, name, incoming)
            if lengths:
                job.add_length(sitting.id, "192", "194", 100.0, 0.01)
        if len(sittings) > 1:
            job.add_joined([s.id for s in job.sittings()])
        return job.folder


def run(*arguments):
    """Run a command to its end: exit code and seconds."""
    start = time.monotonic()
    line = [sys.executable, "-m", "umbrate", "run", *map(str, arguments)]
    env = {"PYTHONPATH": str(ROOT / "src"), "PATH": "/usr/bin:/bin"}
    done = subprocess.run(line, capture_output=True, text=True, env=env, check=False)
    if done.returncode:
        print(done.stdout[-800:], done.stderr[-800:])
    return done.returncode, time.monotonic() - start


def clouds_of(folder):
    """Hashes of a job's clouds by sitting, oldest first (a name is chosen by people)."""
    with Job.open(folder, writable=False) as job:
        return [[c.blob for c in job.clouds(s.id)] for s in job.sittings()]


def same(folder):
    """The demo by itself and by its own recipe."""
    with make_demo_job(folder / "demo.umbrate") as job:
        demo = job.folder
    code, seconds = run(demo, "--to", "cloud")
    with Job.open(demo, writable=False) as job:
        recipe, left = recipe_of_job(job, "Demo")
    file = folder / "demo.toml"
    file.unlink(missing_ok=True)
    write_recipe(file, recipe)
    again = job_of(folder / "again.umbrate", SITTINGS)
    code2, seconds2 = run(again, "--recipe", file)
    # a row that is joined needs no clouds of its members, and the recipe asks for none
    one, two = clouds_of(demo)[-1], clouds_of(again)[-1]
    good = not code and not code2 and bool(one) and one == two
    print(f"run {seconds:.0f} s, by the recipe {seconds2:.0f} s; left out: {' '.join(left) or 'nothing'}")
    print(f"cloud of the whole: {'the same bits' if good else f'NOT the same: {one} {two}'}")
    return good


def costs(folder, only):
    """What the recipes that are built in take."""
    for k in built_in():
        if only and k.short != only:
            continue
        sittings, photos = USES[k.short]
        job = job_of(folder / f"{k.short}.umbrate", sittings, photos, lengths=k.short == "print")
        code, seconds = run(job, "--recipe", k.short)
        peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1e6
        with Job.open(job, writable=False) as j:
            n = sum(len(j.photos(s.id)) for s in j.photo_sittings())
            cloud = next((c for s in reversed(j.sittings()) for c in j.clouds(s.id)), None)
        told = f"{cloud.left:,} points" if cloud else "no cloud"
        print(f"{k.short}: {n} photos of 2 MP, {seconds:.0f} s, largest process so far {peak:.2f} GB, {told}"
              f"{', FAILED' if code else ''}", flush=True)  # fmt: skip
    return True


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("what", choices=("same", "costs"))
    parser.add_argument("--only", choices=[*USES])
    parser.add_argument("--folder", type=Path)
    a = parser.parse_args()
    folder = a.folder or Path(tempfile.mkdtemp(prefix="umbrate-bench-"))
    folder.mkdir(parents=True, exist_ok=True)
    try:
        return 0 if (same(folder) if a.what == "same" else costs(folder, a.only)) else 1
    finally:
        if not a.folder:
            shutil.rmtree(folder)


if __name__ == "__main__":
    sys.exit(main())
