"""Print: a closed surface at its size, standing on the bed."""

import numpy as np

from ...core.errors import UmbrateError
from ...core.measure.solid import thickness
from ...core.surface.build import vertex_normals
from ...core.surface.crossing import crossing
from ...core.surface.holes import holes_of
from ...core.surface.mesh import areas, opposite, pieces, volume
from ...core.surface.shell import hollowed
from ...formats.meshes import write_mesh
from ...formats.threemf import write_3mf
from ...sitting.surfaces import load_surface
from .figures import Check
from .models import thin_mesh
from .reading import check_model, extent_of, extent_told

LEAST_SHARE = 1e-3  #: of the area: so little that is too thin is not worth a word


def _check_closed(d, mesh):
    """Raise where a surface is open, with what would mend it."""
    beside = opposite(mesh["faces"], len(mesh["points"]))
    if (beside >= 0).all():
        if volume(mesh["points"], mesh["faces"]) <= 0:
            raise UmbrateError("This surface faces inward: it has no inside that could be printed. Run Surface again.")
        return
    holes = holes_of(mesh["points"], mesh["faces"])
    unit = d.unit or "units"
    if holes:
        at = ", ".join(f"{x:.1f}" for x in np.asarray(holes[0].middle))
        many = "One hole is" if len(holes) == 1 else f"{len(holes)} holes are"
        widest = 1.05 * holes[0].across
        text = f"{many} open, the widest {holes[0].across:.3g} {unit} across, at {at}. A print needs a closed surface: "
        text += "fill them, or run Surface with its holes closed."
        raise UmbrateError(text, ("mend", {"filter": "holes", "across": round(widest, 3)}))
    text = (
        f"{int((beside < 0).sum())} sides of triangles are open. A print needs a closed surface: run Surface with its "
    )
    raise UmbrateError(f"{text}holes closed.", ("go to", "surface"))


def make(d):
    """Write the print's file; see `making.Delivery`."""
    s = d.settings
    kept = d.job.surface(d.sitting.id, s.surface or None)
    d.progress(0.05, "looking whether the surface is closed")
    mesh = load_surface(d.job, d.sitting, kept)
    _check_closed(d, mesh)
    if d.unit is None and s.size_by == "factor":
        text = "This job has no scale, so nobody knows how large the object is. State its longest side, or a length on "
        raise UmbrateError(f"{text}Scale.", ("set", "size_by", "target"))
    d.progress(0.1, "thinning the surface")
    mesh = thin_mesh(mesh, s.triangles, d.check)
    points, faces = mesh["points"].astype(np.float64), np.ascontiguousarray(mesh["faces"], np.int64)
    own = extent_of(points)
    factor = s.factor if s.size_by == "factor" else s.target / float(own.max())
    lo, hi = points.min(0), points.max(0)
    points = factor * (points - [(lo[0] + hi[0]) / 2, (lo[1] + hi[1]) / 2, lo[2]])
    made = extent_of(points)
    size = f"{extent_told(made, 'mm')}"
    size += ", 1:1" if factor == 1 else f", {factor:.4g} times the object's size" if d.unit else ""
    d.checks.append(Check(text=size))
    d.progress(0.3, "measuring walls")
    _thin_walls(d, points, faces, mesh["normals"], factor)
    parts = _outer_pieces(points, faces)
    if s.hollow:
        if s.wall < s.thin_wall:
            told = f"The wall of {s.wall:g} mm is thinner than {s.thin_wall:g} mm"
            d.checks.append(Check(text=told, good=False, remedy=("set", "wall", s.thin_wall)))
        d.progress(0.5, "making it hollow")
        h = hollowed(points, faces, s.wall, s.drains, s.drain_width)
        points, faces = h.points, h.faces
        share = h.material / (h.material + h.hollow)
        shut = len(_volumes(points, faces)) - _outer_pieces(points, faces)
        closed_in = f"; nothing can leave {shut} closed hollow{'s' if shut > 1 else ''}" if shut else ""
        holes = f", {s.drains} drain hole{'s' if s.drains > 1 else ''} at the bottom" if s.drains else ""
        d.checks.append(
            Check(text=f"Hollow: {100 * share:.0f} % of the full material, wall {s.wall:g} mm{holes}{closed_in}")
        )
    d.progress(0.7, "looking for triangles that cross")
    crosses = int(crossing(points, faces).sum())
    if crosses:
        told = f"{crosses:,} triangles cross others: what is inside is not sure there"
        d.checks.append(Check(text=told, good=False, remedy=("mend", {"filter": "spikes"})))
    if parts > 1:
        told = f"{parts} pieces that do not touch: what hangs in the air cannot be printed"
        d.checks.append(Check(text=told, good=False, remedy=("mend", {"filter": "pieces"})))
    d.checks.append(Check(text=f"{volume(points, faces) / 1000:,.2f} cm³ of material, {len(faces):,} triangles"))
    d.progress(0.85, "writing and reading back")
    out = d.folder / f"{d.name}.{s.print_format}"
    mesh = {"points": points, "faces": faces}
    if s.print_format == "3mf":
        write_3mf(out, mesh, d.name)
    else:
        write_mesh(out, mesh, "mm")
    d.checks.append(check_model(out, len(faces), extent_of(points), "mm", closed=True))


def _volumes(points, faces):
    """The signed volume of each piece: negative of hollows, whose sides face inward."""
    part = pieces(faces, len(points))
    return [volume(points, faces[part == k]) for k in range(int(part.max()) + 1)]


def _outer_pieces(points, faces):
    """How many pieces there are, hollows in them not counted."""
    return sum(v > 0 for v in _volumes(points, faces))


def _thin_walls(d, points, faces, normals, factor):
    """How much is thinner than the limit, and the thinnest."""
    limit = d.settings.thin_wall
    if not limit:
        return
    normals = vertex_normals(points, faces) if normals is None else normals
    thick, _ = thickness(points, faces, normals)
    area = areas(points, faces)
    weight = np.bincount(faces.ravel(), np.repeat(area / 3, 3), len(points))
    known = np.isfinite(thick)
    if not known.any():
        return
    thin = known & (thick < limit)
    share = float(weight[thin].sum() / weight.sum())
    least = float(np.percentile(thick[known], 0.1))
    if share < LEAST_SHARE:
        d.checks.append(Check(text=f"No wall thinner than {limit:g} mm"))
        return
    told = f"{100 * share:.1f} % of the surface is thinner than {limit:g} mm, the thinnest some {least:.2g} mm"
    d.checks.append(Check(text=told, good=False, remedy=("thin walls", limit / factor)))
