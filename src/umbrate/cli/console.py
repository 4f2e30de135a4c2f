"""The terminal: what is said, and where. Texts are printed as they are: a bracket in a file's name is no markup."""

from rich.console import Console
from rich.text import Text

out = Console(highlight=False, markup=False, emoji=False)
err = Console(stderr=True, highlight=False, markup=False, emoji=False)


def say(text, quiet_end=""):
    """Print a sentence, whole lines unbroken, with an unobtrusive end."""
    out.print(Text(text) + Text(quiet_end, style="dim"), soft_wrap=True)


def complain(title, text):
    """Print what went wrong to the error stream."""
    err.print(Text(f"{title}: ", style="bold red") + Text(str(text)), soft_wrap=True)
