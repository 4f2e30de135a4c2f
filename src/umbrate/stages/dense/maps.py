"""From solved photos to depth maps, and from these to points that several photos agree on.

Photos are straightened, each gets a depth map from its neighbors, the maps are fused, and the points are cleaned. All
pictures and maps together may be larger than memory: they are files, and only those that are worked on are read. Cloud
keeps the points; Surface can take the maps themselves, which it finds computed.
"""

import hashlib
import json
import time
from dataclasses import replace
from functools import partial
from typing import NamedTuple

import numpy as np

from ...core.cloud.clean import OUTLINE_PX, isolated, outside_outlines
from ...core.cloud.filters import components, thin_by_spacing
from ...core.cloud.grid import spacing_of
from ...core.cloud.keepbox import KeepBox
from ...core.dense.depth import depth_map
from ...core.dense.exposure import gains
from ...core.dense.fuse import Agreement, fuse
from ...core.dense.held import Maps, PhotoMap, noise_codes
from ...core.dense.neighbors import choose_neighbors
from ...core.dense.pair import BACK_PX, LEAST_COS, inverse_step, pair_tolerance, without_specks
from ...core.dense.speed import depth_memory, hypotheses
from ...core.dense.through import FreeSpace
from ...core.errors import UmbrateError
from ...core.imaging.sharpness import CELL, focus_worth, quality_of
from ...job.blobs import BlobStore
from ...job.contents import DEPTH_MAP
from ...sitting.blocks import stored_block
from ..executor import anywhere
from .straight import Shot, Source, straight, straighten, ties_of

PIECE_GAP, PIECE_SHARE = 3.0, 1e-4  #: a piece stands alone at so many spacings, and is a speck below such a share
LEAST_ALIKE = 0.05  #: share of pixels that look like something in another photo, below which there is no texture
DEPTH_VERSION = 9  #: raised when depth is computed in another way


class Work(NamedTuple):
    """What all depth maps of a run have in common."""

    source: Source
    box: KeepBox
    reach: tuple  #: nearest and farthest depth
    seed: int
    rounds: int


@anywhere
def depth_of(work, item):
    """Work item: the blob of a photo's depth map from its neighbors, started from its tie points.

    item : the number its seed comes from, the Shots of the photo and of its neighbors, and what it is remembered by,
    also where the run is cancelled later
    """
    k, shots, fingerprint = item
    blobs = BlobStore(work.source.blobs)
    mine, *others = (straight(work.source, s) for s in shots)
    m = depth_map(
        mine.view, [o.view for o in others], work.box, ties_of(work.source, shots[0]), seed=work.seed + k,
        rounds=work.rounds, reach=work.reach,
    )  # fmt: skip
    key = blobs.put_arrays(
        depth=m.depth.astype(np.float32),
        normal=np.round(m.normal * 127).astype(np.int8),
        score=np.round(np.clip(m.score, 0, 1) * 255).astype(np.uint8),
        noise=noise_codes(m.noise),
        lens=mine.view.K,
        whole=np.array(mine.whole, np.int32),
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
    """The UmbrateError for a cloud without points: what is likely to blame.

    masks : pixels that each mask leaves; alike : share of pixels with a depth that look like something elsewhere
    """
    if masks and not any(masks):
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
    """The steps of a run and what they hand on. Photos are numbered by their place among those that are used.

    No step holds what it looks at of all photos: pictures are files of the scratch folder, maps those of the job.
    """

    def __init__(self, inputs, settings, report, scratch):
        self.inputs, self.settings, self.report, self.scratch = inputs, settings, report, scratch
        self.blobs = BlobStore(inputs.blobs)
        self.source = Source(inputs.blobs, inputs.block, settings.photo_scale, scratch)
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
        both = zip(self.photos, rows, strict=True)
        self.shots = [Shot(p, row, inputs.masks.get(p.id)) for p, row in both]
        self.poses = b.poses[rows]
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

    def points(self):
        """The Cloud of what enough photos agree on, cleaned; after `maps`."""
        cloud = self._clean(self._fuse())
        self._lap("fuse_s")
        return cloud

    def _lap(self, name):
        now = time.monotonic()
        self.times[name], self._clock = now - self._clock, now

    def _straighten(self):
        """Photos without distortion, and the neighbors each is compared with."""
        work = partial(straighten, self.source)
        self.told = self.report.map(work, self.shots, "straightening photo", 0.0, 0.05)
        self.K = np.array([x.K for x in self.told])
        whole = quality_of([x.sharpness for x in self.told])
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
        """The depth maps: kept ones are found, the others computed."""
        s, count = self.settings, range(len(self.photos))
        self.keys, self.ground = {}, {}
        self.alike = self.with_depth = 0
        fingerprints = [depth_key(self.inputs, s, self.photos, k, self.neighbors) for k in count]
        todo = [k for k in count if not self._take(k, *self.blobs.recall(fingerprints[k], DEPTH_MAP))]
        todo = [k for k in todo if self.neighbors[k]]
        self.reused = len(self.keys)
        reach = s.nearest * self.inputs.length, (s.farthest or np.inf) * self.inputs.length
        work = partial(depth_of, Work(self.source, self.box, reach, s.seed, s.rounds))
        items = [(k, [self.shots[j] for j in (k, *self.neighbors[k])], fingerprints[k]) for k in todo]
        largest = max((np.prod(x.size) for x in self.told), default=0)
        needs = depth_memory(float(largest), max(map(len, self.neighbors)))
        made = self.report.map(work, items, "depth of photo", 0.05, 0.85, memory=needs)
        for k, key in zip(todo, made, strict=True):
            self._take(k, key, self.blobs.get_arrays(key, DEPTH_MAP))

    @property
    def artefacts(self):
        """The blobs of the depth maps, as those of a result."""
        return {("depth", self.photos[k].id): key for k, key in self.keys.items()}

    def _take(self, k, key, m):
        """Note the depth map of a photo, where there is one, and what is told of it; returns whether there is."""
        if m is None:
            return False
        self.keys[k] = key
        near = m["depth"][m["depth"] > 0]
        if len(near):
            self.ground[k] = float(np.median(near)) / self.K[k, 0]
        self.alike += int((m["score"] > 0).sum())
        self.with_depth += int((m["depth"] != 0).sum())
        return True

    def _note_speed(self):
        """How fast this machine computed depth, from which the time of later runs is estimated."""
        seconds = self.times["depth_s"]
        if (
            not self.reused and seconds > 1 and not self.report.executor.told
        ):  # which is empty where this machine worked
            both = zip(self.told, self.neighbors, strict=True)
            tried = sum(hypotheses(x.used, len(y), self.settings.rounds) for x, y in both)
            self.times["speed"] = tried / seconds / self.report.executor.threads

    def _maps(self):
        """What is fused: the depth maps, the photos' colors, and what these are to be multiplied by."""
        value = np.full(len(self.photo), np.nan)
        for k, x in enumerate(self.told):
            value[self.photo == k] = x.brightness
        gain = gains(value, self.photo, self.point, len(self.told), len(self.tie_points))
        worth = focus_worth(np.concatenate([x.focus.ravel() for x in self.told]))
        h, w = (max(x.size[a] for x in self.told) for a in (0, 1))

        def read(k):
            x, colors = self.told[k], straight(self.source, self.shots[k]).colors
            # what is out of focus counts less for colors, there alone
            cells = x.focus[x.corner[0] // CELL :, x.corner[1] // CELL :]
            quality = worth[cells[: -(-x.size[0] // CELL), : -(-x.size[1] // CELL)]].astype(np.float32)
            if k not in self.keys:
                none = np.zeros(x.size, np.uint8)
                return PhotoMap(none.astype(np.float32), np.zeros((*x.size, 3), np.int8), none, none, colors, quality)
            m = self._map(k)
            return PhotoMap(m["depth"], m["normal"], m["score"], m["noise"], colors, quality)

        def keep(k, used):
            self.scratch.put(f"used-{k}", np.packbits(used))

        def take(k):
            kept = self.scratch.get(f"used-{k}")
            return None if kept is None else np.unpackbits(kept[0], count=h * w).reshape(h, w).astype(bool)

        self.used = take
        return Maps(self.K, self.poses, gain, read, (h, w), keep, take)

    def _map(self, k):
        return self.blobs.get_arrays(self.keys[k], DEPTH_MAP)

    def _fuse(self):
        s, n = self.settings, len(self.photos)
        limits = Agreement(
            least=min(s.min_photos, 1 + max(len(x) for x in self.neighbors)),
            min_score=s.min_score,
            sure_score=s.sure_score,
            depth_tolerance=s.depth_tolerance / 100,
            color_tolerance=s.color_tolerance or np.inf,
        )
        maps = self._maps()
        if n == 2:
            step = inverse_step(self.K, self.poses)
            both = [maps.read(k) for k in range(n)]
            both = [m._replace(depth=without_specks(m.depth, step)) for m in both]
            maps = replace(maps, read=both.__getitem__)
            tolerance = pair_tolerance(np.concatenate([m.depth.ravel() for m in both]), step)
            tolerance = max(limits.depth_tolerance, tolerance)
            limits = limits._replace(depth_tolerance=tolerance, back_px=BACK_PX, least_cos=LEAST_COS)

        def fusing(i, total):
            self.report.check()
            self.report.progress(0.87 + 0.08 * i / total, f"fusing photo {i + 1} of {total}")

        self.agreed = np.zeros((2, 64))
        most = int(s.most_points * 1e6)
        cloud, told = fuse(
            maps, self.neighbors, limits, agreed=self.agreed, wanted=self.box.contains, most=most, progress=fusing
        )
        self.fused, self.thinned = told.made, told.distance
        return cloud

    def _clean(self, cloud):
        """What lies inside the outlines, without points that stand alone."""
        s = self.settings
        self.report.progress(0.95, "cleaning")
        self.lost_outline = self.lost_isolated = 0
        if s.outline_votes and len(cloud) and any(x.mask for x in self.shots):
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
            masked = [x.used for x, shot in zip(self.told, self.shots, strict=True) if shot.mask]
            raise _nothing(self.tie_points, self.box, masked, self.alike / max(self.with_depth, 1), s)
        return cloud

    def _outside(self, points):
        """In how many photos (n,) points lie outside the mask: of joined sittings, in the one where it is the fewest.

        The support of one sitting hides surface that another one sees.
        """
        member = [self.inputs.member.get(p.id, 0) for p in self.photos] if self.inputs.member else [0] * len(self.K)
        votes = []
        for k in sorted(set(member)):
            mine = [i for i, m in enumerate(member) if m == k and self.shots[i].mask]
            if not mine:
                continue  # nothing is known of its outlines
            count = np.zeros(len(points))
            for i in mine:
                self.report.check()
                x = straight(self.source, self.shots[i])
                seen = [x.view.mask], [x.view.K], [x.view.pose]
                soft = round(self.inputs.soft.get(self.photos[i].id, 0) / self.settings.photo_scale)
                if soft:  # beyond a soft edge it counts whole, within it half
                    count += 0.5 * outside_outlines(points, *seen, OUTLINE_PX + soft, [x.frame])
                count += (0.5 if soft else 1.0) * outside_outlines(points, *seen, frames=[x.frame])
            votes.append(count)
        return np.min(votes, axis=0)

    def free_space(self):
        """What photos saw through (FreeSpace); after `points`."""
        h, w = (max(x.size[a] for x in self.told) for a in (0, 1))
        seen = self.scratch.zeros((len(self.told), h, w), np.float32)
        for k, x in enumerate(self.told):
            used = self.used(k)
            if used is not None and k in self.keys:
                part = np.s_[: x.size[0], : x.size[1]]
                seen[k][part] = np.where(used[part], np.abs(self._map(k)["depth"]), 0)
        return FreeSpace(seen, self.K, self.poses)
