"""Clouds as files: PLY, LAS and LAZ, E57, XYZ and CSV. Each is written aside and renamed."""

from pathlib import Path

import numpy as np

from ..core.errors import UmbrateError
from .files import CLOSED, written_aside

#: what a point may carry besides its place: name, what it is, and the type it is written as
EXTRAS = {
    "photos": ("photos that agree on the point", "u1"),
    "score": ("likeness of the patches, 0 to 1", "f4"),
    "precision": ("standard deviation", "f4"),
    "angle": ("largest angle between rays, degrees", "u1"),
}
KINDS = (".ply", ".las", ".laz", ".e57", ".xyz", ".csv")


def write_cloud(
    path,
    cloud,
    unit=None,
    *,
    without=(),
    text=False,
    offset=(0.0, 0.0, 0.0),
    shift=False,
    gate=CLOSED,
):
    """Write a cloud in the format of the file's ending.

    Parameters
    ----------
    path : path
        Ends in one of KINDS.
    cloud : dict of arrays
        ``points`` (n, 3); ``normals`` (n, 3), ``colors`` (n, 3) uint8 and those of EXTRAS (n,) where there are.
    unit : "mm" or None
        None: unscaled. LAS and E57 are in meters by definition; an unscaled cloud is written there as it is.
    offset : (3,)
        What coordinates are more in the file than in `points`, so that single precision holds the points.
    shift : bool
        PLY: the offset is written into the header's comments (``offset x y z``), to be added by the reader, and
        coordinates without it in single precision. Otherwise coordinates with it in double precision.
    without : of "normals", "colors", "extras", and names of EXTRAS
        What is left out though the cloud and the format have it.
    text : bool
        PLY as text.

    Raises
    ------
    UmbrateError
        Where the ending is unknown or the file cannot be written; no half file is left.
    """
    path = Path(path)
    end = path.suffix.lower()
    if end not in KINDS:
        raise UmbrateError(f"{path.name}: clouds are written as {', '.join(KINDS)}.")
    wanted = {"points": np.asarray(cloud["points"])}
    if np.any(offset) and not (shift and end == ".ply"):
        wanted["points"] = wanted["points"].astype(np.float64) + np.asarray(offset, float)
    for name, kind in (("normals", "normals"), ("colors", "colors"), *((e, "extras") for e in EXTRAS)):
        if kind not in without and name not in without and name in cloud:
            wanted[name] = np.asarray(cloud[name])
    with written_aside(path, gate) as temporary:
        if end == ".ply":
            _write_ply(temporary, wanted, unit, text, offset if shift and np.any(offset) else None)
        else:
            _WRITERS[end](temporary, wanted, unit)


def _record(c):
    """All values as one record array, little-endian; coordinates as fine as they came."""
    kind = "<f8" if c["points"].dtype == np.float64 else "<f4"
    fields = [("x", kind), ("y", kind), ("z", kind)]
    if "normals" in c:
        fields += [("nx", "<f4"), ("ny", "<f4"), ("nz", "<f4")]
    if "colors" in c:
        fields += [("red", "u1"), ("green", "u1"), ("blue", "u1")]
    fields += [(e, f"<{kind}" if kind != "u1" else kind) for e, (_, kind) in EXTRAS.items() if e in c]
    out = np.empty(len(c["points"]), fields)
    for k, a in enumerate("xyz"):
        out[a] = c["points"][:, k]
        if "normals" in c:
            out[f"n{a}"] = c["normals"][:, k]
    if "colors" in c:
        for k, a in enumerate(("red", "green", "blue")):
            out[a] = c["colors"][:, k]
    for e in EXTRAS:
        if e in c:
            out[e] = c[e]
    return out


_PLY_TYPES = {"f4": "float", "f8": "double", "u1": "uchar"}


def ply_type(kind):
    """What PLY calls a NumPy type."""
    return _PLY_TYPES[kind.str[1:]]


def _write_ply(path, c, unit, text, offset=None):
    record = _record(c)
    head = [
        "ply", f"format {'ascii' if text else 'binary_little_endian'} 1.0", "comment made by Umbrate",
        f"comment unit {unit or 'unscaled'}",
        *([] if offset is None else [f"comment offset {' '.join(repr(float(x)) for x in offset)}"]),
        f"element vertex {len(record)}",
        *(f"property {ply_type(record.dtype[n])} {n}" for n in record.dtype.names), "end_header", "",
    ]  # fmt: skip
    with open(path, "wb") as f:
        f.write("\n".join(head).encode("ascii"))
        if text:
            write_rows(f, record, " ")
        else:
            record.tofile(f)


def write_rows(f, record, separator):
    """Text lines of a record array, in blocks."""
    places = decimals(record["x"], record["y"], record["z"])
    forms = [
        "%d" if record.dtype[n].kind == "u" else f"%.{places}f" if n in ("x", "y", "z") else "%.6g"
        for n in record.dtype.names
    ]
    line = separator.join(forms) + "\n"
    for a in range(0, len(record), 100_000):
        rows = record[a : a + 100_000].tolist()
        f.write("".join([line % r for r in rows]).encode("ascii"))


def decimals(*coordinates, least=4):
    """How many decimals coordinates need in a text: 0.0001 at least, and nine digits of those that are small."""
    top = max((float(np.abs(x).max()) for x in coordinates if len(x)), default=0.0)
    return int(np.clip(9 - np.ceil(np.log10(top)) if top > 0 else least, least, 12))


def _write_xyz(path, c, unit):
    with open(path, "wb") as f:
        write_rows(f, _record(c), " ")


def _write_csv(path, c, unit):
    record = _record(c)
    with open(path, "wb") as f:
        f.write((",".join(record.dtype.names) + "\n").encode("ascii"))
        write_rows(f, record, ",")


def _write_las(path, c, unit):
    import laspy

    meters = 0.001 if unit == "mm" else 1.0
    points = c["points"].astype(np.float64) * meters
    if "precision" in c:  # places are in meters, and so is their precision
        c = {**c, "precision": c["precision"] * np.float32(meters)}
    header = laspy.LasHeader(point_format=7 if "colors" in c else 6, version="1.4")
    header.generating_software = "Umbrate"
    low, high = (points.min(0), points.max(0)) if len(points) else (np.zeros(3), np.ones(3))
    # a round offset, and steps as fine as 32-bit numbers allow, a tenth of a micrometer at best
    header.offsets = np.floor(low)
    header.scales = np.maximum((high - header.offsets) / 2_000_000_000, 1e-7)
    for name, (about, kind) in EXTRAS.items():
        if name in c:
            about = f"{about}, {'m' if unit == 'mm' else 'unscaled'}" if name == "precision" else about
            header.add_extra_dim(laspy.ExtraBytesParams(name, kind, description=about[:31]))
    if "normals" in c:
        header.add_extra_dims([laspy.ExtraBytesParams(f"n{a}", "f4") for a in "xyz"])
    las = laspy.LasData(header)
    las.x, las.y, las.z = points.T
    if "colors" in c:
        las.red, las.green, las.blue = c["colors"].T.astype(np.uint16) * 257
    for name in EXTRAS:
        if name in c:
            las[name] = c[name]
    if "normals" in c:
        for k, a in enumerate("xyz"):
            las[f"n{a}"] = c["normals"][:, k]
    with open(path, "wb") as f:
        las.write(f, do_compress=path.suffix.lower() == ".laz")


def _write_e57(path, c, unit):
    import pye57

    points = c["points"].astype(np.float64) * (0.001 if unit == "mm" else 1.0)
    data = {f"cartesian{a.upper()}": np.ascontiguousarray(points[:, k]) for k, a in enumerate("xyz")}
    if "colors" in c:
        data |= {f"color{n}": np.ascontiguousarray(c["colors"][:, k]) for k, n in enumerate(("Red", "Green", "Blue"))}
    if "score" in c:
        data["intensity"] = np.asarray(c["score"], np.float32)
    path.unlink(missing_ok=True)  # the library wants to make it itself
    file = pye57.E57(str(path), mode="w")
    try:
        file.write_scan_raw(data, name="cloud")
    finally:
        file.close()


_WRITERS = {
    ".las": _write_las, ".laz": _write_las, ".e57": _write_e57, ".xyz": _write_xyz,
    ".csv": _write_csv,
}  # fmt: skip
