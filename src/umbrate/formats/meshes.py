"""Triangles as files: PLY, OBJ and STL out of a job, each written aside and renamed, and models read."""

from pathlib import Path

import numpy as np

from ..core.errors import UmbrateError
from ..core.later import Later
from .clouds import decimals, ply_type, write_rows
from .files import CLOSED, written_aside

trimesh = Later("trimesh")

#: what a vertex may carry besides its place: name, and the type it is written as
EXTRAS = {"support": "f4", "deviation": "f4", "photos": "u1", "filled": "u1"}
KINDS = (".ply", ".obj", ".stl")
BLOCK = 200_000


def write_mesh(path, mesh, unit=None, *, plain=False, offset=(0.0, 0.0, 0.0), gate=CLOSED, told=(), text=False):
    """Write triangles in the format of the file's ending.

    Parameters
    ----------
    path : path
        Ends in one of KINDS. STL knows places alone, OBJ places, normals and colors.
    mesh : dict of arrays
        ``points`` (n, 3), ``faces`` (t, 3); ``normals`` (n, 3), ``colors`` (n, 3) uint8 and those of EXTRAS (n,).
    unit : "mm" or None
        None: unscaled.
    plain : bool
        Places alone.
    offset : (3,)
        What coordinates are more in the file than in `points`.
    told : lines of plain text
        What PLY and OBJ say of themselves.
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
        raise UmbrateError(f"{path.name}: surfaces are written as {', '.join(KINDS)}.")
    mesh = {k: v for k, v in mesh.items() if not plain or k in ("points", "faces")}
    if np.any(offset):
        mesh["points"] = mesh["points"].astype(np.float64) + np.asarray(offset, float)
    with written_aside(path, gate) as temporary, open(temporary, "wb") as f:
        {".ply": _ply_text if text else _ply, ".obj": _obj, ".stl": _stl}[end](f, mesh, unit, told)


def _ply_text(f, m, unit, told):
    _ply(f, m, unit, told, text=True)


def _ply(f, m, unit, told, text=False):
    kind = "<f8" if m["points"].dtype == np.float64 else "<f4"
    columns = [(a, kind, m["points"][:, k]) for k, a in enumerate("xyz")]
    if "normals" in m:
        columns += [(f"n{a}", "<f4", m["normals"][:, k]) for k, a in enumerate("xyz")]
    if "colors" in m:
        columns += [(n, "u1", m["colors"][:, k]) for k, n in enumerate(("red", "green", "blue"))]
    columns += [(n, kind if kind == "u1" else f"<{kind}", m[n]) for n, kind in EXTRAS.items() if n in m]
    rows = np.empty(len(m["points"]), [(n, t) for n, t, _ in columns])
    for n, _, values in columns:
        rows[n] = values
    head = [
        "ply", f"format {'ascii' if text else 'binary_little_endian'} 1.0", "comment made by Umbrate",
        f"comment unit {unit or 'unscaled'}",
        *(f"comment {x}" for x in told),
        f"element vertex {len(rows)}", *(f"property {ply_type(rows.dtype[n])} {n}" for n in rows.dtype.names),
        f"element face {len(m['faces'])}", "property list uchar int vertex_indices", "end_header", "",
    ]  # fmt: skip
    f.write("\n".join(head).encode("ascii"))
    if text:
        write_rows(f, rows, " ")
        for a in range(0, len(m["faces"]), BLOCK):
            f.write("".join(f"3 {i} {j} {k}\n" for i, j, k in m["faces"][a : a + BLOCK].tolist()).encode("ascii"))
        return
    rows.tofile(f)
    faces = np.empty(len(m["faces"]), [("n", "u1"), ("v", "<i4", 3)])
    faces["n"], faces["v"] = 3, m["faces"]
    faces.tofile(f)


def _obj(f, m, unit, told):
    f.write("".join(f"# {x}\n" for x in (f"made by Umbrate, unit {unit or 'unscaled'}", *told)).encode("ascii"))
    X, n = m["points"], len(m["points"])
    places = decimals(X[:, 0], X[:, 1], X[:, 2])
    line = "v" + f" %.{places}f" * 3 + (" %.4f" * 3 if "colors" in m else "") + "\n"
    for a in range(0, n, BLOCK):
        rows = X[a : a + BLOCK]
        if "colors" in m:
            rows = np.column_stack([rows, m["colors"][a : a + BLOCK] / 255.0])
        f.write("".join([line % tuple(r) for r in rows.tolist()]).encode("ascii"))
    for a in range(0, n if "normals" in m else 0, BLOCK):
        f.write(
            "".join(["vn {:.5f} {:.5f} {:.5f}\n".format(*r) for r in m["normals"][a : a + BLOCK].tolist()]).encode(
                "ascii"
            )
        )
    line = "f %d//%d %d//%d %d//%d\n" if "normals" in m else "f %d %d %d\n"
    for a in range(0, len(m["faces"]), BLOCK):
        rows = m["faces"][a : a + BLOCK].astype(np.int64) + 1
        rows = np.repeat(rows, 2, axis=1) if "normals" in m else rows
        f.write("".join([line % tuple(r) for r in rows.tolist()]).encode("ascii"))


def _stl(f, m, unit, told):
    f.write(f"made by Umbrate, unit {unit or 'unscaled'}".encode("ascii").ljust(80))
    f.write(np.uint32(len(m["faces"])).tobytes())
    for a in range(0, len(m["faces"]), BLOCK):
        T = m["points"][m["faces"][a : a + BLOCK]].astype(np.float32)
        n = np.cross(T[:, 1] - T[:, 0], T[:, 2] - T[:, 0])
        out = np.zeros(len(T), [("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("more", "<u2")])
        out["normal"] = n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-30)
        out["corners"] = T
        out.tofile(f)


MOST_BYTES = 1_000_000_000  #: of a file that is read


def read_mesh(path):
    """Points (n, 3) float64 and triangles (t, 3) int64 of a model file (.stl, .ply, .obj).

    Raises
    ------
    UmbrateError
        Where it cannot be read, or holds no triangles.
    """
    path = Path(path)
    kind = path.suffix.lower().lstrip(".")
    if kind not in ("stl", "ply", "obj"):
        raise UmbrateError(f"{path.name}: models are read from .stl, .ply and .obj files.")
    try:
        if path.stat().st_size > MOST_BYTES:
            raise UmbrateError(f"{path.name} is larger than {MOST_BYTES / 1e9:g} GB. Thin it where it was made.")
        with path.open("rb") as f:
            made = trimesh.load_mesh(f, file_type=kind, process=False, skip_materials=True)
        made.merge_vertices(merge_tex=True, merge_norm=True)  # an STL's triangles share no corners
        points, faces = np.array(made.vertices, np.float64), np.array(made.faces, np.int64)
    except UmbrateError:
        raise
    except OSError as e:
        raise UmbrateError(f"{path} cannot be read ({e.strerror}).") from None
    except Exception:  # a stranger's file; what the library trips over has many names
        raise UmbrateError(f"{path.name} is damaged, or it is no model of triangles.") from None
    whole = len(faces) and len(points) and faces.min() >= 0 and faces.max() < len(points)
    if not whole or not np.isfinite(points).all():
        raise UmbrateError(f"{path.name} holds no triangles.")
    return points, faces
