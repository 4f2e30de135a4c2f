"""What several tests look at, made once in a run: the simulated pebble with its truth."""

import atexit
import fcntl
import functools
import os
import shutil
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np

from umbrate.studio.judge import Truth
from umbrate.studio.scene import pebble, smaller, whistle
from umbrate.studio.shoot import shoot

#: names the folder of what all processes of a run share
SETS = "UMBRATE_TEST_SETS"


def scratch(name="umbrate-test-"):
    """A folder that is removed when the run ends."""
    folder = Path(tempfile.mkdtemp(prefix=name))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return folder


def made_once(name, make):
    """A folder that ``make(folder)`` fills, once for all processes of a run. Not to be written to."""
    home = Path(os.environ[SETS]) if SETS in os.environ else scratch()
    # alone in its folder: a job names photos beside it by where they are from there, and is copied elsewhere
    folder, done = home / f"{name}.d" / name, home / f"{name}.done"
    with open(home / f"{name}.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not done.exists():
            folder.parent.mkdir()
            make(folder)
            done.touch()
    return folder


@functools.cache
def pebble_set():
    """Folder of the simulated pebble set: by-hand/, by-hand/masks/, truth.json, truth.ply. Not to be written to."""
    return made_once("pebble", lambda folder: shoot(pebble(), folder))


@functools.cache
def pebble_truth():
    """The Truth of that set."""
    return Truth(pebble_set())


@functools.cache
def card_set():
    """Folder of both demo sittings made small, six photos and a plate each, and of all together in card/."""
    return made_once("set", _shoot_card)


def _shoot_card(folder):
    scene = smaller(whistle(), 5)
    scene.sittings = [replace(s, shots=s.shots[:6]) for s in scene.sittings]
    shoot(replace(scene, truth_step_mm=5.0), folder)
    (folder / "card").mkdir()
    for s in ("upright", "on-its-back"):
        for file in (*(folder / s).glob("*.jpg"), *(folder / s / "plates").glob("*.jpg")):
            shutil.copy(file, folder / "card")


def true_views(scale=1):
    """Pinhole views of the pebble with true poses: list of (View, colors (h, w, 3) uint8), by name."""
    from umbrate.core.dense.depth import View
    from umbrate.core.imaging.decode import read_mask, read_picture
    from umbrate.core.imaging.undistort import undistort

    truth, out = pebble_truth(), []
    for name in sorted(truth.poses):
        file = truth.folder / name
        mask = read_mask(file.parent / "masks" / (file.stem + ".png"))
        straight, inside, pinhole = undistort(read_picture(file), mask, truth.lens, scale)
        K = np.array([pinhole.f, pinhole.cx, pinhole.cy])
        out.append(
            (View(np.ascontiguousarray(straight.mean(2)), inside, K, truth.poses[name]), straight.astype(np.uint8))
        )
    return out
