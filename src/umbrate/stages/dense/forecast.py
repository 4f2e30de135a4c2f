"""What a cloud will cost before it is computed: time, point spacing and memory at each photo scale."""

import os
import shutil
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from ...core.cloud.keepbox import BOX_FACES, KeepBox
from ...core.dense.speed import hypotheses, machine_speed, memory
from ...core.errors import UmbrateError
from ...core.geometry.similarity import scale_of
from ...core.memory import free_memory
from ...job.blobs import BlobStore
from ...sitting.blocks import stored_block
from ...sitting.frames import frame_of
from ..base import Forecast

SCALES = (1, 2, 4, 8)
#: photographs against the probe of `machine_speed`: whose planes are found sooner (measured on the demo, two threads)
REAL_SHARE = 1.4
STRAIGHTENING = 0.65  #: of a pixel as taken, in hypotheses that take as long
FUSING = 4.0  #: of a pixel and each photo it is looked up in, likewise
PART = 2.5  #: the part of a photo that is held, as a multiple of what its mask leaves: a rectangle round that
SPARE = 0.9  #: share of the free memory that a run may take


@dataclass(frozen=True)
class Scene:
    """What the cost depends on: number of photos, pixels of one as taken, and those depth is computed for."""

    photos: int
    full_pixels: float
    held_pixels: float  #: those of the rectangle that a mask leaves
    used_pixels: float
    ground: float  #: a pixel's size on the object, in the plain frame's unit


@dataclass(frozen=True)
class Cost:
    """Seconds, distance between points (plain frame), bytes of memory at the peak, and bytes on the disk."""

    seconds: float
    spacing: float
    bytes: float
    disk: float


def scene_of(block, photo_ids, box, share):
    """The Scene of a block, of the photos that are left; `share` of a photo its mask leaves, or None."""
    solved = [k for i, k in block.solved_rows.items() if i in photo_ids]
    if len(solved) < 2:
        return None
    E, size = block.poses[solved], block.sizes[solved].astype(float)
    lens = block.lenses[block.lens_of[solved]]
    Y = np.einsum("nij,kj->nki", E[:, :3, :3], box.corners()) + E[:, None, :3, 3]
    front = (Y[..., 2] > 0).all(1)
    z = np.where(front[:, None], Y[..., 2], 1.0)
    uv = Y[..., :2] / z[..., None] * lens[:, None, :1] + lens[:, None, 1:3]
    uv = np.clip(uv, 0, size[:, None])
    # what is seen of a box is covered by two of its faces each, one before and one behind
    x, y = uv[:, np.array(BOX_FACES)].transpose(3, 0, 1, 2)
    area = (x * np.roll(y, -1, 2) - y * np.roll(x, -1, 2)).sum(2) / 2
    full = size.prod(1)
    pixels = np.where(front, np.abs(area).sum(1) / 2, full)
    used = np.minimum(pixels, full * (share if share else 1))
    ground = np.linalg.norm(block.eyes[solved] - box.center, axis=1) / lens[:, 0]
    held = full.mean() * min(1.0, PART * share if share else 1.0)
    return Scene(len(solved), float(full.mean()), float(held), float(used.mean()), float(np.median(ground)))


def cost(scene, photo_scale, neighbors, rounds, speed, threads, most=0):
    """The Cost at a photo scale; `speed`: hypotheses a second of one thread."""
    n = min(neighbors, scene.photos - 1)
    pixels, full = scene.used_pixels / photo_scale**2, scene.full_pixels
    work = hypotheses(pixels, n, rounds) + FUSING * pixels * (n + 1) + STRAIGHTENING * full
    return Cost(
        scene.photos * work / (speed * threads),
        scene.ground * photo_scale,
        *memory(scene.photos, scene.held_pixels / photo_scale**2, n, threads, full, pixels, most),
    )


@lru_cache(4)
def _scene(folder, block, photo_ids, box, share):
    """Kept, as the window asks at every change of a setting."""
    half = [np.array(x) for x in box]
    return scene_of(stored_block(BlobStore(folder), block), set(photo_ids), KeepBox(*half), share)


def _frozen(box):
    return tuple(box["center"]), tuple(map(tuple, box["axes"])), tuple(box["half"])


def costs(job, sitting, block, M, box, settings):
    """The Cost at every photo scale, {scale: Cost}; None where too few photos are left.

    block : its blob's key; M (4, 4) : from the plain frame to that of the block; box : keep box as a dictionary, there
    """
    masks = job.result(sitting.id, "masks")
    share = masks.figures.share if masks else None
    ids = tuple(p.id for p in job.photos(sitting.id, aside=False))
    scene = _scene(str(job.blobs.folder), block, ids, _frozen(box), share)
    if scene is None:
        return None
    done = job.result(sitting.id, "cloud")
    known = done.figures.speed if done else None
    speed = known or REAL_SHARE * machine_speed()
    plain = replace(scene, ground=scene.ground / scale_of(M))
    threads, most = os.cpu_count() or 1, int(settings.most_points * 1e6)
    return {s: cost(plain, s, settings.neighbors, settings.rounds, speed, threads, most) for s in SCALES}


def check_room(found, settings, folder, free=None, disk=None):
    """Raise UmbrateError where memory or disk do not hold a run at the photo scale chosen; it says what fits.

    found : of `costs`; folder : on the job's disk; free, disk : bytes there are, where they are known
    """
    free = SPARE * (free_memory() if free is None else free)
    disk = SPARE * (shutil.disk_usage(folder).free if disk is None else disk)
    chosen, fits = found[settings.photo_scale], [s for s in SCALES if found[s].bytes <= free and found[s].disk <= disk]
    if settings.photo_scale in fits:
        return
    text = f"Photo scale 1/{settings.photo_scale} needs some {chosen.bytes / 1e9:.1f} GB of memory and "
    text += f"{chosen.disk / 1e9:.1f} GB on the job's disk; {max(free, 0) / 1e9:.1f} GB and {disk / 1e9:.1f} GB "
    text += "are free."
    if not fits:
        raise UmbrateError(f"{text} No photo scale fits: close other programs, or set photos aside.")
    raise UmbrateError(f"{text} 1/{fits[0]} fits.", ("set", "photo_scale", fits[0]))


def _time(seconds):
    return f"{max(seconds, 1):.0f} s" if seconds < 90 else f"{seconds / 60:.0f} min"


def forecast_of(job, sitting, found, settings):
    """The Forecast of a run: a line for each photo scale."""
    frame = frame_of(job, sitting)
    s = scale_of(frame.matrix)
    lines = ["Estimate for this machine:"]
    for scale, c in found.items():
        spacing = f"{c.spacing * s:#.2g} mm" if frame.scaled else f"{1e3 * c.spacing * s:.2g} thousandths of the unit"
        here = "  (chosen)" if scale == settings.photo_scale else ""
        lines.append(f"1/{scale}: {_time(c.seconds)}, a point every {spacing}{here}")
    try:
        check_room(found, settings, str(job.blobs.folder))
    except UmbrateError as e:
        return Forecast("\n".join([*lines, str(e)]), False, e.remedy)
    return Forecast("\n".join(lines))
