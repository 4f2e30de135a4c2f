"""Commands for the clouds of a sitting: listing, choosing, comparing, cleaning."""

from pathlib import Path

import click
from rich.table import Table

from ..core.errors import UmbrateError
from ..core.later import Later
from .bysteps import Way, change_by_steps, explained, step_options
from .changing import changing, open_job
from .choices import ChoiceOf, Explained
from .console import out, replace_option, say
from .measure import the_sitting

np = Later("numpy")
cleaning = Later("umbrate.actions.cleaning")
filtersteps = Later("umbrate.actions.steps")
actions_coverage = Later("umbrate.actions.coverage")
picturing = Later("umbrate.actions.picturing")
coloring = Later("umbrate.core.raster.coloring")
files = Later("umbrate.formats.files")
sitting_clouds = Later("umbrate.sitting.clouds")
frames = Later("umbrate.sitting.frames")
guarding = Later("umbrate.sitting.guarding")
stages = Later("umbrate.stages")
base = Later("umbrate.stages.base")

job_argument = click.argument("job", type=click.Path(path_type=Path))
sitting_option = click.option("--sitting", help="The sitting; may be left out where there is only one.")


def _one(job, sitting, name):
    kept = job.cloud(sitting.id, name)
    if kept is None:
        raise UmbrateError(f"“{sitting.name}” has no cloud yet: umbrate run {job.folder}", ("go to", "cloud"))
    return kept


def _tell_coverage(found):
    c, unit = found.coverage, found.unit
    for title, values, u in (
        ("photos", c.seen, ""), ("pixel size", c.resolution, unit), ("directions", c.spread, "°"),
        ("precision", c.precision, unit),
    ):  # fmt: skip
        some = values[np.isfinite(values)]
        low, middle, high = np.percentile(some, (1, 50, 99)) if len(some) else (np.nan,) * 3
        say(f"{title}: median {middle:.3g} {u}".rstrip() + f", 98 % within {low:.3g} to {high:.3g}")
    say(f"{100 * found.weak.mean():.2f} % of the points have too little; at {100 * found.edge.mean():.2f} % it ends")
    for k, (share, why, where) in enumerate(found.rows()):
        say(f"{k + 1}. {share}: {why}; three photos, {where}")


@click.command()
@job_argument
@sitting_option
@click.option("--choose", help="Let this cloud be the one that is measured on and exported.")
@click.option("--rename", nargs=2, metavar="OLD NEW", help="Give a cloud another name.")
@click.option("--remove", multiple=True, metavar="NAME", help="Take a cloud away.")
@click.option("--compare", nargs=2, metavar="NAME NAME", help="Say how far the first is from the second.")
@click.option("--forecast", is_flag=True, help="Say how long a run would take at each photo scale, and how fine it is.")
@click.option("--coverage", is_flag=True, help="Say how well photos cover the chosen cloud, and which would mend it.")
@click.option("--tie-points", is_flag=True, help="With --coverage: of the tie points, before there is a cloud.")
def clouds(job, sitting, choose, rename, remove, compare, forecast, coverage, tie_points):
    """List the clouds of a sitting of JOB, side by side."""
    with changing(job, choose or rename or remove, "change clouds") as j:
        s = the_sitting(j, sitting)
        if forecast:
            stage = stages.BY_NAME["cloud"]
            seen = stage.forecast(j, s, base.parse_settings(stage, j.settings(s.id, "cloud")))
            if seen is None:
                raise UmbrateError(f"“{s.name}” has no poses yet. Run Poses first.", ("go to", "poses"))
            say(seen.text)
            return
        if choose:
            j.cloud_list.choose(_one(j, s, choose).id)
        if rename:
            j.cloud_list.rename(_one(j, s, rename[0]).id, rename[1])
        for name in remove:
            j.cloud_list.remove(_one(j, s, name).id)
        if coverage:
            gather = actions_coverage.gather_tie_points if tie_points else actions_coverage.gather_coverage
            _tell_coverage(actions_coverage.compute_coverage(gather(j, s)))
            return
        if compare:
            a, b = (sitting_clouds.load_cloud(j, s, _one(j, s, n)) for n in compare)
            _, f = sitting_clouds.compare_clouds(a, b)
            u = frames.frame_of(j, s).unit
            if f["median"] is None:
                say(f"{compare[0]} and {compare[1]} have nothing in common.")
            else:
                say(f"{compare[0]} over {compare[1]}: median {f['median']:+.4g} {u}, {f['median_abs']:.4g} {u} without "
                    f"the sign, 95 % within {f['p95_abs']:.4g} {u}; {f['alone']:,} of {f['points']:,} points have no "
                    f"counterpart within {f['reach']:.3g} {u}")  # fmt: skip
            return
        table = Table(title=f"{s.name}: clouds")
        for column in ("", "name", "points", "made", "photo scale", "cleaned by"):
            table.add_column(column, justify="right" if column == "points" else "left")
        for c in j.clouds(s.id):
            steps = "\n".join(
                f"{k + 1}. {filtersteps.step_text(x.step)} (-{x.removed:,})" for k, x in enumerate(c.steps)
            )
            table.add_row(
                "chosen" if c.chosen else "", c.name, f"{c.left:,}", c.made.replace("T", " "),
                c.scale_text, steps,
            )  # fmt: skip
        out.print(table)


def _try_cleaning(job, sitting, kept, step):
    cloud = sitting_clouds.raw_cloud(job, kept)
    answer = np.asarray(filtersteps.try_step(cloud, step, filtersteps.Context(job, sitting, kept)))
    what = f"would take {int(answer.sum()):,} away" if answer.ndim == 1 else "would move them"
    return f"{len(cloud['points']):,} points; {what}"


CLEANING = Way("clean", "cloud", "points", "was cleaned", lambda: cleaning.CLEAN, _one, _try_cleaning)


@click.command(cls=Explained, explain=lambda: explained(filtersteps.CLEANING, "Filters"))
@job_argument
@sitting_option
@click.option("--cloud", "name", help="Which cloud; the chosen one where not said.")
@step_options(CLEANING)
@replace_option
def clean(job, sitting, name, replace, **asked):
    """Clean a cloud of JOB by one more step or by those of another cloud or a file, or take one back."""
    change_by_steps(CLEANING, job, sitting, name, replace, **asked)


@click.command()
@job_argument
@click.argument("file", metavar="OUT", type=click.Path(path_type=Path))
@sitting_option
@click.option("--cloud", "name", help="Which cloud; the chosen one where not said.")
@click.option(
    "--from", "side", type=ChoiceOf(lambda: picturing.DIRECTIONS), default="corner", help="Where one looks from."
)
@click.option(
    "--look",
    type=ChoiceOf(lambda: [n for n in {**coloring.COLORINGS, **coloring.SURFACE_COLORINGS} if n != "compared"]),
    default="color",
    help="Colored by.",
)
@click.option("--surface", is_flag=True, help="Draw the chosen surface in place of the cloud.")
@click.option("--texture", is_flag=True, help="Draw the surface with its texture.")
@click.option("--width", default=1920, help="Pixels.")
@click.option("--height", default=1200, help="Pixels.")
@click.option("--parallel", is_flag=True, help="Along parallel rays, without perspective.")
@replace_option
def picture(job, file, sitting, name, side, look, surface, texture, width, height, parallel, replace):
    """Draw a cloud, surface or texture of JOB into the picture OUT (PNG), as the window shows it."""
    with open_job(job, writable=False) as j:
        s = the_sitting(j, sitting)
        kept = _one(j, s, name) if name else None
        gate = guarding.gate_of(j, replace)
        gate.check(file)
        has = coloring.SURFACE_COLORINGS if surface else coloring.COLORINGS
        if look not in has:
            raise UmbrateError(f"A {'surface' if surface else 'cloud'} is colored by one of {', '.join(has)}.")
        how = {"side": side, "width": width, "height": height, "parallel": parallel}
        if texture:
            drawn = picturing.texture_picture(j, s, **how)
        else:
            draw = picturing.surface_picture if surface else picturing.cloud_picture
            drawn = draw(j, s, kept, look=look, **how)
    with files.written_aside(file, gate) as part:
        part.write_bytes(picturing.as_png(drawn))
    say(f"Wrote {file}, {width} x {height}")
