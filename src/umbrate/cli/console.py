"""The terminal: what is printed, and where. Texts are printed as they are: a bracket in a file's name is no markup."""

import click
from rich.console import Console
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
