"""Masks from a rough surface: it is drawn into a photo, and what the photo sees there must be it."""

import numpy as np
import scipy

from .clean import tidy

COVER = 1.3  #: radius of the disc a point is drawn as, in spacings of the points
SURE = 0.6  #: likeness from which a depth map is believed that something else is seen


def pixel_grid(lens, step):
    """Where the rays of every `step`-th pixel of a photo go: normalized coordinates (h / step, w / step, 2)."""
    v, u = np.mgrid[0 : lens.height : step, 0 : lens.width : step].astype(float)
    middle = (step - 1) / 2
    return lens.unproject(np.stack([u.ravel() + middle, v.ravel() + middle], 1)).reshape(*u.shape, 2)


def drawn(points, spacing, lens, pose, step):
    """Where a surface of points lies in a photo: (h / step, w / step) bool.

    points : (n, 3); spacing : of the points; pose : (4, 4) world to camera; step : photo pixels per pixel drawn
    """
    h, w = -(-lens.height // step), -(-lens.width // step)
    Y = points @ pose[:3, :3].T + pose[:3, 3]
    Y = Y[Y[:, 2] > 1e-9]
    hit = np.zeros((h, w), bool)
    if not len(Y):
        return hit
    x, y = np.floor((lens.project(Y[:, :2] / Y[:, 2:]) + 0.5) / step).astype(int).T
    there = (x >= 0) & (y >= 0) & (x < w) & (y < h)
    hit[y[there], x[there]] = True
    if not there.any():
        return hit
    radius = max(1.0, COVER * spacing * lens.f / float(np.median(Y[there, 2])) / step)
    # a hole between points is smaller than two discs: closing fills it and leaves the outline where it is
    grown = scipy.ndimage.distance_transform_edt(~hit) <= radius
    return ~(scipy.ndimage.distance_transform_edt(grown) <= radius) & grown


def seen_elsewhere(depth, score, pinhole, grid):
    """Pixels of a grid (h, w, 2) at which a photo sees something outside the keep box, by its depth map.

    depth : (k, l), negative outside the keep box; score : (k, l) 0 to 1; pinhole : (f, cx, cy) of the map
    """
    f, cx, cy = pinhole
    out = (depth < 0) & (score >= SURE)
    out = scipy.ndimage.binary_opening(out, iterations=1)
    x, y = np.round(f * grid[..., 0] + cx).astype(int), np.round(f * grid[..., 1] + cy).astype(int)
    there = (x >= 0) & (y >= 0) & (x < depth.shape[1]) & (y < depth.shape[0])
    seen = np.zeros(there.shape, bool)
    seen[there] = out[y[there], x[there]]
    return seen


def finished(mask, shape, step, margin_px, holes=0.02):
    """A drawn mask at the photo's size `shape` (h, w), with a margin in photo pixels (negative: narrower)."""
    small = tidy(mask, largest=True, holes=holes, open_px=1)
    full = np.repeat(np.repeat(small, step, 0), step, 1)[: shape[0], : shape[1]]
    if margin_px > 0:
        return scipy.ndimage.distance_transform_edt(~full) <= margin_px
    if margin_px < 0:
        return scipy.ndimage.distance_transform_edt(full) > -margin_px
    return full


def carve(box, outlines, cells=128, missing=1):
    """The shape that outlines leave of a box: middles of its outer cells (n, 3), and the size of a cell.

    What lies outside more than `missing` of the masks that can see it is carved away (visual hull, Laurentini 1994).

    Parameters
    ----------
    box : KeepBox
    outlines : list of (mask (h, w) bool, Lens, pose (4, 4))
    """
    size = 2 * box.half.max() / cells
    n = np.maximum(1, np.ceil(2 * box.half / size).astype(int))
    axes = [(np.arange(k) + 0.5) * size - h for k, h in zip(n, box.half, strict=True)]
    full = np.zeros(n, np.uint8)
    X = np.stack(np.meshgrid(*axes, indexing="ij"), -1).reshape(-1, 3) @ box.axes.T + box.center
    out = full.reshape(-1)
    for mask, lens, pose in outlines:
        left = np.flatnonzero(out <= missing)
        Y = X[left] @ pose[:3, :3].T + pose[:3, 3]
        front = Y[:, 2] > 1e-9
        x, y = np.round(lens.project(Y[:, :2] / np.where(front, Y[:, 2], 1.0)[:, None])).astype(int).T
        h, w = mask.shape
        there = front & (x >= 0) & (y >= 0) & (x < w) & (y < h)
        bad = np.zeros(len(left), bool)
        bad[there] = ~mask[y[there], x[there]]
        out[left[bad]] += 1
    inside = out.reshape(n) <= missing
    shell = inside & ~scipy.ndimage.binary_erosion(inside, np.array(
        [[[abs(a) + abs(b) + abs(c) <= 1 for c in (-1, 0, 1)] for b in (-1, 0, 1)] for a in (-1, 0, 1)]
    ))  # fmt: skip
    return X[shell.ravel()], size
