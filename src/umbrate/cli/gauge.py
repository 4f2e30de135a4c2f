"""The command that measures surfaces."""

from pathlib import Path

import click
from rich.table import Table

from ..core.errors import UmbrateError
from ..core.later import Later
from .changing import open_job
from .choices import ChoiceOf
from .console import out, say
from .measure import the_sitting
from .surfaces import one_surface

np = Later("numpy")
solids = Later("umbrate.actions.solids")
models = Later("umbrate.actions.models")
forms = Later("umbrate.core.measure.forms")
sitting_frames = Later("umbrate.sitting.frames")
sitting_surfaces = Later("umbrate.sitting.surfaces")


def numbers(text, count, what):
    """So many numbers of a text, with commas between; raises UmbrateError."""
    try:
        out = [float(x) for x in text.split(",")]
    except ValueError:
        out = []
    if len(out) != count or not all(np.isfinite(x) for x in out):
        raise UmbrateError(f"“{text}”: {what} takes {count} numbers with commas between.")
    return out


def _pair(text):
    first, equals, second = text.partition("=")
    if not equals:
        raise UmbrateError(f"“{text}”: a pick is a place of the model and the same of the surface, X,Y,Z=X,Y,Z.")
    return numbers(first, 3, "a place"), numbers(second, 3, "a place")


def _show(title, values):
    table = Table(title=title)
    for column in ("", "value, 95 %", ""):
        table.add_column(column)
    for v in values:
        table.add_row(v.name, v.text, v.note)
    out.print(table)


def _tell(found, unit, tolerance):
    f = found.figures
    say(f"To {found.name}: median {f['median']:+.4g} {unit}, {f['median_abs']:.4g} {unit} without the sign, 95 % "
        f"within {f['p95_abs']:.4g} {unit}; {f['alone']:,} of {f['points']:,} vertices have no counterpart within "
        f"{f['reach']:.3g} {unit}")  # fmt: skip
    if tolerance:
        say(f"{100 * found.within(tolerance):.2f} % within {tolerance:g} {unit}")
    for v in found.values:
        say(f"{v.name}: {v.text}")


def _part(measurer, near):
    """Vertices within a ball of the job's frame, or None."""
    if near is None:
        return None
    x, y, z, r = numbers(near, 4, "--near")
    X = sitting_frames.move_points(measurer.points, measurer.of.to_job)
    part = ((X - [x, y, z]) ** 2).sum(1) <= r * r
    return part


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.option("--sitting", help="The sitting; may be left out where there is only one.")
@click.option("--surface", "name", help="Which surface; the chosen one where not said.")
@click.option("--thickness", metavar="X,Y,Z", help="How thick it is at the vertex nearest to a place.")
@click.option("--cut", metavar="X,Y,Z,NX,NY,NZ", help="The section by a plane: a place, a direction.")
@click.option("--model", type=click.Path(path_type=Path), help="How far it is from a model file (.stl, .ply, .obj).")
@click.option(
    "--placed", type=ChoiceOf(lambda: models.PLACED), default="frame",
    help="Whether the model stands in the job's frame, or is laid over by its shape or by picks.",
)  # fmt: skip
@click.option("--pick", "picks", multiple=True, metavar="X,Y,Z=X,Y,Z", help="A place of the model, and on the surface.")
@click.option("--form", type=ChoiceOf(lambda: forms.FORMS), help="How far it is from a form fitted to a part of it.")
@click.option("--near", metavar="X,Y,Z,R", help="The part that the form is fitted to: within R of a place.")
@click.option("--tolerance", type=click.FloatRange(0, min_open=True), help="Say which share lies within this.")
def gauge(job, sitting, name, thickness, cut, model, placed, picks, form, near, tolerance):
    """Measure the surface of JOB: area, volume, sizes, thickness, a section, its distance to a model or a form."""
    with open_job(job, writable=False) as j:
        s = the_sitting(j, sitting)
        kept = one_surface(j, s, name)
        unit = sitting_frames.frame_of(j, s).unit
        if model:
            mesh = sitting_surfaces.load_surface(j, s, kept)
            _tell(models.compare_with_model(mesh, model, placed, [_pair(p) for p in picks]), unit, tolerance)
            return
        m = solids.SurfaceMeasurer(j, s, kept)
        if form:
            _tell(models.compare_with_form(m, form, _part(m, near)), unit, tolerance)
        elif thickness:
            _show(kept.name, [m.thickness_at(m.of.frame.from_people(numbers(thickness, 3, "--thickness")))])
        elif cut:
            plane = numbers(cut, 6, "--cut")
            _show(kept.name, m.section(m.of.frame.from_people(plane[:3]), plane[3:])[1])
        else:
            _show(kept.name, m.all())
