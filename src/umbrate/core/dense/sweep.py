"""Sweeps over a photo: each pixel's plane is taken from its neighbors, tried at random and turned until patches match.

Good planes spread to the pixels beside them (slanted support windows, Bleyer, Rhemann and Rother 2011; several photos
and the choice of the best of them for each pixel as in Galliani, Lasinger and Schindler 2015), together with the photos
that saw them. What is near the truth is brought there by least squares, so that few random steps are needed.

A plane is held as the inverse depth at its pixel and by how much that grows from pixel to pixel: along a plane the
inverse depth is linear in the pixel.
"""

from typing import NamedTuple

import numpy as np
from numba import njit

from ..lanes import UNIT, WIDTH, all_of, load, store, total
from .patch import (
    BEND,
    COUNT,
    DX,
    DY,
    ROW,
    ROWS,
    WEIGHT,
    WORST,
    compare,
    detail,
    gradient_of,
    prepare,
    slide,
    tangent,
)

STEEPEST = 10.0  #: tangent of the largest angle between a surface and the picture's plane
SURE = 0.1  #: cost below which a pixel is left as it is
LATER = 0.2  #: the same once it has been gone over
WORSE = 0.05  #: a bent patch may match by so much less than the plane before it is left out
NEAR_PX = 0.3  #: of a step that is taken as it is
HOPEFUL = 0.7  #: cost from which on a plane is not worth turning
GOOD = 0.25  #: cost up to which a plane is not thrown away for a random one
SAME_PX = 0.02  #: a neighbor's plane that moves the patch by less is no other plane
LEAST_VAR = float(UNIT * UNIT)  #: of a patch: less than one gray value squared is no texture
FARTHEST_STEP_PX = 1.0  #: of one step of least squares
DAMPING = 0.03  #: share by which the diagonal of the normal equations is raised


class Task(NamedTuple):
    """What a sweep reads.

    Attributes
    ----------
    gray : (h, w) float32
    focal : float
    low, high : (h, w) float32
        Inverse depth from and to; high is 0 where there is nothing to do.
    rows : (n, ROW) float64
        `patch.neighbor_row` of each neighbor.
    cells : (n, H, W, 4) int16
        Their pictures, see `lanes.cells`.
    support : (2, 3, COUNT) float32
        For strong texture, and for faint.
    places : (2, COUNT) int64
        `patch.places` of each.
    faint : (h, w) uint8
        Which of the two a pixel has.
    best_of : int
        How many of the neighbors count for a pixel.
    pixel : float
        By how much the inverse depth changes where a patch moves by one pixel in a neighbor, typically.
    """

    gray: np.ndarray
    focal: float
    low: np.ndarray
    high: np.ndarray
    rows: np.ndarray
    cells: np.ndarray
    support: np.ndarray
    places: np.ndarray
    faint: np.ndarray
    best_of: int
    pixel: float


class Planes(NamedTuple):
    """What a sweep changes.

    Attributes
    ----------
    plane : (h, w, 3) float32
        Inverse depth and its growth to the right and down.
    cost : (h, w) float32
    seen_by : (h, w) uint16
        A bit for each neighbor that counts.
    """

    plane: np.ndarray
    cost: np.ndarray
    seen_by: np.ndarray


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _of_all(rows, cells, n, width, size, x, y, z, gx, gy, patch, var, best_of, costs):
    """Mean cost of the neighbors that agree most with a plane, and a bit for each of them.

    rows, cells, patch : addresses; size : bytes of one picture; costs : (n,) scratch
    """
    for j in range(n):
        costs[j] = compare(rows + j * ROW * 8, cells + j * size, width, x, y, z, gx, gy, patch, var)
    mean, bits = np.float32(0), 0
    for _ in range(best_of):
        m = 0
        for j in range(1, n):
            if costs[j] < costs[m]:
                m = j
        mean += costs[m]
        costs[m] = np.float32(9)
        bits |= 1 << m
    return mean / np.float32(best_of), bits


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _of_these(rows, cells, bits, width, size, x, y, z, gx, gy, patch, var, best_of, bar):
    """Mean cost of the neighbors that have a bit; WORST as soon as it cannot fall below `bar` any more."""
    mean, end, j = np.float32(0), bar * np.float32(best_of), 0
    while bits:
        if bits & 1:
            mean += compare(rows + j * ROW * 8, cells + j * size, width, x, y, z, gx, gy, patch, var)
            if mean >= end:
                return np.float32(WORST)
        bits >>= 1
        j += 1
    return mean / np.float32(best_of)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _turned(rows, cells, bits, width, size, x, y, z, gx, gy, patch, var, best_of, pixel, normal):
    """Mean cost of a plane, and the plane that a step of least squares makes of it.

    normal : (10,) scratch: see `patch.tangent`
    """
    normal[:] = 0.0
    mean, j = np.float32(0), 0
    while bits:
        if bits & 1:
            mean += tangent(rows + j * ROW * 8, cells + j * size, width, x, y, z, gx, gy, patch, var, normal)
        bits >>= 1
        j += 1
    cost = mean / np.float32(best_of)
    a, b, c = normal[0] * (1 + DAMPING), normal[1], normal[2]
    # slopes that the patch says nothing of stay as they are
    least = 0.02 * normal[0]
    d, e, f = normal[3] * (1 + DAMPING) + least, normal[4], normal[5] * (1 + DAMPING) + least
    # the determinant by cofactors: three unknowns
    A, B, C = d * f - e * e, c * e - b * f, b * e - c * d
    det = a * A + b * B + c * C
    if not det > 1e-9 * a * d * f:
        return cost, z, gx, gy
    r, s, t = normal[6], normal[7], normal[8]
    D, E, F = a * f - c * c, b * c - a * e, a * d - b * b
    dz = (A * r + B * s + C * t) / det
    dx = (B * r + D * s + E * t) / det
    dy = (C * r + E * s + F * t) / det
    farthest = FARTHEST_STEP_PX * pixel
    share = farthest / max(abs(dz), 4 * abs(dx), 4 * abs(dy), farthest)
    return cost, z + share * dz, gx + share * dx, gy + share * dy


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _settled(
    rows,
    cells,
    bits,
    width,
    size,
    x,
    y,
    z,
    gx,
    gy,
    patch,
    var,
    best_of,
    pixel,
    low,
    high,
    steepest,
    turns,
    best,
    normal,
):
    """Turn a plane by least squares as long as its cost falls: its cost and the plane."""
    tz, tx, ty = z, gx, gy
    for k in range(turns):
        e, nz, nx, ny = _turned(rows, cells, bits, width, size, x, y, tz, tx, ty, patch, var, best_of, pixel, normal)
        if k and not e < best:
            return best, z, gx, gy
        best, z, gx, gy = e, tz, tx, ty
        tz, tx, ty = nz, nx, ny
        if tz < low or tz > high or tx * tx + ty * ty > steepest * tz * tz:
            return best, z, gx, gy
    e = _of_these(rows, cells, bits, width, size, x, y, tz, tx, ty, patch, var, best_of, best)
    if e < best:
        return e, tz, tx, ty
    return best, z, gx, gy


@njit(cache=True, nogil=True, error_model="numpy")
def sweep(task, planes, rounds, tries, turns, spread, seed):
    """Go over the picture `rounds` times, in place: forward and backward in turn.

    Costs are not known before; which photos count may be.

    tries : random planes for a pixel that is not good; turns : steps of least squares; spread : relative size of the
    first random steps, halved from round to round
    """
    gray, focal, low, high, neighbors, pictures, support, places, faint, best_of, pixel = task
    plane, cost, seen_by = planes
    np.random.seed(seed)
    h, w = gray.shape
    n = neighbors.shape[0]
    width, size = pictures.shape[2], pictures.shape[1] * pictures.shape[2] * 8
    made = np.zeros((ROWS, COUNT), np.float32)
    costs, normal = np.empty(n, np.float32), np.empty(10)
    rows, cells, patch = neighbors.ctypes.data, pictures.ctypes.data, made.ctypes.data
    at = gray.ctypes.data, support.ctypes.data, places.ctypes.data, patch
    steepest = (STEEPEST / focal) ** 2
    for r in range(rounds):
        forward = r % 2 == 0
        step = -1 if forward else 1
        jitter, turn = spread * 0.5**r, 0.5 * 0.6**r / focal
        for yy in range(h):
            y = yy if forward else h - 1 - yy
            for xx in range(w):
                x = xx if forward else w - 1 - xx
                if high[y, x] <= 0:
                    continue
                fresh = r == 0
                if not fresh and cost[y, x] < LATER:
                    continue
                var = prepare(gray, x, y, support, faint[y, x], made, at)
                if var < LEAST_VAR:
                    cost[y, x] = WORST
                    continue
                z, gx, gy = np.float64(plane[y, x, 0]), np.float64(plane[y, x, 1]), np.float64(plane[y, x, 2])
                best, bits = cost[y, x], np.int64(seen_by[y, x])
                if fresh:
                    hopeful = bits != 0
                    if not hopeful:
                        best, bits = _of_all(rows, cells, n, width, size, x, y, z, gx, gy, patch, var, best_of, costs)
                        hopeful = best < HOPEFUL
                    if hopeful:
                        best, z, gx, gy = _settled(
                            rows, cells, bits, width, size, x, y, z, gx, gy, patch, var, best_of, pixel, low[y, x],
                            high[y, x], steepest, turns, best, normal,
                        )  # fmt: skip
                    if best < SURE:
                        cost[y, x], seen_by[y, x] = best, bits
                        plane[y, x, 0], plane[y, x, 1], plane[y, x, 2] = z, gx, gy
                        continue
                before = best
                for k in range(4):
                    # the pixels just visited, beside and across, near and a little further
                    reach = step if k < 2 else 3 * step
                    u, v = (x + reach, y) if k % 2 == 0 else (x, y + reach)
                    if u < 0 or v < 0 or u >= w or v >= h or high[v, u] <= 0 or cost[v, u] >= best:
                        continue
                    tx, ty = np.float64(plane[v, u, 1]), np.float64(plane[v, u, 2])
                    tz = plane[v, u, 0] + tx * (x - u) + ty * (y - v)
                    if tz < low[y, x] or tz > high[y, x] or tx * tx + ty * ty > steepest * tz * tz:
                        continue
                    moved = abs(tz - z) + 3 * (abs(tx - gx) + abs(ty - gy))
                    if moved < SAME_PX * pixel and bits == seen_by[v, u]:
                        continue
                    e = _of_these(
                        rows, cells, np.int64(seen_by[v, u]), width, size, x, y, tz, tx, ty, patch, var, best_of, best
                    )
                    if e < best:
                        best, z, gx, gy, bits = e, tz, tx, ty, np.int64(seen_by[v, u])
                if best > GOOD:
                    for _ in range(tries):
                        tz = z * (1.0 + jitter * (2.0 * np.random.random() - 1.0))
                        tx = gx + turn * tz * (2.0 * np.random.random() - 1.0)
                        ty = gy + turn * tz * (2.0 * np.random.random() - 1.0)
                        if tz < low[y, x] or tz > high[y, x] or tx * tx + ty * ty > steepest * tz * tz:
                            continue
                        e, these = _of_all(rows, cells, n, width, size, x, y, tz, tx, ty, patch, var, best_of, costs)
                        if e < best:
                            best, z, gx, gy, bits = e, tz, tx, ty, these
                if best < before and best < 1:
                    best, z, gx, gy = _settled(
                        rows, cells, bits, width, size, x, y, z, gx, gy, patch, var, best_of, pixel, low[y, x],
                        high[y, x], steepest, turns, best, normal,
                    )  # fmt: skip
                cost[y, x], seen_by[y, x] = best, bits
                plane[y, x, 0], plane[y, x, 1], plane[y, x, 2] = z, gx, gy


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _slid(rows, cells, bits, width, size, x, y, z, gx, gy, patch, var, best_of, pixel, gradient, normal):
    """Mean cost of a plane, and the change of its inverse depth that least squares ask for."""
    normal[0] = normal[1] = 0.0
    mean, j = np.float32(0), 0
    while bits:
        if bits & 1:
            mean += slide(
                rows + j * ROW * 8, cells + j * size, width, x, y, z, gx, gy, patch, var, gradient, normal
            )  # fmt: skip
        bits >>= 1
        j += 1
    step = normal[1] / max(normal[0], 1e-30)
    return mean / np.float32(best_of), min(max(step, -0.5 * pixel), 0.5 * pixel)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def refine(task, planes, slopes, bends, sigma, checked):
    """Find the inverse depth of every pixel anew, in place, with slopes and second order as they are given.

    slopes (h, w, 2), bends (h, w, 3) : see `bend.fit_bends`; sigma (h, w) : receives the standard deviation that the
    pixel's patch gives the inverse depth (half of what is left unexplained is taken to be common to its photos);
    checked : whether a step is tried and followed by another, or taken as it is where it is small
    """
    gray, _, low, high, neighbors, pictures, support, places, faint, best_of, pixel = task
    plane, cost, seen_by = planes
    h, w = gray.shape
    width, size = pictures.shape[2], pictures.shape[1] * pictures.shape[2] * 8
    made, normal = np.zeros((ROWS, COUNT), np.float32), np.empty(10)
    rows, cells, patch = neighbors.ctypes.data, pictures.ctypes.data, made.ctypes.data
    at = gray.ctypes.data, support.ctypes.data, places.ctypes.data, patch
    for y in range(h):
        for x in range(w):
            if high[y, x] <= 0 or cost[y, x] >= 1:
                continue
            var = prepare(gray, x, y, support, faint[y, x], made, at)
            gradient = gradient_of(patch)
            for s in range(0, COUNT, WIDTH):
                X, Y = load(patch, DX + s), load(patch, DY + s)
                store(patch, BEND + s, X * (X * bends[y, x, 0] + Y * bends[y, x, 1]) + Y * Y * bends[y, x, 2])
            gx, gy, bits = np.float64(slopes[y, x, 0]), np.float64(slopes[y, x, 1]), np.int64(seen_by[y, x])
            z = np.float64(plane[y, x, 0])
            e, step = _slid(
                rows, cells, bits, width, size, x, y, z, gx, gy, patch, var, best_of, pixel, gradient, normal
            )  # fmt: skip
            if e > cost[y, x] + WORSE:  # an edge, or a fold: its plane stays, and counts next to nothing in fusion
                continue
            best, tz = e, z + step
            if checked:
                e, more = _slid(
                    rows, cells, bits, width, size, x, y, tz, gx, gy, patch, var, best_of, pixel, gradient, normal
                )  # fmt: skip
                if e < best:
                    best, z = e, tz
                    # the second step is a small part of the first where both lead to the same place
                    if abs(more) < 0.5 * abs(step):
                        z += more
            elif abs(step) < NEAR_PX * pixel:
                z = tz
            z = min(max(z, np.float64(low[y, x])), np.float64(high[y, x]))
            c, squares = np.float64(min(best, np.float32(1))), all_of(np.float32(0))
            for s in range(0, COUNT, WIDTH):
                weight = load(patch, WEIGHT + s)
                squares += weight * weight
            left = np.float64(var) * c * (2 - c) * total(squares)
            sigma[y, x] = np.sqrt(0.5 * (best_of + 1) * left / max(normal[0], 1e-30))
            plane[y, x, 0], plane[y, x, 1], plane[y, x, 2] = z, gx, gy
            cost[y, x] = best


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def look_for_detail(task, planes, alike):
    """Mean correlation (h, w) of what pixels' patches show beyond a gradient with the photos they are seen in.

    It is 0 where there is nothing to compare. See `patch.detail`.
    """
    gray, _, _, high, neighbors, pictures, support, places, faint, best_of, _ = task
    plane, cost, seen_by = planes
    h, w = gray.shape
    width, size = pictures.shape[2], pictures.shape[1] * pictures.shape[2] * 8
    made = np.zeros((ROWS, COUNT), np.float32)
    rows, cells, patch = neighbors.ctypes.data, pictures.ctypes.data, made.ctypes.data
    at = gray.ctypes.data, support.ctypes.data, places.ctypes.data, patch
    for y in range(h):
        for x in range(w):
            alike[y, x] = 0
            if high[y, x] <= 0 or cost[y, x] >= 1:
                continue
            var = prepare(gray, x, y, support, faint[y, x], made, at)
            gradient = gradient_of(patch)
            z, gx, gy = np.float64(plane[y, x, 0]), np.float64(plane[y, x, 1]), np.float64(plane[y, x, 2])
            bits, mean, j = np.int64(seen_by[y, x]), np.float32(0), 0
            while bits:
                if bits & 1:
                    mean += detail(rows + j * ROW * 8, cells + j * size, width, x, y, z, gx, gy, patch, var, gradient)
                bits >>= 1
                j += 1
            alike[y, x] = mean / np.float32(best_of)
