"""A first look at the photos, and others where they promise more.

The first takes what is clear on the object. Where photos stay out, or the block seems folded, everything is looked at
once more: fainter key points count as well, and those on what the masks say turns with the object. Where photos are
few and far apart, key points of each photo squeezed as if seen from the side count as well.
"""

from dataclasses import replace

import numpy as np

from ...core.errors import Cancelled, CannotKeep, UmbrateError
from ...job.blobs import BlobStore
from ...sitting.masks import tells_turning
from ..base import Share
from .figures import DEEPER, FIRST, SLANTED
from .hopeless import check_started
from .inputs import ADJUST, MARKED, START_OVER
from .items import DEEPER_BELOW
from .solving import Making

UNFOLDED = 0.8  #: of the photos of a folded block that an unfolded one must place
MOST_SLANTED, LEFT_OUT = 60, 0.1  #: photos of which, and the share that stays out, from which one looks from the side
CLEAR_SHARE = 0.15  #: of the features a photo may have that the usual photo has to have for that
BY_ORDER = 0.7  #: and its fragments with it, where rounds stand by themselves


def make_block(inputs, settings, report):
    """Solve, go on or adjust, as `inputs.mode` says; returns what was Computed. The better look is taken.

    Raises
    ------
    UmbrateError
        Where fewer than two photos stand.
    """
    making, made = _better_look(inputs, settings, report)
    check_started(making, made)
    return made


def _better_look(inputs, settings, report):
    """The Making whose look is taken, and what it Computed."""
    look = inputs.before.look if inputs.before and inputs.mode != START_OVER else FIRST
    making = Making(inputs, settings, report, look)
    if inputs.mode == ADJUST or settings.ties == MARKED or look != FIRST:
        return making, making.make()
    first = failed = None
    try:
        first = making.make()
    except (Cancelled, CannotKeep):
        raise
    except UmbrateError as e:
        failed = e
    stand = _stand(first)
    taken, made = making, first
    if _promises_more(making, first):
        told = "the block seems folded" if stand and first.fold else f"{stand} of {len(inputs.photos)} stand"
        taken, made = _other_look(taken, made, DEEPER, f"{told}, looking deeper: ", report)
    if _seen_from_the_side(taken, made):
        told = f"{_stand(made)} of {len(inputs.photos)} stand, looking from the side: "
        upright = taken, made.solution.block.solved
        taken, made = _other_look(taken, made, taken.look + SLANTED, told, report, upright)
    if made is None:
        raise failed
    if taken is not making:
        made = replace(made, first_solved=stand, unfolded=bool(first and first.fold and not made.fold))
    return taken, _in_order(taken, made)


def _other_look(taken, made, look, told, report, upright=None):
    """The Making of another look, and what it Computed; what there is where that is no better.

    upright : as of Making
    """
    again = Making(taken.inputs, taken.settings, Share(report, 0.0, 1.0, told), look, upright)
    try:
        other = again.make()
    except (Cancelled, CannotKeep):
        raise
    except UmbrateError:
        return taken, made  # what the look before found, or why it failed, stands
    return (again, other) if _better(made, other) else (taken, made)


def _seen_from_the_side(making, made):
    """Whether features of slanted views may place photos that stay out: they are sharp, and few and far apart."""
    left = len(making.photos) - _stand(made)
    if not _stand(made) or made.fold or len(making.photos) > MOST_SLANTED or left < LEFT_OUT * len(making.photos):
        return False
    return np.median(making.counts) >= CLEAR_SHARE * making.settings.features


def _in_order(making, made):
    """What a Making Computed, by the order of shooting where it is folded and that unfolds it."""
    if not made.fold:
        return made
    making.report.progress(0.9, "the block seems folded: going by the order of shooting")
    again = making.again_in_order(made)
    if again is None or again.fold:
        return made
    apart = sum(int(f.solved.sum()) for f in again.solution.fragments)
    if _stand(again) + apart < BY_ORDER * _stand(made):
        return made
    return replace(again, first_solved=made.first_solved, unfolded=made.unfolded)


def _stand(made):
    """How many photos stand: 0 where it is no block."""
    count = int(made.solution.block.solved.sum()) if made else 0
    return count if count >= 2 else 0


def _promises_more(making, first):
    """Whether a deeper look may place more photos, or unfold them: the object is faint, or something turns with it.

    Photos that are simply bad cost no second run.
    """
    folded = bool(first and first.fold)
    if not making.counts or (_stand(first) == len(making.photos) and not folded):
        return False
    if not folded and np.median(making.counts) < DEEPER_BELOW * making.settings.features:
        return True
    if making.settings.around != "when needed":
        return False
    store = BlobStore(making.inputs.blobs)
    return any(tells_turning(store.get_bytes(m)) for m in making.inputs.masks.values())


def _better(first, second):
    """Whether what a deeper look Computed is to be taken in place of the first, either of which may be None."""
    more, stand = _stand(second), _stand(first)
    if first and first.fold and more and not second.fold:
        return more >= UNFOLDED * stand
    return more > stand and (second.fold is None or bool(first and first.fold))
