"""Watching a folder while somebody shoots."""

import time
from pathlib import Path

import click

from ..core.later import Later
from .changing import open_job
from .console import complain, say

jobs = Later("umbrate.cli.jobs")
queue_module = Later("umbrate.work.queue")
shooting = Later("umbrate.work.watching.shooting")
store = Later("umbrate.job.store")
tasks_module = Later("umbrate.work.tasks")

LOOK_S = 0.3


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.argument("folder", type=click.Path(path_type=Path))
@click.option(
    "--sitting", default="Sitting", show_default=True, help="The sitting they come into; made where it is new."
)
@click.option("--until", type=click.IntRange(1), help="Stop when so many photos are in and placed.")
@click.option("--quiet", is_flag=True, help="No sound.")
def watch(job, folder, sitting, until, quiet):
    """Take photos into JOB as they come into FOLDER, say which are bad, and where to stand next, until Ctrl-C."""
    if not store.job_folder(job).exists() and not job.exists():
        store.Job.create(job).close()
    with jobs.started() as worker, open_job(job) as j:
        queue = queue_module.Queue(j, worker)
        tasks = tasks_module.Tasks()

        def tell(kind, text):
            if kind in ("bad", "trouble"):
                complain("Look", text)
                if kind == "bad" and not quiet:
                    click.echo("\a", nl=False)
            else:
                say(text)

        work = shooting.Shooting(j, sitting, folder, queue, tasks, tell)
        say(f"Watching {folder}. Ctrl-C ends it; what is in stays.")
        looked = 0.0
        try:
            while True:
                if time.monotonic() - looked >= LOOK_S:
                    work.take(work.look())
                    looked = time.monotonic()
                for e in queue.poll(0.05):
                    if e.kind in ("failed", "crashed") and e.data["stage"] != "poses":
                        complain("Look", e.data["message"])
                tasks.poll(0.05)
                began = work.step()
                here = work.sitting
                count = len(j.photos(here.id)) if here else 0
                if until and count >= until and queue.idle and tasks.idle and not began:
                    return
        except KeyboardInterrupt:
            queue.cancel()
            tasks.cancel()
            say("Stopped watching.")
        finally:
            tasks.close()
