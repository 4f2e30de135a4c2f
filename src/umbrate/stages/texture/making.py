"""A run of the Texture stage."""

import io
import time
from contextlib import closing
from dataclasses import replace
from functools import lru_cache, partial
from pathlib import Path
from typing import NamedTuple

import numpy as np
from PIL import Image

from ...core.errors import UmbrateError
from ...core.geometry.similarity import scale_of
from ...core.surface.build import vertex_normals
from ...core.surface.mesh import areas
from ...core.surface.thin import thinned
from ...core.texture.bake import Page, texels_of
from ...core.texture.build import Wanted, make_texture
from ...core.texture.detail import detail_pages, openness
from ...core.texture.views import Camera, look_at
from ...job.blobs import BlobStore
from ...job.contents import SURFACE, WORK_MESH, WORK_PAGE
from ...sitting.blocks import stored_block
from ...sitting.frames import move_points
from ...sitting.masks import decode_mask
from ...sitting.photos import PhotoRef, photo_picture
from ..base import Outcome, problem
from ..executor import anywhere
from .figures import TextureFigures
from .forecast import SHORTEST, Scene, detail_side, work

MUCH_UNSEEN = 0.1  #: share of the area: so much that nobody saw is worth a word
COMPRESS = 4  #: of PNG: pages a twentieth larger than the best, in two thirds of the time
REACH_EDGES = 6.0  #: edges of the fine surface: so far from the thinned one it is looked for
SHORT = 0.6  #: texels for a pixel of the photos: fewer lose what is sharp


def _thin(points, faces, triangles, check):
    """Points and faces of a surface, thinned where that is wanted; the shape is what the texture finds, bit for bit."""
    if not triangles or len(faces) <= triangles:
        return points, faces
    made = thinned(points, faces, triangles, check)
    return np.asarray(made.points, np.float32), np.ascontiguousarray(made.faces, np.int32)


class Look(NamedTuple):
    """What is looked up of a photo, by whom: keys and numbers."""

    photo: PhotoRef
    camera: Camera  #: without its mask
    mask: str | None  #: blob


@lru_cache(1)
def _mesh(blobs, key):
    m = BlobStore(blobs).get_arrays(key, WORK_MESH)
    return m["points"], m["normals"], m["faces"]


@anywhere
def look(blobs, mesh, item):
    """Work item: which triangles (k,) of a surface a photo shows, and what `look_at` says of these."""
    mask = decode_mask(BlobStore(blobs).get_bytes(item.mask), item.photo) if item.mask else None
    told = look_at(*_mesh(blobs, mesh), replace(item.camera, mask=mask), photo_picture(item.photo))
    rows = np.flatnonzero(told[0]).astype(np.int32)
    return rows, *(x[rows] for x in told)


@lru_cache(1)
def _page(blobs, key):
    return Page(**BlobStore(blobs).get_arrays(key, WORK_PAGE))


@anywhere
def take(blobs, page, item):
    """Work item, (PhotoRef, Taking): what `texels_of` says of a photo that a page takes colors from."""
    photo, taking = item
    return texels_of(_page(blobs, page), taking, photo_picture(photo))


class Photos:
    """The photos of a block that something can be taken from, looked at by work items, each one photo at a time.

    `missing` has the names of those that are not there, or are damaged.
    """

    def __init__(self, inputs, left_out, report):
        blobs, b = BlobStore(inputs.blobs), stored_block(BlobStore(inputs.blobs), inputs.block)
        by_id, self.missing, self.looks = {p.id: p for p in inputs.photos}, [], []
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
            camera = Camera(b.poses[k], b.lens(k).vector, tuple(b.sizes[k]), soft=inputs.soft.get(i, 0))
            self.looks.append(Look(p, camera, inputs.masks.get(i)))
        self.refs, self.cameras = [x.photo for x in self.looks], [x.camera for x in self.looks]
        self.blobs, self.report = blobs, report

    def looked_at(self, points, normals, faces):
        """Yield what `look_at` says of each photo, as `make_texture` takes it."""
        mesh = self.blobs.put_arrays(points=points, normals=normals, faces=faces)
        work = partial(look, self.blobs.home, mesh)
        with closing(self.report.executor.map(work, self.looks)) as told:
            for rows, *some in told:
                yield tuple(_at(rows, x, len(faces)) for x in some)

    def taken(self, page, takings):
        """Yield what `texels_of` says of each photo that a page takes colors from."""
        work = partial(take, self.blobs.home, self.blobs.put_arrays(**vars(page)))
        with closing(self.report.executor.map(work, [(self.refs[x.k], x) for x in takings])) as told:
            yield from told


def _at(rows, value, n):
    """Values of some rows among n, of which the others have 0."""
    out = np.zeros((n, *value.shape[1:]), value.dtype)
    out[rows] = value
    return out


def run(inputs, settings, report):
    """Compute; returns the Outcome."""
    start = time.monotonic()
    blobs = BlobStore(inputs.blobs)
    names = [x.strip() for x in settings.leave_out.split(",") if x.strip()]
    photos = Photos(inputs, names, report)
    if not photos.refs:
        raise UmbrateError(
            "No solved photo is left to take a texture from. Look whether the photos are where they were, and which "
            "are left out.",
            ("go to", "photos"),
        )
    report.progress(0.02, "thinning the surface")
    mesh = blobs.get_arrays(inputs.surface, SURFACE)
    fine = mesh["points"], np.ascontiguousarray(mesh["faces"], np.int32)
    del mesh
    points, faces = _thin(*fine, settings.triangles, report.check)
    is_thinned = len(faces) < len(fine[1])
    with_normals = settings.normal_map and is_thinned
    end = 0.7 if with_normals or settings.occlusion_map else 0.95

    def check(share):
        report.check()
        told = "looking at the photos" if share < 0.6 else "taking colors from the photos"
        report.progress(0.1 + (end - 0.1) * share, told)

    wanted = Wanted(
        side=settings.side,
        pages=settings.pages,
        scale=settings.texels / inputs.length if settings.size_by == "texels" else None,
        padding=settings.padding,
        even=settings.even,
        leave_out=settings.differing,
    )
    X = move_points(points, inputs.to_block).astype(np.float64)
    made = make_texture(X, faces, photos, wanted, check)
    detail, maps = 0, {}
    if with_normals or settings.occlusion_map:
        detail, maps, tangent = _detail(made, points, faces, fine, settings, scale_of(inputs.to_block), report)
    report.progress(0.96, "keeping the pages")
    ids = np.array([p.id for p in photos.refs], np.int64)
    arrays = {
        "points": points, "faces": faces, "corner": made.corner, "uv": made.uv, "vertex": made.vertex,
        "page": made.page.astype(np.int32), "photo": np.where(made.photo >= 0, ids[made.photo], -1),
    }  # fmt: skip
    if maps:
        arrays["tangent"] = tangent
    artefacts = {("texture", None): blobs.put_arrays(**arrays)}
    for name, pages in {"page": made.pages, **maps}.items():
        for k, page in enumerate(pages):
            data = io.BytesIO()
            Image.fromarray(page).save(data, "PNG", compress_level=COMPRESS)
            artefacts[f"{name} {k + 1}", None] = blobs.put_bytes(data.getvalue())
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
        detail_side=detail,
        normals="normals" in maps,
        openness="openness" in maps,
        photos=len(np.unique(made.photo[made.photo >= 0])),
        of_photos=len(photos.refs),
        missing=photos.missing,
        source=inputs.name,
        from_plain=inputs.from_plain,
        seconds=round(time.monotonic() - start, 2),
    )
    if figures.seconds > SHORTEST:
        pixels = float(np.mean([p.width * p.height for p in photos.refs]))
        scene = Scene(len(fine[1]), len(faces), len(photos.refs), pixels, settings.side, len(made.pages), detail)
        figures.speed = work(scene) / figures.seconds
    return Outcome(figures, artefacts, list(_problems(figures)))


def _detail(made, points, faces, fine, settings, scale, report):
    """Texels along a page, pages by name, and right on the page, of the detail of a fine surface: see `detail_pages`.

    scale : from the surface's frame to that of the block, which `made.scale` is told in
    """
    T = fine[0][fine[1][:: max(1, len(fine[1]) // 20_000)]].astype(np.float64)
    edge = float(np.median(np.linalg.norm(T - np.roll(T, 1, axis=1), axis=2)))
    side = detail_side(settings.side, made.scale * scale, edge)
    normals = vertex_normals(*fine)
    light = None
    if settings.occlusion_map:

        def lit(share):
            report.check()
            report.progress(0.7 + 0.1 * share, "looking how open each place lies")

        light = openness(*fine, normals, lit)

    def check(share):
        report.check()
        report.progress(0.8 + 0.15 * share, "keeping the detail of the fine surface")

    model = {
        "points": points, "faces": faces, "normals": vertex_normals(points, faces), "corner": made.corner,
        "uv": made.uv, "vertex": made.vertex, "page": made.page,
    }  # fmt: skip
    maps, open_pages, tangent = detail_pages(model, (*fine, normals), side, REACH_EDGES * edge, light, check)
    out = {"normals": maps} if settings.normal_map and len(faces) < len(fine[1]) else {}
    return side, out | ({"openness": open_pages} if open_pages else {}), tangent


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
