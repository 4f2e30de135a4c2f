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
from ..formats.files import CLOSED
from ..formats.report import write_report
from ..job.marks import CHECK, SCALE, token
from ..sitting.clouds import load_cloud
from ..sitting.endpoints import spreads_of
from ..sitting.frames import end_text, frame_of, level_of, load_block, place_of_end, scale_result
from ..sitting.lenses import group_name
from ..stages import BY_NAME
from .leveling import level_text
from .measuring import measure_all
from .picturing import as_png, draw, eye_for

PICTURE = 900, 620  #: of a view of the scene, in pixels
VIEWS = (("from the front, above", (0.6, -1.0, 0.55)), ("from the side", (1.0, 0.25, 0.15)))


def scene_picture(block, cloud, direction, width=PICTURE[0], height=PICTURE[1]):
    """A view of the cloud, or of the tie points, as PNG bytes."""
    if cloud is not None and len(cloud["points"]):
        points, colors, size = cloud["points"], cloud["colors"], 2
    else:
        points, colors, size = block.points, block.colors, 3
    eye = eye_for(points, direction, width, height)
    return as_png(draw(points, colors, eye, width, height, size=size, ground=(255, 255, 255), edges=12.0))


def _direction(block, first, second):
    """The direction between two ends as text, and the unit vector, in the job's frame."""
    a, b = (place_of_end(block, e) for e in (first, second))
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


def report_content(job, sitting):
    """Everything the report says, as plain values for `formats.report`.

    Raises
    ------
    UmbrateError
        Where the sitting has no poses.
    """
    poses = job.result(sitting.id, "poses")
    if poses is None:
        raise UmbrateError(f"“{sitting.name}” has no poses yet: there is nothing to report.", ("go to", "poses"))
    block, cloud = load_block(job, sitting), load_cloud(job, sitting)
    scale = scale_result(job, sitting)
    f, p = (scale.figures if scale else {}), poses.figures
    frame = frame_of(job, sitting, None)
    names = job.end_names(sitting.id)
    unit = frame.unit
    per_photo = block.photos_of
    photos = job.photos(sitting.id, aside=False)
    distance = np.median(np.linalg.norm(block.eyes[block.solved] - block.points.mean(0), axis=1))
    spreads, of_lenses = spreads_of(job, sitting)
    members = {s.id: s.name for s in job.sittings() if s.id in job.members(sitting.id)}
    of_solved = block.lens_of[block.solved]
    use = np.bincount(of_solved, minlength=len(block.lenses))
    lenses = [
        {
            "name": _lens_name(photos, block, m), "photos": int(use[m]),
            "values": dict(zip(PARAMETER_NAMES, (float(x) for x in block.lenses[m]), strict=True)),
            "sigma": of_lenses[m] if m < len(of_lenses) else {},
        }
        for m in range(len(block.lenses)) if use[m]
    ]  # fmt: skip
    pixel = float(np.median(distance / block.lenses[of_solved, 0]))
    lengths = f.get("lengths", [])
    scales = [r for r in lengths if r["role"] == SCALE]
    checks = [r for r in lengths if r["role"] == CHECK]
    sizes = list(dict.fromkeys(f"{x.width} x {x.height}" for x in photos))
    cameras = list(
        dict.fromkeys((x.camera or "unknown") + (f", {x.focal_mm:g} mm" if x.focal_mm else "") for x in photos)
    )
    facts = [
        ("Photos", f"{p['solved']} of {p['photos']} placed, {', '.join(sizes)} pixels"),
        *([("Sittings", ", ".join(members.values()))] if len(members) > 1 else []),
        ("Camera" if len(cameras) == 1 else "Cameras", "; ".join(cameras)),
        ("Distance", f"{distance:.4g} {unit}, a pixel is {pixel:.3g} {unit} there".replace("  ", " ")),
        ("Tie points", f"{len(block.points):,} in {len(block.photo):,} sightings"),
        ("Residual", f"{f.get('rms_px', p['rms_px']):.3f} px root mean square; unit weight {f.get('unit', p['unit'])}"),
        ("Level", frame.problem or level_text(level_of(job, sitting), names)),
    ]  # fmt: skip
    if f.get("scaled"):
        facts.append(
            (
                "Scale",
                f"± {100 * K95 * f['scale_sigma']:.4f} % (95 %) from {sum(not r['left_out'] for r in scales)} lengths",
            )
        )
    else:
        facts.append(("Scale", "none: lengths have no unit"))
    if "target_precision" in f:
        facts.append(
            ("Targets", f"{f['targets']} with {f['target_sigma']:.4f} {unit} (1 sigma of a coordinate), "
                        f"1:{f['target_precision']:,.0f} of their extent of {f['extent']:.1f} {unit}")
        )  # fmt: skip
    if cloud is not None:
        facts.append(("Cloud", f"{len(cloud['points']):,} points"))
    edges = np.arange(2, min(int(per_photo.max()), 24) + 2)
    coverage = np.histogram(np.minimum(per_photo, edges[-2]), np.r_[edges - 0.5])[0]
    values = measure_all(job, sitting)
    measurements = [
        (
            m.name,
            m.kind,
            ", ".join(end_text(e, names) for e in m.ends),
            values[m.id].get("problem") or values[m.id]["text"],
        )
        for m in job.measurements(sitting.id)
    ]
    of = {sitting.id, *members}  # what a joined row is made of ran with its members
    ledger = [
        (e.when.replace("T", " "), _step(e, sitting, members), f"{e.seconds:.1f} s",
         e.outcome, e.program, ", ".join(f"{k} {v}" for k, v in e.settings.items() if not isinstance(v, dict)))
        for e in job.ledger() if e.sitting_id in of
    ]  # fmt: skip
    check_rows = []
    for r in checks:
        d = _direction(block, r["first"], r["second"])
        check_rows.append(
            {
                "ends": f"{end_text(r['first'], names)} to {end_text(r['second'], names)}", "stated": r["value"],
                "sigma": r["sigma"], "measured": r["length"], "error": r["error"], "half95": r["half95"],
                "direction": d.tolist(),
            }
        )  # fmt: skip
    return {
        "job": job.name, "sitting": sitting.name, "date": date.today().isoformat(), "version": __version__,
        "unit": unit, "facts": facts,
        "pictures": [(words, scene_picture(block, cloud, d)) for words, d in VIEWS],
        "scales": [
            {
                "ends": f"{end_text(r['first'], names)} to {end_text(r['second'], names)}", "stated": r["value"],
                "sigma": r["sigma"], "measured": r["length"], "residual": r["residual"], "sigmas": r["sigmas"],
                "left_out": r["left_out"], "from": r["from"],
            }
            for r in scales
        ],
        "checks": check_rows,
        "problems": [f"{x['text']} {x['hint']}".strip() for x in (scale.problems if scale else [])],
        "residuals": p["residual_histogram"], "residual_top": 2.0,
        "coverage": (edges[:-1].tolist(), coverage.tolist()),
        "known": {end_text(e, names): k for e, k in f.get("known", {}).items()},
        "marks": [
            (m.name, _seen_in(block, m), f.get("marks", {}).get(token(m.id)))
            for m in job.marked_points(sitting.id) if m.used
        ],
        "lenses": lenses, "joined": len(members) > 1,
        "photos": [
            (x.name, members.get(x.sitting_id, ""), p["per_photo"].get(str(x.id), {}).get("sightings", 0),
             p["per_photo"].get(str(x.id), {}).get("rms_px"), p["per_photo"].get(str(x.id), {}).get("covered"),
             *(spreads.get(x.id) or (None, None)))
            for x in photos
        ],
        "measurements": measurements, "ledger": ledger,
    }  # fmt: skip


def write_accuracy_report(job, sitting, path, gate=CLOSED):
    """Write a sitting's accuracy report as PDF."""
    write_report(path, report_content(job, sitting), gate)
