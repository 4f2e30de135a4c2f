"""Sittings laid over each other as a join says, before anything of them is merged."""

from dataclasses import dataclass

import numpy as np

from ..core.geometry.similarity import fit_similarity
from ..core.join.picks import crosswise, mirrored, nearly_a_line, residuals
from ..core.join.surfacedistance import surface_distances
from ..core.poses.block import Block
from ..sitting.clouds import load_cloud
from ..sitting.frames import frame_of, load_block, move_directions, move_points
from ..sitting.members import members_of

REACH = 0.02  #: of the object's extent: surfaces farther apart are not compared


@dataclass(frozen=True)
class Part:
    """A member of a joined row in the row's frame: its cloud, or its tie points where it has none.

    Attributes
    ----------
    points : (n, 3) float32
    normals : (n, 3) or None
        None for tie points.
    colors : (n, 3) uint8
    """

    id: int
    name: str
    points: np.ndarray
    normals: np.ndarray | None
    colors: np.ndarray


@dataclass(frozen=True)
class Overlay:
    """The parts of a joined row, and all their photos as one Block in the row's frame."""

    parts: list
    block: Block


def overlay_of(job, sitting, dense=True):
    """The Overlay of a joined row, or None before it is joined; members that hang on nothing are left out.

    dense : whether clouds are taken where there are any, else tie points
    """
    found = job.join_found(sitting.id)
    if not found:
        return None
    to_job = frame_of(job, sitting).matrix
    parts, blocks = [], []
    moves = dict(zip(found.members, found.moves, strict=True))
    for s in members_of(job, sitting):
        block = load_block(job, s)
        if block is None or moves.get(s.id) is None:
            continue
        M = to_job @ np.array(moves[s.id]) @ np.linalg.inv(frame_of(job, s).matrix)
        block = block.moved(M)
        blocks.append(block)
        cloud = load_cloud(job, s) if dense else None
        if cloud is not None:
            normals = move_directions(cloud["normals"], M)
            parts.append(Part(s.id, s.name, move_points(cloud["points"], M), normals, cloud["colors"]))
        else:
            parts.append(Part(s.id, s.name, block.points.astype(np.float32), None, block.colors))
    return Overlay(parts, photos_of_blocks(blocks)) if parts else None


def photos_of_blocks(blocks):
    """Photos of several blocks in one frame as those of one, with all their points, but without sightings."""
    first = np.cumsum([0, *(len(b.lenses) for b in blocks)])
    every = {
        k: np.concatenate([getattr(b, k) for b in blocks])
        for k in ("photo_ids", "poses", "sizes", "lenses", "points", "colors")
    }
    lens_of = np.concatenate([b.lens_of + k for b, k in zip(blocks, first, strict=False)])
    return Block.without_sightings(lens_of=lens_of, **every)


def distances(parts):
    """Of each part's points, how far the others' surfaces lie along their normals: arrays (n,), and figures of all.

    Infinite where the others have nothing, or where they have no cloud.
    """
    out = []
    for p in parts:
        others = [q for q in parts if q.id != p.id and q.normals is not None]
        if not others or p.normals is None:
            out.append(np.full(len(p.points), np.inf, np.float32))
            continue
        second = [np.concatenate([getattr(q, k) for q in others]) for k in ("points", "normals")]
        out.append(
            surface_distances(p.points, p.normals, *second, REACH * float(np.linalg.norm(np.ptp(p.points, axis=0))))
        )
    some = np.concatenate([d[np.isfinite(d)] for d in out]) if out else np.zeros(0)
    n = sum(map(len, out))
    figures = {"overlap": len(some) / max(n, 1)}
    if len(some):
        figures |= {"median": float(np.median(np.abs(some))), "p95": float(np.percentile(np.abs(some), 95))}
    return out, figures


def picks_told(picks, with_scale):
    """How picks of two sittings fit by themselves: distances (k,), and what is wrong with them in a sentence, or "".

    picks : list of (name, place (3,), place (3,)) in the job's frames of the two
    """
    if len(picks) < 3:
        left = 3 - len(picks)
        return np.full(len(picks), np.nan), f"Pick {left} more: a join needs three, and a fourth checks them."
    A, B = (np.array([p[k] for p in picks], float) for k in (1, 2))
    off = residuals(A, B, with_scale)
    if nearly_a_line(A) or nearly_a_line(B):
        return off, "They lie nearly in a line, about which the object could turn: pick one aside of it."
    size = float(np.linalg.norm(np.ptp(B, axis=0)))
    if np.sqrt((off**2).mean()) > 0.01 * size:
        swap = crosswise(A, B, with_scale)
        if swap:
            return off, f"{' and '.join(picks[i][0] for i in swap)} are paired crosswise: exchanged, they fit."
        if mirrored(A, B, with_scale):
            return off, "They fit a mirror image: left and right were taken for each other."
        return off, f"They do not fit together: {picks[int(np.argmax(off))][0]} is off most."
    return off, "Three fit whatever they are: a fourth checks them." if len(picks) == 3 else ""


def predicted(picks, place, with_scale):
    """Where a place (3,) of the first sitting lies in the second by the picks, or None before there are three."""
    if len(picks) < 3:
        return None
    A, B = (np.array([p[k] for p in picks], float) for k in (1, 2))
    M = fit_similarity(A, B, None, with_scale)
    return M[:3, :3] @ place + M[:3, 3]
