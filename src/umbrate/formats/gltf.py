"""A textured surface as one GLB file: the open standard glTF 2.0, in meters, y up, pages of texels within.

Written by hand, as it is little: a header, a table of contents in JSON, and the arrays one after another.
"""

import json
import struct

import numpy as np

from ..core.errors import UmbrateError
from .files import CLOSED, written_aside

FLOAT, UINT = 5126, 5125  #: component types of the standard
ARRAY, INDEX = 34962, 34963  #: what a part of the buffer is for
METERS = {"mm": 1e-3}
MOST = 4_294_967_295  #: bytes a file can say that it has


def write_glb(path, mesh, pages, unit=None, gate=CLOSED):
    """Write a textured surface.

    Parameters
    ----------
    path : path
    mesh : dict of arrays
        points (n, 3), normals (n, 3), z up; faces (t, 3); corner (t, 3) rows of uv (m, 2), right and up; vertex (m,);
        page (t,).
    pages : list of bytes
        Each a PNG or JPEG file.
    unit : "mm" or None
        None: unscaled, one unit becomes one meter.

    Raises
    ------
    UmbrateError
        Where the file cannot be written, or is larger than the format allows.
    """
    parts, views, accessors, size = [], [], [], 0

    def put(data, target=None):
        nonlocal size
        data = bytes(data)
        view = {"buffer": 0, "byteOffset": size, "byteLength": len(data)}
        views.append(view | ({"target": target} if target else {}))
        parts.append(data + b"\0" * (-len(data) % 4))
        size += len(parts[-1])
        return len(views) - 1

    def accessor(a, kind, target):
        a = np.ascontiguousarray(a)
        entry = {
            "bufferView": put(a.tobytes(), target), "componentType": UINT if a.dtype == np.uint32 else FLOAT,
            "count": len(a), "type": kind,
        }  # fmt: skip
        if kind != "VEC2":
            entry |= {"min": np.atleast_1d(a.min(0)).tolist(), "max": np.atleast_1d(a.max(0)).tolist()}
        accessors.append(entry)
        return len(accessors) - 1

    scale = METERS.get(unit, 1.0)
    primitives = []
    for k in range(len(pages)):
        rows = np.flatnonzero(mesh["page"] == k)
        if not len(rows):
            continue
        used, corner = np.unique(mesh["corner"][rows], return_inverse=True)
        v = mesh["vertex"][used]
        points, normals = (mesh[n][v][:, [0, 2, 1]] * [1, 1, -1] for n in ("points", "normals"))
        normals = normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-30)
        normals[np.linalg.norm(normals, axis=1) < 0.5] = (0, 1, 0)  # the standard wants unit vectors everywhere
        uv = mesh["uv"][used] * [1, -1] + [0, 1]  # rows from above
        attributes = {
            "POSITION": accessor((scale * points).astype("<f4"), "VEC3", ARRAY),
            "NORMAL": accessor(normals.astype("<f4"), "VEC3", ARRAY),
            "TEXCOORD_0": accessor(uv.astype("<f4"), "VEC2", ARRAY),
        }
        index = accessor(corner.reshape(-1).astype("<u4"), "SCALAR", INDEX)
        primitives.append({"attributes": attributes, "indices": index, "material": k})
    images = [{"bufferView": put(p), "mimeType": "image/png" if p[:4] == b"\x89PNG" else "image/jpeg"} for p in pages]
    content = {
        "asset": {"version": "2.0", "generator": "Umbrate"},
        "scene": 0,
        "scenes": [{"nodes": [0]}],
        "nodes": [{"mesh": 0, "name": "surface"}],
        "meshes": [{"primitives": primitives}],
        "materials": [
            {
                "name": f"page {k + 1}",
                "pbrMetallicRoughness": {
                    "baseColorTexture": {"index": k}, "metallicFactor": 0.0, "roughnessFactor": 1.0,
                },
            }
            for k in range(len(pages))
        ],
        "textures": [{"source": k, "sampler": 0} for k in range(len(pages))],
        "images": images,
        "samplers": [{"magFilter": 9729, "minFilter": 9987, "wrapS": 33071, "wrapT": 33071}],
        "accessors": accessors,
        "bufferViews": views,
        "buffers": [{"byteLength": size}],
    }  # fmt: skip
    head = json.dumps(content, separators=(",", ":")).encode()
    head += b" " * (-len(head) % 4)
    total = 12 + 8 + len(head) + 8 + size
    if total > MOST:
        raise UmbrateError("A GLB file cannot be larger than 4 GB. Take fewer triangles or smaller pages.")
    with written_aside(path, gate) as temporary, open(temporary, "wb") as f:
        f.write(struct.pack("<4sII", b"glTF", 2, total))
        f.write(struct.pack("<I4s", len(head), b"JSON") + head)
        f.write(struct.pack("<I4s", size, b"BIN\0"))
        for p in parts:
            f.write(p)
