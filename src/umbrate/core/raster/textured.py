"""Drawing a surface with its texture: colors of pixels out of pages of texels.

A pixel knows its triangle (see `solid`), so its place on the page. Pages are kept in halved copies as well, each texel
the mean of four (Williams 1983): a triangle is drawn from the copy whose texels are about as large as its pixels, so
what is small does not flicker, and a page of any size costs no more than it shows.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit

from .points import Buffers
from .solid import _POOL, INSIDE

LEAST_SIDE = 4  #: texels: no copy is smaller


@dataclass(frozen=True)
class Pages:
    """Pages of texels and their halved copies, one after another in one array.

    Attributes
    ----------
    texels : (k,) uint8
        Red, green, blue of each texel; pages of one copy one after another, each by rows from above.
    start : (levels,) int64
        Where the copies begin.
    side : int
        Texels along a page of the first.
    """

    texels: np.ndarray
    start: np.ndarray
    side: int


def halved(page):
    """A page (s, s, 3) uint8 of half the side: each texel the mean of four."""
    s = page.shape[0] // 2
    total = np.zeros((s, s, 3), np.uint16)
    for y in (0, 1):
        for x in (0, 1):
            total += page[y::2, x::2]
    return ((total + 2) // 4).astype(np.uint8)


def pages_of(pages):
    """The Pages of arrays (side, side, 3) uint8, all of one side, a power of two."""
    side = pages[0].shape[0]
    levels = max(int(np.log2(side / LEAST_SIDE)), 0) + 1
    sizes = [3 * len(pages) * (side >> k) ** 2 for k in range(levels)]
    start = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
    texels = np.empty(start[-1], np.uint8)
    for g, page in enumerate(pages):
        for k in range(levels):
            s = side >> k
            at = start[k] + 3 * g * s * s
            texels[at : at + 3 * s * s] = page.reshape(-1)
            page = halved(page) if k + 1 < levels else page
    return Pages(texels, start[:-1], side)


@njit(cache=True, nogil=True, inline="always")
def _texel(texels, at, s, u, v, k):
    """A color between four texels of a page that begins at `at` and has the side s; u, v in texels."""
    x, y = int(np.floor(u)), int(np.floor(v))
    p, q = np.float32(u - x), np.float32(v - y)
    x0, x1 = min(max(x, 0), s - 1), min(max(x + 1, 0), s - 1)
    y0, y1 = min(max(y, 0), s - 1), min(max(y + 1, 0), s - 1)
    a, b = texels[at + 3 * (y0 * s + x0) + k], texels[at + 3 * (y0 * s + x1) + k]
    c, d = texels[at + 3 * (y1 * s + x0) + k], texels[at + 3 * (y1 * s + x1) + k]
    one = np.float32(1.0)
    return (one - q) * ((one - p) * a + p * b) + q * ((one - p) * c + p * d)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _paint(buffers, uvz, mesh, pages, colors, flat, outer, quick, out, first, last):
    depth, index = buffers
    faces, corner, uv, page = mesh
    texels, start, side = pages
    tint, ground, inside, share = colors
    levels, w = start.shape[0], index.shape[1]
    tinted = tint.shape[0] > 0
    half = np.float32(0.5)
    for v in range(first, last):
        for u in range(w):
            t = index[v, u]
            if t < 0:
                out[v, u, 0], out[v, u, 1], out[v, u, 2], out[v, u, 3] = ground[2], ground[1], ground[0], 255
                continue
            a, b, c = faces[t, 0], faces[t, 1], faces[t, 2]
            ax, ay, bx, by, cx, cy = uvz[a, 0], uvz[a, 1], uvz[b, 0], uvz[b, 1], uvz[c, 0], uvz[c, 1]
            area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
            if area > 0 and not outer:  # v runs down: the outer side is seen where corners run the other way
                out[v, u, 0], out[v, u, 1], out[v, u, 2], out[v, u, 3] = inside[2], inside[1], inside[0], 255
                continue
            over = np.float32(1.0) / area
            p = ((bx - u) * (cy - v) - (by - v) * (cx - u)) * over
            q = ((cx - u) * (ay - v) - (cy - v) * (ax - u)) * over
            r = np.float32(1.0) - p - q
            if flat == 0:
                z = depth[v, u]
                p, q, r = p * z / uvz[a, 2], q * z / uvz[b, 2], r * z / uvz[c, 2]
            i, j, k = corner[t, 0], corner[t, 1], corner[t, 2]
            x = p * uv[i, 0] + q * uv[j, 0] + r * uv[k, 0]
            y = p * uv[i, 1] + q * uv[j, 1] + r * uv[k, 1]
            on_page = abs((uv[j, 0] - uv[i, 0]) * (uv[k, 1] - uv[i, 1]) - (uv[j, 1] - uv[i, 1]) * (uv[k, 0] - uv[i, 0]))
            texels_a_pixel = on_page * side * side / max(abs(area), np.float32(1e-6))
            # the copy whose texels are as large as pixels, or the next finer
            level, one = 0, np.float32(2.0)
            while level + 1 < levels and texels_a_pixel > one:
                level += 1
                one *= np.float32(4.0)
            s = side >> level
            at = start[level] + 3 * page[t] * s * s
            x, y = x * s - half, (np.float32(1.0) - y) * s - half
            if quick:
                e, f = min(max(int(x + half), 0), s - 1), min(max(int(y + half), 0), s - 1)
                at += 3 * (f * s + e)
                for m in range(3):
                    out[v, u, 2 - m] = texels[at + m]
            else:
                for m in range(3):
                    out[v, u, 2 - m] = np.uint8(_texel(texels, at, s, x, y, m) + half)
            if tinted:
                for m in range(3):
                    z = out[v, u, 2 - m] + share * (np.float32(tint[t, m]) - out[v, u, 2 - m])
                    out[v, u, 2 - m] = np.uint8(z + half)
            out[v, u, 3] = 255


def paint_textured(solid, mesh, pages, ground, tint=None, share=0.6, outer=False, quick=False):
    """The picture of a drawn surface with its texture, in the colors of the photos: no light falls on it.

    Parameters
    ----------
    solid : Solid
        Of the mesh's points and faces.
    mesh : dict
        ``faces`` (t, 3), ``corner`` (t, 3) rows of ``uv`` (m, 2), right and up from 0 to 1, ``page`` (t,).
    pages : Pages
    ground : 3 ints
        Color where nothing is drawn.
    tint : (t, 3) uint8, optional
        A color for each triangle, laid over with this `share`.
    outer : bool
        Whether only outer sides are drawn, as `draw_triangles` was told; else inner ones are of one color.
    quick : bool
        The nearest texel instead of what lies between four: for what moves.

    Returns
    -------
    (h, w, 4) uint8, blue-green-red-alpha
    """
    b: Buffers = solid.buffers
    h, w = b.index.shape
    out = np.empty((h, w, 4), np.uint8)
    arrays = (
        np.ascontiguousarray(mesh["faces"], np.int32), np.ascontiguousarray(mesh["corner"], np.int32),
        np.ascontiguousarray(mesh["uv"], np.float32), np.ascontiguousarray(mesh["page"], np.int32),
    )  # fmt: skip
    tint = np.zeros((0, 3), np.uint8) if tint is None else np.ascontiguousarray(tint, np.uint8)
    colors = tint, np.array(ground, np.uint8), INSIDE, np.float32(share)
    arguments = (
        (b.depth, b.index), solid.uvz, arrays, (pages.texels, pages.start, pages.side), colors, bool(b.flat), outer,
        quick, out,
    )  # fmt: skip
    other = _POOL.submit(_paint, *arguments, h // 2, h)
    _paint(*arguments, 0, h // 2)
    other.result()
    return out


def sampled(mesh, pages, across=4):
    """A color (n, 3) uint8 for each vertex: its texel in a copy whose texels are `across` of the first wide."""
    level = min(int(np.log2(across)), len(pages.start) - 1)
    s = pages.side >> level
    out = np.full((len(mesh["points"]), 3), 128, np.uint8)
    page = np.zeros(len(mesh["uv"]), np.int64)
    page[mesh["corner"]] = np.asarray(mesh["page"], np.int64)[:, None]
    x, y = (np.clip((v * s).astype(np.int64), 0, s - 1) for v in (mesh["uv"][:, 0], 1 - mesh["uv"][:, 1]))
    at = pages.start[level] + 3 * ((page * s + y) * s + x)
    out[mesh["vertex"]] = pages.texels[at[:, None] + np.arange(3)]
    return out
