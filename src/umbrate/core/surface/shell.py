"""A closed surface made hollow for a print: an inner wall at one distance from the outer one, and holes to drain it.

The inner wall is where the distance to the surface is that of the wall, cut out of a regular grid by marching cubes
(Lorensen and Cline 1987). Drain holes are cylinders cut through the bottom.
"""

from typing import NamedTuple

import numpy as np
from numba import njit
from scipy import ndimage, spatial

from ..errors import UmbrateError
from ..later import Later
from .distance import signed_distance
from .mesh import pieces, used_only, volume

measure = Later("skimage.measure")
manifold3d = Later("manifold3d")

CELLS = 260  #: of the grid along the longest side, at most
APART = 0.02  #: of a cell, that vertices of the inner wall keep from the corners of the grid
FINE = 4.0  #: cells that a wall is thick, at least, where the grid allows
SIDES = 48  #: of a drain hole
LEAST = 0.002  #: share of the volume: smaller hollows are left full


class Hollow(NamedTuple):
    """A hollow surface: points (n, 3), faces (t, 3), volume of the material and of the hollow, and its drain holes."""

    points: np.ndarray
    faces: np.ndarray
    material: float
    hollow: float
    drains: np.ndarray  #: (k, 3) where they are, at the bottom


@njit(cache=True, nogil=True)
def _mark(points, faces, low, cell, out):
    """Cells of a grid that the boxes of triangles touch."""
    for t in range(faces.shape[0]):
        lo, hi = np.empty(3, np.int64), np.empty(3, np.int64)
        for k in range(3):
            a, b, c = points[faces[t, 0], k], points[faces[t, 1], k], points[faces[t, 2], k]
            lo[k] = min(max(int(np.floor((min(a, b, c) - low[k]) / cell)), 0), out.shape[k] - 1)
            hi[k] = min(max(int(np.ceil((max(a, b, c) - low[k]) / cell)), 0), out.shape[k] - 1)
        for x in range(lo[0], hi[0] + 1):
            for y in range(lo[1], hi[1] + 1):
                for z in range(lo[2], hi[2] + 1):
                    out[x, y, z] = True


def spread_over(points, faces, apart):
    """Places (k, 3) on triangles, no farther apart than that along a side: vertices, and more on large triangles."""
    T = points[faces]
    longest = np.linalg.norm(T - np.roll(T, 1, axis=1), axis=2).max(1)
    steps = np.ceil(longest / apart).astype(int)
    out = [points[np.unique(faces)]]
    for n in np.unique(steps[steps > 1]):
        i, j = np.meshgrid(np.arange(n + 1), np.arange(n + 1), indexing="ij")
        i, j = i[i + j <= n] / n, j[i + j <= n] / n
        share = np.stack([1 - i - j, i, j], 1)
        out.append(np.einsum("sk,tkd->tsd", share, T[steps == n]).reshape(-1, 3))
    return np.concatenate(out)


def inner_wall(points, faces, wall):
    """Points and faces of the places a wall's thickness inside a closed surface, facing out of it; none where none is.

    Distances are those to places on the surface a third of a cell apart, which are longer by a hundredth of a cell.
    """
    size = float(np.ptp(points, axis=0).max())
    cell = max(size / CELLS, wall / FINE)
    low, count = points.min(0) - 2 * cell, (np.ceil(np.ptp(points, axis=0) / cell) + 5).astype(int)
    touched = np.zeros(tuple(count), np.bool_)
    _mark(points, faces, low, cell, touched)
    away = cell * ndimage.distance_transform_edt(~touched)
    values = np.where(touched, 0.0, away).astype(np.float32)
    parts, number = ndimage.label(~touched)
    for k, box in enumerate(ndimage.find_objects(parts, number), 1):
        # each part lies on one side of the surface, that of the place in it that is nearest to the surface
        mine = parts[box] == k
        at = np.unravel_index(np.where(mine, away[box], np.inf).argmin(), mine.shape)
        place = low + cell * (np.array(at) + [x.start for x in box])
        if signed_distance(place[None], points, faces, 8 * cell)[0] < 0:
            values[box][mine] *= -1
    level = np.stack(np.nonzero((values < 0) & (np.abs(away - wall) < 3.5 * cell)), 1)
    if len(level):
        tree = spatial.cKDTree(spread_over(points, faces, cell / 3))
        values[tuple(level.T)] = -tree.query(low + cell * level, workers=2)[0]
    if values.min() >= -wall:
        return np.zeros((0, 3)), np.zeros((0, 3), np.int64)
    # where the wall all but meets a corner of the grid, its vertices would lie so close that a file makes them one
    short = np.abs(values + wall) < APART * cell
    values[short] = np.where(values[short] < -wall, -wall - APART * cell, -wall + APART * cell)
    made = measure.marching_cubes(values, level=-wall, spacing=(cell,) * 3, gradient_direction="ascent")
    return made[0].astype(np.float64) + low, np.ascontiguousarray(made[1], np.int64)


def hollowed(points, faces, wall, drains=0, width=4.0):
    """The Hollow surface of a closed one.

    Parameters
    ----------
    points (n, 3), faces (t, 3)
        Closed, facing outward.
    wall : float
    drains : int
        Holes through the bottom.
    width : float
        Of a hole.

    Raises
    ------
    UmbrateError
        Where the wall leaves nothing hollow, or a hole is found no place for.
    """
    points, faces = np.ascontiguousarray(points, np.float64), np.ascontiguousarray(faces, np.int64)
    inner, inside = inner_wall(points, faces, wall)
    if len(inside):
        # facing inward, seen from the material; small pockets stay full
        if volume(inner, inside) > 0:
            inside = inside[:, ::-1]
        label, total = pieces(inside, len(inner)), abs(volume(points, faces))
        keep = [k for k in range(int(label.max()) + 1) if -volume(inner, inside[label == k]) > LEAST * total]
        inside = inside[np.isin(label, keep)]
    if not len(inside):
        thick = "This wall leaves nothing hollow: the object is nowhere thick enough for it. Take a thinner wall."
        raise UmbrateError(thick, ("set", "wall", round(wall / 2, 2)))
    inside, inner = used_only(inside, inner)
    space = -volume(inner, inside)
    both = np.vstack([points, inner]), np.vstack([faces, inside + len(points)])
    at = np.zeros((0, 3))
    if drains:
        at = _places(inner, inside, points, drains, width)
        both = _drilled(*both, at, inner, width, wall)
    out, triangles = both
    return Hollow(out, triangles, float(volume(out, triangles)), float(space), at)


def _places(inner, inside, points, count, width):
    """Where holes (count, 3) go: over the lowest of the hollow, as far from each other as can be."""
    low = inner[inner[:, 2] < inner[:, 2].min() + max(0.08 * np.ptp(inner[:, 2]), width / 2)]
    if np.ptp(low[:, :2], axis=0).max() < width * (1 if count == 1 else 2):
        low = inner[inner[:, 2] < inner[:, 2].min() + 0.25 * np.ptp(inner[:, 2])]
    middle = low[:, :2].mean(0)
    if count == 1:
        return low[[np.linalg.norm(low[:, :2] - middle, axis=1).argmin()]]
    chosen = [int(np.linalg.norm(low[:, :2] - middle, axis=1).argmax())]
    while len(chosen) < count:
        d = np.min([np.linalg.norm(low[:, :2] - low[k, :2], axis=1) for k in chosen], axis=0)
        chosen.append(int(d.argmax()))
    at = low[chosen]
    apart = np.linalg.norm(at[:, None, :2] - at[None, :, :2], axis=2)[np.triu_indices(count, 1)].min()
    if apart < 1.2 * width:
        text = f"There is no room for {count} holes of this width at the bottom. Take fewer, or smaller ones."
        raise UmbrateError(text, ("set", "drains", 1))
    # toward the middle by half a hole, so that they do not cut the wall beside
    toward = middle - at[:, :2]
    size = np.maximum(np.linalg.norm(toward, axis=1, keepdims=True), 1e-30)
    at[:, :2] += toward / size * np.minimum(width / 2, size)
    return at


def _drilled(points, faces, at, inner, width, wall):
    """A surface with vertical holes through its bottom."""
    m = manifold3d
    body = m.Manifold(m.Mesh64(np.ascontiguousarray(points), np.ascontiguousarray(faces, np.uint64)))
    if body.status() != m.Error.NoError or body.is_empty():
        raise UmbrateError("Holes cannot be cut into this surface, as its triangles cross. Mend it on Surface first.")
    low = float(points[:, 2].min()) - wall
    for x, y, z in at:
        top = z + 2 * wall + 0.02 * np.ptp(points[:, 2])
        drill = m.Manifold.cylinder(top - low, width / 2, width / 2, SIDES).translate((x, y, low))
        body = body - drill
    mesh = body.to_mesh64()
    return np.array(mesh.vert_properties, np.float64)[:, :3], np.array(mesh.tri_verts, np.int64)
