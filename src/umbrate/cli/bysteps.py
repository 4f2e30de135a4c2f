"""What commands that change something step by step have in common: cleaning clouds, mending surfaces."""

from dataclasses import dataclass
from pathlib import Path

import click

from ..core.errors import UmbrateError
from ..core.later import Later
from .changing import changing
from .console import say
from .measure import the_sitting

guarding = Later("umbrate.sitting.guarding")


@dataclass(frozen=True)
class Way:
    """How one kind of thing is changed.

    Attributes
    ----------
    command, kind, unit : what the command, the thing and what it is made of are called
    done : str
        What it is called when that happened, as in "was cleaned by".
    steps : callable() -> Stepwise
    one : callable(job, sitting, name) -> Kept
    foretell : callable(job, sitting, kept, step) -> str
        What a step would do.
    told : callable(job, sitting, step) -> str
        What a step that was done did, besides what it took away.
    """

    command: str
    kind: str
    unit: str
    done: str
    steps: object
    one: object
    foretell: object
    told: object = lambda job, sitting, step: ""


def step_options(way):
    """Options of a command that changes something step by step; they come as one dictionary, `asked`."""
    options = (
        click.option("--by", help="What is done, one of those below."),
        click.option("--set", "assignments", multiple=True, metavar="NAME=VALUE", help="A value of it."),
        click.option("--keep", is_flag=True, help="Keep what it chooses, and remove the rest."),
        click.option("--dry-run", is_flag=True, help="Only say what it would do."),
        click.option(
            "--back", type=click.IntRange(1), help="Take the step of this number back; those after it are done again."
        ),
        click.option("--like", metavar="NAME", help=f"By the steps that this other {way.kind} {way.done} by."),
        click.option("--steps", "file", type=click.Path(path_type=Path), help="By the steps of a file."),
        click.option(
            "--save-steps", type=click.Path(path_type=Path), help=f"Write the steps of the {way.kind} into a file."
        ),
    )

    def put(function):
        for option in reversed(options):
            function = option(function)
        return function

    return put


def explained(book, title):
    """The steps of a StepBook that can be said in numbers, with their values."""
    return f"{title}: " + "; ".join(
        f"{f.name} ({', '.join(f'{v.name} {v.default}' for v in f.values) or 'no values'})"
        for f in book.filters
        if not f.hidden
    ) + "."  # fmt: skip


def values_of(assignments):
    """Values by name of NAME=VALUE texts."""
    values = {}
    for text in assignments:
        name, equals, value = text.partition("=")
        if not equals:
            raise UmbrateError(f"“{text}” is not understood. Write NAME=VALUE.")
        values[name.strip()] = value.strip()
    return values


def _gone(count, unit):
    return f"Took {count:,} {unit} away" if count >= 0 else f"Added {-count:,} {unit}"


def change_by_steps(way, folder, sitting, name, replace, by, assignments, keep, dry_run, back, like, file, save_steps):
    """What the command does; the rest of its arguments are those of `step_options`."""
    if sum(x is not None for x in (by, back, like, file, save_steps)) > 1:
        raise UmbrateError("Only one of --by, --back, --like, --steps and --save-steps at a time.")
    with changing(folder, not (dry_run or save_steps), f"{way.command} a {way.kind}") as j:
        s = the_sitting(j, sitting)
        kept, steps = way.one(j, s, name), way.steps()
        if back:
            if back > len(kept.steps):
                n = len(kept.steps)
                have = f"{way.done} by {n} step{'' if n == 1 else 's'}" if n else "has no step yet"
                raise UmbrateError(f"“{kept.name}” {have}; there is no step {back}.")
            steps.take_back(j, s, kept, back - 1)
        elif by:
            step = {"filter": by, "keep": keep, **values_of(assignments)}
            if dry_run:
                say(way.foretell(j, s, kept, step))
                return
            gone = steps.apply_step(j, s, kept, step)
            say(_gone(gone, way.unit))
        elif save_steps:
            steps.book.write(save_steps, [x.step for x in kept.steps], guarding.gate_of(j, replace))
            say(f"Wrote {len(kept.steps)} steps to {save_steps}")
            return
        elif like or file:
            some = steps.book.read(file) if file else [x.step for x in way.one(j, s, like).steps]
            if dry_run:
                raise UmbrateError("--dry-run tries one step: say it with --by.")
            say(f"{_gone(steps.apply_steps(j, s, kept, some), way.unit)} in {len(some)} steps")
        else:
            raise UmbrateError(f"Say by what: --by NAME. umbrate {way.command} --help lists them.")
        kept = way.one(j, s, kept.name)
        told = way.told(j, s, kept.steps[-1].step) if kept.steps and not back else ""
        if told:
            say(told)
        say(f"“{kept.name}” has {kept.left:,} {way.unit} left. Undo is in the window; --back takes a step back here.")
