"""The accuracy report of a sitting: what it was made from, how well it fits, and what its lengths can be trusted to.

It follows the idea of VDI/VDE 2634 part 1: an optical system is judged by the errors of known lengths, several in
several directions of the volume, that took no part in its scale. The report lists each with its direction, its error
and the interval that was stated for it, so that a reader can lay a limit against them and repeat the judgment.
"""

from datetime import date

import numpy as np

from .. import __version__
from ..core.errors import UmbrateError
from ..core.geometry.lens import PARAMETER_NAMES
from ..core.measure.quantities import K95
from ..core.raster.coloring import surface_colors
from ..formats.files import CLOSED
from ..job.lengths import SCALE
from ..job.marks import token
from ..sitting.clouds import load_cloud
from ..sitting.endpoints import spreads_of
from ..sitting.frames import end_text, frame_of, level_of, load_block, row_of_end, scale_result
from ..sitting.lenses import group_name
from ..sitting.surfaces import load_surface
from ..stages import BY_NAME, figures_of
from .leveling import level_text
from .measuring import measure_all
from .mends import MENDING
from .models import compare_with_model
from .picturing import as_png, draw, draw_surface, eye_for
from .solids import SurfaceMeasurer

PICTURE = 900, 620  #: of a view of the scene, in pixels
BARS = 60  #: of the histogram of distances to a model
VIEWS = (("from the front, above", (0.6, -1.0, 0.55)), ("from the side", (1.0, 0.25, 0.15)))


def scene_picture(block, cloud, direction, width=PICTURE[0], height=PICTURE[1]):
    """A view of the cloud, or of the tie points, as PNG bytes."""
    if cloud is not None and len(cloud["points"]):
        points, colors, size = cloud["points"], cloud["colors"], 2
    else:
        points, colors, size = block.points, block.colors, 3
    eye = eye_for(points, direction, width, height)
    return as_png(draw(points, colors, eye, (width, height), size=size, ground=(255, 255, 255), edges=12.0))


def _direction(block, first, second):
    """The direction between two ends as text, and the unit vector, in the job's frame."""
    a, b = (row_of_end(block, e) for e in (first, second))
    d = block.points[b] - block.points[a]
    d = d / np.linalg.norm(d)
    return d * (1 if d[int(np.argmax(np.abs(d)))] > 0 else -1)


def _seen_in(block, point):
    """In how many of a block's photos a marked point is seen."""
    return sum(1 for x in point.sightings if x.used and block.row_of(x.photo_id) is not None)


def _lens_name(photos, block, m):
    """What a lens of a block is called: camera, focal length and size of its photos."""
    ids = set(block.photo_ids[block.lens_of == m].tolist())
    first = next((x for x in photos if x.id in ids), None)
    return group_name(first) if first else f"Lens {m + 1}"


def _step(entry, sitting, members):
    """What ran, with the sitting where it is a member of a joined row."""
    title = BY_NAME[entry.stage].title if entry.stage in BY_NAME else entry.stage
    return title if entry.sitting_id == sitting.id else f"{members.get(entry.sitting_id, entry.sitting)}: {title}"


def report_content(job, sitting, model=None, placed="frame"):
    """Everything the report says, as plain values for `formats.report`.

    model : file, optional
        That the surface is compared with; placed : how it is laid over, see `models.compare_with_model`.

    Raises
    ------
    UmbrateError
        Where the sitting has no poses.
    """
    poses = job.result(sitting.id, "poses")
    if poses is None:
        raise UmbrateError(f"“{sitting.name}” has no poses yet: there is nothing to report.", ("go to", "poses"))
    block, cloud = load_block(job, sitting), load_cloud(job, sitting)
    scale, frame = scale_result(job, sitting), frame_of(job, sitting)
    names, photos = job.end_names(sitting.id), job.photos(sitting.id, aside=False)
    f = scale.figures if scale else None
    spreads, of_lenses = spreads_of(job, sitting)
    members = {s.id: s.name for s in job.sittings() if s.id in job.members(sitting.id)}
    edges = np.arange(2, min(int(block.photos_of.max()), 24) + 2)
    coverage = np.histogram(np.minimum(block.photos_of, edges[-2]), np.r_[edges - 0.5])[0]
    return {
        "job": job.name, "sitting": sitting.name, "date": date.today().isoformat(), "version": __version__,
        "unit": frame.unit,
        "facts": [
            *_facts_of_photos(photos, block, frame, poses.figures, members),
            *_facts_of_solving(block, cloud, frame, f, poses.figures, level_text(level_of(job, sitting), names)),
        ],
        "pictures": [(words, scene_picture(block, cloud, d)) for words, d in VIEWS],
        "scales": [_scale_row(r, names) for r in f.lengths if r.role == SCALE] if f else [],
        "checks": [_check_row(r, names, block) for r in f.checks] if f else [],
        "problems": [f"{x['text']} {x['hint']}".strip() for x in (scale.problems if scale else [])],
        "residuals": poses.figures.residual_histogram, "residual_top": 2.0,
        "coverage": (edges[:-1].tolist(), coverage.tolist()),
        "known": {end_text(e, names): k.model_dump() for e, k in f.known.items()} if f else {},
        "marks": [
            (m.name, _seen_in(block, m), f.marks.get(token(m.id)) if f else None)
            for m in job.marked_points(sitting.id) if m.used
        ],
        "lenses": _lens_rows(photos, block, of_lenses), "joined": len(members) > 1,
        "photos": [_photo_row(x, members, poses.figures, spreads) for x in photos],
        "surface": surface_content(job, sitting, model, placed),
        "measurements": _measurement_rows(job, sitting, names), "ledger": _ledger_rows(job, sitting, members),
    }  # fmt: skip


def _facts_of_photos(photos, block, frame, figures, members):
    """Lines about the photos: (name, text)."""
    distance = np.median(np.linalg.norm(block.eyes[block.solved] - block.points.mean(0), axis=1))
    pixel, unit = float(np.median(distance / block.lenses[block.lens_of[block.solved], 0])), frame.unit
    sizes = list(dict.fromkeys(f"{x.width} x {x.height}" for x in photos))
    cameras = list(
        dict.fromkeys((x.camera or "unknown") + (f", {x.focal_mm:g} mm" if x.focal_mm else "") for x in photos)
    )
    return [
        ("Photos", f"{figures.solved} of {figures.photos} placed, {', '.join(sizes)} pixels"),
        *([("Sittings", ", ".join(members.values()))] if len(members) > 1 else []),
        ("Camera" if len(cameras) == 1 else "Cameras", "; ".join(cameras)),
        ("Distance", f"{distance:.4g} {unit}, a pixel is {pixel:.3g} {unit} there".replace("  ", " ")),
    ]


def _facts_of_solving(block, cloud, frame, f, poses, level):
    """Lines about the solution; f : ScaleFigures or None."""
    last, out = f or poses, []
    out += [
        ("Tie points", f"{len(block.points):,} in {len(block.photo):,} sightings"),
        ("Residual", f"{last.rms_px:.3f} px root mean square; unit weight {last.unit}"),
        ("Level", frame.problem or level),
    ]
    if f and f.scaled:
        text = f"± {100 * K95 * f.scale_sigma:.4f} % (95 %) from {len(f.used)} lengths"
        out.append(("Scale", text))
    else:
        out.append(("Scale", "none: lengths have no unit"))
    if f and f.target_precision is not None:
        text = f"{f.targets} with {f.target_sigma:.4f} {frame.unit} (1 sigma of a coordinate), "
        out.append(("Targets", f"{text}1:{f.target_precision:,.0f} of their extent of {f.extent:.1f} {frame.unit}"))
    if cloud is not None:
        out.append(("Cloud", f"{len(cloud['points']):,} points"))
    return out


def _lens_rows(photos, block, sigmas):
    """Each lens of the block: name, photos, values, standard deviations."""
    use = np.bincount(block.lens_of[block.solved], minlength=len(block.lenses))
    return [
        {
            "name": _lens_name(photos, block, m), "photos": int(use[m]),
            "values": dict(zip(PARAMETER_NAMES, (float(x) for x in block.lenses[m]), strict=True)),
            "sigma": sigmas[m] if m < len(sigmas) else {},
        }
        for m in range(len(block.lenses)) if use[m]
    ]  # fmt: skip


def _ends(r, names):
    return f"{end_text(r.first, names)} to {end_text(r.second, names)}"


def _scale_row(r, names):
    """A length that sets the scale."""
    return {
        "ends": _ends(r, names), "stated": r.value, "sigma": r.sigma, "measured": r.length, "residual": r.residual,
        "sigmas": r.sigmas, "left_out": r.left_out, "from": r.source,
    }  # fmt: skip


def _check_row(r, names, block):
    """A check length, with its direction."""
    return {
        "ends": _ends(r, names), "stated": r.value, "sigma": r.sigma, "measured": r.length, "error": r.error,
        "half95": r.half95, "direction": _direction(block, r.first, r.second).tolist(),
    }  # fmt: skip


def _photo_row(photo, members, figures, spreads):
    """A photo: name, sitting, sightings, residual, share covered, and how well its turn and place are known."""
    per = figures.per_photo.get(photo.id)
    of_sightings = (per.sightings, per.rms_px, per.covered) if per else (0, None, None)
    return photo.name, members.get(photo.sitting_id, ""), *of_sightings, *(spreads.get(photo.id) or (None, None))


def _measurement_rows(job, sitting, names):
    values = measure_all(job, sitting)
    return [
        (
            m.name, m.kind, ", ".join(end_text(e, names) for e in m.ends),
            values[m.id].get("problem") or values[m.id]["text"],
        )
        for m in job.measurements(sitting.id)
    ]  # fmt: skip


def surface_content(job, sitting, model=None, placed="frame"):
    """What the report says of the surface; None without one.

    Raises
    ------
    UmbrateError
        Where there is a model and no surface, or the model does not lie over it.
    """
    kept = job.surface(sitting.id)
    if kept is None:
        if model is not None:
            raise UmbrateError(f"“{sitting.name}” has no surface yet. Run Surface first.", ("go to", "surface"))
        return None
    try:
        values = [(v.name, v.text, v.note) for v in SurfaceMeasurer(job, sitting, kept).all()]
        problem = ""
    except UmbrateError as e:
        values, problem = [], str(e)
    mesh, now = load_surface(job, sitting, kept), kept.now
    steps = [MENDING.text(x.step, frame_of(job, sitting).unit) for x in kept.steps]
    about = f"{kept.name}, from {kept.figures['source']}: {len(mesh['faces']):,} triangles, "
    about += "closed" if now["closed"] else f"open, {now['holes']} holes"
    about += f"; {100 * now['filled']:.1f} % of it no points hold" if now["filled"] else ""
    out = {"about": about, "values": values, "problem": problem, "steps": steps, "model": None}
    if model is not None:
        found = compare_with_model(mesh, model, placed)
        d = found.distance[np.isfinite(found.distance)]
        most = float(np.percentile(np.abs(d), 98)) or 1e-9
        counts = np.histogram(np.clip(d, -most, most), BARS, (-most, most))[0]
        f = found.figures
        colors = surface_colors(mesh, "compared", found.distance, (-most, most))
        out["model"] = {
            "name": found.name, "placed": {"frame": "as it stands", "shape": "laid over by its shape"}[placed],
            "figures": f, "range": most, "counts": counts.tolist(),
            "within": [(t, found.within(t)) for t in _tolerances(f["p95_abs"])],
            "pictures": [
                (words, as_png(draw_surface(mesh, colors, eye_for(mesh["points"], d, *PICTURE), PICTURE,
                                            ground=(255, 255, 255))))
                for words, d in VIEWS
            ],
        }  # fmt: skip
    return out


def _tolerances(p95):
    """Round lengths about a distance that most are within: what people lay against a model."""
    power = 10.0 ** np.floor(np.log10(max(p95, 1e-9)))
    return [x for m in (0.5, 1, 2, 5, 10) if (x := float(f"{m * power:.3g}"))]


def _ledger_rows(job, sitting, members):
    of = {sitting.id, *members}  # what a joined row is made of ran with its members
    return [
        (e.when.replace("T", " "), _step(e, sitting, members), f"{e.seconds:.1f} s",
         ": ".join(x for x in (e.outcome, figures_of(e)[0]) if x), e.program,
         ", ".join(f"{k} {v}" for k, v in e.settings.items() if not isinstance(v, dict)))
        for e in job.ledger() if e.sitting_id in of
    ]  # fmt: skip


def write_accuracy_report(job, sitting, path, gate=CLOSED, model=None, placed="frame"):
    """Write a sitting's accuracy report as PDF; with a `model`, how far the surface is from it (`report_content`)."""
    from ..formats.report import write_report  # which takes a library that nothing else needs

    write_report(path, report_content(job, sitting, model, placed), gate)
