"""Exchange: OBJ with its texture, or PLY, with axes, unit and zero as they are wanted."""

import numpy as np

from ...core.raster.textured import pages_of, sampled
from ...formats.laying import UNITS, base_of, middle_of, upright
from ...formats.meshes import write_mesh
from ...formats.objs import ascii_name, write_obj
from .figures import Check
from .models import encoded, load_model
from .reading import check_model, extent_of, wrong


def make(d):
    """Write the files; see `making.Delivery`."""
    s = d.settings
    d.progress(0.1, "reading the model")
    model = load_model(d, s.triangles, s.page_side, s.color_by == "texture")
    a = dict(model.arrays)
    points = a["points"].astype(np.float64)
    if s.origin == "frame":
        zero, told = -np.asarray(d.frame.offset, float), "that of the job"
    elif s.origin == "base":
        zero, told = base_of(points), "below its middle"
    else:
        zero, told = middle_of(points), "its middle"
    scale, unit = (UNITS[s.length_unit], s.length_unit) if d.unit else (1.0, None)
    a["points"] = scale * (points - zero)
    for k in ("points", "normals"):
        a[k] = upright(a[k], s.up)
    frame = f"{s.up} up, zero is {told}, unit {unit or 'unscaled'}"
    d.checks.append(Check(text=f"In the file: {frame}"))
    if unit is None:
        d.checks.append(Check(text="The job has no scale: lengths are relative", good=False))
    d.progress(0.4, "writing")
    out = d.folder / f"{d.name}.{s.exchange_format}"
    if s.exchange_format == "ply" or not model.pages:
        if model.pages:
            a["colors"] = sampled(model.arrays, pages_of(model.pages), 2)
        write_mesh(out, {k: a[k] for k in ("points", "faces", "normals", "colors") if k in a}, unit, told=[frame])
        if s.exchange_format == "obj":
            d.checks.append(Check(text="There is no texture: the OBJ has colors of its vertices"))
    else:
        pages, normals = ([encoded(p, s.image_format) for p in x] for x in (model.pages, model.normals))
        files = write_obj(out, a, pages, unit=unit, told=[frame], normals=normals)
        _check_materials(files, len(pages) + len(normals))
        plain = ascii_name(out.stem)
        if plain != out.stem:
            told = f"The materials and the texture are named “{plain}”: names with spaces and umlauts are lost in OBJ"
            d.checks.append(Check(text=told))
    d.progress(0.7, "reading back")
    d.checks.append(check_model(out, model.triangles, extent_of(a["points"]), unit))


def _check_materials(files, images):
    """Raise where the OBJ does not name its materials, or these not their images."""
    names = {f.name for f in files}
    with files[0].open("rb") as f:
        head = f.read(4096).decode("utf-8", "replace")
    if f"mtllib {files[1].name}" not in head:
        raise wrong(files[0], "it does not name its materials")
    lines = [x.split() for x in files[1].read_text("ascii").splitlines()]
    found = [x[1] for x in lines if x and x[0] in ("map_Kd", "norm")]
    if len(found) != images or not set(found) <= names:
        raise wrong(files[1], "a texture it names is not there")
