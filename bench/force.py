"""Whether anything can be lost by force: kills, full disks, mutated files, moved folders, a long week.

``python bench/force.py [kills|disk|inputs|around|long ...] [--tries N] [--seed N] [--json FILE]``

kills    SIGKILL at a random moment of adding, every stage, joining, cleaning, mending, undo, migration, export,
         delivery, closing the window: the job opens, what was finished is there bit for bit, done again it comes to
         the same bits, no process and no part stays behind (500 tries)
disk     a disk that fills, at a random number of bytes, during the same, and while files of many kinds, lens cards and
         settings are written: a sentence, nothing lost, going on (120)
inputs   mutated photos, masks, videos, jobs, data files, lens cards, tables, steps: read, or a sentence, within 5 s and
         1 GB (2,000)
around   two windows and a command on one job, a medium that is read only, a job moved, renamed, deleted while it is
         open, a file system that goes away, a clock set back, a job of a newer version
long     300 runs of a small job in one window and worker, jobs opened and closed in between: memory, threads, files

Everything happens in a scratch folder; only processes that were started here are ended. `--seed` gives other moments;
what failed is named with the seed that shows it again.
"""

import argparse
import json
import os
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT)]

from tests import forcing, mutating  # noqa: E402
from tests.scenes import pebble_set  # noqa: E402

TRIES = {"kills": 500, "disk": 120, "inputs": 2000, "around": 1, "long": 300}
TOLD = 8  #: faults that are printed of each part


def kills(home, tries, seed):
    """The Tally of tries for each act."""
    acts = forcing.acts(home / "acts", pebble_set() / "by-hand")
    known = {a.name: forcing.known(a, home / "known") for a in acts}
    for a in acts:
        print(f"  {a.name}: {known[a.name].seconds:.1f} s when nobody kills it", flush=True)
    out = {a.name: forcing.Tally() for a in acts}

    def once(k):
        a = acts[k % len(acts)]
        return a.name, forcing.kill_once(a, known[a.name], home / f"kill {k}", seed + k)

    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        for k, (name, wrong) in enumerate(pool.map(once, range(tries))):
            out[name].add(wrong)
            if wrong:
                print("  ", "\n   ".join(wrong), flush=True)
            if k % 50 == 49:
                print(f"  {k + 1} tries", flush=True)
    return out


def _mount(folder, size):
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={size}", "tmpfs", str(folder)], check=True)


def _may_mount(home):
    try:
        (home / "m").mkdir()
        _mount(home / "m", 1 << 20)
        subprocess.run(["umount", str(home / "m")], check=True)
        return True
    except (subprocess.CalledProcessError, OSError):
        return False


def disk(home, tries, seed):
    """The Tally of tries for each act, on a small file system where one may be mounted, else with a limit of files."""
    import random

    acts = forcing.acts(home / "acts", pebble_set() / "by-hand", (*forcing.ACTS, *forcing.ON_DISK))
    known = {a.name: forcing.known(a, home / "known") for a in acts}
    mount = _mount if _may_mount(home) else None
    print("  on", "small file systems" if mount else "files of limited size", flush=True)
    out = {a.name: forcing.Tally() for a in acts}
    rng = random.Random(seed)
    for k in range(tries):
        a = acts[k % len(acts)]
        free = int(2 ** rng.uniform(9, 25 if a.name == "files" else 23))
        wrong = forcing.fill_disk(a, known[a.name], home / f"disk {k}", free, mount)
        out[a.name].add(wrong)
        if wrong:
            print("  ", "\n   ".join(wrong), flush=True)
        if k % 20 == 19:
            print(f"  {k + 1} tries", flush=True)
    return out


def inputs(home, tries, seed):
    """The Tally of mutated files by their kind."""
    photos = pebble_set() / "by-hand"
    job = forcing.solved(home / "jobs", photos)
    return mutating.campaign(home, job, photos, tries, seed)


def around(home, tries, seed):
    """The Tally of what happens round a job that is open."""
    (act,) = forcing.acts(home / "acts", pebble_set() / "by-hand", ("cloud",))
    return forcing.around(home / "x", act, forcing.known(act, home / "known"), _mount if _may_mount(home) else None)


def long(home, tries, seed):
    """The Tally of what grows over a long row of runs."""
    (act,) = forcing.acts(home / "acts", pebble_set() / "by-hand", ("cloud",))
    return forcing.long_week(home, act.before, tries)


PARTS = {"kills": kills, "disk": disk, "inputs": inputs, "around": around, "long": long}

if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("parts", nargs="*", choices=[[], *PARTS])
    parser.add_argument("--tries", type=int)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--json", type=Path)
    options = parser.parse_args()
    figures, failed = {}, 0
    for part in options.parts or PARTS:
        start = time.monotonic()
        print(f"{part}:", flush=True)
        with tempfile.TemporaryDirectory(prefix="umbrate-force-") as folder:
            found = PARTS[part](Path(folder), options.tries or TRIES[part], options.seed)
        for name, tally in found.items():
            print(f"  {name:28} {tally.tries:5,} tries, {tally.held:5,} held")
            if tally.figure:
                print(f"      {tally.figure}")
            for told in tally.wrong[:TOLD]:
                print(f"      {told}")
            failed += len(tally.wrong)
        tries = sum(t.tries for t in found.values())
        held = sum(t.held for t in found.values())
        print(f"  together {tries:,} tries, {held:,} held, {time.monotonic() - start:.0f} s", flush=True)
        figures[part] = {n: {"tries": t.tries, "held": t.held, "wrong": t.wrong} for n, t in found.items()}
    if options.json:
        options.json.write_text(json.dumps(figures, indent=1))
    sys.exit(1 if failed else 0)
