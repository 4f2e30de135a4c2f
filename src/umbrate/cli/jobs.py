"""Jobs and their stages: making one, bringing photos in, running, and what state it is in."""

import json
import sys
from contextlib import contextmanager
from pathlib import Path

import click
from rich.table import Table
from rich.text import Text

from ..core.errors import UmbrateError
from ..core.later import Later
from ..work.worker import Worker
from .changing import open_job
from .cluster import tls_options, use_tls
from .console import out, say

figures = Later("umbrate.job.figures")
store = Later("umbrate.job.store")
stages = Later("umbrate.stages")
state = Later("umbrate.work.state")
runs = Later("umbrate.cli.runs")
shelf = Later("umbrate.work.recipes.shelf")


@contextmanager
def started():
    """A Worker whose process makes itself ready while this one reads what it needs itself; it ends with this."""
    worker = Worker()
    worker.start()
    try:
        yield worker
    finally:
        worker.close()


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
def new(job):
    """Make a new, empty job folder JOB."""
    with store.Job.create(job) as j:
        say(f"Made {j.folder}. Bring in photos: umbrate add {j.folder} PHOTOS_DIR --sitting NAME")


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.argument("photos", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--sitting", required=True, help="The sitting they belong to; made where it is new.")
@click.option(
    "--masks",
    type=click.Path(path_type=Path),
    help="Folder with a mask for each photo (NAME.png, white is the object).",
)
@click.option("--pattern", default=None, help="Mask file name, for example {name}_mask.png")
@click.option(
    "--every", type=click.FloatRange(0.02, 60), default=0.5, help="Of a video: one frame every so many seconds."
)
@click.option("--every-frames", type=click.IntRange(1), help="Of a video: one frame of every so many instead.")
@click.option(
    "--least-change", type=click.FloatRange(0, 255), default=2.0, show_default=True,
    help="Of a video: frames that differ less from the one before, in gray levels, are left out.",
)  # fmt: skip
def add(job, photos, sitting, masks, pattern, every, every_frames, least_change):
    """Bring PHOTOS (folders, photo files, videos) into a sitting of JOB."""
    with started() as worker, open_job(job) as j:
        video = every, every_frames, least_change
        sys.exit(0 if runs.bring_in(j, photos, sitting, masks, pattern, video, worker=worker) else 1)


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.argument("folder", type=click.Path(path_type=Path))
def find(job, folder):
    """Point JOB to photos that were moved, found in FOLDER or below it by name and content."""
    with open_job(job) as j:
        found, left = j.find_missing(folder), len(j.missing_photos())
        say(f"Found {found} photos; {left} are missing.")
        sys.exit(0 if not left else 1)


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.option("--sitting", required=True, help="The sitting to split.")
@click.option(
    "--at", "where", type=click.Choice(["bare", "gaps"]), default="bare", help="Frames of the bare backdrop, or pauses."
)
@click.option("--pause", type=click.FloatRange(1), default=None, help="Pauses from this many seconds separate.")
@click.option("--dry-run", is_flag=True, help="Only say what would be done.")
def split(job, sitting, where, pause, dry_run):
    """Split a sitting of JOB where the photographer shot the bare backdrop, or paused."""
    with open_job(job) as j:
        sys.exit(0 if runs.split_sitting(j, j.sitting(sitting), where, pause, dry_run) else 1)


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.option("--sitting", "sittings", multiple=True, help="Only this sitting (may be given several times).")
@click.option(
    "--to",
    "upto",
    default=None,
    help="Stop after this stage, named as on the Board in small letters; without it, all run.",
)
@click.option("--set", "assignments", multiple=True, metavar="STAGE.SETTING=VALUE", help="Change a setting first.")
@click.option("--redo", is_flag=True, help="Run that stage again even when its result is current.")
@click.option("--recipe", help="Run by this recipe (a name, or a file): its settings, its steps, its deliveries.")
@click.option(
    "--go-on", "mode", flag_value="go on", help="Poses: keep solved photos, add new ones, drop those set aside."
)
@click.option("--adjust", "mode", flag_value="adjust", help="Poses: only adjust what is solved once more.")
@click.option("--cluster", envvar="UMBRATE_CLUSTER", help="Scheduler whose workers help: tcp://HOST:PORT.")
@tls_options
def run(job, sittings, upto, assignments, redo, recipe, mode, cluster, tls_ca, tls_cert, tls_key):
    """Run the stages of JOB that are missing or stale; each result is saved when it is done."""
    if recipe and (upto or assignments or redo or mode):
        raise UmbrateError("A recipe says itself what is set and run: leave --to, --set, --redo and the like out.")
    by = shelf.find_recipe(recipe).recipe if recipe else None
    if cluster:
        use_tls(tls_ca, tls_cert, tls_key)  # the process that runs them is started with that
    with started() as worker, open_job(job) as j:
        chosen = [j.sitting(n) for n in sittings] or j.sittings()
        if not chosen:
            raise UmbrateError(
                f"{j.name} has no sittings yet. Bring in photos first: umbrate add {j.folder} PHOTOS_DIR --sitting NAME"
            )
        if by:
            sys.exit(0 if runs.follow_recipe(j, by, chosen if sittings else None, worker, cluster or "") else 1)
        runs.apply_assignments(j, chosen, assignments)
        upto = "poses" if mode else upto or stages.LAST
        redo = redo or bool(mode)
        good = runs.run_cells(j, chosen, upto, redo=redo, mode=mode or "", worker=worker, cluster=cluster or "")
        sys.exit(0 if good else 1)


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="Print as JSON.")
def status(job, as_json):
    """Show the state and key figure of every sitting and stage of JOB."""
    with open_job(job, writable=False) as j:
        cells = state.board(j)
        if as_json:
            print(
                json.dumps(
                    {
                        "job": j.name,
                        "figures": {s.name: s.Figures.described() for s in stages.STAGES},
                        "sittings": [
                            {
                                "name": s.name,
                                "photos": len(j.photos(s.id)),
                                "stages": {
                                    c.stage: {
                                        "state": c.state,
                                        "figures": figures.plain_figures(r.figures)
                                        if (r := j.result(s.id, c.stage))
                                        else None,
                                        "problems": list(c.problems),
                                    }
                                    for c in row
                                },
                            }
                            for s, row in zip(j.sittings(), cells, strict=True)
                        ],
                    },
                    indent=1,
                    ensure_ascii=False,
                )
            )
            return
        if not cells:
            say(f"{j.name} has no sittings yet. Bring in photos: umbrate add {j.folder} PHOTOS_DIR --sitting NAME")
            return
        table = Table(title=j.name)
        table.add_column("sitting")
        for s in stages.STAGES:
            table.add_column(s.title)
        for s, row in zip(j.sittings(), cells, strict=True):
            table.add_row(
                s.name, *(Text(c.first or state.WORDS[c.state]) + Text(f"\n{c.second}", style="dim") for c in row)
            )
        out.print(table)
        for row in cells:
            for c in row:
                for text in c.problems:
                    say(f"  {c.stage}: {text}")
