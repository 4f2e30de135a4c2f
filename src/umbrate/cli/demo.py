"""The main job on the demo data, judged against the truth."""

import json
import sys
from pathlib import Path

import click
from rich.table import Table
from rich.text import Text

from ..core.later import Later
from .console import out, say
from .window import has_display, open_window

d = Later("umbrate.work.demo")
runs = Later("umbrate.cli.runs")
solids = Later("umbrate.actions.solids")


def _deliver(job, quiet):
    """One file of each purpose of the whole; returns whether all of them were made."""
    for row in job.joined_rows():
        for values in d.DELIVERED:
            job.set_settings(row.id, "deliver", values)
            if not runs.run_cells(job, [row], "deliver", redo=True, quiet=quiet):
                return False
    return True


@click.command()
@click.option("--job", "folder", type=click.Path(path_type=Path), help="Where the demo job goes.")
@click.option("--window/--no-window", default=True, help="Show the result in the window afterwards.")
@click.option("--json", "as_json", is_flag=True, help="Print the figures as JSON.")
def demo(folder, window, as_json):
    """Run the main job on the demo data, judge it against the truth, and show it."""
    folder = folder or d.demo_folder()
    watch = d.Stopwatch()
    if not as_json:
        say("A terracotta bird whistle, 92 mm, in two sittings of 24 photos (simulated), joined to the whole.")
    with d.make_demo_job(folder) as job:
        folder = job.folder
        if not as_json:
            say(f"The demo job is {folder}")
        ok = runs.run_cells(job, job.sittings(), "cloud", redo_all=True, quiet=as_json)
        ok = ok and runs.run_cells(job, job.joined_rows(), "texture", quiet=as_json)
        ok = ok and _deliver(job, as_json)
        seconds = watch.seconds
        if not as_json:
            say("Judging the result against the truth ...")
        by_sitting = d.judge(job)
        volumes = [solids.SurfaceMeasurer(job, row).volume() for row in job.joined_rows() if ok]
        made = [m for row in job.joined_rows() if ok for m in job.result(row.id, "deliver").figures.made]
    figures = d.worst(by_sitting, seconds)
    rows = d.verdicts(figures)
    if as_json:
        told = {"volume": volumes[0].text} if volumes else {}
        told["delivered"] = [f"{m.folder}/{f}" for m in made[-len(d.DELIVERED) :] for f, _, _ in m.files]
        print(
            json.dumps({"sittings": by_sitting, "all": figures, **told, "reached": all(r[4] for r in rows)}, indent=1)
        )
    else:
        table = Table(title="The demo against its truth (the worst of the sittings and the whole)")
        for column, side in (("figure", "left"), ("measured", "right"), ("to reach", "right"), ("", "left")):
            table.add_column(column, justify=side)
        for words, value, limit, more, reached in rows:
            table.add_row(
                words,
                "-" if value is None else f"{value:.3g}",
                f"{'≥' if more else '≤'} {limit:g}",
                "reached" if reached else Text("missed", style="bold red"),
            )
        out.print(table)
        for v in volumes:
            say(f"Volume of the whole, with its interval of 95 %: {v.text}" + (f"; {v.note}" if v.note else ""))
        if made:
            say(f"One delivery of each purpose is in {made[-1].folder}")
    if ok and window and has_display():
        open_window(folder)
    elif window and not as_json:
        say("There is no display here; on a desktop the window would open on the result now.")
    sys.exit(0 if ok and all(r[4] for r in rows) else 1)
