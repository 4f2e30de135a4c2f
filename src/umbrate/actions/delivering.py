"""Delivering: results of a job as files in open formats."""

from dataclasses import replace
from pathlib import Path

import numpy as np
from PIL import Image

from ..core.errors import UmbrateError
from ..core.geometry.lens import Lens
from ..core.imaging.undistort import undistort
from ..formats.cameras import write_cameras
from ..formats.clouds import write_cloud
from ..formats.files import make_folder, written_aside
from ..formats.gltf import write_glb
from ..formats.laying import CLOUD_PARTS, MESH_PARTS, Laying, laid
from ..formats.meshes import write_mesh
from ..sitting.clouds import load_cloud
from ..sitting.endpoints import spreads_of
from ..sitting.frames import frame_of, load_block
from ..sitting.guarding import check_pattern, export_names, folder_names, gate_of
from ..sitting.masks import decode_mask, encode_mask, mask_blobs
from ..sitting.photos import located, photo_picture
from ..sitting.surfaces import load_surface
from ..sitting.textures import texture_source

PLAINLY = Laying()
IN_METERS = (".las", ".laz", ".e57")


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


def export_cloud(job, path, sitting=None, name=None, laying=PLAINLY, gate=None):
    """Write a cloud of a sitting in the format of the file's ending; returns the number of points.

    name : of the cloud, or several, which go into one file; the chosen one where not given
    laying : Laying; LAS and E57 are in meters whatever it says
    gate : `guarding.gate_of` the job where not given: nothing is replaced
    """
    sitting = sitting or _only_with(job, job.clouds, "dense cloud", "cloud")
    names = [name] if name is None or isinstance(name, str) else list(name) or [None]
    wanted = [job.cloud(sitting.id, n) for n in names]
    if None in wanted:
        raise UmbrateError(f"“{sitting.name}” has no dense cloud yet. Run Cloud first.")
    parts = [load_cloud(job, sitting, kept) for kept in wanted]
    both = [k for k in parts[0] if all(k in c for c in parts)]  # what all of them have
    c = {k: np.concatenate([x[k] for x in parts]) for k in both} if len(parts) > 1 else parts[0]
    frame = frame_of(job, sitting)
    if Path(path).suffix.lower() in IN_METERS:
        laying = replace(laying, unit="mm")
    c, unit, offset = laid(c, frame.unit or None, frame.offset, laying)
    write_cloud(
        path, c, unit, without=laying.left_out(CLOUD_PARTS), text=laying.text, offset=offset, shift=laying.shift,
        gate=gate or gate_of(job),
    )  # fmt: skip
    return len(c["points"])


def export_surface(job, path, sitting=None, name=None, laying=PLAINLY, gate=None):
    """Write a surface of a sitting in the format of the file's ending; returns the number of triangles.

    name : of the surface; the chosen one where not given
    laying : Laying
    gate : `guarding.gate_of` the job where not given: nothing is replaced
    """
    sitting = sitting or _only_with(job, job.surfaces, "surface", "surface")
    kept = job.surface(sitting.id, name)
    if kept is None:
        raise UmbrateError(f"“{sitting.name}” has no surface yet. Run Surface first.", ("go to", "surface"))
    mesh, frame = load_surface(job, sitting, kept), frame_of(job, sitting)
    out = laying.left_out(MESH_PARTS)
    mesh, unit, offset = laid({k: v for k, v in mesh.items() if k not in out}, frame.unit or None, frame.offset, laying)
    write_mesh(path, mesh, unit, offset=offset, gate=gate or gate_of(job), text=laying.text)
    return len(mesh["faces"])


def export_texture(job, path, sitting=None, gate=None):
    """Write the textured surface of a sitting as GLB; returns the number of triangles.

    gate : `guarding.gate_of` the job where not given: nothing is replaced
    """
    sitting = sitting or _only_with(job, lambda i: job.result(i, "texture"), "texture", "texture")
    source = texture_source(job, sitting)
    if source is None:
        raise UmbrateError(f"“{sitting.name}” has no texture yet. Run Texture first.", ("go to", "texture"))
    if Path(path).suffix.lower() != ".glb":
        raise UmbrateError(f"{Path(path).name}: textured surfaces are written as .glb.")
    mesh, maps = source.read(), {"normals": source.files("normals"), "openness": source.files("openness")}
    write_glb(path, mesh, source.files(), frame_of(job, sitting).unit or None, gate or gate_of(job), **maps)
    return len(mesh["faces"])


def _only_with(job, have_of, word, stage):
    """The only sitting that has something, `have_of(sitting id)`; raises UmbrateError where that is not one."""
    have = [s for s in job.sittings() if have_of(s.id)]
    if len(have) > 1:
        names = ", ".join(f"“{s.name}”" for s in have)
        raise UmbrateError(
            f"{job.name} has {word}s of {len(have)} sittings ({names}), each in its own frame. "
            "Say which with --sitting."
        )
    if not have:
        raise UmbrateError(f"{job.name} has no {word} yet. Make it first: umbrate run {job.folder} --to {stage}")
    return have[0]


def export_masks(job, folder, sitting=None, pattern="{name}.png", gate=None):
    """Write masks as PNG: white is the object, dark gray (64) turns with it, black is left out.

    Parameters
    ----------
    folder : path
        Where they go; with several sittings, each into a folder of its own name.
    sitting : Sitting, optional
        Only its masks.
    pattern : str
        File name, with {name} for the photo's name (see `guarding.export_names`).
    gate : Gate, optional
        `guarding.gate_of` the job where not given: nothing is replaced.

    Returns
    -------
    list of (photo name, path below the folder as text)
    """
    check_pattern(pattern)
    sittings = [sitting] if sitting else job.photo_sittings()
    todo, written, folders = [], [], folder_names(sittings)
    for s in sittings:
        masks = mask_blobs(job, s)
        photos = [p for p in job.photos(s.id) if p.id in masks]
        place = f"{folders[s.id]}/" if len(sittings) > 1 else ""
        for p, name in zip(photos, export_names(photos).values(), strict=True):
            part, _, last = name.rpartition("/")
            file = place + (f"{part}/" if part else "") + pattern.replace("{name}", last)
            todo.append((Path(folder) / file, masks[p.id]))
            written.append((p.name, file))
    if not todo:
        raise UmbrateError(f"{job.name} has no masks yet. Run Masks first: umbrate run {job.folder} --to masks")
    gate = gate or gate_of(job)
    gate.check(*(path for path, _ in todo))
    for path, key in todo:
        make_folder(path.parent)
        with written_aside(path, gate) as temporary:
            temporary.write_bytes(job.blobs.get_bytes(key))
    return written


def lens_of_photos(job, sitting):
    """The Lens of each photo of a sitting by photo id: the solved one, else that of its card or calibration."""
    out = {}
    done = job.result(sitting.id, "lens")
    for g in done.figures.groups if done else ():
        if g.lens:
            out.update(dict.fromkeys(g.photos, Lens.from_dict(g.lens)))
    block = load_block(job, sitting)
    if block is not None:
        out.update({int(i): block.lens(k) for k, i in enumerate(block.photo_ids)})
    return out


def export_undistorted(job, folder, sitting=None, gate=None):
    """Write photos and masks as an ideal camera would have seen them, and that camera.

    ``NAME.png`` and ``masks/NAME.png`` (where there is a mask), with several sittings in folders of their names;
    ``cameras.json`` holds the ideal lenses and the poses.

    gate : Gate, optional
        `guarding.gate_of` the job where not given: nothing is replaced.

    Returns
    -------
    list of (photo name, path below the folder as text)
    """
    sittings = [sitting] if sitting else job.photo_sittings()
    todo, folders = [], folder_names(sittings)
    for s in sittings:
        of, masks, block = lens_of_photos(job, s), mask_blobs(job, s), load_block(job, s)
        poses = {} if block is None else {i: block.poses[k] for i, k in block.solved_rows.items()}
        photos = [p for p in job.photos(s.id, aside=False) if p.id in of]
        place = f"{folders[s.id]}/" if len(sittings) > 1 else ""
        for p, name in zip(photos, export_names(photos).values(), strict=True):
            file, inside = f"{place}{name}.png", f"{place}masks/{name}.png" if p.id in masks else None
            todo.append((s, p, file, inside, masks.get(p.id), of[p.id], poses.get(p.id)))
    if not todo:
        raise UmbrateError(f"{job.name} knows no lens yet. Run Lens with a card, or Poses: umbrate run {job.folder}")
    folder, gate, frames = Path(folder), gate or gate_of(job), {s.id: frame_of(job, s) for s in sittings}
    files = [folder / x for _, _, file, inside, *_ in todo for x in (file, inside) if x]
    gate.check(*files, folder / "cameras.json")
    rows, lenses = [], {}
    for s, p, file, inside, key, lens, pose in todo:
        mask = decode_mask(job.blobs.get_bytes(key), lens) if key else None
        picture, straight, pinhole = undistort(photo_picture(located(job, p)), mask, lens, 1)
        make_folder((folder / file).parent)
        with written_aside(folder / file, gate) as temporary:
            Image.fromarray(np.clip(np.round(picture), 0, 255).astype(np.uint8)).save(temporary)
        if inside:
            make_folder((folder / inside).parent)
            with written_aside(folder / inside, gate) as temporary:
                temporary.write_bytes(encode_mask(straight))
        name = next((k for k, v in lenses.items() if v == pinhole), f"ideal-{len(lenses) + 1}")
        lenses[name] = pinhole
        pose = None if pose is None else for_people(pose, frames[s.id])
        rows.append({"name": p.name, "sitting": s.name, "file": file, "lens": name, "pose": pose})
    write_cameras(folder / "cameras.json", rows, lenses, _unit(job, sittings), gate)
    return [(p.name, file) for _, p, file, *_ in todo]


def for_people(pose, frame):
    """A pose (4, 4) of the job's frame as one of the frame that people read coordinates in."""
    if not np.any(frame.offset):
        return pose
    out = np.array(pose, float)
    out[:3, 3] -= out[:3, :3] @ np.asarray(frame.offset)
    return out


def camera_rows(job, sitting=None):
    """Photos and lenses of all sittings as the cameras file wants them, or of one, which may be a joined row.

    Returns rows, lenses by id, and their standard deviations by id.
    """
    lenses, rows, sigmas = {}, [], {}
    names = {s.id: s.name for s in job.sittings()}
    for s in [sitting] if sitting else job.photo_sittings():
        block, frame = load_block(job, s), frame_of(job, s)
        spreads, of_lenses = spreads_of(job, s)
        keys = {}
        for k in range(len(block.poses) if block is not None else 0):
            m = int(block.lens_of[k])
            keys[m] = f"{s.id}-{m + 1}"
            lenses[keys[m]] = block.lens(k)
            if m < len(of_lenses):
                sigmas[keys[m]] = of_lenses[m]
        for p in job.photos(s.id):
            k = None if block is None else block.row_of(p.id)
            pose = for_people(block.poses[k], frame) if k is not None and block.solved[k] else None
            rows.append(
                {
                    "name": p.name,
                    "sitting": names[p.sitting_id],  # of a joined row, the one it was taken in
                    "file": str(job.photo_path(p)),
                    "lens": keys[int(block.lens_of[k])] if k is not None else None,
                    "pose": pose,
                    "sigma": spreads.get(p.id),
                }
            )
    return rows, lenses, sigmas


def _unit(job, sittings):
    """The unit of sittings together: "mm" where all that are solved have a scale, else None."""
    solved = [s for s in sittings if job.result(s.id, "poses")]
    return "mm" if solved and all(frame_of(job, s).scaled for s in solved) else None


def export_cameras(job, path, sitting=None, gate=None):
    """Write lenses and poses of all sittings, each in its own frame, or of one; returns how many photos are solved."""
    rows, lenses, sigmas = camera_rows(job, sitting)
    if not lenses:
        raise UmbrateError(f"{job.name} has no poses yet. Run Poses first: umbrate run {job.folder} --to poses")
    write_cameras(
        path, rows, lenses, _unit(job, [sitting] if sitting else job.photo_sittings()), gate or gate_of(job), sigmas
    )
    return sum(r["pose"] is not None for r in rows)
