"""What is known of a surface's vertices, on a surface that was made from it: by the nearest place.

Colors, support and photos are those of the place; the cloud lies over the new surface as it lay over the old one, less
how far that moved. Vertices that did not move keep their normals.
"""

import numpy as np
import scipy

from .build import vertex_normals
from .distance import places_on
from .mesh import half_edges

REACH = 8.0  #: mean edges: nothing moved farther


def mean_edge(points, faces):
    """The mean length of edges."""
    start, end = half_edges(faces)
    return float(np.linalg.norm(points[start] - points[end], axis=1).mean()) if len(faces) else 0.0


def _unmoved(points, mesh):
    """A triangle (n,) of the mesh that has the very place of each point as a corner, -1 where none has it, and its
    shares (n, 3) of the triangle's corners."""

    def key(x):
        a, b, c = np.ascontiguousarray(x + np.float32(0)).view(np.uint32).astype(np.uint64).T  # -0 is 0
        return (a * np.uint64(0x9E3779B97F4A7C15)) ^ (b * np.uint64(0xC2B2AE3D27D4EB4F)) ^ (c << np.uint64(17))

    P, F = np.asarray(mesh["points"], np.float32), mesh["faces"]
    which, shares = np.full(len(points), -1), np.zeros((len(points), 3))
    if not len(points) or not len(F):
        return which, shares
    own = key(P)
    order = np.argsort(own, kind="stable")
    at = order[np.minimum(np.searchsorted(own[order], key(points)), len(P) - 1)]
    corner = np.full(len(P), -1)  # a half-edge that begins there
    corner[F.ravel()] = np.arange(F.size)
    rows = np.flatnonzero((P[at] == points).all(1) & (corner[at] >= 0))
    which[rows] = corner[at[rows]] // 3
    shares[rows, corner[at[rows]] % 3] = 1.0
    return which, shares


def unmoved(points, mesh):
    """Which points (n, 3) are where a vertex of the mesh is, (n,) bool."""
    return _unmoved(np.asarray(points, np.float32), mesh)[0] >= 0


def carried(mesh, points, faces, new=None):
    """The arrays of a surface made from another one.

    Parameters
    ----------
    mesh : dict of arrays
        The other one.
    points (n, 3), faces (t, 3)
    new : (n,) bool, optional
        Vertices where the other one was not: filled, with colors from round them.

    Returns
    -------
    dict of arrays
    """
    n = len(points)
    new = np.zeros(n, bool) if new is None else new
    old = ~new
    points32 = np.asarray(points, np.float32)
    reach = REACH * mean_edge(mesh["points"], mesh["faces"])
    which, shares = _unmoved(points32[old], mesh)
    rest = np.flatnonzero(which < 0)
    _, which[rest], shares[rest] = places_on(points32[old][rest], mesh["points"], mesh["faces"], reach)
    lost = which < 0
    if lost.any():  # a thinned surface may reach farther
        _, far, some = places_on(points32[old][lost], mesh["points"], mesh["faces"], 50 * reach)
        which[lost], shares[lost] = far, some
    corner = mesh["faces"][np.maximum(which, 0)].astype(np.int64)
    nearest = np.take_along_axis(corner, shares.argmax(1)[:, None], 1)[:, 0]
    P = mesh["points"]
    out = {"points": points32, "faces": np.ascontiguousarray(faces, np.int32)}

    def mixed(values):
        v = values[corner].astype(np.float64)
        s = shares if v.ndim == 2 else shares[:, :, None]
        return (v * s).sum(1)

    with np.errstate(invalid="ignore"):
        place, normal = mixed(P), mixed(mesh["normals"])
        deviation = mixed(mesh["deviation"])
    deviation = np.where(np.isfinite(deviation), deviation, mesh["deviation"][nearest])
    size = np.maximum(np.linalg.norm(normal, axis=1), 1e-12)
    moved = ((points32[old] - place) * normal).sum(1) / size
    same = (points32[old] == P[nearest]).all(1)
    given = np.zeros((n, 3), np.float32)
    given[old] = np.where(same[:, None], mesh["normals"][nearest], np.float32(0))
    out["normals"] = vertex_normals(points32, out["faces"], given)
    out["colors"] = np.zeros((n, 3), np.uint8)
    out["colors"][old] = np.where(same[:, None], mesh["colors"][nearest], np.round(mixed(mesh["colors"])))
    out["support"] = np.zeros(n, np.float32)
    out["support"][old] = np.where(same, mesh["support"][nearest], mixed(np.minimum(mesh["support"], 1e30)))
    out["deviation"] = np.full(n, np.nan, np.float32)
    out["deviation"][old] = np.where(same, mesh["deviation"][nearest], deviation - moved)
    out["photos"] = np.zeros(n, np.uint8)
    out["photos"][old] = mesh["photos"][nearest]
    out["filled"] = new.copy()
    out["filled"][old] = mesh["filled"][nearest]
    if new.any() and old.any():
        _from_round(out, new)
    return out


def _from_round(mesh, new):
    """Colors of new vertices as even as can be between those round them, and how far they are from points at least."""
    n = len(new)
    near = new.copy()
    near[mesh["faces"][new[mesh["faces"]].any(1)]] = True
    rows = np.flatnonzero(near)
    number = np.full(n, -1)
    number[rows] = np.arange(len(rows))
    a, b = half_edges(number[mesh["faces"][near[mesh["faces"]].all(1)]])
    m = len(rows)
    pairs = np.unique(np.concatenate([a * m + b, b * m + a]))
    a, b = pairs // m, pairs % m
    free = new[rows]
    count = np.maximum(np.bincount(a, minlength=m), 1)
    L = (scipy.sparse.csr_matrix((1.0 / count[a], (a, b)), (m, m)) - scipy.sparse.eye_array(m)).tocsr()
    if free.all():
        return
    colors = mesh["colors"][rows].astype(float)
    solve = scipy.sparse.linalg.splu(L[free][:, free].tocsc())
    right = -(L[free][:, ~free] @ colors[~free])
    mixed = np.stack([solve.solve(right[:, k]) for k in range(3)], 1)
    mesh["colors"][rows[free]] = np.clip(np.round(np.nan_to_num(mixed, nan=128.0)), 0, 255)
    rim = rows[~free]
    d, k = scipy.spatial.cKDTree(mesh["points"][rim]).query(mesh["points"][rows[free]])
    mesh["support"][rows[free]] = d + mesh["support"][rim][k]
