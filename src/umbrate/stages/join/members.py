"""A sitting as joining reads it: its block in the frame of the job, and where its features, masks and
cloud are kept."""

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import scipy

from ...core.cloud.keepbox import KeepBox
from ...core.errors import UmbrateError
from ...core.features.match import unit_descriptors
from ...core.join.candidates import mean_descriptors
from ...core.poses.block import FEATURE, TARGET, Block
from ...job.blobs import BlobStore
from ...job.contents import CLEANED, CLOUD, FEATURES
from ...sitting.clouds import after_step, to_job
from ...sitting.frames import frame_of, keep_box_of, load_block, move_directions, move_points
from ...sitting.marks import marks_of, with_marks
from ...sitting.masks import PackedMask, decode_mask, mask_blobs

NEIGHBORS = 12  #: tie points that tell which way the surface faces


@dataclass(frozen=True, eq=False)
class Member:
    """A sitting for joining; picklable, its arrays in the frame of the job. What is read for it is read once.

    Attributes
    ----------
    block : Block
        With the points that were marked by hand placed.
    extent : float
        Of the object's tie points.
    frame : (4, 4)
        From the plain frame to that of the job.
    masks, features : dict of photo id to blob key
    cloud : (blob key, keys of its steps, similarity to the job's frame), or None
    box : dict
        The keep box.
    """

    blobs: str
    id: int
    name: str
    block: Block
    scaled: bool
    extent: float
    frame: np.ndarray
    masks: dict = field(default_factory=dict)
    features: dict = field(default_factory=dict)
    cloud: tuple | None = None
    box: dict | None = None

    @property
    def middle(self):
        """The middle of its points (3,)."""
        return np.median(self.block.points, axis=0)

    @property
    def pixel(self):
        """Size of a pixel on the object, in the frame's unit."""
        b = self.block
        f = b.lenses[b.lens_of[b.solved], 0]
        return float(np.median(np.linalg.norm(b.eyes[b.solved] - self.middle, axis=1) / f))

    @cached_property
    def packed_masks(self):
        """The row of each photo that has a mask and a pose, with the mask, which is decoded once."""
        blobs, rows = BlobStore(self.blobs), self.block.solved_rows.items()
        return [
            (i, PackedMask.of(decode_mask(blobs.get_bytes(self.masks[pid]), self.block.lens(i))))
            for pid, i in rows
            if pid in self.masks
        ]

    @cached_property
    def inside_share(self):
        """Share of each tie point's sightings that lie inside the masks (n,); NaN without any."""
        b = self.block
        n = len(b.points)
        seen, inside = np.zeros(n), np.zeros(n)
        for i, mask in self.packed_masks:
            rows = b.in_photo(i)
            _, hit = mask.at(*np.round(b.xy[rows]).astype(int).T)
            seen += np.bincount(b.point[rows], minlength=n)
            inside += np.bincount(b.point[rows], weights=hit, minlength=n)
        return np.where(seen > 0, inside / np.maximum(seen, 1), np.nan)

    @cached_property
    def on_object(self):
        """Which tie points can be the object's (n,) bool: inside the masks, and in the keep box."""
        on = ~(self.inside_share < 0.5)
        if self.box:
            on &= KeepBox.from_dict(self.box).contains(self.block.points)
        return on

    @cached_property
    def descriptors(self):
        """Mean descriptors (n, 128) of the tie points; zero for targets and what is not the object's.

        Raises
        ------
        UmbrateError
            Where it was solved without features.
        """
        block = self.block
        if not self.features:
            raise UmbrateError(f"“{self.name}” was solved without features: join it by targets or picks.")
        blobs = BlobStore(self.blobs)
        of, all_, first = np.full(len(block.photo), -1), [], 0
        on = self.on_object & (block.kind == FEATURE)
        for i, pid in enumerate(block.photo_ids):
            key = self.features.get(int(pid))
            if key is None:
                continue
            d = blobs.get_arrays(key, FEATURES)["descriptors"]
            rows = np.flatnonzero((block.photo == i) & on[block.point])
            rows = rows[block.feature[rows] < len(d)]
            of[rows] = first + np.arange(len(rows))
            all_.append(unit_descriptors(d[block.feature[rows]]))  # no more than what is asked for: all is a gigabyte
            first += len(rows)
        return mean_descriptors(len(block.points), block.point, of, np.concatenate(all_))

    @cached_property
    def surface(self):
        """Points, normals (n, 3) and whether they are dense: of the chosen cloud, else of the tie points."""
        if self.cloud is None:
            return self._surface_of_tie_points()
        blobs = BlobStore(self.blobs)
        key, steps, M = self.cloud
        c = blobs.get_arrays(key, CLOUD)
        for s in steps:
            c = after_step(c, blobs.get_arrays(s, CLEANED))
        return move_points(c["points"], M), move_directions(c["normals"], M), True

    def _surface_of_tie_points(self):
        b = self.block
        on = self.on_object & (b.kind != TARGET)
        points = b.points[on]
        if len(points) < 4 * NEIGHBORS:
            return points, np.zeros_like(points), False
        _, j = scipy.spatial.cKDTree(points).query(points, NEIGHBORS, workers=-1)
        around = points[j] - points[j].mean(1, keepdims=True)
        normals = np.linalg.svd(np.einsum("nki,nkj->nij", around, around))[0][:, :, 2]
        # the surface faces the photos that see it
        eye, count = b.eyes[b.photo], b.photos_of
        eyes = np.stack([np.bincount(b.point, weights=eye[:, k], minlength=len(count)) for k in range(3)], 1)
        toward = (eyes / np.maximum(count, 1)[:, None])[on] - points
        normals[(normals * toward).sum(1) < 0] *= -1
        return points, normals, False

    def outside_share(self, points, M):
        """Of places (n, 3) that `M` moves into its frame: in how many of its photos they lie, and outside the mask.

        Returns
        -------
        seen, out : (n,)
        """
        E = self.block.poses
        X = points @ M[:3, :3].T + M[:3, 3]
        seen, out = np.zeros(len(X), np.int32), np.zeros(len(X), np.int32)
        for i, mask in self.packed_masks:
            Y = X @ E[i, :3, :3].T + E[i, :3, 3]
            front = Y[:, 2] > 0
            xy = np.round(self.block.lens(i).project(Y[:, :2] / np.where(front, Y[:, 2], 1.0)[:, None]))
            # behind the camera, or so far aside that no number says where: in no picture
            xy = np.where(front[:, None] & (np.abs(xy) < 1e6), xy, -1).astype(int)
            there, hit = mask.at(*xy.T)
            seen += there
            out += there & ~hit
        return seen, out


def member_of(job, sitting):
    """The Member of a sitting.

    Raises
    ------
    UmbrateError
        Where it is not solved.
    """
    block = load_block(job, sitting)
    if block is None:
        raise UmbrateError(f"“{sitting.name}” has no poses yet. Run Poses first.", ("go to", "poses"))
    plain = block.points[block.kind != TARGET]
    if len(plain) < 10:
        raise UmbrateError(f"“{sitting.name}” has hardly any tie points.", ("go to", "poses"))
    low, high = np.percentile(plain, (2, 98), axis=0)
    frame = frame_of(job, sitting)
    kept, poses = job.cloud(sitting.id), job.result(sitting.id, "poses")
    if kept and kept.made < poses.made:
        kept = None  # it lies as the poses before these had it
    cloud = (kept.blob, [s.blob for s in kept.steps], to_job(job, sitting, kept, frame)) if kept else None
    features = {p: key for (name, p), key in poses.artefacts.items() if name == "features"}
    return Member(
        str(job.blobs.folder), sitting.id, sitting.name, with_marks(block, marks_of(job, sitting))[0], frame.scaled,
        float(np.linalg.norm(high - low)), frame.matrix, mask_blobs(job, sitting), features, cloud,
        keep_box_of(job, sitting),
    )  # fmt: skip
