"""How sharp a photo is, comparable among photos of one object.

Detail between sigma 1 and 2 pixels relative to that between 2 and 4, where the latter is strongest: a
ratio does not ask how much texture there is, only whether its fine part has survived. Measured where the
object is, a sharp backdrop behind a soft object does not count.
"""

import numpy as np
import scipy
from numba import njit
from PIL import Image

from .filters import gaussian_blur, narrowed

LONGEST = 2000  #: photos are halved until their longer side is no longer than this before they are measured
SAMPLE, STRONG = 7, 0.8  #: every so many pixels are looked at for where the strongest fifth begins
OUTLINE = 6  #: pixels from the outline that do not count
AROUND = 16  #: pixels that the widest blur reaches, and a few more
LEAST_INSIDE = 500  #: pixels of an object; with fewer all of the photo counts
CELL = 32  #: pixels along the cells in which focus is told
CODES = 160  #: steps of a sharpness of 1, in which focus is told
LEAST_DETAIL = 1.0  #: gray levels of coarse detail round a place from which its focus can be told
SOFT = 0.86  #: share of the usual sharpness below which a photo is soft


def gray_of(picture):
    """A picture (h, w, 3) uint8, or an Image, in gray, (h, w) float32, 0 to 255."""
    image = picture if isinstance(picture, Image.Image) else Image.fromarray(picture)
    return np.asarray(image.convert("L"), dtype=np.float32)


def _box(mask):
    """The rows and columns of a mask and of what the widest blur reaches around it; everything where it is empty."""
    rows, cols = np.flatnonzero(mask.any(1)), np.flatnonzero(mask.any(0))
    if not len(rows):
        return np.s_[:, :]
    return tuple(slice(max(x[0] - AROUND, 0), x[-1] + 1 + AROUND) for x in (rows, cols))


@njit(cache=True, nogil=True)
def _strong_detail(a, b, c, least):
    """Mean fine and coarse detail where the coarse is at least so strong."""
    fine, coarse, count = 0.0, 0.0, 0
    for i in range(a.shape[0]):
        d = abs(b[i] - c[i])
        if d >= least:
            fine += abs(a[i] - b[i])
            coarse += d
            count += 1
    return fine / max(count, 1), coarse / max(count, 1)


def sharpness(gray, mask=None):
    """The sharpness of a picture: some 0.6 for a good one, less where it is blurred.

    Parameters
    ----------
    gray : (h, w) float32
    mask : (h, w) bool, optional
        Where the object is; its outline, which is sharp or soft for other reasons, is left out.
    """
    inside = None
    if mask is not None:
        box = _box(mask)
        inner = narrowed(mask[box], OUTLINE)
        if inner.sum() >= LEAST_INSIDE:
            gray, inside = gray[box], inner.ravel()
    a, b, c = (gaussian_blur(gray, s).ravel() for s in (1.0, 2.0, 4.0))
    if inside is not None:
        a, b, c = a[inside], b[inside], c[inside]
    # every seventh pixel shows where the strongest fifth begins
    some = np.abs(b[::SAMPLE] - c[::SAMPLE])
    least = np.partition(some, int(STRONG * (len(some) - 1)))[int(STRONG * (len(some) - 1))]
    fine, coarse = _strong_detail(a, b, c, least)
    return fine / max(coarse, 1e-6)


def focus(gray, mask=None):
    """How sharp a picture is from place to place, on the scale of `sharpness`.

    Measured over a cell and those round it, where coarse detail is strong; what shows too little of it is as sharp as
    the usual place of the picture.

    Parameters
    ----------
    gray : (h, w) float32
    mask : (h, w) bool, optional
        Where the object is; its outline is left out.

    Returns
    -------
    (ceil(h / CELL), ceil(w / CELL)) uint8
        In units of 1/CODES; 0 where no place can be told.
    """
    a, b, c = (gaussian_blur(gray, s) for s in (1.0, 2.0, 4.0))
    coarse = np.abs(b - c)
    if mask is not None:
        coarse *= narrowed(mask, OUTLINE)
    rows, cols = (np.arange(0, n, CELL) for n in gray.shape)

    def around(x):
        cells = np.add.reduceat(np.add.reduceat(x, rows, axis=0, dtype=np.float64), cols, axis=1)
        return scipy.ndimage.uniform_filter(cells, 3, mode="constant") * 9

    # weighted by coarse detail, squared: the strongest decides
    weight = coarse * coarse
    fine, strong, count = around(np.abs(a - b) * weight), around(coarse * weight), around(coarse > 0)
    told = (count > CELL * CELL) & (around(weight) > LEAST_DETAIL**2 * count)
    found = fine / np.maximum(strong, 1e-12)
    usual = np.median(found[told]) if told.any() else 0.0
    return np.clip(np.round(CODES * np.where(told, found, usual)), 0, 255).astype(np.uint8)


def focus_worth(codes):
    """What places of photos are worth for color by their focus, as `quality_of`: a table (256,) float32 by its code.

    codes : of `focus`, of the places that are compared, from which the usual one is taken
    """
    codes = codes[codes > 0]
    table = _worth(np.arange(256) / CODES, float(np.median(codes)) / CODES if len(codes) else 0.0).astype(np.float32)
    table[0] = 1.0
    return table


def soft_ones(values, share=SOFT):
    """Rows of the values that are clearly lower than usual, softest first."""
    values = np.asarray(values, float)
    if len(values) < 4:
        return []
    rows = np.flatnonzero(values < share * np.median(values))
    return rows[np.argsort(values[rows])].tolist()


def quality_of(values):
    """What each photo is worth by its sharpness (n,): 1 from the usual on, less the softer it is, 0.05 at the least."""
    values = np.asarray(values, float)
    return _worth(values, float(np.median(values)))


def _worth(values, usual):
    return np.clip((values / max(usual, 1e-9)) ** 4, 0.05, 1.0)


LUMA = np.array([0.299, 0.587, 0.114], np.float32)
