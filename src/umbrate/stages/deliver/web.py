"""Web and games: GLB in meters, y up, zero at the base, with a preview."""

from PIL import Image

from ...core.raster.pictures import DIRECTIONS, GROUND, eye_for
from ...formats.gltf import write_glb
from ...formats.laying import base_of
from .drawing import Painter
from .figures import Check, size_told
from .models import encoded, load_model, reached, smaller
from .reading import check_glb, extent_of

PREVIEW = 1024, 768
TRIANGLE_BYTES = 42  #: of a GLB for a triangle: its corners, and its share of places with normals and tangents


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
            eye = eye_for(model.arrays["points"], DIRECTIONS["corner"], *PREVIEW)
            preview = Painter(model).draw(eye, PREVIEW, GROUND)
    d.progress(0.95, "drawing a preview")
    Image.fromarray(preview).save(d.folder / f"{d.name}.png")


def _reached(d, first, out):
    """Write a model so that its file is no larger than is wanted; returns what was written."""
    s = d.settings

    def write(model, quality):
        files = _files(model, s.image_format, quality)
        out.unlink(missing_ok=True)
        write_glb(
            out, model.arrays, files["pages"], d.unit, normals=files["normals"], openness=files["openness"],
            origin=base_of(model.arrays["points"]), closed=model.closed, name=d.name,
        )  # fmt: skip
        return out.stat().st_size

    lossy = s.image_format == "jpeg"
    model, done = reached(d, first, write, setting="web_mb", each=TRIANGLE_BYTES, lossy=lossy)
    told = f"{out.name}: {size_told(out.stat().st_size)}, {model.triangles:,} triangles"
    told += f", pages of {model.side:,}²" if model.pages else ", colors of vertices"
    d.checks.append(Check(text=told + done))
    extent = (1e-3 if d.unit == "mm" else 1.0) * extent_of(model.arrays["points"])[[0, 2, 1]]
    textures = len(model.pages) + len(model.normals) + len(model.openness)
    d.checks.append(check_glb(out, model.triangles, extent, textures))
    return model
