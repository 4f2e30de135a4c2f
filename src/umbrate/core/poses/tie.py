"""Tying parts together: a fragment, or a part that floats, brought to the block by points marked in both.

Three places that photos of either side see, two photos of each, say how the one lies to the other: a similarity. It is
only as good as the marks, so everything is then adjusted together, with the marked points as the links; after that the
parts share whatever else their photos match.
"""

from dataclasses import replace
from itertools import combinations, pairwise

import numpy as np

from ..geometry.sightings import PointSightings, locate, pixels
from ..geometry.similarity import fit_similarity, move_pose
from .adjust import adjust
from .reprojection import CAUCHY, Loss, State, observations

LEAST = 3  #: marked places that both sides must see, each in two photos
#: marks of one place that are so far from each other's predictions are of two places; so near, of one. In pixels of a
#: lens of 2000
APART_PX, AGREE_PX = 6.0, 3.0
ASIDE = 0.05  #: and that must not lie on one line: least spread across it, as a share of that along it


def placed_marks(block, marks):
    """Marked places as a block sees them: number to place (3,), of those that two of its photos see.

    marks : dict of number to PointSightings, rows of all photos
    """
    on, out = block.solved, {}
    for number, m in marks.items():
        rows = on[m.photo]
        if rows.sum() >= 2:
            seen = PointSightings(m.photo[rows], m.xy[rows], m.sigma[rows])
            X, _ = locate(block.poses, block.lenses, block.lens_of, seen)
            if X is not None:
                out[number] = X
    return out


def why_not_tied(block, part, marks):
    """What is missing so that `marks` tie a part to a block, in words; empty where nothing is."""
    both = sorted(placed_marks(block, marks).keys() & placed_marks(part, marks).keys())
    if len(both) < LEAST:
        return f"{len(both)} of {LEAST} places are marked in two photos of either side"
    X = np.array([placed_marks(block, marks)[k] for k in both])
    s = np.linalg.svd(X - X.mean(0), compute_uv=False)
    return "the marked places lie nearly on one line" if s[1] < ASIDE * s[0] else ""


def tie(block, part, marks, *, stop=None):
    """Bring a part into the frame of a block by marked places.

    Parameters
    ----------
    block, part : Block
        Of the same photos, solved where each of them is.
    marks : dict of number to PointSightings

    Returns
    -------
    poses : (n, 4, 4), lenses : (m, 10)
        Of both together, NaN where neither is solved; None, None where the marks do not tie them.
    """
    if why_not_tied(block, part, marks):
        return None, None
    here, there = placed_marks(block, marks), placed_marks(part, marks)
    both = sorted(here.keys() & there.keys())
    M = fit_similarity(np.array([there[k] for k in both]), np.array([here[k] for k in both]))
    poses = block.poses.copy()
    for i in np.flatnonzero(part.solved & ~block.solved):
        poses[i] = move_pose(part.poses[i], M)
    on = np.isfinite(poses[:, 0, 0])
    row = np.full(len(poses), -1)
    row[on] = np.arange(int(on.sum()))
    moved = part.points @ M[:3, :3].T + M[:3, 3]
    # a photo that both sides solved stands where the block has it
    theirs = ~block.solved[part.photo]
    count = np.bincount(part.point[theirs], minlength=len(moved))
    theirs &= count[part.point] >= 2
    used, index = np.unique(part.point[theirs], return_inverse=True)
    points, photo, point = [block.points, moved[used]], [block.photo, part.photo[theirs]], [block.point]
    point.append(index + len(block.points))
    xy, sigma = [block.xy, part.xy[theirs]], [block.sigma, part.sigma[theirs]]
    at = len(block.points) + len(used)
    for number in sorted(marks):
        m = marks[number]
        rows = on[m.photo]
        if rows.sum() < 2:
            continue
        X = here.get(number)
        if X is None:
            X, _ = locate(poses, block.lenses, block.lens_of, PointSightings(m.photo[rows], m.xy[rows], m.sigma[rows]))
        if X is None:
            continue
        points.append(X[None])
        photo.append(m.photo[rows])
        point.append(np.full(int(rows.sum()), at))
        xy.append(m.xy[rows])
        sigma.append(m.sigma[rows])
        at += 1
    seen = observations(
        block.lens_of[on], row[np.concatenate(photo)], np.concatenate(point), np.concatenate(xy), np.concatenate(sigma)
    )
    start = State(poses[on], block.lenses, np.concatenate(points))
    result = adjust(start, seen, loss=Loss(CAUCHY, 2.5), max_rounds=40, stop=stop)
    poses[on] = result.poses
    return poses, block.lenses


def _two_groups(block, m):
    """The rows of a mark's sightings that agree on one place, and those that agree on another; None where they do not
    fall into two such groups."""
    rows = np.flatnonzero(block.solved[m.photo])
    unit = block.lenses[block.lens_of[m.photo], 0].max() / 2000.0

    def off(some, of):
        X, _ = locate(
            block.poses, block.lenses, block.lens_of, PointSightings(m.photo[some], m.xy[some], m.sigma[some])
        )
        if X is None:
            return np.full(len(of), np.inf)
        d = np.linalg.norm(pixels(block.poses, block.lenses, block.lens_of, m.photo[of], X) - m.xy[of], axis=1)
        return np.where(np.isfinite(d), d, np.inf)

    if len(rows) < 4 or off(rows, rows).max() < APART_PX * unit:
        return None
    best = None
    for a, b in combinations(rows.tolist(), 2):
        fit = off(np.array([a, b]), rows) < AGREE_PX * unit
        here, there = rows[fit], rows[~fit]
        if len(here) < 2 or len(there) < 2 or off(there, there).max() > AGREE_PX * unit:
            continue
        if best is None or len(here) > len(best[0]):
            best = here, there
    return best


def split_by_marks(block, marks):
    """Take a block apart where marked places say that a part of it floats.

    Where a part hangs on by a few false points only, the block is one and still wrong. Each marked place is then seen
    in two places, by some photos here and by others there; three such places, and it is known which photos belong
    together. Photos without marks go with those that they share most points with.

    Returns
    -------
    (Block, Block) or None
        The larger part and the floating one; None where the marks contradict nothing.
    """
    n = len(block.poses)
    side = np.zeros(n)
    told = 0
    for number in sorted(marks):
        groups = _two_groups(block, marks[number])
        if groups is None:
            continue
        vote = np.zeros(n)
        vote[marks[number].photo[groups[0]]], vote[marks[number].photo[groups[1]]] = 1, -1
        side += vote if vote @ np.sign(side) >= 0 else -vote
        told += 1
    if told < LEAST or not (side > 0).any() or not (side < 0).any():
        return None
    share = np.zeros((n, n))
    for a, b in pairwise(block.start):
        share[np.ix_(block.photo[a:b], block.photo[a:b])] += 1
    np.fill_diagonal(share, 0)
    fixed = side != 0
    side = np.sign(side)
    for _ in range(n):
        pull = share @ side
        new = np.where(fixed | ~block.solved, side, np.sign(pull))
        if (new == side).all():
            break
        side = new
    here = block.solved & (side >= 0)
    there = block.solved & (side < 0)
    if there.sum() > here.sum():
        here, there = there, here
    return _part(block, here), _part(block, there)


def _part(block, photos):
    """A block of some of its photos and the points that two of them see."""
    rows = photos[block.photo]
    count = np.bincount(block.point[rows], minlength=len(block.points))
    rows &= count[block.point] >= 2
    left = replace(
        block, poses=np.where(photos[:, None, None], block.poses, np.nan),
        order=tuple(i for i in block.order if photos[i]),
        photo=block.photo[rows], feature=block.feature[rows], point=block.point[rows], xy=block.xy[rows],
        residual=block.residual[rows], sigma=block.sigma[rows],
    )  # fmt: skip
    return left.keeping(left.photos_of > 0)
