"""A run of the Texture stage."""

import io
import time
from pathlib import Path

import numpy as np
from PIL import Image

from ...core.errors import UmbrateError
from ...core.geometry.similarity import scale_of
from ...core.surface.mesh import areas
from ...core.surface.thin import thinned
from ...core.texture.build import Wanted, make_texture
from ...core.texture.views import Camera
from ...job.blobs import BlobStore
from ...sitting.blocks import stored_block
from ...sitting.frames import move_points
from ...sitting.masks import decode_mask
from ...sitting.photos import photo_picture
from ..base import Outcome, problem
from .figures import TextureFigures

MUCH_UNSEEN = 0.1  #: share of the area: so much that nobody saw is worth a word
SHORT = 0.6  #: texels for a pixel of the photos: fewer lose what is sharp


def _thin(mesh, triangles, check):
    """Points and faces of a surface, thinned where that is wanted; the shape is what the texture finds, bit for bit."""
    points, faces = mesh["points"], mesh["faces"]
    if not triangles or len(faces) <= triangles:
        return points, faces
    made = thinned(points, faces, triangles, check)
    return np.asarray(made.points, np.float32), np.ascontiguousarray(made.faces, np.int32)


class Photos:
    """The photos of a block that something can be taken from, one in memory at a time.

    `missing` has the names of those that are not there, or are damaged.
    """

    def __init__(self, inputs, left_out):
        blobs, b = BlobStore(inputs.blobs), stored_block(BlobStore(inputs.blobs), inputs.block)
        by_id, self.missing, self.refs, self.cameras = {p.id: p for p in inputs.photos}, [], [], []
        known = {p.name for p in inputs.photos}
        strange = [n for n in left_out if n not in known]
        if strange:
            raise UmbrateError(f"There is no photo “{strange[0]}” to leave out. Names are as the strip shows them.")
        for i, k in b.solved_rows.items():
            p = by_id.get(i)
            if p is None or p.name in left_out:
                continue
            if not Path(p.path).exists():
                self.missing.append(p.name)
                continue
            mask = decode_mask(blobs.get_bytes(inputs.masks[i])) if i in inputs.masks else None
            self.refs.append(p)
            self.cameras.append(Camera(b.poses[k], b.lens(k).vector, tuple(b.sizes[k]), mask))
        self._last = None, None

    def picture(self, k):
        """The pixels (h, w, 3) of one."""
        if self._last[0] != k:
            self._last = k, None  # the one before goes first
            self._last = k, photo_picture(self.refs[k])
        return self._last[1]


def run(inputs, settings, report):
    """Compute; returns the Outcome."""
    start = time.monotonic()
    blobs = BlobStore(inputs.blobs)
    names = [x.strip() for x in settings.leave_out.split(",") if x.strip()]
    photos = Photos(inputs, names)
    if not photos.refs:
        raise UmbrateError(
            "No solved photo is left to take a texture from. Look whether the photos are where they were, and which "
            "are left out.",
            ("go to", "photos"),
        )
    report.progress(0.02, "thinning the surface")
    points, faces = _thin(blobs.get_arrays(inputs.surface), settings.triangles, report.check)

    def check(share):
        report.check()
        report.progress(0.1 + 0.85 * share, "looking at the photos" if share < 0.6 else "taking colors from the photos")

    wanted = Wanted(
        side=settings.side,
        pages=settings.pages,
        scale=settings.texels / inputs.length if settings.size_by == "texels" else None,
        padding=settings.padding,
        even=settings.even,
        leave_out=settings.differing,
    )
    X = move_points(points, inputs.to_block).astype(np.float64)
    made = make_texture(X, faces, photos.cameras, photos.picture, wanted, check)
    report.progress(0.96, "keeping the pages")
    ids = np.array([p.id for p in photos.refs], np.int64)
    arrays = {
        "points": points, "faces": faces, "corner": made.corner, "uv": made.uv, "vertex": made.vertex,
        "page": made.page.astype(np.int32), "photo": np.where(made.photo >= 0, ids[made.photo], -1),
    }  # fmt: skip
    artefacts = {("texture", None): blobs.put_arrays(**arrays)}
    for k, page in enumerate(made.pages):
        data = io.BytesIO()
        Image.fromarray(page).save(data, "PNG")
        artefacts[f"page {k + 1}", None] = blobs.put_bytes(data.getvalue())
    area, plain = areas(X, faces), scale_of(inputs.to_block) * scale_of(np.array(inputs.from_plain))
    unseen = float(area[made.photo < 0].sum() / max(area.sum(), 1e-300))
    figures = TextureFigures(
        triangles=len(faces),
        side=settings.side,
        pages=len(made.pages),
        covered=round(made.covered, 4),
        charts=made.charts,
        texels=made.scale * plain,
        pixels=made.pixels * plain,
        unseen=round(unseen, 5),
        left_out=round(made.left_out, 5),
        photos=len(np.unique(made.photo[made.photo >= 0])),
        of_photos=len(photos.refs),
        missing=photos.missing,
        source=inputs.name,
        from_plain=inputs.from_plain,
        seconds=round(time.monotonic() - start, 2),
    )
    return Outcome(figures, artefacts, list(_problems(figures)))


def _problems(f):
    """What is worth a word."""
    if f.missing:
        some = ", ".join(f.missing[:5]) + (" and more" if len(f.missing) > 5 else "")
        yield problem(
            None, f"{len(f.missing)} photos are not there and gave nothing: {some}.", "Bring their folder back."
        )
    if f.unseen > MUCH_UNSEEN:
        text = f"{100 * f.unseen:.0f} % of the surface was seen by no photo: its color is made up from round it."
        yield problem(None, text, "Take photos of those sides, or join a sitting of the object turned over.")
    if f.texels < SHORT * f.pixels:
        text = (
            f"A texel stands for {f.pixels / f.texels:.1f} pixels of the photos, along a line: what is sharp is lost."
        )
        yield problem(None, text, "Take larger pages, or more of them.", remedy=("set", "side", min(2 * f.side, 16384)))
