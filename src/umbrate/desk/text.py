"""Numbers, durations and places in words."""

from pathlib import Path


def short_time(seconds):
    """A duration for people: 45 s, 3:20."""
    return f"{seconds:.0f} s" if seconds < 60 else f"{int(seconds) // 60}:{int(seconds) % 60:02d}"


def counted(number, noun):
    """A number with its noun: 1 photo, 24 photos."""
    return f"{number:,} {noun}{'' if number == 1 else 's'}"


def short_path(path):
    """A path with the home folder as ~."""
    try:
        return f"~/{Path(path).resolve().relative_to(Path.home())}"
    except ValueError:
        return str(path)
