"""What a run of the Poses stage leaves: the block, its figures, and for each photo left out why and what helps."""

from dataclasses import replace

import numpy as np

from ...core.cloud.keepbox import box_of_outlines, box_of_sides, covering, fit_keep_box, hull_box
from ...core.errors import UmbrateError
from ...core.features.detect import FEW
from ...core.geometry.lens import PARAMETER_NAMES, Lens
from ...core.geometry.rotation import rotation_matrix, rotation_vector
from ...core.geometry.similarity import fit_similarity, scale_of
from ...core.poses.block import MARK, TARGET
from ...core.poses.covariance import known_median, pose_spreads
from ...core.poses.frame import upright_frame
from ...core.poses.solution import DISAGREES, FRAGMENT, LOOP, NO_OVERLAP, NO_START, TOO_FEW, TURNED
from ...core.poses.turntable import find_turntable
from ...job.blobs import BlobStore
from ...sitting.blocks import stored_block
from ...sitting.lenses import NO_EXIF_35MM
from ...sitting.masks import decode_mask
from ...sitting.photos import photo_picture
from ..base import Outcome, problem
from .figures import RESIDUAL_TOP_PX, PhotoFigures, PosesFigures, Ring, Turntable, WhyLeftOut
from .inputs import ADJUST, ELSEWHERE, MARKED, START_OVER
from .solving import FAINT, FEW_FEATURES, match_key

COVER_CELLS = 12  #: the longer side of a photo is divided into so many cells to say how much of it has sightings
STILL_SHARE = 0.6  #: a photo with so many still features shows the backdrop only
MANY_BRIDGES = 0.2  #: share of false bridges among the pairs from which the object itself is to blame
SAME_FRAME = 3e-4  #: of the extent of the photos: a frame that differs by less is left as it is
ROUNDED = 10  #: digits of a frame's turn, scale and shift; photos stand at distance 1
SAME_PLACE = 0.03  #: of the extent of the photos: two solutions that lie so near are one
LEAST_OUTLINES, MOST_OUTLINES = 5, 24  #: photos with masks that say how far the object reaches
LEAST_ON_OBJECT = 60  #: tie points on the object from which its keep box is that of these


def _rms(length):
    """Root mean square of lengths, or None where there are none."""
    return round(float(np.sqrt((length**2).mean())), 4) if len(length) else None


def outcome(made, inputs, settings, report):
    """The Outcome of a run of the Poses stage, from what was Made.

    Raises
    ------
    UmbrateError
        Where fewer than two photos stand.
    """
    solution, photos = made.solution, inputs.photos
    _check_started(made, settings)
    report.progress(0.97, "colors of the sparse cloud")
    block, reframed = _into_frame(_named(solution.block, made, inputs), inputs)
    solved = block.solved
    artefacts = dict(made.artefacts)
    if inputs.mode == ADJUST:
        artefacts.update(inputs.before.carried)
    else:
        artefacts[("pairs", None)] = _put_pairs(made, inputs)
    blobs = BlobStore(inputs.blobs)
    block, known = _known_to(block, photos, report)
    artefacts[("block", None)] = blobs.put_arrays(**block.arrays())
    artefacts[("covariance", None)] = blobs.put_arrays(
        cameras=known["cameras"], free=np.array(sorted(block.free_lens), np.int64), unit=np.array(known["unit"])
    )
    orientations = np.array([p.orientation for p in photos])
    for k, part in enumerate(solution.fragments):
        part = _named(part, made, inputs)
        part = part.moved(upright_frame(part.poses[part.solved], part.points, orientations[part.solved]))
        artefacts[(f"fragment {k + 2}", None)] = blobs.put_arrays(**_known_to(part, photos, report)[0].arrays())
    fragments = [int(f.solved.sum()) for f in solution.fragments]
    if inputs.mode == ADJUST:
        fragments = inputs.before.figures.fragments
    reasons = _reasons(block, made, inputs, settings)
    L = Lens.from_vector(made.lenses[0].width, made.lenses[0].height, block.lenses[0])
    half_view = np.array([min(p.width, p.height) / 2 / block.lens_vector(k)[0] for k, p in enumerate(photos)])
    box = _box(block, half_view, inputs)
    bridges = [[photos[i].id, photos[j].id] for i, j in solution.bridges]
    if inputs.mode == ADJUST:
        bridges = inputs.before.figures.bridges
    return Outcome(
        PosesFigures(
            mode=inputs.mode,
            photos=len(photos),
            solved=int(solved.sum()),
            rms_px=round(block.rms_px, 4),
            points=len(block.points),
            sightings=len(block.photo),
            still=int(sum(x.sum() for x in made.still)) if made.still else _kept(inputs, "still", 0),
            still_share=round(made.still_share, 3),
            pairs=len(solution.pairs) or _kept(inputs, "pairs", 0),
            pairs_tried=made.tried,
            pairs_chosen=made.chosen,
            bridges=bridges,
            fragments=fragments,
            features_median=int(np.median(made.counts)),
            lens={**L.as_dict(), "start_f": made.lenses[0].f},
            lens_sigma=known["lens"],
            unit=known["unit"],
            turn_sigma_deg=known["turn_deg"],
            center_sigma_percent=known["center_percent"],
            lenses=len(made.lenses),
            zooms=made.zooms,
            told=made.told,
            shared=made.shared,
            keep_box=box.as_dict(),
            turntable=_turntable(block, photos),
            reasons={photos[i].id: r for i, r in reasons.items()},
            made_from=dict(made.made_from),
            match_key=match_key(settings),
            look=made.look,
            doubt=_doubt(made),
            unfolded=made.unfolded or _kept(inputs, "unfolded", False),
            first_solved=made.first_solved if made.first_solved is not None else _kept(inputs, "first_solved", None),
            **{k: round(v, 2) for k, v in made.times.items()},
            **_sighting_figures(block, photos),
        ),
        artefacts,
        [*_problems(reasons, block, made, inputs, settings), *([_reframed()] if reframed else [])],
    )


def _box(block, half_view, inputs):
    """The keep box round the object: that of the tie points on it, out to its outlines where these reach further."""
    solved, store = block.solved, BlobStore(inputs.blobs)
    count, on = np.bincount(block.point, minlength=len(block.points)), np.zeros(len(block.points))
    rows, middles, reach, masks, sides = [], [], [], [], []
    for i, pid in enumerate(block.photo_ids):
        mine = np.flatnonzero(block.photo == i)
        if int(pid) not in inputs.masks:
            np.add.at(on, block.point[mine], 1)
            continue
        if not solved[i]:
            continue
        mask = decode_mask(store.get_bytes(inputs.masks[int(pid)]))
        u, v = np.clip(np.round(block.xy[mine]).astype(int), 0, np.array(mask.shape)[::-1] - 1).T
        np.add.at(on, block.point[mine], mask[v, u])
        ys, xs = np.flatnonzero(mask.any(1)), np.flatnonzero(mask.any(0))
        if len(ys):
            corners = np.array([[x, y] for x in (xs[0], xs[-1]) for y in (ys[0], ys[-1])], float)
            n = block.lens(i).unproject(corners)
            rows.append(i)
            middles.append(n.mean(0))
            reach.append(np.linalg.norm(n - n.mean(0), axis=1).max())
            masks.append(mask)
            x, y = corners.mean(0)
            sides.append(block.lens(i).unproject(np.array([[xs[0], y], [xs[-1], y], [x, ys[0]], [x, ys[-1]]])))
    mine = on > 0.5 * count
    if len(rows) < LEAST_OUTLINES:
        return fit_keep_box(block.points, count, block.poses[solved], half_view[solved])
    if mine.sum() >= LEAST_ON_OBJECT:
        box = fit_keep_box(block.points[mine], count[mine], block.poses[solved], half_view[solved])
        return covering(box, box_of_sides(box.center, block.poses[rows], np.array(sides)))
    wide = box_of_outlines(block.poses[rows], np.array(middles), np.array(reach))
    few = rows[:: -(-len(rows) // MOST_OUTLINES)]
    masks = masks[:: -(-len(rows) // MOST_OUTLINES)]
    return hull_box(wide, block.poses[few], [block.lens(i) for i in few], masks) or wide


def _check_started(made, settings):
    """Raise where fewer than two photos stand, with what is likely to blame."""
    if made.solution.block.solved.sum() >= 2:
        return
    kinds = {r.kind for r in made.solution.reasons.values()}
    usual = int(np.median(made.counts))
    if TURNED not in kinds and usual < FAINT * FEW * settings.features:
        raise UmbrateError(
            f"No start was found: {len(made.solution.pairs)} pairs of photos match, none well enough. The object shows "
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
        f"No start was found: {len(made.solution.pairs)} pairs of photos match, but {told}.{still} Walk round the "
        "object or turn it, with 10 to 20 degrees between shots; a backdrop that stands still is best masked.",
        ("bring in photos",) if not still else ("go to", "masks"),
    )


def _reframed():
    return problem(
        None,
        "The photos lie otherwise than in the solution before this one, so the frame is a new one.",
        "Look whether the keep box, the level and spots that you placed by hand are still where they should be.",
        remedy=("fit the keep box",),
    )


def _kept(inputs, name, default):
    return getattr(inputs.before.figures, name) if inputs.before else default


def _into_frame(block, inputs):
    """The block in the plain frame, or in that of the block before: boxes and cuts stay where they are.

    Returns the block, and whether its frame is another one than before.
    """
    if inputs.mode != START_OVER:
        before = stored_block(BlobStore(inputs.blobs), inputs.before.block).solved_rows
        # the frame of a joined row is that of its first member, however the others moved
        both = [i for i in block.solved_rows if i in before and i not in inputs.foreign]
        if len(both) >= 3:
            then = stored_block(BlobStore(inputs.blobs), inputs.before.block).eyes[[before[i] for i in both]]
            now = block.eyes[[block.solved_rows[i] for i in both]]
            return block.moved(fit_similarity(now, then)), False
    orientations = np.array([p.orientation for p in inputs.photos])[block.solved]
    block = block.moved(upright_frame(block.poses[block.solved], block.points, orientations))
    M = _into_last_frame(block, inputs)
    if M is None:
        return block, True
    eyes = block.eyes[block.solved]
    moved = np.linalg.norm(eyes @ M[:3, :3].T + M[:3, 3] - eyes, axis=1).max()
    if moved > SAME_FRAME * np.linalg.norm(np.ptp(eyes, axis=0)):  # else the same input gives the same bits
        block = block.moved(_rounded(M))
    return block, False


def _rounded(M):
    """A similarity with its parameters rounded: a block laid where it lay before must get the same bits again."""
    scale = scale_of(M)
    out = np.eye(4)
    out[:3, :3] = round(scale, ROUNDED) * rotation_matrix(np.round(rotation_vector(M[:3, :3] / scale), ROUNDED))
    out[:3, 3] = np.round(M[:3, 3], ROUNDED)
    return out


def _into_last_frame(block, inputs):
    """The similarity that lays a block solved anew where the last one lay, or None where the two do not agree.

    What was placed by hand (keep box, level, spots, picks, sections) is kept in the plain frame: that must not move
    because a setting was changed.
    """
    if inputs.before is None:
        return np.eye(4)
    try:
        before = stored_block(BlobStore(inputs.blobs), inputs.before.block)
    except UmbrateError:
        return np.eye(4)
    both = [i for i in block.solved_rows if i in before.solved_rows]
    if len(both) < 3:
        return None
    places = []
    for b in (block, before):
        rows = [b.solved_rows[i] for i in both]
        eyes = b.eyes[rows]
        size = float(np.linalg.norm(eyes - eyes.mean(0), axis=1).mean())
        places.append(np.vstack([eyes, eyes + size * b.poses[rows, 2, :3]]))  # where they stand, and where they look
    M = fit_similarity(*places)
    off = np.linalg.norm(places[0] @ M[:3, :3].T + M[:3, 3] - places[1], axis=1)
    return M if np.median(off) < SAME_PLACE * np.linalg.norm(np.ptp(places[1], axis=0)) else None


def _put_pairs(made, inputs):
    """Which photos share matches, with the pixels in the one and in the other; returns the blob's key."""
    pairs = made.solution.pairs
    found = list(pairs)
    shared = [np.hstack([made.xy[i][g.matches[:, 0]], made.xy[j][g.matches[:, 1]]]) for (i, j), g in pairs.items()]
    return BlobStore(inputs.blobs).put_arrays(
        photo_ids=np.array([p.id for p in inputs.photos]),
        pair=np.array(found, np.int32).reshape(-1, 2),
        start=np.cumsum([0, *(len(pairs[ij].matches) for ij in found)]),
        match=np.vstack([np.zeros((0, 4)), *shared]).astype(np.float32),
    )


def _named(block, made, inputs):
    """The solver's block with what the job knows of its photos and points."""
    kind, label = np.zeros(len(block.points), np.uint8), np.zeros(len(block.points), np.int64)
    if made.targets:
        numbers = np.full(len(block.points), -1)
        numbers[block.point] = made.targets.number_of(block.photo, block.feature)
        found = (numbers >= 0) & (numbers < ELSEWHERE)  # else another place of a joined row has the number
        kind[found], label[found] = TARGET, numbers[found]
    if made.mark_at:
        at = zip(block.photo.tolist(), block.feature.tolist(), strict=True)
        marked = np.full(len(block.points), -1)
        marked[block.point] = [made.mark_at.get(x, -1) for x in at]
        kind[marked >= 0], label[marked >= 0] = MARK, marked[marked >= 0]
    photos = inputs.photos
    return replace(
        block, photo_ids=np.array([p.id for p in photos]), sizes=np.array([[p.width, p.height] for p in photos]),
        kind=kind, label=label, first_lenses=np.array([x.vector for x in made.lenses]),
        xy=block.xy.astype(np.float32),  # finer than any reading, and half of the space on the disk
    )  # fmt: skip


def _known_to(block, photos, report):
    """The block with the colors of its points and standard deviations, and what is known of it (see `_known`)."""
    colors = _colors(block, photos, report)
    report.progress(0.98, "standard deviations")
    known = _known(block)
    return replace(block, colors=colors, point_sigma=known["points"], pose_sigma=known["poses"]), known


def _sighting_figures(block, photos):
    """Figures of the block's sightings, together and by photo."""
    n, length = len(photos), np.linalg.norm(block.residual, axis=1)
    sightings = np.bincount(block.photo, minlength=n)
    square = np.bincount(block.photo, weights=length**2, minlength=n)
    cell = block.sizes.max(1) / COVER_CELLS
    at = np.floor(block.xy / cell[block.photo, None]).astype(int)
    cells = {(int(i), int(u), int(v)) for i, (u, v) in zip(block.photo, at, strict=True)}
    covered = np.bincount([c[0] for c in cells], minlength=n) if cells else np.zeros(n)
    whole = np.ceil(block.sizes / cell[:, None]).prod(1)
    return {
        "targets": len(block.targets),
        "targets_rms_px": _rms(length[block.kind[block.point] == TARGET]),
        "residual_histogram": np.histogram(length, 30, (0, RESIDUAL_TOP_PX))[0].tolist(),
        "per_photo": {
            p.id: PhotoFigures(
                sightings=int(s), rms_px=round(float(np.sqrt(q / s)), 3) if s else None, covered=round(float(c / w), 3)
            )
            for p, s, q, c, w in zip(photos, sightings, square, covered, whole, strict=True)
        },
    }


def _turntable(block, photos):
    """The Turntable that the poses show, or None."""
    found = find_turntable(block.poses)
    if found is None:
        return None
    rings = [
        Ring(
            photos=[photos[i].id for i in r.photos], step_deg=round(r.step_deg, 2), radius=r.radius, height=r.height,
            span_deg=round(float(np.ptp(r.angles_deg)), 1),
        )
        for r in found.rings
    ]  # fmt: skip
    slips = [(photos[i].id, why) for i, why in found.slips]
    return Turntable(point=found.point.tolist(), direction=found.direction.tolist(), rings=rings, slips=slips)


def _reasons(block, made, inputs, settings):
    """Why photos are not solved: a WhyLeftOut by the row of each."""
    photos = inputs.photos
    if inputs.mode == ADJUST:
        known = inputs.before.figures.reasons
        lost = WhyLeftOut(kind=DISAGREES, text="too few of its tie points are left")
        new = WhyLeftOut(kind=TOO_FEW, text="it came after the others were solved; “Go on” adds it")
        out = {}
        for i in np.flatnonzero(~block.solved):
            pid = photos[i].id
            out[i] = known.get(pid, lost if pid in inputs.before.made_from else new)
        return out
    out = {}
    for i, r in made.solution.reasons.items():
        kind, text = r.kind, r.text
        still = float(made.still[i].mean()) if made.still and len(made.still[i]) else 0.0
        if still > STILL_SHARE and kind in (NO_OVERLAP, TOO_FEW, NO_START):
            kind, text = "backdrop", f"{100 * still:.0f} % of its features do not move: it shows the backdrop"
        elif kind == NO_OVERLAP and made.counts[i] < FEW_FEATURES and settings.ties != MARKED:
            kind = "blurred"
            text = f"only {made.counts[i]} features were found in it (blurred, plain, or hidden by its mask)"
        out[i] = WhyLeftOut(kind=kind, text=text, partners=[photos[k].id for k in r.partners[:6]])
    return out


def _zooms(block, made, photos):
    """The problem that tells that the zoom was moved."""
    parts = []
    for k in np.unique(block.lens_of[block.solved]):
        names = [p.name for p, m, on in zip(photos, block.lens_of, block.solved, strict=True) if m == k and on]
        who = names[0] if len(names) == 1 else f"{len(names)} photos, the first {names[0]}"
        parts.append((len(names), f"{block.lenses[k, 0]:.0f} px ({who})"))
    told = ", ".join(text for _, text in sorted(parts, key=lambda x: -x[0]))
    text = f"The zoom was moved, or photos were cut, which the files do not say. Focal lengths found: {told}."
    return problem(
        None, text, "Each has a lens of its own now. Fix the zoom while shooting: the fewer, the better known."
    )


def _doubt(made):
    """Why the block may be wrong although it fits: a clause, or ""."""
    if made.fold:
        return f"{made.fold.photos} photos stand on {made.fold.places} places"
    return ""


def _problems(reasons, block, made, inputs, settings):
    photos = inputs.photos
    hints = {
        NO_OVERLAP: ("Bring in photos that overlap with it, or set it aside.", ("bring in photos",)),
        TOO_FEW: ("Mark more points in it.", ("mark points",)) if settings.ties == MARKED else
                 ("More features, or photos between it and its neighbors, would help.",
                  ("set", "features", min(40000, 2 * settings.features))),
        DISAGREES: ("Set it aside, or bring in photos between it and its neighbors.", ("bring in photos",)),
        LOOP: ("The object looks alike from several sides: stick targets to it, or set the photo aside.", None),
        FRAGMENT: ("Photos between the two groups would connect them, or three points marked in two photos of either "
                   "group, and then to go on.", ("mark points",)),
        "backdrop": ("Mask the backdrop, or set the photo aside.", ("go to", "masks")),
        "blurred": ("Set it aside, or look at its mask.", ("go to", "masks")),
    }  # fmt: skip
    names = {p.id: p.name for p in photos}
    out = []
    for i, r in reasons.items():
        hint, remedy = hints.get(r.kind, ("Set it aside, or bring in photos round it.", ("bring in photos",)))
        near = ", ".join(names[k] for k in r.partners[:3] if k in names)
        text = f"{photos[i].name} could not be placed: {r.text}."
        if near and r.kind in (TOO_FEW, DISAGREES, LOOP):
            text += f" It matches best with {near}."
        out.append(problem(photos[i], text, hint, remedy=remedy))
    if made.fold:
        text = f"The block is doubtful: {made.fold.photos} photos stand on only {made.fold.places} places, again and "
        text += "again, as if the object had been folded up. It looks alike from several sides, and nothing in the "
        text += "photos tells these apart."
        hint = (
            "First of all stick one mark or a few targets to one side and take the photos anew; something with detail "
        )
        hint += "that turns with it (a printed mat) decides as well, where masks mark it."
        out.append(problem(None, text, hint, remedy=("print targets",)))
    if len(made.solution.bridges) >= MANY_BRIDGES * max(len(made.solution.pairs), 1):
        text = f"{len(made.solution.bridges)} pairs of photos match well and contradict the others, so they were left "
        text += "out: the object looks alike from several sides."
        hint = "Look whether the photos stand where they were taken; targets stuck to the object make it sure."
        out.append(problem(None, text, hint))
    if made.zooms:
        out.append(_zooms(block, made, photos))
    for m, f in made.solution.wrong_focal.items():
        ratio = block.lenses[m, 0] / f
        out.append(
            problem(
                None,
                f"The focal length in the files cannot be right: the photos say {ratio:.2f} times as much "
                f"({block.lenses[m, 0]:.0f} pixels, not {f:.0f}).",
                "The photos were followed. Look whether the dome of photos round the object is plausible.",
            )
        )
    for x in made.shared.parted:
        text = f"The files say that “{x.name}” was taken with the same lens, but the photos contradict that: {x.why}."
        hint = "Each keeps a lens of its own. The zoom or the focus was moved in between: fix both while shooting."
        out.append(problem(None, text, hint))
    if int(block.solved.sum()) == 2:
        text = "Only two photos stand: nothing checks them, and depth is less sure than from three."
        out.append(problem(None, text, "Bring in more photos from places between and beside them."))
    if made.guessed and not made.solution.wrong_focal and not made.zooms:
        out.append(
            problem(
                None,
                f"The files say no focal length, so {NO_EXIF_35MM:.0f} mm (35 mm equivalent) was "
                f"taken to start from; solved: {block.lenses[0, 0]:.0f} pixels.",
                "Look whether the dome of photos round the object is plausible.",
            )
        )
    return out


def _known(block):
    """Standard deviations: of points and centers in units of the block, of turns, of the first lens."""
    cov = block.covariance()
    unit = cov.unit
    poses = np.full((len(block.poses), 2), np.nan)
    poses[block.solved] = np.stack(pose_spreads(block, cov), 1)
    lens = np.sqrt(np.diag(cov.lenses[0])) * unit
    turn, center = known_median(block, cov)
    return {
        "points": (np.sqrt(np.einsum("pii->p", cov.points) / 3) * unit).astype(np.float32),
        "poses": poses,
        "lens": {n: float(s) for n, s in zip(PARAMETER_NAMES, lens, strict=True) if s > 0},
        "unit": round(unit, 3),
        "cameras": cov.cameras,
        "turn_deg": turn,
        "center_percent": center,
    }


def _colors(block, photos, report):
    """Color of each tie point, from the first photo that sees it."""
    colors = np.full((len(block.points), 3), 128, np.uint8)
    first = np.unique(block.point, return_index=True)[1]
    for i in np.unique(block.photo[first]):
        report.check()
        rows = first[block.photo[first] == i]
        picture = photo_picture(photos[i])
        u = np.clip(np.round(block.xy[rows]).astype(int), 0, [picture.shape[1] - 1, picture.shape[0] - 1])
        colors[block.point[rows]] = picture[u[:, 1], u[:, 0]]
    return colors
