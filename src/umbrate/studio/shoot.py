"""Taking the photos of a scene: pictures, true masks and the truth beside them."""

import json
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np
from PIL import Image
from plyfile import PlyData, PlyElement

from ..core.geometry.pose import inverse, pose
from ..core.geometry.rotation import rotation_matrix
from .render import develop, render
from .shapes import BOUNDS, distance

FIRST_SHOT = datetime(2026, 5, 4, 9, 30, 0)


def shot_frames(sitting, shot):
    """Studio-to-turning and studio-to-object matrices (4, 4) of a shot."""
    turn = pose(rotation_matrix(np.array([0.0, 0.0, np.radians(shot.turn_deg)])), np.zeros(3))
    studio_to_turning = inverse(turn)
    return studio_to_turning, inverse(sitting.object_to_turning) @ studio_to_turning


def true_pose(sitting, shot):
    """Object-to-camera (4, 4): the pose in the object's own frame."""
    return shot.studio_to_camera @ inverse(shot_frames(sitting, shot)[1])


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
            g = (
                np.array([distance(shape, *(v + 0.02 * e)) - distance(shape, *(v - 0.02 * e)) for e in np.eye(3)])
                / 0.04
            )
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
    exif[0x010F], exif[0x0110], exif[0x0131] = scene.make, scene.model, "Umbrate simulated studio"
    exif[0x0132], exif[0x0112] = when.strftime("%Y:%m:%d %H:%M:%S"), shot.orientation
    ifd = exif.get_ifd(0x8769)
    ifd[0x9003] = ifd[0x9004] = when.strftime("%Y:%m:%d %H:%M:%S")
    ifd[0x920A], ifd[0xA405] = scene.nominal_focal_mm, scene.focal_35mm
    ifd[0xA002], ifd[0xA003] = scene.lens.width, scene.lens.height
    ifd[0xA434] = "Simulated lens"
    ifd[0x829A], ifd[0x829D], ifd[0x8827] = 1 / 60, 16.0, 100
    return exif


def shoot(scene, out, progress=None, threads=2):
    """Write the photo set of `scene` into the folder `out`.

    Photos are ``FOLDER/U_0101.jpg``, masks ``FOLDER/masks/U_0101.png`` (white is the object), the
    truth is ``truth.json`` and ``truth.ply``, all in the object's own frame, millimetres.

    Parameters
    ----------
    progress : callable(fraction, sentence), optional
    """
    out = Path(out)
    todo, photos = [], []
    n = 0
    for sitting in scene.sittings:
        (out / sitting.folder / "masks").mkdir(parents=True, exist_ok=True)
        for k, shot in enumerate(sitting.shots):
            name = f"U_{sitting.first_number + k:04d}"
            todo.append(
                (
                    sitting,
                    shot,
                    name,
                    FIRST_SHOT + timedelta(seconds=14 * n + 600 * (sitting is not scene.sittings[0])),
                    n,
                )
            )
            photos.append(
                {
                    "name": f"{sitting.folder}/{name}.jpg",
                    "sitting": sitting.name,
                    "bad": None,
                    "exif_orientation": shot.orientation,
                    "world_to_camera": true_pose(sitting, shot).tolist(),
                }
            )
            n += 1

    def take(item):
        sitting, shot, name, when, number = item
        turning, obj = shot_frames(sitting, shot)
        light, cover = render(
            scene.shape,
            scene.lens,
            shot.studio_to_camera,
            turning,
            obj,
            sitting.surroundings,
            scene.samples,
            scene.aperture_mm,
            scene.focus_mm,
            not shot.empty,
        )
        picture = develop(light, np.random.default_rng([scene.seed, number]), shot.blur_px)
        folder = out / sitting.folder
        Image.fromarray(picture).save(folder / f"{name}.jpg", quality=92, subsampling=0, exif=_exif(scene, shot, when))
        Image.fromarray((cover >= 0.5).astype(np.uint8) * 255).convert("1").save(folder / "masks" / f"{name}.png")

    with ThreadPoolExecutor(threads) as pool:
        for k, _ in enumerate(pool.map(take, todo)):
            if progress:
                progress((k + 1) / (len(todo) + 1), f"photo {k + 1} of {len(todo)}")
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
                "occluders_in_table_frame": [
                    {"min": (b[:3] - b[3:]).tolist(), "max": (b[:3] + b[3:]).tolist()} for b in s.surroundings.boxes
                ],
            }
            for s in scene.sittings
        },
        "photos": photos,
    }
    (out / "truth.json").write_text(json.dumps(truth, indent=1))
    if progress:
        progress(1.0, f"{len(todo)} photos, masks and truth written")
