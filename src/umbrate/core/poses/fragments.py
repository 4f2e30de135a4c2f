"""All photos of a sitting: the block, what is not connected to it, and a focal length that the files tell wrongly.

Two objects in one folder, or a ring with a gap, make groups of photos that match among themselves only. Each is solved
on its own; the largest is the block, the others are fragments, in frames of their own, until something ties them down.

A focal length from a photo's file holds the lens near it, because a few photos alone tell it badly. Where many photos
pull it away from there by more than real files ever are off, it is the file that is wrong (an extender that the camera
does not know of, a lens mounted by an adapter, a picture scaled or cut by somebody): the solve starts again from the
focal length it pulls to, held loosely.
"""

import numpy as np

from .grow import FOCAL_SIGMA, Grower
from .solution import FRAGMENT, SCENE, Reason, Solution
from .tie import split_by_marks, tie, why_not_tied

LEAST_PHOTOS = 3  #: a fragment of fewer says nothing that its pair does not
KNOWS_LENS = 8  #: a block of so many photos knows its lens; fragments take it as it is
PULLED = 4.0  #: so many standard deviations from what the file says: the file is wrong
LOOSE_SIGMA = 0.4  #: how loosely a doubted focal length is held, as a share of itself
OTHER_FOCALS = (1.0, 2.0, 0.5)  #: tried where hardly anything stands


def solve(
    features_xy, relate, lenses, lens_of, widths, *, trusted=(), lens_sigma=None, resume=None, marks=None, **options
):
    """Solve all photos: the largest block, then what is left on its own.

    Parameters
    ----------
    features_xy, lens_of, widths, trusted, lens_sigma, options
        As `Grower` takes them.
    relate : callable(lenses (m, 10)) -> dict of (i, j) to PairGeometry
        Verifies all matches with some lenses.
    lenses : (m, 10)
    resume : (poses (n, 4, 4), lenses (m, 10)), optional
        What was solved before.
    marks : dict of number to PointSightings, optional
        Places marked by hand, which tie fragments to the block.

    Returns
    -------
    Solution
    """
    lenses = np.array(lenses, float)
    sigma = np.full(lenses.shape, np.nan) if lens_sigma is None else np.array(lens_sigma, float)
    start, wrong = lenses.copy(), {}

    def grow(pairs, vectors, fixed=trusted, before=None):
        g = Grower(
            features_xy, pairs, vectors, lens_of, widths, trusted=fixed, lens_sigma=sigma, **options
        )  # fmt: skip
        if before is not None:
            g.resume(*before)
        return g.run()

    pairs = relate(lenses)
    made = grow(pairs, lenses, before=resume)
    if options.get("solve_lens", True) and len(trusted) < len(lenses):
        for _ in range(2):
            doubted = _doubted(made.block, lenses, sigma, trusted)
            deep = sum(g.kind == SCENE for g in pairs.values())
            if not len(doubted) or deep < 0.5 * len(pairs):  # planes and turns on the spot tell no focal length
                break
            for m in doubted:
                wrong.setdefault(int(m), float(start[m, 0]))
            lenses, sigma[doubted, 0] = _with_focal(lenses, doubted, made.block.lenses[:, 0]), np.nan
            sigma[doubted, 0] = LOOSE_SIGMA * lenses[doubted, 0]
            pairs = relate(lenses)
            made = grow(pairs, lenses)
        paired = len({i for p in pairs for i in p})
        if not wrong and paired >= 4 and made.block.solved.sum() < 0.5 * paired:
            made, pairs, lenses, wrong = _other_focal(relate, grow, lenses, sigma, trusted, made, pairs)
    if marks:
        parts = split_by_marks(made.block, marks)
        poses, tied = tie(*parts, marks) if parts else (None, None)
        if poses is not None:
            again = grow(pairs, tied, before=(poses, tied))
            made = again if again.block.solved.sum() >= made.block.solved.sum() else made
    block, parts = made.block, [made]
    left = ~block.solved
    if block.solved.sum() >= 2:
        options["report"] = None  # fragments stand in frames of their own
        while True:
            rest = {p: g for p, g in pairs.items() if left[p[0]] and left[p[1]]}
            if len({i for p in rest for i in p}) < LEAST_PHOTOS:
                break
            known = np.unique(np.asarray(lens_of)[block.solved]) if block.solved.sum() >= KNOWS_LENS else []
            more = grow(rest, block.lenses, fixed=tuple({*trusted, *(int(m) for m in known)}))
            if more.block.solved.sum() < LEAST_PHOTOS:
                break
            parts.append(more)
            left &= ~more.block.solved
    parts.sort(key=lambda g: -int(g.block.solved.sum()))
    if marks and len(parts) > 1:
        parts = _tied(parts, marks, lambda before: grow(pairs, before[1], before=before))
    main = parts[0]
    reasons = {**made.reasons, **main.reasons} if len(parts) > 1 else dict(main.reasons)
    for k, g in enumerate(parts[1:]):
        others = np.flatnonzero(g.block.solved)
        for i in others:
            more = why_not_tied(main.block, g.block, marks) if marks else ""
            text = (
                f"it is solved in fragment {k + 2} with {len(others) - 1} others, which nothing connects to the block"
            ) + (f" ({more})" if more else "")
            reasons[int(i)] = Reason(FRAGMENT, text, tuple(int(o) for o in others if o != i))
    reasons = {i: r for i, r in sorted(reasons.items()) if not main.block.solved[i]}
    return Solution(main.block, reasons, main.bridges, [g.block for g in parts[1:]], wrong, pairs)


def _tied(parts, marks, grow):
    """What was Grown, after every fragment that marked places tie to the largest has been brought to it."""
    main, rest = parts[0], parts[1:]
    again = True
    while again:
        again = False
        for part in rest:
            poses, lenses = tie(main.block, part.block, marks)
            if poses is None:
                continue
            more = grow((poses, lenses))
            if more.block.solved.sum() > main.block.solved.sum():
                main, rest, again = more, [g for g in rest if g is not part], True
                break
    return [main, *rest]


def _doubted(block, lenses, sigma, trusted):
    """Lenses whose solved focal length is too far from what it was held by."""
    if block.solved.sum() < 4:
        return np.zeros(0, int)
    held = np.where(np.isfinite(sigma[:, 0]), sigma[:, 0], FOCAL_SIGMA * lenses[:, 0])
    used = np.isin(np.arange(len(lenses)), np.asarray(block.lens_of)[block.solved])
    far = np.abs(block.lenses[:, 0] - lenses[:, 0]) > PULLED * held
    return np.flatnonzero(used & far & ~np.isin(np.arange(len(lenses)), list(trusted)))


def _with_focal(lenses, which, focal):
    """The same lenses, some with the focal length (m,) that was solved."""
    out = lenses.copy()
    out[which, 0] = focal[which]
    return out


def _other_focal(relate, grow, lenses, sigma, trusted, made, pairs):
    """Where hardly anything stands: twice and half the focal length, held loosely; the most photos win."""
    open_ = np.array([m for m in range(len(lenses)) if m not in set(trusted)])
    best, held = (made, pairs, lenses, {}), sigma[open_, 0].copy()
    for factor in OTHER_FOCALS:
        trial = lenses.copy()
        trial[open_, 0] *= factor
        sigma[open_, 0] = LOOSE_SIGMA * trial[open_, 0]
        related = relate(trial)
        more = grow(related, trial)
        if more.block.solved.sum() > 1.2 * best[0].block.solved.sum():
            moved = {int(m): float(lenses[m, 0]) for m in open_}
            best = more, related, trial, {m: f for m, f in moved.items() if abs(more.block.lenses[m, 0] / f - 1) > 0.1}
    if best[0] is made:
        sigma[open_, 0] = held
    return best
