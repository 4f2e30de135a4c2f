"""The command line: everything the window does, for scripts and for machines without a display."""

import json
import logging
import os
import subprocess
import sys
from pathlib import Path

import click
from rich.table import Table
from rich.text import Text

from .. import __version__
from ..core.errors import UmbrateError
from ..formats.files import WouldReplace
from ..job.store import Job
from ..work.logs import begin_log, log_file
from . import clouds, join, lens, measure, points, shapemasks, sort
from .console import complain, out, replace_option, say

#: the order of work, in which commands are listed
ORDER = (
    "open", "demo", "new", "add", "split", "photos", "aside", "move", "turn", "sitting", "find", "preview",
    "targets", "calibrate", "cards", "run",
    "sift", "box", "points", "lengths", "level", "pair", "shape-masks", "join", "clouds", "clean", "picture", "measure",
    "section", "report", "status", "export", "undistort", "simulate",
)  # fmt: skip


log = logging.getLogger(__name__)


class Group(click.Group):
    """Shows errors people can meet as one sentence, and lists commands in the order of work."""

    def list_commands(self, ctx):
        return sorted(self.commands, key=lambda n: ORDER.index(n) if n in ORDER else len(ORDER))

    def invoke(self, ctx):
        try:
            return super().invoke(ctx)
        except WouldReplace as e:
            complain("Error", f"{e} Add --replace to write over {'it' if len(e.paths) == 1 else 'them'}.")
            sys.exit(1)
        except UmbrateError as e:
            complain("Error", e)
            sys.exit(1)
        except (click.exceptions.Exit, click.Abort, click.ClickException, SystemExit):
            raise
        except BrokenPipeError:
            sys.exit(1)
        except OSError as e:
            log.debug("", exc_info=True)
            what = f"{e.filename}: " if e.filename else ""
            complain("Error", f"{what}{e.strerror or e}. Check the name, the permissions and the space on the disk.")
            sys.exit(1)
        except Exception as e:
            log.error("%s", e, exc_info=True)
            complain(
                "Error",
                f"Something unexpected went wrong ({type(e).__name__}: {e}). Nothing that was finished before is lost. "
                f"Please report it with the log, {log_file()}",
            )
            sys.exit(1)
        except KeyboardInterrupt:
            sys.exit(130)


@click.group(cls=Group, invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="umbrate")
@click.option("--verbose", is_flag=True, help="Show the log on the terminal.")
@click.pass_context
def cli(ctx, verbose):
    """Umbrate reconstructs objects from masked photo sets. Without a command it opens the window."""
    begin_log(logging.DEBUG if verbose else logging.CRITICAL)
    if ctx.invoked_subcommand is None:
        ctx.invoke(window)


def has_display():
    """Whether a window can be shown."""
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM"))


def open_window(job=None):
    """Show the window in a process of its own, so that this module never imports the desk."""
    if not has_display():
        raise UmbrateError("There is no display to open a window on. Set DISPLAY, or use the commands: umbrate --help")
    return subprocess.call([sys.executable, "-m", "umbrate.desk", *([str(job)] if job else [])])


@cli.command("open")
@click.argument("job", required=False, type=click.Path(path_type=Path))
def window(job=None):
    """Open the window, on JOB where it is given."""
    sys.exit(open_window(job))


@cli.command()
@click.option("--job", "folder", type=click.Path(path_type=Path), help="Where the demo job goes.")
@click.option("--window/--no-window", default=True, help="Show the result in the window afterwards.")
@click.option("--json", "as_json", is_flag=True, help="Print the figures as JSON.")
def demo(folder, window, as_json):
    """Run the main job on the demo data, judge it against the truth, and show it."""
    from ..work import demo as d
    from .runs import run_cells

    folder = folder or d.demo_folder()
    watch = d.Stopwatch()
    if not as_json:
        say("A terracotta bird whistle, 92 mm, in two sittings of 24 photos (simulated), joined to the whole.")
    with d.make_demo_job(folder) as job:
        folder = job.folder
        if not as_json:
            say(f"The demo job is {folder}")
        ok = run_cells(job, job.sittings(), "cloud", redo_all=True, quiet=as_json)
        seconds = watch.seconds
        if not as_json:
            say("Judging the result against the truth ...")
        by_sitting = d.judge(job)
    figures = d.worst(by_sitting, seconds)
    rows = d.verdicts(figures)
    if as_json:
        print(json.dumps({"sittings": by_sitting, "all": figures, "reached": all(r[4] for r in rows)}, indent=1))
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
    if ok and window and has_display():
        open_window(folder)
    elif window and not as_json:
        say("There is no display here; on a desktop the window would open on the result now.")
    sys.exit(0 if ok and all(r[4] for r in rows) else 1)


@cli.command()
@click.argument("job", type=click.Path(path_type=Path))
def new(job):
    """Make a new, empty job folder JOB."""
    with Job.create(job) as j:
        say(f"Made {j.folder}. Bring in photos: umbrate add {j.folder} PHOTOS_DIR --sitting NAME")


@cli.command()
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
def add(job, photos, sitting, masks, pattern, every, every_frames):
    """Bring PHOTOS (folders, photo files, videos) into a sitting of JOB."""
    from .runs import bring_in

    with Job.open(job) as j:
        sys.exit(0 if bring_in(j, photos, sitting, masks, pattern, every, every_frames) else 1)


@cli.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.argument("folder", type=click.Path(path_type=Path))
def find(job, folder):
    """Point JOB to photos that were moved, found in FOLDER or below it by name and content."""
    with Job.open(job) as j:
        found, left = j.find_missing(folder), len(j.missing_photos())
        say(f"Found {found} photos; {left} are missing.")
        sys.exit(0 if not left else 1)


@cli.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.option("--sitting", required=True, help="The sitting to split.")
@click.option(
    "--at", "where", type=click.Choice(["bare", "gaps"]), default="bare", help="Frames of the bare backdrop, or pauses."
)
@click.option("--pause", type=click.FloatRange(1), default=None, help="Pauses from this many seconds separate.")
@click.option("--dry-run", is_flag=True, help="Only say what would be done.")
def split(job, sitting, where, pause, dry_run):
    """Split a sitting of JOB where the photographer shot the bare backdrop, or paused."""
    from .runs import split_sitting

    with Job.open(job) as j:
        sys.exit(0 if split_sitting(j, j.sitting(sitting), where, pause, dry_run) else 1)


@cli.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.option("--sitting", "sittings", multiple=True, help="Only this sitting (may be given several times).")
@click.option(
    "--to", "upto", default="cloud", help="Stop after this stage: photos, masks, lens, poses, scale, join or cloud."
)
@click.option("--set", "assignments", multiple=True, metavar="STAGE.SETTING=VALUE", help="Change a setting first.")
@click.option("--redo", is_flag=True, help="Run that stage again even when its result is current.")
@click.option(
    "--go-on", "mode", flag_value="go on", help="Poses: keep solved photos, add new ones, drop those set aside."
)
@click.option("--adjust", "mode", flag_value="adjust", help="Poses: only adjust what is solved once more.")
def run(job, sittings, upto, assignments, redo, mode):
    """Run the stages of JOB that are missing or stale; each result is saved when it is done."""
    from .runs import apply_assignments, run_cells

    with Job.open(job) as j:
        chosen = [j.sitting(n) for n in sittings] or j.sittings()
        if not chosen:
            raise UmbrateError(
                f"{j.name} has no sittings yet. Bring in photos first: umbrate add {j.folder} PHOTOS_DIR --sitting NAME"
            )
        apply_assignments(j, chosen, assignments)
        if mode:
            upto = "poses"
        sys.exit(0 if run_cells(j, chosen, upto, redo=redo or bool(mode), mode=mode or "") else 1)


@cli.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="Print as JSON.")
def status(job, as_json):
    """Show the state and key figure of every sitting and stage of JOB."""
    from ..job.figures import plain_figures
    from ..stages import STAGES
    from ..work.state import WORDS, board

    with Job.open(job, writable=False) as j:
        cells = board(j)
        if as_json:
            print(
                json.dumps(
                    {
                        "job": j.name,
                        "figures": {s.name: s.Figures.described() for s in STAGES},
                        "sittings": [
                            {
                                "name": s.name,
                                "photos": len(j.photos(s.id)),
                                "stages": {
                                    c.stage: {
                                        "state": c.state,
                                        "figures": plain_figures(r.figures) if (r := j.result(s.id, c.stage)) else None,
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
        for s in STAGES:
            table.add_column(s.title)
        for s, row in zip(j.sittings(), cells, strict=True):
            table.add_row(s.name, *(Text(c.first or WORDS[c.state]) + Text(f"\n{c.second}", style="dim") for c in row))
        out.print(table)
        for row in cells:
            for c in row:
                for text in c.problems:
                    say(f"  {c.stage}: {text}")


@cli.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.argument("what", type=click.Choice(["cloud", "cameras", "masks"]))
@click.argument("out", type=click.Path(path_type=Path))
@click.option("--sitting", help="Which sitting's cloud, cameras or masks.")
@click.option("--joined", is_flag=True, help="Those of the joined row: all photos in one frame.")
@click.option("--pattern", default="{name}.png", help="Mask file name, for example {name}_mask.png")
@click.option("--cloud", "cloud", multiple=True, help="Which cloud, or several for one file; else the chosen one.")
@click.option("--plain", is_flag=True, help="Of a cloud: places alone, without normals, colors and measures.")
@click.option("--text", is_flag=True, help="PLY as text.")
@click.option(
    "--offset",
    "shift",
    is_flag=True,
    help="PLY far from zero: with its offset in the header, in single precision.",
)
@replace_option
def export(job, what, out, sitting, joined, pattern, cloud, plain, text, shift, replace):
    """Write a cloud (.ply, .las, .laz, .e57, .xyz, .csv), the cameras (JSON) or the masks (a folder of PNG) to OUT."""
    from ..actions.delivering import export_cameras, export_cloud, export_masks, the_joined
    from ..formats.files import as_written
    from ..sitting.guarding import gate_of

    with Job.open(job, writable=False) as j:
        chosen = the_joined(j, sitting) if joined else j.sitting(sitting) if sitting else None
        gate = gate_of(j, replace)
        if what == "cloud":
            n = export_cloud(j, out, chosen, cloud, plain, text, shift, gate)
            say(f"Wrote {n:,} points to {out}")
        elif what == "masks":
            files = export_masks(j, out, chosen, pattern, gate)
            say(f"Wrote {len(files)} masks to {out}. {as_written(files)}".strip())
        else:
            n = export_cameras(j, out, chosen, gate)
            say(f"Wrote {n} solved photos to {out}")


@cli.command()
@click.argument("scene")
@click.argument("folder", metavar="OUT", type=click.Path(path_type=Path))
@click.option("--smaller", type=click.FloatRange(0.5, 20), default=1.0, help="Make pictures this many times smaller.")
@click.option("--photos", type=click.IntRange(1), default=None, help="At most this many photos a sitting.")
def simulate(scene, folder, smaller, photos):
    """Make the photo set SCENE with exact truth in the folder OUT (simulated studio).

    Scenes: whistle, whistle-on-green, pebble, and calibration: the calibration sheets, with the whistle's camera.
    """
    from rich.progress import Progress

    from ..studio.scene import SCENES, whistle
    from ..studio.scene import smaller as shrink
    from ..studio.shoot import shoot, shoot_calibration

    if scene not in SCENES and scene != "calibration":
        raise UmbrateError(f"There is no scene “{scene}”. There is: {', '.join(SCENES)}, calibration.")
    if folder.is_dir() and any(folder.iterdir()):
        raise UmbrateError(f"{folder} holds files already. Name a new folder, or an empty one.")
    sheets_only = scene == "calibration"
    made = whistle() if sheets_only else SCENES[scene]()
    if smaller != 1.0 or photos:
        made = shrink(made, smaller, photos)
    try:
        with Progress(console=out, disable=not out.is_terminal) as bar:
            task = bar.add_task("simulated photos", total=1.0)

            def tell(fraction, sentence):
                bar.update(task, completed=fraction, description=sentence)

            if sheets_only:
                shoot_calibration(made, folder, progress=tell)
            else:
                shoot(made, folder, tell, os.cpu_count() or 1)
    except OSError as e:
        raise UmbrateError(f"{folder} cannot be written to ({e.strerror}). Choose another place.") from e
    more = "truth.json" if sheets_only else "true masks, truth.json and truth.ply"
    say(f"Made {folder}: simulated photos, {more}")


@cli.command()
def warm():
    """Compile all kernels once, so that no first click waits for it (the launcher does this)."""
    from .warm import warm_up

    warm_up(say)


@cli.command(context_settings={"ignore_unknown_options": True})
@click.argument("arguments", nargs=-1)
def test(arguments):
    """Run all tests (or those named: ./umbrate test tests.test_geometry)."""
    root = Path(__file__).resolve().parents[3]
    if not (root / "tests" / "run.py").is_file():
        raise UmbrateError("The tests are not there: they belong in tests/ beside src/ in the checkout.")
    sys.exit(subprocess.call([sys.executable, str(root / "tests" / "run.py"), *arguments], cwd=root))


for part in (sort, lens, points, measure, clouds, join, shapemasks):
    for command in part.COMMANDS:
        cli.add_command(command)


def main():
    """Entry point."""
    cli()
