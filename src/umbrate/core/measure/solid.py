"""What can be measured on a surface: area, volume, sizes, thickness, sections; and how each changes as places move.

How sure a value is follows from how it changes: the derivative of an area or a volume by every vertex is known in
closed form. Vertices that lie near each other move together, as they come from the same photos; so the surface is
divided into patches, each of which moves as one of its places is known to (see `actions.solids`).
"""

from dataclasses import dataclass

import numpy as np

from ..surface.cut import cut
from ..surface.mesh import areas, half_edges, pieces
from ..surface.rays import first_met
from .section import Section, plane_axes

STEEP = 0.2  #: cosine; where the other side is met flatter than that, there is no thickness to be told
SKIN = 0.02  #: of a mean edge: what a ray meets nearer to where it starts is where it starts
SMOOTH = 4  #: rounds of means of the normals along which thickness is taken


def volume_derivative(points, faces):
    """How the volume changes as each vertex (n, 3) moves: (n, 3); a third of the areas' normals round it."""
    P = np.asarray(points, np.float64)
    a, b, c = (P[faces[:, k]] for k in range(3))
    out = np.zeros((len(P), 3))
    for corner, g in ((0, np.cross(b, c)), (1, np.cross(c, a)), (2, np.cross(a, b))):
        for k in range(3):
            out[:, k] += np.bincount(faces[:, corner], g[:, k] / 6, len(P))
    return out


def area_derivative(points, faces, weights=None):
    """How the area changes as each vertex moves: (n, 3).

    weights : (t,), optional
        Of the triangles.
    """
    P = np.asarray(points, np.float64)
    a, b, c = (P[faces[:, k]] for k in range(3))
    n = np.cross(b - a, c - a)
    n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-300)
    if weights is not None:
        n = n * weights[:, None]
    out = np.zeros((len(P), 3))
    for corner, side in ((0, c - b), (1, a - c), (2, b - a)):
        g = np.cross(n, side) / 2
        for k in range(3):
            out[:, k] += np.bincount(faces[:, corner], g[:, k], len(P))
    return out


def under_curves(points, faces, normals):
    """The volume between flat triangles and the curved surface through their corners with these normals; signed.

    Over an edge e between normals n and m the surface stands up by e (m - n) / 8 in the middle; the mean of these three
    is the mean over the triangle, where the surface is of second order.
    """
    P, N = np.asarray(points, np.float64), np.asarray(normals, np.float64)
    mean = np.zeros(len(faces))
    for k in range(3):
        a, b = faces[:, k], faces[:, (k + 1) % 3]
        mean += ((P[b] - P[a]) * (N[b] - N[a])).sum(1) / 24
    return float((mean * areas(P, faces)).sum())


def filled_share(faces, filled, area):
    """Share of each triangle's area (t,) that no points hold, by its corners; and of all of it."""
    part = filled[faces].mean(1)
    return part, float((part * area).sum() / max(area.sum(), 1e-300))


def patches(points, count, seed=0):
    """Places (m,) spread evenly over points (n, 3), rows of them, and the one (n,) that each point is nearest to."""
    P = np.asarray(points, np.float64)
    some = np.random.default_rng(seed).permutation(len(P))[: max(4000, 40 * count)]
    Q = P[some]
    chosen = [int(np.argmax(((Q - Q.mean(0)) ** 2).sum(1)))]
    far = ((Q - Q[chosen[0]]) ** 2).sum(1)
    while len(chosen) < min(count, len(Q)):
        chosen.append(int(far.argmax()))
        far = np.minimum(far, ((Q - Q[chosen[-1]]) ** 2).sum(1))
    rows = some[chosen]
    own = np.empty(len(P), np.int64)
    for k in range(0, len(P), 100_000):
        d = ((P[k : k + 100_000, None] - P[rows][None]) ** 2).sum(2)
        own[k : k + 100_000] = d.argmin(1)
    return rows, own


@dataclass(frozen=True)
class Hollow:
    """A part of a surface that no points hold: its area as it is seen, how wide it is across, its vertices (k,)."""

    area: float
    across: float
    rows: np.ndarray


def hollows(points, faces, filled):
    """The Hollows of a surface: connected triangles that no points hold, seen as flat."""
    rows = np.flatnonzero(filled[faces].all(1))
    if not len(rows):
        return []
    f = faces[rows]
    which = pieces(f, len(points))
    P = np.asarray(points, np.float64)
    a, b, c = (P[f[:, k]] for k in range(3))
    vector = np.cross(b - a, c - a) / 2
    out = []
    for k in range(int(which.max()) + 1):
        on = which == k
        area = float(np.linalg.norm(vector[on].sum(0)))
        out.append(Hollow(area, 2 * float(np.sqrt(area / np.pi)), np.unique(f[on])))
    return out


def even_normals(points, faces, normals):
    """Normals (n, 3) float64 evened out along the edges: a ray along one alone would follow every grain."""
    a, b = half_edges(faces)
    out = np.asarray(normals, np.float64)
    n = len(points)
    for _ in range(SMOOTH):
        out = out + np.stack([np.bincount(a, out[b, k], n) + np.bincount(b, out[a, k], n) for k in range(3)], 1)
        out /= np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-30)
    return out


def thickness(points, faces, normals, rows=None):
    """How thick a closed surface is at vertices: straight through, along the normal, to the other side.

    Returns
    -------
    thick : (m,) float64
        Not a number where the other side is met too flat, or not at all.
    which : (m,) int64
        The triangle met there, or -1.
    """
    P = np.asarray(points, np.float64)
    rows = np.arange(len(P)) if rows is None else np.asarray(rows)
    inward = -even_normals(points, faces, normals)[rows]
    a, b = half_edges(faces)
    edge = float(np.linalg.norm(P[a] - P[b], axis=1).mean())
    starts = P[rows] + SKIN * edge * inward
    far, which = first_met(starts, inward, P, faces, SKIN * edge)
    T = P[faces[np.maximum(which, 0)]]
    n = np.cross(T[:, 1] - T[:, 0], T[:, 2] - T[:, 0])
    n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-300)
    through = (n * inward).sum(1) > STEEP  # out of the surface again
    return np.where(np.isfinite(far) & through, far + SKIN * edge, np.nan), np.where(through, which, -1)


def surface_section(points, faces, origin, normal):
    """The Section of a surface by a plane: its triangles cut, edge by edge; None where the plane misses it."""
    n = np.asarray(normal, float) / np.linalg.norm(normal)
    origin = np.asarray(origin, float)
    P = np.asarray(points, np.float64)
    h = (P - origin) @ n
    size = float(np.abs(h).max()) if len(h) else 0.0
    h = np.where(np.abs(h) < 1e-12 * size, 1e-12 * size, h)
    near = (h[faces].min(1) < 0) & (h[faces].max(1) > 0)
    if not near.any():
        return None
    part = cut(faces[near], h)
    u, v = plane_axes(n)
    places = P[part.first] + part.share[:, None] * (P[part.second] - P[part.first])
    flat = np.stack([(places - origin) @ u, (places - origin) @ v], 1)
    after = dict(part.rim.tolist())
    lines, before = [], set(part.rim[:, 1].tolist())
    starts = [a for a in after if a not in before]  # of open surfaces: where a line begins
    while after:
        first = starts.pop() if starts else next(iter(after))
        ring, k = [first], first
        while k in after:
            k = after.pop(k)
            ring.append(k)
        lines.append(flat[ring])
    a, b = half_edges(faces[near])
    spacing = float(np.median(np.linalg.norm(P[a] - P[b], axis=1)))
    lines = sorted((x for x in lines if len(x) > 2), key=lambda x: -np.linalg.norm(np.diff(x, axis=0), axis=1).sum())
    return Section(origin, u, v, lines, spacing) if lines else None


def area_of(points, faces):
    """Area of all triangles."""
    return float(areas(np.asarray(points, np.float64), faces).sum())
