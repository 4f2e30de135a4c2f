"""What a run of the Poses stage leaves: the block, its figures, and for each photo left out why and what helps."""

from dataclasses import replace

import numpy as np

from ...core.errors import UmbrateError
from ...core.geometry.lens import PARAMETER_NAMES, Lens
from ...core.geometry.rotation import rotation_matrix, rotation_vector
from ...core.geometry.similarity import fit_similarity, scale_of
from ...core.poses.block import MARK, TARGET
from ...core.poses.covariance import known_median, pose_spreads
from ...core.poses.frame import upright_frame
from ...core.poses.turntable import find_turntable
from ...job.blobs import BlobStore
from ...sitting.blocks import stored_block
from ...sitting.photos import photo_picture
from ..base import Outcome, problem
from .box import box_of
from .figures import RESIDUAL_TOP_PX, PhotoFigures, PosesFigures, Ring, Turntable
from .inputs import ADJUST, ELSEWHERE, START_OVER
from .items import match_key
from .reasons import doubt_of, problems_of, why_left_out

COVER_CELLS = 12  #: the longer side of a photo is divided into so many cells to say how much of it has sightings
SAME_FRAME = 3e-4  #: of the extent of the photos: a frame that differs by less is left as it is
ROUNDED = 10  #: digits of a frame's turn, scale and shift; photos stand at distance 1
SAME_PLACE = 0.03  #: of the extent of the photos: two solutions that lie so near are one


def _rms(length):
    """Root mean square of lengths, or None where there are none."""
    return round(float(np.sqrt((length**2).mean())), 4) if len(length) else None


def outcome(made, inputs, settings, report):
    """The Outcome of a run of the Poses stage, from what was Computed, in which two photos stand at least."""
    solution, photos = made.solution, inputs.photos
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
    reasons, turntable = why_left_out(block, made, inputs, settings), _turntable(block, photos)
    L = Lens.from_vector(made.lenses[0].width, made.lenses[0].height, block.lenses[0])
    half_view = np.array([min(p.width, p.height) / 2 / block.lens_vector(k)[0] for k, p in enumerate(photos)])
    box = box_of(block, half_view, inputs)
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
            crops=made.crops,
            slip_px=None if made.slip_px is None else round(made.slip_px, 2),
            told=made.told,
            shared=made.shared,
            keep_box=box.as_dict(),
            turntable=turntable,
            reasons={photos[i].id: r for i, r in reasons.items()},
            made_from=dict(made.made_from),
            match_key=match_key(settings),
            look=made.look,
            doubt=doubt_of(made),
            unfolded=made.unfolded or _kept(inputs, "unfolded", False),
            by_order=made.by_order,
            loose=made.loose,
            first_solved=made.first_solved if made.first_solved is not None else _kept(inputs, "first_solved", None),
            **{k: round(v, 2) for k, v in made.times.items()},
            **_sighting_figures(block, photos),
        ),
        artefacts,
        [
            *problems_of(reasons, block, made, inputs, settings),
            *_slips(turntable, photos),
            *([_reframed()] if reframed else []),
        ],
    )


def _slips(turntable, photos):
    """Problems of shots that stand aside of their turntable's step."""
    by_id = {p.id: p for p in photos}
    return [
        problem(
            by_id[i],
            f"{by_id[i].name} slipped on the turntable: {why}.",
            "Its pose is what the photo shows. Set it aside if the object itself moved on the disc.",
            "slip",
        )
        for i, why in (turntable.slips if turntable else ())
    ]


def _reframed():
    return problem(
        None,
        "The photos lie otherwise than in the solution before this one, so the frame is a new one.",
        "Look whether the keep box, the level and spots that you placed by hand are still where they should be.",
        remedy=("fit the keep box",),
    )


def _kept(inputs, name, default):
    """A figure of the run before, where this one goes on from it."""
    return getattr(inputs.before.figures, name) if inputs.before and inputs.mode != START_OVER else default


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
    rows = [first[block.photo[first] == i] for i in range(len(photos))]
    items = [(photos[i], block.xy[k]) for i, k in enumerate(rows) if len(k)]
    for k, found in zip(
        [k for k in rows if len(k)], report.map(_colors_at, items, "colors of photo", 0.96, 0.98), strict=True
    ):
        colors[block.point[k]] = found
    return colors


def _colors_at(item):
    """Work item: the colors (n, 3) of a photo at places (n, 2)."""
    photo, xy = item
    picture = photo_picture(photo)
    u = np.clip(np.round(xy).astype(int), 0, [picture.shape[1] - 1, picture.shape[0] - 1])
    return picture[u[:, 1], u[:, 0]]
