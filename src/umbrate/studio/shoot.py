"""Taking the photos of a scene: pictures, true masks and the truth beside them."""

import json
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path
from types import SimpleNamespace

import numpy as np
from PIL import Image
from plyfile import PlyData, PlyElement

from ..core.geometry.pose import inverse, pose
from ..core.geometry.rotation import rotation_matrix
from .flat import calibration_poses, calibration_sheets, develop_gray, photograph
from .prints import OBJECT, STUDIO, TURNING, center_of
from .render import Focus, Place, develop, render
from .shapes import BOUNDS, distance, gradient

FIRST_SHOT = datetime(2026, 5, 4, 9, 30, 0)


def shot_frames(sitting, shot):
    """Studio-to-turning and studio-to-object matrices (4, 4) of a shot."""
    turn = pose(rotation_matrix(np.array([0.0, 0.0, np.radians(shot.turn_deg)])), np.zeros(3))
    studio_to_turning = inverse(turn)
    return studio_to_turning, inverse(sitting.object_to_turning) @ studio_to_turning


def true_pose(sitting, shot):
    """Object-to-camera (4, 4): the pose in the object's own frame."""
    return shot.studio_to_camera @ inverse(shot_frames(sitting, shot)[1])


def drift_of(shot):
    """How a shot's camera-to-studio matrix changes while it is read, (4, 4); None where it stands."""
    if not shot.move:
        return None
    change = np.zeros((4, 4))
    change[:3, :3], change[:3, 3] = np.cross(np.array(shot.move[:3]), np.eye(3)).T, shot.move[3:]
    return inverse(shot.studio_to_camera) @ change


def truth_mesh(shape, step_mm):
    """The object's surface: vertices (n, 3) in mm, triangles (m, 3), outwards.

    Marching cubes on the signed distance, then each vertex is moved onto the surface along the
    gradient, so that its error is far below the step.
    """
    from skimage.measure import marching_cubes

    mid, half = BOUNDS[shape]
    lo, hi = mid - half - step_mm, mid + half + step_mm
    axes = [np.arange(a, b + step_mm, step_mm) for a, b in zip(lo, hi, strict=True)]
    grid = np.empty([len(a) for a in axes], np.float32)
    for i, x in enumerate(axes[0]):
        for j, y in enumerate(axes[1]):
            for k, z in enumerate(axes[2]):
                grid[i, j, k] = distance(shape, x, y, z)
    vertices, faces, _, _ = marching_cubes(grid, 0.0, spacing=(step_mm,) * 3)
    vertices = vertices.astype(np.float64) + lo
    for n, v in enumerate(vertices):
        d = distance(shape, *v)
        for _ in range(4):
            g = gradient(shape, *v)
            step = d * g / max(float(g @ g), 1e-12)
            # where two parts meet the gradient may vanish: never far, and only ever closer
            step *= min(1.0, 0.5 * step_mm / max(float(np.linalg.norm(step)), 1e-12))
            moved = distance(shape, *(v - step))
            if abs(moved) >= abs(d):
                break
            v, d = v - step, moved
        vertices[n] = v
    a, b, c = (vertices[faces[:, k]] for k in range(3))
    if (np.cross(a, b) * c).sum() < 0:
        faces = faces[:, ::-1]
    return vertices, np.ascontiguousarray(faces, dtype=np.int32)


def _exif(scene, shot, when):
    exif = Image.Exif()
    if not scene.exif:
        return exif
    exif[0x010F], exif[0x0110], exif[0x0131] = scene.make, scene.model, "Umbrate simulated studio"
    exif[0x0132], exif[0x0112] = when.strftime("%Y:%m:%d %H:%M:%S"), shot.orientation
    ifd = exif.get_ifd(0x8769)
    ifd[0x9003] = ifd[0x9004] = when.strftime("%Y:%m:%d %H:%M:%S")
    ifd[0x920A], ifd[0xA405] = scene.nominal_focal_mm, scene.focal_35mm
    lens = getattr(shot, "lens", None) or scene.lens
    ifd[0xA002], ifd[0xA003] = lens.width, lens.height
    ifd[0xA434] = "Simulated lens"
    ifd[0x829A], ifd[0x829D], ifd[0x8827] = 1 / 60, 16.0, 100
    return exif


def shoot_calibration(scene, out, distance_mm=1180.0, progress=None):
    """Write eight photos of the calibration sheets, taken with a scene's camera, into the folder `out`.

    ``U_0001.jpg`` to ``U_0008.jpg`` and ``truth.json`` with the lens.
    """
    out = Path(out)
    out.mkdir(parents=True, exist_ok=True)
    printed = calibration_sheets(bend_mm=0.05)
    for k, E in enumerate(calibration_poses(distance_mm=distance_mm, seed=8)):
        light = photograph(printed, scene.lens, E, 5, (0.25, -0.2, 1.0, 0.4, -0.95, 0.35))
        shot = SimpleNamespace(orientation=8 if k >= 4 else 1)
        exif = _exif(scene, shot, FIRST_SHOT - timedelta(hours=1) + timedelta(seconds=20 * k))
        picture = develop_gray(light, [scene.seed, 900 + k])
        Image.fromarray(picture).save(out / f"U_{k + 1:04d}.jpg", quality=90, exif=exif)
        if progress:
            progress((k + 1) / 8, f"photo {k + 1} of 8")
    truth = {"set": "calibration", "simulated": True, "units": "mm", "lens": scene.lens.as_dict()}
    (out / "truth.json").write_text(json.dumps(truth, indent=1))


def targets_of(printed):
    """The truth of printed targets: number, what it is fixed to, center in that frame and dot diameter, in mm."""
    names = {STUDIO: "studio", TURNING: "table", OBJECT: "object"}
    return [
        {"number": m.number, "frame": names[s.fixed_to], "center": center_of(s, m).tolist(), "diameter": m.diameter}
        for s in printed
        for m in s.targets
    ]


@dataclass(frozen=True)
class Take:
    """One photo to take: where it goes, when it was taken, and the seed of its noise."""

    sitting: object
    shot: object
    file: str
    mask: str
    when: datetime
    seed: int
    plate: bool = False


def takes(scene):
    """All photos of a scene in the order they are taken: after each sitting its backdrop plates, the table bare."""
    out, n = [], 0
    for k, sitting in enumerate(scene.sittings):
        begin = FIRST_SHOT + timedelta(seconds=600 * (k > 0))
        shots = [(s, False) for s in sitting.shots]
        if sitting.plates:
            # one for each place the camera stood at
            places = {s.studio_to_camera.tobytes(): s for s in sitting.shots}
            shots += [(replace(s, turn_deg=s.turn_deg + 7.0, empty=True), True) for s in places.values()]
        for i, (shot, plate) in enumerate(shots):
            name = f"U_{sitting.first_number + i:04d}"
            folder = f"{sitting.folder}/plates" if plate else sitting.folder
            # plates have numbers of their own, so that a sitting's photos do not depend on them
            seed = 10_000 + 100 * k + i if plate else n
            when = begin + timedelta(seconds=14 * (n if not plate else n + i - len(sitting.shots)))
            mask = f"{sitting.folder}/masks/{name}.png"
            out.append(Take(sitting, shot, f"{folder}/{name}.jpg", mask, when, seed, plate))
            n += not plate
    return out


def take(scene, t, out):
    """Take one photo and write it, and its true mask where it is no plate."""
    around = t.sitting.surroundings
    if t.shot.empty:
        around = replace(around, boxes=np.zeros((0, 6)), sheets=[s for s in around.sheets if s.fixed_to != OBJECT])
    if t.shot.capsules:
        around = replace(around, capsules=(*around.capsules, *t.shot.capsules))
    place = Place(
        scene.shape, t.shot.studio_to_camera, *shot_frames(t.sitting, t.shot), finish=scene.finish, gloss=scene.gloss
    )
    focus = Focus(scene.samples, scene.aperture_mm, scene.focus_mm, drift_of(t.shot), t.shot.exposure)
    light, cover = render(t.shot.lens or scene.lens, place, around, focus, not t.shot.empty)
    picture = develop(light, np.random.default_rng([scene.seed, t.seed]), t.shot.blur_px)
    exif = _exif(scene, t.shot, t.when)
    Image.fromarray(picture).save(out / t.file, quality=92, subsampling=0, exif=exif)
    if not t.plate:
        Image.fromarray((cover >= 0.5).astype(np.uint8) * 255).convert("1").save(out / t.mask)


def shoot(scene, out, progress=None, threads=2):
    """Write the photo set of `scene` into the folder `out`.

    Photos are ``FOLDER/U_0101.jpg``, masks ``FOLDER/masks/U_0101.png`` (white is the object), the
    truth is ``truth.json`` and ``truth.ply`` in the object's own frame, millimetres; backdrop plates are in
    ``FOLDER/plates``.

    Parameters
    ----------
    progress : callable(fraction, sentence), optional
    """
    out = Path(out)
    todo = takes(scene)
    for t in todo:
        (out / t.mask).parent.mkdir(parents=True, exist_ok=True)
        (out / t.file).parent.mkdir(parents=True, exist_ok=True)
    with ThreadPoolExecutor(threads) as pool:
        for k, _ in enumerate(pool.map(lambda t: take(scene, t, out), todo)):
            if progress:
                progress((k + 1) / (len(todo) + 1), f"photo {k + 1} of {len(todo)}")
    photos = [
        {
            "name": t.file,
            "sitting": t.sitting.name,
            "bad": None,
            "exif_orientation": t.shot.orientation,
            "world_to_camera": true_pose(t.sitting, t.shot).tolist(),
            **({"lens": t.shot.lens.as_dict()} if t.shot.lens else {}),
        }
        for t in todo
        if not t.plate
    ]
    vertices, faces = truth_mesh(scene.shape, scene.truth_step_mm)
    table = np.empty(len(faces), dtype=[("vertex_indices", "i4", (3,))])
    table["vertex_indices"] = faces
    points = np.empty(len(vertices), dtype=[(a, "f4") for a in "xyz"])
    for k, a in enumerate("xyz"):
        points[a] = vertices[:, k]
    PlyData([PlyElement.describe(points, "vertex"), PlyElement.describe(table, "face")]).write(str(out / "truth.ply"))
    L = scene.lens
    centers = [-np.array(p["world_to_camera"])[:3, :3].T @ np.array(p["world_to_camera"])[:3, 3] for p in photos]
    middle = vertices.mean(0)
    truth = {
        "set": scene.name,
        "simulated": True,
        "units": "mm",
        "frame": "object frame of truth.ply: z up, the object stands on z = 0",
        "mesh": "truth.ply",
        "image_size": [L.width, L.height],
        "intrinsics": {"fx": L.f + L.b[0], "fy": L.f, "cx": L.cx, "cy": L.cy},
        "distortion": {"k1": L.k[0], "k2": L.k[1], "k3": L.k[2], "p1": L.p[0], "p2": L.p[1]},
        "lens": L.as_dict(),
        "working_distance_mm": float(np.median(np.linalg.norm(np.array(centers) - middle, axis=1))),
        "sittings": {
            s.name: {
                "folder": s.folder,
                "object_to_table": s.object_to_turning.tolist(),
                "targets": targets_of(s.surroundings.sheets),
                "occluders_in_table_frame": [
                    {"min": (b[:3] - b[3:]).tolist(), "max": (b[:3] + b[3:]).tolist()} for b in s.surroundings.boxes
                ],
            }
            for s in scene.sittings
        },
        "photos": photos,
        "lengths_mm": [
            {"first": b.first, "second": b.second, "length": b.length}
            for b in {b for s in scene.sittings for b in s.surroundings.bars}
        ],
        "plates": [t.file for t in todo if t.plate],
    }
    (out / "truth.json").write_text(json.dumps(truth, indent=1))
    if progress:
        progress(1.0, f"{len(todo)} photos, masks and truth written")
