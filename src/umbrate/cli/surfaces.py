"""Commands for the surfaces of a sitting: listing, choosing, comparing."""

from pathlib import Path

import click
from rich.table import Table

from ..core.errors import UmbrateError
from ..core.later import Later
from .changing import changing
from .console import out, say
from .measure import the_sitting

sitting_surfaces = Later("umbrate.sitting.surfaces")
frames = Later("umbrate.sitting.frames")
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


@click.command()
@job_argument
@sitting_option
@click.option("--choose", help="Let this surface be the one that is measured on and exported.")
@click.option("--rename", nargs=2, metavar="OLD NEW", help="Give a surface another name.")
@click.option("--remove", multiple=True, metavar="NAME", help="Take a surface away.")
@click.option("--compare", nargs=2, metavar="NAME NAME", help="Say how far the first is from the second.")
@click.option("--forecast", is_flag=True, help="Say how long a run would take, and how large the surface will be.")
def surfaces(job, sitting, choose, rename, remove, compare, forecast):
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
            holes = f"{100 * c.figures['filled']:.1f} % filled" if c.figures["closed"] else "open"
            table.add_row(
                "chosen" if c.chosen else "",
                c.name,
                f"{c.left:,}",
                c.made.replace("T", " "),
                c.figures["source"],
                holes,
            )
        out.print(table)
