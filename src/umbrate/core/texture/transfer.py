"""A texture taken over from one surface to a thinned one: other charts, other pages, the same colors where they were.

Every texel of the new pages asks the place of the old surface nearest to it for its color there. Where new texels are
larger, the old pages are halved first, so that nothing flickers.
"""

import numpy as np
from numba import njit

from ..cloud.grid import in_threads
from ..raster.textured import _texel, pages_of
from ..surface.build import vertex_normals
from ..surface.distance import cells_for, places_on
from .bake import owners, padded
from .charts import charts_of
from .detail import ROWS, _frames, tangents
from .pack import packed


@njit(cache=True, nogil=True)
def _colors(which, share, corner, uv, page, texels, start, side, out, first, last):
    for i in range(first, last):
        t = which[i]
        if t < 0:
            continue
        x = y = 0.0
        for k in range(3):
            x += share[i, k] * uv[corner[t, k], 0]
            y += share[i, k] * uv[corner[t, k], 1]
        at = start + 3 * page[t] * side * side
        for k in range(3):
            out[i, k] = np.uint8(_texel(texels, at, side, x * side - 0.5, (1.0 - y) * side - 0.5, k) + np.float32(0.5))


def laid_down(points, faces, side, padding=4):
    """A surface's arrays with charts on one page of so many texels a side, without colors.

    Returns
    -------
    dict : points, faces, normals, corner, uv, vertex, page, tangent
    """
    points, faces = np.ascontiguousarray(points, np.float64), np.ascontiguousarray(faces, np.int32)
    normals = vertex_normals(points, faces).astype(np.float64)
    charts = charts_of(points, faces)
    laid = packed(charts, side, 1, padding)
    uv = (laid.scale * charts.place + laid.shift[charts.of]) / side
    tangent = tangents(points, faces, charts.corner, uv, charts.vertex, normals)
    return {
        "points": points.astype(np.float32), "faces": faces, "normals": normals.astype(np.float32),
        "corner": np.ascontiguousarray(charts.corner, np.int32), "uv": uv, "vertex": charts.vertex,
        "page": np.zeros(len(faces), np.int32), "tangent": tangent.astype(np.float32),
    }  # fmt: skip


def carried_over(arrays, side, model, pages, reach, check=lambda share: None):
    """The page (side, side, 3) uint8 of a surface that was laid down, in the colors of another one's pages.

    Parameters
    ----------
    arrays : dict
        Of `laid_down`.
    side : int
        Texels along the page.
    model : dict
        The textured surface: points, faces, corner, uv, page.
    pages : list of (s, s, 3) uint8
    reach : float
        Farther than this the other surface is not looked for: gray there.
    """
    points, normals, tangent = (arrays[k].astype(np.float64) for k in ("points", "normals", "tangent"))
    faces, corner, uv = arrays["faces"], arrays["corner"], np.ascontiguousarray(arrays["uv"], np.float64)
    old = pages_of(pages)
    ratio = _texels_for(model, old.side) / _texels_for(arrays, side)
    level = int(np.clip(np.round(np.log2(max(ratio, 1.0))), 0, len(old.start) - 1))
    V, F = np.ascontiguousarray(model["points"], np.float64), np.ascontiguousarray(model["faces"], np.int64)
    cells = cells_for(V, F, reach)
    given = (
        np.ascontiguousarray(model["corner"], np.int32), np.ascontiguousarray(model["uv"], np.float64),
        np.ascontiguousarray(model["page"], np.int64), old.texels, int(old.start[level]), old.side >> level,
    )  # fmt: skip
    owner = owners(np.stack([uv[:, 0], 1 - uv[:, 1]], 1)[corner] * side, np.arange(len(faces)), side)
    out = np.zeros((side, side, 3), np.uint8)
    mesh = points, faces, normals, corner, uv, tangent
    for first in range(0, side, ROWS):
        rows, cols = np.nonzero(owner[first : first + ROWS] >= 0)
        at = np.stack([cols, rows + first], 1)
        places, frame = np.empty((len(at), 3)), np.empty((len(at), 3, 3))
        in_threads(_frames, len(at), at, owner[at[:, 1], at[:, 0]], float(side), mesh, places, frame)
        _, which, share = places_on(places, V, F, reach, cells)
        color = np.full((len(at), 3), 128, np.uint8)
        in_threads(_colors, len(at), which, share, *given, color)
        out[at[:, 1], at[:, 0]] = color
        check(min((first + ROWS) / side, 1.0))
    return padded(out, owner)


def _texels_for(model, side):
    """Texels of a model for a unit of length, in the median over triangles."""
    T, U = model["points"][model["faces"]].astype(np.float64), model["uv"][model["corner"]] * side
    e, g = T[:, 1] - T[:, 0], T[:, 2] - T[:, 0]
    a, b = U[:, 1] - U[:, 0], U[:, 2] - U[:, 0]
    true = np.linalg.norm(np.cross(e, g), axis=1)
    good = true > 0
    return float(np.sqrt(np.median(np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])[good] / true[good])))
