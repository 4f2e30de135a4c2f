"""Recipes from the terminal: kept, looked at, compared, applied."""

import dataclasses
import sys
from pathlib import Path

import click
from rich.table import Table

from ..core.errors import UmbrateError
from ..core.later import Later
from .changing import open_job
from .choices import ChoiceOf
from .console import out, say

applying = Later("umbrate.work.recipes.applying")
files = Later("umbrate.formats.files")
jobs_store = Later("umbrate.job.store")
shelf = Later("umbrate.work.recipes.shelf")
stages = Later("umbrate.stages")
taking = Later("umbrate.work.recipes.taking")
text = Later("umbrate.work.recipes.text")

stage_option = click.option(
    "--stage", "names", multiple=True, type=ChoiceOf(lambda: [s.name for s in stages.STAGES]),
    help="Only this stage (may be given several times).",
)  # fmt: skip


@click.group()
def recipe():
    """Keep the settings and steps of a job as a recipe, look at recipes, compare them, apply one to another job."""


@recipe.command("list")
def list_recipes():
    """List the recipes: those built in, and your own."""
    table = Table(title="Recipes")
    for column in ("name", "short name", "what it is for"):
        table.add_column(column)
    mine, bad = shelf.own()
    for k in (*mine, *shelf.built_in()):
        table.add_row(k.recipe.name, k.short or "your own", k.recipe.about)
    out.print(table)
    for file, sentence in bad:
        say(f"Not used: {file.name}. {sentence}")


@recipe.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.argument("name")
@click.option("--sitting", help="Whose settings are taken; the first one's where not said.")
@click.option("--about", default="", help="What it is for, in a sentence.")
@click.option("--replace", is_flag=True, help="Write over a recipe or file of that name.")
@stage_option
def save(job, name, sitting, about, replace, names):
    """Keep the settings and steps of JOB as the recipe NAME on your shelf, or in a file NAME.toml."""
    with open_job(job, writable=False) as j:
        as_file = name.endswith(shelf.SUFFIX)
        title = Path(name).stem if as_file else name
        made, left = taking.recipe_of_job(j, title, j.sitting(sitting) if sitting else None, names)
        made = dataclasses.replace(made, about=about)
    if as_file:
        text.write_recipe(name, made, files.Gate(replace))
        say(f"Wrote {name}")
    else:
        file = shelf.keep_recipe(made, replace)
        say(f"“{made.name}” is on your shelf: {file}")
    for sentence in left:
        say(f"  {sentence}")


@recipe.command()
@click.argument("name")
def show(name):
    """Print the recipe NAME (or a file) as TOML."""
    click.echo(text.text_of_recipe(shelf.find_recipe(name).recipe), nl=False)


@recipe.command()
@click.argument("name")
def remove(name):
    """Take your recipe NAME off the shelf."""
    say(f"“{shelf.remove_recipe(name)}” is off the shelf.")


def _of(name):
    """The recipe of a name or file, or what a job would make one of."""
    try:
        folder = Path(name)
        is_job = not name.endswith(shelf.SUFFIX) and (folder.is_dir() or folder.suffix == jobs_store.SUFFIX)
    except OSError:
        is_job = False
    if not is_job:
        return shelf.find_recipe(name).recipe
    with open_job(folder, writable=False) as j:
        return taking.recipe_of_job(j, j.name)[0]


def _table(title, rows, now, then):
    table = Table(title=title)
    for column in ("", "setting", now, then):
        table.add_column(column)
    for d in rows:
        table.add_row(" ".join(x for x in (d.part, f"({d.where})" if d.where else "") if x), d.title, d.now, d.then)
    return table


@recipe.command()
@click.argument("first")
@click.argument("second")
def diff(first, second):
    """Compare FIRST and SECOND: recipes, files or jobs. Exits with 1 where they differ."""
    a, b = _of(first), _of(second)
    rows = applying.between(a, b)
    if not rows:
        say("They are the same.")
        return
    out.print(_table(f"{a.name} and {b.name}", rows, a.name, b.name if b.name != a.name else "the other"))
    sys.exit(1)


@recipe.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.argument("name")
@click.option("--sitting", "sittings", multiple=True, help="Only this sitting (may be given several times).")
@click.option("--dry-run", is_flag=True, help="Only say what would change.")
@stage_option
def apply(job, name, sittings, dry_run, names):
    """Set JOB as the recipe NAME (or a file) says, and show what that changes. “umbrate undo” takes it back."""
    found = shelf.find_recipe(name).recipe
    found = found.only(names) if names else found
    with open_job(job, writable=not dry_run) as j:
        chosen = [j.sitting(n) for n in sittings] or None
        change = applying.Applying(j, found, chosen)
        if not change.sittings:
            raise UmbrateError(f"{j.name} has no sittings yet. Bring in photos first.")
        rows, later = change.differences(), change.later()
        if rows:
            out.print(_table(f"“{found.name}” on {j.name}", rows, "now", "then"))
            if not dry_run:
                change.apply()
        else:
            say(f"{j.name} is set as “{found.name}” says.")
        if later:
            say(f"Done by “umbrate run {j.folder.name} --recipe …”, when there are results:")
        for sentence in later:
            say(f"  {sentence}")
