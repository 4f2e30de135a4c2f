"""Upkeep: the desktop's menu, compiling the kernels, running the tests."""

import subprocess
import sys
from pathlib import Path

import click

from ..core.errors import UmbrateError
from .console import say


@click.command()
@click.option("--remove", is_flag=True, help="Take it out of the menu again.")
def install(remove):
    """Put Umbrate into the desktop's menu, and offer it for .umbrate folders in the file manager."""
    from ..work import menuentry

    if remove:
        gone = menuentry.remove()
        for f in gone:
            say(f"Removed {f}")
        if not gone:
            say("Umbrate is not in the menu of this user; there was nothing to remove.")
        return
    for f in menuentry.install().values():
        say(f"Wrote {f}")
    say(
        "Umbrate is in the menu. In the file manager, open a folder whose name ends in .umbrate with Open With; "
        "the file job.sqlite in it opens with a double-click."
    )


@click.command()
def warm():
    """Compile all kernels once, so that no first click waits for it (the launcher does this)."""
    from ..work.warming import warm_up

    warm_up(say)


@click.command(context_settings={"ignore_unknown_options": True})
@click.argument("arguments", nargs=-1)
def test(arguments):
    """Run all tests (or those named: ./umbrate test tests.test_geometry)."""
    root = Path(__file__).resolve().parents[3]
    if not (root / "tests" / "run.py").is_file():
        raise UmbrateError("The tests are not there: they belong in tests/ beside src/ in the checkout.")
    sys.exit(subprocess.call([sys.executable, str(root / "tests" / "run.py"), *arguments], cwd=root))
