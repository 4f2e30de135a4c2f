"""Key points of a photo as it would look from the side: they survive a change of view that upright ones do not.

A surface that is seen at another slant is, in the first order, squeezed across the direction in which it turned away.
So the photo is squeezed, in several directions and by several shares, key points are found and described in each of
these views, and brought back to the photo (Morel and Yu 2009, who simulate all views of a plane in that way).
"""

import numpy as np
import scipy.ndimage

from .detect import CLEAR, FEW, Features, detect, joined

#: by what a view is squeezed, as a factor, and in how many directions, evenly over half a turn
VIEWS = ((1.414, 2), (2.0, 4))
ALIAS = 0.8  #: blur before squeezing by t, in pixels: so many times the root of t * t - 1
LEAST_SIDE = 48  #: pixels of a view in which key points are looked for


def slanted_views(views=VIEWS):
    """(factor, angle in radians) of the views, by `VIEWS`."""
    return [(t, np.pi * k / n) for t, n in views for k in range(n)]


def view_of(shape, factor, angle):
    """The affine map from a view to the photo and the shape of the view.

    A view is the photo turned by -`angle` about its middle, and squeezed along its rows.

    Returns
    -------
    A : (2, 3)
        Photo x, y = A @ (view x, view y, 1).
    size : (height, width)
    """
    h, w = shape
    c, s = np.cos(angle), np.sin(angle)
    width, height = abs(c) * w + abs(s) * h, abs(s) * w + abs(c) * h
    size = int(np.ceil(height)), int(np.ceil(width / factor))
    turn = np.array([[c, -s], [s, c]])
    squeeze = np.diag([factor, 1.0])
    middle = np.array([(w - 1) / 2, (h - 1) / 2])
    there = np.array([(size[1] - 1) / 2, (size[0] - 1) / 2])
    A = turn @ squeeze
    return np.c_[A, middle - A @ there], size


def squeezed(gray, mask, factor, angle):
    """A view of a photo: its brightness, what of it is inside the mask (None: the photo), and its map to the photo."""
    A, size = view_of(gray.shape, factor, angle)
    # turned first, at full width, so that it can be blurred along its rows before they are squeezed
    turn, wide = np.c_[A[:, 0] / factor, A[:, 1]], (size[0], int(np.ceil(size[1] * factor)))
    image = scipy.ndimage.affine_transform(gray, *_by_rows(turn, A[:, 2]), wide, order=1, mode="nearest")
    image = scipy.ndimage.gaussian_filter1d(image, ALIAS * np.sqrt(factor * factor - 1), axis=1)
    image = scipy.ndimage.affine_transform(image, np.diag([1.0, factor]), 0.0, size, order=1, mode="nearest")
    whole = np.ones(gray.shape, np.uint8) if mask is None else mask.astype(np.uint8)
    inside = scipy.ndimage.affine_transform(whole, *_by_rows(A[:, :2], A[:, 2]), size, order=0, cval=0)
    return image, inside > 0, A


def _by_rows(matrix, offset):
    """A map of x and y as one of rows and columns."""
    return matrix[::-1, ::-1], offset[::-1]


def detect_slanted(gray, mask=None, limit=6000, threshold=CLEAR, upsample=False, few=FEW):
    """Key points of the photo's slanted views, in the photo's pixels: at most `limit` places; else as `detect`.

    Returns
    -------
    Features
        `angle` is that in the view, and `scale` that of a circle of the same area.
    """
    views, parts = slanted_views(), [Features.none()]
    for factor, angle in views:
        image, inside, A = squeezed(gray, mask, factor, angle)
        if min(image.shape) < LEAST_SIDE or not inside.any():
            continue
        f = detect(image, inside, max(1, limit // len(views)), threshold, upsample, few)
        xy = (f.xy @ A[:, :2].T + A[:, 2]).astype(np.float32)
        parts.append(Features(xy, f.scale * np.float32(np.sqrt(factor)), f.angle, f.descriptors))
    return joined(parts)
