"""Smoothing and resampling: the few picture operations whose exact behavior the computation depends on."""

import numpy as np
from numba import njit


def gaussian_taps(sigma):
    """Symmetric, normalized taps (2 r + 1,) float32 of a Gaussian, r = 3 sigma rounded up."""
    r = max(1, int(np.ceil(3.0 * sigma)))
    t = np.exp(-0.5 * (np.arange(-r, r + 1) / sigma) ** 2)
    return (t / t.sum()).astype(np.float32)


@njit(cache=True, nogil=True, fastmath=True)
def _blur(image, taps, out):
    h, w = image.shape
    r = taps.shape[0] // 2
    line = np.empty(w + 2 * r, np.float32)
    acc = np.empty(w, np.float32)
    for y in range(h):
        # down the columns into one padded line, then along it: the picture is read once
        for x in range(w):
            acc[x] = 0.0
        for k in range(-r, r + 1):
            yy = min(max(y + k, 0), h - 1)
            t = taps[k + r]
            for x in range(w):
                acc[x] += t * image[yy, x]
        for x in range(w):
            line[r + x] = acc[x]
        for x in range(r):
            line[x] = acc[0]
            line[r + w + x] = acc[w - 1]
        for x in range(w):
            acc[x] = 0.0
        for k in range(2 * r + 1):
            t = taps[k]
            for x in range(w):
                acc[x] += t * line[x + k]
        for x in range(w):
            out[y, x] = acc[x]


def gaussian_blur(image, sigma):
    """A float32 picture (h, w) blurred by a Gaussian of `sigma` pixels, edges repeated."""
    image = np.ascontiguousarray(image, dtype=np.float32)
    out = np.empty_like(image)
    _blur(image, gaussian_taps(sigma), out)
    return out


@njit(cache=True, nogil=True)
def _stepped(words, steps, narrow):
    """Rows of bits (h, n) uint64 widened, or narrowed, by so many steps to the sides; what is beyond counts as none."""
    h, n = words.shape
    one, last = np.uint64(1), np.uint64(63)
    a, b = words.copy(), np.empty_like(words)
    for _ in range(steps):
        for y in range(h):
            for k in range(n):
                c = a[y, k]
                left, right = c << one, c >> one
                if k > 0:
                    left |= a[y, k - 1] >> last
                if k + 1 < n:
                    right |= a[y, k + 1] << last
                above = a[y - 1, k] if y > 0 else np.uint64(0)
                below = a[y + 1, k] if y + 1 < h else np.uint64(0)
                if narrow:
                    b[y, k] = c & left & right & above & below
                else:
                    b[y, k] = c | left | right | above | below
        a, b = b, a
    return a


def _by_steps(mask, steps, narrow):
    h, w = mask.shape
    packed = np.zeros((h, (w + 63) // 64 * 8), np.uint8)
    packed[:, : (w + 7) // 8] = np.packbits(mask, axis=1, bitorder="little")
    out = _stepped(packed.view(np.uint64), int(steps), narrow)
    return np.unpackbits(out.view(np.uint8), axis=1, count=w, bitorder="little").view(bool)


def narrowed(mask, pixels):
    """A mask (h, w) bool without what is at most so many steps from its outline or from the picture's edge."""
    return _by_steps(mask, pixels, True)


def widened(mask, pixels):
    """A mask (h, w) bool with what is at most so many steps from it."""
    return _by_steps(mask, pixels, False)


def beyond_slopes(gray):
    """What neither rows nor columns explain (h, w): little of smooth pictures, six times the deviation of noise.

    After Immerkaer 1996, Fast noise variance estimation.
    """
    d = np.pad(gray, 1, mode="edge")
    d = d[:, :-2] - 2 * d[:, 1:-1] + d[:, 2:]
    return d[:-2] - 2 * d[1:-1] + d[2:]


def halve_mask(mask, times=1):
    """A mask (h, w) bool as `times` halvings of its photo by `halve_by_area` need it: the one rule for all of them.

    A pixel is inside where all pixels that it covers are: what is outside then mixes into none. A row or column that is
    left over is dropped, as there.
    """
    for _ in range(times):
        h, w = mask.shape[0] // 2 * 2, mask.shape[1] // 2 * 2
        m = mask[:h, :w]
        mask = m[0::2, 0::2] & m[1::2, 0::2] & m[0::2, 1::2] & m[1::2, 1::2]
    return mask


def halve_by_area(image):
    """Each pixel is the mean of a 2x2 block: (h, w[, c]) to (h // 2, w // 2[, c]) float32.

    In this module's pixel convention the result's pixel u covers 2u and 2u + 1, so u' = (u - 0.5) / 2.
    """
    h, w = image.shape[0] // 2 * 2, image.shape[1] // 2 * 2
    a = np.asarray(image[:h, :w], dtype=np.float32)
    return (a[0::2, 0::2] + a[1::2, 0::2] + a[0::2, 1::2] + a[1::2, 1::2]) * np.float32(0.25)


@njit(cache=True, nogil=True)
def _remap(image, mapx, mapy, out):
    h, w, c = image.shape
    for y in range(out.shape[0]):
        for x in range(out.shape[1]):
            u, v = mapx[y, x], mapy[y, x]
            if u < 0 or v < 0 or u > w - 1 or v > h - 1:
                for k in range(c):
                    out[y, x, k] = 0
                continue
            iu, iv = min(int(u), w - 2), min(int(v), h - 2)
            a, b = np.float32(u - iu), np.float32(v - iv)
            for k in range(c):
                top = image[iv, iu, k] * (1 - a) + image[iv, iu + 1, k] * a
                low = image[iv + 1, iu, k] * (1 - a) + image[iv + 1, iu + 1, k] * a
                out[y, x, k] = top * (1 - b) + low * b


def remap(image, mapx, mapy):
    """Bilinear samples of `image` (h, w[, c]) at pixel maps (H, W): float32, 0 outside the picture."""
    a = np.ascontiguousarray(image, dtype=np.float32)
    flat = a.ndim == 2
    if flat:
        a = a[..., None]
    out = np.empty((*mapx.shape, a.shape[2]), np.float32)
    _remap(a, np.ascontiguousarray(mapx, np.float32), np.ascontiguousarray(mapy, np.float32), out)
    return out[..., 0] if flat else out
