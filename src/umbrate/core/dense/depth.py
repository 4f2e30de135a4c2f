"""Depth maps: how far away the surface is at every pixel of a photo, and how it slants there.

Each pixel carries a small plane. A plane is right when the patches it predicts in the neighbor
photos look like the patch in this photo; good planes spread to the pixels beside them and are
refined by random steps (slanted support windows, Bleyer, Rhemann and Rother 2011; several photos and the
choice of the best of them for each pixel as in Galliani, Lasinger and Schindler 2015). Patches are
compared by normalized cross-correlation, weighted so that pixels of another color count less
(Yoon and Kweon 2006).

A photo's map is computed by one thread from its own seed: the result does not depend on how many
photos are computed side by side.
"""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import scipy
from numba import njit

REACH, STEP = 5, 2  #: the patch: offsets -5, -3, ..., 5 pixels
SAMPLES = ((2 * REACH) // STEP + 1) ** 2
WORST = 2.0
LEVELS = 2  #: scales, each half of the one before it, the working scale included
COLOR_SIGMA = 12.0  #: of the difference in brightness at which a pixel of a patch counts a third


@dataclass
class View:
    """A pinhole picture with its place: what depth works on.

    Attributes
    ----------
    gray : (h, w) float32
        Brightness 0 to 255.
    mask : (h, w) bool
    K : (3,) float64
        f, cx, cy in pixels.
    pose : (4, 4) float64
        World to camera.
    """

    gray: np.ndarray
    mask: np.ndarray
    K: np.ndarray
    pose: np.ndarray


@dataclass
class DepthMap:
    """Depth along z (0 where unknown, negative outside the keep box), unit normals in the camera frame, correlation."""

    depth: np.ndarray
    normal: np.ndarray
    score: np.ndarray


class Others(NamedTuple):
    """The neighbors of a photo: their pixels are the photo's times ``A[j] + B[j] m^T`` for a plane m (see `_cost`).

    A (n, 3, 3), B (n, 3) float64; grays (n, h * w) float32, one row after the other.
    """

    A: np.ndarray
    B: np.ndarray
    grays: np.ndarray
    w: int
    h: int


class Patch(NamedTuple):
    """Offsets, weights and weighted centered values of a patch, (SAMPLES,) float32 each."""

    dx: np.ndarray
    dy: np.ndarray
    weight: np.ndarray
    centered: np.ndarray


class Scratch(NamedTuple):
    """Memory that is used again for every hypothesis: costs (n,), the rest (SAMPLES,)."""

    costs: np.ndarray
    flat: np.ndarray
    fu: np.ndarray
    fv: np.ndarray
    val: np.ndarray


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _prepare(gray, x, y, offsets, sigma_color, weight, centered):
    """Weights (n,) and weighted centered values (n,) of the patch at x, y; returns its variance."""
    h, w = gray.shape
    c = gray[y, x]
    total, mean = np.float32(0), np.float32(0)
    for s in range(offsets.shape[0]):
        u, v = x + offsets[s, 0], y + offsets[s, 1]
        if u < 0 or v < 0 or u >= w or v >= h:  # what lies beyond the picture does not count
            weight[s] = centered[s] = 0
            continue
        g = gray[v, u]
        d2 = np.float32(offsets[s, 0] ** 2 + offsets[s, 1] ** 2)
        wt = np.exp(-abs(g - c) / sigma_color - d2 / np.float32(2 * 4.5 * 4.5))
        weight[s] = wt
        centered[s] = g
        total += wt
        mean += wt * g
    mean /= total
    var = np.float32(0)
    for s in range(offsets.shape[0]):
        weight[s] /= total
        d = centered[s] - mean
        var += weight[s] * d * d
        centered[s] = weight[s] * d
    return var


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _correlation_cost(j, x, y, m0, m1, m2, others, patch, var, scratch):
    """1 - correlation of neighbor j under a plane hypothesis, or WORST where it cannot be told.

    The plane maps pixels by ``A[j] + B[j] m^T``. Where samples fall, what is read there and the sums are
    three loops, so that the first and last run in vector registers.
    """
    A, B, grays, w, h = others
    dx, dy, weight, centered = patch
    _, flat, fu, fv, val = scratch
    h00, h01, h02 = A[j, 0, 0] + B[j, 0] * m0, A[j, 0, 1] + B[j, 0] * m1, A[j, 0, 2] + B[j, 0] * m2
    h10, h11, h12 = A[j, 1, 0] + B[j, 1] * m0, A[j, 1, 1] + B[j, 1] * m1, A[j, 1, 2] + B[j, 1] * m2
    h20, h21, h22 = A[j, 2, 0] + B[j, 2] * m0, A[j, 2, 1] + B[j, 2] * m1, A[j, 2, 2] + B[j, 2] * m2
    w0 = h20 * x + h21 * y + h22
    if w0 <= 0:
        return np.float32(2.0)
    iw = 1.0 / w0
    p0, px, py = np.float32((h00 * x + h01 * y + h02) * iw), np.float32(h00 * iw), np.float32(h01 * iw)
    q0, qx, qy = np.float32((h10 * x + h11 * y + h12) * iw), np.float32(h10 * iw), np.float32(h11 * iw)
    wx, wy = np.float32(h20 * iw), np.float32(h21 * iw)
    one = np.float32(1.0)
    gray, wide, one_on = grays[j], np.uint32(w), np.uint32(1)  # unsigned: no index can count from the end
    umax, vmax = np.float32(w - 1.01), np.float32(h - 1.01)
    # the patch is inside when its four corners are, as long as none lies behind
    inside = True
    for k in range(4):
        ex = np.float32(REACH if k & 1 else -REACH)
        ey = np.float32(REACH if k & 2 else -REACH)
        z = one + wx * ex + wy * ey
        if z < np.float32(0.2):
            return np.float32(2.0)
        u = p0 + px * ex + py * ey
        v = q0 + qx * ex + qy * ey
        inside = inside and u >= 0 and v >= 0 and u < umax * z and v < vmax * z
    if inside:
        for s in range(SAMPLES):
            z = one / (one + wx * dx[s] + wy * dy[s])
            u = (p0 + px * dx[s] + py * dy[s]) * z
            v = (q0 + qx * dx[s] + qy * dy[s]) * z
            iu, iv = np.int32(u), np.int32(v)
            fu[s], fv[s] = u - np.float32(iu), v - np.float32(iv)
            flat[s] = np.uint32(iv * np.int32(w) + iu)
    elif p0 >= 0 and q0 >= 0 and p0 < umax and q0 < vmax:  # at the border: what lies beyond is as the border is
        for s in range(SAMPLES):
            z = one / (one + wx * dx[s] + wy * dy[s])
            u = min(max((p0 + px * dx[s] + py * dy[s]) * z, np.float32(0)), umax)
            v = min(max((q0 + qx * dx[s] + qy * dy[s]) * z, np.float32(0)), vmax)
            iu, iv = np.int32(u), np.int32(v)
            fu[s], fv[s] = u - np.float32(iu), v - np.float32(iv)
            flat[s] = np.uint32(iv * np.int32(w) + iu)
    else:
        return np.float32(2.0)
    for s in range(SAMPLES):
        k = flat[s]
        m = k + wide
        top = gray[k] + fu[s] * (gray[k + one_on] - gray[k])
        low = gray[m] + fu[s] * (gray[m + one_on] - gray[m])
        val[s] = top + fv[s] * (low - top)
    s1, s2, s12 = np.float32(0), np.float32(0), np.float32(0)
    for s in range(SAMPLES):
        wv = weight[s] * val[s]
        s1 += wv
        s2 += wv * val[s]
        s12 += centered[s] * val[s]
    spread = s2 - s1 * s1
    if spread < np.float32(1.5):
        return np.float32(1.2)
    return one - s12 / np.sqrt(spread * var)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _cost(x, y, depth, nx, ny, nz, K, others, patch, var, best_of, bar, scratch):
    """Mean over the `best_of` neighbors that agree most: hidden ones do not spoil it.

    Stops early, with WORST, once the mean cannot fall below `bar` any more.
    """
    f = K[0]
    c = depth * (nx * ((x - K[1]) / f) + ny * ((y - K[2]) / f) + nz)
    if c > -1e-12:
        return np.float32(2.0)
    # m: the plane n X = c as a row on pixels, n^T K^-1 / c
    m0, m1 = nx / (c * f), ny / (c * f)
    m2 = nz / c - m0 * K[1] - m1 * K[2]
    costs = scratch[0]
    n = costs.shape[0]
    hopeless, allowed = 0, n - best_of
    for j in range(n):
        costs[j] = _correlation_cost(j, x, y, m0, m1, m2, others, patch, var, scratch)
        if costs[j] >= best_of * bar:
            hopeless += 1
            if hopeless > allowed:
                return np.float32(2.0)
    total = np.float32(0)
    for k in range(best_of):
        m = k
        for j in range(k + 1, n):
            if costs[j] < costs[m]:
                m = j
        costs[k], costs[m] = costs[m], costs[k]
        total += costs[k]
    return total / np.float32(best_of)


@njit(cache=True, nogil=True)
def sweep_planes(gray, K, others, near, far, depth, normal, cost, offsets, rounds, first_spread, seed, best_of):
    """Propagate and refine the planes of one photo, in place.

    gray (h, w) float32; others: an Others; near, far (h, w) float32 depth limits, far 0 where there is
    nothing to do; depth (h, w), normal (h, w, 3), cost (h, w) float32; first_spread: relative size of the
    first random depth steps.
    """
    np.random.seed(seed)
    h, w = gray.shape
    n = offsets.shape[0]
    dx, dy = offsets[:, 0].astype(np.float32), offsets[:, 1].astype(np.float32)
    weight, centered = np.empty(n, np.float32), np.empty(n, np.float32)
    patch = Patch(dx, dy, weight, centered)
    costs, flat = np.empty(others.grays.shape[0], np.float32), np.empty(n, np.uint32)
    scratch = Scratch(costs, flat, np.empty(n, np.float32), np.empty(n, np.float32), np.empty(n, np.float32))
    f, cx, cy = K[0], K[1], K[2]
    for r in range(rounds + 1):
        forward = r % 2 == 1
        spread = first_spread * 0.5 ** max(0, r - 1)
        turn = 0.6 * 0.6 ** max(0, r - 1)
        for yy in range(h):
            y = yy if forward else h - 1 - yy
            for xx in range(w):
                x = xx if forward else w - 1 - xx
                if far[y, x] <= 0:
                    continue
                var = _prepare(gray, x, y, offsets, np.float32(COLOR_SIGMA), weight, centered)
                if var < 1.0:
                    cost[y, x] = 2.0
                    continue
                if r == 0:
                    na, nb, nc = normal[y, x, 0], normal[y, x, 1], normal[y, x, 2]
                    cost[y, x] = _cost(
                        x, y, depth[y, x], na, nb, nc, K, others, patch, var, best_of, np.float32(COLOR_SIGMA), scratch
                    )
                    continue
                rx, ry = (x - cx) / f, (y - cy) / f
                best, d = cost[y, x], np.float64(depth[y, x])
                a, b, c = np.float64(normal[y, x, 0]), np.float64(normal[y, x, 1]), np.float64(normal[y, x, 2])
                step = -1 if forward else 1
                for k in range(4):
                    # the pixels just visited, beside and across, near and a little further
                    reach = step if k < 2 else 3 * step
                    u, v = (x + reach, y) if k % 2 == 0 else (x, y + reach)
                    if u < 0 or v < 0 or u >= w or v >= h or far[v, u] <= 0:
                        continue
                    ta, tb, tc = normal[v, u, 0], normal[v, u, 1], normal[v, u, 2]
                    den = ta * rx + tb * ry + tc
                    if den > -0.05:
                        continue
                    td = depth[v, u] * (ta * ((u - cx) / f) + tb * ((v - cy) / f) + tc) / den
                    if td < near[y, x] or td > far[y, x]:
                        continue
                    e = _cost(x, y, td, ta, tb, tc, K, others, patch, var, best_of, best, scratch)
                    if e < best:
                        best, d, a, b, c = e, td, ta, tb, tc
                for k in range(3):
                    td = d
                    ta, tb, tc = a, b, c
                    if k != 1:
                        td = d * (1.0 + spread * (2.0 * np.random.random() - 1.0))
                        if td < near[y, x] or td > far[y, x]:
                            continue
                    if k != 0:
                        ta = a + turn * (2.0 * np.random.random() - 1.0)
                        tb = b + turn * (2.0 * np.random.random() - 1.0)
                        tc = c + turn * (2.0 * np.random.random() - 1.0)
                        q = 1.0 / np.sqrt(ta * ta + tb * tb + tc * tc)
                        ta, tb, tc = ta * q, tb * q, tc * q
                    if ta * rx + tb * ry + tc > -0.1:
                        continue
                    e = _cost(x, y, td, ta, tb, tc, K, others, patch, var, best_of, best, scratch)
                    if e < best:
                        best, d, a, b, c = e, td, ta, tb, tc
                cost[y, x], depth[y, x] = best, d
                normal[y, x, 0], normal[y, x, 1], normal[y, x, 2] = a, b, c


def patch_offsets():
    """Pixel offsets (SAMPLES, 2) of the patch."""
    o = np.arange(-REACH, REACH + 1, STEP)
    return np.stack(np.meshgrid(o, o), -1).reshape(-1, 2).astype(np.int64)


def box_limits(view, box, shape, reach=(0.0, np.inf)):
    """Nearest and farthest depth (h, w) inside the keep box along each pixel's ray; far is 0 where it misses.

    reach : nearest and farthest depth that is asked for besides
    """
    h, w = shape
    v, u = np.mgrid[0:h, 0:w].astype(np.float64)
    f, cx, cy = view.K
    R, c = view.pose[:3, :3], -view.pose[:3, :3].T @ view.pose[:3, 3]
    rays = np.stack([(u - cx) / f, (v - cy) / f, np.ones_like(u)], -1) @ R  # world direction for depth 1
    o = box.axes.T @ (c - box.center)
    d = rays @ box.axes
    with np.errstate(divide="ignore", invalid="ignore"):
        a, b = (-box.half - o) / d, (box.half - o) / d
    near = np.nanmax(np.minimum(a, b), axis=-1)
    far = np.nanmin(np.maximum(a, b), axis=-1)
    near = np.maximum(near, max(reach[0], 1e-6))
    far = np.minimum(far, reach[1])
    far = np.where(far > near, far, 0.0)
    return near.astype(np.float32), far.astype(np.float32)


def _depths(view, points):
    """Depth (m,) of tie points (n, 3) before a photo."""
    z = points @ view.pose[2, :3] + view.pose[2, 3]
    return z[z > 0]


def _widened(near, far, view, points, reach):
    """Depth limits that reach over all that the photo's tie points say is there.

    Were they those of the keep box alone, surface behind or below it would be pressed into the box, and look right.
    """
    z = _depths(view, points)
    if len(z) < 8:
        return near, far
    low, high = np.percentile(z, (0.5, 99.5))
    low, high = max(0.95 * low, reach[0]), min(1.05 * high, reach[1])
    on = far > 0
    return (
        np.where(on, np.minimum(near, low), near).astype(np.float32),
        np.where(on, np.maximum(far, high), far).astype(np.float32),
    )


def _start_from_points(view, points, near, far, rng):
    """First planes: the depth of the nearest tie point in the picture, facing the camera."""
    h, w = near.shape
    f, cx, cy = view.K
    Y = points @ view.pose[:3, :3].T + view.pose[:3, 3]
    Y = Y[Y[:, 2] > 0]
    uv = Y[:, :2] / Y[:, 2:] * f + [cx, cy]
    keep = (uv >= 0).all(1) & (uv[:, 0] < w) & (uv[:, 1] < h)
    uv, z = uv[keep], Y[keep, 2]
    ys, xs = np.nonzero(far > 0)
    depth = np.zeros((h, w), np.float32)
    if len(z):
        _, i = scipy.spatial.cKDTree(uv).query(np.stack([xs, ys], 1), workers=1)
        guess = z[i] * (1 + 0.01 * rng.normal(size=len(ys)))
    else:
        a, b = 1 / far[ys, xs], 1 / near[ys, xs]
        guess = 1 / (a + rng.random(len(ys)) * (b - a))  # evenly along the other photos' lines
    depth[ys, xs] = np.clip(guess, near[ys, xs], far[ys, xs])
    rays = np.stack([(xs - cx) / f, (ys - cy) / f, np.ones(len(xs))], -1)
    n = -rays / np.linalg.norm(rays, axis=1, keepdims=True) + 0.3 * rng.normal(size=rays.shape)
    n /= np.linalg.norm(n, axis=1, keepdims=True)
    n[(n * rays).sum(1) > -0.1] = [0, 0, -1]
    normal = np.zeros((h, w, 3), np.float32)
    normal[ys, xs] = n
    return depth, normal


def _half(view):
    from ..imaging.filters import halve_by_area, halve_mask

    f, cx, cy = view.K
    K = np.array([f / 2, (cx + 0.5) / 2 - 0.5, (cy + 0.5) / 2 - 0.5])
    return View(halve_by_area(view.gray), halve_mask(view.mask), K, view.pose)


def _matrix(K):
    return np.array([[K[0], 0, K[1]], [0, K[0], K[2]], [0, 0, 1.0]])


def _level(view, neighbors, near, far, depth, normal, rounds, spread, seed):
    h = max(n.gray.shape[0] for n in neighbors)
    w = max(n.gray.shape[1] for n in neighbors)
    grays = np.zeros((len(neighbors), h, w), np.float32)
    A, B = np.empty((len(neighbors), 3, 3)), np.empty((len(neighbors), 3))
    K_inv = np.linalg.inv(_matrix(view.K))
    for j, n in enumerate(neighbors):
        grays[j, : n.gray.shape[0], : n.gray.shape[1]] = n.gray
        E = n.pose @ np.linalg.inv(view.pose)
        A[j], B[j] = _matrix(n.K) @ E[:3, :3] @ K_inv, _matrix(n.K) @ E[:3, 3]
    cost = np.full(view.gray.shape, WORST, np.float32)
    best_of = 1 if len(neighbors) == 1 else (2 if len(neighbors) < 5 else 3)
    others = Others(A, B, grays.reshape(len(neighbors), -1), w, h)
    sweep_planes(
        view.gray, view.K, others, near, far, depth, normal, cost, patch_offsets(), rounds, spread, seed, best_of
    )  # fmt: skip
    return cost


def _planes_of_coarse(small, depth, normal, view, near, far):
    """Planes (depth, normal) for a view from those of its half: each pixel takes that of the nearest which has one."""
    h, w = view.gray.shape
    ys, xs = np.nonzero(far > 0)
    known = small.mask & (depth > 0)
    full_depth, full_normal = np.zeros((h, w), np.float32), np.zeros((h, w, 3), np.float32)
    if known.any() and len(ys):
        iy, ix = scipy.ndimage.distance_transform_edt(~known, return_distances=False, return_indices=True)
        sy, sx = np.minimum(ys // 2, known.shape[0] - 1), np.minimum(xs // 2, known.shape[1] - 1)
        sy, sx = iy[sy, sx], ix[sy, sx]
        n, d = normal[sy, sx].astype(float), depth[sy, sx].astype(float)
        fs, cxs, cys = small.K
        f, cx, cy = view.K
        c = d * (n[:, 0] * (sx - cxs) / fs + n[:, 1] * (sy - cys) / fs + n[:, 2])
        den = n[:, 0] * (xs - cx) / f + n[:, 1] * (ys - cy) / f + n[:, 2]
        z = np.where(den < -0.05, c / np.where(den < -0.05, den, -1.0), d)
        full_depth[ys, xs] = np.clip(z, near[ys, xs], far[ys, xs])
        full_normal[ys, xs] = np.where((den < -0.05)[:, None], n, [0, 0, -1.0])
    return full_depth, full_normal


def depth_map(view, neighbors, box, points, *, seed=0, rounds=3, reach=(0.0, np.inf)):
    """Depth, normal and score of one photo.

    Parameters
    ----------
    view : View
    neighbors : list of View
        Photos that see the same surface from useful angles, best first.
    box : KeepBox
    points : (n, 3)
        Tie points this photo sees.
    rounds : int
        Sweeps at the working scale, after as many plus two at each coarser one.
    reach : (float, float)
        Nearest and farthest depth, along the optical axis, within the keep box.

    Returns
    -------
    DepthMap
        Negative where the surface that is seen lies outside the keep box: such pixels prove that the space in front is
        empty.
    """
    rng = np.random.default_rng(seed)
    pyramid = [(view, neighbors)]
    for _ in range(LEVELS - 1):
        pyramid.append((_half(pyramid[-1][0]), [_half(n) for n in pyramid[-1][1]]))
    depth = normal = coarse = None
    for k, (v, others) in reversed(list(enumerate(pyramid))):
        first, last = box_limits(v, box, v.gray.shape, reach)
        last = np.where(v.mask, last, 0).astype(np.float32)
        near, far = _widened(first, last, v, points, reach)
        if coarse is None:
            depth, normal = _start_from_points(v, points, near, far, rng)
        else:
            depth, normal = _planes_of_coarse(coarse, depth, normal, v, near, far)
        coarse = v
        more, spread = (0, 0.004) if k == 0 else (2, 0.02)
        cost = _level(v, others, near, far, depth, normal, rounds + more, spread, seed + (k == 0))
    beyond = (depth < first) | (depth > last)
    depth[beyond] *= -1
    return DepthMap(depth, normal, np.clip(1.0 - cost, -1, 1).astype(np.float32))
