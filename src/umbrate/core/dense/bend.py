"""How the surface bends: slopes and curvature of a depth map from a pixel's surroundings.

A patch that is taken for flat on a curved surface is matched too deep where the surface bulges, by some a^2 / 3R pixels
for a half width a and a radius R. Its own pixels do not tell the bend well; the depth found round it does. Slopes and
second order come from a quadric through the inverse depth of a disc (least squares), and only the inverse depth itself
is then found anew from the photos.
"""

import numpy as np
from numba import njit

from ..lanes import WIDTH, all_of, load, only_within, total

RADIUS = 6  #: of the disc, pixels
LIKE = 0.6  #: cost up to which a pixel is asked
OFF_PX = 2.0  #: farther from the plane of the middle it belongs to another surface
SHARE = 0.6  #: of the disc that must be known
PLACES = 16 * (RADIUS + 1)  #: in a table of the disc: sixteen columns of every other row
POWERS = [(i, n - i) for n in range(5) for i in range(n, -1, -1)]  #: of x and y: 1, x, y, xx, xy, yy, xxx, ...
#: which of them stands where in the normal equations of the first six
MOMENT = np.array([[POWERS.index((a + c, b + d)) for c, d in POWERS[:6]] for a, b in POWERS[:6]])
ON, SHARES, FIRST_POWER = 3, 4, 10  #: rows of the table


def disc():
    """The pixels asked, those of every other row, and what each says where all are known: (25, PLACES) float32.

    Rows of it: offsets x and y, weight, 1 where the place is in the disc; the share of its inverse depth in the value,
    slopes x, y and second order xx, xy, yy; the weight times the `POWERS` of its offset, in radii. Sixteen columns for
    each row of the disc, from -8 on.
    """
    x, y = (a.ravel().astype(float) for a in np.meshgrid(np.arange(-8, 8), np.arange(-RADIUS, RADIUS + 1, 2)))
    d2 = x**2 + y**2
    on = d2 <= RADIUS**2
    weight = np.where(on, 1 - 0.8 * d2 / RADIUS**2, 0)
    J = np.stack([x**i * y**j for i, j in POWERS[:6]], 1)
    share = np.linalg.solve(J.T @ (J * weight[:, None]), J.T * weight)
    powers = [weight * (x / RADIUS) ** i * (y / RADIUS) ** j for i, j in POWERS]
    return np.concatenate([[x, y, weight, on], share, powers]).astype(np.float32)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _solve(N, r):
    """Solve N x = r in place, N (6, 6) symmetric positive; returns whether it could be."""
    for k in range(6):
        p = N[k, k]
        if not p > 1e-9:
            return False
        for i in range(k + 1, 6):
            f = N[i, k] / p
            for j in range(k, 6):
                N[i, j] -= f * N[k, j]
            r[i] -= f * r[k]
    for k in range(5, -1, -1):
        for j in range(k + 1, 6):
            r[k] -= N[k, j] * r[j]
        r[k] /= N[k, k]
    return True


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _whole(known, row, disc, z, gx, gy, off, out):
    """Fill `out` (7,) with what the disc says as if all of it were known, and with how much is.

    known : address of the inverse depth at its first place, row : bytes to its next row; disc : address of its table;
    off : departure from the plane z, gx, gy up to which a pixel counts
    """
    n = PLACES
    count = flat = sx = sy = xx = xy = yy = all_of(np.float32(0))
    for line in range(RADIUS + 1):
        for half in range(2):
            place, k = known + line * row + half * (WIDTH * 4), line * 16 + half * WIDTH
            d = load(place, 0) - (load(disc, k) * gx + load(disc, n + k) * gy + z)
            count += only_within(d, off, load(disc, ON * n + k))
            d = only_within(d, off, d)
            flat += d * load(disc, SHARES * n + k)
            sx += d * load(disc, (SHARES + 1) * n + k)
            sy += d * load(disc, (SHARES + 2) * n + k)
            xx += d * load(disc, (SHARES + 3) * n + k)
            xy += d * load(disc, (SHARES + 4) * n + k)
            yy += d * load(disc, (SHARES + 5) * n + k)
    out[0], out[1], out[2], out[3] = total(flat), total(sx), total(sy), total(xx)
    out[4], out[5], out[6] = total(xy), total(yy), total(count)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _in_parts(known, row, disc, z, gx, gy, off, moments, out):
    """Fill moments (15,) and the right side `out` (6,) of the normal equations from what is known of the disc."""
    n = PLACES
    for first in range(0, 15, 5):  # five sums at a time, which the registers hold
        a = b = c = e = f = all_of(np.float32(0))
        for line in range(RADIUS + 1):
            for half in range(2):
                place, k = known + line * row + half * (WIDTH * 4), line * 16 + half * WIDTH
                d = load(place, 0) - (load(disc, k) * gx + load(disc, n + k) * gy + z)
                k += (FIRST_POWER + first) * n
                a += only_within(d, off, load(disc, k))
                b += only_within(d, off, load(disc, k + n))
                c += only_within(d, off, load(disc, k + 2 * n))
                e += only_within(d, off, load(disc, k + 3 * n))
                f += only_within(d, off, load(disc, k + 4 * n))
        moments[first], moments[first + 1], moments[first + 2] = total(a), total(b), total(c)
        moments[first + 3], moments[first + 4] = total(e), total(f)
    a = b = c = e = f = g = all_of(np.float32(0))
    for line in range(RADIUS + 1):
        for half in range(2):
            place, k = known + line * row + half * (WIDTH * 4), line * 16 + half * WIDTH
            d = load(place, 0) - (load(disc, k) * gx + load(disc, n + k) * gy + z)
            d = only_within(d, off, d)
            a += d * load(disc, FIRST_POWER * n + k)
            b += d * load(disc, (FIRST_POWER + 1) * n + k)
            c += d * load(disc, (FIRST_POWER + 2) * n + k)
            e += d * load(disc, (FIRST_POWER + 3) * n + k)
            f += d * load(disc, (FIRST_POWER + 4) * n + k)
            g += d * load(disc, (FIRST_POWER + 5) * n + k)
    out[0], out[1], out[2], out[3], out[4], out[5] = total(a), total(b), total(c), total(e), total(f), total(g)


@njit(cache=True, nogil=True, error_model="numpy")
def fit_bends(plane, cost, high, disc, pixel, slopes, bends, smooth):
    """Slopes (h, w, 2), second order (h, w, 3) of xx, xy, yy and value (h, w) of the inverse depth round each pixel.

    Where too little is known they are those of the plane, without second order.

    plane (h, w, 3), cost (h, w), high (h, w) : see `sweep`; disc : see `disc`; pixel : see `sweep.Task`
    """
    h, w = cost.shape
    # with a border wide enough for any disc, and far from every plane where nothing is known
    known = np.full((h + 2 * RADIUS, w + 16), np.float32(1e30))
    for y in range(h):
        for x in range(w):
            if high[y, x] > 0 and cost[y, x] <= LIKE:
                known[y + RADIUS, x + 8] = plane[y, x, 0]
    row, all_places = known.shape[1] * 4, disc[ON].sum()
    N, out, moments = np.empty((6, 6)), np.empty(7), np.empty(15)
    off, start, table = np.float32(OFF_PX * pixel), known.ctypes.data, disc.ctypes.data
    for y in range(h):
        for x in range(w):
            z, gx, gy = plane[y, x, 0], plane[y, x, 1], plane[y, x, 2]
            smooth[y, x], slopes[y, x, 0], slopes[y, x, 1] = z, gx, gy
            bends[y, x, 0] = bends[y, x, 1] = bends[y, x, 2] = 0
            if known[y + RADIUS, x + 8] > 1e29:
                continue
            first = start + y * row + x * 4
            _whole(first, 2 * row, table, z, gx, gy, off, out)
            if out[6] < SHARE * all_places:
                continue
            if out[6] < all_places - 0.5:
                _in_parts(first, 2 * row, table, z, gx, gy, off, moments, out)
                for i in range(6):
                    for j in range(6):
                        N[i, j] = moments[MOMENT[i, j]]
                if not _solve(N, out):
                    continue
                for i in range(1, 6):
                    out[i] /= RADIUS if i < 3 else RADIUS * RADIUS
            smooth[y, x] = z + out[0]
            slopes[y, x, 0], slopes[y, x, 1] = gx + out[1], gy + out[2]
            bends[y, x, 0], bends[y, x, 1], bends[y, x, 2] = out[3], out[4], out[5]
