"""A surface cut by a plane, or by any value that says where nothing shall be; the cut is left open or closed flat."""

import numpy as np

from .carried import mean_edge
from .cut import cut
from .evening import spread
from .holes import in_plane, patched
from .mesh import opposite, rims, used_only
from .remesh import drawn_together, kinds_of

CAP = 4.0  #: mean edges of the rim: the triangles of a flat cut are so wide, as they tell of nothing finer
SHORT = 0.15  #: of a mean edge: shorter ones along a cut are drawn together


def cut_open(mesh, values):
    """The part of a surface (dict of arrays) where values (n,) of its vertices are negative; the cut is left open."""
    part = cut(mesh["faces"], values)
    out = {k: part.of(v) for k, v in mesh.items() if k != "faces"}
    if not len(part.faces):
        return {**out, "faces": part.faces}
    edge = mean_edge(mesh["points"], mesh["faces"])
    on_cut = np.zeros(len(part.first), bool)
    on_cut[part.rim] = True
    # slivers beside the cut go; everything else stays as it was
    near = spread(part.faces, on_cut, 1)
    beside = spread(part.faces, near, 2)[part.faces].any(1)  # what lies farther is not even looked at
    own = np.unique(part.faces[beside])
    number = np.full(len(part.first), -1, np.int32)
    number[own] = np.arange(len(own), dtype=np.int32)
    some = number[part.faces[beside]]
    kinds = kinds_of(some, len(own), ~near[own])
    places, faces, _, kept = drawn_together(out["points"][own], some, kinds, SHORT * edge, 3 * edge, own)
    out["points"][kept] = places
    faces = np.concatenate([part.faces[~beside], kept[faces].astype(np.int32)])
    names = list(out)
    faces, *values = used_only(faces, *out.values())
    return {**dict(zip(names, values, strict=True)), "faces": np.ascontiguousarray(faces, np.int32)}


def closed_flat(points, faces, normal, offset, tolerance):
    """A surface with all rims closed that lie in a plane.

    Parameters
    ----------
    points (n, 3), faces (t, 3)
    normal (3,), offset
        The plane, ``normal x = offset``; the normal points away from what is left.
    tolerance : how far from it a rim may lie

    Returns
    -------
    points (m, 3) float64, faces (u, 3), new : (m,) bool
    """
    points = np.asarray(points, np.float64)
    normal = np.asarray(normal, float) / np.linalg.norm(normal)
    rings = [
        r for r in rims(faces, opposite(faces, len(points)))
        if len(r) > 2 and np.abs(points[r] @ normal - offset).max() <= tolerance
    ]  # fmt: skip
    if not rings:
        return points, faces, np.zeros(len(points), bool)
    edge = np.concatenate([np.linalg.norm(points[r] - points[np.roll(r, -1)], axis=1) for r in rings])
    patch = in_plane(points, [r[::-1] for r in rings], normal)
    points, faces, new, _ = patched(points, faces, patch, CAP * float(edge.mean()))
    return points, faces, new


def without(mesh, gone):
    """The part of a surface without vertices (n,) bool that go, and the triangles that have one of them."""
    names = [k for k in mesh if k != "faces"]
    faces, *values = used_only(mesh["faces"][~gone[mesh["faces"]].any(1)], *(mesh[k] for k in names))
    return {**dict(zip(names, values, strict=True)), "faces": faces}
