"""What several tests look at, made once in a run: the simulated pebble with its truth."""

import atexit
import functools
import shutil
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np

from umbrate.studio.judge import Truth
from umbrate.studio.scene import pebble, smaller, whistle
from umbrate.studio.shoot import shoot


def scratch(name="umbrate-test-"):
    """A folder that is removed when the run ends."""
    folder = Path(tempfile.mkdtemp(prefix=name))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return folder


@functools.cache
def pebble_set():
    """Folder of the simulated pebble set: by-hand/, by-hand/masks/, truth.json, truth.ply. Not to be written to."""
    folder = scratch() / "pebble"
    shoot(pebble(), folder)
    return folder


@functools.cache
def pebble_truth():
    """The Truth of that set."""
    return Truth(pebble_set())


@functools.cache
def card_set():
    """Folder of both demo sittings made small, six photos and a plate each, and of all together in card/."""
    folder = scratch() / "set"
    scene = smaller(whistle(), 5)
    scene.sittings = [replace(s, shots=s.shots[:6]) for s in scene.sittings]
    shoot(replace(scene, truth_step_mm=5.0), folder)
    (folder / "card").mkdir()
    for s in ("upright", "on-its-back"):
        for file in (*(folder / s).glob("*.jpg"), *(folder / s / "plates").glob("*.jpg")):
            shutil.copy(file, folder / "card")
    return folder


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
