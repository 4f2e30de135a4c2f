"""What turns with the object and is not part of it: the disc, a printed mat, a block of foam.

While the camera stands and the object turns, the fine detail of whatever turns along differs from photo to photo by
more than noise does; that of the backdrop stays. Shading says nothing: shadows move over what stands still. So each
place is judged by the robust spread of its detail over the photos in which the object does not hide it, against the
noise of a place as bright, which the calmest places of these photos show.
"""

import numpy as np
import scipy
from numba import njit

from ..imaging.filters import gaussian_blur

BANDS = ((0.7, 2.5), (2.0, 6.0))  #: detail is what lies between Gaussians of so many pixels
CALM = 0.10  #: share of the places whose spread is taken for noise
LEAST = 0.003  #: of the light: what differs by less is nothing that photos could be tied by
ABOVE = 1.5  #: times the noise that detail spreads where it turns
BINS = 8  #: of brightness, in which noise is measured
AROUND = 4.0  #: sigma in pixels over which the spread is evened out
NEAR = 0.04  #: of the picture's longer side: what turns lies as near to the object
LEAST_SHARE = 0.01  #: of the picture: if all of it is less, it is none
SMALLEST = 0.003  #: of the picture: what is smaller is none
LEAST_SEEN = 5  #: photos in which a place must be seen
REACH = 2.5  #: times the wider Gaussian that the object's own outline reaches
HOLE = 0.01  #: of the picture: smaller islands that seem to stand still within it are plain parts of it
DARKEST = 0.004  #: linear light below which nothing is judged


@njit(cache=True, nogil=True, inline="always")
def _sort(values, m):
    """Sort the first m values by insertion: they are a dozen or two."""
    for i in range(1, m):
        x, j = values[i], i
        while j > 0 and values[j - 1] > x:
            values[j] = values[j - 1]
            j -= 1
        values[j] = x


@njit(cache=True, nogil=True)
def _spread(detail, free, middle, spread):
    """Median of each pixel's detail (n, h, w) over the photos where it is free, and what four fifths of them are off
    by, as a standard deviation: marks that are seen in a few photos only count, a hand in one does not."""
    n, h, w = detail.shape
    values = np.empty(n, np.float32)
    for v in range(h):
        for u in range(w):
            m = 0
            for k in range(n):
                if free[k, v, u]:
                    values[m] = detail[k, v, u]
                    m += 1
            if m < 2:
                middle[v, u] = spread[v, u] = 0.0
                continue
            _sort(values, m)
            c = 0.5 * (values[(m - 1) // 2] + values[m // 2])
            for k in range(m):
                values[k] = abs(values[k] - c)
            _sort(values, m)
            middle[v, u] = c
            spread[v, u] = values[min(int(0.8 * m), m - 1)] / np.float32(1.2816)


def _noise(spread, bright, valid):
    """The spread of plain noise at each place (h, w), from the calmest places as bright and of all."""
    root = np.sqrt(np.maximum(bright, DARKEST))
    least = float(np.quantile((spread * root)[valid], CALM))
    model = least / root  # shot noise, of the logarithm
    out = model.copy()
    edges = np.quantile(bright[valid], np.linspace(0, 1, BINS + 1))
    for k in range(BINS):
        here = (bright >= edges[k]) & (bright <= edges[k + 1])
        some = here & valid
        if some.any():
            # darker places have more than shot noise, but a bin that turns as a whole is no noise
            ratio = min(float(np.quantile((spread / model)[some], CALM)), 1.6)
            out[here] = model[here] * max(ratio, 1.0)
    return out


def _differs(level, free, valid, bright, fine, coarse):
    """Where detail between two Gaussians differs from photo to photo by more than noise: (h, w) bool.

    level : (n, h, w) logarithm of light; free : (n, h, w) bool; valid : (h, w) bool; bright : (h, w)
    """
    h, w = valid.shape
    detail = np.empty_like(level)
    for d, x in zip(detail, level, strict=True):
        d[:] = gaussian_blur(x, fine) - gaussian_blur(x, coarse)
        d -= gaussian_blur(d, coarse)  # what wandering shadows leave is smooth
    middle, spread = np.empty((h, w), np.float32), np.empty((h, w), np.float32)
    _spread(detail, free, middle, spread)
    sigma = max(AROUND, 1.2 * coarse)
    weight = np.maximum(gaussian_blur(valid.astype(np.float32), sigma), 1e-6)

    def even(x):
        return gaussian_blur(np.where(valid, x, 0).astype(np.float32), sigma) / weight

    calm = even(spread**2)
    noise = _noise(np.sqrt(calm), even(bright), valid)
    # an edge that stands still trembles a little: there the mean of the photos has more detail than they differ by
    return valid & (np.sqrt(calm) > np.maximum(ABOVE * noise, LEAST)) & (calm > even(middle**2))


def turning_place(lights, masks):
    """Where what turns with the object is seen, in pictures of one place of the camera: (h, w) bool.

    Parameters
    ----------
    lights : list of (h, w, 3) float32
        Linear light.
    masks : list of (h, w) bool
        Where each shows the object.

    Returns
    -------
    (h, w) bool
        Places that the object mostly hides are in it where what turns lies all round them. Empty where nothing else
        turns.
    """
    h, w = masks[0].shape
    none = np.zeros((h, w), bool)
    if len(lights) < LEAST_SEEN:
        return none
    light = np.stack([(x[..., 0] + x[..., 1] + x[..., 2]) / np.float32(3) for x in lights])
    level = np.log(np.maximum(light, DARKEST)).astype(np.float32)
    away = np.stack([scipy.ndimage.distance_transform_edt(~m) for m in masks]).astype(np.float32)
    bright, turns, judged = light.mean(0), np.zeros((h, w), bool), np.zeros((h, w), bool)
    for fine, coarse in BANDS:
        free = away > REACH * coarse  # so that the object's own edge is not in it
        valid = (free.sum(0) >= LEAST_SEEN) & (bright > 2 * DARKEST)
        if valid.mean() < 0.05:
            continue
        judged |= valid
        turns |= _differs(level, free, valid, bright, fine, coarse)
    return _beside_object(turns, judged, (away <= 0).any(0))


def _beside_object(turns, judged, ever):
    """Of places that turn, the pieces that lie near the object (`ever`), with what it hides between them."""
    h, w = turns.shape
    pad = 4 * round(AROUND)
    turns, judged, ever = (np.pad(x, pad, mode="edge") for x in (turns, judged, ever))
    turns = scipy.ndimage.binary_opening(turns, iterations=3)
    near = scipy.ndimage.distance_transform_edt(~ever) < NEAR * max(h, w)
    label, n = scipy.ndimage.label(turns)
    size, beside = (np.bincount(x, minlength=n + 1) for x in (label.ravel(), label[near]))
    keep = (size >= SMALLEST * h * w) & (beside > 0)
    keep[0] = False
    out = keep[label]
    # what could not be judged belongs to it where it lies within; what was judged to stand still does not
    within = scipy.ndimage.binary_fill_holes(scipy.ndimage.binary_closing(out, iterations=6))
    still, n = scipy.ndimage.label(within & judged & ~turns)
    calm = np.bincount(still.ravel(), minlength=n + 1) >= HOLE * h * w
    calm[0] = False
    out |= within & ~calm[still]
    # the seam that evening out adds
    out = scipy.ndimage.binary_erosion(out, iterations=round(AROUND))
    out = np.ascontiguousarray(out[pad:-pad, pad:-pad])
    return out & (out.mean() >= LEAST_SHARE)
