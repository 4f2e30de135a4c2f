"""Drawing a surface: triangles into a z-buffer in plain memory, shaded pixel by pixel.

As with points, every pixel knows what it shows: the index buffer holds the triangle. Vertices are projected once;
triangles are shared out among threads, each with buffers of its own, merged by depth and then by index, so the picture
does not depend on the number of threads. Shading comes after: only pixels that are seen cost anything.
"""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numba import njit

from .points import Buffers, merge
from .ramps import LIGHT

SOLID, BOTH, WIRES = "solid", "edges over solid", "edges"
SMOOTH, FLAT = "smooth", "flat"
_POOL = ThreadPoolExecutor(2, thread_name_prefix="solid")
INSIDE = np.array([112, 92, 88], np.uint8)  #: color of what is seen from its inner side
WIRE = 0.5  #: pixels: half the width of an edge
FADE = 9.0  #: triangles lower than so many halves of an edge's width show it fainter
HEAD = 0.6  #: share of the light that comes from where one looks from
NEAR = np.float32(1e-6)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _project(points, view, width, height, out, first, last):
    E, f, flat = view
    cx, cy = np.float32((width - 1) / 2.0), np.float32((height - 1) / 2.0)
    for i in range(first, last):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        d = E[2, 0] * x + E[2, 1] * y + E[2, 2] * z + E[2, 3]
        over = flat if flat > 0 else d
        if flat == 0 and d <= NEAR:
            out[i, 0], out[i, 1], out[i, 2] = 0, 0, np.float32(-1)
            continue
        q = f / over
        out[i, 0] = (E[0, 0] * x + E[0, 1] * y + E[0, 2] * z + E[0, 3]) * q + cx
        out[i, 1] = (E[1, 0] * x + E[1, 1] * y + E[1, 2] * z + E[1, 3]) * q + cy
        out[i, 2] = d


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _fill(uvz, faces, first, last, flat, outer, depth, index):
    """Triangles into buffers: a pixel is covered where its center is inside, an edge on both sides."""
    h, w = depth.shape
    slack = np.float32(-1e-4)
    for t in range(first, last):
        a, b, c = faces[t, 0], faces[t, 1], faces[t, 2]
        za, zb, zc = uvz[a, 2], uvz[b, 2], uvz[c, 2]
        if not flat and (za < 0 or zb < 0 or zc < 0):
            continue
        ax, ay, bx, by, cx, cy = uvz[a, 0], uvz[a, 1], uvz[b, 0], uvz[b, 1], uvz[c, 0], uvz[c, 1]
        u0, u1 = max(0, int(np.ceil(min(ax, bx, cx)))), min(w - 1, int(np.floor(max(ax, bx, cx))))
        if u0 > u1:
            continue
        v0, v1 = max(0, int(np.ceil(min(ay, by, cy)))), min(h - 1, int(np.floor(max(ay, by, cy))))
        if v0 > v1:
            continue
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0 or (outer and area > 0):
            continue
        inverse = np.float32(1.0) / area
        # what is linear in the picture is 1 / z, of a parallel view z
        ka, kb, kc = (za, zb, zc) if flat else (1 / za, 1 / zb, 1 / zc)
        for v in range(v0, v1 + 1):
            fv = np.float32(v)
            for u in range(u0, u1 + 1):
                fu = np.float32(u)
                p = ((bx - fu) * (cy - fv) - (by - fv) * (cx - fu)) * inverse
                q = ((cx - fu) * (ay - fv) - (cy - fv) * (ax - fu)) * inverse
                r = np.float32(1.0) - p - q
                if p < slack or q < slack or r < slack:
                    continue
                k = p * ka + q * kb + r * kc
                z = k if flat else 1 / k
                if z < depth[v, u]:
                    depth[v, u] = z
                    index[v, u] = t


class Solid(NamedTuple):
    """A surface in the view of an eye.

    Attributes
    ----------
    buffers : Buffers
        Depth, and the triangle that each pixel shows.
    uvz : (n, 3) float32
        Pixels and depths of the vertices.
    """

    buffers: Buffers
    uvz: np.ndarray


def draw_triangles(points, faces, eye, width, height, outer=False):
    """Depth and index of the nearest triangle at every pixel: a Solid.

    Parameters
    ----------
    points : (n, 3) float32; faces : (t, 3) int32
    eye : Eye
    outer : bool
        Leave out triangles that are seen from their inner side: of a closed surface others hide them.
    """
    points, faces = np.ascontiguousarray(points, np.float32), np.ascontiguousarray(faces, np.int32)
    view = eye.pose.astype(np.float32), np.float32(eye.f), np.float32(eye.flat)
    uvz, half = np.empty((len(points), 3), np.float32), len(points) // 2
    other = _POOL.submit(_project, points, view, width, height, uvz, half, len(points))
    _project(points, view, width, height, uvz, 0, half)
    other.result()
    first, flat, half = Buffers.empty(width, height), bool(eye.flat), len(faces) // 2
    first.flat = eye.flat
    second = Buffers.empty(width, height)
    other = _POOL.submit(_fill, uvz, faces, half, len(faces), flat, outer, second.depth, second.index)
    _fill(uvz, faces, 0, half, flat, outer, first.depth, first.index)
    other.result()
    merge(first, second)
    return Solid(first, uvz)


@dataclass(frozen=True)
class Manner:
    """How a surface is drawn.

    Attributes
    ----------
    what : SOLID, BOTH or WIRES
    shading : SMOOTH or FLAT
    matte : bool
        Whether light falls on it; else colors are as they are.
    """

    what: str = SOLID
    shading: str = SMOOTH
    matte: bool = True


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _paint(depth, index, uvz, mesh, look, ground, line, inside, out, first, last):
    points, normals, faces, colors = mesh
    light, toward, eye, flat, wires, solid, smooth, matte, wide = look
    w = index.shape[1]
    for v in range(first, last):
        for u in range(w):
            t = index[v, u]
            if t < 0:
                out[v, u, 0], out[v, u, 1], out[v, u, 2], out[v, u, 3] = ground[2], ground[1], ground[0], 255
                continue
            a, b, c = faces[t, 0], faces[t, 1], faces[t, 2]
            ax, ay, bx, by, cx, cy = uvz[a, 0], uvz[a, 1], uvz[b, 0], uvz[b, 1], uvz[c, 0], uvz[c, 1]
            area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
            p = ((bx - u) * (cy - v) - (by - v) * (cx - u)) / area
            q = ((cx - u) * (ay - v) - (cy - v) * (ax - u)) / area
            r = np.float32(1.0) - p - q
            ink = np.float32(0)
            if wires:
                # how far a pixel is from each side: its share, times the height over that side
                ab = np.sqrt((bx - ax) ** 2 + (by - ay) ** 2)
                bc = np.sqrt((cx - bx) ** 2 + (cy - by) ** 2)
                ca = np.sqrt((ax - cx) ** 2 + (ay - cy) ** 2)
                s = abs(area)
                near = min(abs(p) * s / max(bc, 1e-6), abs(q) * s / max(ca, 1e-6), abs(r) * s / max(ab, 1e-6))
                # of triangles smaller than a few lines nothing would be seen but lines: these fade
                ink = min(max(wide + np.float32(0.5) - near, np.float32(0)), np.float32(1))
                ink *= min(s / max(ab, bc, ca) / (FADE * wide), np.float32(1))
                if not solid:
                    for k in range(3):
                        out[v, u, 2 - k] = np.uint8(ground[k] + ink * (line[k] - ground[k]))
                    out[v, u, 3] = 255
                    continue
            if flat == 0:
                p, q, r = p * depth[v, u] / uvz[a, 2], q * depth[v, u] / uvz[b, 2], r * depth[v, u] / uvz[c, 2]
            e0, e1, e2 = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
            g0, g1, g2 = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
            n0, n1, n2 = e1 * g2 - e2 * g1, e2 * g0 - e0 * g2, e0 * g1 - e1 * g0
            if flat > 0:
                d0, d1, d2 = -toward[0], -toward[1], -toward[2]
            else:
                d0, d1, d2 = eye[0] - points[a, 0], eye[1] - points[a, 1], eye[2] - points[a, 2]
            back = n0 * d0 + n1 * d1 + n2 * d2 < 0
            if smooth:
                n0 = p * normals[a, 0] + q * normals[b, 0] + r * normals[c, 0]
                n1 = p * normals[a, 1] + q * normals[b, 1] + r * normals[c, 1]
                n2 = p * normals[a, 2] + q * normals[b, 2] + r * normals[c, 2]
            s = np.float32(1.0)
            if matte:
                size = np.sqrt(n0 * n0 + n1 * n1 + n2 * n2) + np.float32(1e-12)
                side = -size if back else size
                one = max((n0 * light[0] + n1 * light[1] + n2 * light[2]) / side, np.float32(0))
                d = np.sqrt(d0 * d0 + d1 * d1 + d2 * d2) + np.float32(1e-12)
                two = max((n0 * d0 + n1 * d1 + n2 * d2) / (side * d), np.float32(0))
                s = np.float32(0.22) + np.float32(0.78 * (1 - HEAD)) * one + np.float32(0.78 * HEAD) * two
            for k in range(3):
                shade = p * colors[a, k] + q * colors[b, k] + r * colors[c, k]
                if back:
                    shade = inside[k]
                shade *= s
                if wires:
                    shade += ink * (line[k] - shade)
                out[v, u, 2 - k] = np.uint8(min(max(shade, np.float32(0)), np.float32(255)))
            out[v, u, 3] = 255


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _shade(points, normals, colors, light, toward, eye, flat, out):
    """Colors of vertices in the light, as `_paint` has them for pixels."""
    for i in range(points.shape[0]):
        n0, n1, n2 = normals[i, 0], normals[i, 1], normals[i, 2]
        if flat > 0:
            d0, d1, d2 = -toward[0], -toward[1], -toward[2]
        else:
            d0, d1, d2 = eye[0] - points[i, 0], eye[1] - points[i, 1], eye[2] - points[i, 2]
        size = np.sqrt(n0 * n0 + n1 * n1 + n2 * n2) + np.float32(1e-12)
        one = max((n0 * light[0] + n1 * light[1] + n2 * light[2]) / size, np.float32(0))
        d = np.sqrt(d0 * d0 + d1 * d1 + d2 * d2) + np.float32(1e-12)
        two = max((n0 * d0 + n1 * d1 + n2 * d2) / (size * d), np.float32(0))
        s = np.float32(0.22) + np.float32(0.78 * (1 - HEAD)) * one + np.float32(0.78 * HEAD) * two
        for k in range(3):
            out[i, k] = colors[i, k] * s


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _paint_quickly(index, uvz, faces, lit, ground, inside, out, first, last):
    w = index.shape[1]
    for v in range(first, last):
        for u in range(w):
            t = index[v, u]
            if t < 0:
                out[v, u, 0], out[v, u, 1], out[v, u, 2], out[v, u, 3] = ground[2], ground[1], ground[0], 255
                continue
            a, b, c = faces[t, 0], faces[t, 1], faces[t, 2]
            ax, ay, bx, by, cx, cy = uvz[a, 0], uvz[a, 1], uvz[b, 0], uvz[b, 1], uvz[c, 0], uvz[c, 1]
            area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
            if area > 0:  # v runs down: the outer side is seen where corners run the other way
                out[v, u, 0], out[v, u, 1], out[v, u, 2], out[v, u, 3] = inside[2], inside[1], inside[0], 255
                continue
            over = np.float32(1.0) / area
            p = ((bx - u) * (cy - v) - (by - v) * (cx - u)) * over
            q = ((cx - u) * (ay - v) - (cy - v) * (ax - u)) * over
            p, q = min(max(p, np.float32(0)), np.float32(1)), min(max(q, np.float32(0)), np.float32(1))
            r = max(np.float32(1.0) - p - q, np.float32(0))
            out[v, u, 0] = np.uint8(p * lit[a, 2] + q * lit[b, 2] + r * lit[c, 2])
            out[v, u, 1] = np.uint8(p * lit[a, 1] + q * lit[b, 1] + r * lit[c, 1])
            out[v, u, 2] = np.uint8(p * lit[a, 0] + q * lit[b, 0] + r * lit[c, 0])
            out[v, u, 3] = 255


def paint_quickly(solid, mesh, colors, eye, ground):
    """As `paint_triangles`, with light at the vertices alone: for what moves."""
    index = solid.buffers.index
    h, w = index.shape
    out, lit = np.empty((h, w, 4), np.uint8), np.empty((len(mesh["points"]), 3), np.float32)
    _shade(
        np.ascontiguousarray(mesh["points"], np.float32), np.ascontiguousarray(mesh["normals"], np.float32),
        np.ascontiguousarray(colors, np.uint8), LIGHT.astype(np.float32), eye.pose[2, :3].astype(np.float32),
        eye.center.astype(np.float32), np.float32(eye.flat), lit,
    )  # fmt: skip
    faces = np.ascontiguousarray(mesh["faces"], np.int32)
    arguments = index, solid.uvz, faces, lit, np.array(ground, np.uint8), (0.6 * INSIDE).astype(np.uint8), out
    other = _POOL.submit(_paint_quickly, *arguments, h // 2, h)
    _paint_quickly(*arguments, 0, h // 2)
    other.result()
    return out


def paint_triangles(solid, mesh, colors, eye, ground, line, manner=None, ratio=1.0):
    """The picture of a drawn surface.

    Parameters
    ----------
    solid : Solid
    mesh : dict
        ``points`` (n, 3), ``normals`` (n, 3), ``faces`` (t, 3).
    colors : (n, 3) uint8
        Of the vertices.
    ground, line : 3 ints
        Color where nothing is drawn, and of edges.
    manner : Manner
    ratio : pixels to one that is seen

    Returns
    -------
    (h, w, 4) uint8, blue-green-red-alpha
    """
    manner = manner or Manner()
    index = solid.buffers.index
    h, w = index.shape
    out = np.empty((h, w, 4), np.uint8)
    arrays = (
        np.ascontiguousarray(mesh["points"], np.float32), np.ascontiguousarray(mesh["normals"], np.float32),
        np.ascontiguousarray(mesh["faces"], np.int32), np.ascontiguousarray(colors, np.uint8),
    )  # fmt: skip
    look = (
        LIGHT.astype(np.float32), eye.pose[2, :3].astype(np.float32), eye.center.astype(np.float32),
        np.float32(eye.flat), manner.what != SOLID, manner.what != WIRES, manner.shading == SMOOTH, manner.matte,
        np.float32(WIRE * ratio),
    )  # fmt: skip
    colors_of = (np.array(x, np.uint8) for x in (ground, line))
    arguments = (solid.buffers.depth, index, solid.uvz, arrays, look, *colors_of, INSIDE)
    other = _POOL.submit(_paint, *arguments, out, h // 2, h)
    _paint(*arguments, out, 0, h // 2)
    other.result()
    return out
