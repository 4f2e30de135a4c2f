"""A textured surface as OBJ with its materials (MTL) and pages of texels beside it."""

from pathlib import Path

import numpy as np

from ..core.names import file_name
from .clouds import decimals
from .files import CLOSED, written_aside

BLOCK = 100_000


def write_obj(path, mesh, pages, *, unit=None, told=(), normals=(), gate=CLOSED):
    """Write an OBJ file, its MTL file, and its pages; returns the paths of all of them.

    What belongs to it is named plainly, without spaces: names of files within these formats end at the first space for
    most programs.

    Parameters
    ----------
    path : path
        Of the OBJ file.
    mesh : dict
        points (n, 3), normals (n, 3), faces (t, 3); corner (t, 3) rows of uv (m, 2), right and up; page (t,).
    pages : list of bytes
        Each a PNG or JPEG file.
    unit : str or None
    told : lines of text
        What the file says of itself.
    normals : list of bytes
        Pages of normals, or none.
    gate : Gate
    """
    path = Path(path)
    plain = ascii_name(path.stem)
    files = [path, path.with_name(f"{plain}.mtl")]
    names, bumps = [], []
    for kind, given, out in (("", pages, names), ("-normal", normals, bumps)):
        for k, page in enumerate(given):
            end = "png" if page[:4] == b"\x89PNG" else "jpg"
            out.append(f"{plain}{kind}{f'-{k + 1}' if len(given) > 1 else ''}.{end}")
            files.append(path.with_name(out[-1]))
    gate.check(*files)
    for file, page in zip(files[2:], [*pages, *normals], strict=True):
        with written_aside(file, gate) as temporary:
            temporary.write_bytes(page)
    lines = []
    for k, name in enumerate(names):
        lines += [f"newmtl page{k + 1}", "Ka 1 1 1", "Kd 1 1 1", "Ks 0 0 0", "illum 1", f"map_Kd {name}"]
        lines += [f"norm {bumps[k]}"] if bumps else []
        lines.append("")
    with written_aside(files[1], gate) as temporary:
        temporary.write_text("\n".join(lines), "ascii")
    with written_aside(path, gate) as temporary, open(temporary, "wb") as f:
        head = ["made by Umbrate", f"unit {unit or 'unscaled'}", *told]
        f.write("".join(f"# {x}\n" for x in head).encode("utf-8"))
        f.write(f"mtllib {files[1].name}\n".encode("ascii"))
        X, N, uv = mesh["points"], mesh["normals"], mesh["uv"]
        _rows(f, "v" + f" %.{decimals(X[:, 0], X[:, 1], X[:, 2])}f" * 3 + "\n", X)
        _rows(f, "vt %.7f %.7f\n", uv)
        _rows(f, "vn %.5f %.5f %.5f\n", N)
        both = np.stack([mesh["faces"], mesh["corner"], mesh["faces"]], 2).reshape(len(mesh["faces"]), 9) + 1
        for k in range(len(names)):
            f.write(f"usemtl page{k + 1}\n".encode("ascii"))
            _rows(f, "f %d/%d/%d %d/%d/%d %d/%d/%d\n", both[mesh["page"] == k])
    return files


def ascii_name(name):
    """A file's name of plain letters, digits, dots and lines, for formats that know no others."""
    name = name.replace("ß", "ss")
    for a, b in (("ä", "ae"), ("ö", "oe"), ("ü", "ue"), ("Ä", "Ae"), ("Ö", "Oe"), ("Ü", "Ue")):
        name = name.replace(a, b)
    out = "".join(c if c.isascii() and (c.isalnum() or c in "-_.") else "_" for c in file_name(name))
    return out.strip("._") or "model"


def _rows(f, line, values):
    for a in range(0, len(values), BLOCK):
        f.write("".join([line % tuple(r) for r in values[a : a + BLOCK].tolist()]).encode("ascii"))
