"""What is delivered as a model: a surface with its texture or its colors, as small as is wanted."""

import io
from dataclasses import dataclass

import numpy as np
from PIL import Image

from ...core.errors import UmbrateError
from ...core.imaging.decode import stored_image
from ...core.raster.textured import halved
from ...core.surface.build import vertex_normals
from ...core.surface.carried import carried, mean_edge
from ...core.surface.mesh import opposite
from ...core.surface.thin import thinned
from ...core.texture.detail import detail_pages
from ...core.texture.transfer import carried_over, laid_down
from ...sitting.surfaces import load_surface
from ...sitting.textures import texture_source

SHAPE_SHARE = 0.45  #: of a file that is to be small, for triangles; the rest is for pages
LEAST_SIDE, LEAST_TRIANGLES = 512, 500  #: a model is made no smaller for the sake of its file
LEAST_MAP = 256  #: texels along a page of normals or openness
REACH_EDGES = 8.0  #: edges of a surface: so far from a thinned one it is looked for


@dataclass
class Model:
    """A surface to deliver.

    Attributes
    ----------
    arrays : dict
        As `formats.gltf.write_glb` takes them.
    pages, normals, openness : lists of arrays
        Of texels; empty without.
    closed : bool
    """

    arrays: dict
    pages: list
    normals: list
    openness: list
    closed: bool

    @property
    def triangles(self):
        return len(self.arrays["faces"])

    @property
    def side(self):
        """Texels along a page, 0 without any."""
        return self.pages[0].shape[0] if self.pages else 0


def is_closed(faces, count):
    """Whether every side of a triangle has another one beside it."""
    return bool((opposite(np.ascontiguousarray(faces, np.int32), count) >= 0).all())


def thin_mesh(mesh, triangles, check=lambda: None):
    """A surface's arrays, thinned to some number of triangles; as they are where that is 0, or no fewer."""
    if not triangles or len(mesh["faces"]) <= triangles:
        return mesh
    made = thinned(mesh["points"], mesh["faces"], triangles, check)
    return carried(mesh, np.asarray(made.points), np.ascontiguousarray(made.faces, np.int32))


def _pictures(source, what):
    return [np.asarray(stored_image(data)) for data in source.files(what)]


def load_model(d, triangles=0, side=0, textured=True):
    """The Model of a Delivery's sitting: with its texture where it has one.

    triangles, side : at most; 0: as it is
    """
    source = texture_source(d.job, d.sitting) if textured else None
    if source is None:
        mesh = load_surface(d.job, d.sitting)
        if mesh is None:
            raise UmbrateError(f"“{d.sitting.name}” has no surface yet. Run Surface first.", ("go to", "surface"))
        mesh = thin_mesh(mesh, triangles, d.check)
        arrays = {k: mesh[k] for k in ("points", "faces", "normals", "colors") if k in mesh}
        return Model(arrays, [], [], [], is_closed(mesh["faces"], len(mesh["points"])))
    arrays = source.read()
    made = Model(
        arrays, source.texels(), _pictures(source, "normals"), _pictures(source, "openness"),
        is_closed(arrays["faces"], len(arrays["points"])),
    )  # fmt: skip
    return smaller(d, made, triangles, side)


def smaller(d, model, triangles=0, side=0):
    """A Model with fewer triangles and smaller pages, at most so many; 0: as it is."""
    if triangles and model.triangles > triangles:
        return _thinner(d, model, triangles, side or model.side)
    if not side or not model.pages or model.side <= side:
        return model
    pages, factor = model.pages, model.side // side
    normals, openness = model.normals, model.openness
    while pages[0].shape[0] > side:
        pages = [halved(p) for p in pages]
    for _ in range(int(np.log2(factor))):
        if normals and normals[0].shape[0] > side:
            normals = [halved(p) for p in normals]
        if openness and openness[0].shape[0] > side:
            openness = [halved(p[..., None])[..., 0] for p in openness]
    return Model(model.arrays, pages, normals, openness, model.closed)


def _thinner(d, model, triangles, side):
    """A Model with fewer triangles, and with pages a texel of which is as in the old ones where `side` is theirs."""
    made = thinned(model.arrays["points"], model.arrays["faces"], triangles, d.check)
    points, faces = np.asarray(made.points), np.ascontiguousarray(made.faces, np.int32)
    if not model.pages:
        return Model(carried(model.arrays, points, faces), [], [], [], model.closed)
    return _laid_anew(d, model, points, faces, side, 4 * made.largest)


def on_one_page(d, model, side):
    """The same shape with charts on one page."""
    return _laid_anew(d, model, model.arrays["points"], model.arrays["faces"], side, 0.0)


def _laid_anew(d, model, points, faces, side, off):
    """A Model with charts of its own: texture and openness carried over, normals of the surface it was made from.

    off : how far it may lie from the old one
    """
    old = model.arrays
    reach = max(off, REACH_EDGES * mean_edge(old["points"], old["faces"]))
    arrays = laid_down(points, faces, side)
    pages, normals, openness = [carried_over(arrays, side, old, model.pages, reach, lambda _: d.check())], [], []
    if model.normals:
        small = max(min(side, model.normals[0].shape[0]), LEAST_MAP)
        normals, _, _ = detail_pages(arrays, _fine(d, old), small, reach, check=lambda _: d.check())
    if model.openness:
        small = max(min(side, model.openness[0].shape[0]), LEAST_MAP)
        gray = [np.repeat(p[..., None], 3, 2) for p in model.openness]
        light = carried_over(arrays, small, old, gray, reach, lambda _: d.check())
        openness = [np.ascontiguousarray(light[..., 0])]
    return Model(arrays, pages, normals, openness, model.closed)


def _fine(d, old):
    """The surface that the texture was made from, as `detail_pages` takes it; where it is gone, the textured one."""
    name = d.job.settings(d.sitting.id, "texture").get("surface") or None
    mesh = load_surface(d.job, d.sitting, kept) if (kept := d.job.surface(d.sitting.id, name)) else old
    points, faces = mesh["points"], np.ascontiguousarray(mesh["faces"], np.int32)
    return points, faces, vertex_normals(points, faces)


def encoded(page, kind, quality=90):
    """Bytes of a page (h, w, 3) or (h, w) as a PNG or JPEG file."""
    out = io.BytesIO()
    image = Image.fromarray(page)
    if kind == "png":
        image.save(out, "PNG", compress_level=6)
    else:
        image.save(out, "JPEG", quality=quality, subsampling=0, optimize=True)
    return out.getvalue()


def steps_down(model, most, each, lossy):
    """Ways to a smaller file, one after another: (quality, side, triangles) at most, 0 for as it is; the first is that.

    most : bytes that the file may have; each : those of a triangle, with its share of vertices
    lossy : whether pages are the smaller the lower their quality
    """
    yield 90, 0, 0
    # triangles alone must leave room for the pages
    room = (SHAPE_SHARE if model.pages else 1.0) * most
    triangles = max(int(room / each), LEAST_TRIANGLES) if model.triangles * each > room else 0
    for quality in (82, 74) if lossy else (90,):
        yield quality, 0, triangles
    side, triangles = model.side, triangles or model.triangles
    while side > LEAST_SIDE:
        side //= 2
        yield 82, side, triangles
    while triangles > LEAST_TRIANGLES:
        triangles = int(0.6 * triangles)
        yield 78, side, triangles


def reached(d, first, write, *, setting, each, lossy):
    """Write a Model, smaller ones until the file is no larger than is wanted.

    Parameters
    ----------
    d : Delivery
    first : Model
    write : callable(Model, quality) -> bytes of the file
    setting : str
        The setting that has the most MB; 0: no limit.
    each, lossy : see `steps_down`

    Returns
    -------
    Model, and what was done to it in words, "" for nothing

    Raises
    ------
    UmbrateError
        Where nothing fits.
    """
    mb, lossy = getattr(d.settings, setting), lossy and bool(first.pages)
    thin = first
    for k, (quality, side, triangles) in enumerate(steps_down(first, 1e6 * mb, each, lossy)):
        d.progress(0.2 + 0.05 * min(k, 10), "writing and reading back")
        if triangles and triangles < thin.triangles:
            thin = smaller(d, first, triangles)
        model = smaller(d, thin, 0, side)
        if write(model, quality) > 1e6 * mb > 0:
            continue
        done = [f"thinned from {first.triangles:,}"] if model.triangles < first.triangles else []
        done += [f"pages halved from {first.side:,}"] if model.side < first.side else []
        done += [f"JPEG quality {quality}"] if lossy else []
        return model, f", to stay within {mb:g} MB: {', '.join(done)}" if k else ""
    text = f"No model of this surface fits into {mb:g} MB. Allow more, or thin the surface."
    raise UmbrateError(text, ("set", setting, 0.0))
