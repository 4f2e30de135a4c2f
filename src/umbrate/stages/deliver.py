"""Delivering: results of a job as files in open formats."""

from pathlib import Path

import numpy as np

from ..core.errors import UmbrateError
from ..core.geometry.lens import Lens
from ..formats.cameras import write_cameras
from ..formats.files import written_aside
from ..formats.ply import write_cloud
from .masks import mask_blobs


def load_block(job, sitting):
    """The block of a sitting as a dictionary of arrays, or None."""
    done = job.result(sitting.id, "poses")
    return job.blobs.get_arrays(done.blob("block")) if done else None


def load_cloud(job, sitting):
    """The dense cloud of a sitting as a dictionary of arrays, or None."""
    done = job.result(sitting.id, "cloud")
    return job.blobs.get_arrays(done.blob("cloud")) if done else None


def export_cloud(job, path, sitting=None):
    """Write a sitting's dense cloud as PLY; returns the number of points."""
    have = [s for s in job.sittings() if job.result(s.id, "cloud")]
    if sitting is None:
        if len(have) > 1:
            names = ", ".join(f"“{s.name}”" for s in have)
            raise UmbrateError(
                f"{job.name} has clouds of {len(have)} sittings ({names}), each in its own frame. "
                "Say which with --sitting."
            )
        if not have:
            raise UmbrateError(f"{job.name} has no dense cloud yet. Run Cloud first: umbrate run {job.folder}")
        sitting = have[0]
    c = load_cloud(job, sitting)
    if c is None:
        raise UmbrateError(f"“{sitting.name}” has no dense cloud yet. Run Cloud first.")
    write_cloud(path, c["points"], c["colors"], c["normals"], c["photos"], c["score"])
    return len(c["points"])


def export_masks(job, folder, sitting=None, pattern="{name}.png"):
    """Write masks as 1-bit PNG, white is the object; returns how many.

    Parameters
    ----------
    folder : path
        Where they go; with several sittings, each into a folder of its own name.
    sitting : Sitting, optional
        Only its masks.
    pattern : str
        File name, with {name} for the photo's name without its ending.
    """
    if "{name}" not in pattern:
        raise UmbrateError("The file name needs {name} in it, for the photo's name: for example {name}_mask.png")
    sittings = [sitting] if sitting else job.sittings()
    count = 0
    for s in sittings:
        masks = mask_blobs(job, s)
        place = Path(folder) / s.name.replace("/", "-") if len(sittings) > 1 else Path(folder)
        try:
            for p in job.photos(s.id):
                if p.id in masks:
                    place.mkdir(parents=True, exist_ok=True)
                    with written_aside(place / pattern.replace("{name}", Path(p.name).stem)) as temporary:
                        temporary.write_bytes(job.blobs.get_bytes(masks[p.id]))
                    count += 1
        except OSError as e:
            raise UmbrateError(f"{place} cannot be written to ({e.strerror}). Choose another place.") from e
    if not count:
        raise UmbrateError(f"{job.name} has no masks yet. Run Masks first: umbrate run {job.folder} --to masks")
    return count


def camera_rows(job):
    """Photos and lenses of the whole job as the cameras file wants them."""
    lenses, rows = {}, []
    for s in job.sittings():
        block = load_block(job, s)
        place, keys = {}, {}
        if block is not None:
            place = {int(i): k for k, i in enumerate(block["photo_ids"])}
            for k in range(len(place)):
                m = int(block["lens_of"][k])
                keys[m] = f"{s.id}-{m + 1}"
                lenses[keys[m]] = Lens.from_vector(*block["sizes"][k], block["lenses"][m])
        for p in job.photos(s.id):
            k = place.get(p.id)
            pose = block["poses"][k] if k is not None and np.isfinite(block["poses"][k]).all() else None
            rows.append(
                {
                    "name": p.name,
                    "sitting": s.name,
                    "file": str(job.photo_path(p)),
                    "lens": keys[int(block["lens_of"][k])] if k is not None else None,
                    "pose": pose,
                }
            )
    return rows, lenses


def export_cameras(job, path):
    """Write lenses and poses of all sittings; returns the number of solved photos."""
    rows, lenses = camera_rows(job)
    if not lenses:
        raise UmbrateError(f"{job.name} has no poses yet. Run Poses first: umbrate run {job.folder} --to poses")
    write_cameras(path, rows, lenses)
    return sum(r["pose"] is not None for r in rows)
