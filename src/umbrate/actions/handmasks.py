"""Masks drawn by hand, checked and measured as those that the stage makes.

A stage's result says what it found when it ran; strokes come after it. So masks that were drawn are looked at when they
are there: how much of the picture they take in, whether they touch its edge, whether they fit their neighbors, and how
sharp the photo is inside.
"""

from dataclasses import dataclass, field

import numpy as np

from ..core.errors import UmbrateError
from ..core.imaging.sharpness import soft_ones
from ..core.masking.clean import doubts
from ..sitting.masks import THING, decode_kinds, mask_blobs
from ..sitting.photos import located
from ..stages.masks.files import measured


@dataclass
class HandMasks:
    """What was found; dictionaries go by photo id.

    Attributes
    ----------
    share : dict
        Of the picture inside each mask drawn by hand.
    sharpness : dict
        Of the photo inside it.
    soft : set of int
    odd : dict
        What is odd about a mask, as the end of a sentence that begins with its name.
    """

    share: dict = field(default_factory=dict)
    sharpness: dict = field(default_factory=dict)
    soft: set = field(default_factory=set)
    odd: dict = field(default_factory=dict)


def check_by_hand(job, sitting, known=None, check=lambda: None):
    """The HandMasks of a sitting.

    Parameters
    ----------
    job, sitting
        Read only.
    known : dict, optional
        What was measured before, by photo's hash and mask; new values are put into it.
    check : callable
        Called for every photo; may raise.

    A photo or mask that cannot be read is left out: whoever uses it says what is wrong.
    """
    known = {} if known is None else known
    by_hand, masks, made = job.hand_masks(sitting.id), mask_blobs(job, sitting), job.result(sitting.id, "masks")
    if not by_hand:
        return HandMasks()
    rows = []
    for p in job.photos(sitting.id, aside=False):
        key = masks.get(p.id)
        if key is None:
            continue
        check()
        at = (p.hash, key)
        try:
            if at not in known:
                known[at] = measured(located(job, p), decode_kinds(job.blobs.get_bytes(key), p) == THING)
        except (UmbrateError, OSError):
            continue
        value, area, edge = known[at]
        rows.append((p, area, edge, value))
    out = HandMasks()
    sharp = dict(made.figures.sharpness) if made else {}
    for p, area, _, value in rows:
        if p.id in by_hand:
            out.share[p.id] = area / (p.width * p.height)
            out.sharpness[p.id] = sharp[p.id] = float(value)
    odd = doubts([r[1] for r in rows], [r[2] for r in rows], [r[0].width * r[0].height for r in rows])
    out.odd = {rows[k][0].id: text for k, text in odd.items() if rows[k][0].id in by_hand}
    ids = [p.id for p, *_ in rows if p.id in sharp]
    soft = soft_ones(np.array([sharp[i] for i in ids])) if ids else ()
    out.soft = {ids[k] for k in soft} & set(by_hand)
    return out
