"""Key points: places in a photo that can be found again in another photo of the same surface.

Extrema of the difference-of-Gaussian scale space, localized by a quadratic fit, with one or more
dominant gradient directions each (Lowe 2004). What is added here is the choice of which to keep:
strongest first within each part of the picture, so that one speckled corner does not take them all.

How strong they must be: where a picture shows enough that is clear, only that counts. Where it does not (fired clay,
plaster, bone), whatever stands out of the picture's own noise does. The noise is measured in its smoothest parts
(Immerkaer 1996, Fast noise variance estimation), and how much of it is left at each scale follows from how that is
blurred; a place is as good as it stands above that.
"""

from dataclasses import dataclass

import numpy as np
import scipy
from numba import njit

from ..imaging.filters import beyond_slopes, gaussian_blur
from .describe import SIZE, describe, turn_of

LEVELS = 3  #: scales in an octave
BASE_SIGMA = 1.6
CAMERA_SIGMA = 0.5  #: blur that a photo is taken to have
EDGE_RATIO = 10.0
#: the Gaussian by which gradients count for a direction, by the squared distance in sigmas, in steps of 1/64
AROUND = np.exp(-0.5 * np.arange(0, 20.0, 1 / 64)).astype(np.float32)
CLEAR = 0.006  #: difference of Gaussians of places that are clear on any photo
FEW = 0.08  #: share of the places that may be kept: where fewer are clear, fainter ones are taken too
ABOVE = 3.2  #: times the noise at its scale that a faint place stands out
FAINTEST = 3e-4  #: difference of Gaussians: less is what eight bits cannot tell
SMOOTH_SHARE = 0.2  #: of a picture's parts, the smoothest: noise is measured there
PART = 16  #: pixels along such a part
CELL_SHARE = 12  #: the picture is divided into this many cells along its longer side


@dataclass(frozen=True)
class Features:
    """Key points of one photo.

    Attributes
    ----------
    xy : (n, 2) float32
        Pixels of the full-size photo.
    scale, angle : (n,) float32
        Gaussian sigma in pixels; direction in radians, x towards y.
    descriptors : (n, 128) uint8
        Square roots of the normalized histogram, times 512 (see `describe`).
    """

    xy: np.ndarray
    scale: np.ndarray
    angle: np.ndarray
    descriptors: np.ndarray

    def __len__(self):
        return len(self.xy)

    @classmethod
    def none(cls):
        """No key points."""
        flat = np.zeros(0, np.float32)
        return cls(np.zeros((0, 2), np.float32), flat, flat, np.zeros((0, SIZE), np.uint8))

    def magnified(self, factor):
        """The same features in a picture `factor` times larger, pixel edges kept (see `halve_by_area`)."""
        if factor == 1:
            return self
        xy = self.xy * np.float32(factor) + np.float32((factor - 1) / 2)
        return Features(xy, self.scale * np.float32(factor), self.angle, self.descriptors)

    def arrays(self):
        """The four arrays by name, as they are stored."""
        return {"xy": self.xy, "scale": self.scale, "angle": self.angle, "descriptors": self.descriptors}


@njit(cache=True, nogil=True)
def _extrema(dog, least, edge, out):
    """Localized extrema of a DoG stack (levels, h, w): rows of (x, y, level, response); returns the count.

    least (levels,) : response that is asked for at each level
    """
    n_levels, h, w = dog.shape
    count = 0
    border = 8
    for s in range(1, n_levels - 1):
        threshold = least[s]
        for y in range(border, h - border):
            for x in range(border, w - border):
                v = dog[s, y, x]
                if abs(v) < 0.8 * threshold:
                    continue
                # the eight neighbors in the same level first: they reject most
                peak = True
                for k in range(9):
                    dy, dx = k // 3 - 1, k % 3 - 1
                    if dy == 0 and dx == 0:
                        continue
                    q = dog[s, y + dy, x + dx]
                    if (v > 0 and q >= v) or (v < 0 and q <= v):
                        peak = False
                        break
                if not peak:
                    continue
                for k in range(18):
                    ds = -1 if k < 9 else 1
                    dy, dx = (k % 9) // 3 - 1, k % 3 - 1
                    q = dog[s + ds, y + dy, x + dx]
                    if (v > 0 and q > v) or (v < 0 and q < v):
                        peak = False
                        break
                if not peak:
                    continue
                # quadratic fit, moving to the neighbor when the top lies there
                cs, cy, cx = s, y, x
                found = False
                ox = oy = os = 0.0
                value = 0.0
                for _ in range(5):
                    c = dog[cs, cy, cx]
                    gx = 0.5 * (dog[cs, cy, cx + 1] - dog[cs, cy, cx - 1])
                    gy = 0.5 * (dog[cs, cy + 1, cx] - dog[cs, cy - 1, cx])
                    gs = 0.5 * (dog[cs + 1, cy, cx] - dog[cs - 1, cy, cx])
                    hxx = dog[cs, cy, cx + 1] + dog[cs, cy, cx - 1] - 2 * c
                    hyy = dog[cs, cy + 1, cx] + dog[cs, cy - 1, cx] - 2 * c
                    hss = dog[cs + 1, cy, cx] + dog[cs - 1, cy, cx] - 2 * c
                    hxy = 0.25 * (
                        dog[cs, cy + 1, cx + 1]
                        - dog[cs, cy + 1, cx - 1]
                        - dog[cs, cy - 1, cx + 1]
                        + dog[cs, cy - 1, cx - 1]
                    )
                    hxs = 0.25 * (
                        dog[cs + 1, cy, cx + 1]
                        - dog[cs + 1, cy, cx - 1]
                        - dog[cs - 1, cy, cx + 1]
                        + dog[cs - 1, cy, cx - 1]
                    )
                    hys = 0.25 * (
                        dog[cs + 1, cy + 1, cx]
                        - dog[cs + 1, cy - 1, cx]
                        - dog[cs - 1, cy + 1, cx]
                        + dog[cs - 1, cy - 1, cx]
                    )
                    a, b, d = hyy * hss - hys * hys, hxs * hys - hxy * hss, hxy * hys - hxs * hyy
                    det = hxx * a + hxy * b + hxs * d
                    if abs(det) < 1e-20:
                        break
                    e, f, g = hxx * hss - hxs * hxs, hxs * hxy - hxx * hys, hxx * hyy - hxy * hxy
                    ox = -(a * gx + b * gy + d * gs) / det
                    oy = -(b * gx + e * gy + f * gs) / det
                    os = -(d * gx + f * gy + g * gs) / det
                    if abs(ox) <= 0.6 and abs(oy) <= 0.6 and abs(os) <= 0.6:
                        value = c + 0.5 * (gx * ox + gy * oy + gs * os)
                        tr, dt = hxx + hyy, hxx * hyy - hxy * hxy
                        found = dt > 0 and tr * tr * edge < (edge + 1) ** 2 * dt
                        break
                    cx += int(np.round(max(-1.0, min(1.0, ox))))
                    cy += int(np.round(max(-1.0, min(1.0, oy))))
                    cs += int(np.round(max(-1.0, min(1.0, os))))
                    if (
                        cs < 1
                        or cs > n_levels - 2
                        or cx < border
                        or cy < border
                        or cx >= w - border
                        or cy >= h - border
                    ):
                        break
                if found and abs(value) >= threshold and count < out.shape[0]:
                    out[count, 0], out[count, 1], out[count, 2], out[count, 3] = cx + ox, cy + oy, cs + os, abs(value)
                    count += 1
    return count


@njit(cache=True, nogil=True)
def _directions(gauss, points, fall, out):
    """Dominant gradient directions: rows (index, angle); up to three a point. Returns the count."""
    _, h, w = gauss.shape
    count = 0
    hist = np.empty(36, np.float32)
    smooth = np.empty(36)
    for i in range(points.shape[0]):
        x, y = points[i, 0], points[i, 1]
        sigma = 1.5 * points[i, 3]
        level = int(points[i, 2])
        r = int(np.ceil(3.0 * sigma))
        ix, iy = int(np.round(x)), int(np.round(y))
        hist[:] = 0.0
        r2, reach = np.float32(r * r), np.float32(sigma)
        for v in range(max(1, iy - r), min(h - 1, iy + r + 1)):
            for u in range(max(1, ix - r), min(w - 1, ix + r + 1)):
                d2 = np.float32((u - x) ** 2 + (v - y) ** 2)
                if d2 > r2:
                    continue
                gx = gauss[level, v, u + 1] - gauss[level, v, u - 1]
                gy = gauss[level, v + 1, u] - gauss[level, v - 1, u]
                m = np.sqrt(gx * gx + gy * gy) * fall[int(d2 / (reach * reach) * np.float32(64.0))]
                hist[int(turn_of(gy, gx) * np.float32(36.0)) % 36] += m
        for _ in range(2):
            for b in range(36):
                smooth[b] = (
                    6 * hist[b] + 4 * (hist[b - 1] + hist[(b + 1) % 36]) + hist[b - 2] + hist[(b + 2) % 36]
                ) / 16.0
            hist[:] = smooth
        top = hist.max()
        given = 0
        for b in range(36):
            l, c, g = hist[b - 1], hist[b], hist[(b + 1) % 36]
            if c > l and c > g and c >= 0.8 * top and given < 3 and count < out.shape[0]:
                o = 0.5 * (l - g) / (l - 2 * c + g)
                out[count, 0], out[count, 1] = i, (b + 0.5 + o) * (2 * np.pi / 36.0)
                count += 1
                given += 1
    return count


def keep_spread(xy, response, limit, shape):
    """Indices of at most `limit` points: the strongest of every cell first, then the second of every cell, ..."""
    if len(xy) <= limit:
        return np.arange(len(xy))
    size = max(shape) / CELL_SHARE
    cell = (xy[:, 1] // size).astype(np.int64) * 1000 + (xy[:, 0] // size).astype(np.int64)
    order = np.lexsort((-response, cell))
    first = np.r_[True, cell[order][1:] != cell[order][:-1]]
    start = np.maximum.accumulate(np.where(first, np.arange(len(order)), 0))
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order)) - start
    return np.sort(np.lexsort((-response, rank))[:limit])


def noise_of(gray, inside=None):
    """The standard deviation of a picture's noise, by its smoothest parts, in the unit of its values.

    Parameters
    ----------
    gray : (h, w) float32
    inside : (h, w) bool, optional
        Only parts that lie in it count.
    """
    d = np.abs(beyond_slopes(gray.astype(np.float32)))
    rows, cols = d.shape[0] // PART, d.shape[1] // PART
    if not rows or not cols:
        return 0.0
    parts = d[: rows * PART, : cols * PART].reshape(rows, PART, cols, PART)
    mean = parts.mean((1, 3)).astype(np.float64) * np.sqrt(np.pi / 2) / 6
    if inside is not None:
        whole = inside[: rows * PART, : cols * PART].reshape(rows, PART, cols, PART).all((1, 3))
        mean = mean[whole] if whole.any() else mean.ravel()
    return float(np.quantile(mean, SMOOTH_SHARE))


def noise_left(level, step):
    """The share of a picture's noise that is left in a level of an octave's difference of Gaussians.

    White noise that is blurred by a sigma of a pixels has the variance 1 / (4 pi a a), and two blurred pictures of the
    same noise have 1 / (2 pi (a a + b b)) in common.

    level : of the octave; step : pixels of the picture to one of the octave
    """
    a, b = ((BASE_SIGMA * 2.0 ** (k / LEVELS) * step) ** 2 - CAMERA_SIGMA**2 for k in (level, level + 1))
    return float(np.sqrt((1 / a + 1 / b - 4 / (a + b)) / (4 * np.pi)))


def _places(octaves, step, origin, inside, least_of):
    """Places in all octaves: (n, 8) x, y, sigma, response, octave, and x, y, level in it.

    Parameters
    ----------
    octaves : list of (LEVELS + 3, h, w)
    step : float
        Pixels of the picture to one of the first octave.
    origin : x, y of the part of the picture that is looked at
    inside : (h, w) or None
        How far each of its pixels lies inside the mask.
    least_of : callable(level, step) -> response that is asked for
    """
    x0, y0 = origin
    # octave coordinates to full-size pixels: samples are taken at 0, 2, 4, ... so centers just scale;
    # the doubled picture was made with pixel edges kept, hence its quarter pixel
    offset, found = -0.25 if step < 1 else 0.0, []
    for k, gauss in enumerate(octaves):
        dog = gauss[1:] - gauss[:-1]
        out = np.empty((dog[0].size // 16 + 16, 4))
        least = np.array([least_of(s, step) for s in range(len(dog))])
        p = out[: _extrema(dog, least, EDGE_RATIO, out)]
        full = np.stack(
            [
                p[:, 0] * step + offset + x0, p[:, 1] * step + offset + y0,
                BASE_SIGMA * step * 2.0 ** (p[:, 2] / LEVELS), p[:, 3], np.full(len(p), k), p[:, 0], p[:, 1], p[:, 2],
            ], 1,
        )  # fmt: skip
        if inside is not None and len(p):
            iy = np.clip(np.round(full[:, 1] - y0).astype(int), 0, inside.shape[0] - 1)
            ix = np.clip(np.round(full[:, 0] - x0).astype(int), 0, inside.shape[1] - 1)
            full = full[inside[iy, ix] >= np.maximum(2.0, 2.0 * full[:, 2])]
        found.append(full)
        step *= 2.0
    return np.concatenate(found) if found else np.zeros((0, 8))


def detect(gray, mask=None, limit=6000, threshold=CLEAR, upsample=False, few=FEW):
    """Find and describe the key points of a photo.

    Parameters
    ----------
    gray : (h, w) float32
        Brightness 0 to 1.
    mask : (h, w) bool, optional
        Only places well inside it are used.
    limit : int
        At most this many places (some get two directions).
    threshold : float
        Difference-of-Gaussian contrast of places that count anyway; where they are few, fainter ones do.
    upsample : bool
        Start from the doubled picture: more and finer points, four times the work.
    few : float
        Share of `limit`: where fewer places are clear, fainter ones fill up to it.

    Returns
    -------
    Features
    """
    h, w = gray.shape
    x0 = y0 = 0
    inside = None
    if mask is not None:
        rows, cols = np.flatnonzero(mask.any(1)), np.flatnonzero(mask.any(0))
        if not len(rows):
            return Features.none()
        margin = 24
        y0, y1 = max(0, rows[0] - margin), min(h, rows[-1] + 1 + margin)
        x0, x1 = max(0, cols[0] - margin), min(w, cols[-1] + 1 + margin)
        gray = gray[y0:y1, x0:x1]
        inside = scipy.ndimage.distance_transform_edt(np.pad(mask[y0:y1, x0:x1], 1, constant_values=True))[1:-1, 1:-1]
    step = 1.0
    image = np.ascontiguousarray(gray, dtype=np.float32)
    blur = CAMERA_SIGMA
    if upsample:
        image = scipy.ndimage.zoom(image, 2, order=1, grid_mode=True, mode="nearest")
        step, blur = 0.5, 2 * CAMERA_SIGMA
    image = gaussian_blur(image, np.sqrt(BASE_SIGMA**2 - blur**2))
    sigmas = BASE_SIGMA * 2.0 ** (np.arange(LEVELS + 3) / LEVELS)
    octaves = []
    while min(image.shape) >= 32:
        levels = np.empty((LEVELS + 3, *image.shape), np.float32)
        levels[0] = image
        for s in range(1, LEVELS + 3):
            levels[s] = gaussian_blur(levels[s - 1], np.sqrt(sigmas[s] ** 2 - sigmas[s - 1] ** 2))
        octaves.append(levels)
        image = np.ascontiguousarray(levels[LEVELS][::2, ::2])
    points = _places(octaves, step, (x0, y0), inside, lambda level, step: threshold)
    if len(points) < few * limit:
        fainter = _faint(octaves, step, (x0, y0), inside, gray, threshold, few * limit - len(points))
        points = np.concatenate([points, fainter])
    if not len(points):
        return Features.none()
    points = points[keep_spread(points[:, :2], points[:, 3], limit, (h, w))]
    parts = []
    for o, gauss in enumerate(octaves):
        p = points[points[:, 4] == o]
        if not len(p):
            continue
        local = np.stack(
            [p[:, 5], p[:, 6], np.clip(np.round(p[:, 7]), 0, LEVELS + 2), BASE_SIGMA * 2.0 ** (p[:, 7] / LEVELS)], 1
        )
        turns = np.empty((3 * len(p), 2))
        turns = turns[: _directions(gauss, local, AROUND, turns)]
        which = turns[:, 0].astype(np.int64)
        local = np.ascontiguousarray(local[which])
        parts.append((p[which, :2], p[which, 2], turns[:, 1], describe(gauss, local, turns[:, 1])))
    return Features(
        np.concatenate([a[0] for a in parts]).astype(np.float32),
        np.concatenate([a[1] for a in parts]).astype(np.float32),
        np.concatenate([a[2] for a in parts]).astype(np.float32),
        np.concatenate([a[3] for a in parts]),
    )


def _faint(octaves, step, origin, inside, gray, clear, count):
    """Places (n, 8) as `_places` has them, fainter than clear ones, that stand out of the noise: at most so many.

    Those that stand out most in every part of the picture come first.
    """
    noise = noise_of(gray, None if inside is None else inside > 1)
    points = _places(
        octaves, step, origin, inside,
        lambda level, step: min(max(ABOVE * noise * noise_left(level, step), FAINTEST), clear),
    )  # fmt: skip
    points = points[points[:, 3] < clear]
    if not len(points):
        return points
    scale = np.maximum(points[:, 7] + points[:, 4] * LEVELS, 0.0)
    left = np.array([noise_left(k / 8, step) for k in range(8 * LEVELS * (len(octaves) + 1) + 1)])
    above = points[:, 3] / np.maximum(
        noise * left[np.minimum((8 * scale).astype(int), len(left) - 1)], FAINTEST / ABOVE
    )
    h, w = gray.shape
    return points[keep_spread(points[:, :2] - np.array(origin), above, int(count), (h, w))]


def joined(parts):
    """The Features of several, one after the other."""
    return Features(*(np.concatenate([getattr(f, n) for f in parts]) for n in ("xy", "scale", "angle", "descriptors")))
