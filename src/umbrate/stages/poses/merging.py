"""Merging: the blocks of joined sittings as one, ready for one adjustment over everything.

Every sitting's tie points come along with their sightings. What both sittings see becomes one tie point: targets on
the object, by their number, and the places of its surface that the join found. Targets of the support are other places
in every sitting; those of the first keep their numbers, as lengths are stated between them, those of the others only
tie their own photos.
"""

import numpy as np

from ...core.errors import UmbrateError
from ...core.poses.block import FEATURE, TARGET, Block
from ...job.contents import PAIRS, TIES
from ...sitting.frames import frame_of, load_block
from ...sitting.marks import without_marks
from ...sitting.members import members_of
from .inputs import Before, Inputs, Unchanged
from .sharing import shares


def gather_merged(job, sitting, photos, mode, before, common):
    """The Inputs of an adjustment over all members of a joined row.

    Parameters
    ----------
    before : Before or None
        Of the row's own last result, to adjust that again.
    common : dict
        What all modes of the Poses stage need: groups, targets, masks, removed, marks.
    """
    found = job.join_found(sitting.id)
    members = members_of(job, sitting)
    if not found:
        raise UmbrateError(f"“{sitting.name}” is not joined yet. Run Join first.", ("go to", "join"))
    if found.members != [s.id for s in members]:
        raise UmbrateError(
            f"“{sitting.name}” has other sittings since it was joined. Run Join again.", ("go to", "join")
        )
    lost = [s.name for s, M in zip(members, found.moves, strict=True) if M is None]
    if lost:
        raise UmbrateError(f"“{lost[0]}” hangs on no other sitting. Mend the join first.", ("go to", "join"))
    support = set(found.support)
    foreign = {p.id: k for k, s in enumerate(members) if k for p in job.photos(s.id)}
    if before is None:
        before = _united(job, members, found, support)
    return Inputs(str(job.blobs.folder), photos, mode=mode, before=before, joined=True, foreign=foreign,
                  support=tuple(sorted(support)), apart=_own_lenses(job, members), **common)  # fmt: skip


def _own_lenses(job, members):
    """Photos whose lens is not that of the other members, whatever their files say: photo id to sitting."""
    out, ids = {}, {s.id for s in members}
    for s in members:
        done = job.result(s.id, "poses")
        contradicted = done is not None and any(p.sitting in ids for p in done.figures.shared.parted)
        if contradicted or not shares(job, s):
            out.update(dict.fromkeys((p.id for p in job.photos(s.id)), s.id))
        if done is not None:
            out.update({i: (out.get(i), s.id, zoom) for i, zoom in done.figures.zooms.items()})
    return out


def _united(job, members, found, support):
    """The Before of an adjustment: all members' blocks in the first's plain frame as one."""
    blocks, results = [], [job.result(s.id, "poses") for s in members]
    if None in results:
        name = next(s.name for s, r in zip(members, results, strict=True) if r is None)
        raise UmbrateError(f"“{name}” has no poses (any more). Run Poses there first.", ("go to", "join"))
    for s, M in zip(members, found.moves, strict=True):
        b = without_marks(load_block(job, s))
        blocks.append(b.moved(np.array(M) @ np.linalg.inv(frame_of(job, s).matrix)))
    ties = job.blobs.get_arrays(found.ties, TIES)["ties"]
    block = join_blocks(blocks, ties, support)
    f = [r.figures for r in results]
    unchanged = Unchanged(
        pairs=sum(x.pairs for x in f), pairs_tried=sum(x.pairs_tried for x in f), still=sum(x.still for x in f),
        still_share=max(x.still_share for x in f), reasons={i: r for x in f for i, r in x.reasons.items()},
        bridges=[b for x in f for b in x.bridges],
    )  # fmt: skip
    return Before(
        job.blobs.put_arrays(**block.arrays()),
        {p: key for r in results for (name, p), key in r.artefacts.items() if name == "features"},
        {p: mark for r in results for p, mark in (r.figures.made_from or {}).items()},
        None,
        "",
        {("pairs", None): _pairs(job, results)} if all(r.blob("pairs") for r in results) else {},
        {},
        unchanged,
        crops={i: usual for x in f for i, usual in x.crops.items()},
    )


def _pairs(job, results):
    """Matched pairs of all sittings as one blob."""
    parts = [job.blobs.get_arrays(r.blob("pairs"), PAIRS) for r in results]
    first = np.cumsum([0, *(len(p["photo_ids"]) for p in parts)])
    rows = np.cumsum([0, *(len(p["match"]) for p in parts)])
    return job.blobs.put_arrays(
        photo_ids=np.concatenate([p["photo_ids"] for p in parts]),
        pair=np.concatenate([p["pair"] + k for p, k in zip(parts, first, strict=False)]),
        start=np.concatenate([[0], *(p["start"][1:] + k for p, k in zip(parts, rows, strict=False))]),
        match=np.concatenate([p["match"] for p in parts]),
    )


def join_blocks(blocks, ties, support):
    """Several blocks in one frame as one, as far as an adjustment reads it: without pixels.

    Parameters
    ----------
    blocks : list of Block
        Without marked points.
    ties : (k, 4)
        Positions of two blocks, and the rows of their points that are one place.
    support : set of int
        Targets that are not the same place in all blocks.
    """
    count = [len(b.points) for b in blocks]
    first = np.cumsum([0, *count])
    name = _one_name(blocks, ties, support, first)
    kept, index = np.unique(name, return_inverse=True)
    photos = np.cumsum([0, *(len(b.photo_ids) for b in blocks)])
    lenses = np.cumsum([0, *(len(b.lenses) for b in blocks)])

    def together(what, add=None):
        return np.concatenate([getattr(b, what) + (0 if add is None else add[k]) for k, b in enumerate(blocks)])

    # a target of the support is another place in every sitting: its number means that of the first
    kind = together("kind")
    foreign = (np.arange(first[-1]) >= first[1]) & np.isin(together("label"), list(support))
    kind[(kind == TARGET) & foreign] = FEATURE
    photo, point = together("photo", photos), index[together("point", first)]
    order = np.lexsort((photo, point))
    k = len(order)
    return Block(
        poses=together("poses"), lenses=together("lenses"), lens_of=together("lens_of", lenses),
        points=together("points")[kept], photo=photo[order], feature=together("feature")[order], point=point[order],
        xy=np.zeros((k, 2)), residual=np.zeros((k, 2)), sigma=np.ones(k), photo_ids=together("photo_ids"),
        kind=kind[kept], label=together("label")[kept],
    )  # fmt: skip


def _one_name(blocks, ties, support, first):
    """For every point of all blocks, one after the other, the least row of all points that are the same place."""
    count = [len(b.points) for b in blocks]
    of = np.repeat(np.arange(len(blocks)), count)
    name = np.arange(first[-1])

    def root(i):
        while name[i] != i:
            name[i] = name[name[i]]
            i = name[i]
        return i

    links = [(first[i] + a, first[k] + b) for i, k, a, b in ties if a < count[i] and b < count[k]]
    seen = {}
    for row, n in sorted((first[k] + row, n) for k, b in enumerate(blocks) for n, row in b.targets.items()):
        if n not in support:
            links.append((seen.setdefault(n, row), row))
    members = {}
    for a, b in links:
        a, b = root(a), root(b)
        if a == b:
            continue
        # never two places of one block in one: a wrong tie would tear at both
        here, there = members.get(a, {of[a]}), members.get(b, {of[b]})
        if here & there:
            continue
        a, b = min(a, b), max(a, b)
        name[b] = a
        members[a] = here | there
    return np.array([root(i) for i in range(len(name))])
