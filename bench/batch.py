"""A batch over many small simulated sets of which three are broken, once at a stretch and once killed again and again.

    python bench/batch.py [--sets 20] [--kills 20] [--seed 1] [--folder KEPT]

Prints how many sets were done and how many failed and why, and whether what came of the killed one has the same bits:
clouds, surfaces and the files that were delivered.
"""

import argparse
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))
sys.path.insert(0, str(ROOT))

import umbrate.stages  # noqa: E402, F401
from umbrate.job.store import Job  # noqa: E402
from umbrate.studio.scene import hand_shots, pebble  # noqa: E402
from umbrate.studio.shoot import shoot  # noqa: E402

RECIPE = """\
umbrate = "recipe"
version = 1
name = "Bench"
until = "deliver"
[poses]
features = 2000
[cloud]
photo_scale = "1/2"
rounds = 1
neighbors = 4
[[clean]]
by = "lonely"
[surface]
size_by = "triangles"
triangles = 4000
[[deliver]]
purpose = "cloud"
[[deliver]]
purpose = "exchange"
exchange_format = "ply"
color_by = "vertices"
"""
KEPT = ("cloud", "surface", "cleaning", "mending")


def make_sets(folder, count):
    """Folders of photos of pebbles, each set its own; the last three are broken in different ways."""
    folder.mkdir(parents=True, exist_ok=True)
    made = []
    for k in range(count):
        place = folder / f"pebble {k + 1:02d}"
        if not place.exists():
            shots = hand_shots(12, 165.0, (2.0, 0, 16.0), np.random.default_rng(k))
            scene = pebble()
            scene = replace(scene, sittings=[replace(scene.sittings[0], shots=shots)])
            with tempfile.TemporaryDirectory(dir=folder) as t:
                shoot(scene, Path(t) / "s")
                shutil.move(str(Path(t) / "s" / "by-hand"), place)
        made.append(place)
    for f in sorted(made[-1].glob("*.jpg")):  # cut off in transfer
        f.write_bytes(f.read_bytes()[:3000])
    for f in sorted(made[-2].glob("*.jpg"))[1:]:  # one photo alone
        f.unlink()
    for f in made[-3].glob("*.jpg"):  # the card was empty
        f.unlink()
    return made


def command(sets, recipe, out):
    return [sys.executable, "-m", "umbrate", "batch", *map(str, sets), "--recipe", str(recipe), "--out", str(out)]


def surroundings(home):
    """No display, and settings of their own."""
    return {
        **{k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")},
        "PYTHONPATH": str(ROOT / "src"), "XDG_DATA_HOME": str(home), "XDG_STATE_HOME": str(home),
    }  # fmt: skip


def results(out):
    """What came of a batch: state and reason by name, and hashes of what was made by name."""
    data = json.loads((out / "batch.json").read_text())
    states = {i["name"]: (i["state"], i["why"]) for i in data["items"]}
    made = {}
    for name in states:
        folder = out / f"{name}.umbrate"
        if not (folder / "job.sqlite").exists():
            continue
        with Job.open(folder, writable=False) as job:
            rows = {t: [r[0] for r in job.db.execute(f"SELECT blob FROM {t} ORDER BY id")] for t in KEPT}
            delivered = sorted(
                tuple(f) for s in job.sittings() if (d := job.result(s.id, "deliver"))
                for m in d.figures.made for f in m.files
            )  # fmt: skip
            made[name] = rows, delivered, [len(job.photos(s.id)) for s in job.sittings()]
    return states, made


def killed(line, env, kills, rng, total_s):
    """Run a command, killing all of its processes at random moments; the last time it runs to its end."""
    done = 0
    while done < kills:
        p = subprocess.Popen(
            line, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
        )
        try:
            p.wait(rng.uniform(0.5, 2.2 * total_s / kills + 4.0))
            break
        except subprocess.TimeoutExpired:
            os.killpg(p.pid, signal.SIGKILL)
            p.wait()
            done += 1
    subprocess.run(line, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    return done


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--sets", type=int, default=20)
    parser.add_argument("--kills", type=int, default=20)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--folder", type=Path)
    a = parser.parse_args()
    folder = a.folder or Path(tempfile.mkdtemp(prefix="umbrate-bench-"))
    sets = make_sets(folder / "sets", a.sets)
    recipe, env = folder / "bench.toml", surroundings(folder / "home")
    recipe.write_text(RECIPE)
    for name in ("whole", "killed"):
        shutil.rmtree(folder / name, ignore_errors=True)
    start = time.monotonic()
    subprocess.run(command(sets, recipe, folder / "whole"), env=env, stdout=subprocess.DEVNULL,
                   stderr=subprocess.DEVNULL, check=False)  # fmt: skip
    seconds = time.monotonic() - start
    states, made = results(folder / "whole")
    right = sum(s == "done" for s, _ in states.values())
    print(f"{a.sets} sets: {right} done, {len(states) - right} failed, {seconds:.0f} s")
    for name, (state, why) in states.items():
        if state != "done":
            print(f"  {name}: {state}. {why}")
    line = command(sets, recipe, folder / "killed")
    kills = killed(line, env, a.kills, random.Random(a.seed), seconds)
    again, made_again = results(folder / "killed")
    same = made == made_again
    print(f"killed {kills} times: {'the same bits' if same else 'NOT the same'}, "
          f"{'the same states' if again == states else 'OTHER states'}")  # fmt: skip
    if not a.folder:
        shutil.rmtree(folder)
    return 0 if same and again == states and right == a.sets - 3 else 1


if __name__ == "__main__":
    sys.exit(main())
