"""All photos of a sitting: the block, what is not connected to it, and a focal length that the files tell wrongly.

Two objects in one folder, or a ring with a gap, make groups of photos that match among themselves only. Each is solved
on its own; the largest is the block, the others are fragments, in frames of their own, until something ties them down.

A focal length from a photo's file holds the lens near it, because a few photos alone determine it badly. Where many
photos pull it away from there by more than real files ever are off, the file is wrong (an extender that the camera does
not know of, a lens mounted by an adapter, a picture scaled or cut by somebody): the solve starts again from the focal
length that the photos pull to, held loosely.
"""

from dataclasses import replace

import numpy as np

from .grow import Grower
from .growing import FOCAL_SIGMA
from .solution import FRAGMENT, SCENE, GrowSettings, HandTies, Reason, Solution
from .tie import split_by_marks, tie, why_not_tied

LEAST_PHOTOS = 3  #: a fragment of fewer says nothing that its pair does not
KNOWS_LENS = 8  #: a block of so many photos knows its lens; fragments take it as it is
PULLED = 4.0  #: so many standard deviations from what the file says: the file is wrong
LOOSE_SIGMA = 0.4  #: how loosely a doubted focal length is held, as a share of itself
OTHER_FOCALS = (1.0, 2.0, 0.5)  #: tried where hardly anything stands


def solve(photos, relate, ties=HandTies(), settings=GrowSettings(), *, resume=None, marks=None):
    """Solve all photos: the largest block, then what is left on its own.

    Parameters
    ----------
    photos : PhotoSet
    relate : callable(lenses (m, 10)) -> dict of (i, j) to PairGeometry
        Verifies all matches with some lenses.
    ties : HandTies
    settings : GrowSettings
    resume : (poses (n, 4, 4), lenses (m, 10)), optional
        What was solved before.
    marks : dict of number to PointSightings, optional
        Places marked by hand, which tie fragments to the block.

    Returns
    -------
    Solution
    """
    return _Solver(photos, relate, ties, settings).solve(resume, marks or {})


class _Solver:
    """All photos, with the lenses that are believed so far and the pairs that they relate."""

    def __init__(self, photos, relate, ties, settings):
        self.photos, self.relate, self.ties, self.settings = photos, relate, ties, settings
        self.lenses = np.array(photos.lenses, float)
        known = photos.lens_sigma
        self.sigma = np.full(self.lenses.shape, np.nan) if known is None else np.array(known, float)
        self.pairs = relate(self.lenses)
        self.wrong = {}  # lenses with a doubted focal length, and what their files say

    def solve(self, resume, marks):
        made = self._grow(self.pairs, self.lenses, before=resume)
        if self.settings.solve_lens and len(self.photos.trusted) < len(self.lenses):
            made = self._with_better_focals(made)
        if marks:
            parts = split_by_marks(made.block, marks)
            poses, tied = tie(*parts, marks) if parts else (None, None)
            if poses is not None:
                again = self._grow(self.pairs, tied, before=(poses, tied))
                made = again if again.block.solved.sum() >= made.block.solved.sum() else made
        parts = self._parts(made)
        if marks and len(parts) > 1:
            parts = _tied(parts, marks, lambda before: self._grow(self.pairs, before[1], before=before))
        return self._solution(made, parts, marks)

    def _grow(self, pairs, lenses, trusted=None, before=None, settings=None):
        trusted = self.photos.trusted if trusted is None else trusted
        photos = replace(self.photos, lenses=lenses, lens_sigma=self.sigma, trusted=trusted)
        g = Grower(photos, pairs, self.ties, settings or self.settings)
        if before is not None:
            g.resume(*before)
        return g.run()

    def _with_better_focals(self, made):
        """What is grown after focal lengths that the photos contradict were held loosely."""
        for _ in range(2):
            doubted = _doubted(made.block, self.lenses, self.sigma, self.photos.trusted)
            deep = sum(g.kind == SCENE for g in self.pairs.values())
            if not len(doubted) or deep < 0.5 * len(self.pairs):
                break  # planes and turns on the spot show no focal length
            for m in doubted:
                self.wrong.setdefault(int(m), float(self.photos.lenses[m][0]))
            self.lenses[doubted, 0] = made.block.lenses[doubted, 0]
            self.sigma[doubted, 0] = LOOSE_SIGMA * self.lenses[doubted, 0]
            self.pairs = self.relate(self.lenses)
            made = self._grow(self.pairs, self.lenses)
        paired = len({i for p in self.pairs for i in p})
        if not self.wrong and "f" not in self.settings.held and paired >= 4 and made.block.solved.sum() < 0.5 * paired:
            made = self._other_focal(made)
        return made

    def _other_focal(self, made):
        """Where hardly anything stands: twice and half the focal length, held loosely; the most photos win."""
        open_ = np.array([m for m in range(len(self.lenses)) if m not in set(self.photos.trusted)])
        first, held, best = self.lenses, self.sigma[open_, 0].copy(), made
        for factor in OTHER_FOCALS:
            trial = first.copy()
            trial[open_, 0] *= factor
            self.sigma[open_, 0] = LOOSE_SIGMA * trial[open_, 0]
            pairs = self.relate(trial)
            more = self._grow(pairs, trial)
            if more.block.solved.sum() > 1.2 * best.block.solved.sum():
                best, self.pairs, self.lenses = more, pairs, trial
                self.wrong = {
                    int(m): float(first[m, 0]) for m in open_ if abs(more.block.lenses[m, 0] / first[m, 0] - 1) > 0.1
                }
        if best is made:
            self.sigma[open_, 0] = held
        return best

    def _parts(self, made):
        """What was Grown, the largest first: the block, then what stands of the photos that are left, on its own."""
        block, parts = made.block, [made]
        left = ~block.solved
        if block.solved.sum() < 2:
            return parts
        known = np.unique(np.asarray(self.photos.lens_of)[block.solved]) if block.solved.sum() >= KNOWS_LENS else []
        trusted = tuple({*self.photos.trusted, *(int(m) for m in known)})
        self.settings = replace(self.settings, report=None)  # fragments stand in frames of their own
        while True:
            rest = {p: g for p, g in self.pairs.items() if left[p[0]] and left[p[1]]}
            if len({i for p in rest for i in p}) < LEAST_PHOTOS:
                break
            more = self._grow(rest, block.lenses, trusted)
            if more.block.solved.sum() < LEAST_PHOTOS:
                break
            parts.append(more)
            left &= ~more.block.solved
        return sorted(parts, key=lambda g: -int(g.block.solved.sum()))

    def _solution(self, made, parts, marks):
        main = parts[0]
        reasons = {**made.reasons, **main.reasons} if len(parts) > 1 else dict(main.reasons)
        for k, g in enumerate(parts[1:]):
            others = np.flatnonzero(g.block.solved)
            for i in others:
                more = why_not_tied(main.block, g.block, marks) if marks else ""
                text = (
                    f"it is solved in fragment {k + 2} with {len(others) - 1} others, which nothing connects to the "
                    "block"
                ) + (f" ({more})" if more else "")
                reasons[int(i)] = Reason(FRAGMENT, text, tuple(int(o) for o in others if o != i))
        reasons = {i: r for i, r in sorted(reasons.items()) if not main.block.solved[i]}
        return Solution(main.block, reasons, main.bridges, [g.block for g in parts[1:]], self.wrong, self.pairs)


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
