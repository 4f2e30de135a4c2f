"""Masks from what stands behind the object: a plate of it, its color, or that it stands still.

A *plate* is a photo of the bare backdrop from the same place. Where there is none, and the object turns
while the camera stands, the sitting's own photos give one: what does not change is backdrop, and what the
object hides in some photos is seen in others. What it hides in all of them is filled in smoothly from
around; that is rough, but the object's color rarely matches it.
"""

import hashlib
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import scipy
from numba import njit

from .light import is_of_colors, medians, unlikeness

FEWEST = 5  #: photos from one place that the sitting's own plate needs
STRANGE = 0.5  #: of a photo without the object: so much of what the others show has colors that it lacks


@dataclass(frozen=True)
class Plate:
    """A picture of the backdrop.

    Attributes
    ----------
    light : (h, w, 3) float32
        Linear light.
    reach : (h, w) bool
        Where the object can be at all; everywhere for a plate that was shot.
    """

    light: np.ndarray
    reach: np.ndarray

    @cached_property
    def digest(self):
        """A hash of it: what was made with an equal plate is what would be made with this one."""
        return hashlib.sha256(self.light.tobytes() + self.reach.tobytes()).hexdigest()


def shot_plate(light):
    """The Plate of a photo of the bare backdrop."""
    return Plate(light, np.ones(light.shape[:2], bool))


CELLS = 6  #: the margin of a picture is the outer ring of so many by so many cells


def _margin(picture):
    """The margin's cells: (pixels without their mean and length, mean, contrast) each."""
    h, w = picture.shape[0] // CELLS, picture.shape[1] // CELLS
    # slow differences of light are evened out by the local contrast
    local = picture - scipy.ndimage.gaussian_filter(picture, 4.0)
    out = []
    for i in range(CELLS):
        for j in range(CELLS):
            if i in (0, CELLS - 1) or j in (0, CELLS - 1):
                box = np.s_[i * h : (i + 1) * h, j * w : (j + 1) * w]
                c = local[box].ravel() - local[box].mean()
                length, mean = float(np.linalg.norm(c)), float(picture[box].mean())
                out.append((c / max(length, 1e-9), mean, length / np.sqrt(c.size) / max(mean, 1e-9)))
    return out


PLAIN = 0.01  #: local contrast below which a cell shows nothing that could be recognized


def _same_margin(a, b, least, cells):
    pairs = list(zip(a, b, strict=True))
    textured = [(x @ y) for (x, _, p), (y, _, q) in pairs if max(p, q) >= PLAIN]
    if len(textured) >= cells:
        return sum(c >= least for c in textured) >= cells
    # a plain backdrop is recognized by its brightness alone; taking two places for one does no harm there
    return sum(abs(m - n) < 0.05 * (m + n) for (_, m, _), (_, n, _) in pairs) >= 0.8 * len(pairs)


def same_place(pictures, least=0.9, cells=6):
    """Which photos were taken from the same place: enough of their margins, where the object is not, is the same.

    The rest of the margin may differ: a turntable's top turns, a label lies on it.

    Parameters
    ----------
    pictures : list of (h, w) float
        Small grey pictures, some 160 pixels wide. Only those of one shape are compared.
    least : float
        Least correlation of a cell of the margin.
    cells : int
        So many of the margin's cells must agree.

    Returns
    -------
    (n,) int
        A group number for each photo, from 0 in order of first appearance.
    """
    margins = [_margin(np.asarray(p, float)) for p in pictures]
    group, leaders = np.full(len(pictures), -1), []
    for i, margin in enumerate(margins):
        for g, j in enumerate(leaders):
            if pictures[i].shape == pictures[j].shape and _same_margin(margin, margins[j], least, cells):
                group[i] = g
                break
        else:
            group[i] = len(leaders)
            leaders.append(i)
    return group


def _fill_in(light, known):
    """`light` with the places that are not known filled in smoothly from around (normalized blurs, coarse to fine)."""
    out = np.where(known[..., None], light, 0).astype(np.float32)
    filled = known.copy()
    sigma = 4.0
    while not filled.all() and sigma < 4 * max(known.shape):
        weight = scipy.ndimage.gaussian_filter(known.astype(np.float32), sigma)
        reached = ~filled & (weight > 1e-3)
        for k in range(3):
            blurred = scipy.ndimage.gaussian_filter(np.where(known, light[..., k], 0).astype(np.float32), sigma)
            out[..., k][reached] = (blurred[reached] / weight[reached]).astype(np.float32)
        filled |= reached
        sigma *= 2
    return out


@njit(cache=True, nogil=True)
def _cluster(x, sample, centers, rounds, colors):
    """k-means of rows x, which changes the centers; `colors` receives the mean of `sample` in each; returns counts."""
    nearest, count = np.empty(x.shape[0], np.int64), np.zeros(centers.shape[0])
    for _ in range(rounds):
        for i in range(x.shape[0]):
            least = np.inf
            for k in range(centers.shape[0]):
                d = 0.0
                for c in range(x.shape[1]):
                    d += (x[i, c] - centers[k, c]) ** 2
                if d < least:
                    least = d
                    nearest[i] = k
        count[:] = 0.0
        total, seen = np.zeros(centers.shape), np.zeros(colors.shape)
        for i in range(x.shape[0]):
            k = nearest[i]
            count[k] += 1
            for c in range(x.shape[1]):
                total[k, c] += x[i, c]
            for c in range(sample.shape[1]):
                seen[k, c] += sample[i, c]
        for k in range(centers.shape[0]):
            if count[k] > 0:
                centers[k] = total[k] / count[k]
                colors[k] = seen[k] / count[k]
    return count


def _palette(light, where, count=20, seed=0):
    """The colors (count, 3) that occur where a mask is true: k-means of chromaticity and brightness."""
    sample = light[where]
    sample = sample[:: max(1, len(sample) // 20_000)]
    total = sample.sum(1, keepdims=True) + 1e-4
    x = np.hstack([sample / total * 6.0, np.log(total)])
    centers = x[np.random.default_rng(seed).choice(len(x), min(count, len(x)), replace=False)].astype(float)
    colors = np.zeros((len(centers), 3))
    has = _cluster(x, sample, centers, 12, colors) > 0
    return colors[has].astype(np.float32)


def _swept(stack, median, tolerance, turning):
    """Where anything turns (h, w) bool: brightness or color changes from photo to photo."""
    bright, middle = stack.sum(-1), median.sum(-1)
    change = np.abs(bright - middle) / (middle + 0.01)
    spread = scipy.ndimage.gaussian_filter(np.median(change, axis=0) * 1.48, 2.0)
    out = spread > turning
    # the tip of a beak passes a place in one photo only
    for x, c in zip(stack, change, strict=True):
        once = (unlikeness(x, median, 0.05, 20.0) > tolerance) | (c > 4 * turning)
        out |= scipy.ndimage.binary_opening(once, iterations=2)
    out = scipy.ndimage.binary_fill_holes(scipy.ndimage.binary_closing(np.pad(out, 8), iterations=6))[8:-8, 8:-8]
    return scipy.ndimage.binary_dilation(out, iterations=3)


def still_plate(lights, tolerance=0.10, turning=0.16):
    """The Plate of a sitting from its own photos: what does not change while the object turns.

    Outside what the object sweeps over, the median of the photos is the backdrop. Inside, a photo counts
    as showing the backdrop where its color is one that occurs outside; where no two photos do, the
    backdrop is filled in smoothly from around.

    Parameters
    ----------
    lights : list of (h, w, 3) float32
        Linear light of photos from one place, at least `FEWEST`.
    tolerance : float
        Unlikeness up to which two colors are one surface.
    turning : float
        Relative change of brightness from which a place counts as turning.

    Returns
    -------
    Plate
    """
    if len(lights) < FEWEST:
        raise ValueError(f"a sitting's own plate needs at least {FEWEST} photos from one place")
    stack = np.stack(lights)
    median = medians(stack)
    reach = _swept(stack, median, tolerance, turning)
    if reach.all() or not reach.any():
        return Plate(median, reach)
    rows, cols = np.flatnonzero(reach.any(1)), np.flatnonzero(reach.any(0))
    box = np.s_[rows[0] : rows[-1] + 1, cols[0] : cols[-1] + 1]
    part = np.ascontiguousarray(stack[:, box[0], box[1]])
    colors = _palette(median, ~reach)
    shown = np.stack([is_of_colors(x, colors, 0.8 * tolerance, 0.7, 1.4) for x in part])
    count = shown.sum(0)
    seen = medians(part, shown)
    # a part of the object that happens to have a backdrop color does not keep still
    bright = np.where(shown, part.sum(-1), 0)
    mean = bright.sum(0) / np.maximum(count, 1)
    spread = np.sqrt((np.where(shown, bright - mean, 0) ** 2).sum(0) / np.maximum(count, 1)) / (mean + 0.01)
    still = scipy.ndimage.gaussian_filter(spread, 1.5) < turning
    plate = median.copy()
    inner = scipy.ndimage.binary_opening(reach[box] & (count >= 2) & still, iterations=2)
    plate[box][inner] = seen[inner]
    known = ~reach
    known[box] |= inner
    return Plate(np.where(known[..., None], plate, _fill_in(plate, known)).astype(np.float32), reach)


def differs(light, plate, tolerance=0.10, shadow=0.3):
    """The first mask (h, w) bool: what a change of light on the plate cannot explain.

    tolerance : unlikeness from which a pixel is the object; shadow : the darkest shadow, as a factor.
    """
    return (unlikeness(light, plate.light, shadow, 1.0 / shadow**0.5) > tolerance) & plate.reach


def _color_bins(light, mask, least=0.003):
    """Which cells of color and brightness occur in a mask: (n,) cell of each of its pixels, set of those that count."""
    x = light[mask]
    total = x.sum(1) + 1e-4
    cells = np.stack([x[:, 0] / total / 0.04, x[:, 1] / total / 0.04, np.log(total) / 0.7], 1).astype(int)
    code = (cells[:, 0] * 64 + cells[:, 1]) * 64 + cells[:, 2] + 32
    found, count = np.unique(code, return_counts=True)
    return code, found[count >= least * len(code)]


def strange_shares(lights, masks):
    """How much of what is seen in the other photos has colors that a photo does not show.

    A printed mat that turns with the object is in the bare frames too, so these differ from the backdrop nearly as
    much as the others. But they lack the object's colors, and no photo of the object does.

    Parameters
    ----------
    lights : list of (h, w, 3) float
        Linear light of photos from one place.
    masks : list of (h, w) bool
        Where they differ from the backdrop.

    Returns
    -------
    (n,) float
        The median over the other photos, 0 to 1.
    """
    seen = [_color_bins(x, m) for x, m in zip(lights, masks, strict=True)]
    near = np.array([(a * 64 + b) * 64 + c for a in (-1, 0, 1) for b in (-1, 0, 1) for c in (-1, 0, 1)])
    out = np.zeros(len(lights))
    for k, (_, own) in enumerate(seen):
        known = (own[:, None] + near).ravel()
        shares = [float(np.mean(~np.isin(code, known))) for j, (code, _) in enumerate(seen) if j != k and len(code)]
        out[k] = np.median(shares) if shares else 0.0
    return out


def empty_frames(areas, groups, strange=None, share=0.4, gap=0.6):
    """Which photos show the bare backdrop: little differs, where much does in the others from that place.

    Parameters
    ----------
    areas : (n,) float
        Pixels of each photo's mask against the plate of its place; NaN where there was none.
    groups : (n,) int
        The place each was taken from.
    strange : (n,) float, optional
        See `strange_shares`: photos above `STRANGE` that differ less than most are bare as well.
    share : float
        Largest area of a bare one, as a share of the usual area.
    gap : float
        It is also less than this share of the smallest that is not bare: a flat object seen edge-on is no gap.

    Returns
    -------
    (n,) bool
    """
    areas, groups = np.asarray(areas, float), np.asarray(groups)
    out = np.zeros(len(areas), bool)
    for g in np.unique(groups):
        who = np.flatnonzero((groups == g) & np.isfinite(areas))
        small = who[areas[who] < share * np.median(areas[who])] if len(who) > 1 else who[:0]
        rest = np.setdiff1d(who, small)
        if len(small) and areas[small].max() < gap * areas[rest].min():
            out[small] = True
        if strange is not None and len(who) > 2:
            out[who] |= (strange[who] > STRANGE) & (areas[who] < np.median(areas[who]))
    return out
