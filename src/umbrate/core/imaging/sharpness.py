"""How sharp a photo is, comparable among photos of one object.

Detail between sigma 1 and 2 pixels relative to that between 2 and 4, where the latter is strongest: a
ratio does not ask how much texture there is, only whether its fine part has survived. Measured where the
object is, a sharp backdrop behind a soft object does not count.
"""

import numpy as np
import scipy
from PIL import Image

from .filters import gaussian_blur

LONGEST = 2000  #: photos are halved until their longer side is no longer than this before they are measured
SOFT = 0.86  #: share of the usual sharpness below which a photo is soft


def gray_of(picture):
    """A picture (h, w, 3) uint8 in gray, (h, w) float32, 0 to 255."""
    return np.asarray(Image.fromarray(picture).convert("L"), dtype=np.float32)


def sharpness(gray, mask=None):
    """The sharpness of a picture: some 0.6 for a good one, less where it is blurred.

    Parameters
    ----------
    gray : (h, w) float32
    mask : (h, w) bool, optional
        Where the object is; its outline, which is sharp or soft for other reasons, is left out.
    """
    a, b, c = (gaussian_blur(gray, s) for s in (1.0, 2.0, 4.0))
    fine, coarse = np.abs(np.subtract(a, b, out=a), out=a), np.abs(np.subtract(b, c, out=c), out=c)
    inside = None
    if mask is not None:
        inside = scipy.ndimage.binary_erosion(mask, iterations=6)
        inside = inside if inside.sum() >= 500 else None
    if inside is not None:
        fine, coarse = fine[inside], coarse[inside]
    # every seventh pixel tells where the strongest fifth begins
    strong = coarse >= np.percentile(coarse.ravel()[::7], 80)
    return float(fine[strong].mean() / max(float(coarse[strong].mean()), 1e-6))


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
    return np.clip((values / max(float(np.median(values)), 1e-9)) ** 4, 0.05, 1.0)


LUMA = np.array([0.299, 0.587, 0.114], np.float32)
