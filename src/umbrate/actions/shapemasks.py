"""Masks from shape: a rough surface of a sitting, drawn into every photo.

The surface comes from quick depth inside the keep box, or from the outlines of masks that are there. No result is kept
but the masks, which are masks by hand from then on, so that undo takes them back.
"""

from dataclasses import dataclass
from functools import partial

import numpy as np

from ..core.cloud.clean import isolated
from ..core.cloud.filters import components
from ..core.cloud.grid import spacing_of
from ..core.cloud.keepbox import KeepBox
from ..core.errors import UmbrateError
from ..core.masking.shape import carve, drawn, finished, pixel_grid, seen_elsewhere
from ..job.blobs import BlobStore
from ..job.contents import CLOUD, DEPTH_MAP
from ..job.store import Job
from ..sitting.blocks import stored_block
from ..sitting.frames import move_box, plain_keep_box
from ..sitting.masks import THING, TURNS, decode_kinds, decode_mask, encode_mask, mask_blobs, with_turning
from ..sitting.photos import photo_refs
from ..stages.cloud.stage import CloudStage
from ..stages.dense.inputs import Inputs as CloudInputs
from ..stages.dense.inputs import block_for_depth

DEPTH, OUTLINES = "depth", "outlines"
REPLACE, KEEP, BOTH = "replace", "keep", "both"
STEP = 2  #: photo pixels per pixel of what is drawn
PIECE = 0.1  #: pieces of the surface below such a share of the largest float, and go


@dataclass(frozen=True)
class Inputs:
    """What the masks of a sitting are made from."""

    cloud: CloudInputs
    masks: dict  #: those that are there: blob keys by photo id


def gather_shape(job, sitting):
    """The Inputs of masks from shape.

    Raises
    ------
    UmbrateError
        Where the sitting is not solved.
    """
    if sitting.members:
        raise UmbrateError(f"The masks of “{sitting.name}” are those of its sittings: make them there.")
    if job.result(sitting.id, "poses") is None:
        raise UmbrateError(
            f"“{sitting.name}” has no poses yet: masks from shape need them. Run Poses.", ("go to", "poses")
        )
    block, M = block_for_depth(job, sitting)
    box = move_box(plain_keep_box(job, sitting), M)
    cloud = CloudInputs(
        str(job.blobs.folder), photo_refs(job, sitting), {}, block, box, M.tolist(), 1.0,
        {p.id: 0 for p in job.photos(sitting.id)},
    )  # fmt: skip
    return Inputs(cloud, mask_blobs(job, sitting))


def shape_masks_of(folder, sitting, choices, report):
    """Task: what `make_shape_masks` gives of a job as it is saved now; raises as that and `gather_shape` do.

    choices : source, margin_px, there, photo_scale
    """
    with Job.open(folder, writable=False) as job:
        inputs = gather_shape(job, sitting)
    return make_shape_masks(inputs, *choices, report)


def make_shape_masks(inputs, source, margin_px, there, photo_scale, report):
    """Masks (blob keys by photo id) drawn from a rough surface, and figures.

    Parameters
    ----------
    source : "depth" or "outlines"
    margin_px : int
        Photo pixels that the surface is widened by.
    there : "replace", "keep" or "both"
        What becomes of masks that are there: replaced, kept (only photos without one get it), or what both have.
    photo_scale : int
        Of quick depth: 2, 4 or 8.

    Raises
    ------
    UmbrateError
        Where there is no surface in the keep box.
    """
    c = inputs.cloud
    blobs = BlobStore(c.blobs)
    b = stored_block(blobs, c.block)
    photos = [p for p in c.photos if p.id in b.solved_rows]
    pose = {i: b.poses[k] for i, k in b.solved_rows.items()}
    lens = {i: b.lens(k) for i, k in b.solved_rows.items()}
    maps = {}
    if source == DEPTH:
        points, spacing, maps = _by_depth(c, photo_scale, report, blobs)
    else:
        outlines = [
            (decode_mask(blobs.get_bytes(inputs.masks[p.id]), p), lens[p.id], pose[p.id])
            for p in photos
            if p.id in inputs.masks
        ]
        if len(outlines) < 3:
            raise UmbrateError(
                "Outlines make a shape from three masks on; there "
                f"{'is one' if len(outlines) == 1 else f'are {len(outlines)}'}. Draw some, or take depth.",
                ("go to", "masks"),
            )
        report.progress(0.3, "carving by the outlines")
        points, spacing = carve(KeepBox.from_dict(c.keep_box), outlines)
    if not len(points):
        raise UmbrateError(
            "There is no surface in the keep box. Set the box round the object, above its support.",
            ("fit the keep box",),
        )
    todo = [p for p in photos if there != KEEP or p.id not in inputs.masks]
    items = [
        (p, pose[p.id], lens[p.id], maps.get(p.id), inputs.masks.get(p.id) if there == BOTH else None) for p in todo
    ]
    draw = partial(_draw, c.blobs, points, spacing, margin_px)
    made = report.map(draw, items, "drawing into photo", 0.8, 1.0)
    share = [m[1] for m in made]
    empty = [p.name for p, m in zip(todo, made, strict=True) if not m[1]]
    masks = {p.id: m[0] for p, m in zip(todo, made, strict=True) if m[1]}
    return masks, {
        "masks": len(masks), "kept": len(photos) - len(todo), "empty": empty, "points": len(points),
        "share": float(np.median(share)) if share else 0.0,
    }  # fmt: skip


def _by_depth(c, photo_scale, report, blobs):
    """Points of a quick cloud inside the keep box without floating pieces, their spacing, and depth maps by photo."""
    stage = CloudStage()
    settings = stage.Settings(photo_scale=photo_scale, min_photos=3, neighbors=4, rounds=2, outline_votes=0)
    done = stage.run(c, settings, report)
    points = blobs.get_arrays(done.artefacts["cloud", None], CLOUD)["points"].astype(float)
    points = points[~isolated(points)]
    spacing = spacing_of(points)
    piece = components(points, 4 * spacing)
    size = np.bincount(piece)
    points = points[(size >= PIECE * size.max())[piece]]
    return points, spacing, {p: key for (name, p), key in done.artefacts.items() if name == "depth"}


def _draw(blobs, points, spacing, margin_px, item):
    """Work item: a photo's mask (blob key), and the share of the photo it covers."""
    photo, pose, lens, depth, old = item
    blobs = BlobStore(blobs)
    mask = drawn(points, spacing, lens, pose, STEP)
    if depth is not None:
        m = blobs.get_arrays(depth, DEPTH_MAP)
        mask &= ~seen_elsewhere(m["depth"], m["score"] / 255.0, m["lens"], pixel_grid(lens, STEP))
    full = finished(mask, (photo.height, photo.width), STEP, margin_px)
    if old:
        kinds = decode_kinds(blobs.get_bytes(old), photo)
        full &= kinds == THING
        return blobs.put_bytes(encode_mask(with_turning(full, kinds == TURNS))), float(full.mean())
    return blobs.put_bytes(encode_mask(full)), float(full.mean())


def keep_shape_masks(job, sitting, masks):
    """Let masks from shape be the masks of their photos, as one action that can be undone."""
    job.set_hand_masks(masks, f"masks from shape of “{sitting.name}”")
