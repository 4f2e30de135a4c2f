"""Joining the sittings of an object that was turned over."""

from pathlib import Path

import click
from rich.table import Table

from ..core.errors import UmbrateError
from ..formats.clouds import write_cloud
from ..job.store import Job
from ..stages.frames import frame_of
from ..stages.joining import GOOD, SHAPE, SURFACE, TARGETS, join_all, united_cloud
from .console import out, say


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.option("--sitting", "names", multiple=True, help="Only these sittings; all where not said.")
@click.option(
    "--by", "ways", multiple=True, type=click.Choice([TARGETS, SURFACE, SHAPE]),
    help="What shows how they lie to each other; may be given several times. Targets and surface where not said.",
)  # fmt: skip
@click.option("--free-scale", is_flag=True, help="Let the scales of scaled sittings differ.")
@click.option("--cloud", "file", type=click.Path(path_type=Path), help="Write their clouds as one, without doubles.")
@click.option("--doubtful", is_flag=True, help="Write it even where a join is doubtful.")
def join(job, names, ways, free_scale, file, doubtful):
    """Say how the sittings of JOB lie to each other, and write their clouds as one."""
    with Job.open(job, writable=False) as j:
        sittings = [j.sitting(n) for n in names] if names else j.sittings()
        whole = join_all(j, sittings, ways or (TARGETS, SURFACE), with_scale=True if free_scale else None)
        unit = frame_of(j, sittings[0]).unit or "units"
        table = Table(title="Joins")
        for column in ("sittings", "", "shared", "rms", "turn ±", "shift ±", "scales"):
            table.add_column(column)
        for (i, k), x in whole.joins.items():
            pair = f"{sittings[i].name} - {sittings[k].name}"
            if x.M is None:
                table.add_row(pair, x.verdict)
                continue
            f = x.ways["all"]
            table.add_row(
                pair, x.verdict, f"{f['agreeing']}", f"{f['rms']:.3g} {unit}", f"{f['sigma'][0]:.2g}°",
                f"{f['sigma'][1]:.2g} {unit}", f"{100 * x.contradiction:+.3f} %" if x.contradiction else "free",
            )  # fmt: skip
        out.print(table)
        for (i, k), x in whole.joins.items():
            for reason in x.reasons:
                say(f"{sittings[i].name} - {sittings[k].name}: {reason}")
            if x.support:
                say(f"Targets on the support, not used: {', '.join(map(str, x.support))}")
            if SHAPE in x.ways:
                f = x.ways[SHAPE]
                say(f"{100 * f['overlap']:.0f} % of the surface overlaps, {f['median']:.3g} {unit} apart in the median")
        for i, k, turn, shift in whole.loops:
            say(f"Round the loop over {sittings[i].name} - {sittings[k].name}: {turn:.3f}° and {shift:.3g} {unit} off")
        if file is None:
            return
        alone = [s.name for s, M in zip(sittings, whole.moves, strict=True) if M is None]
        if alone:
            raise UmbrateError(f"“{alone[0]}” hangs on no other sitting: there is no whole to write.")
        bad = [x for x in whole.joins.values() if x.M is not None and x.verdict != GOOD]
        if bad and not doubtful:
            raise UmbrateError("A join is doubtful, for the reasons above. --doubtful writes the cloud all the same.")
        arrays, lost, _ = united_cloud(j, whole)
        write_cloud(file, {k: v for k, v in arrays.items() if k != "sitting"}, frame_of(j, sittings[0]).unit)
        say(f"Wrote {len(arrays['points']):,} points to {file}, {sum(lost):,} doubled ones left out")


COMMANDS = (join,)
