"""The command line: everything the window does, for scripts and for machines without a display.

A command's module is imported when the command is called; what is listed of it without that stands in `COMMANDS`.
"""

import importlib
import logging
import sys

import click

from .. import __version__
from ..core.errors import UmbrateError, WouldReplace
from .console import complain

# fmt: off
#: in the order of work: module, name of the function there, and the first sentence of its help
COMMANDS = {
    "open": ("window", "window", "Open the window, on JOB where it is given."),
    "demo": ("demo", "demo", "Run the main job on the demo data, judge it against the truth, and show it."),
    "new": ("jobs", "new", "Make a new, empty job folder JOB."),
    "add": ("jobs", "add", "Bring PHOTOS (folders, photo files, videos) into a sitting of JOB."),
    "watch": ("watch", "watch",
        "Take photos into JOB as they come into FOLDER, say which are bad, and where to stand next, until Ctrl-C."),
    "split": ("jobs", "split", "Split a sitting of JOB where the photographer shot the bare backdrop, or paused."),
    "photos": ("sort", "list_photos",
        "List the photos of JOB: what their files say of them, how sharp they are, what became of them."),
    "aside": ("sort", "aside", "Set PHOTOS (names, or patterns like 'IMG_1*') of JOB aside: kept, not used."),
    "move": ("sort", "move", "Move PHOTOS of JOB to another sitting."),
    "turn": ("sort", "turn", "Turn how PHOTOS of JOB are shown; their files stay as they are."),
    "sitting": ("sort", "change_sitting", "Rename, merge, reorder or remove the sitting NAME of JOB."),
    "find": ("jobs", "find", "Point JOB to photos that were moved, found in FOLDER or below it by name and content."),
    "preview": ("sort", "preview",
        "Try masks on a few photos of JOB and write the pictures to FOLDER: what is left out is dark."),
    "targets": ("lens", "targets", "Write a SHEET of targets as PDF, in true millimeters."),
    "calibrate": ("lens", "calibrate",
        "Calibrate a lens from PHOTOS (files or folders) of calibration sheets or of a checkerboard."),
    "lenses": ("lens", "lenses", "Show all lenses of JOB, each with its standard deviations and how far it is from the "
               "others."),
    "cards": ("lens", "cards", "Show the shelf of lens cards, or put one on it, write one out, take one off."),
    "run": ("jobs", "run", "Run the stages of JOB that are missing or stale; each result is saved when it is done."),
    "recipe": ("recipes", "recipe",
        "Keep the settings and steps of a job as a recipe, look at recipes, compare them, apply one to another job."),
    "batch": ("batch", "batch",
        "Make each FOLDER of photos a job, run it by a recipe and deliver it; goes on where it was when called again."),
    "scheduler": ("cluster", "scheduler",
        "Start the scheduler of a cluster: it hands work to workers and keeps nothing itself."),
    "worker": ("cluster", "worker", "Compute for a cluster on this machine, until Ctrl-C."),
    "sift": ("points", "sift", "Remove doubtful tie points of a sitting of JOB."),
    "box": ("points", "keep_box", "Show or set the keep box of a sitting of JOB."),
    "points": ("measure", "points",
        "Mark points in photos of JOB, and list them with their residuals, the worst first."),
    "lengths": ("measure", "lengths", "State known lengths of JOB, and list them with their residuals."),
    "level": ("measure", "level", "Stand a sitting of JOB up, and say what its level is made from."),
    "pair": ("measure", "pair",
        "Say how two photos of JOB stand to each other: base, distance, their ratio, and the depth to expect."),
    "shape-masks": ("shapemasks", "shape_masks",
        "Draw a rough surface of the sittings of JOB into their photos, as masks."),
    "join": ("join", "join",
        "Join the sittings of JOB: find how they lie to each other, say how sure that is, and merge them."),
    "clouds": ("clouds", "clouds", "List the clouds of a sitting of JOB, side by side."),
    "surfaces": ("surfaces", "surfaces", "List the surfaces of a sitting of JOB, side by side."),
    "texture": ("texture", "texture",
        "Say what a texture of JOB is taken from: how much each photo gives, or which shows a place."),
    "mend": ("surfaces", "mend",
        "Mend a surface of JOB by one more step or by those of another surface or a file, or take one back."),
    "clean": ("clouds", "clean",
        "Clean a cloud of JOB by one more step or by those of another cloud or a file, or take one back."),
    "picture": ("clouds", "picture",
        "Draw a cloud, surface or texture of JOB into the picture OUT (PNG), as the window shows it."),
    "measure": ("measure", "measure",
        "Measure between targets and marked points of JOB, and list values with their 95 % intervals."),
    "gauge": ("gauge", "gauge",
        "Measure the surface of JOB: area, volume, sizes, thickness, a section, its distance to a model or a form."),
    "section": ("measure", "section",
        "Cut the cloud of JOB by a plane and write the outline to OUT (SVG, DXF or CSV); without OUT, list planes."),
    "report": ("measure", "report", "Write the accuracy report of a sitting of JOB as PDF."),
    "status": ("jobs", "status", "Show the state and key figure of every sitting and stage of JOB."),
    "ledger": ("ledger", "ledger", "List what ran in JOB, compare two runs, or go back to the result of one."),
    "deliver": ("deliver", "deliver", "Make files of JOB for a PURPOSE, checked, and list what was delivered."),
    "check": ("upkeep", "check",
        "Verify that JOB is whole, every row and data file, and mend it; or an archive that was delivered."),
    "tidy": ("upkeep", "tidy", "Remove from JOB what nobody needs any more, and say what that frees."),
    "undo": ("upkeep", "undo", "Take back what was done last in JOB, in the window or here."),
    "problem": ("upkeep", "problem",
        "Collect the log, versions and settings into a zip to read and send when something goes wrong; no photos."),
    "export": ("export", "export",
        "Write a cloud (.ply, .las, .laz, .e57, .xyz, .csv), a surface (.ply, .obj, .stl), a textured surface "
        "(.glb), the cameras (JSON) or the masks (a folder of PNG) to OUT."),
    "undistort": ("lens", "undistort_photos",
        "Write undistorted copies of photos and masks to FOLDER, with the ideal camera that goes with them."),
    "simulate": ("simulate", "simulate",
        "Make the photo set SCENE with exact truth in the folder OUT (simulated studio)."),
    "install": ("upkeep", "install",
        "Put Umbrate into the desktop's menu, and offer it for .umbrate folders in the file manager."),
    "warm": ("upkeep", "warm",
        "Compile all kernels once, so that no first click waits for it (the launcher does this)."),
    "test": ("upkeep", "test", "Run all tests (or those named: ./umbrate test tests.test_geometry)."),
}
# fmt: on


log = logging.getLogger(__name__)


class Group(click.Group):
    """Imports a command when it is called, and shows errors people can meet as one sentence."""

    def list_commands(self, ctx):
        return [n for n, (_, _, told) in COMMANDS.items() if told]

    def get_command(self, ctx, name):
        if name not in COMMANDS:
            return None
        module, function, _ = COMMANDS[name]
        return getattr(importlib.import_module(f"..{module}", __name__), function)

    def format_commands(self, ctx, formatter):
        with formatter.section("Commands"):
            formatter.write_dl([(name, told) for name, (_, _, told) in COMMANDS.items() if told])

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
                f"Please report it with the log, {_log_file()}",
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
    from ..formats.parts import remove_left_parts
    from ..work.logs import begin_log

    begin_log(logging.DEBUG if verbose else logging.CRITICAL)
    remove_left_parts()
    if ctx.invoked_subcommand is None:
        from .window import open_window

        sys.exit(open_window())


def _log_file():
    from ..work.logs import log_file

    return log_file()


def main():
    """Entry point."""
    cli(prog_name="umbrate")
