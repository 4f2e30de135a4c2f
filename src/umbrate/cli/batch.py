"""Many folders of photos made into jobs, run and delivered without anybody there."""

import signal
import sys
import threading
from pathlib import Path

import click

from ..core.later import Later
from .console import complain, out, say

ending = Later("umbrate.work.ending")
jobs = Later("umbrate.cli.jobs")
running = Later("umbrate.work.batch.running")
shelf = Later("umbrate.work.recipes.shelf")
state = Later("umbrate.work.batch.state")
summary = Later("umbrate.work.batch.summary")


@click.command()
@click.argument("folders", nargs=-1, metavar="FOLDER...", type=click.Path(path_type=Path))
@click.option("--recipe", help="The recipe, by its name or as a file; may be left out to go on with a batch.")
@click.option(
    "--out",
    "place",
    required=True,
    type=click.Path(path_type=Path),
    help="Folder for the jobs, the files, the summary.",
)
@click.option("--then", "command", default="", metavar="COMMAND", help="Run this by sh at the end.")
@click.option("--mail", default="", metavar="ADDRESS", help="Send a mail at the end, by the local sendmail.")
@click.option("--quiet-end", is_flag=True, help="No notification of the desktop at the end.")
@click.option("--cluster", envvar="UMBRATE_CLUSTER", help="Scheduler whose workers help: tcp://HOST:PORT.")
@click.option("--list", "only_list", is_flag=True, help="Only say what the batch in that folder has done so far.")
def batch(folders, recipe, place, command, mail, quiet_end, cluster, only_list):
    """Make each FOLDER of photos a job, run it by a recipe and deliver it; goes on where it was when called again."""
    if only_list:
        _list(state.Batch.read(place))
        return
    chosen = shelf.find_recipe(recipe).recipe if recipe else None
    end = ending.Ending(not quiet_end, command, mail)
    end.check()
    stop = threading.Event()

    def stopped(*_):
        if stop.is_set():
            raise KeyboardInterrupt
        stop.set()
        complain("Stopping", "what is finished is kept; the same command goes on.")

    before = {s: signal.signal(s, stopped) for s in (signal.SIGINT, signal.SIGTERM)}
    try:
        with jobs.started() as worker:
            made = state.Batch.begin(place, chosen, folders)
            good = running.run_batch(made, _tell, worker, stop.is_set, cluster or "")
    finally:
        for s, handler in before.items():
            signal.signal(s, handler)
    _list(made)
    say(f"Summary: {made.out / summary.PAGE}")
    if not stop.is_set():
        title, text = summary.told(made)
        for sentence in ending.tell(end, title, text):
            complain("At the end", sentence)
    sys.exit(0 if good else 1)


def _tell(kind, item, text):
    if kind in ("failed", "look"):
        complain(item.name if item else "Summary", text)
    elif kind == "begin":
        say(text)
    else:
        say(f"  {text}" if kind != "done" else f"  done in {text}")


def _list(made):
    from rich.table import Table

    table = Table(title=f"{made.out.name}, by “{made.recipe.name}”")
    for column in ("name", "state", "time", ""):
        table.add_column(column)
    for i in made.items:
        told = i.why or "; ".join(i.notes)
        table.add_row(i.name, summary.WORDS[i.state], f"{i.seconds:.0f} s" if i.seconds else "", told)
    out.print(table)
