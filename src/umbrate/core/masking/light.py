"""Comparing colors as light: the same surface in more or less light is the same color.

A shadow, a changed exposure or the fall-off of a lamp multiply all three channels of linear light. So
two colors are compared after the best such factor is taken out: what is left over says whether they can
be the same surface, the factor whether the change of light is plausible.
"""

import numpy as np
from numba import njit
from PIL import Image

from ..imaging.filters import gaussian_blur, halve_by_area

SMOOTH_PX = 0.8  #: sensor noise is smoothed by this much before colors are compared
FLOOR = 0.004  #: linear light below which a color is not told from black

_s = np.arange(256) / 255.0
LINEAR = np.where(_s <= 0.04045, _s / 12.92, ((_s + 0.055) / 1.055) ** 2.4).astype(np.float32)  #: sRGB to linear light


def linear_light(picture, smooth_px=SMOOTH_PX):
    """Linear light (h, w, 3) float32, 0 to 1, of an sRGB picture (h, w, 3) uint8, its noise smoothed."""
    out = LINEAR[picture]
    if smooth_px > 0:
        out = np.stack([gaussian_blur(out[..., k], smooth_px) for k in range(3)], -1)
    return np.ascontiguousarray(out)


@njit(cache=True, nogil=True)
def _unlike(a, b, low, high, out):
    h, w, _ = a.shape
    for v in range(h):
        for u in range(w):
            ab = a[v, u, 0] * b[v, u, 0] + a[v, u, 1] * b[v, u, 1] + a[v, u, 2] * b[v, u, 2]
            bb = b[v, u, 0] ** 2 + b[v, u, 1] ** 2 + b[v, u, 2] ** 2
            s = min(max(ab / max(bb, np.float32(1e-8)), low), high)
            e, n = np.float32(0), np.float32(0)
            for k in range(3):
                e += (a[v, u, k] - s * b[v, u, k]) ** 2
                n += a[v, u, k] ** 2
            out[v, u] = np.sqrt(e) / (np.sqrt(n) + np.float32(FLOOR))


def unlikeness(light, other, darker=0.3, brighter=1.7):
    """How much of a color cannot be another color in less or more light.

    Parameters
    ----------
    light, other : (h, w, 3) float32
        Linear light.
    darker, brighter : float
        Range of the factor that a change of light may have.

    Returns
    -------
    (h, w) float32
        0: the same surface; some 0.1: a clearly other one; 1: nothing in common.
    """
    out = np.empty(light.shape[:2], np.float32)
    _unlike(light, np.ascontiguousarray(other, np.float32), np.float32(darker), np.float32(brighter), out)
    return out


def is_color(light, color, tolerance=0.10, darker=1e-3, brighter=1e3):
    """Which pixels (h, w) are one surface color, in whatever light or in a range of it.

    color : (3,) linear light; darker, brighter : range of the factor. Near black nothing is a color.
    """
    other = np.broadcast_to(np.asarray(color, np.float32), light.shape)
    lit = (light[..., 0] > FLOOR) | (light[..., 1] > FLOOR) | (light[..., 2] > FLOOR)
    return (unlikeness(light, other, darker, brighter) < tolerance) & lit


def keyed(light, color, share=0.72):
    """The first mask (h, w) bool by backdrop color: what has too much else in it.

    Of each pixel as much of the backdrop's color is taken away as leaves no channel negative; a mixed
    pixel at an edge, or one that the backdrop shines on, keeps what is its own. The pixel is backdrop
    where what was taken is more than `share` of it.
    """
    c = np.maximum(np.asarray(color, np.float32), 1e-4)
    taken = (light / c).min(-1) * np.linalg.norm(c)
    return taken < share * np.linalg.norm(light, axis=-1)


def small_light(picture, side=240):
    """Linear light (h, w, 3) float32 of a picture, halved until it is small."""
    n = 0
    while max(picture.shape[:2]) >> n > 4 * side:
        n += 1
    light = LINEAR[np.asarray(Image.fromarray(picture).reduce(2**n))]
    while max(light.shape[:2]) > side:
        light = halve_by_area(light)
    return np.ascontiguousarray(light)
