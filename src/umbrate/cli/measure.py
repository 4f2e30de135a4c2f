"""Commands that mark, scale, level, measure and report."""

from pathlib import Path

import click
from rich.table import Table

from ..core.errors import UmbrateError
from ..core.later import Later
from .changing import changing, open_job
from .choices import ChoiceOf, Explained
from .console import out, replace_option, say

np = Later("numpy")
leveling = Later("umbrate.actions.leveling")
marking = Later("umbrate.actions.marking")
measuring = Later("umbrate.actions.measuring")
reporting = Later("umbrate.actions.reporting")
sectioning = Later("umbrate.actions.sectioning")
quantities = Later("umbrate.core.measure.quantities")
drawings = Later("umbrate.formats.drawings")
of_lengths = Later("umbrate.job.lengths")
marks = Later("umbrate.job.marks")
clouds = Later("umbrate.sitting.clouds")
frames = Later("umbrate.sitting.frames")
guarding = Later("umbrate.sitting.guarding")

job_argument = click.argument("job", type=click.Path(path_type=Path))
sitting_option = click.option("--sitting", help="The sitting; may be left out where there is only one.")


def the_sitting(job, name):
    """The sitting of that name, or the only one."""
    if name:
        return job.sitting(name)
    sittings = job.sittings()
    if len(sittings) == 1:
        return sittings[0]
    names = ", ".join(f"“{s.name}”" for s in sittings) or "none yet"
    raise UmbrateError(f"Say which sitting with --sitting: {names}.")


def the_photo(job, sitting, name):
    """The photo of that name in a sitting."""
    for p in job.photos(sitting.id):
        if name in (p.name, Path(p.name).stem):
            return p
    raise UmbrateError(f"“{sitting.name}” has no photo {name}.")


@click.command()
@job_argument
@sitting_option
@click.option("--mark", nargs=4, multiple=True, metavar="NAME PHOTO X Y", help="A point is seen at these pixels.")
@click.option("--sigma", "sigma_px", type=float, help="How sure these marks are, in pixels (0.5).")
@click.option("--off", multiple=True, metavar="NAME", help="Switch a point off.")
@click.option("--on", multiple=True, metavar="NAME", help="Switch a point on.")
@click.option("--rename", nargs=2, multiple=True, metavar="OLD NEW", help="Give a point another name.")
@click.option("--remove", multiple=True, metavar="NAME", help="Remove a point with its sightings.")
@click.option("--line", "lines", multiple=True, metavar="NAMES", help="Join points to a line: P1,P2,P3")
@click.option("--face", "faces", multiple=True, metavar="NAMES", help="Join points to a face: P1,P2,P3")
@click.option("--rename-shape", "renamed", nargs=2, multiple=True, metavar="OLD NEW", help="Give a line or face "
              "another name.")  # fmt: skip
@click.option("--remove-shape", "gone", multiple=True, metavar="NAME", help="Take a line or face away.")
@click.option("--known", nargs=4, multiple=True, metavar="END X Y Z", help="A point, or a target of that number, is "
              "known to be there, in mm.")  # fmt: skip
@click.option("--unknown", multiple=True, metavar="END", help="Forget the known coordinates of a point or target.")
@click.option("--import", "take", type=click.Path(path_type=Path), help="Take known coordinates from a CSV file.")
@click.option("--unit", help="Of that file: mm, cm, m, in.")
@click.option("--sigma-mm", type=float, help="Standard deviation of known coordinates that state none (0.1).")
@click.option("--compare-only", is_flag=True, help="Compare known coordinates with the block, do not move it there.")
@click.option("--export", "give", type=click.Path(path_type=Path), help="Write coordinates (CSV), or points, lines and "
              "faces (DXF, OBJ).")  # fmt: skip
@replace_option
def points(
    job, sitting, mark, sigma_px, off, on, rename, remove, lines, faces, renamed, gone, known, unknown, take, unit,
    sigma_mm, compare_only, give, replace,
):  # fmt: skip
    """Mark points in photos of JOB, and list them with their residuals, the worst first."""
    change = mark or off or on or rename or remove or take or lines or faces or renamed or gone or known or unknown
    with changing(job, change, "change marked points") as j:
        s = the_sitting(j, sitting)
        for name, photo, x, y in mark:
            try:
                at = float(x), float(y)
            except ValueError:
                raise UmbrateError(f"“{x} {y}” are no pixels. Write: --mark P1 IMG_1.jpg 812.5 344") from None
            p = the_photo(j, s, photo)
            if not (-0.5 <= at[0] < p.width and -0.5 <= at[1] < p.height):
                raise UmbrateError(f"{x} {y} is outside of {p.name}, which has {p.width} x {p.height} pixels.")
            there = {m.name: m.id for m in j.marked_points(s.id)}
            i = there[name] if name in there else j.add_marked_point(s.id, name)
            j.set_sighting(i, p.id, *at, sigma_px)
        for names, used in ((off, False), (on, True)):
            for name in names:
                j.set_marked_point(j.marked_point(s.id, name).id, used=used)
        for old, new in rename:
            j.rename_marked_point(j.marked_point(s.id, old).id, new)
        for kind, texts in (("line", lines), ("face", faces)):
            for text in texts:
                j.add_shape(s.id, kind, [j.marked_point(s.id, n.strip()).id for n in text.split(",")])
        for old, new in renamed:
            j.rename_shape(j.shape(s.id, old).id, new)
        for name in gone:
            j.remove_shape(j.shape(s.id, name).id)
        if remove:
            j.remove_marked_points([j.marked_point(s.id, n).id for n in remove])
        for end, *xyz in known:
            sigma = None if sigma_mm is None else (sigma_mm,) * 3
            place = [marks.good_number(x, f"A coordinate of {end}") for x in xyz]
            marking.know(j, s, j.end_of(s.id, end), place, sigma, not compare_only)
        for end in unknown:
            marking.know(j, s, j.end_of(s.id, end), None)
        if take:
            count = marking.take_coordinates(j, s, take, unit, sigma_mm, held=not compare_only)
            say(f"Took {count} known points. Mark them in two photos each, then: umbrate run {job} --to scale")
        if give:
            write = marking.export_shapes if give.suffix.lower() in (".dxf", ".obj") else marking.export_points
            count = write(j, s, give, guarding.gate_of(j, replace))
            say(f"Wrote {count} to {give}")
            return
        m, f = marking.Marking(j, s), frames.frame_of(j, s)
        table = Table(title=f"{s.name}: points marked by hand")
        for column, side in (
            ("point", "left"), ("photos", "right"), ("residual px", "right"), (f"place {f.unit}".strip(), "right"),
            ("", "left"),
        ):  # fmt: skip
            table.add_column(column, justify=side)
        targets = j.known_targets(s.id)
        rows = [(p, m.rms(p)) for p in j.marked_points(s.id)]
        for p, rms in sorted(rows, key=lambda r: -(r[1] or 0)):
            X = m.place(p)
            told = "off" if not p.used else "known" if p.known else ""
            table.add_row(
                p.name, str(len(p.sightings)), "-" if rms is None else f"{rms:.2f}",
                "-" if X is None else " ".join(f"{x:.3f}" for x in f.for_people(X)), told,
            )  # fmt: skip
        for name, kind, size in marking.shape_sizes(j, s):
            table.add_row(f"{kind} {name}", "", "", size, "")
        for n, k in targets.items():
            table.add_row(f"target {n}", "", "", " ".join(f"{x:.3f}" for x in k.known), "known")
        out.print(table)


@click.command()
@job_argument
@sitting_option
@click.option("--set", "stated", nargs=3, multiple=True, metavar="END END MM", help="State a known length. An end is a "
              "target's number or a marked point's name.")  # fmt: skip
@click.option("--sigma", type=float, default=0.05, show_default=True, help="Standard deviation of these lengths, mm.")
@click.option("--check", is_flag=True, help="They do not set the scale, they check it.")
@click.option("--role", nargs=3, multiple=True, metavar="END END ROLE", help="Let a length be for: scale, check, off.")
@click.option("--remove", nargs=2, multiple=True, metavar="END END", help="Forget a length.")
def lengths(job, sitting, stated, sigma, check, role, remove):
    """State known lengths of JOB, and list them with their residuals. Then: umbrate run JOB --to scale"""
    with changing(job, stated or role or remove, "change lengths") as j:
        s = the_sitting(j, sitting)

        def find(a, b):
            ends = {j.end_of(s.id, a), j.end_of(s.id, b)}
            for k in j.lengths(s.id):
                if {k.first, k.second} == ends:
                    return k.id
            raise UmbrateError(f"No length from {a} to {b} is stated.")

        for first, second, value in stated:
            try:
                mm = float(value.replace(",", "."))
            except ValueError:
                raise UmbrateError(f"“{value}” is no length in mm.") from None
            j.add_length(s.id, first, second, mm, sigma, of_lengths.CHECK if check else of_lengths.SCALE)
        for a, b, r in role:
            j.set_length(find(a, b), role=r)
        for a, b in remove:
            j.remove_length(find(a, b))
        done = j.result(s.id, "scale")
        of = {(r.first, r.second): r for r in done.figures.lengths} if done else {}
        rows = {(k.first, k.second): (k.value_mm, k.sigma_mm, k.role, "stated") for k in j.lengths(s.id)}
        for key, r in of.items():
            if r.source == "sheet" and key not in rows and key[::-1] not in rows:
                rows[key] = r.value, r.sigma, r.role, "printed sheet"
        names = j.end_names(s.id)
        table = Table(title=f"{s.name}: known lengths, mm")
        for column, side in (
            ("ends", "left"), ("stated", "right"), ("sigma", "right"), ("for", "left"), ("measured", "right"),
            ("off", "right"), ("sigmas", "right"), ("", "left"),
        ):  # fmt: skip
            table.add_column(column, justify=side)
        for key, (value, sd, what, origin) in rows.items():
            r = of.get(key)
            off = None if r is None else r.residual if r.role == of_lengths.SCALE else r.error
            table.add_row(
                " ".join(names.get(e, e) for e in key), f"{value:.3f}", f"{sd:.3f}",
                what if what != of_lengths.OFF else "off",
                f"{r.length:.4f}" if r and done.figures.scaled else "-",
                "-" if off is None else f"{off:+.4f}", "-" if r is None or r.sigmas is None else f"{r.sigmas:+.1f}",
                "left out" if r and r.left_out else origin if origin != "stated" else "",
            )  # fmt: skip
        out.print(table)
        for p in done.problems if done else ():
            say(f"  {p['text']} {p['hint']}")


@click.command()
@job_argument
@sitting_option
@click.option("--mat", is_flag=True, help="The targets of the printed mat lie level.")
@click.option("--by", "ends", multiple=True, metavar="END", help="These lie level (three or more).")
@click.option("--turntable", is_flag=True, help="The turntable's axis stands upright.")
@click.option("--box", is_flag=True, help="The keep box stands upright.")
@click.option("--along", nargs=2, metavar="END END", help="x goes from the one to the other.")
@click.option("--origin", metavar="END", help="This is zero: an end, or box.")
@click.option("--clear", is_flag=True, help="As it was solved.")
def level(job, sitting, mat, ends, turntable, box, along, origin, clear):
    """Stand a sitting of JOB up, and say what its level is made from."""
    change = mat or ends or turntable or box or along or origin or clear
    with changing(job, change, "change the level") as j:
        s = the_sitting(j, sitting)
        if clear:
            j.set_level(s.id, None, "clear the level")
        if mat:
            leveling.level_by_mat(j, s)
        parts = {}
        if ends:
            parts["up"] = {"ends": list(ends)}
        elif turntable:
            parts["up"] = {"axis": "turntable"}
        elif box:
            parts["up"] = {"box": True}
        if along:
            parts["along"] = list(along)
        if origin:
            parts["origin"] = origin
        if parts:
            leveling.change_level(j, s, **parts)
        if change:
            measuring.refresh_all(j)
        frame = frames.frame_of(j, s)
        say(f"“{s.name}”: {leveling.level_text(frames.level_of(j, s), j.end_names(s.id))}")
        problem = frame.problem or ("Known coordinates set the frame." if frame.framed else "")
        if problem:
            say(f"  {problem}")


@click.command(
    cls=Explained, explain=lambda: "Kinds: " + "; ".join(f"{k.name} ({k.about})" for k in quantities.KINDS) + "."
)
@job_argument
@sitting_option
@click.option(
    "--add", "kind", type=ChoiceOf(lambda: [k.name for k in quantities.KINDS]), help="Measure something more."
)
@click.option("--end", "ends", multiple=True, metavar="END", help="Its ends in order: targets or marked points.")
@click.option("--name", help="What it is called.")
@click.option("--remove", multiple=True, metavar="NAME", help="Forget a measurement.")
@click.option("--export", "give", type=click.Path(path_type=Path), help="Write all of them as CSV or JSON.")
@replace_option
def measure(job, sitting, kind, ends, name, remove, give, replace):
    """Measure between targets and marked points of JOB, and list values with their 95 % intervals."""
    with changing(job, kind or remove, "change measurements") as j:
        s = the_sitting(j, sitting)
        if kind:
            measuring.Measurer(j, s).measure(kind, ends)  # raises where it cannot be
            j.add_measurement(s.id, kind, ends, name)
        for n in remove:
            ids = [m.id for m in j.measurements(s.id) if m.name == n]
            if not ids:
                raise UmbrateError(f"There is no measurement “{n}”.")
            j.remove_measurements(ids)
        if kind:
            measuring.refresh_all(j)
        if give:
            say(
                f"Wrote {measuring.export_measurements(j, give, s, guarding.gate_of(j, replace))} "
                f"measurements to {give}"
            )
            return
        table = Table(title=f"{s.name}: measurements, with 95 % intervals")
        for column in ("name", "kind", "value", ""):
            table.add_column(column)
        values = measuring.measure_all(j, s)
        for m in j.measurements(s.id):
            v = values[m.id]
            table.add_row(m.name, m.kind, v["text"], v.get("problem", ""))
        out.print(table)


@click.command()
@job_argument
@click.argument("out_file", metavar="[OUT]", required=False, type=click.Path(path_type=Path))
@sitting_option
@click.option("--at", nargs=3, type=float, help="A place of the plane: x y z (the middle of the cloud).")
@click.option("--normal", nargs=3, type=float, help="Across the plane (0 1 0).")
@click.option("--plane", "name", help="A plane that was kept, by its name.")
@click.option("--keep", metavar="NAME", help="Keep the plane in the job under this name.")
@click.option("--forget", metavar="NAME", help="Forget the plane of this name.")
@click.option(
    "--gap", type=click.FloatRange(0), help="Gaps of the cloud up to so wide are closed (3 % of the outline)."
)
@click.option("--surface", is_flag=True, help="Cut the chosen surface in place of the cloud.")
@replace_option
def section(job, out_file, sitting, at, normal, name, keep, forget, gap, surface, replace):
    """Cut the cloud of JOB by a plane and write the outline to OUT (SVG, DXF or CSV); without OUT, list planes."""
    with changing(job, keep is not None or forget is not None, "change sections") as j:
        s = the_sitting(j, sitting)
        if forget is not None:
            j.remove_section(j.section(s.id, forget).id)
        frame, gate = frames.frame_of(j, s), guarding.gate_of(j, replace)
        if out_file:
            gate.check(out_file)
        if name is not None and (at or normal):
            raise UmbrateError("Either --plane, or --at and --normal.")
        if name is not None:
            place, across = sectioning.plane_in_job(j, s, j.section(s.id, name))
        elif out_file or keep is not None:
            cloud = clouds.load_cloud(j, s)
            if cloud is None:
                raise UmbrateError(f"“{s.name}” has no cloud yet: umbrate run {job}", ("go to", "cloud"))
            place = frame.from_people(at) if at else np.median(cloud["points"], axis=0)
            across = normal or (0.0, 1.0, 0.0)
        if out_file:
            cut = sectioning.cut_surface if surface else lambda *a: sectioning.cut_cloud(*a, gap=gap)
            made = cut(j, s, place, across)
            drawings.write_section(out_file, made, frame.unit, f"{j.name}, {s.name}", gate)
            texts = drawings.section_texts(made, frame.unit)
            say(f"Wrote {out_file}: " + ", ".join(f"{k} {v}" for k, v in texts.items()))
        if keep is not None:
            before = {x.id for x in j.sections(s.id)}
            kept = sectioning.keep_plane(j, s, place, across, keep)
            name = next(x.name for x in j.sections(s.id) if x.id == kept)
            say(f"“{name}” is moved there." if kept in before else f"Kept “{name}”.")
        if not out_file:
            for x in j.sections(s.id):
                place, across = sectioning.plane_in_job(j, s, x)
                told = " ".join(f"{v:.3f}" for v in frame.for_people(place))
                say(f"{x.name}: at {told}, across {' '.join(f'{v:.4f}' for v in across)}")


@click.command()
@job_argument
@click.argument("out_file", metavar="OUT", type=click.Path(path_type=Path))
@sitting_option
@click.option("--model", type=click.Path(path_type=Path), help="A model file that the surface is compared with.")
@click.option(
    "--placed", type=click.Choice(["frame", "shape"]), default="frame",
    help="Whether the model stands in the job's frame, or is laid over by its shape.",
)  # fmt: skip
@replace_option
def report(job, out_file, sitting, model, placed, replace):
    """Write the accuracy report of a sitting of JOB as PDF."""
    with open_job(job, writable=False) as j:
        s, gate = the_sitting(j, sitting), guarding.gate_of(j, replace)
        gate.check(out_file)
        reporting.write_accuracy_report(j, s, out_file, gate, model, placed)
        say(f"Wrote {out_file}")


@click.command()
@job_argument
@click.argument("first")
@click.argument("second")
@sitting_option
def pair(job, first, second, sitting):
    """Say how two photos of JOB stand to each other: base, distance, their ratio, and the depth to expect."""
    with open_job(job, writable=False) as j:
        s = the_sitting(j, sitting)
        p = marking.pair_figures(j, s, the_photo(j, s, first).id, the_photo(j, s, second).id)
        u = frames.frame_of(j, s).unit or "(unscaled)"
        say(f"Base {p.base:.4g} {u}, distance {p.distance:.4g} {u}, ratio {p.ratio:.3f} ({p.word})")
        say(f"Rays meet at {p.angle_deg:.1f} degrees; depth to ± {p.depth_sigma:.2g} {u} from one match of 0.3 px")
