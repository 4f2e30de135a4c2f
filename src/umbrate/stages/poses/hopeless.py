"""Photos from which no block can come: said early, with what is to blame, its evidence, and what to try first."""

import numpy as np

from ...core.errors import UmbrateError
from ...core.features.detect import FEW
from ...core.features.match import like_each_other
from ...core.features.still import still_features
from ...core.imaging.sharpness import LUMA
from ...core.poses.solution import TURNED
from ...sitting.masks import THING, decode_kinds
from ...sitting.photos import photo_picture
from .items import unit_of

FAINT = 1.5  #: with fewer features than so many times what faint ones are sought for, the object is faint
BLANK = 10  #: gray levels between which a photo without anything on it lies
LEAST_UNMOVED = 8  #: photos of a sitting in which something must move
ALL_STILL = 0.99  #: share of the matches that do not move where nothing does
MOST_COMPARED, APART_PX = 2000, 24  #: features of a photo that are compared, and how far apart, 1600 pixels wide
ALL_ALIKE = 0.9  #: share of features that look like others of their photo, where it repeats all over


def _some(things):
    """Three of them, or fewer, from all over."""
    return things[:: max(1, len(things) // 3)][:3]


def check_different(photos):
    """Raise UmbrateError where all photos are one and the same file."""
    if len(photos) >= 2 and len({p.hash or p.id for p in photos}) == 1:
        raise UmbrateError(
            f"All {len(photos)} photos are copies of one file. Bring in those that were taken from the other sides.",
            ("bring in photos",),
        )


def check_moves(making, match):
    """Raise where a few pairs from all over a sitting say that nothing moves at all, before every pair is matched.

    match : callable((i, j)) -> matches
    """
    n, counts, widths = len(making.photos), making.counts, making.widths
    if n < LEAST_UNMOVED or len(set(widths)) > 1:
        return
    matches = {}
    for i in (k * (n - 1) // 8 for k in range(4)):
        m = matches[i, n - 1 - i] = match((i, n - 1 - i))
        if len(m) < 0.3 * min(counts[i], counts[n - 1 - i]):
            return
    share = still_features(counts, making.xy, matches, widths)[1]
    if share > ALL_STILL:
        raise UmbrateError(
            f"Nothing moves in these {n} photos: {100 * share:.1f} % of what matches stays on its pixel. They were "
            "taken from one place, or only the backdrop shows. Walk round the object or turn it, with 10 to 20 degrees "
            "between shots; where it does turn, mask the backdrop.",
            ("bring in photos",),
        )


def no_match(making):
    """The UmbrateError where none of its pairs of photos match."""
    masked, pairs = bool(making.inputs.masks), len(making.matches)
    usual, faint = _is_faint(making)
    low, high = _grays(making)
    where = "inside the masks " if masked else ""
    if high - low < BLANK:
        return UmbrateError(
            f"The photos are blank {where}but for noise: the usual one lies between gray levels {low:.0f} and "
            f"{high:.0f} of 255. First of all look at one at full size: fog, a lens cap, or wrong exposure. A plain "
            "object needs something with detail that turns with it, such as the printed mat.",
            ("go to", "photos"),
        )
    _check_repeats(making, f"None of the {pairs} pairs of photos match")
    if not faint:
        return UmbrateError(
            f"None of the {pairs} pairs of photos show the same surface. The photos must overlap by 60 % or more, be "
            "sharp, and show a matte, textured object. Check the masks too: they may hide the object.",
            ("go to", "masks") if masked else ("bring in photos",),
        )
    return UmbrateError(
        f"None of the {pairs} pairs of photos match: {usual} features were found {where}in the usual photo, hardly any "
        "above noise. The object shows too little detail, or the photos are blank or blurred. First of all look at one "
        "at full size; if it is sharp, let something with detail turn with the object, such as the printed mat. "
        "Targets or chalk spray help too.",
        ("print targets",),
    )


def check_started(making, made):
    """Raise where fewer than two photos stand of what a Making Computed, with what is likely to blame."""
    if made.solution.block.solved.sum() >= 2:
        return
    kinds = {r.kind for r in made.solution.reasons.values()}
    pairs = len(made.solution.pairs)
    if making.described:
        _check_repeats(making, f"No start was found among {pairs} pairs of photos")
    usual, faint = _is_faint(making)
    if TURNED not in kinds and faint:
        raise UmbrateError(
            f"No start was found: {pairs} pairs of photos match, none well enough. The object shows "
            f"little that is clear, {usual} features in the usual photo, most of them faint. First of all let "
            "something with detail turn with it, such as the printed mat; sharper photos, chalk spray or targets help.",
            ("print targets",),
        )
    told = (
        "none with enough points seen from clearly different places"
        if TURNED not in kinds
        else "as if the camera had only been turned on the spot, or nothing had moved before it"
    )
    still = f" {100 * made.still_share:.0f} % of all matches do not move." if made.still_share > 0.5 else ""
    raise UmbrateError(
        f"No start was found: {pairs} pairs of photos match, but {told}.{still} Walk round the "
        "object or turn it, with 10 to 20 degrees between shots; a backdrop that stands still is best masked.",
        ("bring in photos",) if not still else ("go to", "masks"),
    )


def _is_faint(making):
    """The features of the usual photo, and whether they are so few that hardly any is clear."""
    usual = int(np.median(making.counts))
    return usual, usual < FAINT * FEW * making.settings.features


def _grays(making):
    """Between which gray levels most of the usual photo lies, noise aside, inside its mask."""
    told = []
    for p in _some(making.photos):
        gray = photo_picture(p) @ LUMA
        key = making.inputs.masks.get(p.id)
        inside = decode_kinds(making.blobs.get_bytes(key), p) == THING if key else np.ones(gray.shape, bool)
        side = max(4, max(gray.shape) // 200)
        h, w = (x // side for x in gray.shape)
        gray, inside = (
            x[: h * side, : w * side].reshape(h, side, w, side).mean((1, 3)) for x in (gray, inside.astype(np.float32))
        )
        told.append(np.percentile(gray[inside > 0.9], [2, 98]) if (inside > 0.9).any() else np.zeros(2))
    return np.median(told, axis=0)


def _check_repeats(making, text):
    """Raise where features look like others of their own photo, so that everything matches everything."""
    told = []
    for key, xy, width in _some(list(zip(making.described, making.places, making.widths, strict=True))):
        unit = unit_of(making.inputs.blobs, key)
        some = np.linspace(0, len(unit) - 1, min(len(unit), MOST_COMPARED)).astype(int)
        told.append(like_each_other(unit[some], xy[some], APART_PX * width / 1600.0))
    alike = float(np.median(told))
    if alike > ALL_ALIKE:
        raise UmbrateError(
            f"{text}: {100 * alike:.0f} % of the features in the usual photo look like another one in the same photo, "
            "as on graph paper or a weave, so no place is told from the next. First of all put something irregular "
            "beside it that turns with it, such as the printed mat, or stick targets to it.",
            ("print targets",),
        )
