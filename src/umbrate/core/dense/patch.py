"""Patches: what a pixel and the pixels round it look like, in this photo and in the others.

Patches are compared by normalized cross-correlation, weighted so that pixels of another color count less (Yoon and
Kweon 2006). The surface under a patch is a plane or, where it bends, a quadric: along the patch the inverse of the
depth is linear or quadratic in the pixel. `tangent` gives what a step of least squares needs that turns
the plane until the patches match (Grün 1985, several photos at once as in Grün and Baltsavias 1988).

A patch is a row-major (ROWS, COUNT) float32 array: offsets x and y, weight, weighted centered brightness, and by how
much the inverse depth departs from the plane there.
"""

import numpy as np
from numba import njit

from ..lanes import (
    UNIT,
    WIDTH,
    all_of,
    higher_of,
    load,
    load_from,
    lower_of,
    one_double,
    only_within,
    read_cells,
    store,
    total,
)

COUNT = 32  #: places in a patch
DX, DY, WEIGHT, CENTERED, BEND = (k * COUNT for k in range(5))
ROWS = 5
WORST = 2.0
LEAST_SPREAD = 1.5 * UNIT * UNIT  #: variance of brightness below which nothing can be told
NOTHING = 1e6  #: brightness of a pixel that does not count
FARTHEST = 12  #: pixels from the middle of a patch
#: of the difference in brightness at which a pixel of a patch counts half, or a quarter where texture is faint
COLOR_SIGMA = 12.0
LEAST_BEYOND = 0.02  #: share of a patch's variance there which is no gradient, below which it says nothing of the depth
ROW = 16  #: float64 of a neighbor: see `neighbor_row`


def support(radius, step):
    """Offsets x, y and weights (3, COUNT) float32 of the COUNT nearest places of a pattern.

    radius : pixels at which weights have fallen to exp(-0.6); step : 1 for every pixel, 2 for every second one of every
    second row
    """
    o = np.arange(-12, 13)
    x, y = np.meshgrid(o, o)
    on = (x % step == 0) & (y % step == 0)
    x, y = x[on], y[on]
    d2 = x**2 + y**2
    # whole rings only, so that a patch has no side it prefers; what is left of the room counts nothing
    order = np.lexsort((x, y, d2))
    x, y, d2 = x[order], y[order], d2[order]
    n = max(k for k in range(1, COUNT + 1) if d2[k - 1] != d2[k])
    out = np.zeros((3, COUNT), np.float32)
    out[:, :n] = x[:n], y[:n], np.exp(-0.6 * d2[:n] / radius**2)
    return out


def neighbor_row(A, B, w, h):
    """A neighbor (ROW,) float64: its pixels are this photo's times ``A + B m^T`` for a plane m; its size."""
    return np.concatenate([A.ravel(), B, [w - 1.01, h - 1.01, 0, 0]])


def places(supports, width):
    """By how much the places of supports lie on in a picture of so many columns: (n, COUNT) int64."""
    return supports[:, 0].astype(np.int64) + supports[:, 1].astype(np.int64) * width


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def prepare(gray, x, y, supports, which, patch, at):
    """Fill the first four rows of a patch (ROWS, COUNT) at x, y; returns the variance of its brightness.

    gray : (h, w) float32, 0 to 255, or NOTHING; supports : (n, 3, COUNT) float32, see `support`; which : of them; at :
    addresses of gray, supports, their `places` and patch
    """
    h, w = gray.shape
    pixels, pattern, steps, row = at
    pattern, steps = pattern + which * (3 * COUNT * 4), steps + which * (COUNT * 8)
    c = gray[y, x]
    if x < FARTHEST or y < FARTHEST or x >= w - FARTHEST or y >= h - FARTHEST:
        for s in range(COUNT):
            u, v = x + int(supports[which, 0, s]), y + int(supports[which, 1, s])
            # what lies beyond the picture does not count
            patch[3, s] = gray[v, u] if 0 <= u < w and 0 <= v < h else np.float32(NOTHING)
    else:
        first = pixels + (y * w + x) * 4
        for s in range(0, COUNT, WIDTH):
            store(row, CENTERED + s, load_from(first, steps, s))
    one, sharp, unit, black = np.float32(1), np.float32(1.0 / COLOR_SIGMA**2), np.float32(UNIT), np.float32(256)
    weights = sums = squares = all_of(np.float32(0))
    for s in range(0, COUNT, WIDTH):
        store(row, DX + s, load(pattern, DX + s))
        store(row, DY + s, load(pattern, DY + s))
        d = load(row, CENTERED + s) - c
        near = one / (d * d * sharp + one)
        # where texture is faint the edge of something darker near by would outweigh it
        t = only_within(d, black, load(pattern, WEIGHT + s) * (near * near if which else near))
        store(row, WEIGHT + s, t)
        weights += t
        sums += t * d
    share = one / total(weights)
    mean = total(sums) * share
    for s in range(0, COUNT, WIDTH):
        t = load(row, WEIGHT + s) * share
        d = (load(row, CENTERED + s) - (c + mean)) * unit
        td = t * d
        squares += td * d
        store(row, WEIGHT + s, t)
        store(row, CENTERED + s, td)
    return total(squares)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _mapped(row, x, y, z, gx, gy):
    """Where a patch falls in a neighbor: whether its middle does, and the numbers that map it.

    Columns are ``(p0 + px X + py Y + pb Q) / (1 + wx X + wy Y + wb Q)`` for offsets X, Y and a departure Q of the
    inverse depth, rows the same with q; then the last place that can be read.
    """
    b0, b1, b2 = one_double(row, 9), one_double(row, 10), one_double(row, 11)
    w0 = one_double(row, 6) * x + one_double(row, 7) * y + one_double(row, 8) + b2 * z
    iw = 1.0 / max(w0, 1e-30)
    p0 = np.float32((one_double(row, 0) * x + one_double(row, 1) * y + one_double(row, 2) + b0 * z) * iw)
    q0 = np.float32((one_double(row, 3) * x + one_double(row, 4) * y + one_double(row, 5) + b1 * z) * iw)
    end_x, end_y = np.float32(one_double(row, 12)), np.float32(one_double(row, 13))
    seen = w0 > 0 and p0 >= 0 and q0 >= 0 and p0 < end_x and q0 < end_y
    pb, qb, wb = np.float32(b0 * iw), np.float32(b1 * iw), np.float32(b2 * iw)
    gx, gy = np.float32(gx), np.float32(gy)
    px, py = np.float32(one_double(row, 0) * iw) + pb * gx, np.float32(one_double(row, 1) * iw) + pb * gy
    qx, qy = np.float32(one_double(row, 3) * iw) + qb * gx, np.float32(one_double(row, 4) * iw) + qb * gy
    wx, wy = np.float32(one_double(row, 6) * iw) + wb * gx, np.float32(one_double(row, 7) * iw) + wb * gy
    return seen, p0, px, py, pb, q0, qx, qy, qb, wx, wy, wb, end_x, end_y


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy", inline="always")
def _read(cells, width, patch, s, mapped):
    """Eight places of a patch from the s-th on, as they lie in a neighbor (see `_mapped`).

    Returns their offsets X, Y, what brings them nearer or further, their columns and rows there, and what
    `lanes.read_cells` reads there.
    """
    _, p0, px, py, pb, q0, qx, qy, qb, wx, wy, wb, end_x, end_y = mapped
    zero, one = np.float32(0), np.float32(1)
    X, Y, Q = load(patch, DX + s), load(patch, DY + s), load(patch, BEND + s)
    toward = one / higher_of(X * wx + Y * wy + Q * wb + one, np.float32(0.2))
    # what lies beyond the picture is as its border is
    u = lower_of(higher_of((X * px + Y * py + Q * pb + p0) * toward, zero), end_x)
    v = lower_of(higher_of((X * qx + Y * qy + Q * qb + q0) * toward, zero), end_y)
    c, cx, cy, cxy, a, b = read_cells(cells, width, u, v)
    return X, Y, toward, u, v, c, cx, cy, cxy, a, b


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def compare(row, cells, width, x, y, z, gx, gy, patch, var):
    """1 - correlation of a neighbor under a plane hypothesis, or WORST where it cannot be told.

    row, cells, patch : addresses of its `neighbor_row`, its picture as `lanes.cells` and the patch; z, gx, gy : inverse
    depth and by how much it grows from pixel to pixel
    """
    mapped = _mapped(row, x, y, z, gx, gy)
    if not mapped[0]:
        return np.float32(WORST)
    zero, one = np.float32(0), np.float32(1)
    s1 = s2 = s12 = all_of(zero)
    for s in range(0, COUNT, WIDTH):
        _, _, _, _, _, c, cx, cy, cxy, a, b = _read(cells, width, patch, s, mapped)
        value = (c + a * cx) + b * (cy + a * cxy)
        weighted = load(patch, WEIGHT + s) * value
        s1 += weighted
        s2 += weighted * value
        s12 += load(patch, CENTERED + s) * value
    mean = total(s1)
    spread = total(s2) - mean * mean
    if spread < np.float32(LEAST_SPREAD):
        return np.float32(1.2)
    return one - total(s12) / np.sqrt(spread * var)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def gradient_of(patch):
    """What takes a gradient out of a patch: its weighted means of x and y, the inverse of their covariance, and what x
    and y have in common with its brightness. patch : its address

    Returns (mean x, mean y, xx, xy, yy of the inverse, x with brightness, y with brightness).
    """
    sx = sy = sxx = sxy = syy = bx = by = all_of(np.float32(0))
    for s in range(0, COUNT, WIDTH):
        X, Y, weight, c = load(patch, DX + s), load(patch, DY + s), load(patch, WEIGHT + s), load(patch, CENTERED + s)
        wx, wy = weight * X, weight * Y
        sx += wx
        sy += wy
        sxx += wx * X
        sxy += wx * Y
        syy += wy * Y
        bx += c * X
        by += c * Y
    mx, my = total(sx), total(sy)
    xx, xy, yy = total(sxx) - mx * mx, total(sxy) - mx * my, total(syy) - my * my
    share = np.float32(1) / max(xx * yy - xy * xy, np.float32(1e-6))
    return mx, my, yy * share, -xy * share, xx * share, total(bx), total(by)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy", inline="always")
def _even(gradient, ax, ay, bx, by):
    """What two brightnesses have in common by their even gradients: ax, ay and bx, by with x and y of the patch."""
    xx, xy, yy = gradient[2], gradient[3], gradient[4]
    return ax * (xx * bx + xy * by) + ay * (xy * bx + yy * by)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def detail(row, cells, width, x, y, z, gx, gy, patch, var, gradient):
    """Correlation with a neighbor of what a patch shows beyond an even gradient, or 0 where that is nothing.

    A gradient, such as shading has, correlates with any other gradient at any place: it tells nothing of the depth.
    gradient : of the patch, see `gradient_of`; the others as for `compare`
    """
    mapped = _mapped(row, x, y, z, gx, gy)
    if not mapped[0]:
        return np.float32(0)
    zero = np.float32(0)
    s1 = s2 = s12 = sx = sy = all_of(zero)
    for s in range(0, COUNT, WIDTH):
        X, Y, _, _, _, c, cx, cy, cxy, a, b = _read(cells, width, patch, s, mapped)
        value = (c + a * cx) + b * (cy + a * cxy)
        weighted = load(patch, WEIGHT + s) * value
        s1 += weighted
        s2 += weighted * value
        s12 += load(patch, CENTERED + s) * value
        sx += weighted * X
        sy += weighted * Y
    mx, my, bx, by = gradient[0], gradient[1], gradient[5], gradient[6]
    mean = total(s1)
    dx, dy = total(sx) - mean * mx, total(sy) - mean * my
    own = var - _even(gradient, bx, by, bx, by)
    other = total(s2) - mean * mean - _even(gradient, dx, dy, dx, dy)
    if own <= np.float32(1e-3) * var or other <= zero:
        return zero
    return (total(s12) - _even(gradient, bx, by, dx, dy)) / np.sqrt(own * other)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def tangent(row, cells, width, x, y, z, gx, gy, patch, var, normal):
    """`compare`, and what the neighbor says of the plane, added to `normal`.

    normal : (10,) float64: the upper triangle of the normal equations (6), their right side (3) for a change of z, gx,
    gy, and the weighted sum of squares that stays, all in units of brightness squared; the other photo's brightness and
    contrast are solved for with them.
    """
    mapped = _mapped(row, x, y, z, gx, gy)
    if not mapped[0]:
        return np.float32(WORST)
    pb, qb, wb = mapped[4], mapped[8], mapped[11]
    zero, one = np.float32(0), np.float32(1)
    s1 = s2 = s12 = v0 = v1 = v2 = m00 = m01 = m02 = m11 = m12 = m22 = u0 = u1 = u2 = r0 = r1 = r2 = all_of(zero)
    # one pixel of the other photo for each unit, so that sums of squares stay within float32
    unit = np.float32(1.0 / max(abs(pb), abs(qb), np.float32(1e-30)))
    for s in range(0, COUNT, WIDTH):
        X, Y, toward, u, v, c, cx, cy, cxy, a, b = _read(cells, width, patch, s, mapped)
        value = (c + a * cx) + b * (cy + a * cxy)
        weight, centered = load(patch, WEIGHT + s), load(patch, CENTERED + s)
        weighted = weight * value
        s1 += weighted
        s2 += weighted * value
        s12 += centered * value
        t = ((cx + b * cxy) * (pb - u * wb) + (cy + a * cxy) * (qb - v * wb)) * (toward * unit)
        wt = weight * t
        tx, ty = t * X, t * Y
        wtx, wty = wt * X, wt * Y
        v0 += wt
        v1 += wtx
        v2 += wty
        m00 += wt * t
        m01 += wt * tx
        m02 += wt * ty
        m11 += wtx * tx
        m12 += wtx * ty
        m22 += wty * ty
        u0 += wt * value
        u1 += wtx * value
        u2 += wty * value
        r0 += centered * t
        r1 += centered * tx
        r2 += centered * ty
    mean = total(s1)
    spread, both = total(s2) - mean * mean, total(s12)
    if spread < np.float32(LEAST_SPREAD):
        return np.float32(1.2)
    gain = both / spread
    if gain > 0:
        k = np.float64(unit)
        V0, V1, V2 = total(v0), total(v1), total(v2)
        U0, U1, U2 = total(u0) - mean * V0, total(u1) - mean * V1, total(u2) - mean * V2
        g = np.float64(gain) * gain / (k * k)
        i = np.float64(1.0) / spread
        normal[0] += g * (total(m00) - V0 * V0 - U0 * U0 * i)
        normal[1] += g * (total(m01) - V0 * V1 - U0 * U1 * i)
        normal[2] += g * (total(m02) - V0 * V2 - U0 * U2 * i)
        normal[3] += g * (total(m11) - V1 * V1 - U1 * U1 * i)
        normal[4] += g * (total(m12) - V1 * V2 - U1 * U2 * i)
        normal[5] += g * (total(m22) - V2 * V2 - U2 * U2 * i)
        g = np.float64(gain) / k
        normal[6] += g * (total(r0) - U0 * gain)
        normal[7] += g * (total(r1) - U1 * gain)
        normal[8] += g * (total(r2) - U2 * gain)
        normal[9] += var - gain * both
    return one - both / np.sqrt(spread * var)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def slide(row, cells, width, x, y, z, gx, gy, patch, var, gradient, normal):
    """`tangent` for a change of z alone, an even gradient of each photo's light across the patch being free as well.

    Shading that stands still while the object turns would draw the depth after it.

    gradient : of the patch, see `gradient_of`; normal : (2,), added to: what stands before z, and the right side
    """
    mapped = _mapped(row, x, y, z, gx, gy)
    if not mapped[0]:
        return np.float32(WORST)
    pb, qb, wb = mapped[4], mapped[8], mapped[11]
    zero, one = np.float32(0), np.float32(1)
    s1 = s2 = s12 = sx = sy = v0 = m00 = u0 = r0 = tx = ty = all_of(zero)
    unit = np.float32(1.0 / max(abs(pb), abs(qb), np.float32(1e-30)))
    for s in range(0, COUNT, WIDTH):
        X, Y, toward, u, v, c, cx, cy, cxy, a, b = _read(cells, width, patch, s, mapped)
        value = (c + a * cx) + b * (cy + a * cxy)
        weight, centered = load(patch, WEIGHT + s), load(patch, CENTERED + s)
        weighted = weight * value
        s1 += weighted
        s2 += weighted * value
        s12 += centered * value
        sx += weighted * X
        sy += weighted * Y
        t = ((cx + b * cxy) * (pb - u * wb) + (cy + a * cxy) * (qb - v * wb)) * (toward * unit)
        wt = weight * t
        v0 += wt
        m00 += wt * t
        u0 += wt * value
        r0 += centered * t
        tx += wt * X
        ty += wt * Y
    mean = total(s1)
    spread, both = total(s2) - mean * mean, total(s12)
    if spread < np.float32(LEAST_SPREAD):
        return np.float32(1.2)
    mx, my, bx, by = gradient[0], gradient[1], gradient[5], gradient[6]
    dx, dy = total(sx) - mean * mx, total(sy) - mean * my
    beyond, same = spread - _even(gradient, dx, dy, dx, dy), both - _even(gradient, bx, by, dx, dy)
    if same > 0 and beyond > np.float32(LEAST_BEYOND) * spread:
        gain, k, V0 = same / beyond, np.float64(unit), total(v0)
        ex, ey = total(tx) - V0 * mx, total(ty) - V0 * my
        U0 = total(u0) - mean * V0 - _even(gradient, ex, ey, dx, dy)
        slope = total(m00) - V0 * V0 - _even(gradient, ex, ey, ex, ey)
        normal[0] += np.float64(gain) * gain / (k * k) * (slope - U0 * U0 / beyond)
        normal[1] += np.float64(gain) / k * (total(r0) - _even(gradient, bx, by, ex, ey) - U0 * gain)
    return one - both / np.sqrt(spread * var)
