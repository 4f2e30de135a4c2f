"""Commands for the surfaces of a sitting: listing, choosing, comparing, mending."""

from pathlib import Path

import click
from rich.table import Table

from ..core.errors import UmbrateError
from ..core.later import Later
from .bysteps import Way, change_by_steps, explained, step_options
from .changing import changing
from .choices import Explained
from .console import out, replace_option, say
from .measure import the_sitting

sitting_surfaces = Later("umbrate.sitting.surfaces")
frames = Later("umbrate.sitting.frames")
mends = Later("umbrate.actions.mends")
mending = Later("umbrate.actions.mending")
sitting_clouds = Later("umbrate.sitting.clouds")
similarity = Later("umbrate.core.geometry.similarity")
surface_holes = Later("umbrate.core.surface.holes")
stages = Later("umbrate.stages")
base = Later("umbrate.stages.base")

job_argument = click.argument("job", type=click.Path(path_type=Path))
sitting_option = click.option("--sitting", help="The sitting; may be left out where there is only one.")


def one_surface(job, sitting, name=None):
    """The KeptSurface of a name, or the chosen one; raises UmbrateError without any."""
    kept = job.surface(sitting.id, name)
    if kept is None:
        raise UmbrateError(
            f"“{sitting.name}” has no surface yet: umbrate run {job.folder} --to surface", ("go to", "surface")
        )
    return kept


def _compare(job, sitting, first, second):
    one, two = (one_surface(job, sitting, n) for n in (first, second))
    a, b = (sitting_surfaces.surface_source(job, sitting, x) for x in (one, two))
    _, f = sitting_surfaces.compare_surfaces(a.read(), b.read(), sitting_surfaces.reach_of(one, a))
    u = frames.frame_of(job, sitting).unit
    if f["median"] is None:
        say(f"{first} and {second} have nothing in common.")
        return
    say(f"{first} over {second}: median {f['median']:+.4g} {u}, {f['median_abs']:.4g} {u} without the sign, 95 % "
        f"within {f['p95_abs']:.4g} {u}; {f['alone']:,} of {f['points']:,} vertices have no counterpart within "
        f"{f['reach']:.3g} {u}")  # fmt: skip


def _list_holes(job, sitting):
    mesh, u = sitting_surfaces.load_surface(job, sitting, one_surface(job, sitting)), frames.frame_of(job, sitting).unit
    have = surface_holes.holes_of(mesh["points"], mesh["faces"])
    if not have:
        say("This surface has no holes.")
        return
    table = Table(title=f"{sitting.name}: holes")
    for column in ("", f"across {u}".strip(), f"area {u}²" if u else "area", "at"):
        table.add_column(column, justify="right")
    for k, h in enumerate(have):
        table.add_row(str(k + 1), f"{h.across:.3g}", f"{h.area:.3g}", ", ".join(f"{x:.3f}" for x in h.middle))
    out.print(table)
    say("umbrate mend JOB --by holes --set across=… fills all up to a width, --by hole --set place=X,Y,Z one of them.")


@click.command()
@job_argument
@sitting_option
@click.option("--choose", help="Let this surface be the one that is measured on and exported.")
@click.option("--rename", nargs=2, metavar="OLD NEW", help="Give a surface another name.")
@click.option("--remove", multiple=True, metavar="NAME", help="Take a surface away.")
@click.option("--compare", nargs=2, metavar="NAME NAME", help="Say how far the first is from the second.")
@click.option("--forecast", is_flag=True, help="Say how long a run would take, and how large the surface will be.")
@click.option("--holes", is_flag=True, help="List the holes of the chosen surface, the widest first.")
def surfaces(job, sitting, choose, rename, remove, compare, forecast, holes):
    """List the surfaces of a sitting of JOB, side by side."""
    with changing(job, choose or rename or remove, "change surfaces") as j:
        s = the_sitting(j, sitting)
        if forecast:
            stage = stages.BY_NAME["surface"]
            seen = stage.forecast(j, s, base.parse_settings(stage, j.settings(s.id, "surface")))
            if seen is None:
                raise UmbrateError(f"“{s.name}” has no cloud yet. Run Cloud first.", ("go to", "cloud"))
            say(seen.text)
            return
        if compare:
            _compare(j, s, *compare)
            return
        if holes:
            _list_holes(j, s)
            return
        if choose:
            j.surface_list.choose(one_surface(j, s, choose).id)
        if rename:
            j.surface_list.rename(one_surface(j, s, rename[0]).id, rename[1])
        for name in remove:
            j.surface_list.remove(one_surface(j, s, name).id)
        table = Table(title=f"{s.name}: surfaces")
        for column in ("", "name", "triangles", "made", "from", "holes"):
            table.add_column(column, justify="right" if column == "triangles" else "left")
        for c in j.surfaces(s.id):
            holes = f"{100 * c.now['filled']:.1f} % filled" if c.now["closed"] else f"{c.now['holes']} open"
            table.add_row(
                "chosen" if c.chosen else "",
                c.name,
                f"{c.left:,}",
                c.made.replace("T", " "),
                c.figures["source"],
                holes,
            )
        out.print(table)
        unit = frames.frame_of(j, s).unit
        for c in j.surfaces(s.id):
            for k, x in enumerate(c.steps):
                did = mends.did_text(x.step.get("did"), *_scale(j, s, c))
                more = f": {did}" if did else ""
                say(f"“{c.name}”, step {k + 1}: {mends.MENDING.text(x.step, unit)}{more}")


def _scale(job, sitting, kept):
    """What lengths of a surface are multiplied by to be in the job's unit, and the unit."""
    to_job = sitting_clouds.to_job(job, sitting, kept)
    return similarity.scale_of(to_job), frames.frame_of(job, sitting).unit


def _foretell(job, sitting, kept, step):
    mesh = sitting_surfaces.raw_surface(job, kept)
    made = mends.try_mend(mesh, step, mends.Context(job, sitting, kept))
    n, m = len(mesh["faces"]), len(made.arrays["faces"])
    told = mends.did_text(made.did, *_scale(job, sitting, kept))
    return f"{n:,} triangles would be {m:,}" + (f"; {told}" if told else "")


def _told(job, sitting, step):
    return mends.did_text(step.get("did"), *_scale(job, sitting, one_surface(job, sitting)))


MENDING = Way("mend", "surface", "triangles", "was mended", lambda: mending.MEND, one_surface, _foretell, _told)


@click.command(cls=Explained, explain=lambda: explained(mends.MENDING, "What can be done"))
@job_argument
@sitting_option
@click.option("--surface", "name", help="Which surface; the chosen one where not said.")
@step_options(MENDING)
@replace_option
def mend(job, sitting, name, replace, **asked):
    """Mend a surface of JOB by one more step or by those of another surface or a file, or take one back."""
    change_by_steps(MENDING, job, sitting, name, replace, **asked)
