"""Sections of a sitting's cloud or surface, and their planes as kept: in the plain frame, where they stay in place."""

import numpy as np

from ..core.errors import UmbrateError
from ..core.geometry.similarity import scale_of
from ..core.measure.section import section
from ..core.measure.solid import surface_section
from ..sitting.clouds import load_cloud
from ..sitting.frames import frame_of
from ..sitting.surfaces import load_surface


def plane_in_job(job, sitting, plane):
    """A SectionPlane's place (3,) and direction across it (3,) in the job's frame."""
    M = frame_of(job, sitting).matrix
    return M[:3, :3] @ np.array(plane.place) + M[:3, 3], M[:3, :3] / scale_of(M) @ np.array(plane.normal)


def keep_plane(job, sitting, place, normal, name=None):
    """Keep a plane of the job's frame; returns its id."""
    M = np.linalg.inv(frame_of(job, sitting).matrix)
    n = np.asarray(normal, float)
    if not np.isfinite(n).all() or np.linalg.norm(n) < 1e-12:
        raise UmbrateError("The section's plane needs a direction across it, such as 0 0 1 for a level cut.")
    R = M[:3, :3] / scale_of(M)
    return job.keep_section(
        sitting.id, M[:3, :3] @ np.asarray(place, float) + M[:3, 3], R @ (n / np.linalg.norm(n)), name
    )


def cut_cloud(job, sitting, place, normal, *, cloud=None, gap=None):
    """The Section of a sitting's chosen cloud by a plane of the job's frame.

    Raises
    ------
    UmbrateError
        Where there is no cloud, or the plane does not meet it.
    """
    cloud = cloud or load_cloud(job, sitting)
    if cloud is None:
        raise UmbrateError(f"“{sitting.name}” has no cloud yet. Run Cloud first.", ("go to", "cloud"))
    made = section(cloud["points"], cloud["normals"], place, normal, gap=gap)
    made.offset = frame_of(job, sitting).offset
    return made


def cut_surface(job, sitting, place, normal):
    """The Section of a sitting's chosen surface by a plane of the job's frame.

    Raises
    ------
    UmbrateError
        Where there is no surface, or the plane does not meet it.
    """
    mesh = load_surface(job, sitting)
    if mesh is None:
        raise UmbrateError(f"“{sitting.name}” has no surface yet. Run Surface first.", ("go to", "surface"))
    made = surface_cut(mesh, place, normal)
    made.offset = frame_of(job, sitting).offset
    return made


def surface_cut(mesh, place, normal):
    """The Section of a surface's arrays; raises UmbrateError where the plane does not meet it."""
    made = surface_section(mesh["points"], mesh["faces"], place, normal)
    if made is None:
        raise UmbrateError("The section's plane does not meet the surface. Move it, or choose another direction.")
    return made
