"""What is computed photo by photo and pair by pair: features, matches, relative poses, and what each depends on."""

import hashlib
import json
from dataclasses import dataclass

import numpy as np

from ...core.errors import UmbrateError
from ...core.features.detect import FEW, Features, detect, joined
from ...core.features.match import match
from ...core.features.slanted import detect_slanted
from ...core.imaging.filters import halve_by_area, halve_mask
from ...core.imaging.sharpness import LUMA
from ...core.poses.pairs import relate
from ...job.blobs import BlobStore
from ...job.contents import FEATURES
from ...sitting.masks import THING, TURNS, decode_kinds
from ...sitting.photos import photo_picture
from .figures import FIRST, is_deeper, is_slanted

#: raised when features, or matches, are found in another way: what was kept of them is found anew
FEATURE_VERSION, MATCH_VERSION = 2, 1
HALVED_MASK_VERSION = 2  #: of the rule that makes the masks of large photos smaller
DEEPER_BELOW = 0.35  #: of the features a photo may have: with fewer, a deeper look finds more
DEEPER_SHARE = 0.5  #: of the features a photo may have that fainter ones fill up to in a deeper look


@dataclass(frozen=True)
class PhotoFeatures:
    """A photo as matching sees it: unit descriptors (n, 128), pixels (n, 2), lens vector, longer side."""

    unit: np.ndarray
    xy: np.ndarray
    lens: np.ndarray
    width: int


def looks_around(settings, look):
    """Whether features on what turns with the object count."""
    return settings.around == "always" or (settings.around == "when needed" and is_deeper(look))


def feature_key(photo, mask, settings, look=FIRST):
    """What the features of a photo depend on, as a short hash."""
    version = [] if FEATURE_VERSION == 1 else [FEATURE_VERSION]
    if mask and max(photo.width, photo.height) > settings.largest_side:
        version.append(HALVED_MASK_VERSION)
    if look != FIRST or looks_around(settings, look):
        version.append([look, looks_around(settings, look)])
    text = json.dumps([photo.hash, mask, settings.features, settings.fine, settings.largest_side, *version])
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def find_features(blobs, masks, settings, cached, look, upright, photo):
    """Work item: the features of a photo, and the key of the blob that keeps them.

    upright : keys of features of the look before, by photo id, to which a slanted one adds its own
    """
    blobs = BlobStore(blobs)
    if photo.id in cached:
        try:
            return Features(**blobs.get_arrays(cached[photo.id], FEATURES)), cached[photo.id]
        except UmbrateError:
            pass  # found again below
    gray = (photo_picture(photo) @ LUMA) / np.float32(255)
    halvings = 0
    while max(gray.shape) > settings.largest_side:
        gray = halve_by_area(gray)
        halvings += 1
    mask = None
    if photo.id in masks:
        kinds = decode_kinds(blobs.get_bytes(masks[photo.id]), photo)
        mask = halve_mask(kinds >= (TURNS if looks_around(settings, look) else THING), halvings)
    few = DEEPER_SHARE if is_deeper(look) else FEW
    # a photo that was halved has its finest detail left out on purpose
    finer, factor = settings.fine and not halvings, 2**halvings
    if photo.id in upright:
        f = Features(**blobs.get_arrays(upright[photo.id], FEATURES))
    else:
        f = detect(gray, mask, settings.features, upsample=finer, few=few).magnified(factor)
    if is_slanted(look):
        more = detect_slanted(gray, mask, settings.features, upsample=finer, few=few)
        f = joined([f, more.magnified(factor)])
    return f, blobs.put_arrays(**f.arrays())


def match_photos(photos, settings, cached, ij):
    """Work item: rows (k, 2) of the features of two photos that look alike."""
    if ij in cached:
        return cached[ij]
    i, j = ij
    return match(photos[i].unit, photos[j].unit, settings.ratio)


def relate_photos(photos, settings, lenses, item):
    """Work item: the PairGeometry of two photos (i, j, matches) with some lens vectors, or None."""
    i, j, m = item
    a, b = photos[i], photos[j]
    threshold = settings.verify_px * max(a.width, b.width) / 1600.0
    return relate(m, a.xy, lenses[i], b.xy, lenses[j], threshold_px=threshold, seed=settings.seed + 1009 * i + j)


def match_key(settings):
    """What matches depend on besides the features."""
    return f"ratio {settings.ratio}" + ("" if MATCH_VERSION == 1 else f", {MATCH_VERSION}")
