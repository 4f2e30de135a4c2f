"""From solved photos to depth maps, and from these to points that several photos agree on.

Photos are straightened, each gets a depth map from its neighbors, the maps are fused, and the points are cleaned. All
the maps together may be larger than memory: then they are kept on disk. Cloud keeps the points; Surface can take the
maps themselves, which it finds computed.
"""

import hashlib
import json
import time
from functools import partial
from typing import NamedTuple

import numpy as np

from ...core.cloud.clean import isolated, outside_outlines
from ...core.cloud.filters import components, thin_by_spacing
from ...core.cloud.grid import spacing_of
from ...core.cloud.keepbox import KeepBox
from ...core.dense.depth import NEIGHBOR_MARGIN, View, cropped, depth_map
from ...core.dense.exposure import brightness, gains
from ...core.dense.fuse import Agreement, fuse, maps_of, noise_codes
from ...core.dense.neighbors import choose_neighbors
from ...core.dense.pair import BACK_PX, LEAST_COS, inverse_step, pair_tolerance, without_specks
from ...core.dense.speed import hypotheses
from ...core.errors import UmbrateError
from ...core.imaging.sharpness import CELL, LUMA, focus, focus_worth, quality_of, sharpness
from ...core.imaging.undistort import undistort
from ...job.blobs import BlobStore
from ...job.contents import DEPTH_MAP
from ...sitting.blocks import stored_block
from ...sitting.masks import decode_mask
from ...sitting.photos import photo_picture
from .scratch import kept, zeros

PIECE_GAP, PIECE_SHARE = 3.0, 1e-4  #: a piece stands alone at so many spacings, and is a speck below such a share
LEAST_ALIKE = 0.05  #: share of pixels that look like something in another photo, below which there is no texture
DEPTH_VERSION = 7  #: raised when depth is computed in another way


class Straight(NamedTuple):
    """A straightened photo, or the part of it that its mask leaves."""

    view: View
    colors: np.ndarray  #: (h, w, 3) uint8
    masked: bool
    sharpness: float
    focus: np.ndarray  #: of `focus`, of the whole photo
    brightness: np.ndarray  #: of `brightness`, at its tie points
    corner: tuple  #: first row and column of the part
    whole: tuple  #: rows and columns of the photo

    @property
    def frame(self):
        """The photo's frame from the first pixel of the part: left, top, right, bottom."""
        (y, x), (h, w) = self.corner, self.whole
        return -x, -y, w - x, h - y


def straighten(blobs, scale, folder, item):
    """Work item: the Straight of a photo, with the pose, lens, mask and tie points of it."""
    photo, pose, lens, mask, ties = item
    mask = decode_mask(BlobStore(blobs).get_bytes(mask), photo) if mask else None
    straight, inside, pinhole = undistort(photo_picture(photo), mask, lens, scale)
    K = np.array([pinhole.f, pinhole.cx, pinhole.cy])
    whole = View(np.ascontiguousarray(straight @ LUMA), inside, K, pose)
    within = inside if mask is not None else None
    colors = np.round(straight).astype(np.uint8)
    sharp, codes = sharpness(whole.gray, within), focus(whole.gray, within)
    bright = brightness(colors, whole.K, pose, ties)
    # the rest of the photo is never looked at again; cells of focus begin where the part does
    view, y, x = cropped(whole, NEIGHBOR_MARGIN, CELL)
    h, w = view.gray.shape
    view = View(kept(view.gray.copy(), folder), kept(view.mask.copy(), folder), view.K, pose)
    colors = kept(colors[y : y + h, x : x + w].copy(), folder)
    return Straight(view, colors, mask is not None, sharp, codes, bright, (y, x), whole.gray.shape)


def depth_of(blobs, views, shapes, neighbors, box, reach, settings, item):
    """Work item: the blob of a photo's depth map from its neighbors, started from its tie points; None without any.

    It is kept by what it was computed from, also where the run is cancelled later.
    """
    k, points, fingerprint = item
    if not neighbors[k]:
        return None
    blobs = BlobStore(blobs)
    m = depth_map(
        views[k], [views[j] for j in neighbors[k]], box, points, seed=settings.seed + k, rounds=settings.rounds,
        reach=reach,
    )  # fmt: skip
    key = blobs.put_arrays(
        depth=m.depth.astype(np.float32),
        normal=np.round(m.normal * 127).astype(np.int8),
        score=np.round(np.clip(m.score, 0, 1) * 255).astype(np.uint8),
        noise=noise_codes(m.noise),
        lens=views[k].K,
        whole=np.array(shapes[k], np.int32),
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


def _nothing(points, box, masks, alike, settings):
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
    if alike < LEAST_ALIKE:
        return UmbrateError(
            "The photos show next to no texture where depth was looked for, so no place of one is found again in "
            "another. Look whether they are sharp; dust or light the object so that its grain shows; or take a larger "
            "photo scale.",
            ("go to", "photos"),
        )
    return UmbrateError(
        "No point was confirmed by enough photos. Lower Agreeing photos to 2, look whether the keep box stands round "
        "the object, and whether the masks leave the object free.",
        ("set", "min_photos", 2) if settings.min_photos > 2 else ("go to", "poses"),
    )


class DenseRun:
    """The steps of a run and what they hand on. Photos are numbered by their place among those that are used."""

    def __init__(self, inputs, settings, report):
        self.inputs, self.settings, self.report = inputs, settings, report
        self.blobs = BlobStore(inputs.blobs)
        self.times, self._clock = {}, time.monotonic()
        if settings.farthest and settings.nearest >= settings.farthest:
            raise UmbrateError(
                f"Nearest ({settings.nearest:g}) must be less than Farthest ({settings.farthest:g}).",
                ("set", "farthest", 0.0),
            )
        self.box = KeepBox.from_dict(inputs.keep_box)
        b = stored_block(self.blobs, inputs.block)
        by_id = {p.id: p for p in inputs.photos}
        rows = [k for i, k in b.solved_rows.items() if i in by_id]
        if len(rows) < 2:
            raise UmbrateError(
                "Fewer than two solved photos are left. Bring photos back or run Poses again.", ("go to", "poses")
            )
        self.photos = [by_id[int(b.photo_ids[i])] for i in rows]
        self.lenses, self.poses = [b.lens(k) for k in rows], b.poses[rows]
        seen, place = np.isin(b.photo, rows), {i: k for k, i in enumerate(rows)}
        self.photo = np.array([place[int(i)] for i in b.photo[seen]], np.int64)
        self.point, self.tie_points = b.point[seen], b.points

    def maps(self):
        """Straighten the photos and compute their depth, or find it computed, ready to be fused."""
        self._straighten()
        self._lap("prepare_s")
        self._depth()
        self._lap("depth_s")
        self._note_speed()
        self._collect()

    def points(self):
        """The Cloud of what enough photos agree on, cleaned; after `maps`."""
        cloud = self._clean(self._fuse())
        self._lap("fuse_s")
        return cloud

    def _lap(self, name):
        now = time.monotonic()
        self.times[name], self._clock = now - self._clock, now

    def _straighten(self):
        """Views without distortion, and the neighbors each is compared with."""
        i = self.inputs
        masks = [i.masks.get(p.id) for p in self.photos]
        ties = [self.tie_points[self.point[self.photo == k]] for k in range(len(self.photos))]
        items = list(zip(self.photos, self.poses, self.lenses, masks, ties, strict=True))
        work = partial(straighten, i.blobs, self.settings.photo_scale, i.folder)
        self.straight = self.report.map(work, items, "straightening photo", 0.0, 0.05)
        self.views = [p.view for p in self.straight]
        whole = quality_of([p.sharpness for p in self.straight])
        solved = np.ones(len(self.photos), bool)
        self.neighbors = choose_neighbors(
            self.poses, solved, self.tie_points, self.photo, self.point, self.settings.neighbors, quality=whole
        )
        if not any(self.neighbors):
            raise UmbrateError(
                "No two solved photos share enough tie points for depth. Run Poses with more features.",
                ("go to", "poses"),
            )

    def _depth(self):
        """The depth maps in arrays of one size: kept ones are read, the others computed."""
        s, count = self.settings, range(len(self.photos))
        h, w = (max(v.gray.shape[a] for v in self.views) for a in (0, 1))
        folder, shape = self.inputs.folder, (len(self.photos), h, w)
        self.D, self.S = zeros(shape, np.float32, folder), zeros(shape, np.uint8, folder)
        self.N, self.noise = zeros((*shape, 3), np.int8, folder), zeros(shape, np.uint8, folder)
        self.artefacts = {}
        fingerprints = [depth_key(self.inputs, s, self.photos, k, self.neighbors) for k in count]
        todo = [k for k in count if not self._take(k, *self.blobs.recall(fingerprints[k], DEPTH_MAP))]
        self.reused = len(self.photos) - len(todo)
        reach = s.nearest * self.inputs.length, (s.farthest or np.inf) * self.inputs.length
        shapes = [p.whole for p in self.straight]
        work = partial(depth_of, self.inputs.blobs, self.views, shapes, self.neighbors, self.box, reach, s)
        items = [(k, self.tie_points[self.point[self.photo == k]], fingerprints[k]) for k in todo]
        made = self.report.map(work, items, "depth of photo", 0.05, 0.85)
        for k, key in zip(todo, made, strict=True):
            self._take(k, key, self.blobs.get_arrays(key, DEPTH_MAP) if key else None)

    def _take(self, k, key, m):
        """Put the depth map of a photo into the arrays, where there is one; returns whether there is."""
        if m is None:
            return False
        y, x = self.views[k].gray.shape
        for room, name in ((self.D, "depth"), (self.S, "score"), (self.N, "normal"), (self.noise, "noise")):
            room[k, :y, :x] = m[name]
        self.artefacts[("depth", self.photos[k].id)] = key
        return True

    def _note_speed(self):
        """How fast this machine computed depth, from which the time of later runs is estimated."""
        seconds = self.times["depth_s"]
        if not self.reused and seconds > 1:
            both = zip(self.views, self.neighbors, strict=True)
            tried = sum(hypotheses(v.mask.sum(), len(x), self.settings.rounds) for v, x in both)
            self.times["speed"] = tried / seconds / self.report.executor.threads

    def _collect(self):
        """What is fused: the depth maps, the photos' colors, and what these are to be multiplied by."""
        views = self.views
        C = zeros((*self.D.shape, 3), np.uint8, self.inputs.folder)
        for k, v in enumerate(views):
            C[k, : v.gray.shape[0], : v.gray.shape[1]] = self.straight[k].colors
        self.outlined = [p.view.mask if p.masked else None for p in self.straight]
        self.frames = [p.frame for p in self.straight]
        self.K = np.array([v.K for v in views])
        value = np.full(len(self.photo), np.nan)
        for k, p in enumerate(self.straight):
            value[self.photo == k] = p.brightness
        gain = gains(value, self.photo, self.point, len(views), len(self.tie_points))
        quality = np.ones((len(views), *(-(-n // CELL) for n in self.D.shape[1:])), np.float32)
        worth = focus_worth(np.concatenate([p.focus.ravel() for p in self.straight]))
        for k, p in enumerate(self.straight):  # what is out of focus counts less for colors, there alone
            codes = p.focus[p.corner[0] // CELL :, p.corner[1] // CELL :][: quality.shape[1], : quality.shape[2]]
            quality[k, : codes.shape[0], : codes.shape[1]] = worth[codes]
        self.straight = self.views = None
        self.depth = maps_of(self.D, self.N, self.S, C, self.K, self.poses, gain, quality, self.noise)

    def _fuse(self):
        s, n = self.settings, len(self.photos)
        limits = Agreement(
            least=min(s.min_photos, 1 + max(len(x) for x in self.neighbors)),
            min_score=s.min_score,
            sure_score=s.sure_score,
            depth_tolerance=s.depth_tolerance / 100,
            color_tolerance=s.color_tolerance or np.inf,
        )
        if n == 2:
            step = inverse_step(self.K, self.poses)
            D = np.stack([without_specks(d, step) for d in self.depth.depth])
            self.depth = self.depth._replace(depth=D)
            tolerance = max(limits.depth_tolerance, pair_tolerance(D, step))
            limits = limits._replace(depth_tolerance=tolerance, back_px=BACK_PX, least_cos=LEAST_COS)

        def fusing(i, total):
            self.report.check()
            self.report.progress(0.87 + 0.08 * i / total, f"fusing photo {i + 1} of {total}")

        self.agreed = np.zeros((2, 64))
        self.used = zeros(self.depth.depth.shape, np.bool_, self.inputs.folder)
        cloud = fuse(self.depth, self.neighbors, limits, agreed=self.agreed, used=self.used, progress=fusing)
        self.fused = len(cloud)
        return cloud

    def _clean(self, cloud):
        """What lies in the keep box and inside the outlines, without points that stand alone."""
        s = self.settings
        self.report.progress(0.95, "cleaning")
        self.lost_outline = self.lost_isolated = 0
        cloud = cloud.take(self.box.contains(cloud.points))
        if s.outline_votes and any(m is not None for m in self.outlined):
            bad = self._outside(cloud.points) >= s.outline_votes
            self.lost_outline = int(bad.sum())
            cloud = cloud.take(~bad)
        if s.remove_isolated and len(cloud):
            piece = components(cloud.points, PIECE_GAP * spacing_of(cloud.points))
            bad = isolated(cloud.points) | (np.bincount(piece) < PIECE_SHARE * len(cloud))[piece]
            self.lost_isolated = int(bad.sum())
            cloud = cloud.take(~bad)
        if s.sampling and len(cloud):
            cloud = cloud.take(thin_by_spacing(cloud.points, s.sampling * self.inputs.length))
        if not len(cloud):
            alike = float((self.depth.score > 0).sum() / max((self.depth.depth != 0).sum(), 1))
            raise _nothing(self.tie_points, self.box, [m for m in self.outlined if m is not None], alike, s)
        return cloud

    def _outside(self, points):
        """In how many photos (n,) points lie outside the mask: of joined sittings, in the one where it is the fewest.

        The support of one sitting hides surface that another one sees.
        """
        member = [self.inputs.member.get(p.id, 0) for p in self.photos] if self.inputs.member else [0] * len(self.K)
        votes = []
        for k in sorted(set(member)):
            mine = [i for i, m in enumerate(member) if m == k]
            masks = [self.outlined[i] for i in mine]
            if any(m is not None for m in masks):  # else nothing is known of its outlines
                frames = [self.frames[i] for i in mine]
                votes.append(outside_outlines(points, masks, self.K[mine], self.poses[mine], frames=frames))
        return np.min(votes, axis=0)
