"""Cleaning masks, and what makes one look wrong."""

import numpy as np
import scipy

from ..imaging.filters import narrowed, widened


def main_pieces(mask, share=0.1):
    """The largest connected piece of a mask (h, w), and those of at least `share` of its size."""
    labels, n = scipy.ndimage.label(mask)
    if n <= 1:
        return mask.copy()
    size = np.bincount(labels.ravel())
    size[0] = 0
    return (size >= share * size.max())[labels]


def tidy(mask, largest=True, holes=0.02, open_px=2, grow_px=0):
    """A first mask made into a clean one.

    Parameters
    ----------
    mask : (h, w) bool
    largest : bool
        Keep the main pieces only (see `main_pieces`).
    holes : float
        Holes up to this share of the object are filled.
    open_px : int
        Whiskers thinner than twice this are cut off, first.
    grow_px : int
        Widen the outline by so many pixels at last, or narrow it where negative.
    """
    out = scipy.ndimage.binary_opening(mask, iterations=open_px) if open_px else mask.copy()
    # what was cut from the true outline by rounding comes back
    if open_px:
        out = scipy.ndimage.binary_dilation(out, iterations=1) & mask
    if largest:
        out = main_pieces(out)
    if holes > 0 and out.any():
        labels, n = scipy.ndimage.label(~out)
        if n > 1:
            size = np.bincount(labels.ravel())
            edge = np.unique(np.r_[labels[0], labels[-1], labels[:, 0], labels[:, -1]])
            small = size <= holes * out.sum()
            small[edge] = False
            small[0] = False
            out = out | small[labels]
    if grow_px > 0:
        out = widened(out, grow_px)
    elif grow_px < 0:
        out = narrowed(out, -grow_px)
    return out


def overlap(mask, truth):
    """Intersection over union of two masks, 1 where both are empty."""
    union = (mask | truth).sum()
    return float((mask & truth).sum() / union) if union else 1.0


def doubts(areas, edges, sizes, jump=0.7, reach=2):
    """What is odd about the masks of a sitting, in shooting order.

    Parameters
    ----------
    areas : (n,) int
        Pixels inside each mask.
    edges : (n,) int
        Pixels of it on the picture's edge.
    sizes : (n,) int
        Pixels of each picture.
    jump : float
        Relative difference from the neighbors' usual share that is pointed out.
    reach : int
        So many photos before and after are the neighbors.

    Returns
    -------
    dict of int to str
        For each odd mask what is odd about it, as the end of a sentence that begins with its name.
    """
    share = np.asarray(areas, float) / np.maximum(sizes, 1)
    out = {}
    for i, s in enumerate(share):
        around = [share[j] for j in range(max(0, i - reach), min(len(share), i + reach + 1)) if j != i and share[j] > 0]
        usual = float(np.median(around)) if around else s
        if s == 0:
            out[i] = "is empty"
        elif s > 0.98:
            out[i] = "takes in the whole picture"
        elif edges[i] > 0.02 * np.sqrt(sizes[i]):
            out[i] = "touches the edge of the picture: is the object cut off, or is it backdrop?"
        elif abs(s - usual) > jump * usual:
            word = "larger" if s > usual else "smaller"
            out[i] = (
                f"is clearly {word} than its neighbors' ({100 * s:.1f} % of the picture instead of {100 * usual:.1f} %)"
            )
    return out
