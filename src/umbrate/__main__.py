"""Start the program: ``python -m umbrate``.

The window is started here in this very process where that is all that is asked for: the command line would have to
start another one.
"""

import os
import sys


def has_display():
    """Whether a window can be shown."""
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM"))


def wants_window(arguments):
    """What the window is to open, a list of at most one job, or None where the command line is meant."""
    if arguments[:1] == ["open"]:
        arguments = arguments[1:]
    elif arguments:
        return None
    plain = len(arguments) <= 1 and not any(a.startswith("-") for a in arguments)
    return arguments if plain and has_display() else None


def main():
    """Start the window or the command line, as the arguments say."""
    job = wants_window(sys.argv[1:])
    if job is None:
        from umbrate.cli.main import main as command_line

        command_line()
    else:
        from umbrate.desk.__main__ import main as window

        sys.exit(window(job))


if __name__ == "__main__":
    main()
