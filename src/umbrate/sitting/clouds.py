"""The clouds of a sitting as arrays: as computed, as cleaned, in the job's frame; and how one differs from another."""

from dataclasses import dataclass

import numpy as np

from ..core.cloud.filters import distance_to
from ..core.cloud.grid import spacing_of
from ..core.geometry.similarity import scale_of
from ..job.blobs import BlobStore
from ..job.contents import CLEANED, CLOUD
from .frames import frame_of, move_directions, move_points


def after_step(cloud, answer):
    """A cloud's arrays after one step of cleaning: `answer` has ``keep``, packed bits, or ``points``, moved ones."""
    if "points" in answer:
        return {**cloud, "points": answer["points"]}
    keep = np.unpackbits(answer["keep"], count=len(cloud["points"])).astype(bool)
    return {k: v[keep] for k, v in cloud.items()}


def raw_cloud(job, kept, upto=None):
    """The arrays of a KeptCloud after its steps (the first `upto` of them), in the frame they were computed in."""
    cloud = job.blobs.get_arrays(kept.blob, CLOUD)
    for s in kept.steps[:upto]:
        cloud = after_step(cloud, job.blobs.get_arrays(s.blob, CLEANED))
    return cloud


def to_job(job, sitting, kept, frame=None):
    """The similarity from the frame a cloud was computed in to that of the job."""
    frame = frame or frame_of(job, sitting)
    return frame.matrix @ np.linalg.inv(np.array(kept.from_plain, float))


@dataclass(frozen=True)
class CloudSource:
    """Where a cloud is read from, in any thread or process.

    Attributes
    ----------
    blobs : str
        Folder of the job's blobs.
    cloud, steps : blob keys of the cloud as computed, and of what each step of cleaning did
    to_job : (4, 4)
        The similarity from the frame it was computed in to that of the job.
    """

    blobs: str
    cloud: str
    steps: tuple
    to_job: np.ndarray

    def read(self):
        """The arrays by name, in the job's frame."""
        return _read(BlobStore(self.blobs), self)


def cloud_source(job, sitting, kept):
    """The CloudSource of a KeptCloud."""
    return CloudSource(str(job.blobs.folder), kept.blob, tuple(s.blob for s in kept.steps), to_job(job, sitting, kept))


POINTS_A_PIXEL = 0.65  #: distance of points in pixels of the photo scale, usually
THINNING = ("thin", "share", "count")  #: steps after which points are farther apart everywhere


def spacing_known(kept):
    """How far apart the points of a KeptCloud are as it is cleaned, in its frame, without reading it; or None."""
    spacing, count = kept.figures.get("spacing"), kept.figures["points"]
    if not spacing and kept.figures.get("pixel_size"):  # of an older program: nearly
        spacing = POINTS_A_PIXEL * kept.figures["pixel_size"] * scale_of(np.array(kept.from_plain, float))
    for s in kept.steps:
        if spacing and s.step.get("filter") in THINNING:
            spacing *= np.sqrt(count / max(count - s.removed, 1))
        count -= s.removed
    return spacing or None


def load_cloud(job, sitting, kept=None):
    """A cloud of a sitting as arrays by name in the job's frame, the chosen one where none is given; or None."""
    kept = kept or job.cloud(sitting.id)
    return _read(job.blobs, cloud_source(job, sitting, kept)) if kept else None


def _read(blobs, source):
    c, M = blobs.get_arrays(source.cloud, CLOUD), source.to_job
    for step in source.steps:
        c = after_step(c, blobs.get_arrays(step, CLEANED))
    if not np.allclose(M, np.eye(4), rtol=0, atol=1e-15):
        c = {**c, "points": move_points(c["points"], M), "normals": move_directions(c["normals"], M)}
        if "precision" in c:
            c["precision"] = c["precision"] * np.float32(scale_of(M))
    return c


def compare_clouds(first, second, reach=None):
    """Distance from every point of one cloud to another along its normals, with a sign, and figures.

    Parameters
    ----------
    first, second : dicts of arrays in one frame
    reach : farther is not compared; ten times the second's spacing where not given

    Returns
    -------
    distance : (n,) float32
        Infinite where the other has nothing.
    figures : dict
    """
    reach = reach or 10.0 * max(spacing_of(second["points"]), 1e-12)
    d = distance_to(first["points"], second["points"], reach, second["normals"])
    return d, distance_figures(d, reach)


def distance_figures(d, reach):
    """Figures of signed distances (n,) that are infinite where there is nothing within `reach`."""
    some = d[np.isfinite(d)]
    return {
        "points": len(d),
        "alone": len(d) - len(some),
        "median": float(np.median(some)) if len(some) else None,
        "median_abs": float(np.median(np.abs(some))) if len(some) else None,
        "p95_abs": float(np.percentile(np.abs(some), 95)) if len(some) else None,
        "reach": float(reach),
    }
