"""Pictures of a cloud, of tie points or of a surface, of any size, as the scene draws them."""

import io

import numpy as np
from PIL import Image

from ..core.cloud.grid import spacing_of
from ..core.errors import UmbrateError
from ..core.measure.solid import thickness
from ..core.raster.coloring import COLORINGS, COVERAGE, OF_SURFACES, SURFACE_COLORINGS, cloud_colors, surface_colors
from ..core.raster.pictures import DIRECTIONS, GROUND, draw_surface, draw_textured, eye_for
from ..core.raster.points import draw_points, paint
from ..core.raster.textured import pages_of
from ..core.surface.looks import curvature, slope
from ..sitting.clouds import load_cloud
from ..sitting.frames import load_block
from ..sitting.surfaces import load_surface
from ..sitting.textures import texture_source
from .coverage import compute_coverage, covered_by, gather_coverage

LARGEST = 30_000  #: pixels of a side
EDGES = 25.0  #: strength of depth edges, which make relief readable


def draw(points, colors, eye, pixels, *, size=2, spacing=0.0, ground=GROUND, edges=EDGES):
    """A picture (height, width, 3) uint8 of points, `pixels` (width, height) large.

    A point is `size` pixels wide, or as wide as the points' spacing where that is given.
    """
    buffers = draw_points(np.ascontiguousarray(points, np.float32), eye, *pixels, size, spacing=spacing)
    picture = paint(buffers, np.ascontiguousarray(colors), ground, edges)
    return np.ascontiguousarray(picture[:, :, 2::-1])


def as_png(picture):
    """PNG bytes of a picture (h, w, 3) uint8."""
    out = io.BytesIO()
    Image.fromarray(picture).save(out, "PNG")
    return out.getvalue()


def cloud_picture(job, sitting, kept=None, *, side="corner", look="color", width=1920, height=1200, parallel=False):
    """A picture (height, width, 3) uint8 of a sitting's cloud, or of its tie points where it has none.

    Raises
    ------
    UmbrateError
        Where there is nothing to show, or the look needs what the cloud does not have.
    """
    if not (8 <= width <= LARGEST and 8 <= height <= LARGEST):
        raise UmbrateError(f"A picture has 8 to {LARGEST:,} pixels a side.")
    cloud, block = load_cloud(job, sitting, kept), load_block(job, sitting)
    if cloud is None and block is None:
        raise UmbrateError(f"“{sitting.name}” has no poses yet: there is nothing to show.", ("go to", "poses"))
    if cloud is None:
        if look != "color":
            raise UmbrateError(f"“{sitting.name}” has no cloud yet: tie points have colors only.", ("go to", "cloud"))
        eye = eye_for(block.points, DIRECTIONS[side], width, height, parallel)
        return draw(block.points, block.colors, eye, (width, height), size=max(2, height // 300), edges=0.0)
    values = None
    if look in COVERAGE:
        values = getattr(compute_coverage(gather_coverage(job, sitting, kept)).coverage, COLORINGS[look].array)
    elif COLORINGS[look].asked:
        raise UmbrateError("A cloud is compared with another in the window, or by umbrate clouds --compare.")
    elif COLORINGS[look].array not in ("", *cloud):
        raise UmbrateError(f"This cloud was made before {COLORINGS[look].title} was kept. Run Cloud again.")
    eye = eye_for(cloud["points"], DIRECTIONS[side], width, height, parallel)
    colors = cloud_colors(cloud, look, values)
    return draw(cloud["points"], colors, eye, (width, height), spacing=spacing_of(cloud["points"]))


def surface_picture(job, sitting, kept=None, *, side="corner", look="color", width=1920, height=1200, parallel=False):
    """A picture (height, width, 3) uint8 of a sitting's surface.

    Raises
    ------
    UmbrateError
        Where there is none, or it is colored by something that another one is needed for.
    """
    if not (8 <= width <= LARGEST and 8 <= height <= LARGEST):
        raise UmbrateError(f"A picture has 8 to {LARGEST:,} pixels a side.")
    mesh = load_surface(job, sitting, kept)
    if mesh is None:
        raise UmbrateError(f"“{sitting.name}” has no surface yet. Run Surface first.", ("go to", "surface"))
    if look == "compared":
        raise UmbrateError("A surface is compared with another in the window, or by umbrate surfaces --compare.")
    eye = eye_for(mesh["points"], DIRECTIONS[side], width, height, parallel)
    values = covered_by(job, sitting, mesh)[look] if look in OF_SURFACES else surface_values(mesh, look)
    return draw_surface(mesh, surface_colors(mesh, look, values), eye, (width, height))


def texture_picture(job, sitting, *, side="corner", width=1920, height=1200, parallel=False):
    """A picture (height, width, 3) uint8 of a sitting's surface with its texture; raises UmbrateError without one."""
    if not (8 <= width <= LARGEST and 8 <= height <= LARGEST):
        raise UmbrateError(f"A picture has 8 to {LARGEST:,} pixels a side.")
    source = texture_source(job, sitting)
    if source is None:
        raise UmbrateError(f"“{sitting.name}” has no texture yet. Run Texture first.", ("go to", "texture"))
    model = source.read()
    eye = eye_for(model["points"], DIRECTIONS[side], width, height, parallel)
    return draw_textured(model, pages_of(source.texels()), eye, (width, height))


def surface_values(mesh, look):
    """What a surface's vertices are colored by (n,) float32; None for looks without a ramp."""
    coloring = SURFACE_COLORINGS[look]
    if coloring.array in ("", "colors", "filled"):
        return None
    if coloring.asked:
        asked = {"curvature": curvature, "slope": slope, "thickness": lambda *a: thickness(*a)[0]}[look]
        return asked(mesh["points"], mesh["faces"], mesh["normals"]).astype(np.float32)
    return mesh[coloring.array].astype(np.float32)
