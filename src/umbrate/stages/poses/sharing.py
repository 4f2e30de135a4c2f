"""One lens for all sittings: what sittings that were taken with the same lens tell each other of it.

Every run first solves the sitting alone. What its own sightings then say of the lens, with the full information matrix,
is kept with its figures, for the others. What others keep is added to what holds this sitting's lens, and everything is
adjusted once more. So nothing comes back to where it was said first, and the order of the runs does not matter: where a
later sitting knows the lens of an earlier one much better, the earlier one is stale, and adjusted again in seconds.

Sittings that contradict each other (the zoom or the focus was moved in between) are found by how far either would have
to bend for a lens that suits both, and keep their own.
"""

from dataclasses import dataclass, replace

import numpy as np

from ...core.geometry.lens import PARAMETER_NAMES
from ...core.poses.covariance import known_median
from ...core.poses.evidence import evidence
from ...core.poses.grow import FINISH_PX, Grower
from ...core.poses.growing import LOSS_SCALE
from ...core.poses.lensprior import LensPrior, disagreement, gain, spreads
from ...core.poses.tracks import Tracks
from ...sitting.lenses import lens_groups, same_lens
from ...sitting.photos import photo_refs
from .figures import Parted, Shared, Told, ToldBy

#: sightings of one sitting err together, not one by one: what they say of a lens is taken to be off by so many times
#: what its standard deviations tell; if chi square is still so many of its own too large, two contradict each other
ERR_TOGETHER, CONTRADICTS = 1.5, 4.0
HELD_BETTER = 0.5  #: a parameter that few photos leave as it was is solved where others narrow it to this share
MOVED = 3.0  #: or its lens would come to lie so many standard deviations of each parameter elsewhere
WORTH = 2.0  #: a solved sitting is adjusted again where some direction of its lens would be known so many times better


@dataclass(frozen=True)
class Heard:
    """What another sitting tells of a lens.

    Attributes
    ----------
    sitting, name : its number and name
    photos : how many of its photos it has that from
    lens : the row of the lens here
    prior : LensPrior of one lens
    """

    sitting: int
    name: str
    photos: int
    lens: int
    prior: LensPrior


def told_of(prior, photos, lens_of, solved):
    """What a LensPrior of m lenses says, as figures: a Told for each lens that anything is known of."""
    out = []
    for k in range(len(prior.mean)):
        if prior.information[k].any():
            ids = [p.id for p, m, on in zip(photos, lens_of, solved, strict=True) if m == k and on]
            out.append(Told(lens=k, photos=ids, mean=prior.mean[k].tolist(), information=prior.information[k].tolist()))
    return out


def prior_of(told):
    """The LensPrior of one lens that a Told or a ToldBy holds."""
    return LensPrior(np.array([told.mean]), np.array([told.information]))


def shares(job, sitting):
    """Whether a sitting is to have its lens in common with others."""
    return job.settings(sitting.id, "poses").get("share_lens", True)


def heard(job, sitting, photos, groups):
    """What other sittings tell of the lenses of a sitting's photos: a list of Heard, nearest in the job first.

    photos : PhotoRefs of the sitting
    groups : its photos with one lens, as the Lens stage found them; those with a trusted card hear nothing
    """
    trusted = {i for g in groups if g.lens is not None and g.use == "trusted" for i in g.photos}
    _, lens_of, _ = lens_groups(photos)
    mine = {}
    for p, k in zip(photos, lens_of, strict=True):
        if p.id not in trusted:
            mine.setdefault(k, []).append(p)
    content = {p.hash for p in photos}
    others = [s for s in job.photo_sittings() if s.id != sitting.id]
    out = []
    for s in sorted(others, key=lambda s: (abs(s.id - sitting.id), s.id)):
        done = job.result(s.id, "poses")
        if done is None or not done.figures.told or not shares(job, s):
            continue
        refs = {p.id: p for p in photo_refs(job, s)}
        if content & {p.hash for p in refs.values()}:
            continue  # the same photos would count twice
        for t in done.figures.told:
            if not t.photos or not refs.keys() >= set(t.photos):
                continue  # photos left it since, perhaps for this sitting: they would count twice
            theirs = [refs[i] for i in t.photos]
            k = next((k for k, group in mine.items() if same_lens(group, theirs)), None)
            if k is not None:
                out.append(Heard(s.id, s.name, len(theirs), k, prior_of(t)))
    return out


def agree(own, heard_of):
    """Which of those that tell of a lens agree with what a sitting says itself.

    own : LensPrior of all its lenses

    Returns
    -------
    taken : list of Heard
    parted : list of (Heard, sentence)
        Those that contradict, and what of.
    """
    taken, parted, so_far = [], [], {}
    for h in heard_of:
        before = so_far.get(h.lens) or own.of([h.lens])
        if not _agrees(before, h.prior):
            parted.append((h, _difference(before, h)))
        else:
            taken.append(h)
            so_far[h.lens] = before.plus([h.prior])
    return taken, parted


def _agrees(a, b):
    chi, n = disagreement(a, b)
    return chi <= ERR_TOGETHER**2 * (n + CONTRADICTS * np.sqrt(2 * n))


def _difference(own, h):
    """In what two contradict each other most, as a clause."""
    sigma = np.sqrt(spreads(own)[0] ** 2 + spreads(h.prior)[0] ** 2)
    d = np.where(np.isfinite(sigma), np.abs(own.mean - h.prior.mean)[0] / np.where(np.isfinite(sigma), sigma, 1.0), 0.0)
    k = int(np.argmax(d))
    if k == 0:
        share = own.mean[0, 0] / h.prior.mean[0, 0] - 1
        return f"the focal length is {own.mean[0, 0]:.1f} pixels here and {h.prior.mean[0, 0]:.1f} there ({share:+.2%})"
    digits = 1 if k < 3 else 5
    return f"{PARAMETER_NAMES[k]} is {own.mean[0, k]:.{digits}f} here and {h.prior.mean[0, k]:.{digits}f} there"


def together(prior, taken):
    """A LensPrior of all lenses with what is heard of them."""
    more = []
    for h in taken:
        mean, information = prior.mean.copy(), np.zeros_like(prior.information)
        mean[h.lens], information[h.lens] = h.prior.mean[0], h.prior.information[0]
        more.append(LensPrior(mean, information))
    return prior.plus(more)


def known_besides(before, after):
    """Lens parameters that are held so much better `after` others were heard than `before` that they can be solved.

    before, after : LensPriors of all lenses
    """
    a, b = spreads(before), spreads(after)
    return tuple(int(k) for k in np.flatnonzero((b < HELD_BETTER * a).any(0)) if k < PARAMETER_NAMES.index("b1"))


def shared_figures(taken, parted, alone=None):
    """Shared of what was taken and what not; alone : (turn in degrees, center in %) before."""
    turn, center = alone or (None, None)
    return Shared(
        taken=[_told_by(h) for h in taken],
        parted=[Parted(sitting=h.sitting, name=h.name, why=why) for h, why in parted],
        turn_alone_deg=turn, center_alone_percent=center,
    )  # fmt: skip


def _told_by(h):
    return ToldBy(
        sitting=h.sitting, name=h.name, count=h.photos, lens=h.lens,
        mean=h.prior.mean[0].tolist(), information=h.prior.information[0].tolist(),
    )  # fmt: skip


def knows_better(figures, heard_of):
    """Whose knowledge would make a solved sitting's lens much better, or another one: a name, or "".

    figures : PosesFigures of the sitting
    heard_of : list of Heard, as it is now
    """
    parted = {x.sitting for x in figures.shared.parted}  # another run looks at them again, nothing else does
    for t in figures.told:
        own = prior_of(t)
        before = own.plus([prior_of(x) for x in figures.shared.taken if x.lens == t.lens])
        agreeing = [h for h in heard_of if h.lens == t.lens and h.sitting not in parted and _agrees(own, h.prior)]
        after = own.plus([h.prior for h in agreeing])
        shift = (after.mean - before.mean)[0]
        moved = float(shift @ before.information[0] @ shift) > MOVED**2 * len(shift)
        if agreeing and (moved or gain(before, after) > WORTH):
            known = {x.sitting for x in figures.shared.taken}
            return next((h.name for h in agreeing if h.sitting not in known), agreeing[0].name)
    return ""


def with_others(making, solution):
    """The Solution of a Making with what other sittings know of the lens, as far as they agree with what it says."""
    b = solution.block
    if b.solved.sum() < 2 or not len(b.points):
        return solution
    cov = b.covariance(of_points=False)
    own = evidence(b, cov.unit, LOSS_SCALE)
    making.told = told_of(own, making.photos, making.lens_of, b.solved)
    others = [h for h in making.inputs.heard if h.lens not in making.trusted]
    taken, parted = agree(own, others)
    if taken:
        making.report.progress(0.95, "adjusting with what other sittings know of the lens")
        known = b.prior or LensPrior.of_sigmas(b.lenses, np.inf)
        prior = together(known, taken)
        photos = replace(making.photo_set(), prior=prior, free=known_besides(known, prior))
        tracks = Tracks(b.start.astype(np.int64), b.photo, b.feature)
        grower = Grower(photos, {}, making.ties(), making.grow_settings(), tracks=tracks)
        grower.resume(b.poses, b.lenses)
        made = grower.adjust_only(FINISH_PX[-1:])  # it stands, and only its lens moves
        if made.block.solved.sum() < b.solved.sum():
            parted += [(h, "photos would be lost with that lens") for h in taken]
            taken = []
        else:
            solution = replace(solution, block=made.block)
    making.shared = shared_figures(taken, parted, known_median(b, cov))
    return solution
