"""The texture of a sitting's surface as arrays, in the job's frame."""

import numpy as np

from ..core.surface.build import vertex_normals
from .frames import frame_of, move_points


def load_texture(job, sitting):
    """A sitting's textured surface, (arrays by name in the job's frame, pages as PNG files), or None.

    The arrays are points, normals, faces, corner, uv, vertex, page, and photo, the id of the photo of each triangle.
    """
    done = job.result(sitting.id, "texture")
    if done is None:
        return None
    mesh = job.blobs.get_arrays(done.blob("texture"))
    M = frame_of(job, sitting).matrix @ np.linalg.inv(np.array(done.figures.from_plain, float))
    mesh["points"] = move_points(mesh["points"], M)
    mesh["normals"] = vertex_normals(mesh["points"], mesh["faces"])
    return mesh, [job.blobs.get_bytes(done.blob(f"page {k + 1}")) for k in range(done.figures.pages)]
