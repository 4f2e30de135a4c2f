"""The evidence that a photo is soft: a piece of it at full size beside the same spot in a sharp neighbor.

A number convinces nobody; the eye sees at once whether fine detail is missing, if it looks where there is
detail and at the same thing in both. Features of both are matched, coarse ones, which softness leaves; where several
that lie together have moved alike, both show the same. Where there are no such, pieces are taken where the photo shows
most, and their like is looked for in the neighbor by normalized correlation of both, blurred so much that the softness
makes no difference: a plain edge is like any other, so nothing is promised then.
"""

import numpy as np
import scipy

from ..imaging.filters import gaussian_blur, halve_by_area, halve_mask
from ..imaging.sharpness import gray_of
from .detect import detect
from .match import match, unit_descriptors

SIDE = 640  #: pictures are compared halved until their longer side is no longer than this
BLUR_PX = 2.0
MATCHED_SIDE = 1300  #: features are matched in pictures halved until their longer side is no longer
FEATURES = 2500
ALIKE = 0.15  #: of a piece's side: matches that lie in one piece and moved alike within that belong together
AGREED = 5  #: such matches say that both show the same spot
NEAR = 0.25  #: a spot so far off, as a share of the longer side, must be wholly alike to be taken for the same


def _small(gray):
    n = 0
    while max(gray.shape) > SIDE:
        gray = halve_by_area(gray)
        n += 1
    return gaussian_blur(gray, BLUR_PX), n


def detail_round(gray, size, mask=None):
    """How much detail there is in a window of `size` pixels round each place, inside the mask if there is one.

    gray : (h, w) float32; size : int; mask : (h, w) bool

    Returns
    -------
    density : (h // 2**halvings, w // 2**halvings) float32
        0 where the window would reach over the picture's edge.
    halvings : int
    """
    small, n = _small(gray)
    window = max(3, size >> n)
    detail = np.abs(small - gaussian_blur(small, 2 * BLUR_PX))
    if mask is not None and mask.any():
        detail = detail * halve_mask(mask, n)
    density, r = np.zeros_like(detail), window // 2
    inner = np.s_[r : max(r, detail.shape[0] - r), r : max(r, detail.shape[1] - r)]
    density[inner] = scipy.ndimage.uniform_filter(detail, window, mode="constant")[inner]
    return density, n


def telling_spots(gray, size, mask=None, count=6):
    """Where a picture has most detail (see `detail_round`): up to `count` places (x, y), no two in one window."""
    density, n = detail_round(gray, size, mask)
    window, spots = max(3, size >> n), []
    while len(spots) < count and density.any():
        y, x = np.unravel_index(int(density.argmax()), density.shape)
        spots.append((int((x + 0.5) * 2**n), int((y + 0.5) * 2**n)))
        density[max(0, y - window) : y + window + 1, max(0, x - window) : x + window + 1] = 0
    return spots or [(gray.shape[1] // 2, gray.shape[0] // 2)]


def same_spot(gray, spot, size, other, reach=0.25):
    """Where another picture shows what one shows round a spot.

    Parameters
    ----------
    gray, other : (h, w) float32
        Pictures of one size.
    spot : (x, y)
    size : int
        Side of the window round the spot, in pixels.
    reach : float
        How far off it is looked for, as a share of the longer side.

    Returns
    -------
    spot : (x, y) of int
    likeness : float
        Normalized correlation there, at most 1.
    """
    a, n = _small(gray)
    b, _ = _small(other)
    r = max(4, (size >> n) // 2)
    cx, cy = (min(max(int(v / 2**n), r), s - r - 1) for v, s in zip(spot, a.shape[::-1], strict=True))
    piece = a[cy - r : cy + r + 1, cx - r : cx + r + 1]
    piece = piece - piece.mean()
    count = piece.size
    product = scipy.signal.fftconvolve(b, piece[::-1, ::-1], mode="same")
    mean = scipy.ndimage.uniform_filter(b.astype(np.float64), 2 * r + 1)
    spread = np.sqrt(
        np.maximum(scipy.ndimage.uniform_filter(b.astype(np.float64) ** 2, 2 * r + 1) - mean**2, 1e-6) * count
    )
    likeness = product / (spread * max(float(np.linalg.norm(piece)), 1e-6))
    far = int(reach * max(b.shape))
    y0, x0 = max(r, cy - far), max(r, cx - far)
    part = likeness[y0 : min(b.shape[0] - r, cy + far + 1), x0 : min(b.shape[1] - r, cx + far + 1)]
    # a pattern that repeats is found twice: the nearer one is the likelier
    v, u = np.mgrid[y0 : y0 + part.shape[0], x0 : x0 + part.shape[1]]
    off = np.hypot(v - cy, u - cx) / (NEAR * max(b.shape))
    y, x = np.unravel_index(int((part - off**2).argmax()), part.shape)
    # a whole number of small pixels off, so that the remainder of the spot is kept
    return (
        int(spot[0] + (x + x0 - cx) * 2**n),
        int(spot[1] + (y + y0 - cy) * 2**n),
    ), float(part[y, x])


def matched_spot(gray, other, size, mask=None):
    """The spot round which most matched features moved alike from one picture to another.

    gray, other : (h, w) float32; size : side of the window round the spot in pixels; mask : (h, w) bool, of the first

    Returns
    -------
    here, there : (x, y) of float
        None, None without any match.
    count : int
        How many matches agree, itself among them.
    """
    found = []
    for picture, inside in ((gray, mask), (other, None)):
        n = 0
        while max(picture.shape) > MATCHED_SIDE:
            picture, inside = halve_by_area(picture), None if inside is None else halve_mask(inside)
            n += 1
        found.append(detect(picture, inside, FEATURES).magnified(2**n))
    pairs = match(*(unit_descriptors(f.descriptors) for f in found))
    if not len(pairs):
        return None, None, 0
    p, q = (f.xy[pairs[:, k]].astype(np.float64) for k, f in enumerate(found))
    near = scipy.spatial.cKDTree(p).query_ball_point(p, size / 2)
    moved = q - p
    counts = [int((np.abs(moved[g] - moved[i]).max(1) < ALIKE * size).sum()) for i, g in enumerate(near)]
    best = int(np.argmax(counts))
    return tuple(p[best]), tuple(q[best]), counts[best]


def corner(shape, spot, size):
    """The first pixel (x, y) of a part of `size` pixels round a spot, moved inside a picture of shape (w, h)."""
    return tuple(min(max(int(s) - size // 2, 0), max(0, n - size)) for s, n in zip(spot, shape, strict=True))


def crop(picture, spot, size):
    """The part (size, size, c) of a picture round a spot (x, y), moved inside where it would reach over the edge."""
    x, y = corner(picture.shape[1::-1], spot, size)
    return np.ascontiguousarray(picture[y : y + size, x : x + size])


def evidence(soft, sharp, size, mask=None, shared=None):
    """Pieces of a soft picture and of a sharp one that show the same spot, pixel for pixel.

    Parameters
    ----------
    soft, sharp : (h, w, 3) uint8
        Pictures of one size.
    size : int
        Side of the pieces in pixels.
    mask : (h, w) bool, optional
        Where the object is in the soft one.
    shared : (n, 2, 2) float, optional
        Sightings of one point in both, where such are known: the spot is the one with most detail round it.

    Returns
    -------
    soft_piece, sharp_piece : (size, size, 3) uint8
    spots : ((x, y), (x, y))
        Their centers.
    sure : bool
        Whether features or known sightings say that both are the same spot.
    """
    a, b = gray_of(soft), gray_of(sharp)
    if shared is not None and len(shared):
        density, n = detail_round(a, size, mask)
        at = np.clip((shared[:, 0] / 2**n).astype(int), 0, np.array(density.shape[::-1]) - 1)
        best = int(density[at[:, 1], at[:, 0]].argmax())
        here, there = (tuple(round(float(v)) for v in shared[best, k]) for k in (0, 1))
        sure = True
    else:
        here, there, count = matched_spot(a, b, size, mask)
        sure = count >= AGREED
        if sure:
            here, there = (tuple(round(v) for v in spot) for spot in (here, there))
        else:
            # of the places with detail the one that is most like one over there
            found = [(same_spot(a, spot, size, b), spot) for spot in telling_spots(a, size, mask)]
            (there, _), here = max(found, key=lambda f: f[0][1])
    return crop(soft, here, size), crop(sharp, there, size), (here, there), sure
