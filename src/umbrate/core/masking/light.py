"""Comparing colors as light: the same surface in more or less light is the same color.

A shadow, a changed exposure or the fall-off of a lamp multiply all three channels of linear light. So
two colors are compared after the best such factor is taken out: what is left over says whether they can
be the same surface, the factor whether the change of light is plausible.
"""

import numpy as np
from numba import njit
from PIL import Image

from ..imaging.filters import gaussian_blur

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


@njit(cache=True, nogil=True)
def _of_colors(light, colors, tolerance, low, high, out):
    h, w, _ = light.shape
    floor, one = np.float32(FLOOR), np.float32(1e-8)
    for v in range(h):
        for u in range(w):
            r, g, b = light[v, u, 0], light[v, u, 1], light[v, u, 2]
            out[v, u] = False
            if not (r > floor or g > floor or b > floor):
                continue  # near black nothing is a color
            most = tolerance * (np.sqrt(r * r + g * g + b * b) + floor)
            for k in range(colors.shape[0]):
                p, q, o = colors[k, 0], colors[k, 1], colors[k, 2]
                s = min(max((r * p + g * q + b * o) / max(p * p + q * q + o * o, one), low), high)
                x, y, z = r - s * p, g - s * q, b - s * o
                if np.sqrt(x * x + y * y + z * z) < most:
                    out[v, u] = True
                    break


def is_of_colors(light, colors, tolerance=0.10, darker=1e-3, brighter=1e3):
    """Which pixels (h, w) are one of several surface colors; see `is_color`.

    Parameters
    ----------
    light : (h, w, 3) float32
    colors : (n, 3)
        Linear light.
    """
    out = np.empty(light.shape[:2], np.bool_)
    f = np.float32
    _of_colors(light, np.ascontiguousarray(colors, f), f(tolerance), f(darker), f(brighter), out)
    return out


@njit(cache=True, nogil=True)
def _medians(stack, shown, out):
    n, h, w, _ = stack.shape
    values = np.empty(n, np.float32)
    for v in range(h):
        for u in range(w):
            for c in range(3):
                count = 0
                for k in range(n):
                    if shown[k, v, u]:
                        # kept in order as they come: there are few
                        x, at = stack[k, v, u, c], count
                        while at > 0 and values[at - 1] > x:
                            values[at] = values[at - 1]
                            at -= 1
                        values[at] = x
                        count += 1
                half = count // 2
                if count == 0:
                    out[v, u, c] = 0.0
                elif count % 2:
                    out[v, u, c] = values[half]
                else:
                    out[v, u, c] = (values[half - 1] + values[half]) / np.float32(2)


def medians(stack, shown=None):
    """Medians (h, w, 3) of a stack (n, h, w, 3) float32, of those that are shown (n, h, w) only; 0 where none is."""
    out = np.empty(stack.shape[1:], np.float32)
    _medians(np.ascontiguousarray(stack), np.ones(stack.shape[:3], bool) if shown is None else shown, out)
    return out


def keyed(light, color, share=0.72):
    """The first mask (h, w) bool by backdrop color: what has too much else in it.

    Of each pixel as much of the backdrop's color is taken away as leaves no channel negative; a mixed
    pixel at an edge, or one that the backdrop shines on, keeps what is its own. The pixel is backdrop
    where what was taken is more than `share` of it.
    """
    c = np.maximum(np.asarray(color, np.float32), 1e-4)
    taken = (light / c).min(-1) * np.linalg.norm(c)
    return taken < share * np.linalg.norm(light, axis=-1)


@njit(cache=True, nogil=True)
def _mean_light(picture, table, block, out):
    share = np.float32(1.0 / (block * block))
    for v in range(out.shape[0]):
        for u in range(out.shape[1]):
            r = g = b = np.float32(0)
            for y in range(v * block, (v + 1) * block):
                for x in range(u * block, (u + 1) * block):
                    r += table[picture[y, x, 0]]
                    g += table[picture[y, x, 1]]
                    b += table[picture[y, x, 2]]
            out[v, u, 0], out[v, u, 1], out[v, u, 2] = r * share, g * share, b * share


def small_light(picture, side=240):
    """Linear light (h, w, 3) float32 of a picture, or of an Image, halved until it is small."""
    image = picture if isinstance(picture, Image.Image) else Image.fromarray(picture)
    n = 0
    while max(image.size) >> n > 4 * side:
        n += 1
    small, k = np.asarray(image.reduce(2**n)), 0
    while max(small.shape[:2]) >> k > side:
        k += 1
    out = np.empty((small.shape[0] >> k, small.shape[1] >> k, 3), np.float32)
    _mean_light(small, LINEAR, 1 << k, out)
    return out
