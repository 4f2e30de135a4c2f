"""Reading back what was written, with libraries that had no part in writing it."""

import json
import struct

import numpy as np

from ...core.errors import UmbrateError
from ...core.later import Later
from .figures import Check

trimesh = Later("trimesh")
plyfile = Later("plyfile")
laspy = Later("laspy")
pye57 = Later("pye57")

CLOSE = 2e-5  #: share of the extent that what is read may differ by


def wrong(path, told):
    """The UmbrateError of a file that was not read back as it was written."""
    return UmbrateError(
        f"{path.name} did not come back as it was written ({told}). It was not delivered. Check the disk, and report "
        "it if it happens again."
    )


def extent_of(points):
    """Width, depth and height (3,) of points (n, 3)."""
    return np.ptp(np.asarray(points, np.float64), axis=0)


def extent_told(extent, unit):
    """An extent in words."""
    return " x ".join(f"{x:.4g}" for x in extent) + f" {unit or 'units'}"


def same_extent(path, got, extent):
    """Raise where an extent that was read is another one than was written."""
    if np.abs(got - extent).max() > CLOSE * max(float(np.max(extent)), 1e-30):
        raise wrong(path, f"{extent_told(got, '')} for {extent_told(extent, '')}")


def read_model(path):
    """Places (n, 3) and triangles (t, 3) of a model file, by another library."""
    kind = path.suffix.lower().lstrip(".")
    if kind == "ply":
        data = plyfile.PlyData.read(str(path))
        v = data["vertex"]
        return np.stack([v["x"], v["y"], v["z"]], 1), np.vstack(data["face"]["vertex_indices"])
    scene = trimesh.load(str(path), process=False)
    made = scene.to_mesh() if hasattr(scene, "to_mesh") and not isinstance(scene, trimesh.Trimesh) else scene
    return np.asarray(made.vertices), np.asarray(made.faces)


def check_model(path, triangles, extent, unit, closed=None):
    """A Check that a model file has its triangles, its extent and, where `closed` is True, no open edge.

    Raises
    ------
    UmbrateError
        Where it is read back otherwise.
    """
    try:
        points, faces = read_model(path)
    except UmbrateError:
        raise
    except Exception as e:  # what libraries trip over has many names
        raise wrong(path, str(e) or type(e).__name__) from e
    if len(faces) != triangles:
        raise wrong(path, f"{len(faces):,} triangles for {triangles:,}")
    got = extent_of(points[np.unique(faces)])
    same_extent(path, got, extent)
    shut = ""
    if closed:
        made = trimesh.Trimesh(points, faces, process=False)
        made.merge_vertices(merge_tex=True, merge_norm=True)  # an STL's triangles share no corners
        if not made.is_watertight or made.volume <= 0:
            raise wrong(path, "it is not closed any more")
        shut = ", closed, facing outward"
    return Check(text=f"{path.name} read back: {triangles:,} triangles, {extent_told(got, unit)}{shut}")


def check_glb(path, triangles, extent, textures):
    """A Check of a GLB file, as `check_model`; every image in it is opened."""
    found = check_model(path, triangles, extent, "m")
    data = path.read_bytes()
    _, version, size = struct.unpack("<4sII", data[:12])
    length, _ = struct.unpack("<I4s", data[12:20])
    content = json.loads(data[20 : 20 + length])
    if version != 2 or size != len(data) or len(content.get("textures", ())) != textures:
        raise wrong(path, f"{len(content.get('textures', ()))} textures for {textures}")
    told = f", {textures} texture{'s' if textures > 1 else ''} found" if textures else ""
    return Check(text=found.text + told)


def check_cloud(path, count, extent, unit):
    """A Check that a cloud's file has its points and its extent, by another library where there is one."""
    kind = path.suffix.lower()
    try:
        if kind == ".ply":
            v = plyfile.PlyData.read(str(path))["vertex"]
            points = np.stack([v["x"], v["y"], v["z"]], 1)
        elif kind in (".las", ".laz"):
            points = np.asarray(laspy.read(str(path)).xyz)
        elif kind == ".e57":
            e = pye57.E57(str(path))
            data = e.read_scan_raw(0)
            points = np.stack([data[f"cartesian{a}"] for a in "XYZ"], 1)
            e.close()
        else:
            sep = "," if kind == ".csv" else None
            points = np.loadtxt(path, delimiter=sep, skiprows=1 if sep else 0, usecols=(0, 1, 2), ndmin=2)
    except Exception as e:  # what libraries trip over has many names
        raise wrong(path, str(e) or type(e).__name__) from e
    if len(points) != count:
        raise wrong(path, f"{len(points):,} points for {count:,}")
    got, size = extent_of(points), float(np.max(extent))
    if np.abs(got - extent).max() > 1e-4 * max(size, 1e-30):  # text has four decimals
        raise wrong(path, f"{extent_told(got, '')} for {extent_told(extent, '')}")
    return Check(text=f"{path.name} read back: {count:,} points, {extent_told(got, unit)}")
