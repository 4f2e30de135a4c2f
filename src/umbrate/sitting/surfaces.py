"""The surfaces of a sitting as arrays: as made, as mended, in the job's frame; and how one differs from another."""

from dataclasses import dataclass

import numpy as np

from ..core.geometry.similarity import scale_of
from ..core.surface.distance import signed_distance
from ..job.blobs import BlobStore
from ..job.contents import SURFACE
from .clouds import distance_figures, to_job
from .frames import move_directions, move_points


def raw_surface(job, kept, upto=None):
    """The arrays of a KeptSurface after its steps (the first `upto` of them), in the frame it was made in."""
    keys = [kept.blob, *(s.blob for s in kept.steps[:upto])]
    return job.blobs.get_arrays(keys[-1], SURFACE)  # each step's answer is the whole mesh after it


@dataclass(frozen=True)
class SurfaceSource:
    """Where a surface is read from, in any thread or process.

    Attributes
    ----------
    blobs : str
        Folder of the job's blobs.
    surface : str
        Key of its arrays.
    to_job : (4, 4)
        The similarity from the frame it was made in to that of the job.
    """

    blobs: str
    surface: str
    to_job: np.ndarray

    def read(self):
        """The arrays by name, in the job's frame."""
        return moved(BlobStore(self.blobs).get_arrays(self.surface, SURFACE), self.to_job)


def moved(mesh, M):
    """A surface's arrays moved by a similarity (4, 4)."""
    if np.allclose(M, np.eye(4), rtol=0, atol=1e-15):
        return mesh
    s = np.float32(scale_of(M))
    turned = {"points": move_points(mesh["points"], M), "normals": move_directions(mesh["normals"], M)}
    return {**mesh, **turned, **{k: mesh[k] * s for k in ("support", "deviation") if k in mesh}}


def surface_source(job, sitting, kept):
    """The SurfaceSource of a KeptSurface."""
    key = kept.steps[-1].blob if kept.steps else kept.blob
    return SurfaceSource(str(job.blobs.folder), key, to_job(job, sitting, kept))


def load_surface(job, sitting, kept=None):
    """A surface of a sitting as arrays by name in the job's frame, the chosen one where none is given; or None."""
    kept = kept or job.surface(sitting.id)
    return surface_source(job, sitting, kept).read() if kept else None


REACH_SPACINGS = 50.0  #: of the cloud: what is farther from the other surface is not compared


def reach_of(kept, source):
    """How far a KeptSurface is compared with others, in the job's unit; source : its SurfaceSource."""
    return REACH_SPACINGS * kept.figures["spacing"] * scale_of(source.to_job)


def compare_surfaces(first, second, reach):
    """Distance from every vertex of a surface to another surface, positive where it lies outside of that, and figures.

    Parameters
    ----------
    first, second : dicts of arrays in one frame
    reach : farther is not compared

    Returns
    -------
    distance : (n,) float32
        Infinite where the other has nothing.
    figures : dict
    """
    d = signed_distance(first["points"], second["points"], second["faces"], reach)
    return d, distance_figures(d, reach)
