"""Depth maps: how far away the surface is at every pixel of a photo, and how it slants there.

Each pixel carries a small plane. A plane is right when the patches it predicts in the neighbor photos look like the
patch in this photo (`patch`). Planes are found from coarse to fine (`sweep`); then the surface bends: slopes and second
order come from the depth round a pixel (`bend`), and the depth alone is found anew from the photos.

A photo's map is computed by one thread from its own seed: the result does not depend on how many
photos are computed side by side.
"""

from dataclasses import dataclass, replace

import numpy as np
import scipy
from numba import njit

from ..imaging.filters import beyond_slopes, halve_by_area, halve_mask
from ..lanes import cells
from .bend import disc, fit_bends
from .patch import NOTHING, WORST, neighbor_row, places, support
from .shine import highlights
from .sweep import HOPEFUL, Planes, Task, look_for_detail, refine, sweep

LEVELS = 2  #: scales, each half of the one before it, the working scale included
BENT_ROUNDS = 2  #: times that slopes and second order are taken from the surroundings, and depth found anew with them
CLEAR = 0.01  #: share of its depth by which surface is beyond the keep box for sure
BAND = 4  #: pixels round other surface that are looked at closely all the same
SMALLEST = 8  #: pixels of a crop, so that it can be halved
SUPPORTS = (3.2, 1), (6.0, 2)  #: of patches where texture is strong, and where it is faint: see `patch.support`
FAINT = 4.0  #: texture's variance and noise's together, in that of noise, below which a patch must be large
#: the same for variances that are small in themselves, in squares of a gray level: compression leaves as much
FAINTER, FAINT_VAR = 20.0, 2.0
PLAIN = 5  #: percent of a picture with the least texture, in which noise is measured
LEAST_DETAIL = 0.4  #: correlation beyond a gradient below which nothing but shading matches
#: of a photo's pixels that show nothing but shading, from which on others must be as much alike as clear marks are
PLAIN_SHARE, MARKED_DETAIL = 0.6, 0.75
DETAIL_AROUND, DETAIL_FURTHER = 5, 21  #: pixels across, over which that is averaged
NOISE = 2.0  #: standard deviations: what a pixel departs from its surroundings counts as far as it is more
NEIGHBOR_MARGIN = 16  #: pixels of a neighbor beyond its mask that are still read


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
    """Depth along z (0 where unknown, negative outside the keep box), unit normals in the camera frame, correlation.

    And what the texture leaves unknown of the depth: its standard deviation, as a share of it.
    """

    depth: np.ndarray
    normal: np.ndarray
    score: np.ndarray
    noise: np.ndarray


def box_limits(view, box, shape, reach=(0.0, np.inf)):
    """Nearest and farthest depth (h, w) float32 inside the keep box along each pixel's ray; far is 0 where it misses.

    reach : nearest and farthest depth that is asked for besides
    """
    near, far = np.empty(shape, np.float32), np.empty(shape, np.float32)
    R, c = view.pose[:3, :3], -view.pose[:3, :3].T @ view.pose[:3, 3]
    from_middle, along = box.axes.T @ (c - box.center), np.ascontiguousarray((R @ box.axes).T)
    _box_limits(view.K, from_middle, along, box.half, max(reach[0], 1e-6), float(reach[1]), near, far)
    return near, far


@njit(cache=True, nogil=True, error_model="numpy")
def _box_limits(K, origin, along, half, nearest, farthest, near, far):
    """`box_limits` along the box's axes: origin (3,) of the rays, along (3, 3) what a ray's x, y, 1 are there."""
    h, w = near.shape
    for v in range(h):
        y = (v - K[2]) / K[0]
        for u in range(w):
            x = (u - K[1]) / K[0]
            first, last = nearest, farthest
            for k in range(3):
                d = along[k, 0] * x + along[k, 1] * y + along[k, 2]
                if d == 0.0:
                    if abs(origin[k]) > half[k]:
                        last = 0.0
                    continue
                a, b = (-half[k] - origin[k]) / d, (half[k] - origin[k]) / d
                first, last = max(first, min(a, b)), min(last, max(a, b))
            near[v, u], far[v, u] = first, last if last > first else 0.0


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


def _start_from_points(view, points, low, high, rng):
    """First planes (h, w, 3): the depth of the nearest tie point in the picture, facing the camera more or less."""
    h, w = high.shape
    f, cx, cy = view.K
    Y = points @ view.pose[:3, :3].T + view.pose[:3, 3]
    Y = Y[Y[:, 2] > 0]
    uv = Y[:, :2] / Y[:, 2:] * f + [cx, cy]
    keep = (uv >= 0).all(1) & (uv[:, 0] < w) & (uv[:, 1] < h)
    uv, z = uv[keep], Y[keep, 2]
    ys, xs = np.nonzero(high > 0)
    if len(z):
        _, i = scipy.spatial.cKDTree(uv).query(np.stack([xs, ys], 1), workers=1)
        inverse = 1 / (z[i] * (1 + 0.01 * rng.normal(size=len(ys))))
    else:  # evenly along the other photos' lines
        inverse = low[ys, xs] + rng.random(len(ys)) * (high[ys, xs] - low[ys, xs])
    plane = np.zeros((h, w, 3), np.float32)
    plane[ys, xs, 0] = np.clip(inverse, low[ys, xs], high[ys, xs])
    plane[ys, xs, 1:] = 0.3 / f * inverse[:, None] * rng.normal(size=(len(ys), 2))
    return plane


def cropped(view, margin=0, step=2 ** (LEVELS - 1)):
    """What a view's mask leaves of it, `margin` pixels wider, and its first row and column there.

    Both are multiples of `step`: even at every scale, so that halves of the crop are the crop of halves. A crop of a
    crop that had as much margin and a multiple of the step is the crop of the whole.
    """
    span = []
    for axis in (1, 0):
        on = np.flatnonzero(view.mask.any(axis))
        first, last = (on[0] - margin, on[-1] + 1 + margin) if len(on) else (0, 0)
        first = max(first, 0) // step * step
        span.append((int(first), int(max(last, first + SMALLEST))))
    (y, y1), (x, x1) = span
    part = np.s_[y:y1, x:x1]
    return View(view.gray[part], view.mask[part], view.K - [0.0, x, y], view.pose), y, x


def _half(view):
    f, cx, cy = view.K
    K = np.array([f / 2, (cx + 0.5) / 2 - 0.5, (cy + 0.5) / 2 - 0.5])
    return View(halve_by_area(view.gray), halve_mask(view.mask), K, view.pose)


def _matrix(K):
    return np.array([[K[0], 0, K[1]], [0, K[0], K[2]], [0, 0, 1.0]])


def _faint(gray, mask):
    """Where texture is so faint that noise hides it in a small patch: (h, w) uint8.

    What an even gradient explains is no texture: it is shading, and tells nothing of the depth.
    """
    size = 7
    with np.errstate(invalid="ignore", divide="ignore"):
        on = scipy.ndimage.uniform_filter(mask.astype(np.float32), size)
        mean = scipy.ndimage.uniform_filter(np.where(mask, gray, 0), size) / on
        square = scipy.ndimage.uniform_filter(np.where(mask, gray, 0) ** 2, size) / on
    even = np.where(mask, gray, np.where(on > 0.5 / size**2, mean, 0)).astype(np.float32)
    way = np.arange(size) - size // 2
    spread = float((way**2).mean())
    for axis in (0, 1):
        across = scipy.ndimage.uniform_filter1d(even, size, axis=1 - axis)
        slope = scipy.ndimage.correlate1d(across, way / (size * spread), axis=axis)
        square -= slope**2 * spread
    var = np.where(mask, square - mean**2, np.inf)
    plain = var <= np.percentile(var[mask], PLAIN) if mask.any() else mask
    noise = np.sqrt(np.mean(beyond_slopes(gray)[plain] ** 2)) / 6 if plain.any() else 0
    return (var < max(FAINT * noise**2, min(FAINTER * noise**2, FAINT_VAR))).astype(np.uint8)


def best_of(neighbors):
    """How many of so many neighbors count for a pixel: those that agree most, so that hidden ones do not spoil it."""
    return 1 if neighbors == 1 else (2 if neighbors < 5 else 3)


def _task(view, neighbors, low, high):
    """What a sweep over a view reads."""
    faint = _faint(view.gray, view.mask)  # before there are the pictures: it needs as much memory for a moment
    h = max(n.gray.shape[0] for n in neighbors)
    w = max(n.gray.shape[1] for n in neighbors)
    pictures, rows, shift = np.zeros((len(neighbors), h, w, 4), np.int16), [], []
    K_inv = np.linalg.inv(_matrix(view.K))
    for j, n in enumerate(neighbors):
        cells(n.gray, pictures[j])
        E = n.pose @ np.linalg.inv(view.pose)
        A, B = _matrix(n.K) @ E[:3, :3] @ K_inv, _matrix(n.K) @ E[:3, 3]
        rows.append(neighbor_row(A, B, n.gray.shape[1], n.gray.shape[0]))
        shift.append(np.hypot(*(B[:2] - n.K[1:] * B[2])))
    pixel = 1.0 / max(float(np.median(shift)), 1e-30)
    # what the mask leaves out moves in its own way, and its edge with the object's rim: it does not count in a patch
    gray = np.where(view.mask, view.gray, NOTHING).astype(np.float32)
    pattern = np.stack([support(*x) for x in SUPPORTS])
    return Task(
        gray, float(view.K[0]), low, high, np.array(rows), pictures, pattern, places(pattern, gray.shape[1]),
        faint, best_of(len(neighbors)), pixel,
    )  # fmt: skip


def _planes_of_coarse(small, planes, view, low, high):
    """Planes for a view from those of its half: each pixel takes that of the nearest which has one."""
    ys, xs = np.nonzero(high > 0)
    known = small.mask & (planes.plane[:, :, 0] > 0)
    out = _no_planes(view)
    if known.any() and len(ys):
        iy, ix = scipy.ndimage.distance_transform_edt(~known, return_distances=False, return_indices=True)
        sy, sx = np.minimum(ys // 2, known.shape[0] - 1), np.minimum(xs // 2, known.shape[1] - 1)
        sy, sx = iy[sy, sx], ix[sy, sx]
        z, gx, gy = planes.plane[sy, sx].astype(float).T
        z = z + gx * ((xs + 0.5) / 2 - 0.5 - sx) + gy * ((ys + 0.5) / 2 - 0.5 - sy)
        out.plane[ys, xs, 0] = np.clip(z, low[ys, xs], high[ys, xs])
        out.plane[ys, xs, 1], out.plane[ys, xs, 2] = gx / 2, gy / 2
        out.seen_by[ys, xs], out.cost[ys, xs] = planes.seen_by[sy, sx], planes.cost[sy, sx]
    return out


def _without(coarse, view, neighbors):
    """A view whose mask leaves out what is marked in its half, and its neighbors as they are."""
    h, w = view.mask.shape
    marked = np.pad(coarse.repeat(2, 0).repeat(2, 1), ((0, 1), (0, 1)))[:h, :w]  # a half leaves an odd last row out
    return replace(view, mask=view.mask & ~marked), neighbors


def _no_planes(view):
    """Planes of a view before any is known."""
    h, w = view.gray.shape
    return Planes(
        np.zeros((h, w, 3), np.float32), np.full((h, w), WORST, np.float32), np.zeros((h, w), np.uint16)
    )  # fmt: skip


def _elsewhere(planes, first, last):
    """Where what is seen lies before or behind the keep box for sure, and not near a place where it does not: (h, w).

    Such surface is never measured: it says only that the space before it is empty, which half the scale tells as well.
    """
    with np.errstate(divide="ignore"):
        z = np.where(planes.plane[:, :, 0] > 0, 1 / planes.plane[:, :, 0], 0)
    away = (z > 0) & ((z < (1 - CLEAR) * first) | (z > (1 + CLEAR) * last)) & (planes.cost < HOPEFUL)
    return scipy.ndimage.binary_erosion(away, iterations=BAND, border_value=1)


@njit(cache=True, nogil=True, error_model="numpy")
def _depth_and_normal(K, plane, first, last, depth, normal):
    """Fill depth (h, w), negative where it is not from `first` to `last` (h, w), and normals (h, w, 3) of planes."""
    f, cx, cy = K
    for y in range(plane.shape[0]):
        for x in range(plane.shape[1]):
            z = np.float64(plane[y, x, 0])
            if not z > 0:
                continue
            gx, gy = np.float64(plane[y, x, 1]), np.float64(plane[y, x, 2])
            a, b, c = f * gx, f * gy, z - gx * (x - cx) - gy * (y - cy)
            length = np.sqrt(a * a + b * b + c * c)
            d = np.float32(1 / z)
            depth[y, x] = -d if d < first[y, x] or d > last[y, x] else d
            normal[y, x, 0], normal[y, x, 1], normal[y, x, 2] = -a / length, -b / length, -c / length


def _refined(task, planes):
    """Refine planes by how the surface bends round them.

    Returns the standard deviation of the depth (h, w), as a share of it; 1 where it is not known.
    """
    shape, table = task.gray.shape, disc()
    slopes, bends = np.empty((*shape, 2), np.float32), np.empty((*shape, 3), np.float32)
    smooth, sigma = np.empty(shape, np.float32), np.zeros(shape, np.float32)
    for k in range(BENT_ROUNDS):
        fit_bends(planes.plane, planes.cost, task.high, table, task.pixel, slopes, bends, smooth)
        refine(task, planes, slopes, bends, sigma, k == 0)
    fit_bends(planes.plane, planes.cost, task.high, table, task.pixel, slopes, bends, smooth)
    z = planes.plane[:, :, 0]
    off, noise = z - smooth, (NOISE * sigma) ** 2
    with np.errstate(invalid="ignore", divide="ignore"):
        z -= np.where(noise > 0, noise / (noise + off**2) * off, 0)
        return np.where((z > 0) & (sigma > 0), sigma / z, 1.0).astype(np.float32)


def _shading(alike, on):
    """Where patches match by nothing but an even gradient, which shading has and which matches anywhere: (h, w) bool.

    A pixel is judged together with those round it: where hardly any of them shows detail, those that seem to do so by
    chance.

    alike : see `sweep.look_for_detail`; on (h, w) bool : the pixels that have any
    """

    def below(size, least):
        share = scipy.ndimage.uniform_filter(on.astype(np.float32), size)
        return scipy.ndimage.uniform_filter(alike, size) < least * share

    out = below(DETAIL_AROUND, LEAST_DETAIL) | below(DETAIL_FURTHER, 0.9 * LEAST_DETAIL)
    if on.any() and np.mean(out[on]) > PLAIN_SHARE:
        # of an object that is plain nearly everywhere the rest shows bends of its shading, but for clear marks
        out |= below(DETAIL_AROUND, MARKED_DETAIL)
    return out


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
    whole, (view, y, x) = view.gray.shape, cropped(view)
    inside = box_limits(view, box, view.gray.shape, reach)[1] > 0
    view, dy, dx = cropped(View(view.gray, view.mask & inside, view.K, view.pose))
    y, x = y + dy, x + dx
    pyramid = [(view, [cropped(n, NEIGHBOR_MARGIN)[0] for n in neighbors])]
    for _ in range(LEVELS - 1):
        pyramid.append((_half(pyramid[-1][0]), [_half(n) for n in pyramid[-1][1]]))
    planes = coarse = None
    for k in reversed(range(LEVELS)):
        v, others = pyramid.pop()  # what is done with is held no longer: of a large photo that is gigabytes
        first, last = box_limits(v, box, v.gray.shape, reach)
        last = np.where(v.mask, last, 0).astype(np.float32)
        near, far = _widened(first, last, v, points, reach)
        with np.errstate(divide="ignore"):
            low, high = (np.where(far > 0, 1 / x, 0).astype(np.float32) for x in (far, near))
        del near, far
        if coarse is None:
            planes = _no_planes(v)
            planes.plane[:] = _start_from_points(v, points, low, high, rng)
        else:
            planes = _planes_of_coarse(coarse, planes, v, low, high)
        coarse = v
        task = None
        if k == 0:
            high[_elsewhere(planes, first, last)] = 0
        task = _task(v, others, low, high)
        if k:
            # where no tie point tells where to begin, more is left to chance
            sweep(task, planes, rounds + (1 if len(points) else 3), 2, 1, 0.02, seed + k)
            pyramid[-1] = _without(highlights(task, planes), *pyramid[-1])
        else:
            sweep(task, planes, rounds, 1, 1, 0.004, seed + k)
    noise = _refined(task, planes)
    alike = np.empty(view.gray.shape, np.float32)
    look_for_detail(task, planes, alike)
    on = task.high > 0
    del task, low, high
    planes.plane[_shading(alike, on)] = 0
    out = DepthMap(*(np.zeros((*whole, *more), np.float32) for more in ((), (3,), (), ())))
    part = np.s_[y : y + on.shape[0], x : x + on.shape[1]]
    _depth_and_normal(view.K, planes.plane, first, last, out.depth[part], out.normal[part])
    np.clip(np.float32(1) - planes.cost, -1, 1, out=out.score[part])
    out.noise[part] = noise
    return out
