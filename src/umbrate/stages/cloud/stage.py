"""Cloud: depth for every photo, fused into a dense cloud, and cleaned."""

import hashlib
import json
import time
from dataclasses import dataclass
from functools import partial
from typing import Literal

import numpy as np
from pydantic import Field

from ...core.cloud.clean import isolated, outside_outlines
from ...core.cloud.filters import components, thin_by_spacing
from ...core.cloud.grid import spacing_of
from ...core.cloud.keepbox import KeepBox
from ...core.dense.depth import View, depth_map
from ...core.dense.exposure import gains
from ...core.dense.fuse import fuse
from ...core.dense.neighbors import choose_neighbors
from ...core.dense.pair import BACK_PX, LEAST_COS, inverse_step, pair_tolerance, without_specks
from ...core.dense.speed import hypotheses
from ...core.errors import UmbrateError
from ...core.geometry.similarity import scale_of
from ...core.imaging.sharpness import LUMA, quality_of, sharpness
from ...core.imaging.undistort import undistort
from ...job.blobs import BlobStore
from ...sitting.blocks import stored_block
from ...sitting.frames import frame_of, move_box, plain_keep_box, scale_result
from ...sitting.masks import decode_mask, mask_blobs
from ...sitting.photos import photo_picture, photo_refs
from ..base import Histogram, Outcome, Shown, Stage, StageSettings, problem
from .figures import CloudFigures
from .forecast import costs, forecast_of, place_for
from .scratch import kept, zeros

TWO = "Two photos only: no third one confirms a point, so this cloud is less safe than one of three."
PIECE_GAP, PIECE_SHARE = 3.0, 1e-4  #: a piece stands alone at so many spacings, and is a speck below such a share
DEPTH_VERSION = 4  #: raised when depth is computed in another way


class Settings(StageSettings):
    """How fine, how strict."""

    photo_scale: Literal[1, 2, 4, 8] = Field(
        2,
        title="Photo scale",
        description="Share of the photo's width that is used: 1 is the full "
        "width, 2 half of it (four times faster), 4 a quarter, 8 an eighth.",
        json_schema_extra={"unit": "1/", "short": True},
    )
    min_photos: int = Field(
        3,
        ge=2,
        le=10,
        title="Agreeing photos",
        description="A point must be confirmed by at least this many photos.",
        json_schema_extra={"short": True},
    )
    neighbors: int = Field(
        6, ge=1, le=12, title="Neighbors", description="How many other photos each photo is compared with."
    )
    rounds: int = Field(
        2, ge=1, le=8, title="Rounds", description="Sweeps over each photo: more is a little finer and slower."
    )
    min_score: float = Field(
        0.5,
        ge=0.0,
        le=0.99,
        title="Least likeness",
        description="Patches must look at least this much alike between photos (correlation, 1 is the same).",
    )
    sure_score: float = Field(
        0.7,
        ge=0.0,
        le=1.01,
        title="Sure likeness",
        description="One agreeing photo less is enough where patches look at least this much alike: folds and "
        "undersides that few photos see. Over 1: never.",
    )
    depth_tolerance: float = Field(
        0.6,
        ge=0.05,
        le=5,
        title="Depth agreement",
        description="Largest difference of depth between agreeing photos.",
        json_schema_extra={"unit": "% of the distance"},
    )
    color_tolerance: int = Field(
        80,
        ge=0,
        le=255,
        title="Color agreement",
        description="Largest difference of color between agreeing photos, exposure taken out; 0: any.",
        json_schema_extra={"unit": "of 255"},
    )
    nearest: float = Field(
        0.0,
        ge=0,
        title="Nearest",
        description="Depth begins so far from the camera: in mm where the job has a scale, else in its own unit. 0: "
        "where the keep box does.",
    )
    farthest: float = Field(
        0.0,
        ge=0,
        title="Farthest",
        description="Depth ends so far from the camera, in the same unit. 0: where the keep box does.",
    )
    sampling: float = Field(
        0.0,
        ge=0,
        title="Sampling",
        description="Least distance between two points of the cloud, in the same unit. 0: all points are kept.",
    )
    remove_isolated: bool = Field(
        True,
        title="Remove isolated points",
        description="Leave out points far from all others, and specks of a few.",
        json_schema_extra={"short": True},
    )
    outline_votes: int = Field(
        3,
        ge=0,
        le=50,
        title="Outline votes",
        description="Leave out points that fall outside the mask in at least this many photos; 0 switches this off.",
    )
    seed: int = Field(0, ge=0, le=999999, title="Random seed", description="The same seed gives the same cloud.")


@dataclass(frozen=True)
class Inputs:
    """Solved photos, their masks, the block and the keep box."""

    blobs: str
    photos: list
    masks: dict
    block: str
    keep_box: dict
    from_plain: list  #: the similarity from the plain frame to that of the block
    length: float  #: of the job's unit in the block's frame
    folder: str | None = None  #: where maps are kept that memory does not hold
    member: dict | None = None  #: photo id to the position of its sitting, in a joined row


def block_for_depth(job, sitting):
    """The blob of the block that depth is computed in, and the similarity from the plain frame to it.

    A block that known lengths only made larger serves as it was solved: its cloud is moved when it is read. Where they
    or marked points bent it, depth follows that.
    """
    scale = scale_result(job, sitting)
    if scale and scale.figures.bent:
        return scale.blob("block"), np.array(scale.figures.from_plain)
    return job.result(sitting.id, "poses").blob("block"), np.eye(4)


def straighten(blobs, scale, folder, item):
    """Work item: a photo as a pinhole View, its colors (h, w, 3) uint8, whether it has a mask, and its sharpness."""
    photo, pose, lens, mask = item
    mask = decode_mask(BlobStore(blobs).get_bytes(mask)) if mask else None
    straight, inside, pinhole = undistort(photo_picture(photo), mask, lens, scale)
    gray, inside = kept(np.ascontiguousarray(straight @ LUMA), folder), kept(inside, folder)
    view = View(gray, inside, np.array([pinhole.f, pinhole.cx, pinhole.cy]), pose)
    sharp = sharpness(view.gray, inside if mask is not None else None)
    return view, kept(np.round(straight).astype(np.uint8), folder), mask is not None, sharp


def depth_of(blobs, views, neighbors, box, reach, settings, item):
    """Work item: the blob of a photo's depth map from its neighbors, started from its tie points; None without any.

    What was computed from the same things before is used again, also where that run was cancelled.
    """
    k, points, fingerprint = item
    if not neighbors[k]:
        return None
    blobs = BlobStore(blobs)
    key = blobs.recall(fingerprint)
    if key is None:
        m = depth_map(
            views[k], [views[j] for j in neighbors[k]], box, points, seed=settings.seed + k, rounds=settings.rounds,
            reach=reach,
        )  # fmt: skip
        key = blobs.put_arrays(
            depth=m.depth.astype(np.float32),
            normal=np.round(m.normal * 127).astype(np.int8),
            score=np.round(np.clip(m.score, 0, 1) * 255).astype(np.uint8),
            lens=views[k].K,
        )
        blobs.remember(fingerprint, key)
    return key


def depth_key(inputs, settings, photos, k, neighbors):
    """What the depth map of a photo depends on, as a hash."""
    used = [k, *neighbors[k]]
    text = json.dumps(
        [
            DEPTH_VERSION, inputs.block, inputs.keep_box, settings.photo_scale, settings.rounds, settings.seed + k,
            *([settings.nearest, settings.farthest, inputs.length] if settings.nearest or settings.farthest else []),
            [[photos[j].hash, inputs.masks.get(photos[j].id, "")] for j in used],
        ]
    )  # fmt: skip
    return hashlib.sha256(text.encode()).hexdigest()[:40]


def _nothing(points, box, masks, settings):
    """The UmbrateError for a cloud without points: what is likely to blame."""
    if masks and not any(m.any() for m in masks):
        return UmbrateError(
            "The masks leave nothing of the photos. Look at them, or take them off.", ("go to", "masks")
        )
    if not box.contains(points).any():
        return UmbrateError(
            "No tie point lies in the keep box: it stands beside the object. Fit it again, or move it to the object.",
            ("fit the keep box",),
        )
    return UmbrateError(
        "No point was confirmed by enough photos. Lower Agreeing photos to 2, look whether the keep box stands round "
        "the object, and whether the masks leave the object free.",
        ("set", "min_photos", 2) if settings.min_photos > 2 else ("go to", "poses"),
    )


class CloudStage(Stage):
    """Depth, fusion, cleaning."""

    name, title = "cloud", "Cloud"
    about = "Computes depth for every photo, fuses it into a dense colored cloud and cleans it."
    needs = ("poses",)
    takes = ("scale",)
    reads = "keep box"
    uses_keep_box = True
    keeps = "cloud"
    shows = frozenset({Shown.CLOUDS, Shown.DEPTH})
    Settings = Settings
    Figures = CloudFigures

    def gather(self, job, sitting, settings, mode=""):
        poses = job.result(sitting.id, "poses")
        if poses is None:
            raise UmbrateError(f"“{sitting.name}” has no poses yet. Run Poses first.", ("go to", "poses"))
        block, M = block_for_depth(job, sitting)
        box = move_box(plain_keep_box(job, sitting), M)
        found = costs(job, sitting, block, M, box, settings)
        folder = place_for(found, settings, str(job.blobs.folder)) if found else None
        photos, masks = photo_refs(job, sitting), mask_blobs(job, sitting)
        length = scale_of(M) / scale_of(frame_of(job, sitting).matrix)
        member = {p.id: k for k, i in enumerate(job.members(sitting.id)) for p in job.photos(i)}
        return Inputs(str(job.blobs.folder), photos, masks, block, box, M.tolist(), length, folder, member)

    def forecast(self, job, sitting, settings):
        """Time, point spacing and memory at each photo scale."""
        if job.result(sitting.id, "poses") is None:
            return None
        block, M = block_for_depth(job, sitting)
        found = costs(job, sitting, block, M, move_box(plain_keep_box(job, sitting), M), settings)
        return forecast_of(job, sitting, found, settings) if found else None

    def without_result(self, job, sitting):
        kept = job.cloud(sitting.id)  # put together from those of its sittings
        return (f"{kept.left / 1e3:,.0f} k points", "united, not computed") if kept else None

    def key(self, job, sitting, settings):
        scale = scale_result(job, sitting)
        lengths = settings.nearest or settings.farthest or settings.sampling
        measured = [scale_of(frame_of(job, sitting).matrix)] if lengths else []  # what a mm is matters then
        bent = [scale.blob("block")] if scale and scale.figures.bent else []
        poses = job.result(sitting.id, "poses")  # adjusted again, it is another block made from the same things
        return [job.keep_box(sitting.id), poses.blob("block") if poses else "", *bent, *measured]

    def run(self, inputs, settings, report):
        blobs = BlobStore(inputs.blobs)
        b = stored_block(blobs, inputs.block)
        by_id = {p.id: p for p in inputs.photos}
        rows = [k for i, k in b.solved_rows.items() if i in by_id]
        if len(rows) < 2:
            raise UmbrateError(
                "Fewer than two solved photos are left. Bring photos back or run Poses again.", ("go to", "poses")
            )
        photos = [by_id[int(b.photo_ids[i])] for i in rows]
        poses = b.poses[rows]
        place = {i: k for k, i in enumerate(rows)}
        seen = np.isin(b.photo, rows)
        photo = np.array([place[int(i)] for i in b.photo[seen]], np.int64)
        point, points = b.point[seen], b.points
        if settings.farthest and settings.nearest >= settings.farthest:
            raise UmbrateError(
                f"Nearest ({settings.nearest:g}) must be less than Farthest ({settings.farthest:g}).",
                ("set", "farthest", 0.0),
            )
        box = KeepBox.from_dict(inputs.keep_box)
        reach = settings.nearest * inputs.length, (settings.farthest or np.inf) * inputs.length
        clock = time.monotonic()
        times = {}

        items = [
            (
                p,
                poses[k],
                b.lens(rows[k]),
                inputs.masks.get(p.id),
            )
            for k, p in enumerate(photos)
        ]
        prepared = report.map(
            partial(straighten, inputs.blobs, settings.photo_scale, inputs.folder),
            items,
            "straightening photo",
            0.0,
            0.05,
        )
        views = [p[0] for p in prepared]
        quality = quality_of([p[3] for p in prepared])
        neighbors = choose_neighbors(
            poses, np.ones(len(rows), bool), points, photo, point, settings.neighbors, quality=quality
        )
        if not any(neighbors):
            raise UmbrateError(
                "No two solved photos share enough tie points for depth. Run Poses with more features.",
                ("go to", "poses"),
            )
        times["prepare_s"] = time.monotonic() - clock
        clock = time.monotonic()

        keys = [depth_key(inputs, settings, photos, k, neighbors) for k in range(len(rows))]
        found = sum(blobs.recall(m) is not None for m in keys)
        maps = report.map(
            partial(depth_of, inputs.blobs, views, neighbors, box, reach, settings),
            [(k, points[point[photo == k]], keys[k]) for k in range(len(rows))],
            "depth of photo",
            0.05,
            0.85,
        )
        times["depth_s"] = time.monotonic() - clock
        if not found and times["depth_s"] > 1:
            tried = sum(
                hypotheses(v.mask.sum(), len(x), settings.rounds) for v, x in zip(views, neighbors, strict=True)
            )
            times["speed"] = tried / times["depth_s"] / report.executor.threads
        clock = time.monotonic()
        artefacts = {}
        h, w = max(v.gray.shape[0] for v in views), max(v.gray.shape[1] for v in views)
        n = len(rows)
        D, S = zeros((n, h, w), np.float32, inputs.folder), zeros((n, h, w), np.uint8, inputs.folder)
        N, C = zeros((n, h, w, 3), np.int8, inputs.folder), zeros((n, h, w, 3), np.uint8, inputs.folder)
        used = zeros((n, h, w), np.bool_, inputs.folder)
        for k, key in enumerate(maps):
            y, x = views[k].gray.shape
            C[k, :y, :x] = prepared[k][1]
            if key is None:
                continue
            m = blobs.get_arrays(key)
            D[k, :y, :x], S[k, :y, :x], N[k, :y, :x] = m["depth"], m["score"], m["normal"]
            artefacts[("depth", photos[k].id)] = key
        outlined = [p[0].mask if p[2] else None for p in prepared]
        lens_of_view = [v.K for v in views]
        K = np.array(lens_of_view)
        gain = gains([p[1] for p in prepared], K, poses, points, photo, point)
        prepared = views = None
        agreement = {"depth_tolerance": settings.depth_tolerance / 100}
        if n == 2:
            step = inverse_step(K, poses)
            D = np.stack([without_specks(d, step) for d in D])
            agreement = {
                "depth_tolerance": max(settings.depth_tolerance / 100, pair_tolerance(D, step)),
                "back_px": BACK_PX,
                "least_cos": LEAST_COS,
            }

        agreed = np.zeros((2, 64))

        def fusing(i, total):
            report.check()
            report.progress(0.87 + 0.08 * i / total, f"fusing photo {i + 1} of {total}")

        cloud = fuse(
            D,
            N,
            S,
            C,
            K,
            poses,
            neighbors,
            least=min(settings.min_photos, 1 + max(len(x) for x in neighbors)),
            min_score=settings.min_score,
            sure_score=settings.sure_score,
            **agreement,
            gain=gain,
            quality=quality,
            color_tolerance=settings.color_tolerance or np.inf,
            agreed=agreed,
            used=used,
            progress=fusing,
        )
        fused = len(cloud)
        report.progress(0.95, "cleaning")
        lost_outline = lost_isolated = 0
        cloud = cloud.take(box.contains(cloud.points))
        if settings.outline_votes and any(m is not None for m in outlined):
            bad = self._outside(
                cloud.points, outlined, lens_of_view, poses, [inputs.member.get(p.id, 0) for p in photos]
            )
            bad = bad >= settings.outline_votes
            lost_outline = int(bad.sum())
            cloud = cloud.take(~bad)
        if settings.remove_isolated and len(cloud):
            piece = components(cloud.points, PIECE_GAP * spacing_of(cloud.points))
            bad = isolated(cloud.points) | (np.bincount(piece) < PIECE_SHARE * len(cloud))[piece]
            lost_isolated = int(bad.sum())
            cloud = cloud.take(~bad)
        if settings.sampling and len(cloud):
            cloud = cloud.take(thin_by_spacing(cloud.points, settings.sampling * inputs.length))
        if not len(cloud):
            raise _nothing(points, box, [m for m in outlined if m is not None], settings)
        times["fuse_s"] = time.monotonic() - clock
        # a well-mixed order: any first part of the cloud is an even sample of it, which the scene draws while it moves
        cloud = cloud.take(np.random.default_rng(settings.seed).permutation(len(cloud)))
        artefacts[("cloud", None)] = blobs.put_arrays(**cloud.arrays())
        ground = float(
            np.median([np.median(d[d > 0]) / K[0] for d, K in zip(D, lens_of_view, strict=True) if (d > 0).any()])
        )
        return Outcome(
            CloudFigures(
                points=len(cloud),
                fused=fused,
                removed_isolated=lost_isolated,
                removed_outline=lost_outline,
                photos=n,
                reused=found,
                photo_scale=settings.photo_scale,
                pixel_size=ground / scale_of(np.array(inputs.from_plain)),
                from_plain=inputs.from_plain,
                photos_per_point=round(float(cloud.photos.mean()), 2),
                score=round(float(np.median(cloud.score)), 3),
                **{
                    name: np.round(row[: np.flatnonzero(agreed[0])[-1] + 1]).astype(int).tolist()
                    for name, row in zip(("agreeing", "sure"), agreed, strict=True)
                },
                photos_histogram=np.bincount(cloud.photos, minlength=3).tolist(),
                **{k: round(v, 2) for k, v in times.items()},
            ),
            artefacts,
            [] if n > 2 else [problem(None, TWO, "Take a third photo, or look at places that repeat yourself.")],
        )

    @staticmethod
    def _outside(points, masks, lenses, poses, member):
        """In how many photos (n,) points lie outside the mask: of joined sittings, in the one where it is the fewest.

        The support of one sitting hides surface that another one sees.
        """
        votes = []
        for k in sorted(set(member)):
            mine = [i for i, m in enumerate(member) if m == k]
            if all(masks[i] is None for i in mine):
                continue  # nothing is known of its outlines
            votes.append(outside_outlines(points, [masks[i] for i in mine], [lenses[i] for i in mine], poses[mine]))
        return np.min(votes, axis=0)

    def histogram(self, figures):
        counts = (figures.agreeing or figures.photos_histogram)[2:]
        edges = [k + 1.5 for k in range(len(counts) + 1)]
        return Histogram("Photos that agree on a point", "photos", edges, counts, "min_photos")

    def left_at(self, figures, least):
        counts, sure = figures.agreeing or figures.photos_histogram, figures.sure
        left = sum(counts[least:]) + (sure[least - 1] if 3 <= least <= len(sure) else 0)
        return f"{least} or more: some {left:,} points"

    def headline(self, figures):
        p = figures.points
        return (
            f"{p / 1e6:.2f} M points" if p >= 1e6 else f"{p / 1e3:.0f} k points",
            f"{figures.photos_per_point:.1f} photos a point",
        )
