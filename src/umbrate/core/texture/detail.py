"""What a fine surface knows on a thinned one: its normals, and how open each place lies, as pages beside the texture.

For every texel the place of the fine surface nearest to it is taken. Its normal is written in the frame of the thinned
surface there: right on the page, up on the page, and away from the surface, as the open standard glTF 2.0 has it
(red, green, blue; 128, 128, 255 is straight up). How open a place lies is the share of the light of an even sky that
reaches it, by looking at the surface from many directions (Pharr and Green 2004, Ambient Occlusion, in GPU Gems).
"""

import numpy as np
from numba import njit

from ..cloud.grid import in_threads
from ..raster.camera import eye_round
from ..raster.solid import draw_triangles
from ..surface.distance import cells_for, places_on
from .bake import owners, padded

DIRECTIONS = 160  #: from which the sky is looked at
SKY_PX = 1024  #: pixels of a picture from one of them
ROWS = 128  #: of a page that are worked on at a time
LIFT_PX = 1.5  #: pixels of those pictures: what is nearer hides nothing, as it is the place itself


def tangents(points, faces, corner, uv, vertex, normals):
    """The direction (m, 3) in space that is right on the page, at each place of the page.

    Means over the triangles there, weighted by area, along the surface: at a right angle to the normal of its vertex.
    """
    P, T = points[faces], uv[corner]
    e, g = P[:, 1] - P[:, 0], P[:, 2] - P[:, 0]
    a, b = T[:, 1] - T[:, 0], T[:, 2] - T[:, 0]
    # times the area on the page: charts have one scale, so it weighs as the area in space does
    right = np.sign(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])[:, None] * (b[:, 1:] * e - a[:, 1:] * g)
    out = np.stack([np.bincount(corner.ravel(), np.repeat(right[:, k], 3), len(uv)) for k in range(3)], 1)
    n = normals[vertex]
    out -= (out * n).sum(1, keepdims=True) * n
    size = np.linalg.norm(out, axis=1, keepdims=True)
    other = np.cross(n, np.where(np.abs(n[:, :1]) < 0.9, [[1.0, 0, 0]], [[0, 1.0, 0]]))
    other /= np.maximum(np.linalg.norm(other, axis=1, keepdims=True), 1e-30)
    return np.where(size > 1e-12 * max(float(size.max(initial=0)), 1e-300), out / np.maximum(size, 1e-300), other)


def sky_directions(count=DIRECTIONS):
    """Directions (count, 3) spread evenly over the sphere, on a spiral (Fibonacci lattice)."""
    k = np.arange(count) + 0.5
    z, turn = 1 - 2 * k / count, np.pi * (1 + np.sqrt(5)) * k
    r = np.sqrt(1 - z * z)
    return np.stack([r * np.cos(turn), r * np.sin(turn), z], 1)


@njit(cache=True, nogil=True)
def _lit(points, normals, direction, E, f, depth, lift, seen, sky, first, last):
    h, w = depth.shape
    for i in range(first, last):
        s = normals[i, 0] * direction[0] + normals[i, 1] * direction[1] + normals[i, 2] * direction[2]
        if s <= 0.02:
            continue
        sky[i] += s
        X, Y, Z = points[i, 0], points[i, 1], points[i, 2]
        u = (E[0, 0] * X + E[0, 1] * Y + E[0, 2] * Z + E[0, 3]) * f + (w - 1) / 2
        v = (E[1, 0] * X + E[1, 1] * Y + E[1, 2] * Z + E[1, 3]) * f + (h - 1) / 2
        z = E[2, 0] * X + E[2, 1] * Y + E[2, 2] * Z + E[2, 3]
        x, y = int(np.floor(u)), int(np.floor(v))
        # how much of the four pixels round it is free; a slanted surface changes its depth within a pixel
        allowed = lift / s
        for k in range(4):
            p, q = x + k % 2, y + k // 2
            share = (u - x if k % 2 else 1 - (u - x)) * (v - y if k // 2 else 1 - (v - y))
            if p < 0 or q < 0 or p >= w or q >= h or z <= depth[q, p] + allowed:
                seen[i] += s * share


def openness(points, faces, normals, check=lambda share: None):
    """How open each vertex lies (n,) float32: 1 where the whole sky reaches it, 0 where nothing does.

    The surface is seen from `DIRECTIONS` sides along parallel rays; light from each counts by its slant.
    """
    middle = (points.min(0) + points.max(0)).astype(float) / 2
    size = float(np.linalg.norm(points - middle, axis=1).max()) * 1.02
    X = np.ascontiguousarray(points - middle, np.float64)
    P, N = X.astype(np.float32), np.ascontiguousarray(normals, np.float64)
    seen, sky = np.zeros(len(X)), np.zeros(len(X))
    for k, d in enumerate(sky_directions()):
        eye = eye_round(np.zeros(3), size, d, SKY_PX, SKY_PX)
        eye.parallel = True
        buffers = draw_triangles(P, faces, eye, SKY_PX, SKY_PX).buffers
        f = eye.f / eye.flat
        in_threads(
            _lit, len(X), X, N, d, eye.pose.astype(np.float64), f, buffers.depth, LIFT_PX / f,
            seen, sky,
        )  # fmt: skip
        check((k + 1) / DIRECTIONS)
    return (seen / np.maximum(sky, 1e-300)).clip(0, 1).astype(np.float32)


@njit(cache=True, nogil=True)
def _frames(texels, own, side, mesh, places, out, first, last):
    """Places in space of texels, and the frame right, up, away (3, 3) there."""
    points, faces, normals, corner, uv, tangent = mesh
    for i in range(first, last):
        t = own[i]
        x, y = (texels[i, 0] + 0.5) / side, 1 - (texels[i, 1] + 0.5) / side
        j, k, m = corner[t, 0], corner[t, 1], corner[t, 2]
        ax, ay, bx, by, cx, cy = uv[j, 0], uv[j, 1], uv[k, 0], uv[k, 1], uv[m, 0], uv[m, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        p = ((bx - x) * (cy - y) - (by - y) * (cx - x)) / area
        q = ((cx - x) * (ay - y) - (cy - y) * (ax - x)) / area
        r = 1 - p - q
        a, b, c = faces[t, 0], faces[t, 1], faces[t, 2]
        for d in range(3):
            places[i, d] = p * points[a, d] + q * points[b, d] + r * points[c, d]
            out[i, 2, d] = p * normals[a, d] + q * normals[b, d] + r * normals[c, d]
            out[i, 0, d] = p * tangent[j, d] + q * tangent[k, d] + r * tangent[m, d]
        n, e = out[i, 2], out[i, 0]
        size = np.sqrt(n[0] * n[0] + n[1] * n[1] + n[2] * n[2]) + 1e-300
        along = 0.0
        for d in range(3):
            n[d] /= size
            along += n[d] * e[d]
        size = 1e-300
        for d in range(3):
            e[d] -= along * n[d]
            size += e[d] * e[d]
        size = np.sqrt(size)
        for d in range(3):
            e[d] /= size
        out[i, 1, 0] = n[1] * e[2] - n[2] * e[1]
        out[i, 1, 1] = n[2] * e[0] - n[0] * e[2]
        out[i, 1, 2] = n[0] * e[1] - n[1] * e[0]


def detail_pages(model, fine, side, reach, open_at=None, check=lambda share: None):
    """Pages of normals, and of openness, of a fine surface on a thinned one.

    Parameters
    ----------
    model : dict
        The thinned surface: points, faces, normals, corner, uv, vertex, page.
    fine : points (n, 3), faces (t, 3), normals (n, 3)
    side : int
        Texels along a page.
    reach : float
        Farther than this the fine surface is not looked for: the normal stays that of the thinned one.
    open_at : (n,), optional
        Openness of the fine surface's vertices.

    Returns
    -------
    normals : list of (side, side, 3) uint8
    openness : list of (side, side) uint8; empty where `open_at` is not given
    tangent : (m, 3) float32
        Right on the page, at each row of `uv`; up is the normal times it.
    """
    points, normals = (np.ascontiguousarray(model[k], np.float64) for k in ("points", "normals"))
    faces, corner = (np.ascontiguousarray(model[k], np.int32) for k in ("faces", "corner"))
    uv, page = np.ascontiguousarray(model["uv"], np.float64), np.asarray(model["page"])
    tangent = tangents(points, faces, corner, uv, model["vertex"], normals)
    texel = np.stack([uv[:, 0], 1 - uv[:, 1]], 1)[corner] * side
    count, maps, opens = int(page.max()) + 1, [], []
    fine = np.ascontiguousarray(fine[0], np.float64), np.ascontiguousarray(fine[1], np.int64), fine[2]
    cells = cells_for(fine[0], fine[1], reach)
    for g in range(count):
        owner = owners(texel, np.flatnonzero(page == g), side)
        out = np.full((side, side, 3), (128, 128, 255), np.uint8)
        light = np.full((side, side), 255, np.uint8)
        for first in range(0, side, ROWS):
            rows, cols = np.nonzero(owner[first : first + ROWS] >= 0)
            if not len(rows):
                continue
            at = np.stack([cols, rows + first], 1)
            places, frame = np.empty((len(at), 3)), np.empty((len(at), 3, 3))
            mesh = points, faces, normals, corner, uv, tangent
            in_threads(_frames, len(at), at, owner[at[:, 1], at[:, 0]], float(side), mesh, places, frame)
            _, which, share = places_on(places, fine[0], fine[1], reach, cells)
            found = which >= 0
            of = fine[1][np.where(found, which, 0)]
            n = np.einsum("kc,kcd->kd", share, fine[2][of].astype(np.float64))
            n = np.where(found[:, None], n, frame[:, 2])
            n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-300)
            local = np.einsum("kad,kd->ka", frame, n)
            # nothing looks into the surface: what is nearest may lie on another side of a thin wall
            found &= local[:, 2] > 0
            local = np.where(found[:, None], local, (0.0, 0, 1))
            out[at[:, 1], at[:, 0]] = np.round(127.5 + 127.5 * local).clip(0, 255).astype(np.uint8)
            if open_at is not None:
                value = np.where(found, (share * open_at[of]).sum(1), 1.0)
                light[at[:, 1], at[:, 0]] = np.round(255 * value).clip(0, 255).astype(np.uint8)
            check((g + (first + ROWS) / side) / count)
        maps.append(padded(out, owner))
        if open_at is not None:
            opens.append(padded(light, owner))
    return maps, opens, tangent.astype(np.float32)
