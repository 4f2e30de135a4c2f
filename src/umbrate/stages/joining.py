"""Where two sittings of an object lie to each other: found by targets, by its surface, by its shape, and judged."""

from dataclasses import dataclass, field

import numpy as np

from ..core.cloud.grid import spacing_of
from ..core.errors import UmbrateError
from ..core.features.match import unit_descriptors
from ..core.geometry.lens import Lens
from ..core.geometry.similarity import scale_of
from ..core.join.agree import agree, difference, groups
from ..core.join.places import alike, likely_support, mean_descriptors, shared_targets
from ..core.join.shape import fit_shapes
from ..core.join.unite import unite
from .clouds import load_cloud
from .frames import frame_of, load_block, move_directions, move_points
from .masks import decode_mask, mask_blobs

TARGETS, SURFACE, SHAPE = "targets", "surface", "shape"
GOOD, DOUBTFUL, NONE = "good", "doubtful", "none"
LEAST = {TARGETS: 4, SURFACE: 20}  #: pairs that a good join has: three targets fit without any check
TOLERANCE = 0.003  #: of the object's extent: pairs farther apart do not belong together
RIVAL = 0.4  #: another answer with such a share of the pairs of the best makes it doubtful
UNSURE_DEG = 0.5
OUTSIDE = 0.25  #: share of one sitting's places that the other's masks rule out, from which a join is doubtful
REACH = 0.03  #: of the extent: how far off a start may be for the fit of shapes


@dataclass
class Side:
    """A sitting, as joining reads it: its block in the job's frame, and what else is there."""

    sitting: object
    block: dict
    scaled: bool
    extent: float  #: of the object's tie points
    masks: dict = field(default_factory=dict)  #: blobs by photo


@dataclass
class Join:
    """How one sitting lies to another.

    Attributes
    ----------
    M : (4, 4) or None
        From the first's job frame to the second's.
    verdict : str
        "good", "doubtful" or "none".
    reasons : list of str
        Why it is not good.
    ways : dict
        Figures by way.
    support : list of int
        Targets that contradict those on the object: they stand on the support.
    contradiction : float
        By how much the scales of two scaled sittings differ, as a share; 0 where one has none.
    """

    M: np.ndarray | None
    verdict: str
    reasons: list
    ways: dict
    support: list
    contradiction: float = 0.0


def side_of(job, sitting):
    """The Side of a sitting; raises UmbrateError where it is not solved."""
    block = load_block(job, sitting)
    if block is None:
        raise UmbrateError(f"“{sitting.name}” has no poses yet. Run Poses first.", ("go to", "poses"))
    plain = block["points"][block["number"] < 0]
    if len(plain) < 10:
        raise UmbrateError(f"“{sitting.name}” has hardly any tie points.", ("go to", "poses"))
    low, high = np.percentile(plain, (2, 98), axis=0)
    return Side(
        sitting, block, frame_of(job, sitting).scaled, float(np.linalg.norm(high - low)), mask_blobs(job, sitting)
    )


def join_sittings(job, first, second, ways=(TARGETS, SURFACE), *, with_scale=None):
    """The Join of two sittings.

    Parameters
    ----------
    ways : of "targets", "surface" and "shape"
        All pairs found are fitted together; shape refines what the others found.
    with_scale : bool, optional
        Whether their scales may differ; where not said, only if one of them is not scaled.
    """
    a, b = side_of(job, first), side_of(job, second)
    if with_scale is None:
        with_scale = not (a.scaled and b.scaled)
    if not set(ways) & {TARGETS, SURFACE}:
        raise UmbrateError("Shape refines a join; say targets or surface as well, which give it a start.")
    reasons, figures, support = [], {}, []
    pairs = []
    for way in ways:
        if way == SHAPE:
            continue
        rows, share = _target_pairs(job, a, b) if way == TARGETS else (_surface_pairs(job, a, b), None)
        found, stand = _of_object(a, b, rows, way, share, with_scale, reasons)
        support += stand
        figures[way] = {"pairs": len(rows), "agreeing": found.count if found else 0}
        if found is not None:
            figures[way] |= {"rms": found.rms, "sigma": list(found.sigma)}
            pairs.append((way, rows[found.inside], found))
    if not pairs:
        return Join(None, NONE, reasons or ["nothing that both sittings share was found"], figures, support)
    middle = np.median(a.block["points"], axis=0)
    if len(pairs) == 2:
        turn, shift, _ = difference(pairs[0][2].M, pairs[1][2].M, middle)
        figures["between"] = {"turn_deg": turn, "shift": shift}
        if turn > 1.0 or shift > 0.02 * b.extent:
            reasons.append(f"targets and surface contradict each other by {turn:.1f} degrees")
    rows = np.concatenate([r for _, r, _ in pairs])
    A, B, sigma = _pairs(a, b, rows)
    joint = agree(A, B, sigma, TOLERANCE * b.extent, with_scale=with_scale)
    free = agree(A, B, sigma, TOLERANCE * b.extent, with_scale=True) if not with_scale else joint
    if joint is None:
        return Join(None, NONE, [*reasons, "no three shared places agree"], figures, support)
    M = joint.M
    if SHAPE in ways:
        M = _by_shape(job, a, b, M, with_scale, figures, reasons)
    if joint.sigma[0] > UNSURE_DEG:
        reasons.append(f"the turn is known to {joint.sigma[0]:.1f} degrees only: the shared places lie close together")
    outside = _outside(job, a, b, M)
    if outside is not None:
        figures["outside"] = outside
        if outside > OUTSIDE:
            reasons.append(f"{100 * outside:.0f} % of one sitting would lie outside the other's masks")
    figures["all"] = {"agreeing": joint.count, "rms": joint.rms, "sigma": list(joint.sigma), "scale": scale_of(M)}
    contradiction = scale_of(free.M) - 1.0 if free is not None and a.scaled and b.scaled else 0.0
    return Join(M, DOUBTFUL if reasons else GOOD, reasons, figures, sorted(set(support)), contradiction)


def _pairs(a, b, rows):
    """Paired places (k, 3), (k, 3) and the standard deviation of their distance."""
    A, B = a.block["points"][rows[:, 0]], b.block["points"][rows[:, 1]]
    both = np.hypot(a.block["point_sigma"][rows[:, 0]], b.block["point_sigma"][rows[:, 1]]).astype(float)
    return A, B, np.clip(np.nan_to_num(both, nan=1e-3 * b.extent), 1e-4 * b.extent, TOLERANCE * b.extent / 2)


def _of_object(a, b, rows, way, share, with_scale, reasons):
    """The Agreement of a way's pairs that is the object's, or None, and the numbers of targets on the support."""
    if len(rows) < 3:
        said = "are no targets" if not len(rows) else f"{'is one target' if len(rows) == 1 else 'are two targets'}"
        if way == TARGETS:
            reasons.append(f"there {said} on the object that both sittings see; three are needed")
        else:
            reasons.append("hardly any tie point of one sitting looks like one of the other")
        return None, []
    A, B, sigma = _pairs(a, b, rows)
    found = groups(A, B, sigma, TOLERANCE * b.extent, with_scale=with_scale, least=max(3, LEAST[way] // 3))
    number = a.block["number"][rows[:, 0]]
    support = []
    if way == TARGETS:
        on = [g for g in found if not likely_support(g, [x for x in found if x is not g], share)]
        support = [int(n) for g in found if not any(g is x for x in on) for n in number[g.inside]]
        found = on
    if not found:
        reasons.append(
            "the targets both sittings see stand on the support" if support else f"no three pairs by {way} agree"
        )
        return None, support
    best = found[0]
    if best.count < LEAST[way]:
        reasons.append(f"only {best.count} pairs by {way} agree")
    if best.spread[1] < 0.05 * best.spread[0]:
        reasons.append(f"the places shared by {way} lie nearly in a line")
    middle = A.mean(0)
    for g in found[1:]:
        turn, shift, _ = difference(best.M, g.M, middle)
        if g.count >= RIVAL * best.count and (turn > 2.0 or shift > 0.02 * b.extent):
            reasons.append(f"another answer, {turn:.0f} degrees from it, fits nearly as many pairs by {way}")
            break
    return best, support


def _target_pairs(job, a, b):
    """Rows of shared targets, and the share of their sightings inside the masks."""
    rows = shared_targets(a.block["number"], a.block["points"], b.block["number"], b.block["points"])
    inside = []
    for side, column in ((a, 0), (b, 1)):
        seen = _inside_masks(job, side)
        inside.append(np.array([np.nanmean(s) if len(s := seen.get(int(r), [])) else np.nan for r in rows[:, column]]))
    with np.errstate(invalid="ignore"):
        both = np.array(inside).reshape(2, -1)
    return rows, np.where(np.isfinite(both).any(0), np.nansum(both, 0) / np.isfinite(both).sum(0).clip(1), np.nan)


def _inside_masks(job, side):
    """For each target's row of the block: whether each sighting lies inside its photo's mask."""
    out = {}
    block = side.block
    for i, pid in enumerate(block["photo_ids"]):
        key = side.masks.get(int(pid))
        rows = np.flatnonzero((block["photo"] == i) & (block["number"][block["point"]] >= 0))
        if key is None or not len(rows):
            continue
        mask = decode_mask(job.blobs.get_bytes(key))
        h, w = mask.shape
        for r in rows:
            x, y = np.round(block["xy"][r]).astype(int)
            out.setdefault(int(block["point"][r]), []).append(bool(0 <= x < w and 0 <= y < h and mask[y, x]))
    return out


def _surface_pairs(job, a, b):
    """Rows of tie points that look alike."""
    return alike(*(_looks(job, s) for s in (a, b)))


def _looks(job, side):
    """Mean descriptors of a side's tie points; zero for targets."""
    result, block = job.result(side.sitting.id, "poses"), side.block
    if not any(name == "features" for name, _ in result.artefacts):
        raise UmbrateError(f"“{side.sitting.name}” was solved without features: join it by targets.")
    of, all_, first = np.full(len(block["photo"]), -1), [], 0
    for i, pid in enumerate(block["photo_ids"]):
        key = result.artefacts.get(("features", int(pid)))
        if key is None:
            continue
        d = unit_descriptors(job.blobs.get_arrays(key)["descriptors"])
        rows = np.flatnonzero((block["photo"] == i) & (block["number"][block["point"]] < 0))
        rows = rows[(block["feature"][rows] >= 0) & (block["feature"][rows] < len(d))]
        of[rows] = first + block["feature"][rows]
        all_.append(d)
        first += len(d)
    return mean_descriptors(len(block["points"]), block["point"], of, np.concatenate(all_))


def _by_shape(job, a, b, M, with_scale, figures, reasons):
    """The join refined by the sittings' clouds."""
    clouds = [load_cloud(job, s.sitting) for s in (a, b)]
    for side, cloud in zip((a, b), clouds, strict=True):
        if cloud is None:
            raise UmbrateError(f"“{side.sitting.name}” has no cloud to fit by shape. Run Cloud.", ("go to", "cloud"))
    fit = fit_shapes(
        clouds[0]["points"], clouds[0]["normals"], clouds[1]["points"], clouds[1]["normals"], M, REACH * b.extent,
        finest=4 * spacing_of(clouds[1]["points"]), with_scale=with_scale,
    )  # fmt: skip
    if fit is None:
        reasons.append("the clouds have no surface in common")
        return M
    figures[SHAPE] = {"overlap": fit.overlap, "rms": fit.rms, "median": fit.median, "held": fit.held}
    if fit.overlap < 0.1:
        reasons.append(f"only {100 * fit.overlap:.0f} % of the surface is shared")
    if fit.held < 0.02:
        reasons.append("the shape could slide along itself, as a ball or a cylinder does: join by targets or surface")
        return M
    turn, shift, _ = difference(M, fit.M, np.median(a.block["points"], axis=0))
    if turn > 1.0 or shift > 0.02 * b.extent:
        reasons.append(f"the shapes would rather lie {turn:.1f} degrees and {shift:.3g} off")
        return M
    return fit.M


def _outside(job, a, b, M, most=2000):
    """Share of a's tie points that, moved by `M`, fall outside b's masks in most photos; None without masks."""
    block, E = b.block, b.block["poses"]
    points = a.block["points"][a.block["number"] < 0]
    points = points[np.random.default_rng(0).permutation(len(points))[:most]] @ M[:3, :3].T + M[:3, 3]
    seen = np.zeros(len(points))
    out = np.zeros(len(points))
    for i, pid in enumerate(block["photo_ids"]):
        key = b.masks.get(int(pid))
        if key is None or not np.isfinite(E[i, 0, 0]):
            continue
        mask = decode_mask(job.blobs.get_bytes(key))
        lens = Lens.from_vector(*block["sizes"][i], block["lenses"][block["lens_of"][i]])
        Y = points @ E[i, :3, :3].T + E[i, :3, 3]
        front = Y[:, 2] > 0
        x, y = np.round(lens.project(Y[:, :2] / np.where(front, Y[:, 2], 1.0)[:, None])).T
        h, w = mask.shape
        inside = front & (x >= 0) & (y >= 0) & (x < w) & (y < h)
        hit = np.zeros(len(points), bool)
        hit[inside] = mask[y[inside].astype(int), x[inside].astype(int)]
        seen += inside
        out += inside & ~hit
    known = seen > 0
    if not known.any():
        return None
    # a mask may hide a part behind the support: a place is ruled out where most photos say so
    return float((out[known] > 0.5 * seen[known]).mean())


@dataclass
class Whole:
    """All sittings in the frame of the first.

    Attributes
    ----------
    joins : dict of (int, int) to Join
        By positions of the sittings.
    moves : list of (4, 4) or None
        From each sitting's job frame to the first's; None where it hangs on nothing.
    loops : list of (int, int, float, float)
        Joins that were not needed: by how many degrees, and how far, they differ from those that were.
    """

    sittings: list
    joins: dict
    moves: list
    loops: list


def join_all(job, sittings, ways=(TARGETS, SURFACE), *, with_scale=None):
    """The Whole of two or more sittings: the surest joins that hang them together, good ones before doubtful ones."""
    if len(sittings) < 2:
        raise UmbrateError("There is only one sitting: nothing to join. Bring in the photos of the turned-over object.")
    joins = {
        (i, k): join_sittings(job, sittings[i], sittings[k], ways, with_scale=with_scale)
        for i in range(len(sittings))
        for k in range(i + 1, len(sittings))
    }
    moves = [np.eye(4), *[None] * (len(sittings) - 1)]
    order = sorted(
        (ij for ij, x in joins.items() if x.M is not None),
        key=lambda ij: (joins[ij].verdict != GOOD, joins[ij].ways["all"]["sigma"][0]),
    )
    used = set()
    while True:
        ij = next((ij for ij in order if (moves[ij[0]] is None) != (moves[ij[1]] is None)), None)
        if ij is None:
            break
        i, k = ij
        M = joins[ij].M  # from i to k
        if moves[i] is None:
            moves[i] = moves[k] @ M
        else:
            moves[k] = moves[i] @ np.linalg.inv(M)
        used.add(ij)
    loops = []
    for i, k in order:
        if (i, k) not in used and moves[i] is not None and moves[k] is not None:
            middle = np.median(load_block(job, sittings[i])["points"], axis=0)
            turn, shift, _ = difference(joins[i, k].M, np.linalg.inv(moves[k]) @ moves[i], middle)
            loops.append((i, k, turn, shift))
    return Whole(list(sittings), joins, moves, loops)


def united_cloud(job, whole):
    """The chosen clouds of the sittings of a Whole as one: (arrays, lost points of each, gains)."""
    clouds = []
    for s, M in zip(whole.sittings, whole.moves, strict=True):
        if M is None:
            continue
        cloud = load_cloud(job, s)
        if cloud is None:
            raise UmbrateError(f"“{s.name}” has no cloud yet. Run Cloud first.", ("go to", "cloud"))
        scale = scale_of(M)
        clouds.append(
            {
                **cloud,
                "points": move_points(cloud["points"], M),
                "normals": move_directions(cloud["normals"], M),
                "precision": (cloud["precision"] * scale).astype(np.float32),
            }
        )
    return unite(clouds)
