"""The terminal: what is printed, and where. Texts are printed as they are: a bracket in a file's name is no markup."""

from contextlib import contextmanager

import click
from rich.console import Console
from rich.progress import BarColumn, Progress, TaskProgressColumn, TextColumn
from rich.text import Text

from ..core.names import printable

out = Console(highlight=False, markup=False, emoji=False)
err = Console(stderr=True, highlight=False, markup=False, emoji=False)


#: for commands that write files outside of a job
replace_option = click.option("--replace", is_flag=True, help="Write over files that are there; never over photos.")


def say(text, quiet_end=""):
    """Print a sentence, whole lines unbroken, with an unobtrusive end."""
    out.print(Text(printable(text)) + Text(quiet_end, style="dim"), soft_wrap=True)


def complain(title, text):
    """Print what went wrong to the error stream."""
    err.print(Text(f"{title}: ", style="bold red") + Text(printable(text)), soft_wrap=True)


@contextmanager
def progress_line():
    """A callable(share, sentence) that shows how far something is; no line where nobody looks at a terminal."""
    bar = Progress(
        TextColumn("{task.description}", markup=False), BarColumn(), TaskProgressColumn(), console=err, transient=True,
        disable=not err.is_terminal,
    )  # fmt: skip
    with bar:
        task = bar.add_task("", total=1.0)
        yield lambda share, sentence: bar.update(task, completed=share, description=printable(sentence))
