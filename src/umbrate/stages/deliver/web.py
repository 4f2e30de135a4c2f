"""Web and games: GLB in meters, y up, zero at the base, with a preview."""

import io

import numpy as np
from PIL import Image

from ...core.errors import UmbrateError
from ...core.raster.coloring import PLAIN
from ...core.raster.pictures import DIRECTIONS, draw_surface, draw_textured, eye_for
from ...core.raster.textured import pages_of
from ...formats.gltf import write_glb
from .figures import Check, size_told
from .models import encoded, load_model, smaller, steps_down
from .reading import check_glb, extent_of

PREVIEW = 1024, 768
TRIANGLE_BYTES = 42  #: of a GLB for a triangle: its corners, and its share of places with normals and tangents


def base_of(points):
    """The place (3,) below the middle of points, at their lowest."""
    lo, hi = points.min(0).astype(float), points.max(0).astype(float)
    return np.array([(lo[0] + hi[0]) / 2, (lo[1] + hi[1]) / 2, lo[2]])


def picture_of(model, pixels=PREVIEW, direction=DIRECTIONS["corner"], plain=False, eye=None, ground=(0x2B,) * 3):
    """A picture (h, w, 3) of a Model."""
    eye = eye or eye_for(model.arrays["points"], direction, *pixels)
    if model.pages and not plain:
        return draw_textured(model.arrays, pages_of(model.pages), eye, pixels, ground=ground)
    colors = None if plain else model.arrays.get("colors")
    colors = np.tile(np.uint8(PLAIN), (len(model.arrays["points"]), 1)) if colors is None else colors
    return draw_surface(model.arrays, colors, eye, pixels, ground=ground)


def _files(model, kind, quality):
    return {
        "pages": [encoded(p, kind, quality) for p in model.pages],
        "normals": [encoded(p, kind, max(quality, 85)) for p in model.normals],
        "openness": [encoded(p, kind, quality) for p in model.openness],
    }


def make(d):
    """Write a GLB for each level of detail, and a preview; see `making.Delivery`."""
    s = d.settings
    d.progress(0.05, "reading the model")
    model = load_model(d, s.triangles, s.page_side, s.color_by == "texture")
    if d.unit is None:
        d.checks.append(Check(text="Unscaled: one unit of the job is one meter in the file", good=False))
    preview = None
    for level in range(s.levels):
        name = d.name if level == 0 else f"{d.name}-detail-{level + 1}"
        if level:
            d.progress(0.3 + 0.6 * level / s.levels, f"level {level + 1} of detail")
            model = smaller(d, model, max(model.triangles // 4, 16), max(model.side // 2, 256) if model.side else 0)
        out = d.folder / f"{name}.glb"
        model = _reached(d, model, out)
        if preview is None:
            preview = picture_of(model)
    d.progress(0.95, "drawing a preview")
    data = io.BytesIO()
    Image.fromarray(preview).save(data, "PNG")
    (d.folder / f"{d.name}.png").write_bytes(data.getvalue())


def _reached(d, model, out):
    """Write a model so that its file is no larger than is wanted; returns what was written."""
    s = d.settings
    most = 1e6 * s.web_mb
    first = model
    for k, (quality, side, triangles) in enumerate(steps_down(first, most, TRIANGLE_BYTES)):
        if k and not most:
            break
        if s.image_format == "png" and not side and k:
            continue  # compressing it more is no way
        d.progress(0.2 + 0.05 * min(k, 10), "writing and reading back")
        model = smaller(d, first, triangles, side)
        files = _files(model, s.image_format, quality)
        out.unlink(missing_ok=True)
        origin = base_of(model.arrays["points"])
        write_glb(
            out, model.arrays, files["pages"], d.unit, normals=files["normals"], openness=files["openness"],
            origin=origin, closed=model.closed, name=d.name,
        )  # fmt: skip
        if not most or out.stat().st_size <= most:
            break
    else:
        raise UmbrateError(
            f"No model of this surface fits into {s.web_mb:g} MB. Allow more, or thin the surface.",
            ("set", "web_mb", 5.0),
        )
    size = out.stat().st_size
    told = f"{out.name}: {size_told(size)}, {model.triangles:,} triangles"
    told += f", pages of {model.side:,}²" if model.pages else ", colors of vertices"
    if k:
        told += f", to stay within {s.web_mb:g} MB: " + _how(first, model, quality)
    d.checks.append(Check(text=told))
    factor = 1e-3 if d.unit == "mm" else 1.0
    extent = factor * extent_of(model.arrays["points"])[[0, 2, 1]]
    textures = sum(map(len, files.values()))
    d.checks.append(check_glb(out, model.triangles, extent, textures))
    return model


def _how(first, model, quality):
    """What was done to make a file smaller, in words."""
    done = []
    if model.triangles < first.triangles:
        done.append(f"thinned from {first.triangles:,}")
    if model.side < first.side:
        done.append(f"pages halved from {first.side:,}")
    done.append(f"JPEG quality {quality}")
    return ", ".join(done)
