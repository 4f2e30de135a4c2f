"""What is computed photo by photo and pair by pair: features, matches, relative poses, and what each depends on."""

import hashlib
import json
from collections import OrderedDict
from functools import lru_cache
from threading import Lock
from typing import NamedTuple

import numpy as np

from ...core.errors import UmbrateError
from ...core.features.detect import FEW, Features, detect, joined
from ...core.features.match import match, nearest_own, unit_descriptors
from ...core.features.slanted import detect_slanted
from ...core.imaging.filters import halve_by_area, halve_mask
from ...core.imaging.sharpness import LUMA
from ...core.poses.pairs import relate
from ...job.blobs import BlobStore
from ...job.contents import FEATURES
from ...sitting.masks import THING, TURNS, decode_kinds
from ...sitting.photos import PhotoRef, photo_picture
from ..executor import anywhere
from .figures import FIRST, is_deeper, is_slanted

#: raised when features, or matches, are found in another way: what was kept of them is found anew
FEATURE_VERSION, MATCH_VERSION = 2, 2
HALVED_MASK_VERSION = 2  #: of the rule that makes the masks of large photos smaller
DEEPER_BELOW = 0.35  #: of the features a photo may have: with fewer, a deeper look finds more
RELATED = 5000  #: pairs whose geometry is in memory, some 10 kB each: while somebody shoots, most stay as they are
DESCRIBED = 64  #: photos whose descriptors are in memory, some 4 MB each
DEEPER_SHARE = 0.5  #: of the features a photo may have that fainter ones fill up to in a deeper look


_related, _RELATING = OrderedDict(), Lock()


class Wanted(NamedTuple):
    """What the features of a photo are found with, and the keys of what is kept already."""

    photo: PhotoRef
    mask: str | None
    cached: str | None  #: of its features as they are wanted
    upright: str | None  #: of those of the look before, to which a slanted one adds its own


def looks_around(settings, look):
    """Whether features on what turns with the object count."""
    return settings.around == "always" or (settings.around == "when needed" and is_deeper(look))


def feature_keys(inputs, settings, look):
    """Of the features of each photo of a run, by its id: what they depend on, and that is all of its mask only where
    what turns with the object counts."""
    outlines = inputs.masks if looks_around(settings, look) else {**inputs.masks, **inputs.things}
    return {p.id: feature_key(p, outlines.get(p.id, ""), settings, look) for p in inputs.photos}


def feature_key(photo, mask, settings, look=FIRST):
    """What the features of a photo depend on, as a short hash."""
    version = [] if FEATURE_VERSION == 1 else [FEATURE_VERSION]
    if mask and max(photo.width, photo.height) > settings.largest_side:
        version.append(HALVED_MASK_VERSION)
    if look != FIRST or looks_around(settings, look):
        version.append([look, looks_around(settings, look)])
    text = json.dumps([photo.hash, mask, settings.features, settings.fine, settings.largest_side, *version])
    return hashlib.sha256(text.encode()).hexdigest()[:16]


@anywhere
def find_features(blobs, settings, look, wanted):
    """Work item: the key of the features of a photo."""
    blobs, photo = BlobStore(blobs), wanted.photo
    if wanted.cached:
        try:
            blobs.get_arrays(wanted.cached, FEATURES)
            return wanted.cached
        except UmbrateError:
            pass  # found again below
    gray = (photo_picture(photo) @ LUMA) / np.float32(255)
    halvings = 0
    while max(gray.shape) > settings.largest_side:
        gray = halve_by_area(gray)
        halvings += 1
    mask = None
    if wanted.mask:
        kinds = decode_kinds(blobs.get_bytes(wanted.mask), photo)
        mask = halve_mask(kinds >= (TURNS if looks_around(settings, look) else THING), halvings)
    few = DEEPER_SHARE if is_deeper(look) else FEW
    # a photo that was halved has its finest detail left out on purpose
    finer, factor = settings.fine and not halvings, 2**halvings
    if wanted.upright:
        f = Features(**blobs.get_arrays(wanted.upright, FEATURES))
    else:
        f = detect(gray, mask, settings.features, upsample=finer, few=few).magnified(factor)
    if is_slanted(look):
        more = detect_slanted(gray, mask, settings.features, upsample=finer, few=few)
        f = joined([f, more.magnified(factor)])
    return blobs.put_arrays(**f.arrays())


@lru_cache(DESCRIBED)
def unit_of(blobs, key):
    """Unit descriptors (n, 128) of features that a blob keeps."""
    return unit_descriptors(BlobStore(blobs).get_arrays(key, FEATURES)["descriptors"])


@lru_cache(DESCRIBED)
def _own_of(blobs, key):
    """How much each of these features looks like another of its photo, see `nearest_own`."""
    f = BlobStore(blobs).get_arrays(key, FEATURES)
    return nearest_own(unit_of(blobs, key), f["xy"], f["scale"])


@anywhere
def match_photos(blobs, ratio, look, keys):
    """Work item: rows (k, 2) of the features of two photos that look alike, from the keys of these features."""
    a, b = (unit_of(blobs, key) for key in keys)
    # what is faint looks like others of its photo by its noise: too many true matches would be left out
    return match(a, b, ratio, None if is_deeper(look) else [_own_of(blobs, key) for key in keys])


class Pair(NamedTuple):
    """What the geometry of two photos is told from: the places (k, 2) of what matches, lenses, and how closely."""

    a: np.ndarray
    lens_a: np.ndarray
    b: np.ndarray
    lens_b: np.ndarray
    threshold_px: float
    seed: int


def pairs_to_relate(matches, xy, lenses, widths, settings):
    """The Pair of every two photos (i, j) with matches (k, 2); the others are lists by photo."""
    out = []
    for (i, j), m in matches.items():
        threshold, seed = settings.verify_px * max(widths[i], widths[j]) / 1600.0, settings.seed + 1009 * i + j
        out.append(Pair(xy[i][m[:, 0]], lenses[i], xy[j][m[:, 1]], lenses[j], threshold, seed))
    return out


@anywhere
def relate_photos(pair):
    """Work item: the PairGeometry of two photos, with rows of the places for its matches, or None."""
    mark = hashlib.blake2b(digest_size=20)
    for part in pair:
        mark.update(np.ascontiguousarray(part).tobytes() + b"|")
    mark = mark.digest()
    with _RELATING:
        if mark in _related:
            _related.move_to_end(mark)
            return _related[mark]
    rows = np.repeat(np.arange(len(pair.a), dtype=np.int32)[:, None], 2, 1)
    found = relate(rows, pair.a, pair.lens_a, pair.b, pair.lens_b, threshold_px=pair.threshold_px, seed=pair.seed)
    with _RELATING:
        _related[mark] = found
        while len(_related) > RELATED:
            _related.popitem(last=False)
    return found


def match_key(settings):
    """What matches depend on besides the features."""
    return f"ratio {settings.ratio}" + ("" if MATCH_VERSION == 1 else f", {MATCH_VERSION}")
