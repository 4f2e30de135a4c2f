"""Delivering: results of a job as files in open formats."""

from pathlib import Path

import numpy as np
from PIL import Image

from ..core.errors import UmbrateError
from ..core.geometry.lens import Lens
from ..core.imaging.decode import read_picture
from ..core.imaging.undistort import undistort
from ..formats.cameras import write_cameras
from ..formats.clouds import write_cloud
from ..formats.files import written_aside
from .clouds import load_cloud
from .frames import frame_of, load_block
from .mask_files import decode_mask, encode_mask
from .masks import mask_blobs


def the_joined(job, name=None):
    """The joined row of a job, of that name where there are several.

    Raises
    ------
    UmbrateError
        Where there is none, or it is not clear which.
    """
    rows = [r for r in job.joined_rows() if name is None or r.name == name]
    if len(rows) == 1:
        return rows[0]
    names = ", ".join(f"“{r.name}”" for r in job.joined_rows())
    if not names:
        raise UmbrateError(f"{job.name} has no joined row yet. Make one first: umbrate join {job.folder} --merge")
    raise UmbrateError(f"Say which joined row with --sitting: {names}.")


def export_cloud(job, path, sitting=None, name=None, plain=False, text=False):
    """Write a cloud of a sitting in the format of the file's ending; returns the number of points.

    name : of the cloud, or several, which go into one file; the chosen one where not given
    plain : without normals, colors and what was measured of the points
    text : PLY as text
    """
    have = [s for s in job.sittings() if job.clouds(s.id)]
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
    names = [name] if name is None or isinstance(name, str) else list(name) or [None]
    wanted = [job.cloud(sitting.id, n) for n in names]
    if None in wanted:
        raise UmbrateError(f"“{sitting.name}” has no dense cloud yet. Run Cloud first.")
    parts = [load_cloud(job, sitting, kept) for kept in wanted]
    both = [k for k in parts[0] if all(k in c for c in parts)]  # what all of them have
    c = {k: np.concatenate([x[k] for x in parts]) for k in both} if len(parts) > 1 else parts[0]
    unit = frame_of(job, sitting).unit or None
    write_cloud(path, c, unit, normals=not plain, colors=not plain, extras=not plain, text=text)
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
    sittings = [sitting] if sitting else job.placements()
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


def lens_of_photos(job, sitting):
    """The Lens of each photo of a sitting by photo id: the solved one, else that of its card or calibration."""
    out = {}
    done = job.result(sitting.id, "lens")
    for g in done.figures["groups"] if done else ():
        if g["lens"]:
            out.update(dict.fromkeys(g["photos"], Lens.from_dict(g["lens"])))
    block = load_block(job, sitting)
    if block is not None:
        for k, i in enumerate(block["photo_ids"]):
            out[int(i)] = Lens.from_vector(*block["sizes"][k], block["lenses"][block["lens_of"][k]])
    return out


def export_undistorted(job, folder, sitting=None):
    """Write photos and masks as an ideal camera would have seen them, and that camera; returns how many photos.

    ``NAME.png`` and ``masks/NAME.png`` (where there is a mask), with several sittings in folders of their names;
    ``cameras.json`` holds the ideal lenses and the poses.
    """
    sittings = [sitting] if sitting else job.placements()
    rows, lenses, count = [], {}, 0
    for s in sittings:
        of, masks, block = lens_of_photos(job, s), mask_blobs(job, s), load_block(job, s)
        poses = {} if block is None else dict(zip(block["photo_ids"].tolist(), block["poses"], strict=True))
        place = Path(folder) / s.name.replace("/", "-") if len(sittings) > 1 else Path(folder)
        for p in job.photos(s.id, aside=False):
            if p.id not in of:
                continue
            mask = decode_mask(job.blobs.get_bytes(masks[p.id])) if p.id in masks else None
            picture, inside, pinhole = undistort(read_picture(job.photo_path(p)), mask, of[p.id], 1)
            try:
                (place / "masks").mkdir(parents=True, exist_ok=True)
                name = f"{Path(p.name).stem}.png"
                with written_aside(place / name) as temporary:
                    Image.fromarray(np.clip(np.round(picture), 0, 255).astype(np.uint8)).save(temporary)
                if mask is not None:
                    with written_aside(place / "masks" / name) as temporary:
                        temporary.write_bytes(encode_mask(inside))
            except OSError as e:
                raise UmbrateError(f"{place} cannot be written to ({e.strerror}). Choose another place.") from e
            key = next((k for k, v in lenses.items() if v == pinhole), f"ideal-{len(lenses) + 1}")
            lenses[key] = pinhole
            pose = poses.get(p.id)
            pose = pose if pose is not None and np.isfinite(pose).all() else None
            file = str((place / name).relative_to(folder))
            rows.append({"name": p.name, "sitting": s.name, "file": file, "lens": key, "pose": pose})
            count += 1
    if not count:
        raise UmbrateError(f"{job.name} knows no lens yet. Run Lens with a card, or Poses: umbrate run {job.folder}")
    write_cameras(Path(folder) / "cameras.json", rows, lenses, _unit(job, sittings))
    return count


def camera_rows(job, sitting=None):
    """Photos and lenses of all sittings as the cameras file wants them, or of one, which may be a joined row."""
    lenses, rows = {}, []
    names = {s.id: s.name for s in job.sittings()}
    for s in [sitting] if sitting else job.placements():
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
                    "sitting": names[p.sitting_id],  # of a joined row, the one it was taken in
                    "file": str(job.photo_path(p)),
                    "lens": keys[int(block["lens_of"][k])] if k is not None else None,
                    "pose": pose,
                }
            )
    return rows, lenses


def _unit(job, sittings):
    """The unit of sittings together: "mm" where all that are solved have a scale, else None."""
    solved = [s for s in sittings if job.result(s.id, "poses")]
    return "mm" if solved and all(frame_of(job, s).scaled for s in solved) else None


def export_cameras(job, path, sitting=None):
    """Write lenses and poses of all sittings, each in its own frame, or of one; returns how many photos are solved."""
    rows, lenses = camera_rows(job, sitting)
    if not lenses:
        raise UmbrateError(f"{job.name} has no poses yet. Run Poses first: umbrate run {job.folder} --to poses")
    write_cameras(path, rows, lenses, _unit(job, [sitting] if sitting else job.placements()))
    return sum(r["pose"] is not None for r in rows)
