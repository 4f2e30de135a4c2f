"""How sharp a photo is, comparable among photos of one object.

Detail between sigma 1 and 2 pixels relative to that between 2 and 4, where the latter is strongest: a
ratio does not ask how much texture there is, only whether its fine part has survived. Measured where the
object is, a sharp backdrop behind a soft object does not count.
"""

import numpy as np
from scipy.ndimage import binary_erosion

from .filters import gaussian_blur

SOFT = 0.86  #: share of the usual sharpness below which a photo is soft


def sharpness(gray, mask=None):
    """The sharpness of a picture: some 0.6 for a good one, less where it is blurred.

    Parameters
    ----------
    gray : (h, w) float32
    mask : (h, w) bool, optional
        Where the object is; its outline, which is sharp or soft for other reasons, is left out.
    """
    a, b, c = (gaussian_blur(gray, s) for s in (1.0, 2.0, 4.0))
    fine, coarse = np.abs(a - b), np.abs(b - c)
    inside = None
    if mask is not None:
        inside = binary_erosion(mask, iterations=6)
    if inside is None or inside.sum() < 500:
        inside = np.ones(gray.shape, bool)
    strong = inside & (coarse >= np.percentile(coarse[inside], 80))
    return float(fine[strong].mean() / max(float(coarse[strong].mean()), 1e-6))


def soft_ones(values, share=SOFT):
    """Rows of the values that are clearly lower than usual, softest first."""
    values = np.asarray(values, float)
    if len(values) < 4:
        return []
    rows = np.flatnonzero(values < share * np.median(values))
    return rows[np.argsort(values[rows])].tolist()
