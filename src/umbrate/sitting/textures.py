"""The texture of a sitting's surface as arrays, in the job's frame, and which photo each triangle is from."""

from dataclasses import dataclass

import numpy as np

from ..core.errors import UmbrateError
from ..core.geometry.lens import project_one
from ..core.imaging.decode import stored_image
from ..core.surface.build import vertex_normals
from ..core.surface.distance import places_on
from ..core.surface.mesh import areas
from ..job.blobs import BlobStore
from ..job.contents import TEXTURE
from .frames import frame_of, move_directions, move_points


@dataclass(frozen=True)
class TextureSource:
    """Where a textured surface is read from, in any thread or process.

    Attributes
    ----------
    blobs : str
        Folder of the job's blobs.
    arrays : str
        Key of its arrays.
    pages : tuple of str
        Keys of its pages, PNG files.
    normals, openness : tuple of str
        Keys of the pages of normals and of openness, PNG files; empty without.
    to_job : (4, 4)
        The similarity from the surface's frame to that of the job.
    """

    blobs: str
    arrays: str
    pages: tuple
    normals: tuple
    openness: tuple
    to_job: np.ndarray

    def read(self):
        """The arrays by name, in the job's frame.

        They are points, normals, faces, corner, uv, vertex, page, and photo, the id of the photo of each triangle, -1
        where none shows it; with pages of normals also tangent, what is right on the page.
        """
        mesh = BlobStore(self.blobs).get_arrays(self.arrays, TEXTURE)
        if mesh["page"].max(initial=0) >= len(self.pages):
            raise UmbrateError("The texture has fewer pages than it needs. Run Texture again.", ("run again",))
        mesh["points"] = move_points(mesh["points"], self.to_job)
        mesh["normals"] = vertex_normals(mesh["points"], mesh["faces"])
        if "tangent" in mesh:
            mesh["tangent"] = move_directions(mesh["tangent"], self.to_job)
        return mesh

    def files(self, what="pages"):
        """The pages as PNG files, bytes each; what : "pages", "normals" or "openness"."""
        store = BlobStore(self.blobs)
        return [store.get_bytes(key) for key in getattr(self, what)]

    def texels(self):
        """The pages as arrays (side, side, 3) uint8."""
        return [np.asarray(stored_image(data).convert("RGB")) for data in self.files()]


def texture_source(job, sitting, done=None):
    """The TextureSource of a sitting's Texture result, or None without one."""
    done = done or job.result(sitting.id, "texture")
    if done is None:
        return None
    M = frame_of(job, sitting).matrix @ np.linalg.inv(np.array(done.figures.from_plain, float))
    f, keys = done.figures, {}
    for name, on in (("page", True), ("normals", f.normals), ("openness", f.openness)):
        keys[name] = tuple(done.blob(f"{name} {k + 1}") for k in range(f.pages if on else 0))
    return TextureSource(str(job.blobs.folder), done.blob("texture"), *keys.values(), M)


def load_texture(job, sitting):
    """A sitting's textured surface, (arrays by name in the job's frame, pages as PNG files), or None."""
    source = texture_source(job, sitting)
    return None if source is None else (source.read(), source.files())


def shares_of(mesh):
    """How much of the area each photo gives: (photo id, share), the most first; -1 is what no photo shows."""
    area = areas(mesh["points"].astype(np.float64), mesh["faces"])
    ids, which = np.unique(mesh["photo"], return_inverse=True)
    share = np.bincount(which, area) / max(area.sum(), 1e-300)
    return [(int(ids[k]), float(share[k])) for k in np.argsort(-share, kind="stable")]


@dataclass(frozen=True)
class Taken:
    """Where a place of a texture is taken from.

    Attributes
    ----------
    photo : int
        Its id; -1 where no photo shows the place.
    pixel : (2,) or None
        Where the photo shows it.
    triangle : int
    off : float
        How far the place lies from the surface.
    """

    photo: int
    pixel: tuple | None
    triangle: int
    off: float


def _nearest(mesh, place):
    """The place of a surface nearest to one (3,), its triangle, and how far that is."""
    size = float(np.ptp(mesh["points"], axis=0).max()) or 1.0
    reach = 1e-3 * size
    while True:
        found, which, _ = places_on(place[None], mesh["points"], mesh["faces"], reach)
        off = float(np.linalg.norm(found[0] - place))
        if which[0] >= 0 and off <= reach:
            return found[0], int(which[0]), off
        if reach > 1e3 * size:
            raise UmbrateError("This place is far from the surface. Coordinates are those of the sitting's frame.")
        reach *= 4


def taken_at(block, mesh, place, triangle=None):
    """Where the texture is Taken from at a place (3,) in the job's frame: of the triangle there, or of one given.

    block : of the sitting, in that frame
    """
    place, off = np.asarray(place, float), 0.0
    if triangle is None:
        place, triangle, off = _nearest(mesh, place)
    photo = int(mesh["photo"][triangle])
    if photo < 0:
        return Taken(-1, None, int(triangle), off)
    k = block.row_of(photo)
    Y = block.poses[k][:3, :3] @ place + block.poses[k][:3, 3]
    pixel = project_one(Y[0] / Y[2], Y[1] / Y[2], block.lens_vector(k))
    return Taken(photo, tuple(float(x) for x in pixel), int(triangle), off)
