"""A textured surface as one GLB file: the open standard glTF 2.0, in meters, y up, pages of texels within.

Written by hand, as it is little: a header, a table of contents in JSON, and the arrays one after another.
"""

import json
import struct

import numpy as np

from ..core.errors import UmbrateError
from .files import CLOSED, written_aside

FLOAT, UINT, USHORT = 5126, 5125, 5123  #: component types of the standard
ARRAY, INDEX = 34962, 34963  #: what a part of the buffer is for
METERS = {"mm": 1e-3}
MOST = 4_294_967_295  #: bytes a file can say that it has


class _Content:
    """The table of contents and the arrays of a file, as they grow."""

    def __init__(self):
        self.parts, self.views, self.accessors, self.size = [], [], [], 0
        self.images, self.textures = [], []

    def put(self, data, target=None):
        """Number of the part of the buffer that holds some bytes."""
        view = {"buffer": 0, "byteOffset": self.size, "byteLength": len(data)}
        self.views.append(view | ({"target": target} if target else {}))
        self.parts.append(bytes(data) + b"\0" * (-len(data) % 4))
        self.size += len(self.parts[-1])
        return len(self.views) - 1

    def array(self, a, target, ends=False, normalized=False):
        """Number of an array (n,) or (n, k); `ends`: its least and largest values are told."""
        a = np.ascontiguousarray(a)
        kind = {np.dtype("<u4"): UINT, np.dtype("<u2"): USHORT, np.dtype("<f4"): FLOAT}[a.dtype]
        entry = {
            "bufferView": self.put(a.tobytes(), target), "componentType": kind, "count": len(a),
            "type": "SCALAR" if a.ndim == 1 else f"VEC{a.shape[1]}",
        }  # fmt: skip
        if ends:
            entry |= {"min": np.atleast_1d(a.min(0)).tolist(), "max": np.atleast_1d(a.max(0)).tolist()}
        if normalized:
            entry["normalized"] = True
        self.accessors.append(entry)
        return len(self.accessors) - 1

    def texture(self, file):
        """Number of a texture out of the bytes of a PNG or JPEG file."""
        kind = "image/png" if file[:4] == b"\x89PNG" else "image/jpeg"
        self.images.append({"bufferView": self.put(file), "mimeType": kind})
        self.textures.append({"source": len(self.images) - 1, "sampler": 0})
        return len(self.textures) - 1


def _turned(v):
    """Places or directions (n, 3), z up, with y up."""
    return np.stack([v[:, 0], v[:, 2], -v[:, 1]], 1)


def _units(v, other):
    """Directions (n, 3) of length 1, as the standard wants them; `other` where there is none."""
    size = np.linalg.norm(v, axis=1, keepdims=True)
    return np.where(size > 1e-20, v / np.maximum(size, 1e-20), other)


def _linear(colors):
    """Colors (n, 3) uint8 of pictures as (n, 4) uint16 in proportion to light (IEC 61966-2-1), opaque."""
    c = colors / 255.0
    c = np.where(c <= 0.04045, c / 12.92, ((c + 0.055) / 1.055) ** 2.4)
    return np.column_stack([np.round(65535 * c), np.full(len(c), 65535)]).astype("<u2")


def write_glb(
    path, mesh, pages=(), unit=None, gate=CLOSED, *, normals=(), openness=(), origin=(0.0, 0.0, 0.0), closed=True,
    name="surface", told=None,
):  # fmt: skip
    """Write a surface, with its texture where it has one.

    Parameters
    ----------
    path : path
    mesh : dict of arrays
        points (n, 3), normals (n, 3), z up; faces (t, 3). With pages: corner (t, 3) rows of uv (m, 2), right and up;
        vertex (m,); page (t,); with pages of normals tangent (m, 3). Without pages: colors (n, 3) where there are any.
    pages : list of bytes
        Each a PNG or JPEG file.
    unit : "mm" or None
        None: unscaled, one unit becomes one meter.
    gate : Gate
    normals, openness : lists of bytes
        As many, or none: normals in the frame of the surface, and how much light of an even sky reaches it.
    origin : (3,)
        The place that becomes zero, in the mesh's unit.
    closed : bool
        Whether the inner side is never seen.
    name : str
    told : dict, optional
        What the file says of itself beside that.

    Raises
    ------
    UmbrateError
        Where the file cannot be written, or is larger than the format allows.
    """
    c, scale = _Content(), METERS.get(unit, 1.0)
    points = scale * _turned(mesh["points"].astype(np.float64) - np.asarray(origin, float))
    away = _units(_turned(mesh["normals"].astype(np.float64)), (0.0, 1, 0))
    primitives, materials = [], []
    for k in range(max(len(pages), 1)):
        material = {
            "name": f"page {k + 1}" if pages else "plain", "doubleSided": not closed,
            "pbrMetallicRoughness": {"metallicFactor": 0.0, "roughnessFactor": 1.0},
        }  # fmt: skip
        rows = np.flatnonzero(mesh["page"] == k) if pages else np.arange(len(mesh["faces"]))
        if not len(rows):
            continue
        used, corner = np.unique(mesh["corner" if pages else "faces"][rows], return_inverse=True)
        v = mesh["vertex"][used] if pages else used
        attributes = {
            "POSITION": c.array(points[v].astype("<f4"), ARRAY, ends=True),
            "NORMAL": c.array(away[v].astype("<f4"), ARRAY),
        }
        if pages:
            uv = mesh["uv"][used] * [1, -1] + [0, 1]  # rows from above
            attributes["TEXCOORD_0"] = c.array(uv.astype("<f4"), ARRAY)
            material["pbrMetallicRoughness"]["baseColorTexture"] = {"index": c.texture(pages[k])}
            if normals:
                right = _units(_turned(mesh["tangent"][used].astype(np.float64)), (1.0, 0, 0))
                right = np.column_stack([right, np.ones(len(right))])
                attributes["TANGENT"] = c.array(right.astype("<f4"), ARRAY)
                material["normalTexture"] = {"index": c.texture(normals[k])}
            if openness:
                material["occlusionTexture"] = {"index": c.texture(openness[k])}
        elif "colors" in mesh:
            attributes["COLOR_0"] = c.array(_linear(mesh["colors"][v]), ARRAY, normalized=True)
        index = c.array(corner.reshape(-1).astype("<u4"), INDEX, ends=True)
        primitives.append({"attributes": attributes, "indices": index, "material": len(materials)})
        materials.append(material)
    content = {
        "asset": {"version": "2.0", "generator": "Umbrate"} | ({"extras": told} if told else {}),
        "scene": 0,
        "scenes": [{"nodes": [0]}],
        "nodes": [{"mesh": 0, "name": name}],
        "meshes": [{"primitives": primitives, "name": name}],
        "materials": materials,
    }
    if c.textures:
        samplers = [{"magFilter": 9729, "minFilter": 9987, "wrapS": 33071, "wrapT": 33071}]
        content |= {"textures": c.textures, "images": c.images, "samplers": samplers}
    content |= {"accessors": c.accessors, "bufferViews": c.views, "buffers": [{"byteLength": c.size}]}
    head = json.dumps(content, separators=(",", ":")).encode()
    head += b" " * (-len(head) % 4)
    total = 12 + 8 + len(head) + 8 + c.size
    if total > MOST:
        raise UmbrateError("A GLB file cannot be larger than 4 GB. Take fewer triangles or smaller pages.")
    with written_aside(path, gate) as temporary, open(temporary, "wb") as f:
        f.write(struct.pack("<4sII", b"glTF", 2, total))
        f.write(struct.pack("<I4s", len(head), b"JSON") + head)
        f.write(struct.pack("<I4s", c.size, b"BIN\0"))
        for p in c.parts:
            f.write(p)
