"""Coverage of a sitting's cloud by its photos, in the job's frame, and the photos that would mend it."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..core.cloud.coverage import Camera, coverage, places
from ..core.cloud.filters import rim
from ..core.cloud.grid import spacing_of
from ..core.cloud.keepbox import KeepBox
from ..core.cloud.sparse import sparse_normals
from ..core.errors import UmbrateError
from ..core.geometry.lens import Lens
from ..core.geometry.pose import center
from ..core.raster.coloring import OF_SURFACES
from ..job.blobs import BlobStore
from ..sitting.clouds import load_cloud
from ..sitting.frames import frame_of, keep_box_of, load_block
from ..sitting.masks import decode_mask, mask_blobs
from .sifting import points_left

LEAST_SEEN = 3  #: fewer photos are too few
LEAST_SPREAD_DEG = 12.0  #: rays closer together tell little of depth
LEAST_POINTS = 100  #: tie points, of which a surface can be told
RIM = 5.0  #: distances between points within which the end of the surface is looked for
SPARSE_RIM = 8.0  #: the same of tie points, which lie in clusters: at 5 every gap between clusters is an end
UNSURE = 2.5  #: times the median precision
UNDER = -0.5  #: cosine; a surface that faces down more than this is seen only when the object is turned over


@dataclass(frozen=True)
class Work:
    """What coverage is computed from: picklable, nothing of a job that is open."""

    blobs: str
    cloud: dict
    cameras: list  #: (pose, Lens, blob of the mask or None)
    unit: str
    whole: str = "cloud"  #: what the points are, in words
    rim: float = RIM


@dataclass(frozen=True)
class Covered:
    """What was found.

    Attributes
    ----------
    coverage : Coverage
    weak, edge : (n,) bool
        Points that have too little, and points at which the surface ends.
    places : list of CoverageGap
        Where to stand for what is missing.
    """

    coverage: object
    weak: np.ndarray
    edge: np.ndarray
    places: list
    lens: Lens  #: photos to take have this one
    unit: str
    whole: str = "cloud"  #: what shares are of, in words

    def rows(self):
        """For each place: what is missing there, and where to stand, as sentences."""
        c, out = self.coverage, []
        for p in self.places:
            weak = p.rows[self.weak[p.rows]]
            seen = c.seen[weak]
            if len(weak) < 0.5 * len(p.rows):
                why = "surface ends"
            elif (seen < LEAST_SEEN).mean() > 0.5:
                why = "no photo" if np.median(seen) == 0 else f"{int(np.median(seen))} of {LEAST_SEEN} photos"
            elif (c.spread[weak] < LEAST_SPREAD_DEG).mean() > 0.5:
                why = "one direction"
            else:
                why = "unsure depth"
            where = "turn it over, then from above" if p.normal[2] < UNDER else _stand(p.normal)
            out.append((f"{100 * p.points / len(c.seen):.1f} % of the {self.whole}", why, where))
        return out


def _stand(n):
    height = np.degrees(np.arcsin(np.clip(n[2], -1, 1)))
    side = np.degrees(np.arctan2(n[1], n[0])) % 360
    if height > 70:
        return "from straight above"
    up = f"{height:.0f}° above level" if height >= 5 else f"{-height:.0f}° below level" if height <= -5 else "level"
    return f"from {side:.0f}° round, {up}"


def gather_coverage(job, sitting, kept=None, cloud=None):
    """The Work of a sitting's chosen cloud, or of `kept`; raises UmbrateError where there is none.

    cloud : its arrays in the job's frame, where they are at hand
    """
    cloud = load_cloud(job, sitting, kept) if cloud is None else cloud
    if cloud is None or job.result(sitting.id, "poses") is None:
        raise UmbrateError(f"“{sitting.name}” has no cloud yet. Run Cloud first.", ("go to", "cloud"))
    return Work(str(job.blobs.folder), cloud, camera_list(job, sitting), frame_of(job, sitting).unit)


def tie_point_rows(job, sitting, block):
    """The rows of a block's tie points that lie on the object: not removed, in the keep box, seen by three photos."""
    on = points_left(job, sitting, block) & (np.bincount(block.point, minlength=len(block.points)) >= LEAST_SEEN)
    box = keep_box_of(job, sitting)
    if box:
        on &= KeepBox.from_dict(box).contains(block.points)
    return np.flatnonzero(on)


def gather_tie_points(job, sitting):
    """The Work of a sitting's tie points, before there is a cloud.

    Raises
    ------
    UmbrateError
        Where there are none, or too few to tell a surface.
    """
    block = load_block(job, sitting)
    if block is None:
        raise UmbrateError(f"“{sitting.name}” has no poses yet. Run Poses first.", ("go to", "poses"))
    rows = tie_point_rows(job, sitting, block)
    if len(rows) < LEAST_POINTS:
        raise UmbrateError(
            f"“{sitting.name}” has {len(rows)} tie points on the object; coverage needs {LEAST_POINTS}. Take more "
            "photos, or let Poses find more features.", ("go to", "poses"),
        )  # fmt: skip
    toward = np.zeros((len(block.points), 3))
    np.add.at(toward, block.point, block.eyes[block.photo] - block.points[block.point])
    P = block.points[rows]
    cloud = {"points": P, "normals": sparse_normals(P, toward[rows])}
    cameras, unit = camera_list(job, sitting), frame_of(job, sitting).unit
    return Work(str(job.blobs.folder), cloud, cameras, unit, "tie points", SPARSE_RIM)


def camera_list(job, sitting):
    """(pose, Lens, blob of the mask or None) of all solved photos that are used, in the job's frame."""
    block = load_block(job, sitting)
    if block is None:
        return []
    used = {p.id for p in job.photos(sitting.id, aside=False)}
    masks = mask_blobs(job, sitting)
    return [(block.poses[k], block.lens(k), masks.get(i)) for i, k in block.solved_rows.items() if i in used]


class WithMasks(Sequence):
    """Cameras of a `camera_list`; the mask of each is read when it is asked for, and not held."""

    def __init__(self, cameras, blobs):
        self._cameras, self._store = cameras, BlobStore(blobs)

    def __len__(self):
        return len(self._cameras)

    def __getitem__(self, k):
        E, lens, key = self._cameras[k]
        return Camera(E, lens, decode_mask(self._store.get_bytes(key), lens) if key else None)


def compute_coverage(work, progress=None):
    """Covered, of a Work. Takes some 0.1 s for a photo and half a million points."""
    cameras = WithMasks(work.cameras, work.blobs)
    P, N = work.cloud["points"], work.cloud["normals"]
    gap = spacing_of(P)
    c = coverage(P, N, cameras, gap, progress)
    sure = np.isfinite(c.precision)
    usual = np.median(c.precision[sure]) if sure.any() else np.inf
    weak = (c.seen < LEAST_SEEN) | (c.spread < LEAST_SPREAD_DEG) | ~(c.precision <= UNSURE * usual)
    middle = np.median(P, axis=0)
    distance = float(np.median([np.linalg.norm(center(E) - middle) for E, _, _ in work.cameras]))
    over = rim(P, N, work.rim * gap)
    edge = (over != 0).any(1)
    facing = N + over
    facing /= np.maximum(np.linalg.norm(facing, axis=1, keepdims=True), 1e-9)
    found = places(P, N, facing, weak | edge, distance, gap, cameras[0].lens)
    return Covered(c, weak, edge & ~weak, found, cameras[0].lens, work.unit, work.whole)


def covered_by(job, sitting, mesh):
    """How well photos cover the vertices of a surface (arrays in the job's frame): values (n,) float32 by look."""
    c = compute_coverage(gather_coverage(job, sitting, cloud=mesh)).coverage
    return {name: np.asarray(getattr(c, name), np.float32) for name in OF_SURFACES}
